package present

import (
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
	Named      []Naming            `json:"named"` // the rules that name them by address
	Alone      []Alone             `json:"alone"` // what breaks without them
	// Unknown are the groups of which it was not worked out whose mail they do not get: there are too
	// many nested groups, or kinds of senders.
	Unknown []string `json:"notFromUnknown,omitempty"`

	effort int // that is left for NotFrom
	told   int // groups along the paths that are listed and do not decide
}

// The bounds of what is listed of paths that do not decide: in rings of groups there
// are more of them than anybody reads.
const (
	mostPaths = 100     // of one group
	mostTold  = 200_000 // groups along all of them
)

// PersonGroup is a group whose mail reaches a person, or should.
type PersonGroup struct {
	Group   string       `json:"group"`
	Outcome string       `json:"outcome"`
	Via     []string     `json:"via"`
	Why     string       `json:"why"`
	Paths   []PersonPath `json:"ways"` // all of them, but for those that are counted in Further
	Further int          `json:"further,omitempty"`
	// NotFrom is whose mail they do not get so.
	NotFrom *NotFrom `json:"notFrom,omitempty"`
	// Invitations is the outcome of a calendar request to the group.
	Invitations string `json:"invitations"`

	reason, place string // of the path that decides: Why in two parts
}

// Reason is Why without the place.
func (g *PersonGroup) Reason() string { return g.reason }

// PersonPath is one path by which a group's mail comes to a person.
type PersonPath struct {
	Via     []string `json:"via"`
	Outcome string   `json:"outcome"`
	Why     string   `json:"why"`
	Decides bool     `json:"decides"`

	reason, place string // Why in two parts
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
		Named:      n.naming(id),
		Alone:      []Alone{},
		effort:     mostEffort,
	}
	for _, also := range p.Also {
		a.Also = append(a.Also, also.String())
	}
	for _, attribute := range n.e.Attributes(id) {
		a.Attributes[attribute.Name] = append(a.Attributes[attribute.Name], attribute.Value)
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
	d := n.r.Deliver(resolve.Query{Group: group})
	candidates := d.To(id)
	if len(candidates) == 0 {
		return // a member for the gate only: nothing passes
	}
	g := PersonGroup{Group: n.address(group)}
	most := mostPaths
	if a.told >= mostTold {
		most = 0
	}
	g.Paths, g.Further = n.personPaths(d, candidates, most)
	for _, path := range g.Paths {
		if path.Decides {
			g.Outcome, g.Via, g.Why, g.reason, g.place = path.Outcome, path.Via, path.Why, path.reason, path.place
		} else {
			a.told += len(path.Via)
		}
	}
	if delivered(g.Outcome) && n.e.Group(group).Kind != estate.Roster {
		known := false
		if g.NotFrom, known = n.personNotFrom(group, id, &a.effort); !known {
			a.Unknown = append(a.Unknown, g.Group)
		}
	}
	g.Invitations = n.invited(group, id)
	a.Receives = append(a.Receives, g)
	if n.e.Group(group).Kind != estate.Roster && delivered(g.Outcome) && n.onlyReader(group, id) {
		a.Alone = append(a.Alone, Alone{g.Group, "member"})
	}
}

// personPaths reports the paths by which a message comes to a person: the one that decides
// and most others, and how many more there are.
func (n namer) personPaths(d *resolve.Delivery, candidates []resolve.Candidate, most int) ([]PersonPath, int) {
	paths, further, told := []PersonPath{}, 0, 0
	chains := d.Chains(n.address)
	for _, c := range candidates {
		if !c.Decides && (len(paths) >= most || told >= mostTold) {
			further++
			continue
		}
		why, own := n.why(d, c.Recipient())
		path := PersonPath{Via: chains.Of(c.Path), Outcome: c.Outcome.String(), Why: why.text, Decides: c.Decides,
			reason: why.text, place: why.place + own}
		if path.place != "" {
			path.Why += " (" + path.place + ")"
		}
		told += len(path.Via)
		paths = append(paths, path)
	}
	return paths, further
}

// invited returns the outcome of a calendar request to a group for a person.
func (n namer) invited(group, id estate.ID) string {
	best, _ := n.r.Deliver(resolve.Query{Group: group, Message: resolve.Message{Invitation: true}}).Best(id)
	return best.Outcome.String()
}

func delivered(outcome string) bool {
	return outcome == "inbox" || outcome == "digest" || outcome == "archive"
}

// onlyReader reports whether nobody else gets anything of a group's mail.
func (n namer) onlyReader(group, id estate.ID) bool {
	counts := n.r.Flow(group, resolve.Message{}).Counts()
	return counts[resolve.Inbox]+counts[resolve.Digest]+counts[resolve.Archive] == 1
}

// act notes what the person may do with a group.
func (a *Person) act(n namer, group, id estate.ID, s resolve.Sender) {
	name := n.address(group)
	if n.e.Group(group).Kind != estate.Roster {
		d := newDecision(n.e, group, n.r.Gate(group).Post(s, resolve.Message{}))
		a.Posts[d.Verdict] = append(a.Posts[d.Verdict], Posted{name, d.Rule, d.Written})
	}
	if sendAs, _ := n.r.Rights(group).SendAs(s); sendAs != estate.NoSendAs {
		for _, delegate := range n.r.Rights(group).Delegates().People {
			if delegate.ID == id {
				a.SendsAs = append(a.SendsAs, PersonSendAs{name, sendAs.String(), delegate.Proof.String()})
			}
		}
	}
	if approvers, _ := n.r.Approvers(group); slices.Contains(approvers, id) && n.r.Gate(group).Holds() {
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
	p.Line(2, Span{Strong, a.answer()})
	if g := a.worst(); g != nil {
		p.LineAt(2, g.place, Span{outcomeStyle(g.Outcome), "! misses " + g.Group + ": " + g.reason})
	}
	p.Gap()
	p.personGroups("misses", a.Receives, false)
	p.personGroups("gets", a.Receives, true)
	if n := len(a.Unknown); n > 0 {
		p.Line(4, Span{Doubtful, "  ! "}, Span{Plain, "For " + count(n, "group", "groups") +
			", it is not worked out which senders' mail nested gates keep from them: too many nested groups, or kinds of senders"})
	}
	p.Gap()
	a.writePosts(p)
	a.writeRoles(p)
	p.Gap()
	where := "Outside"
	if a.Inside {
		where = "Inside"
	}
	p.LineAt(2, a.Place, Span{Plain, where + ", mailbox " + a.Mailbox})
	if len(a.Also) > 0 {
		p.Line(2, Span{Plain, "Aliases: " + strings.Join(a.Also, ", ")})
	}
	var attributes []string
	for _, name := range slices.Sorted(maps.Keys(a.Attributes)) {
		attributes = append(attributes, name+" "+strings.Join(a.Attributes[name], ", "))
	}
	if len(attributes) > 0 {
		p.Line(2, Span{Plain, "Attributes: " + strings.Join(attributes, "; ")})
	}
}

// answer is the first line: true by itself.
func (a *Person) answer() string {
	who := a.Address
	if a.Name != "" {
		who = a.Name + ", " + a.Address
	}
	if len(a.Receives) == 0 {
		return who + ": gets no group's mail"
	}
	gets := 0
	for _, g := range a.Receives {
		if delivered(g.Outcome) {
			gets++
		}
	}
	line := who + ": gets mail of " + strconv.Itoa(gets) + " of " + count(len(a.Receives), "group", "groups")
	if misses := len(a.Receives) - gets; misses > 0 {
		line += ", misses " + strconv.Itoa(misses)
	}
	return line + ", if every gate admits"
}

// worst is the first of what they miss; nil where they miss none.
func (a *Person) worst() *PersonGroup {
	for _, outcome := range outcomeOrder[:4] {
		for i := range a.Receives {
			if a.Receives[i].Outcome == outcome {
				return &a.Receives[i]
			}
		}
	}
	return nil
}

// writePosts says to how many groups they may post, and with --all to which.
func (a *Person) writePosts(p *Page) {
	total := 0
	for _, list := range a.Posts {
		total += len(list)
	}
	line := "May post to " + strconv.Itoa(len(a.Posts["admit"])) + " of " + count(total, "group", "groups")
	for _, one := range [][2]string{{"hold", "held in"}, {"refuse", "refused by"}, {"drop", "dropped by"}} {
		if n := len(a.Posts[one[0]]); n > 0 {
			line += ", " + one[1] + " " + strconv.Itoa(n)
		}
	}
	if !p.options.All {
		p.Line(2, Span{Plain, line}, Span{Faint, "   (--all lists them)"})
		return
	}
	p.Line(2, Span{Plain, line})
	for _, verdict := range []string{"refuse", "drop", "hold", "admit"} {
		var groups []string
		for _, posted := range a.Posts[verdict] {
			groups = append(groups, posted.Group)
		}
		if len(groups) > 0 {
			p.block(block{word: Span{Strong, verdictPast[verdict]}, people: groups})
		}
	}
}

// writeRoles says what else they are for groups, and what only they are.
func (a *Person) writeRoles(p *Page) {
	only := map[Alone]bool{}
	for _, one := range a.Alone {
		only[one] = true
	}
	role := func(title, as string, groups []string) {
		if len(groups) == 0 {
			return
		}
		var list []string
		for _, group := range groups {
			if only[Alone{group, as}] {
				group += " (the only one)"
			}
			list = append(list, group)
		}
		p.Line(4, Span{Plain, title + ": "}, Span{Plain, p.some(list)})
	}
	role("Owner of", "owner", a.Owns)
	role("Releases held mail of", "approver", a.Approves)
	var sendsAs, reads []string
	for _, v := range a.SendsAs {
		proof := ""
		switch v.Proof {
		case "impossible":
			proof = ", but cannot get the code"
		case "possible":
			proof = ", with a mailed code"
		}
		sendsAs = append(sendsAs, v.SendAs+" "+v.Group+proof)
	}
	role("May send", "", sendsAs)
	for _, one := range a.Alone {
		if one.As == "member" {
			reads = append(reads, one.Group)
		}
	}
	role("The only one who gets mail of", "", reads)
	var named []string
	for _, one := range a.Named {
		text := one.Setting + " of " + one.Group
		if one.Group == "" {
			text = "the edge"
		}
		named = append(named, text)
	}
	role("Named in", "", slices.Compact(named))
	if len(a.Owns)+len(a.Approves)+len(sendsAs)+len(reads)+len(named) == 0 {
		p.Line(2, Span{Plain, "No roles in any group"})
	}
}

// nameWidth returns how wide the longest name of groups is.
func nameWidth(groups []PersonGroup) int {
	most := 0
	for _, g := range groups {
		most = max(most, width(Span{Text: Clean(g.Group)}))
	}
	return most
}

// personGroups writes the groups whose mail a person gets, or misses: the path that decides,
// and with --all the others.
func (p *Page) personGroups(verb string, groups []PersonGroup, gets bool) {
	names, shown := nameWidth(groups), []PersonGroup{}
	for _, g := range groups {
		if delivered(g.Outcome) == gets {
			shown = append(shown, g)
		}
	}
	const most = 20
	n := p.shown(len(shown), most)
	left := len(shown) - n
	shown = shown[:n]
	style := map[bool]Style{true: Plain, false: Bad}[gets]
	for _, g := range shown {
		name := g.Group + strings.Repeat(" ", names-width(Span{Text: Clean(g.Group)}))
		reason := g.reason
		if len(g.Via) > 1 {
			reason += ", via " + shorten(g.Via[1:])
		}
		if g.NotFrom != nil {
			reason += "; " + g.NotFrom.text()
		}
		gap := strings.Repeat(" ", len("misses  ")-len(verb))
		p.LineAt(6, g.place, Span{Plain, "  "}, Span{style, verb}, Span{Plain, gap}, Span{Strong, name},
			Span{Plain, "  " + reason})
		if !p.options.All {
			continue
		}
		for _, path := range g.Paths {
			if !path.Decides {
				p.LineAt(12, path.place, Span{Faint, "          also " + path.Outcome + ": " + path.reason + ", via " +
					shorten(path.Via[1:])})
			}
		}
		if g.Further > 0 {
			p.Line(12, Span{Faint, "          also by " + count(g.Further, "other path", "other paths")})
		}
	}
	var not []string
	for _, g := range shown {
		if gets && g.Invitations != resolve.Inbox.String() && g.Outcome != resolve.Archive.String() {
			not = append(not, g.Group)
		}
	}
	if len(not) > 0 {
		p.Line(4, Span{Plain, "  No calendar requests of "}, Span{Plain, p.some(not)})
	}
	p.more(left, "more")
}

func (a *Person) table(t *table) {
	t.head("address", "group", "outcome", "via", "decides", "why")
	for _, g := range a.Receives {
		for _, path := range g.Paths {
			t.row(a.Address, g.Group, path.Outcome, strings.Join(path.Via, " > "), path.Decides, path.Why)
		}
	}
}
