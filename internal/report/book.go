package report

import (
	"cmp"
	"encoding/base64"
	"encoding/binary"
	"maps"
	"slices"
	"strings"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/present"
)

// A Maker makes pages of one estate. What they share is worked out once.
type Maker struct {
	r        *resolve.Resolver
	findings []hazard.Finding
}

// NewMaker looks at all groups of an estate.
func NewMaker(r *resolve.Resolver) *Maker {
	return &Maker{r, hazard.Run(r, hazard.All())}
}

// Collect collects what a page shows.
func (m *Maker) Collect(c Choice) *Data {
	r, e := m.r, m.r.Estate()
	d := &Data{Name: present.Clean(e.Settings().Name), Of: present.Clean(c.Of), Day: c.Day, Made: c.Made,
		Whole:   c.Groups == nil,
		Answers: []Headline{}, Texts: []string{}, People: []Person{},
		Hazards: []Hazard{}, Expectations: []Expectation{}}
	ids := c.Groups
	if ids == nil {
		for id := range estate.ID(e.Groups()) {
			ids = append(ids, id)
		}
	}
	b := newBook(e, d, ids)
	answers := answersOf(r, ids, len(ids) <= mostNotFrom)
	d.Brief = len(ids) > mostNotFrom
	d.Groups = make([]*Group, len(ids))
	for i, id := range ids {
		d.Groups[i] = b.group(r, id, answers[i])
		answers[i] = raw{} // it may be large
	}
	b.hazards(r, m.findings, c.Places)
	b.expectations(c.Expectations)
	if c.Probe != nil {
		if p := b.probe(c.Probe, c.ProbeBegan); len(p.Cases) > 0 { // none is about these groups otherwise
			d.Probe = p
		}
	}
	d.Runs = c.Runs
	if c.Person != estate.None {
		d.Own = own(r, c.Person)
	}
	b.firstLines(m.findings, c)
	return d
}

// book gives numbers to people, groups and texts.
type book struct {
	e      *estate.Estate
	d      *Data
	texts  map[string]int
	people map[estate.ID]int
	groups map[estate.ID]int

	persona *roaring.Bitmap      // all people, by their identifiers
	found   map[string]estate.ID // who has an address; None: nobody
}

func newBook(e *estate.Estate, d *Data, ids []estate.ID) *book {
	b := &book{e: e, d: d, texts: map[string]int{}, people: map[estate.ID]int{}, groups: map[estate.ID]int{},
		persona: roaring.New(),
		found:   map[string]estate.ID{}}
	for i := range e.People() {
		b.persona.Add(uint32(e.PersonID(i)))
	}
	for i, id := range ids {
		b.groups[id] = i
	}
	b.text("")
	if d.Whole { // people are numbered by their addresses
		for _, id := range e.PeopleByAddress() {
			b.person(id)
		}
	}
	return b
}

// text returns the number of a text.
func (b *book) text(s string) int {
	n, ok := b.texts[s]
	if !ok {
		n = len(b.d.Texts)
		b.texts[s] = n
		b.d.Texts = append(b.d.Texts, present.Clean(s))
	}
	return n
}

// person returns the number of a person.
func (b *book) person(id estate.ID) int {
	n, ok := b.people[id]
	if !ok {
		n = len(b.d.People)
		b.people[id] = n
		p := b.e.Person(id)
		mailbox := ""
		if p.Mailbox != estate.MailboxOpen {
			mailbox = p.Mailbox.String()
		}
		b.found[b.e.Address(id).String()] = id
		b.d.People = append(b.d.People, Person{present.Clean(b.e.Address(id).String()), present.Clean(p.Name), mailbox})
	}
	return n
}

// persons returns the numbers of people, sorted, and leaves out who is none.
func (b *book) persons(ids []estate.ID) People {
	list := make(People, 0, len(ids))
	for _, id := range ids {
		if b.e.IsPerson(id) {
			list = append(list, b.person(id))
		}
	}
	slices.Sort(list)
	return list
}

// People are the numbers of people, from the lowest on.
type People []int

// MarshalText writes them in short: each as the difference to the one before it, in seven
// bits a byte, the lowest first, with the eighth set where more follow (as package
// encoding/binary has it), in base64.
func (p People) MarshalText() ([]byte, error) {
	var raw []byte
	before := 0
	for _, n := range p {
		raw = binary.AppendUvarint(raw, uint64(n-before))
		before = n
	}
	return base64.StdEncoding.AppendEncode(nil, raw), nil
}

// raw are the answers about a group before they get numbers.
type raw struct {
	outside   estate.Verdict
	inside    estate.Verdict
	forged    estate.Verdict
	known     int
	posters   []resolve.Class
	gathered  []present.Gathered
	notFrom   map[estate.ID]*present.NotFrom
	sends     []present.Delegate
	approvers []estate.ID
	owners    []estate.ID
	settings  *present.GroupSettings
}

// answersOf asks about groups, several at a time.
func answersOf(r *resolve.Resolver, ids []estate.ID, notFrom bool) []raw {
	list := make([]raw, len(ids))
	at := make(map[estate.ID]int, len(ids))
	for i, id := range ids {
		at[id] = i
	}
	resolve.SideBySide(r, func(fork *resolve.Resolver, from, to estate.ID) struct{} {
		for id := from; id < to; id++ {
			i, asked := at[id]
			if !asked {
				continue
			}
			one := &list[i]
			for _, class := range fork.Gate(id).Posters(resolve.Message{}) {
				class.Senders = class.Senders.Clone()
				one.posters = append(one.posters, class)
			}
			delivery := fork.Deliver(resolve.Query{Group: id})
			if one.gathered = present.Gather(fork, delivery); notFrom {
				one.notFrom = present.NotFromOf(fork, delivery)
			}
			strangers := fork.Strangers()
			one.outside = fork.Gate(id).Post(strangers.Outside, resolve.Message{}).Verdict
			one.inside = fork.Gate(id).Post(strangers.Inside, resolve.Message{}).Verdict
			one.forged = fork.Gate(id).Post(strangers.Inside, resolve.Message{Unproven: true}).Verdict
			one.known = fork.Gate(id).ForgedKnown()
			if len(fork.Estate().Group(id).SendAs) > 0 {
				one.sends = present.NewSendsAs(fork, id).People
			}
			one.approvers, _ = fork.Approvers(id)
			one.owners = fork.Owners(id)
			one.settings = present.NewGroupSettings(fork, id)
		}
		return struct{}{}
	})
	return list
}

// group collects the answers about a group.
func (b *book) group(r *resolve.Resolver, id estate.ID, a raw) *Group {
	g := b.e.Group(id)
	out := &Group{
		Address: present.Clean(g.Address.String()), Title: present.Clean(g.Title), About: present.Clean(g.About),
		Kind:   g.Kind.String(),
		Owners: b.persons(a.owners), Approvers: b.persons(a.approvers),
		Outside: a.outside.String(), Inside: a.inside.String(), Forged: a.forged.String(), Known: a.known,
		Post: []Class{}, Get: []Receipt{},
	}
	for _, also := range g.Also {
		out.Also = append(out.Also, present.Clean(also.String()))
	}
	b.post(out, r, id, a.posters)
	b.get(out, a)
	for _, one := range a.sends {
		if person, ok := b.find(one.Address); ok {
			out.Sends = append(out.Sends, Delegate{person, one.SendAs, one.Proof, b.text(one.Reason())})
		}
	}
	b.nested(out, id)
	for _, one := range a.settings.Settings {
		if !one.Default && !shownElsewhere[one.Setting] {
			out.Settings = append(out.Settings, Setting{one.Setting, present.Clean(strings.Join(one.Values, ", "))})
		}
	}
	return out
}

// shownElsewhere are settings that the page tells in another place.
var shownElsewhere = map[string]bool{"address": true, "title": true, "about": true, "also": true, "kind": true,
	"owners":     true,
	"moderators": true, "gate": true, "send-as": true, "accept": true}

// find returns the number of the person with an address.
func (b *book) find(text string) (int, bool) {
	id, ok := b.idOf(text)
	if !ok || !b.e.IsPerson(id) {
		return 0, false
	}
	return b.person(id), true
}

// post collects who may post, by the rules that decide.
func (b *book) post(out *Group, r *resolve.Resolver, id estate.ID, classes []resolve.Class) {
	for _, class := range classes {
		senders := roaring.And(class.Senders, b.persona)
		count := int(senders.GetCardinality())
		rule := "no rule matches"
		if one := r.Gate(id).Rule(class.Decision); one != nil {
			rule = strings.Join(strings.Fields(one.Text), " ")
		}
		if class.Decision.Edge > 0 {
			rule = "edge: " + rule
		}
		if count == 0 && class.Decision.Rule == 0 {
			continue
		}
		one := Class{Verdict: class.Decision.Verdict.String(), Rule: b.text(rule), Count: count}
		if count <= mostWho {
			var people []estate.ID
			for it := senders.Iterator(); it.HasNext(); {
				people = append(people, estate.ID(it.Next()))
			}
			one.Who = b.persons(people)
		}
		out.Post = append(out.Post, one)
	}
}

// get collects who receives, by what and why.
func (b *book) get(out *Group, a raw) {
	for _, one := range a.gathered {
		receipt := Receipt{Outcome: one.Outcome.String(), Why: b.text(one.Why), Count: len(one.People),
			Who: b.persons(one.People)}
		for _, group := range one.Via {
			receipt.Via = append(receipt.Via, b.groupNumber(group))
		}
		for _, address := range one.Nobody {
			receipt.Nobody = append(receipt.Nobody, present.Clean(address))
		}
		out.Get = append(out.Get, receipt)
	}
	order := []string{"inbox", "digest", "archive", "nothing", "waiting", "stopped", "undeliverable"}
	slices.SortStableFunc(out.Get, func(x, y Receipt) int {
		return cmp.Or(cmp.Compare(slices.Index(order, x.Outcome), slices.Index(order, y.Outcome)),
			cmp.Compare(len(y.Who), len(x.Who)))
	})
	says := map[string][]estate.ID{}
	for id, notFrom := range a.notFrom {
		says[notFrom.Says()] = append(says[notFrom.Says()], id)
	}
	for _, text := range slices.Sorted(maps.Keys(says)) {
		out.NotFrom = append(out.NotFrom, NotFrom{b.text(text), b.persons(says[text])})
	}
}

// groupNumber returns the number of a group; of one that the page is not about, a text
// below zero: -1 - its number.
func (b *book) groupNumber(id estate.ID) int {
	if n, ok := b.groups[id]; ok {
		return n
	}
	return -1 - b.text(b.e.Address(id).String())
}

// nested collects the groups that are members of a group.
func (b *book) nested(out *Group, id estate.ID) {
	for _, child := range b.e.Children(id) {
		out.Nested = append(out.Nested, Nested{Group: b.groupNumber(child.Group), State: "open", None: !child.Passes})
	}
}
