package resolve

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// This file answers the same questions as the package, plainly, with texts and
// by trying everything: all paths through all groups, one by one. Random estates
// have to come out the same.

type naiveEstate struct {
	open   bool // nested gates
	edge   []naiveRule
	people []naivePerson
	groups []naiveGroup
	today  int
}

type naivePerson struct {
	addresses  []string // the main one first
	mailbox    string
	attributes map[string]string
}

type naiveGroup struct {
	addresses                            []string
	kind, copy, outsideCopy, invitations string
	noEcho                               bool
	owners, moderators                   []string
	entries                              []naiveEntry
	gate                                 []naiveRule // nil: admit inside
}

type naiveEntry struct {
	address           string // or a rule:
	everyone          bool
	attr, value       string
	copy, invitations string
	paused            bool
	since             int // 0: none
}

type naiveRule struct {
	verdict string
	who     naiveSelector
}

// naiveSelector is a selector in both forms: as text, and as what it means.
type naiveSelector struct {
	text  string
	holds func(n *naiveEstate, group int, from string, m Message) bool
}

const insideDomain = "@in.example"

// lookUp returns "p3" or "g2" for an address of the estate, or "".
func (n *naiveEstate) lookUp(a string) string {
	a = strings.ToLower(strings.Replace(a, "@alias.example", insideDomain, 1))
	for _, try := range []string{a, withoutTag(a)} {
		for i, p := range n.people {
			if slices.Contains(p.addresses, try) {
				return fmt.Sprint("p", i)
			}
		}
		for i, g := range n.groups {
			if slices.Contains(g.addresses, try) {
				return fmt.Sprint("g", i)
			}
		}
	}
	return ""
}

func withoutTag(a string) string {
	local, domain, _ := strings.Cut(a, "@")
	local, _, _ = strings.Cut(local, "+")
	return local + "@" + domain
}

func isInside(a string) bool {
	return strings.HasSuffix(a, insideDomain) || strings.HasSuffix(a, "@alias.example")
}

func index(who string) int {
	var i int
	_, _ = fmt.Sscan(who[1:], &i)
	return i
}

// membership returns the index of the entry that counts for a person.
func (n *naiveEstate) membership(group int, who string) int {
	for i, e := range n.groups[group].entries {
		if e.address != "" && n.lookUp(e.address) == who {
			return i
		}
	}
	p := n.people[index(who)]
	if !isInside(p.addresses[0]) {
		return -1
	}
	for i, e := range n.groups[group].entries {
		if e.everyone || e.attr != "" && p.attributes[e.attr] == e.value {
			return i
		}
	}
	return -1
}

// isMember says whether who is a member of a group, through any nesting.
func (n *naiveEstate) isMember(group int, who string, seen map[int]bool) bool {
	if who == "" || seen[group] {
		return false
	}
	seen[group] = true
	if who[0] == 'p' && n.membership(group, who) >= 0 {
		return true
	}
	for _, e := range n.groups[group].entries {
		nested := n.lookUp(e.address)
		if e.address == "" || nested == "" || nested[0] != 'g' {
			continue
		}
		if nested == who || n.isMember(index(nested), who, seen) {
			return true
		}
	}
	return false
}

func (n *naiveEstate) isListed(list []string, who string) bool {
	for _, a := range list {
		other := n.lookUp(a)
		if other == "" || who == "" {
			continue
		}
		if other == who || other[0] == 'g' && n.isMember(index(other), who, map[int]bool{}) {
			return true
		}
	}
	return false
}

func (n *naiveEstate) judge(group int, from string, m Message) (string, int) {
	g := n.groups[group]
	if g.kind == "roster" {
		return "refuse", 0
	}
	if g.gate == nil {
		if isInside(from) && !m.Unproven {
			return "admit", 1
		}
		return "refuse", 0
	}
	for i, rule := range g.gate {
		if rule.who.holds(n, group, from, m) {
			return rule.verdict, i + 1
		}
	}
	return "refuse", 0
}

// post is judge after the edge, and the rule of that.
func (n *naiveEstate) post(group int, from string, m Message) (verdict string, rule, edge int) {
	for i, rule := range n.edge {
		if rule.who.holds(n, -1, from, m) {
			return rule.verdict, 0, i + 1
		}
	}
	verdict, rule = n.judge(group, from, m)
	return verdict, rule, 0
}

// naiveWay is one path to a group: its groups, and the entries that lead on.
type naiveWay struct {
	groups  []int
	entries []int
	state   int
}

func compareWays(a, b naiveWay) int {
	if c := cmp.Compare(a.state, b.state); c != 0 {
		return c
	}
	if c := cmp.Compare(len(a.groups), len(b.groups)); c != 0 {
		return c
	}
	return slices.Compare(a.entries, b.entries)
}

// paths returns all paths without a repeated group.
func (n *naiveEstate) paths(path naiveWay, from *string, m Message) []naiveWay {
	all := []naiveWay{path}
	last := path.groups[len(path.groups)-1]
	if n.groups[last].kind == "mailbox" {
		return all
	}
	for i, e := range n.groups[last].entries {
		nested := n.lookUp(e.address)
		if e.address == "" || nested == "" || nested[0] != 'g' || e.copy == "none" || slices.Contains(path.groups, index(nested)) {
			continue
		}
		next := naiveWay{append(slices.Clone(path.groups), index(nested)), append(slices.Clone(path.entries), i), path.state}
		if from != nil && !n.open && n.groups[index(nested)].kind != "roster" {
			switch verdict, _ := n.judge(index(nested), *from, m); verdict {
			case "hold":
				next.state = max(next.state, 1)
			case "refuse", "drop":
				next.state = 2
			}
		}
		all = append(all, n.paths(next, from, m)...)
	}
	return all
}

// copyOf returns what a membership wants.
func (n *naiveEstate) copyOf(group int, e naiveEntry, who string, from *string, m Message) string {
	g := n.groups[group]
	want := e.copy
	if want == "" && !isInside(n.people[index(who)].addresses[0]) {
		want = g.outsideCopy
	}
	if want == "" {
		want = g.copy
	}
	if want == "" {
		want = "every"
	}
	if e.paused || from != nil && g.noEcho && n.lookUp(*from) == who {
		return "none"
	}
	if !m.Invitation {
		return want
	}
	invitations := e.invitations
	if invitations == "" {
		invitations = g.invitations
	}
	if invitations == "every" || (invitations == "" || invitations == "follow") && want == "every" {
		return "every"
	}
	return "none"
}

// receive returns a line for everyone with an outcome: address, outcome, via.
func (n *naiveEstate) receive(group int, from *string, m Message) []string {
	best := map[int]naiveWay{}
	for _, path := range n.paths(naiveWay{groups: []int{group}}, from, m) {
		last := path.groups[len(path.groups)-1]
		if old, ok := best[last]; !ok || compareWays(path, old) < 0 {
			best[last] = path
		}
	}
	var order []naiveWay
	for _, path := range best {
		order = append(order, path)
	}
	slices.SortFunc(order, compareWays)
	ranks := []string{"inbox", "digest", "waiting", "archive", "nothing", "stopped"}
	outcome, via := map[string]string{}, map[string]naiveWay{}
	give := func(address, o string, path naiveWay) {
		old, ok := outcome[address]
		if !ok || slices.Index(ranks, o) < slices.Index(ranks, old) {
			outcome[address], via[address] = o, path
		}
	}
	for _, path := range order {
		at := path.groups[len(path.groups)-1]
		g := n.groups[at]
		for i := range n.people {
			who := fmt.Sprint("p", i)
			o := ""
			if g.kind == "mailbox" {
				if n.isMember(at, who, map[int]bool{}) {
					o = "archive"
				}
			} else if e := n.membership(at, who); e >= 0 {
				switch n.copyOf(at, g.entries[e], who, from, m) {
				case "every":
					o = "inbox"
				case "digest":
					o = "digest"
				default:
					o = map[string]string{"forum": "archive", "list": "nothing", "roster": "nothing"}[g.kind]
				}
			}
			if o == "" {
				continue
			}
			if o != "nothing" && path.state > 0 {
				o = []string{"", "waiting", "stopped"}[path.state]
			}
			give(n.people[i].addresses[0], o, path)
		}
		for _, e := range g.entries {
			if e.address != "" && isInside(e.address) && n.lookUp(e.address) == "" {
				if _, ok := outcome[e.address]; !ok {
					outcome[e.address], via[e.address] = "undeliverable", path
				}
			}
		}
	}
	var lines []string
	for address, o := range outcome {
		if who := n.lookUp(address); who != "" && (o == "inbox" || o == "digest") && n.people[index(who)].mailbox != "open" {
			o = "undeliverable"
		}
		var chain []string
		for _, g := range via[address].groups {
			chain = append(chain, n.groups[g].addresses[0])
		}
		lines = append(lines, address+" "+o+" "+strings.Join(chain, ">"))
	}
	slices.Sort(lines)
	return lines
}

// build makes the estate of package estate.
func (n *naiveEstate) build(t *testing.T) *estate.Estate {
	t.Helper()
	rule := func(rule naiveRule, scope selector.Scope) estate.GateRule {
		x, err := selector.Parse(rule.who.text, scope)
		if err != nil {
			t.Fatalf("%s: %v", rule.who.text, err)
		}
		return estate.NewGateRule(selector.Rule{Head: rule.verdict, Selector: x, Text: rule.verdict + " " + rule.who.text}, estate.Place{})
	}
	var edge []estate.GateRule
	for _, one := range n.edge {
		edge = append(edge, rule(one, selector.ForEdge))
	}
	b := estate.NewBuilder(estate.Settings{
		Edge:            edge,
		Files:           []string{"random.yaml"},
		Domains:         []estate.Domain{{Name: "in.example"}, {Name: "alias.example", SameAs: "in.example"}},
		Subaddress:      "+",
		OpenNestedGates: n.open,
	})
	must := func(a string) address.Address { return address.MustParse(a) }
	also := func(list []string) ([]address.Address, []estate.Place) {
		var parsed []address.Address
		for _, a := range list[1:] {
			parsed = append(parsed, must(a))
		}
		return parsed, make([]estate.Place, len(parsed))
	}
	for _, g := range n.groups {
		others, places := also(g.addresses)
		group := estate.Group{Address: must(g.addresses[0]), Also: others, NoEcho: g.noEcho}
		group.Kind, _ = estate.WordIndex[estate.Kind](estate.KindWords(), g.kind)
		group.Copy, _ = estate.WordIndex[estate.Copy](estate.CopyWords(), g.copy)
		group.OutsideCopy, _ = estate.WordIndex[estate.Copy](estate.CopyWords(), g.outsideCopy)
		group.Invitations, _ = estate.WordIndex[estate.Invitations](estate.InvitationsWords(), g.invitations)
		if g.gate != nil {
			group.Gate = []estate.GateRule{}
		}
		for _, one := range g.gate {
			group.Gate = append(group.Gate, rule(one, selector.ForMessages))
		}
		b.AddGroup(group, places)
	}
	for _, p := range n.people {
		others, places := also(p.addresses)
		var attributes []estate.Attribute
		for attr, value := range p.attributes {
			attributes = append(attributes, estate.Attribute{Name: attr, Value: value})
		}
		person := estate.Person{Address: must(p.addresses[0]), Also: others}
		person.Mailbox, _ = estate.WordIndex[estate.MailboxState](estate.MailboxWords(), p.mailbox)
		b.AddPerson(person, attributes, places)
	}
	for i, g := range n.groups {
		id := estate.ID(i)
		for _, a := range g.owners {
			b.AddOwner(id, must(a), estate.Place{})
		}
		for _, a := range g.moderators {
			b.AddModerator(id, must(a), estate.Place{})
		}
		for _, e := range g.entries {
			copy, _ := estate.WordIndex[estate.Copy](estate.CopyWords(), e.copy)
			invitations, _ := estate.WordIndex[estate.Invitations](estate.InvitationsWords(), e.invitations)
			if e.address != "" {
				b.AddEntry(id, b.Refer(must(e.address), id, "member", estate.Place{}),
					estate.Membership{Copy: copy, Invitations: invitations, Paused: e.paused, Since: estate.Day(e.since)}, estate.Place{})
				continue
			}
			rule := estate.MemberRule{Membership: estate.Membership{Copy: copy, Invitations: invitations}}
			if !e.everyone {
				rule.Filter, _ = selector.ParseFilter("(" + e.attr + "=" + e.value + ")")
			}
			b.AddRule(id, rule)
		}
	}
	e, problems := b.Build()
	if e == nil {
		t.Fatalf("the random estate has problems: %+v", problems)
	}
	return e
}

// randomEstate makes a small estate in which much of what can happen happens.
func randomEstate(random *rand.Rand) *naiveEstate {
	pick := func(words ...string) string { return words[random.IntN(len(words))] }
	chance := func(percent int) bool { return random.IntN(100) < percent }
	n := &naiveEstate{open: chance(20), today: 1000}
	for i := range 2 + random.IntN(6) {
		p := naivePerson{mailbox: pick("open", "open", "open", "full", "closed", "none"), attributes: map[string]string{}}
		p.addresses = []string{fmt.Sprintf("p%d%s", i, pick(insideDomain, insideDomain, insideDomain, "@out.example", "@sub.out.example"))}
		if chance(30) {
			p.addresses = append(p.addresses, fmt.Sprintf("also%d%s", i, pick(insideDomain, "@out.example")))
		}
		if chance(60) {
			p.attributes["post"] = pick("deck", "engine")
		}
		if chance(60) {
			p.attributes["base"] = pick("north", "south")
		}
		n.people = append(n.people, p)
	}
	groups := 1 + random.IntN(6)
	for i := range groups {
		g := naiveGroup{
			addresses:   []string{fmt.Sprintf("g%d%s", i, insideDomain)},
			kind:        pick("list", "list", "list", "forum", "mailbox", "roster"),
			copy:        pick("", "", "every", "digest", "replies", "none"),
			outsideCopy: pick("", "", "every", "digest", "none"),
			invitations: pick("", "follow", "every", "none"),
			noEcho:      chance(30),
		}
		if chance(30) {
			g.addresses = append(g.addresses, fmt.Sprintf("galso%d%s", i, insideDomain))
		}
		n.groups = append(n.groups, g)
	}
	anyone := func() string {
		if chance(30) {
			return fmt.Sprintf("g%d%s", random.IntN(groups), pick(insideDomain, "@alias.example"))
		}
		p := n.people[random.IntN(len(n.people))]
		a := p.addresses[random.IntN(len(p.addresses))]
		if chance(15) {
			a = strings.Replace(a, "@", "+tag@", 1)
		}
		if chance(10) {
			a = strings.Replace(a, insideDomain, "@alias.example", 1)
		}
		return a
	}
	for range random.IntN(3) {
		rule := naiveRule{pick("refuse", "drop"), randomSelector(random, n, 2, anyone)}
		if _, err := selector.Parse(rule.who.text, selector.ForEdge); err == nil && chance(60) {
			n.edge = append(n.edge, rule)
		}
	}
	for i := range n.groups {
		g := &n.groups[i]
		for range random.IntN(3) {
			g.owners = append(g.owners, anyone())
		}
		for range random.IntN(3) {
			g.moderators = append(g.moderators, anyone())
		}
		for range random.IntN(6) {
			e := naiveEntry{copy: pick("", "", "every", "digest", "replies", "none"), invitations: pick("", "", "follow", "every", "none")}
			switch roll := random.IntN(100); {
			case roll < 45:
				e.address = anyone()
				e.paused = chance(15)
				if chance(40) {
					e.since = n.today - random.IntN(30) + 5
				}
			case roll < 70:
				e.address = fmt.Sprintf("g%d%s", random.IntN(groups), insideDomain)
			case roll < 75:
				e.address = "nobody" + pick("1", "2") + insideDomain
			case roll < 90:
				e.attr, e.value = pick("post", "base"), pick("deck", "engine", "north", "south")
			default:
				e.everyone = true
			}
			if strings.HasPrefix(e.address, "g") { // a nested group
				e = naiveEntry{address: e.address, copy: pick("", "", "every", "none")}
			}
			g.entries = append(g.entries, e)
		}
		if chance(70) {
			g.gate = []naiveRule{}
			for range random.IntN(4) {
				g.gate = append(g.gate, naiveRule{pick("admit", "admit", "hold", "refuse", "drop"), randomSelector(random, n, 2, anyone)})
			}
		}
	}
	return n
}

// randomSelector makes a selector as text and as what it means.
func randomSelector(random *rand.Rand, n *naiveEstate, depth int, anyone func() string) naiveSelector {
	part := func() naiveSelector { return randomSelector(random, n, depth-1, anyone) }
	atom := func(text string, holds func(n *naiveEstate, group int, from string, m Message) bool) naiveSelector {
		return naiveSelector{text, holds}
	}
	if depth > 0 && random.IntN(3) == 0 {
		a, b := part(), part()
		switch random.IntN(3) {
		case 0:
			return atom("("+a.text+" or "+b.text+")", func(n *naiveEstate, g int, f string, m Message) bool {
				return a.holds(n, g, f, m) || b.holds(n, g, f, m)
			})
		case 1:
			return atom("("+a.text+" and "+b.text+")", func(n *naiveEstate, g int, f string, m Message) bool {
				return a.holds(n, g, f, m) && b.holds(n, g, f, m)
			})
		}
		return atom("not "+a.text, func(n *naiveEstate, g int, f string, m Message) bool { return !a.holds(n, g, f, m) })
	}
	inside := func(_ *naiveEstate, _ int, f string, m Message) bool { return isInside(f) && !m.Unproven }
	switch random.IntN(16) {
	case 0:
		return atom("anyone", func(*naiveEstate, int, string, Message) bool { return true })
	case 1:
		return atom("inside", inside)
	case 2:
		return atom("outside", func(n *naiveEstate, g int, f string, m Message) bool { return !inside(n, g, f, m) })
	case 3:
		return atom("known", func(n *naiveEstate, _ int, f string, _ Message) bool { return n.lookUp(f) != "" })
	case 4, 5:
		return atom("members", func(n *naiveEstate, g int, f string, _ Message) bool {
			return n.isMember(g, n.lookUp(f), map[int]bool{})
		})
	case 6:
		return atom("owners", func(n *naiveEstate, g int, f string, _ Message) bool {
			return n.isListed(n.groups[g].owners, n.lookUp(f))
		})
	case 7:
		return atom("moderators", func(n *naiveEstate, g int, f string, _ Message) bool {
			return n.isListed(n.groups[g].moderators, n.lookUp(f))
		})
	case 8:
		return atom("newcomers(14d)", func(n *naiveEstate, g int, f string, _ Message) bool {
			who := n.lookUp(f)
			if who == "" || who[0] == 'g' {
				return false
			}
			for _, e := range n.groups[g].entries {
				if e.address != "" && n.lookUp(e.address) == who {
					return e.since != 0 && n.today-e.since < 14
				}
			}
			return false
		})
	case 9:
		other := random.IntN(len(n.groups))
		return atom("in "+n.groups[other].addresses[0], func(n *naiveEstate, _ int, f string, _ Message) bool {
			return n.isMember(other, n.lookUp(f), map[int]bool{})
		})
	case 10:
		a := anyone()
		return atom(a, func(n *naiveEstate, _ int, f string, _ Message) bool { return n.lookUp(f) == n.lookUp(a) })
	case 11:
		return atom("@out.example", func(_ *naiveEstate, _ int, f string, _ Message) bool { return strings.HasSuffix(f, "@out.example") })
	case 12:
		return atom("@*.out.example", func(_ *naiveEstate, _ int, f string, _ Message) bool { return strings.HasSuffix(f, ".out.example") })
	case 13:
		return atom("where (post=deck)", func(n *naiveEstate, _ int, f string, _ Message) bool {
			who := n.lookUp(f)
			return who != "" && who[0] == 'p' && n.people[index(who)].attributes["post"] == "deck"
		})
	case 14:
		return atom("unproven", func(_ *naiveEstate, _ int, _ string, m Message) bool { return m.Unproven })
	}
	return atom("invitation", func(_ *naiveEstate, _ int, _ string, m Message) bool { return m.Invitation })
}

// TestRandomEstates compares verdicts, outcomes and paths of a few thousand
// estates with what the plain implementation says.
func TestRandomEstates(t *testing.T) {
	estates := campaign.Rounds(1500, 4000)
	if testing.Short() {
		estates = 400
	}
	for seed := range estates {
		random := rand.New(rand.NewPCG(uint64(seed), 7))
		n := randomEstate(random)
		r := New(n.build(t), estate.Day(n.today))
		senders := []string{"stranger@elsewhere.example", "unknown" + insideDomain}
		for _, p := range n.people {
			senders = append(senders, p.addresses...)
		}
		for _, g := range n.groups {
			senders = append(senders, g.addresses...)
		}
		prints := map[Fingerprint]string{}
		for group := range n.groups {
			for range 4 {
				from := senders[random.IntN(len(senders))]
				m := Message{Unproven: random.IntN(4) == 0, Invitation: random.IntN(3) == 0}
				s := r.Sender(address.MustParse(from))
				verdict, rule := n.judge(group, from, m)
				got := r.Gate(estate.ID(group)).Judge(s, m)
				if got.Verdict.String() != verdict || got.Rule != rule {
					t.Fatalf("estate %d: %s to g%d, %+v: %v rule %d, want %s rule %d", seed, from, group, m, got.Verdict, got.Rule, verdict, rule)
				}
				verdict, rule, edge := n.post(group, from, m)
				if got := r.Gate(estate.ID(group)).Post(s, m); got != (Decision{got.Verdict, rule, edge}) || got.Verdict.String() != verdict {
					t.Fatalf("estate %d: %s posts to g%d, %+v: %+v, want %s, rule %d, edge %d", seed, from, group, m, got, verdict, rule, edge)
				}
				compareDelivery(t, fmt.Sprintf("estate %d: %s to g%d, %+v", seed, from, group, m),
					outcomesOf(r.Deliver(Query{Group: estate.ID(group), Sender: &s, Message: m}), r), n.receive(group, &from, m))
			}
			m := Message{Invitation: random.IntN(2) == 0}
			compareDelivery(t, fmt.Sprintf("estate %d: nobody to g%d, %+v", seed, group, m),
				outcomesOf(r.Deliver(Query{Group: estate.ID(group), Message: m}), r), n.receive(group, nil, m))
			compareOverview(t, r, estate.ID(group))
			compareFingerprint(t, r, prints, estate.ID(group))
			compareSets(t, r, estate.ID(group), Message{Unproven: random.IntN(3) == 0, Invitation: random.IntN(3) == 0})
		}
	}
}

// outcomesOf writes a delivery as the plain implementation does.
func outcomesOf(d *Delivery, r *Resolver) []string {
	var lines []string
	for _, recipient := range d.Recipients() {
		var chain []string
		for _, g := range d.Via(recipient) {
			chain = append(chain, r.e.Address(g).String())
		}
		lines = append(lines, r.e.Address(recipient.ID).String()+" "+recipient.Outcome.String()+" "+strings.Join(chain, ">"))
	}
	return lines
}

func compareDelivery(t *testing.T, name string, got, want []string) {
	t.Helper()
	if !slices.IsSorted(got) {
		t.Fatalf("%s: the recipients are not sorted: %v", name, got)
	}
	if !slices.Equal(got, want) {
		t.Fatalf("%s:\n got %s\nwant %s", name, strings.Join(got, "\n     "), strings.Join(want, "\n     "))
	}
}

// compareOverview checks the counts of a group, and the paths of each person,
// against what is delivered.
func compareOverview(t *testing.T, r *Resolver, group estate.ID) {
	t.Helper()
	o := r.Overview(group)
	var receives [Undeliverable + 1]int
	d := r.Deliver(Query{Group: group})
	for _, recipient := range d.Recipients() {
		receives[recipient.Outcome]++
	}
	var posters [estate.Drop + 1]int
	for _, id := range r.e.PeopleByAddress() {
		posters[r.Gate(group).Post(r.Sender(r.e.Address(id)), Message{}).Verdict]++
		follow := r.Deliver(Query{Group: group})
		candidates := follow.To(id)
		for _, c := range candidates {
			if !c.Decides {
				continue
			}
			i := slices.IndexFunc(d.Recipients(), func(x Recipient) bool { return x.ID == id })
			if i < 0 || d.Recipients()[i].Outcome != c.Outcome || !slices.Equal(d.Via(d.Recipients()[i]), d.Chain(c.Path)) {
				t.Fatalf("%s gets %s of %s, and otherwise %+v", r.e.Address(id), c.Outcome, r.e.Address(group), d.Recipients())
			}
			if got, want := follow.Reason(c.recipient), d.Reason(d.Recipients()[i]); got != want {
				t.Fatalf("%s gets %s of %s for %+v, and followed alone for %+v", r.e.Address(id), c.Outcome, r.e.Address(group), want, got)
			}
		}
		outcome, has := r.Flow(group, Message{}).Best(id)
		i := slices.IndexFunc(d.Recipients(), func(x Recipient) bool { return x.ID == id })
		if has != (i >= 0) || has && outcome != d.Recipients()[i].Outcome || !has && outcome != Nothing {
			t.Fatalf("%s has a receipt of %s, %s: %t", r.e.Address(id), r.e.Address(group), outcome, has)
		}
		if gets := slices.ContainsFunc(d.Recipients(), func(x Recipient) bool { return x.ID == id }); gets != (len(candidates) > 0) {
			t.Fatalf("%s is a recipient of %s: %t, by %d ways", r.e.Address(id), r.e.Address(group), gets, len(candidates))
		}
	}
	if some := slices.ContainsFunc(d.Recipients(), func(x Recipient) bool { return r.e.IsPerson(x.ID) }); len(r.Flow(group, Message{}).Outcomes()) > 0 != some {
		t.Fatalf("%s reaches somebody: %t, want %t", r.e.Address(group), !some, some)
	}
	forged, open := 0, r.Gate(group).Post(r.Strangers().Outside, Message{}).Verdict == estate.Admit
	claim := func(s Sender) {
		worth := !open || r.e.InsideDomain(s.Address.Domain()) // who claims an address outside gains nothing where all are let in
		if worth && r.Gate(group).Post(s, Message{Unproven: true}).Verdict == estate.Admit {
			forged++
		}
	}
	for id := range estate.ID(r.e.Groups() + r.e.People()) {
		claim(r.Sender(r.e.Address(id)))
	}
	for _, s := range r.Gate(group).Claims() {
		claim(s)
	}
	if o.ForgedKnown != forged {
		t.Fatalf("%s admits %d forged senders, want %d", r.e.Address(group), o.ForgedKnown, forged)
	}
	approvers, _ := r.Approvers(group)
	if o.Receives != receives || o.Posters != posters || o.Approves != len(approvers) || o.SendsAs != len(r.Rights(group).Delegates().People) {
		t.Fatalf("%s at a glance is %+v, want posters %v, receives %v", r.e.Address(group), o, posters, receives)
	}
}

// compareFingerprint checks that groups with one fingerprint are of one kind and give
// everybody the same by the same paths, and that others are not. known has what stands
// behind those of the groups before.
func compareFingerprint(t *testing.T, r *Resolver, known map[Fingerprint]string, group estate.ID) {
	t.Helper()
	d := r.Deliver(Query{Group: group})
	gets := r.e.Group(group).Kind.String()
	for _, recipient := range d.Recipients() {
		if !r.e.IsPerson(recipient.ID) {
			continue
		}
		// What a mailbox that does not work makes of it is the same for all groups.
		wanted := d.Reason(recipient)
		gets += fmt.Sprintln(recipient.ID, outcomes(r.e.Group(wanted.Group).Kind, wanted.Copy, wanted.Way), wanted.Shared, d.Via(recipient)[1:])
	}
	made := r.Flow(group, Message{}).Fingerprint()
	for other, text := range known {
		if (other == made) != (text == gets) {
			t.Fatalf("%s has the fingerprint %v, another has %v:\n%s\n%s", r.e.Address(group), made, other, gets, text)
		}
	}
	known[made] = gets
}

// compareSets checks that what is worked out for all senders at once is what is
// worked out for each.
func compareSets(t *testing.T, r *Resolver, group estate.ID, m Message) {
	t.Helper()
	for _, class := range r.Gate(group).Posters(m) {
		for id := range estate.ID(r.e.Groups() + r.e.People()) {
			s := r.Sender(r.e.Address(id))
			if got := r.Gate(group).Post(s, m); (got == class.Decision) != class.Senders.Contains(uint32(id)) {
				t.Fatalf("%s to %s, %+v: %+v, but the set of %+v has it: %t", s.Address, r.e.Address(group), m, got, class.Decision, class.Senders.Contains(uint32(id)))
			}
		}
	}
	members := r.Members(group)
	for id := range estate.ID(r.e.Groups() + r.e.People()) {
		if _, related := r.Lineage(group, id); r.isMember(group, id) != members.Contains(uint32(id)) || related != r.isMember(group, id) {
			t.Fatalf("%s in %s: %t, in the set: %t, has a lineage: %t", r.e.Address(id), r.e.Address(group), r.isMember(group, id), members.Contains(uint32(id)), related)
		}
	}
}
