package hazard

import (
	"maps"
	"slices"

	"github.com/RoaringBitmap/roaring/v2"

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
		lists := [][]estate.GateRule{p.E.Settings().Edge, g.Gate}
		for _, nested := range p.gatesIn(id, estate.None) {
			lists = append(lists, p.E.Group(nested).Gate)
		}
		a := p.R.AsksOf(lists...)
		for _, m := range a.Messages() {
			if from, internal := p.admitsOnlyInside(id, &a, m); internal {
				candidates = p.reportReaders(id, candidates, from, m)
			}
			if len(candidates) == 0 {
				return
			}
		}
	},
}

// outsideReaders returns the people outside who may get or read mail of a group by
// nesting.
func (p *Pass) outsideReaders(id estate.ID) []estate.ID {
	if p.outside.IsEmpty() {
		return nil
	}
	candidates := roaring.New()
	for _, x := range p.R.Flow(id, resolve.Message{}).Outcomes() {
		if x.Outcome != resolve.Nothing && !p.E.Inside(x.Person) {
			candidates.Add(uint32(x.Person))
		}
	}
	if p.E.Group(id).Kind != estate.Mailbox {
		// Nested groups add nothing for those who get copies from the group itself.
		p.R.EachMembership(id, func(person estate.ID, wish resolve.Wish, _ estate.Place) {
			if wish.Copy == estate.CopyEvery && !p.E.IsShut(person) {
				candidates.Remove(uint32(person))
			}
		})
	}
	return p.byAddress(candidates)
}

// reportReaders reports those of the candidates who get or read what some senders write, over a nested group, and
// returns the others. Each is reported with the first kind of sender that the gates on the way tell apart.
func (p *Pass) reportReaders(id estate.ID, candidates []estate.ID, from senders, m resolve.Message) []estate.ID {
	gates := p.letIn(p.gatesIn(id, estate.None), m)
	reading := p.reading(id, candidates, from.known, m, nil)
	for {
		any := roaring.FastOr(slices.Collect(maps.Values(reading))...)
		if any.IsEmpty() {
			break
		}
		part := senders{known: resolve.FirstKind(from.known, gates, any)}
		candidates = p.reportReading(id, candidates, part, m, func(reader estate.ID) bool {
			return reading[reader] != nil && reading[reader].Intersects(part.known)
		})
		maps.DeleteFunc(reading, func(_ estate.ID, set *roaring.Bitmap) bool { return set.Intersects(part.known) })
	}
	if len(candidates) == 0 {
		return nil
	}
	others := roaring.New()
	others.AddRange(0, uint64(len(from.others)))
	reading = p.reading(id, candidates, others, m, func(nested estate.ID) resolve.LetIn {
		return p.R.Gate(nested).LetInOf(from.others, m)
	})
	for i, s := range from.others {
		part := senders{known: nobody, others: []resolve.Sender{s}}
		candidates = p.reportReading(id, candidates, part, m, func(reader estate.ID) bool {
			return reading[reader] != nil && reading[reader].Contains(uint32(i))
		})
	}
	return candidates
}

// reading returns the candidates who get or read over a nested group what any of some senders write, with those:
// senders as they are numbered in what letIn says of gates; nil: people and groups.
func (p *Pass) reading(id estate.ID, candidates []estate.ID, from *roaring.Bitmap, m resolve.Message,
	letIn func(estate.ID) resolve.LetIn) map[estate.ID]*roaring.Bitmap {
	reading := map[estate.ID]*roaring.Bitmap{}
	if from.IsEmpty() {
		return reading
	}
	d := p.R.Flow(id, m).Avoiding(estate.None, m)
	d.Send(from, letIn)
	for _, reader := range candidates {
		if set := p.readingFrom(d, id, reader); !set.IsEmpty() {
			reading[reader] = set
		}
	}
	return reading
}

// readingFrom returns the senders of what one reader gets or reads better over a nested group than by the group
// itself.
func (p *Pass) readingFrom(d *resolve.Detour, id, reader estate.ID) *roaring.Bitmap {
	if p.E.Group(id).Kind == estate.Mailbox { // whose members all read it there
		known, _ := d.From(id)
		return known
	}
	itself := resolve.Nothing
	d.Of(reader, func(one *resolve.Gift) {
		if one.Group == id {
			itself = one.Outcome
		}
	})
	set := roaring.New()
	if by := d.Outlook(reader, id); by != nil {
		for _, outcome := range []resolve.Outcome{resolve.Inbox, resolve.Digest, resolve.Archive} {
			if outcome < itself && by[outcome] != nil {
				set.Or(by[outcome])
			}
		}
	}
	return set
}

// reportReading reports those of the candidates who get or read what some senders write, of which no gate tells
// one from the other, over a nested group, and returns the others. Only those are looked at who perhaps read it.
func (p *Pass) reportReading(
	id estate.ID, candidates []estate.ID, from senders, m resolve.Message, perhaps func(estate.ID) bool,
) []estate.ID {
	one := p.one(from)
	d := p.R.Deliver(resolve.Query{Group: id, Sender: &one, Message: m, Author: resolve.NoAuthor})
	return slices.DeleteFunc(candidates, func(reader estate.ID) bool { return perhaps(reader) && p.reportReader(d, reader, from) })
}

// reportReader reports somebody who gets or reads a message over a nested group, and returns false if they do not.
func (p *Pass) reportReader(d *resolve.Delivery, reader estate.ID, from senders) bool {
	best, _ := d.Best(reader)
	switch best.Outcome {
	case resolve.Inbox, resolve.Digest, resolve.Archive:
	default:
		return false
	}
	nested, place, indirect := p.over(d, reader, best.Path)
	if !indirect {
		return false
	}
	id, m, archive := d.Group, d.Message, best.Outcome == resolve.Archive
	far := seldom
	if isUsual(m) {
		far = usual
	}
	verb := "gets"
	if archive {
		verb = "can read"
	}
	p.reportAs(far, Finding{Group: id, Address: p.name(reader), Place: place,
		more: &more{witness: func() *Witness { return p.witness(from, m) }},
		text: func() (says, fix string) {
			fix = "Set outside-copy of " + p.name(nested) + " to none, or remove it from " + p.name(id) + "."
			if archive { // which members read, whatever their copy is
				fix = "Remove " + p.name(nested) + " from " + p.name(id) + ", or them from it."
			}
			return p.name(reader) + " is outside and " + verb + " internal mail of " + p.name(id) + " through " +
				p.name(nested) + like(m) + ".", fix
		}})
	return true
}

// over returns the nested group over which a reader gets or reads something by a path, and the
// entry that nests it; false where they are listed in the group itself.
func (p *Pass) over(d *resolve.Delivery, reader estate.ID, path resolve.Path) (estate.ID, estate.Place, bool) {
	if path.Group != d.Group {
		return path.Group, path.Place, true
	}
	if entry, _ := p.R.Membership(d.Group, reader); entry != nil {
		return 0, estate.Place{}, false
	}
	// A shared mailbox, which the members of nested groups read.
	l, ok := p.R.Lineage(d.Group, reader)
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
