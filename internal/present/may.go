package present

import (
	"strconv"
	"strings"

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
	// Shut are those of People whose mailbox accepts no mail, of approvers.
	Shut []string `json:"shut,omitempty"`

	warns []string // of them, with what is wrong
	verb  string
	why   string // the rule in words
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
	a := &May{Group: n.address(group), verb: verb}
	people, outside, inside := r.Rights(group).May(action)
	a.Strangers = MayStrangers{outside, inside}
	rule := g.Access[action]
	a.Rule, a.Place = oneLine(rule.Text), n.position(rule.Place)
	a.why = "access." + action.String() + " is " + a.Rule
	if a.Place == "" {
		a.why += ", the default"
	}
	if action == estate.Read && !g.Kind.Keeps() {
		a.Rule, a.Place = "a "+g.Kind.String()+" has no archive to read", n.position(g.Where("kind"))
		a.why = a.Rule
	}
	a.take(n, people)
	return a
}

// NewApproves asks who can release a held message.
func NewApproves(r *resolve.Resolver, group estate.ID) *May {
	n := newNamer(r)
	a := &May{
		Group: n.address(group),
		verb:  "approves",
		Rule:  "moderators",
		why:   "the moderators release held mail",
	}
	approvers, owners := r.Approvers(group)
	if owners {
		a.Rule = "owners, as there are no moderators"
		a.why = "the owners release held mail, as there are no moderators"
	}
	set := roaring.New()
	a.Shut = n.shut(approvers)
	for _, id := range approvers {
		set.Add(uint32(id))
		if state := n.e.Person(id).Mailbox; state != estate.MailboxOpen {
			a.warns = append(a.warns, n.address(id)+" ("+mailboxWords[state]+")")
		}
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
	p.Line(2, Span{Strong, a.answer()})
	style, mark := Plain, ""
	if a.Strangers.Outside {
		style, mark = Doubtful, "! "
	}
	p.LineAt(2, a.Place, Span{style, mark + a.why})
	if len(a.warns) > 0 {
		p.Line(2, Span{Bad, "! Not asked by mail: "}, Span{Plain, p.some(a.warns)})
	}
	if len(a.People) > 1 || len(a.People) == 1 && !strings.Contains(a.answer(), a.People[0]) {
		p.Gap()
		p.Line(2, Span{Plain, "  " + p.some(a.People)})
	}
}

// doing says what people may.
func (a *May) doing() string {
	said, ok := map[string]string{
		"approves": "release held mail", "reads": "read its mail", "joins": "join",
		"finds": "find it", "manages": "manage it",
	}[a.verb]
	if !ok {
		return a.verb
	}
	return said
}

// answer is the first line: true by itself.
func (a *May) answer() string {
	line := a.Group + ": "
	switch len(a.People) {
	case 0:
		line += "nobody"
	case 1:
		line += a.People[0]
	default:
		line += strconv.Itoa(len(a.People)) + " people"
	}
	line += " may " + a.doing()
	switch {
	case a.Strangers.Outside && a.Strangers.Inside:
		return line + ", and so may anyone else"
	case a.Strangers.Outside:
		return line + ", and so may anyone outside"
	case a.Strangers.Inside:
		return line + ", and so may unknown inside addresses"
	}
	return line
}

func (a *May) table(t *table) {
	t.head("group", "address")
	for _, address := range a.People {
		t.row(a.Group, address)
	}
}
