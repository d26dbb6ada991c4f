package choose

import (
	"cmp"
	"slices"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// A Likeness says how near the recipients of a group are to a set of people.
type Likeness struct {
	Group   estate.ID
	Both    int         // people of the set who get its mail
	Missing []estate.ID // people of the set who do not
	Extra   []estate.ID // who get its mail and are not in the set
}

// Off returns how many people are too few or too many.
func (l *Likeness) Off() int { return len(l.Missing) + len(l.Extra) }

// Nearest returns the groups whose mail reaches people most like those of a set, the nearest
// first: at most so many, and none that reaches less than a quarter of them. Recipients are those who get
// or can read a default message, were they not full or closed; of a roster all who are in it.
func Nearest(r *resolve.Resolver, people []estate.ID, most int) []Likeness {
	e := r.Estate()
	wanted := map[estate.ID]bool{}
	for _, id := range people {
		wanted[id] = true
	}
	var list []Likeness
	for g := range estate.ID(e.Groups()) {
		l := Likeness{Group: g}
		gets := map[estate.ID]bool{}
		for _, x := range r.Flow(g, resolve.Message{}).Outcomes() {
			switch x.Outcome {
			case resolve.Inbox, resolve.Digest, resolve.Archive, resolve.Undeliverable:
			default:
				continue
			}
			if !e.IsPerson(x.Person) || gets[x.Person] {
				continue
			}
			gets[x.Person] = true
			if wanted[x.Person] {
				l.Both++
			} else {
				l.Extra = append(l.Extra, x.Person)
			}
		}
		if l.Both == 0 || 4*l.Both < len(people) {
			continue
		}
		for _, id := range people {
			if !gets[id] {
				l.Missing = append(l.Missing, id)
			}
		}
		list = append(list, l)
	}
	slices.SortStableFunc(list, func(a, b Likeness) int { return cmp.Or(a.Off()-b.Off(), b.Both-a.Both) })
	return list[:min(len(list), most)]
}
