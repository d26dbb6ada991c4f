package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/report"
	"yorvet.example/yorvet/internal/store"
)

func newReport(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "report",
		Usage:     "write a page for people who do not type",
		ArgsUsage: " ",
		Description: "One HTML file with everything in it: the groups at a glance, who may write and who gets it and why,\n" +
			"a map of nested groups, people, hazards with what to do, and the last probe. --for makes it for one\n" +
			"group, or for one person and the groups that they own. --mail sends each owner theirs; without\n" +
			"--send it is a plan.\n\n" +
			"Example: yorvet report --expect kelpmere.expect\n" +
			"         yorvet report --for ines.maro -o ines.html",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write to a `FILE`; - is standard output",
				Value: "report.html"},
			&cli.BoolFlag{Name: "force", Usage: "overwrite a file that is there"},
			&cli.StringFlag{Name: "for", Usage: "only a group, or the groups of an owner: an `ADDRESS`"},
			&cli.StringSliceFlag{Name: "expect", Usage: "with the expectations of a `FILE`"},
			&cli.StringFlag{Name: "run", Usage: "with a `RUN` of probes; otherwise the last one of this estate"},
			storeFlag(),
			&cli.BoolFlag{Name: "mail", Usage: "for each owner: what they would be sent; with --send, send it"},
			&cli.BoolFlag{Name: "send", Usage: "send what --mail plans"},
			&cli.StringFlag{Name: "as", Usage: "who sends it: your own `ADDRESS`"},
			&cli.StringFlag{Name: "connections", Usage: "the connections `FILE`", Value: "connections.yaml"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 0 {
				return usageError("report takes flags only, not %q; a group or owner is named by --for", cmd.Args().First())
			}
			// The page is made once and done with: memory is cheaper than looking through it.
			defer debug.SetGCPercent(debug.SetGCPercent(400))
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			if cmd.Bool("mail") {
				return s.mailReports()
			}
			if cmd.Bool("send") {
				return usageError("--send goes with --mail")
			}
			return s.writeReport()
		},
	}
}

// writeReport writes a page to a file.
func (s *session) writeReport() error {
	path := s.cmd.String("output")
	if _, err := os.Lstat(path); path != "-" && err == nil && !s.cmd.Bool("force") {
		return usageError("%s exists; use --force", path)
	}
	choice, err := s.reportChoice()
	if err != nil {
		return err
	}
	if text := s.cmd.String("for"); text != "" {
		if err := s.reportFor(&choice, text); err != nil {
			return err
		}
	}
	var page bytes.Buffer
	d := report.NewMaker(s.r).Collect(choice)
	if err := d.Write(&page); err != nil {
		return err
	}
	if err := s.ctx.Err(); err != nil {
		return err
	}
	if path == "-" {
		_, err := s.streams.Out.Write(page.Bytes())
		return err
	}
	if err := localfile.Write(path, page.Bytes(), 0o600); err != nil {
		return usageError("%w", err)
	}
	fmt.Fprintf(s.streams.Out, "Wrote %s: %s, %s, %s. Open it in a browser.\n", present.Clean(path),
		present.Count(len(d.Groups), "group", "groups"), present.Count(len(d.People), "person",
			"people"), present.Count((page.Len()+999)/1000, "kB", "kB"))
	return nil
}

// reportFor has a page be about one group, or one person.
func (s *session) reportFor(c *report.Choice, text string) error {
	a, err := s.address("for", text)
	if err != nil {
		return err
	}
	id, ok := s.e.Find(a)
	if !ok {
		return usageError("--for: %s is neither a group nor a person of the estate", a)
	}
	s.aboutOne(c, id)
	return nil
}

// aboutOne has a page be about a group and what is nested in it, or about a person and the
// groups that they own or approve for.
func (s *session) aboutOne(c *report.Choice, id estate.ID) {
	c.Places, c.Of = false, s.e.Address(id).String()
	c.Groups = []estate.ID{}
	if s.e.IsGroup(id) {
		c.Groups = append(c.Groups, id)
		return
	}
	c.Person = id
	if name := s.e.Person(id).Name; name != "" {
		c.Of = name
	}
	for group := range estate.ID(s.e.Groups()) {
		approvers, _ := s.r.Approvers(group)
		if slices.Contains(s.r.Owners(group), id) || slices.Contains(approvers, id) {
			c.Groups = append(c.Groups, group)
		}
	}
}

// reportChoice gathers what a page shows besides the estate.
func (s *session) reportChoice() (report.Choice, error) {
	c := report.Choice{Person: estate.None, Places: true, Day: s.r.Today().String(),
		Made: clock.Now().UTC().Format(time.RFC3339)}
	if names := s.cmd.StringSlice("expect"); len(names) > 0 {
		lists, err := s.expectations(names)
		if err != nil {
			return c, err
		}
		c.Expectations = &present.Expectations{}
		for i, name := range names {
			c.Expectations.Add(s.r, name, lists[i])
		}
	}
	return c, s.reportRuns(&c)
}

// mostRuns is how many earlier runs a page shows the arrivals of.
const mostRuns = 10

// reportRuns adds the run that is named, or the last one of this estate, and when messages
// of the runs before it arrived. Where there is no store, nothing is added.
func (s *session) reportRuns(c *report.Choice) error {
	named := s.cmd.String("run")
	st, err := openStore(s.ctx, s.cmd, s.streams, estatePath(s.cmd), true)
	if missing := (*noRunsError)(nil); errors.As(err, &missing) && named == "" {
		return nil
	}
	if err != nil {
		return err
	}
	defer st.Close()
	runs, err := st.Runs(s.ctx)
	if err != nil {
		return networkError(err)
	}
	digest := ""
	if _, taken, err := estatefile.Take(s.ctx, estatePath(s.cmd)); err == nil {
		digest = taken.Digest
	}
	runs = slices.DeleteFunc(runs, func(r store.Run) bool {
		return r.Kind != "probe" || r.Ended.IsZero() || named == "" && r.Estate != digest
	})
	at := slices.IndexFunc(runs, func(r store.Run) bool { return named == "" || r.Name == named })
	if at < 0 {
		if named != "" {
			return usageError("there is no run %s of probes that has ended; yorvet runs list shows those that are kept", named)
		}
		return nil
	}
	chosen := runs[at]
	run, resolver, err := s.judged(st, chosen.Name)
	if err != nil {
		return err
	}
	c.Probe, c.ProbeBegan = present.NewProbe(resolver, run), chosen.Began.UTC().Format(time.RFC3339)
	for _, other := range runs[at+1 : min(len(runs), at+1+mostRuns)] {
		if other.Estate != chosen.Estate {
			continue
		}
		j, _, err := s.judged(st, other.Name)
		if err != nil {
			return err
		}
		one := report.Arrivals{Run: other.Name, Began: other.Began.UTC().Format(time.RFC3339)}
		for _, m := range j.Members {
			if m.Seconds > 0 {
				one.Seconds = append(one.Seconds, m.Seconds)
			}
		}
		slices.Sort(one.Seconds)
		c.Runs = append([]report.Arrivals{one}, c.Runs...)
	}
	return nil
}

// judged returns what a run saw, with the estate that it was planned with.
func (s *session) judged(st *store.Store, name string) (*probe.Judgement, *resolve.Resolver, error) {
	k, err := probe.Load(s.ctx, st, name, &connections.Connections{}, estatefile.Restore, s.r)
	if err != nil {
		return nil, nil, fmt.Errorf("run %s: %w", name, err)
	}
	run, err := k.Run()
	if err != nil {
		return nil, nil, fmt.Errorf("run %s: %w", name, err)
	}
	return probe.Judge(run), k.Plan.Resolver(), nil
}
