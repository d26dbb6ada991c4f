package probe

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/lanes"
)

// NewVoicePlan plans a message in a group's name by each person who has a voice
// there, and by one who has none. They go to a stranger outside, or to the group
// where the lanes name none.
func NewVoicePlan(r *resolve.Resolver, l *lanes.Lanes, group estate.ID, name string) *Plan {
	p := &Plan{Run: name, resolver: r, lanes: l}
	if p.Run == "" {
		p.Run = randomID(8)
	}
	e := r.Estate()
	to, ok := p.stranger()
	if !ok {
		to = e.Address(group)
		p.note("voices: the lanes name no stranger to write to; the group itself reads them")
	}
	if e.Group(group).VoiceProof == estate.ProofMailedCode {
		p.note("%s asks for a code that is mailed to it: who has not shown it yet is refused", e.Address(group))
	}
	speaks := map[estate.ID]bool{}
	for _, s := range r.Speakers(group).People {
		speaks[s.ID] = true
		p.add(Case{Kind: Voice, Group: group, From: e.Address(group), By: e.Address(s.ID), To: to})
	}
	silent, ok := p.find(group, func(_, person estate.ID) bool { return !speaks[person] })
	if ok {
		p.add(Case{Kind: Voice, Group: group, From: e.Address(group), By: e.Address(silent), To: to})
	}
	p.identify()
	return p
}
