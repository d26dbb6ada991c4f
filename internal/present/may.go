package present

import (
	"iter"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// May answers who may do something with a group: approve, read, join, find or
// manage.
type May struct {
	Group     string       `json:"group"`
	People    []string     `json:"people"`
	Strangers MayStrangers `json:"strangers"`
	Rule      string       `json:"rule"` // what decides: a selector, or the list that does
	Place     string       `json:"place,omitempty"`

	verb   string
	name   string
	folder string
}

// MayStrangers says whether strangers may.
type MayStrangers struct {
	Outside bool `json:"outside"`
	Inside  bool `json:"inside"`
}

// NewMay asks who is allowed an action; verb is the word for it.
func NewMay(r *resolve.Resolver, group estate.ID, action estate.Action, verb string) *May {
	n := newNamer(r)
	g := n.e.Group(group)
	a := &May{Group: n.address(group), verb: verb, name: groupName(g), folder: n.folder()}
	people, outside, inside := r.May(group, action)
	a.Strangers = MayStrangers{outside, inside}
	rule := g.Access[action]
	a.Rule, a.Place = oneLine(rule.Text), n.position(rule.Place)
	if action == estate.Read && !g.Kind.Keeps() {
		a.Rule, a.Place = "a "+g.Kind.String()+" keeps nothing to read", n.position(g.Where("kind"))
	}
	a.take(n, people)
	return a
}

// NewApproves asks who can release a held message.
func NewApproves(r *resolve.Resolver, group estate.ID) *May {
	n := newNamer(r)
	a := &May{
		Group:  n.address(group),
		verb:   "approves",
		name:   groupName(n.e.Group(group)),
		folder: n.folder(),
		Rule:   "moderators",
	}
	approvers, owners := r.Approvers(group)
	if owners {
		a.Rule = "owners, as there are no moderators"
	}
	set := roaring.New()
	for _, id := range approvers {
		set.Add(uint32(id))
	}
	a.take(n, set)
	return a
}

// take lists people by address.
func (a *May) take(n namer, people *roaring.Bitmap) {
	a.People = []string{}
	for _, id := range n.e.PeopleByAddress() {
		if people.Contains(uint32(id)) {
			a.People = append(a.People, n.address(id))
		}
	}
}

func (a *May) writeText(p *Page) {
	p.folder = a.folder
	p.Line(2, Span{Strong, "Who " + a.verb + " " + a.Group}, Span{Faint, "  " + a.name})
	p.Gap()
	word := func(yes bool) Span {
		if yes {
			return Span{Doubtful, "yes"}
		}
		return Span{Plain, "no"}
	}
	p.Line(
		2,
		Span{Plain, count(len(a.People), "person", "people") + ". Strangers from outside: "},
		word(a.Strangers.Outside),
		Span{Plain, ", unknown ones from inside: "},
		word(a.Strangers.Inside),
	)
	p.blocks(
		"These do",
		[]block{{word: Span{Good, a.verb}, text: a.Rule, place: a.Place, people: a.People}},
		mostExceptions,
	)
	if len(a.People) == 0 {
		p.Line(2, Span{Doubtful, "No person: "}, Span{Plain, a.Rule})
	}
	p.hint()
}

func (a *May) table() ([]string, iter.Seq[[]string]) {
	return []string{"group", "address"}, func(yield func([]string) bool) {
		for _, address := range a.People {
			if !yield([]string{a.Group, address}) {
				return
			}
		}
	}
}
