package probe

import (
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// NewSendAsPlan plans a message in a group's name by each person who may
// there, and by one who has none. They go to a stranger outside, or to the group
// where the connections name none.
func NewSendAsPlan(r *resolve.Resolver, l *connections.Connections, group estate.ID, name string) *RunPlan {
	p := &RunPlan{Run: name, resolver: r, connections: l}
	if p.Run == "" {
		p.Run = randomID(8)
	}
	e := r.Estate()
	to, ok := p.stranger()
	if !ok {
		to = e.Address(group)
		p.note("send-as: the connections name no stranger to write to; the group itself reads them")
	}
	if e.Group(group).SendAsProof == estate.ProofMailedCode {
		p.note("%s asks for a code that is mailed to it: who has not shown it yet is refused", e.Address(group))
	}
	sendsAs := map[estate.ID]bool{}
	for _, s := range r.Rights(group).Delegates().People {
		sendsAs[s.ID] = true
		p.add(Case{Kind: SendAs, Group: group, From: e.Address(group), By: e.Address(s.ID), To: to})
	}
	silent, ok := p.find(group, func(_, person estate.ID) bool { return !sendsAs[person] })
	if ok {
		p.add(Case{Kind: SendAs, Group: group, From: e.Address(group), By: e.Address(silent), To: to})
	}
	p.identify()
	return p
}
