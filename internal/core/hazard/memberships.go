package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// membership is what one person wants as a direct member of a group.
type membership struct {
	person estate.ID
	wish   resolve.Wish
	place  estate.Place
}

// memberships returns the direct memberships of a group: one for each person.
func (p *Pass) memberships(id estate.ID) []membership {
	if p.direct == nil {
		p.direct = make([][]membership, p.E.Groups())
	}
	if p.direct[id] != nil {
		return p.direct[id]
	}
	list := make([]membership, 0, len(p.E.Entries(id)))
	p.R.EachMembership(id, func(person estate.ID, wish resolve.Wish, place estate.Place) {
		list = append(list, membership{person, wish, place})
	})
	p.direct[id] = list
	return list
}

// survey returns what becomes of a message to a group, and for its owners in
// particular.
func (p *Pass) survey(id estate.ID) resolve.Survey {
	if p.surveys == nil {
		p.surveys = make([]*resolve.Survey, p.E.Groups())
	}
	if p.surveys[id] == nil {
		survey := p.R.Survey(id, p.R.Owners(id))
		p.surveys[id] = &survey
	}
	return *p.surveys[id]
}

func wantsCopies(copy estate.Copy) bool { return copy == estate.CopyEvery || copy == estate.CopyDigest }
