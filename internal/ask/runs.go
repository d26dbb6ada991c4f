package ask

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/agent"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// agentOf tells what an agent can do.
func agentOf(one *store.Agent, offer connections.Offer) present.RunAgent {
	out := present.RunAgent{Agent: one.Name, Host: one.Host, Sends: []string{}, Looks: []string{}, Works: []string{},
		Problem: one.Problem}
	for _, w := range offer.Send {
		out.Sends, out.SendsAs = append(out.Sends, w.Name), append(out.SendsAs, w.Name+" as "+strings.Join(w.From, ", "))
	}
	for _, m := range offer.Look {
		out.Looks, out.LooksInto = append(out.Looks, m.Name), append(out.LooksInto, m.Name+" for "+strings.Join(m.For, ", "))
	}
	return out
}

// UnderWay reports what the agents at work do, and how far the open runs are
// and what nobody does.
func UnderWay(ctx context.Context, st *store.Store, list []store.Run, a *present.Runs) error {
	agents, err := st.Agents(ctx)
	if err != nil {
		return err
	}
	shares, err := st.Shares(ctx)
	if err != nil {
		return err
	}
	offered := map[string]bool{}
	for i := range agents {
		var offer connections.Offer
		_ = json.Unmarshal(agents[i].Offers, &offer) // what cannot be read is nothing
		one := agentOf(&agents[i], offer)
		for _, connection := range slices.Concat(one.Sends, one.Looks) {
			offered[connection] = true
		}
		for _, share := range shares {
			if slices.Contains(share.Holders, one.Agent) && !slices.Contains(one.Works, share.Run) {
				one.Works = append(one.Works, share.Run)
			}
		}
		a.Agents = append(a.Agents, one)
	}
	for i, r := range list {
		if r.State != store.StateOpen && r.State != store.StateClosing {
			continue
		}
		t, err := st.Of(r.Owner).Progress(ctx, r.ID)
		if err != nil {
			return err
		}
		a.Runs[i].Progress = agent.ProgressLine(t, st.Now())
		for _, share := range shares {
			if share.Run == r.Name && share.Left > 0 && !offered[share.Connection] {
				a.Runs[i].Missing = append(a.Runs[i].Missing, missing(share))
			}
		}
	}
	return nil
}

// KeptRuns reports the runs of a store, the newest first.
func KeptRuns(list []store.Run, where string) *present.Runs {
	a := &present.Runs{Store: where, All: len(list), Runs: []present.KeptRun{}, Agents: []present.RunAgent{}}
	for _, r := range list {
		one := present.KeptRun{Run: r.Name, Kind: r.Kind, State: r.State, Began: r.Began.UTC().Format(time.RFC3339),
			Estate: r.Path, AsPredicted: r.Good, NotAsPredicted: r.Bad, NotLookedAt: r.Unlooked}
		if !r.Ended.IsZero() {
			one.Ended = r.Ended.UTC().Format(time.RFC3339)
		}
		a.Runs = append(a.Runs, one)
	}
	return a
}

// runUnderWay tells how far a run is, who is at it, and what of it nobody does.
func runUnderWay(ctx context.Context, st *store.Store, name string) (*present.Runs, error) {
	run, err := st.RunNamed(ctx, name)
	if err != nil {
		return nil, err
	}
	a := KeptRuns([]store.Run{run}, st.Where())
	return a, UnderWay(ctx, st, []store.Run{run}, a)
}

// missing says what nobody does who is alive.
func missing(share store.Share) string {
	if share.Sends {
		return "nobody alive sends by " + share.Connection + ": " + present.Count(share.Left, "message waits", "messages wait")
	}
	return "nobody alive looks into " + share.Connection + ": " + present.Count(share.Left, "mailbox waits", "mailboxes wait")
}
