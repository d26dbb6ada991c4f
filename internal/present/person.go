package present

import (
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Person is everything about one person.
type Person struct {
	Address    string              `json:"address"`
	Name       string              `json:"name"`
	Also       []string            `json:"also"`
	Inside     bool                `json:"inside"`
	Mailbox    string              `json:"mailbox"`
	Attributes map[string][]string `json:"attributes"`
	Place      string              `json:"place"`
	Receives   []PersonGroup       `json:"receives"` // groups whose mail concerns them
	Posts      map[string][]Posted `json:"posts"`    // by verdict
	SendsAs    []PersonSendAs      `json:"sendsAs"`
	Approves   []string            `json:"approves"`
	Owns       []string            `json:"owns"`
	Alone      []Alone             `json:"alone"` // what breaks without them

	folder string
	told   int // groups along the ways that are told and do not decide
}

// The bounds of what is told of ways that do not decide: in rings of groups there
// are more of them than anybody reads.
const (
	mostWays = 100     // of one group
	mostTold = 200_000 // groups along all of them
)

// PersonGroup is a group whose mail reaches a person, or should.
type PersonGroup struct {
	Group   string      `json:"group"`
	Outcome string      `json:"outcome"`
	Via     []string    `json:"via"`
	Why     string      `json:"why"`
	Ways    []PersonWay `json:"ways"` // all of them, but for those that are counted in Further
	Further int         `json:"further,omitempty"`
}

// PersonWay is one way in which a group's mail comes to a person.
type PersonWay struct {
	Via     []string `json:"via"`
	Outcome string   `json:"outcome"`
	Why     string   `json:"why"`
	Decides bool     `json:"decides"`
}

// Posted is what the gate of a group says to a person.
type Posted struct {
	Group   string `json:"group"`
	Rule    int    `json:"rule"`
	Written string `json:"written"`
}

// PersonSendAs is a right to send as a group that a person has.
type PersonSendAs struct {
	Group  string `json:"group"`
	SendAs string `json:"sends"`
	Proof  string `json:"proof"`
}

// Alone is something that only this person is for a group.
type Alone struct {
	Group string `json:"group"`
	As    string `json:"as"` // owner, approver or member
}

// NewPerson gathers everything about a person.
func NewPerson(r *resolve.Resolver, id estate.ID) *Person {
	n := newNamer(r)
	p := n.e.Person(id)
	a := &Person{
		Address:    n.address(id),
		Name:       p.Name,
		Also:       []string{},
		Inside:     n.e.Inside(id),
		Mailbox:    p.Mailbox.String(),
		Place:      n.position(p.Place),
		Attributes: map[string][]string{},
		Receives:   []PersonGroup{},
		Posts:      map[string][]Posted{},
		SendsAs:    []PersonSendAs{},
		Approves:   []string{},
		Owns:       []string{},
		Alone:      []Alone{},
		folder:     n.folder(),
	}
	for _, also := range p.Also {
		a.Also = append(a.Also, also.String())
	}
	for _, attribute := range n.e.Attributes(id) {
		a.Attributes[attribute.Attribute] = append(a.Attributes[attribute.Attribute], attribute.Value)
	}
	for _, verdict := range estate.VerdictWords() {
		a.Posts[verdict] = []Posted{}
	}
	for _, group := range r.GroupsOf(id) {
		a.receive(n, group, id)
	}
	s := r.Sender(p.Address)
	for group := range estate.ID(n.e.Groups()) {
		a.act(n, group, id, s)
	}
	return a
}

// receive notes how the mail of a group comes to the person.
func (a *Person) receive(n namer, group, id estate.ID) {
	d, candidates := n.r.Follow(group, id)
	if len(candidates) == 0 {
		return // a member for the gate only: nothing passes
	}
	g := PersonGroup{Group: n.address(group), Ways: []PersonWay{}}
	chains := d.Chains(n.address)
	for _, c := range candidates {
		if !c.Decides && (len(g.Ways) >= mostWays || a.told >= mostTold) {
			g.Further++
			continue
		}
		via := chains.Of(c.Way)
		if !c.Decides {
			a.told += len(via)
		}
		why, own := n.why(d, c.Recipient())
		way := PersonWay{Via: via, Outcome: c.Outcome.String(), Why: why.text, Decides: c.Decides}
		if place := why.place + own; place != "" {
			way.Why += " (" + place + ")"
		}
		if c.Decides {
			g.Outcome, g.Via, g.Why = way.Outcome, way.Via, way.Why
		}
		g.Ways = append(g.Ways, way)
	}
	a.Receives = append(a.Receives, g)
	if n.e.Group(group).Kind != estate.Roster && delivered(g.Outcome) && n.onlyReader(group, id) {
		a.Alone = append(a.Alone, Alone{g.Group, "member"})
	}
}

func delivered(outcome string) bool {
	return outcome == "inbox" || outcome == "digest" || outcome == "archive"
}

// onlyReader reports whether nobody else gets anything of a group's mail.
func (n namer) onlyReader(group, id estate.ID) bool {
	counts := n.r.Receives(group)
	return counts[resolve.Inbox]+counts[resolve.Digest]+counts[resolve.Archive] == 1
}

// act notes what the person may do with a group.
func (a *Person) act(n namer, group, id estate.ID, s resolve.Sender) {
	name := n.address(group)
	if n.e.Group(group).Kind != estate.Roster {
		d := newDecision(n.e, group, n.r.Judge(group, s, resolve.Message{}))
		a.Posts[d.Verdict] = append(a.Posts[d.Verdict], Posted{name, d.Rule, d.Written})
	}
	if sendAs, _ := n.r.SendAs(group, s); sendAs != estate.NoSendAs {
		for _, delegate := range n.r.Delegates(group).People {
			if delegate.ID == id {
				a.SendsAs = append(a.SendsAs, PersonSendAs{name, sendAs.String(), delegate.Proof.String()})
			}
		}
	}
	if approvers, _ := n.r.Approvers(group); slices.Contains(approvers, id) {
		a.Approves = append(a.Approves, name)
		if len(approvers) == 1 {
			a.Alone = append(a.Alone, Alone{name, "approver"})
		}
	}
	if owners := n.r.Owners(group); slices.Contains(owners, id) {
		a.Owns = append(a.Owns, name)
		if len(owners) == 1 {
			a.Alone = append(a.Alone, Alone{name, "owner"})
		}
	}
}

func (a *Person) writeText(p *Page) {
	p.folder = a.folder
	where := "outside"
	if a.Inside {
		where = "inside"
	}
	p.Line(2, Span{Strong, a.answer()})
	if worst := a.worst(p); worst.Text != "" {
		p.Line(2, worst)
	}
	p.Line(2, Span{Faint, where + ", mailbox " + a.Mailbox + " (" + p.short(a.Place) + ")"})
	if len(a.Also) > 0 {
		p.Line(2, Span{Faint, "also "}, Span{Plain, strings.Join(a.Also, ", ")})
	}
	var attributes []string
	for _, name := range slices.Sorted(maps.Keys(a.Attributes)) {
		attributes = append(attributes, name+": "+strings.Join(a.Attributes[name], ", "))
	}
	if len(attributes) > 0 {
		p.Line(2, Span{Faint, strings.Join(attributes, "; ")})
	}
	p.personGroups("Does not reach them", a.Receives, false)
	p.personGroups("Reaches them", a.Receives, true)
	a.writePosts(p)
	a.writeRights(p)
	a.writeAlone(p)
	p.hint()
}

// answer is the first line: true by itself.
func (a *Person) answer() string {
	who := a.Address
	if a.Name != "" {
		who = a.Name + ", " + a.Address
	}
	if len(a.Receives) == 0 {
		return who + ": no group's mail is meant for them"
	}
	gets := 0
	for _, g := range a.Receives {
		if delivered(g.Outcome) {
			gets++
		}
	}
	line := who + ": gets the mail of " + strconv.Itoa(gets) + " of " + count(len(a.Receives), "group", "groups")
	if misses := len(a.Receives) - gets; misses > 0 {
		line += ", misses that of " + strconv.Itoa(misses)
	}
	return line + ", if every gate admits"
}

// worst is the first of what they miss, and why; nothing where they miss none.
func (a *Person) worst(p *Page) Span {
	for _, outcome := range outcomeOrder[:4] {
		for _, g := range a.Receives {
			if g.Outcome == outcome {
				return Span{outcomeStyle(outcome), "! " + g.Group + ", " + outcome + ": " + p.short(g.Why)}
			}
		}
	}
	return Span{}
}

// writePosts tells what becomes of their own messages.
func (a *Person) writePosts(p *Page) {
	var blocks []block
	for _, verdict := range []string{"refuse", "drop", "hold", "admit"} {
		var groups []string
		for _, posted := range a.Posts[verdict] {
			groups = append(groups, posted.Group)
		}
		if len(groups) > 0 {
			words := map[string]string{
				"admit":  "may post",
				"hold":   "are held",
				"refuse": "are refused",
				"drop":   "are dropped",
			}
			blocks = append(
				blocks,
				block{word: Span{verdictStyle(verdict), verdict}, text: words[verdict], people: groups},
			)
		}
	}
	p.blocks("Their own messages, by group", blocks, 8)
}

// writeRights tells what they may do for groups besides.
func (a *Person) writeRights(p *Page) {
	var may []block
	add := func(word string, groups []string) {
		if len(groups) > 0 {
			may = append(may, block{word: Span{Plain, word}, people: groups})
		}
	}
	var sendsAs []string
	for _, v := range a.SendsAs {
		sendsAs = append(sendsAs, v.Group+" ("+v.SendAs+" it, proof "+v.Proof+")")
	}
	add("sends for", sendsAs)
	add("approves for", a.Approves)
	add("owns", a.Owns)
	p.blocks("What else they may do", may, 8)
}

// writeAlone tells where nobody else does what they do.
func (a *Person) writeAlone(p *Page) {
	words := map[string]string{
		"owner":    "nobody else answers for",
		"approver": "nobody else can release what is held for",
		"member":   "nobody else gets the mail of",
	}
	var alone []block
	for _, as := range []string{"owner", "approver", "member"} {
		var groups []string
		for _, one := range a.Alone {
			if one.As == as {
				groups = append(groups, one.Group)
			}
		}
		if len(groups) > 0 {
			alone = append(alone, block{word: Span{Doubtful, "only " + as}, text: words[as], people: groups})
		}
	}
	p.blocks("What breaks without them", alone, 8)
}

// personGroups writes the groups whose mail reaches a person, or does not.
func (p *Page) personGroups(title string, groups []PersonGroup, reaching bool) {
	var rows [][]Span
	for _, g := range groups {
		if delivered(g.Outcome) != reaching {
			continue
		}
		for _, way := range g.Ways {
			mark := Span{Plain, ""}
			if way.Decides {
				mark = Span{outcomeStyle(way.Outcome), way.Outcome}
			} else {
				mark = Span{Faint, "also " + way.Outcome}
			}
			text := p.short(way.Why)
			if len(way.Via) > 1 {
				text = "via " + shorten(way.Via[1:]) + ": " + text
			}
			name := g.Group
			if !way.Decides {
				name = ""
			}
			rows = append(rows, []Span{mark, {Plain, name}, {Faint, text}})
		}
		if g.Further > 0 {
			rows = append(
				rows,
				[]Span{{Faint, "also"}, {Plain, ""}, {Faint, "by " + count(g.Further, "further way", "further ways")}},
			)
		}
	}
	if len(rows) == 0 {
		return
	}
	p.Gap()
	p.Title(title)
	const most = 25
	if !p.options.All && len(rows) > most+2 {
		p.Table(rows[:most])
		p.Line(2, Span{Faint, "  and " + strconv.Itoa(len(rows)-most) + " more"})
		p.cut = true
		return
	}
	p.Table(rows)
}

func (a *Person) table() ([]string, iter.Seq[[]string]) {
	return []string{"address", "group", "outcome", "via", "decides", "why"}, func(yield func([]string) bool) {
		for _, g := range a.Receives {
			for _, way := range g.Ways {
				if !yield(
					[]string{
						a.Address,
						g.Group,
						way.Outcome,
						strings.Join(way.Via, " > "),
						strconv.FormatBool(way.Decides),
						way.Why,
					},
				) {
					return
				}
			}
		}
	}
}
