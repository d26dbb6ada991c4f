package resolve

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// builder makes estates for tests in few words. Everything is in kelp.example.
type builder struct {
	t *testing.T
	b *estate.Builder
}

func newBuilder(t *testing.T) *builder {
	return &builder{t, estate.NewBuilder(estate.Settings{Files: []string{"test.yaml"}, Domains: []estate.Domain{{Name: "kelp.example"}}, Subaddress: "+"})}
}

func at(local string) address.Address {
	if strings.Contains(local, "@") {
		return address.MustParse(local)
	}
	return address.MustParse(local + "@kelp.example")
}

// group adds a group with rules such as "admit inside"; none: the default gate.
func (b *builder) group(local string, kind estate.Kind, rules ...string) estate.ID {
	b.t.Helper()
	g := estate.Group{Address: at(local), Kind: kind}
	for i, text := range rules {
		rule, err := selector.ParseRule(text, estate.VerdictWords(), selector.ForMessages)
		if err != nil {
			b.t.Fatal(err)
		}
		verdict, _ := estate.WordIndex[estate.Verdict](estate.VerdictWords(), rule.Head)
		g.Gate = append(g.Gate, estate.GateRule{Verdict: verdict, Selector: rule.Selector, Because: rule.Because, Text: text,
			Place: estate.Place{Line: uint32(i + 1), Column: 1}})
	}
	return b.b.AddGroup(g, nil)
}

func (b *builder) person(local string) estate.ID {
	return b.b.AddPerson(estate.Person{Address: at(local)}, nil, nil)
}

func (b *builder) member(group estate.ID, local string, m estate.Membership) {
	b.b.AddEntry(group, b.b.Refer(at(local), group, "member", estate.Place{Line: 9, Column: 3}), m, estate.Place{Line: 9, Column: 3})
}

func (b *builder) resolver(today estate.Day) *Resolver {
	b.t.Helper()
	e, problems := b.b.Build()
	if e == nil {
		b.t.Fatalf("problems: %+v", problems)
	}
	return New(e, today)
}

func TestNewcomers(t *testing.T) {
	const today = estate.Day(1000)
	for _, c := range []struct {
		since estate.Day
		want  bool
	}{
		{0, false}, // it does not say since when
		{today - 15, false}, {today - 14, false}, {today - 13, true}, {today, true},
		{today + 100, true}, // in the future
	} {
		b := newBuilder(t)
		g := b.group("desk", estate.List, "admit newcomers(14d)")
		b.person("ada")
		b.member(g, "ada", estate.Membership{Since: c.since})
		b.member(g, "ada", estate.Membership{Since: today}) // the first entry counts
		r := b.resolver(today)
		got := r.Gate(g).Judge(r.Sender(at("ada")), Message{}).Rule == 1
		inSet := !r.Gate(g).Posters(Message{})[1].Senders.IsEmpty()
		if got != c.want || inSet != c.want {
			t.Errorf("since %d days before: %t, in the set %t; want %t", today-c.since, got, inSet, c.want)
		}
	}
}

func TestMessageAtoms(t *testing.T) {
	b := newBuilder(t)
	g := b.group("desk", estate.List, "drop suspect", "refuse automatic", "hold larger(10MB)", "refuse invitation and unproven", "admit nobody or anyone")
	b.person("ada")
	r := b.resolver(1)
	for _, c := range []struct {
		m       Message
		rule    int
		verdict estate.Verdict
	}{
		{Message{}, 5, estate.Admit},
		{Message{Suspect: true, Automatic: true}, 1, estate.Drop},
		{Message{Automatic: true}, 2, estate.Refuse},
		{Message{Size: 10_000_000}, 5, estate.Admit}, // strictly larger
		{Message{Size: 10_000_001}, 3, estate.Hold},
		{Message{Invitation: true, Unproven: true}, 4, estate.Refuse},
		{Message{Invitation: true}, 5, estate.Admit},
	} {
		s := r.Sender(at("ada"))
		if got := r.Gate(g).Judge(s, c.m); got != (Decision{Verdict: c.verdict, Rule: c.rule}) {
			t.Errorf("%+v: %+v, want rule %d", c.m, got, c.rule)
		}
		trace := r.Gate(g).Trace(s, c.m)
		if last := trace[len(trace)-1]; last.Rule != c.rule || !last.Matched || len(last.Answers) == 0 {
			t.Errorf("%+v: the trace ends with %+v", c.m, last)
		}
		if classes := r.Gate(g).Posters(c.m); classes[c.rule].Senders.GetCardinality() != 2 {
			t.Errorf("%+v: rule %d decides for %d, want the group and the person", c.m, c.rule, classes[c.rule].Senders.GetCardinality())
		}
	}
}

func TestRosterTakesNoMail(t *testing.T) {
	b := newBuilder(t)
	g := b.group("set", estate.Roster, "admit anyone")
	b.person("ada")
	b.member(g, "ada", estate.Membership{})
	r := b.resolver(1)
	s := r.Sender(at("ada"))
	if got := r.Gate(g).Judge(s, Message{}); got != (Decision{Verdict: estate.Refuse}) || r.Gate(g).Trace(s, Message{}) != nil {
		t.Errorf("mail to a roster: %+v", got)
	}
	if classes := r.Gate(g).Posters(Message{}); len(classes) != 1 || classes[0].Senders.GetCardinality() != 2 {
		t.Errorf("posters of a roster: %v", classes)
	}
	if d := r.Deliver(Query{Group: g, Sender: &s}); len(d.Recipients()) != 1 || d.Recipients()[0].Outcome != Inbox {
		t.Errorf("its people: %+v", d.Recipients())
	}
}

func TestStrangers(t *testing.T) {
	b := newBuilder(t)
	b.group("desk", estate.List, "admit @outside.example or @*.invalid or x@outside-2.example", "hold @*.example")
	b.person("no-such-stranger")
	r := b.resolver(1)
	s := r.Strangers()
	if got := s.Inside.Address.String(); got != "no-such-stranger-2@kelp.example" || !s.Inside.Inside || s.Inside.ID != estate.None {
		t.Errorf("the inside stranger is %s", got)
	}
	// Everything below example and invalid is named.
	if got := s.Outside.Address.String(); got != "no-such-stranger@outside.test" || s.Outside.Inside || s.Outside.ID != estate.None {
		t.Errorf("the outside stranger is %s", got)
	}
	all := newBuilder(t)
	all.group("desk", estate.List, "admit @*.example or @*.invalid or @*.test")
	if got := all.resolver(1).Strangers().Outside.Address.String(); got != "no-such-stranger@outside.stranger-1" {
		t.Errorf("where all reserved names are named, the outside stranger is %s", got)
	}
}

// The exact address of nobody, named in a selector, is true for whoever claims
// it, and its subaddress is not.
func TestUnknownAddresses(t *testing.T) {
	b := newBuilder(t)
	g := b.group("desk", estate.List, "admit ghost@kelp.example", "hold bob@out.example", "drop known")
	r := b.resolver(1)
	for _, c := range []struct {
		from string
		rule int
	}{
		{"Ghost", 1}, {"ghost+tag", 0}, {"bob@OUT.example", 2}, {"bob+tag@out.example", 0}, {"desk+tag", 3}, {"else", 0},
	} {
		if got := r.Gate(g).Judge(r.Sender(at(c.from)), Message{}); got.Rule != c.rule {
			t.Errorf("from %s: rule %d, want %d", c.from, got.Rule, c.rule)
		}
	}
}

func TestApproversAndSendAs(t *testing.T) {
	b := newBuilder(t)
	desk := b.group("desk", estate.List, "hold anyone")
	empty := b.group("empty", estate.Roster)
	crew := b.group("crew", estate.Roster)
	ada, bo := b.person("ada"), b.person("bo")
	b.member(crew, "ada", estate.Membership{})
	b.member(crew, "bo", estate.Membership{Paused: true})
	b.b.AddModerator(desk, at("empty"), estate.Place{})
	b.b.AddModerator(desk, at("ghost"), estate.Place{})
	b.b.AddOwner(desk, at("crew"), estate.Place{})
	b.b.AddOwner(desk, at("ada"), estate.Place{})
	r := b.resolver(1)
	// Moderators that amount to no person count as none.
	if people, owners := r.Approvers(desk); !slices.Equal(people, []estate.ID{ada, bo}) || !owners {
		t.Errorf("the approvers are %v, owners: %t", people, owners)
	}
	if people, _ := r.Approvers(empty); people != nil {
		t.Errorf("a group without anybody has the approvers %v", people)
	}
	for _, c := range []struct {
		from string
		want bool
	}{{"ada", true}, {"bo", true}, {"crew", true}, {"desk", false}, {"ghost", false}} {
		x, _ := selector.Parse("owners", selector.ForPeople)
		s := r.Sender(at(c.from))
		if got := r.Eval(desk, x, s, Message{}); got != c.want {
			t.Errorf("%s is an owner: %t, want %t", c.from, got, c.want)
		}
		if s.ID != estate.None && r.Set(desk, x, Message{}).Contains(uint32(s.ID)) != c.want {
			t.Errorf("%s is in the set of owners: %t, want %t", c.from, !c.want, c.want)
		}
	}
}

func TestSendAs(t *testing.T) {
	b := newBuilder(t)
	as, _ := selector.Parse("owners", selector.ForPeople)
	forMembers, _ := selector.Parse("members", selector.ForPeople)
	g := b.b.AddGroup(estate.Group{Address: at("desk"), SendAs: []estate.SendAsRule{
		{SendAs: estate.AsGroup, Selector: as}, {SendAs: estate.ForGroup, Selector: forMembers}}}, nil)
	b.person("ada")
	b.person("bo")
	b.person("cy")
	b.b.AddOwner(g, at("ada"), estate.Place{})
	b.member(g, "ada", estate.Membership{})
	b.member(g, "bo", estate.Membership{})
	r := b.resolver(1)
	for from, want := range map[string]estate.SendAs{"ada": estate.AsGroup, "bo": estate.ForGroup, "cy": estate.NoSendAs} {
		if got, rule := r.Rights(g).SendAs(r.Sender(at(from))); got != want || rule != map[estate.SendAs]int{estate.AsGroup: 1, estate.ForGroup: 2, estate.NoSendAs: 0}[want] {
			t.Errorf("%s may send %q by rule %d, want %q", from, got, rule, want)
		}
	}
}

func TestReasons(t *testing.T) {
	b := newBuilder(t)
	top := b.b.AddGroup(estate.Group{Address: at("top"), Copy: estate.CopyDigest, OutsideCopy: estate.CopyNone, NoEcho: true,
		Given: []estate.Given{{Setting: "copy", Place: estate.Place{Line: 4, Column: 5}}}}, nil)
	shelf := b.group("shelf", estate.Mailbox)
	b.person("ada")
	b.person("bo")
	b.b.AddPerson(estate.Person{Address: at("full"), Mailbox: estate.MailboxFull}, nil, nil)
	b.person("ruled")
	b.person("echo")
	b.person("reader")
	b.member(top, "ada", estate.Membership{Copy: estate.CopyEvery})
	b.member(top, "bo", estate.Membership{Paused: true})
	b.member(top, "out@out.example", estate.Membership{})
	b.member(top, "full", estate.Membership{})
	b.member(top, "echo", estate.Membership{})
	b.member(top, "ghost", estate.Membership{})
	b.member(top, "shelf", estate.Membership{})
	b.member(shelf, "ruled", estate.Membership{Copy: estate.CopyNone})
	filter, _ := selector.ParseFilter("(address=reader@*)")
	b.b.AddRule(top, estate.MemberRule{Filter: filter, Membership: estate.Membership{Copy: estate.CopyReplies}, Place: estate.Place{Line: 7}})
	r := b.resolver(1)
	s := r.Sender(at("echo"))
	d := r.Deliver(Query{Group: top, Sender: &s})
	want := map[string]struct {
		outcome Outcome
		check   func(Reason) bool
	}{
		"ada": {Inbox, func(x Reason) bool {
			return x.Source == FromMembership && x.Copy == estate.CopyEvery && x.Listed.Line == 9
		}},
		"bo":              {Nothing, func(x Reason) bool { return x.Muting == MutedPaused }},
		"out@out.example": {Nothing, func(x Reason) bool { return x.Source == FromOutsideCopy && x.Written == estate.CopyNone }},
		"full":            {Undeliverable, func(x Reason) bool { return x.Mailbox == estate.MailboxFull && x.Source == FromGroup }},
		"echo":            {Nothing, func(x Reason) bool { return x.Muting == MutedEcho && x.Written == estate.CopyDigest }},
		"ghost":           {Undeliverable, func(x Reason) bool { return x.Nobody && x.Listed.Line == 9 }},
		"ruled":           {Archive, func(x Reason) bool { return x.Shared && x.Group == shelf }},
		"reader":          {Nothing, func(x Reason) bool { return x.Rule && x.Listed.Line == 7 && x.Written == estate.CopyReplies }},
	}
	if len(d.Recipients()) != len(want) {
		t.Errorf("%d recipients, want %d", len(d.Recipients()), len(want))
	}
	for _, recipient := range d.Recipients() {
		name := strings.TrimSuffix(r.Estate().Address(recipient.ID).String(), "@kelp.example")
		reason := d.Reason(recipient)
		if recipient.Outcome != want[name].outcome || !want[name].check(reason) {
			t.Errorf("%s: %s for %+v", name, recipient.Outcome, reason)
		}
	}
	if place := r.Estate().Group(top).Where("copy"); place.Line != 4 {
		t.Errorf("copy is said at %+v", place)
	}
	invited := r.Deliver(Query{Group: top, Message: Message{Invitation: true}})
	for _, recipient := range invited.Recipients() {
		if name := r.Estate().Address(recipient.ID).String(); name == "echo@kelp.example" && recipient.Outcome != Nothing {
			t.Errorf("an invitation, with copy digest: %s", recipient.Outcome)
		}
	}
}

// A group that is reached by several paths has the best: open before waiting
// before stopped, then the shorter, and then by the order of the entries.
func TestWays(t *testing.T) {
	b := newBuilder(t)
	top := b.group("top", estate.List, "admit anyone")
	b.group("holds", estate.List, "hold anyone")
	b.group("stops", estate.List, "drop anyone")
	b.group("long", estate.List, "admit anyone")
	b.group("leaf", estate.List, "admit anyone")
	b.group("behind", estate.List, "admit anyone")
	b.group("shut", estate.List, "refuse anyone")
	last := b.group("last", estate.List, "admit anyone")
	b.person("ada")
	for _, nesting := range [][2]string{
		{"top", "holds"}, {"top", "stops"}, {"top", "long"}, {"holds", "leaf"}, {"long", "leaf"}, {"holds", "behind"}, {"holds", "shut"}, {"stops", "last"}, {"last", "top"},
	} {
		id, _ := b.b.Find(at(nesting[0]))
		b.member(id, nesting[1], estate.Membership{})
	}
	b.member(last, "ada", estate.Membership{})
	r := b.resolver(1)
	s := r.Sender(at("x@out.example"))
	d := r.Deliver(Query{Group: top, Sender: &s})
	var got []string
	for _, path := range d.Paths {
		var names []string
		for _, g := range d.Chain(path) {
			names = append(names, r.e.Address(g).Local())
		}
		before := ""
		if id := d.Before(path); id != estate.None {
			before = r.e.Address(id).Local()
		}
		culprit, decision, bad := d.Hindrance(path)
		line := path.State.String() + " " + strings.Join(names, ">") + " after " + before
		if bad {
			line += fmt.Sprintf(" by %s rule %d", r.e.Address(culprit).Local(), decision.Rule)
		}
		got = append(got, line)
	}
	want := []string{
		"open top after ",
		"open top>long after top",
		"open top>long>leaf after long",
		"waiting top>holds after top by holds rule 1",
		"waiting top>holds>behind after holds by holds rule 1",
		"stopped top>stops after top by stops rule 1",
		"stopped top>holds>shut after holds by shut rule 1",
		"stopped top>stops>last after stops by stops rule 1",
	}
	if !slices.Equal(got, want) {
		t.Errorf("the ways are\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if len(d.Recipients()) != 1 || d.Recipients()[0].Outcome != Stopped || d.Path(d.Recipients()[0]).Group != last {
		t.Errorf("the recipients are %+v", d.Recipients())
	}
	chains := d.Chains(func(id estate.ID) string { return r.e.Address(id).Local() })
	for range 2 {
		for _, path := range slices.Backward(d.Paths) {
			var names []string
			for _, g := range d.Chain(path) {
				names = append(names, r.e.Address(g).Local())
			}
			if got := chains.Of(path); !slices.Equal(got, names) {
				t.Errorf("the chain of %v is named %v", names, got)
			}
		}
	}
}

// Groups nested ten thousand deep, with a ring at the end, take no time and no
// stack.
func TestDeepNesting(t *testing.T) {
	const depth = 10000
	b := newBuilder(t)
	for i := range depth {
		b.group(fmt.Sprint("g", i), estate.List, "admit members or @out.example")
	}
	b.person("ada")
	for i := range depth {
		b.member(estate.ID(i), fmt.Sprint("g", (i+1)%depth), estate.Membership{})
		b.member(estate.ID(i), fmt.Sprintf("p%d@out.example", i), estate.Membership{})
	}
	b.member(depth-1, "ada", estate.Membership{})
	r := b.resolver(1)
	s := r.Sender(at("ada"))
	d := r.Deliver(Query{Group: 0, Sender: &s})
	if len(d.Paths) != depth || len(d.Recipients()) != depth+1 || d.Recipients()[0].Outcome != Inbox {
		t.Fatalf("%d ways and %d recipients", len(d.Paths), len(d.Recipients()))
	}
	if via := d.Via(d.Recipients()[0]); len(via) != depth || via[depth-1] != depth-1 {
		t.Errorf("the way to the last group has %d steps", len(via))
	}
	if got := r.Members(0).GetCardinality(); got != 2*depth+1 {
		t.Errorf("the first group has %d members, want %d", got, 2*depth+1)
	}
	if lineage, ok := r.Lineage(0, s.ID); !ok || len(lineage.Groups) != depth {
		t.Errorf("the lineage has %d groups", len(lineage.Groups))
	}
	total := 0
	chains := d.Chains(func(estate.ID) string { return "g" })
	for _, recipient := range d.Recipients() {
		total += len(chains.Of(d.Path(recipient)))
	}
	if total < depth*depth/2 {
		t.Errorf("the chains have %d steps in all", total)
	}
}

func TestFilterSets(t *testing.T) {
	b := newBuilder(t)
	desk := b.group("desk", estate.List)
	for i, attributes := range [][]estate.Attribute{
		{{Name: "post", Value: "deck"}, {Name: "years", Value: "3"}}, {{Name: "post", Value: "deck"}}, {{Name: "years", Value: "12"}}, nil,
	} {
		b.b.AddPerson(estate.Person{Address: at(fmt.Sprint("p", i))}, attributes, nil)
	}
	r := b.resolver(1)
	for _, text := range []string{
		"where (post=deck)", "where (!(post=deck))", "where (&(post=deck)(years>=3)(!(years>=12)))", "where (|(years<=3)(name=*))",
		"not where (post=*) and known", "where (address=p1@*)", "where (!(!(years=12)))",
	} {
		x, err := selector.Parse(text, selector.ForPeople)
		if err != nil {
			t.Fatal(err)
		}
		set := r.Set(desk, x, Message{})
		for id := range estate.ID(r.e.Groups() + r.e.People()) {
			if got := r.Eval(desk, x, r.Sender(r.e.Address(id)), Message{}); got != set.Contains(uint32(id)) {
				t.Errorf("%s for %s: %t, in the set: %t", text, r.e.Address(id), got, !got)
			}
		}
	}
}
