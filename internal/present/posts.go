package present

import (
	"iter"
	"maps"
	"slices"
	"strconv"

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
	People []Poster `json:"people"`

	name      string
	folder    string
	addresses [3]string // of the strangers
}

// A Poster is a person and what the gate says of them.
type Poster struct {
	Address string `json:"address"`
	Decision
}

// NewPosts asks a group's gate about everyone. m is what the messages are like.
func NewPosts(r *resolve.Resolver, group estate.ID, m resolve.Message) *Posts {
	n := newNamer(r)
	a := &Posts{Group: n.address(group), folder: n.folder(), name: groupName(n.e.Group(group)), People: []Poster{}}
	decide := func(d resolve.Decision) Decision { return newDecision(n.e, group, d) }
	strangers := r.Strangers()
	forged := m
	forged.Unproven = true
	a.addresses = [3]string{
		strangers.Outside.Address.String(),
		strangers.Inside.Address.String(),
		strangers.Inside.Address.String(),
	}
	a.Strangers.Outside = decide(r.Judge(group, strangers.Outside, m))
	a.Strangers.Inside = decide(r.Judge(group, strangers.Inside, m))
	a.Strangers.Forged = decide(r.Judge(group, strangers.Inside, forged))
	rules := make([]int, n.e.People())
	classes := r.Posters(group, m)
	decisions := make([]Decision, len(classes))
	for rule, class := range classes {
		decisions[rule] = decide(resolve.Decision{Verdict: r.Verdict(group, rule), Rule: rule})
		for it := class.Iterator(); it.HasNext(); {
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

func (a *Posts) writeText(p *Page) {
	p.folder = a.folder
	p.Line(2, Span{Strong, "Who may post to " + a.Group}, Span{Faint, "  " + a.name})
	p.Gap()
	counts := map[string]int{}
	for _, person := range a.People {
		counts[person.Verdict]++
	}
	spans := []Span{{Plain, "Of " + count(len(a.People), "person", "people") + " known here: "}}
	p.Line(2, append(spans, countSpans(counts, estate.VerdictWords(), verdictStyle)...)...)
	p.Gap()
	p.Title("Strangers")
	var rows [][]Span
	for _, s := range []struct {
		name     string
		decision Decision
	}{
		{"from outside", a.Strangers.Outside},
		{"from inside, unknown", a.Strangers.Inside},
		{"claims to be inside, unproven", a.Strangers.Forged},
	} {
		rows = append(rows, []Span{{Plain, s.name}, verdictSpan(s.decision), {Plain, s.decision.by()}})
	}
	p.Table(rows)
	refused, admitted := a.byRule()
	p.blocks("Not let in at once", refused, mostExceptions)
	p.blocks("Let in", admitted, mostRest)
	p.hint()
}

// byRule gathers the people by the rule that decides for them.
func (a *Posts) byRule() (refused, admitted []block) {
	blocks := map[int]*block{}
	for _, person := range a.People {
		b, ok := blocks[person.Rule]
		if !ok {
			b = &block{word: verdictSpan(person.Decision), text: person.by(), place: person.Place}
			blocks[person.Rule] = b
		}
		b.people = append(b.people, person.Address)
	}
	for _, rule := range slices.Sorted(maps.Keys(blocks)) {
		if b := *blocks[rule]; b.word.Text == estate.Admit.String() {
			admitted = append(admitted, b)
		} else {
			refused = append(refused, b)
		}
	}
	return refused, admitted
}

func verdictSpan(d Decision) Span { return Span{verdictStyle(d.Verdict), d.Verdict} }

// How many people of a block are shown without --all.
const (
	mostExceptions = 20
	mostRest       = 6
)

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

func (a *Posts) table() ([]string, iter.Seq[[]string]) {
	return []string{"who", "address", "verdict", "rule", "text", "written", "place"}, func(yield func([]string) bool) {
		row := func(who, address string, d Decision) bool {
			return yield([]string{who, address, d.Verdict, strconv.Itoa(d.Rule), d.Text, d.Written, d.Place})
		}
		if !row("stranger outside", a.addresses[0], a.Strangers.Outside) ||
			!row("stranger inside", a.addresses[1], a.Strangers.Inside) ||
			!row("forged stranger", a.addresses[2], a.Strangers.Forged) {
			return
		}
		for _, person := range a.People {
			if !row("person", person.Address, person.Decision) {
				return
			}
		}
	}
}
