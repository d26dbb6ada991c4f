package hazard

import (
	"maps"
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var outsideReader = Check{
	Name:     "outside-reader",
	mailed:   true,
	Severity: Medium,
	Trap:     "somebody outside gets or reads what only inside people may post to",
	Doc: `A group that only inside people may post to looks internal. If a group with outside members is nested in
it, they read along: copies in their inbox, or the archive.`,
	Cure: "Set outside-copy of the nested group to none, or remove it from this one.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if len(p.E.Children(id)) == 0 || !p.survey.ReachesOutside(id) {
			return
		}
		candidates := p.outsideReaders(id)
		if len(candidates) == 0 {
			return
		}
		gates := p.gatesIn(id, estate.None)
		lists := [][]estate.GateRule{p.E.Settings().Edge, g.Gate}
		for _, nested := range gates {
			lists = append(lists, p.E.Group(nested).Gate)
		}
		a := p.R.AsksOf(lists...)
		for _, m := range a.Messages() {
			from, internal := p.admitsOnlyInside(id, &a, m)
			if !internal {
				continue
			}
			byAddress := func(a, b estate.ID) int { return p.E.Rank(a) - p.E.Rank(b) }
			readers := p.R.Readers(id, slices.SortedFunc(maps.Keys(candidates), byAddress), m)
			for _, part := range p.alike(from, gates, m) {
				p.reportReaders(id, candidates, readers, part, m)
				if len(candidates) == 0 {
					return
				}
			}
		}
	},
}

// outsideReaders returns the people outside who may get or read mail of a group by
// nesting.
func (p *Pass) outsideReaders(id estate.ID) map[estate.ID]bool {
	candidates := map[estate.ID]bool{}
	if p.outside.IsEmpty() {
		return nil
	}
	for _, x := range p.R.Outcomes(id) {
		if x.Outcome != resolve.Nothing && !p.E.Inside(x.Person) {
			candidates[x.Person] = true
		}
	}
	if p.E.Group(id).Kind == estate.Mailbox {
		return candidates
	}
	// Nested groups add nothing for those who get copies from the group itself.
	p.R.EachMembership(id, func(person estate.ID, wish resolve.Wish, _ estate.Place) {
		if wish.Copy == estate.CopyEvery && !p.R.Shut(person) {
			delete(candidates, person)
		}
	})
	return candidates
}

// reportReaders reports those of the candidates who get or read what some senders write,
// over a nested group, and takes them out.
func (p *Pass) reportReaders(
	id estate.ID, candidates map[estate.ID]bool, readers *resolve.Readers, from senders, m resolve.Message,
) {
	d := readers.Deliver(p.one(from))
	for _, recipient := range d.Recipients {
		reader := recipient.ID
		switch recipient.Outcome {
		case resolve.Inbox, resolve.Digest, resolve.Archive:
		default:
			continue
		}
		nested, place, indirect := p.over(d, recipient)
		if !candidates[reader] || !indirect {
			continue
		}
		delete(candidates, reader)
		far := seldom
		if isUsual(m) {
			far = usual
		}
		verb := "gets"
		if recipient.Outcome == resolve.Archive {
			verb = "can read"
		}
		p.reportAs(far, Finding{Group: id, Address: p.name(reader), Place: place,
			more: &more{witness: func() *Witness { return p.witness(from, m) }},
			text: func() (says, fix string) {
				fix = "Set outside-copy of " + p.name(nested) + " to none, or remove it from " + p.name(id) + "."
				if recipient.Outcome == resolve.Archive { // which members read, whatever their copy is
					fix = "Remove " + p.name(nested) + " from " + p.name(id) + ", or them from it."
				}
				return p.name(reader) + " is outside and " + verb + " internal mail of " + p.name(id) + " through " +
					p.name(nested) + like(m) + ".", fix
			}})
	}
}

// over returns the nested group over which a recipient gets or reads something, and the
// entry that nests it; false where they are listed in the group itself.
func (p *Pass) over(d *resolve.Delivery, recipient resolve.Recipient) (estate.ID, estate.Place, bool) {
	path := d.Path(recipient)
	if path.Group != d.Group {
		return path.Group, path.Place, true
	}
	if entry, _ := p.R.Membership(d.Group, recipient.ID); entry != nil {
		return 0, estate.Place{}, false
	}
	// A shared mailbox, which the members of nested groups read.
	l, ok := p.R.Lineage(d.Group, recipient.ID)
	if !ok || len(l.Groups) < 2 {
		return 0, estate.Place{}, false
	}
	for _, child := range p.E.Children(d.Group) {
		if child.Group == l.Groups[1] {
			return child.Group, child.Place, true
		}
	}
	return 0, estate.Place{}, false
}
