package present

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Posts answers who may post to a group.
type Posts struct {
	Group     string `json:"group"`
	Strangers struct {
		Outside Decision `json:"outside"`
		Inside  Decision `json:"inside"`
		Forged  Decision `json:"forged"`
	} `json:"strangers"`
	ForgedKnown Forgeries `json:"forgedKnown"`
	People      []Poster  `json:"people"`

	addresses [3]string // of the strangers
	like      string    // what the messages are like, if not like most
	approvers []string  // those with a mailbox that does not work marked
}

// Forgeries are what the gate says to unproven messages that claim an address that is
// known: a main address of the estate, an alias where that makes a difference, or one
// that the gate itself names. They get in as some, wait as others, and of the rest
// there is the number.
type Forgeries struct {
	Admitted []string `json:"admitted"`
	Held     []string `json:"held"`
	Stopped  int      `json:"stopped"`

	decisions map[string]Decision // of the first rule that says so, by verdict
	sizes     map[string]int      // of how many, by verdict
}

// A Poster is a person and what the gate says of them.
type Poster struct {
	Address string `json:"address"`
	Decision
}

// NewPosts asks a group's gate about everyone. m is what the messages are like.
func NewPosts(r *resolve.Resolver, group estate.ID, m resolve.Message) *Posts {
	n := newNamer(r)
	a := &Posts{Group: n.address(group), like: messageLike(m), People: []Poster{}}
	decide := func(d resolve.Decision) Decision { return newDecision(n.e, group, d) }
	strangers := r.Strangers()
	forged := m
	forged.Unproven = true
	a.addresses = [3]string{
		strangers.Outside.Address.String(),
		strangers.Inside.Address.String(),
		strangers.Inside.Address.String(),
	}
	a.Strangers.Outside = decide(r.Gate(group).Post(strangers.Outside, m))
	a.Strangers.Inside = decide(r.Gate(group).Post(strangers.Inside, m))
	a.Strangers.Forged = decide(r.Gate(group).Post(strangers.Inside, forged))
	a.ForgedKnown = n.forgeries(group, forged)
	approvers, _ := r.Approvers(group)
	a.approvers = n.marked(approvers)
	rules := make([]int, n.e.People())
	classes := r.Gate(group).Posters(m)
	decisions := make([]Decision, len(classes))
	for rule, class := range classes {
		decisions[rule] = decide(class.Decision)
		for it := class.Senders.Iterator(); it.HasNext(); {
			if id := estate.ID(it.Next()); n.e.IsPerson(id) {
				rules[n.e.PersonIndex(id)] = rule
			}
		}
	}
	for _, id := range n.e.PeopleByAddress() {
		a.People = append(a.People, Poster{n.address(id), decisions[rules[n.e.PersonIndex(id)]]})
	}
	return a
}

// forgeries asks a gate about unproven messages from every known address that is worth claiming.
func (n namer) forgeries(group estate.ID, m resolve.Message) Forgeries {
	f := Forgeries{Admitted: []string{}, Held: []string{}, decisions: map[string]Decision{}, sizes: map[string]int{}}
	among, claims := n.r.Gate(group).Forgeable(m)
	for _, class := range n.r.Gate(group).Posters(m) {
		senders := roaring.And(class.Senders, among)
		if senders.IsEmpty() {
			continue
		}
		var claimed []string
		for it := senders.Iterator(); it.HasNext(); {
			claimed = append(claimed, n.address(estate.ID(it.Next())))
		}
		f.add(n, group, class.Decision, claimed...)
	}
	for _, s := range claims {
		f.add(n, group, n.r.Gate(group).Post(s, m), s.Claimed())
	}
	slices.Sort(f.Admitted)
	slices.Sort(f.Held)
	return f
}

// add notes what the gate says to messages that claim some addresses.
func (f *Forgeries) add(n namer, group estate.ID, d resolve.Decision, claimed ...string) {
	verdict := d.Verdict.String()
	f.sizes[verdict] += len(claimed)
	switch d.Verdict {
	case estate.Admit:
		f.Admitted = append(f.Admitted, claimed...)
	case estate.Hold:
		f.Held = append(f.Held, claimed...)
	default:
		f.Stopped += len(claimed)
	}
	if _, ok := f.decisions[verdict]; !ok {
		f.decisions[verdict] = newDecision(n.e, group, d)
	}
}

// messageLike says what messages are like, "" for those that are like most.
func messageLike(m resolve.Message) string {
	var words []string
	for _, one := range []struct {
		is   bool
		word string
	}{{m.Unproven, "unproven"}, {m.Suspect, "suspect"}, {m.Automatic, "automatic"}, {m.Invitation, "an invitation"}} {
		if one.is {
			words = append(words, one.word)
		}
	}
	if m.Size > 0 {
		words = append(words, "of "+strconv.FormatInt(m.Size, 10)+" bytes")
	}
	return strings.Join(words, ", ")
}

// answer is the first line: true by itself.
func (a *Posts) answer() string {
	counts := map[string]int{}
	for _, person := range a.People {
		counts[person.Verdict]++
	}
	line := a.Group + ": " + strconv.Itoa(counts["admit"]) + " of " + count(len(a.People), "person", "people") +
		" may post"
	for _, one := range [][2]string{{"hold", "held"}, {"refuse", "refused"}, {"drop", "dropped"}} {
		if n := counts[one[0]]; n > 0 {
			line += ", " + strconv.Itoa(n) + " " + one[1]
		}
	}
	if a.like != "" {
		line += ", if the message is " + a.like
	}
	return line
}

// forgedWorst is the second line: the worst that a forged message does.
func (a *Posts) forgedWorst(p *Page) Span {
	known := a.ForgedKnown
	forged, plain := "Forged mail", "Plain forged mail" // what is not plain may still get in
	if a.like != "" {
		forged, plain = "Such mail, forged,", "Such mail, forged,"
	}
	switch {
	case len(known.Admitted) > 0:
		const mostForged = 3
		names := strings.Join(known.Admitted, ", ")
		if others := len(known.Admitted) - 1; others >= mostForged && !p.options.All {
			names = known.Admitted[0] + " and " + strconv.Itoa(others) + " others (--all)"
		}
		return Span{Bad, "! " + forged + " gets in as " + names}
	case a.Strangers.Forged.Verdict == "admit":
		return Span{Bad, "! " + forged + " gets in from an address inside that nobody has"}
	case len(known.Held) > 0 || a.Strangers.Forged.Verdict == "hold":
		return Span{Doubtful, plain + " is held for approval"}
	}
	return Span{Plain, plain + " does not get in"}
}

func (a *Posts) writeText(p *Page) {
	p.Line(2, Span{Strong, a.answer()})
	p.Line(2, a.forgedWorst(p))
	p.Gap()
	p.Table(a.senders(p))
	p.Gap()
	p.Title("People (" + strconv.Itoa(len(a.People)) + ")")
	byVerdict := a.byRule()
	for _, verdict := range verdictOrder {
		for _, b := range byVerdict[verdict] {
			p.block(b)
		}
	}
	if a.holds() {
		p.Gap()
		release := "! Nobody can release held mail."
		if len(a.approvers) > 0 {
			release = "Held mail is released by " + strings.Join(a.approvers[:min(3, len(a.approvers))], ", ")
			if more := len(a.approvers) - 3; more > 0 {
				release += " and " + count(more, "other", "others")
			}
			release += "."
		}
		p.Line(0, Span{Plain, release})
	}
}

// senders are the rows of those that the estate does not know, and of those who claim
// an address that it knows.
func (a *Posts) senders(p *Page) [][]Span {
	rows := [][]Span{{{Faint, "sender"}, {Faint, "verdict"}, {Faint, "n"}, {Faint, "rule"}, {Faint, "place"}}}
	row := func(who string, d Decision, style Style, n int) {
		size := Span{Faint, "-"}
		if n > 0 {
			size = Span{Plain, strconv.Itoa(n)}
		}
		rows = append(rows, []Span{{Plain, who}, {style, d.Verdict}, size, {Plain, d.byShort()}, {Faint, d.at()}})
	}
	forged := func(d Decision) Style {
		return map[string]Style{"admit": Bad, "hold": Doubtful}[d.Verdict]
	}
	row("anyone outside", a.Strangers.Outside, Plain, 0)
	row("unknown inside address", a.Strangers.Inside, Plain, 0)
	row("forged, unknown address", a.Strangers.Forged, forged(a.Strangers.Forged), 0)
	for _, verdict := range estate.VerdictWords() {
		d, ok := a.ForgedKnown.decisions[verdict]
		if !ok {
			continue
		}
		row("forged, known address", d, forged(d), a.ForgedKnown.sizes[verdict])
	}
	placed := slices.ContainsFunc(rows[1:], func(row []Span) bool { return row[4].Text != "" })
	if !placed || tableWidth(rows) > p.options.Width { // they stand with the people below, too
		for i := range rows {
			rows[i] = rows[i][:4]
		}
	}
	return rows
}

// holds reports whether the gate holds anybody who was asked about.
func (a *Posts) holds() bool {
	return slices.ContainsFunc(a.People, func(one Poster) bool { return one.Verdict == "hold" }) ||
		a.Strangers.Outside.Verdict == "hold" || a.Strangers.Inside.Verdict == "hold" ||
		a.Strangers.Forged.Verdict == "hold" || len(a.ForgedKnown.Held) > 0
}

// byRule gathers people by verdict and by the rule that decides.
func (a *Posts) byRule() map[string][]block {
	blocks := map[Decision]*block{}
	for _, person := range a.People {
		b, ok := blocks[person.Decision]
		if !ok {
			b = &block{word: Span{Strong, verdictPast[person.Verdict]}, text: person.byIn(), place: person.at()}
			blocks[person.Decision] = b
		}
		b.people = append(b.people, person.Address)
	}
	byVerdict := map[string][]block{}
	for _, d := range slices.SortedFunc(maps.Keys(blocks), func(x, y Decision) int {
		return cmp.Or(y.Edge-x.Edge, x.Rule-y.Rule)
	}) {
		byVerdict[d.Verdict] = append(byVerdict[d.Verdict], *blocks[d])
	}
	return byVerdict
}

// verdictOrder is the order in which people are listed: the fewest surprises last.
var verdictOrder = []string{"hold", "refuse", "drop", "admit"}

func verdictSpan(d Decision) Span { return Span{verdictStyle(d.Verdict), d.Verdict} }

// countSpans writes counts as "3 admit, 1 hold", in the order of words.
func countSpans(counts map[string]int, words []string, style func(string) Style) []Span {
	var spans []Span
	for _, word := range words {
		if counts[word] == 0 {
			continue
		}
		if len(spans) > 0 {
			spans = append(spans, Span{Plain, ", "})
		}
		spans = append(spans, Span{Plain, strconv.Itoa(counts[word]) + " "}, Span{style(word), word})
	}
	return spans
}

func (a *Posts) table(t *table) {
	t.head("who", "address", "verdict", "rule", "text", "written", "place")
	row := func(who, address string, d Decision) {
		t.row(who, address, d.Verdict, d.Rule, d.Text, d.Written, d.Place)
	}
	row("stranger outside", a.addresses[0], a.Strangers.Outside)
	row("stranger inside", a.addresses[1], a.Strangers.Inside)
	row("forged stranger", a.addresses[2], a.Strangers.Forged)
	for _, person := range a.People {
		row("person", person.Address, person.Decision)
	}
}
