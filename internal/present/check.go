package present

import (
	"cmp"
	"iter"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Hazards are the hazards of an estate.
type Hazards struct {
	Hazards  []Hazard       `json:"hazards"`
	Counts   map[string]int `json:"counts"`          // by severity, without those that are accepted
	Accepted []Hazard       `json:"accepted"`        // meant to be, as the estate says
	Stale    []string       `json:"stale"`           // places where the estate accepts what is not there
	Known    []Hazard       `json:"known,omitempty"` // of a baseline; they are not among Hazards and Counts
	Gone     []KnownHazard  `json:"gone,omitempty"`  // of a baseline, and not found any more

	checks   []*hazard.Check
	groups   int             // of the estate
	names    map[string]bool // of the groups that were looked at; empty: all
	baseline string          // the file, or ""
	layout   HazardLayout
}

// HazardLayout is how hazards are laid out in text.
type HazardLayout struct {
	By     string      // severity (the usual), group, cause, owner or person
	Full   bool        // all of them, not only those of high severity
	Groups []estate.ID // that were looked at
}

// A Hazard is one finding.
type Hazard struct {
	ID       string       `json:"id"`    // the same from one check to the next
	Cause    string       `json:"cause"` // the same for those that one change cures
	Owners   []string     `json:"owners"`
	Name     string       `json:"name"`
	Severity string       `json:"severity"`
	Group    string       `json:"group"`
	Address  string       `json:"address"`
	File     string       `json:"file"`
	Line     int          `json:"line"`
	Column   int          `json:"column"`
	Says     string       `json:"says"`
	Fix      string       `json:"fix"`
	Witness  *WitnessCase `json:"witness,omitempty"`
	Because  string       `json:"because,omitempty"` // why it is accepted

	trap string
}

// A WitnessCase is a message that shows a hazard; explain follows it.
type WitnessCase struct {
	From string `json:"from"`
	To   string `json:"to"`
	MessageTraits
}

// NewHazards tells what checks have found.
func NewHazards(r *resolve.Resolver, checks []*hazard.Check, findings []hazard.Finding, layout HazardLayout) *Hazards {
	n := newNamer(r)
	a := &Hazards{
		Hazards:  []Hazard{},
		Accepted: []Hazard{},
		Stale:    []string{},
		Counts:   map[string]int{},
		checks:   checks,
		groups:   len(layout.Groups),
		layout:   layout,
	}
	for _, word := range hazard.SeverityWords() {
		a.Counts[word] = 0
	}
	for _, f := range findings {
		h := n.hazard(f)
		if f.Accepted {
			a.Accepted = append(a.Accepted, h)
			continue
		}
		a.Counts[h.Severity]++
		a.Hazards = append(a.Hazards, h)
	}
	if len(layout.Groups) < n.e.Groups() {
		a.names = map[string]bool{}
		for _, id := range layout.Groups {
			a.names[n.address(id)] = true
		}
	}
	for _, acceptance := range hazard.Stale(n.e, checks, findings, layout.Groups) {
		a.Stale = append(a.Stale, n.position(acceptance.Place)+": "+acceptance.Hazard)
	}
	return a
}

func (n namer) hazard(f hazard.Finding) Hazard {
	h := Hazard{
		Name:     f.Check.Name,
		Severity: f.Severity.String(),
		Address:  f.Address,
		Because:  f.Because,
		trap:     f.Check.Trap,
	}
	h.Owners = []string{}
	if f.Group != estate.None {
		h.Group = n.address(f.Group)
		h.Owners = append(h.Owners, n.addresses(n.r.Owners(f.Group))...)
	}
	h.Says, h.Fix = f.Text()
	h.ID = idOf(append([]string{h.Name, h.Group, h.Address}, f.Detail...)...)
	cure, _, _ := strings.Cut(h.Fix, ": yorvet ") // the command names the group of this one
	h.Cause = idOf(h.Name, cure, "group", h.Group)
	if f.ByAddress() {
		h.Cause = idOf(h.Name, cure, "address", h.Address)
	}
	if f.Place != (estate.Place{}) {
		h.File, h.Line, h.Column = n.e.Settings().Files[f.Place.File], int(f.Place.Line), int(f.Place.Column)
	}
	if w := f.Witness(); w != nil {
		h.Witness = &WitnessCase{
			From:          w.From.String(),
			To:            h.Group,
			MessageTraits: MessageTraits(w.Message),
		}
	}
	return h
}

// Worst returns whether there is a hazard at least as severe.
func (a *Hazards) Worst(severity hazard.Severity) bool {
	for _, word := range hazard.SeverityWords()[:severity+1] {
		if a.Counts[word] > 0 {
			return true
		}
	}
	return false
}

func severityStyle(severity string) Style {
	switch severity {
	case "high":
		return Bad
	case "medium":
		return Doubtful
	}
	return Plain
}

// orders are the ways in which hazards can be laid out besides by severity: by what they have
// in common, and what those are called who have nothing there.
var orders = map[string]struct {
	key  func(Hazard) string
	none string
}{
	"group":  {func(h Hazard) string { return h.Group }, "the edge"},
	"owner":  {func(h Hazard) string { return strings.Join(h.Owners, ", ") }, "no owner"},
	"person": {func(h Hazard) string { return h.Address }, "about nobody in particular"},
}

// HazardOrders are the ways in which hazards can be laid out.
func HazardOrders() []string { return []string{"severity", "cause", "group", "owner", "person"} }

func (a *Hazards) writeText(p *Page) {
	p.Line(2, a.head()...)
	a.writeBaseline(p)
	order, ordered := orders[a.layout.By]
	switch {
	case a.layout.By == "cause":
		a.writeCauses(p)
	case ordered:
		for _, list := range a.gathered(order.key) {
			p.Gap()
			p.Title(cmp.Or(order.key(list[0]), order.none) + ": " + count(len(list), "hazard", "hazards"))
			p.findings(list)
		}
	case a.layout.Full || p.options.All:
		p.findings(a.Hazards)
	default:
		at := slices.IndexFunc(a.Hazards, func(h Hazard) bool { return h.Severity != hazard.High.String() })
		if at < 0 {
			at = len(a.Hazards)
		}
		p.findings(a.Hazards[:at])
		p.kinds(a.Hazards[at:])
	}
	for _, stale := range a.Stale {
		p.Gap()
		p.Line(2, Span{Doubtful, "accepted, and does not occur: "}, Span{Plain, stale})
	}
	if len(a.Hazards) > 0 {
		p.Gap()
		p.Line(0, Span{Faint, "More about a kind of hazard: yorvet check --explain NAME"})
	}
}

// HazardLine returns the first line of the answer about hazards of so many groups, without
// making the rest of it.
func HazardLine(e *estate.Estate, checks []*hazard.Check, findings []hazard.Finding, groups int) string {
	t := hazardTally{groups: groups, checks: len(checks), counts: map[string]int{}}
	index := map[estate.ID]int{}
	for i := range findings {
		f := &findings[i]
		if f.Accepted {
			t.accepted++
			continue
		}
		t.counts[f.Severity.String()]++
		at, ok := index[f.Group]
		if !ok {
			at = len(t.in)
			index[f.Group] = at
			name := ""
			if f.Group != estate.None {
				name = e.Address(f.Group).String()
			}
			t.in = append(t.in, hazardsIn{name: name})
		}
		t.in[at].n++
	}
	var line strings.Builder
	for _, span := range t.head() {
		line.WriteString(span.Text)
	}
	return line.String()
}

// hazardTally is what the first line about hazards says.
type hazardTally struct {
	groups, checks int            // that were looked at
	counts         map[string]int // by severity
	accepted       int
	known          int         // by a baseline
	baseline       string      // its file, or ""
	in             []hazardsIn // groups with hazards, in the order of the first of each
}

// hazardsIn is how many hazards a group has.
type hazardsIn struct {
	name string // "": the edge
	n    int
}

// head says how many hazards there are, and which group has the most.
func (a *Hazards) head() []Span {
	t := hazardTally{groups: a.groups, checks: len(a.checks), counts: a.Counts, accepted: len(a.Accepted),
		known: len(a.Known), baseline: a.baseline}
	for _, list := range a.gathered(func(h Hazard) string { return h.Group }) {
		t.in = append(t.in, hazardsIn{list[0].Group, len(list)})
	}
	return t.head()
}

func (t *hazardTally) head() []Span {
	all := 0
	for _, one := range t.in {
		all += one.n
	}
	if all+t.accepted+t.known == 0 {
		return []Span{{Strong, "No hazards in " + count(t.groups, "group", "groups") + " (" +
			count(t.checks, "check", "checks") + ")"}}
	}
	one, many := "hazard", "hazards"
	if t.baseline != "" {
		one, many = "new hazard", "new hazards"
	}
	head := []Span{{Strong, count(all, one, many)}}
	if all > 0 {
		head = append(head, Span{Plain, ": "})
		head = append(head, countSpans(t.counts, hazard.SeverityWords(), severityStyle)...)
	}
	if t.baseline != "" {
		head = append(head, Span{Plain, "; " + strconv.Itoa(t.known) + " more known by " + t.baseline})
	}
	if t.accepted > 0 {
		head = append(head, Span{Faint, "; " + strconv.Itoa(t.accepted) + " accepted in the estate"})
	}
	if len(t.in) > 1 {
		if most := slices.MaxFunc(t.in, func(x, y hazardsIn) int { return x.n - y.n }); most.n > 1 {
			head = append(head, Span{Plain, ". Most: " + cmp.Or(most.name, "the edge") + " (" + strconv.Itoa(most.n) + ")"})
		}
	}
	return head
}

// gathered returns the hazards that have a key in common together, in the order in which
// the keys come first.
func (a *Hazards) gathered(key func(Hazard) string) [][]Hazard {
	var lists [][]Hazard
	at := map[string]int{}
	for _, h := range a.Hazards {
		i, ok := at[key(h)]
		if !ok {
			i = len(lists)
			at[key(h)] = i
			lists = append(lists, nil)
		}
		lists[i] = append(lists[i], h)
	}
	return lists
}

// kinds writes a line for each kind of hazard of a list.
func (p *Page) kinds(list []Hazard) {
	var rows [][]Span
	for i := 0; i < len(list); {
		j := i
		for j < len(list) && list[j].Name == list[i].Name {
			j++
		}
		first := list[i]
		rows = append(rows, []Span{
			{severityStyle(first.Severity), first.Severity}, number(j-i, Plain), {Strong, first.Name}, {Plain, first.trap},
		})
		i = j
	}
	if len(rows) == 0 {
		return
	}
	p.Gap()
	p.Title("Less severe (" + strconv.Itoa(len(list)) + "; --all, or --only NAME, shows each)")
	p.Table(rows)
}

// findings writes hazards in full. What is found alike of several people is said once, and
// a fix that several in turn have comes behind the last.
func (p *Page) findings(list []Hazard) {
	for i := 0; i < len(list); {
		first := list[i]
		j := i + 1
		var also []string
		for j < len(list) && list[j].likes(first) {
			also = append(also, list[j].Address)
			j++
		}
		if i == 0 || list[i-1].Name != first.Name || list[i-1].Fix != first.Fix {
			p.Gap()
		}
		var spans []Span
		if place := first.place(); place != "" {
			spans = append(spans, Span{Faint, place}, Span{Plain, "  "})
		}
		severity := Span{severityStyle(first.Severity), first.Severity}
		spans = append(spans, severity, Span{Plain, "  "}, Span{Strong, first.Name})
		p.Line(2, spans...)
		p.Line(2, Span{Plain, "  " + first.Says})
		if len(also) > 0 {
			p.Line(2, Span{Plain, "  Also: "}, Span{Plain, p.some(also)})
		}
		if j == len(list) || list[j].Name != first.Name || list[j].Fix != first.Fix {
			p.fix(first.Fix)
		}
		i = j
	}
}

// fix writes what to do. A command to copy stands on a line of its own.
func (p *Page) fix(text string) {
	says, command, ok := strings.Cut(text, ": yorvet ")
	if !ok {
		p.Line(2, Span{Faint, "  fix: " + text})
		return
	}
	p.Line(2, Span{Faint, "  fix: " + says + ":"})
	p.write("    ", p.render(Span{Plain, "yorvet " + command}), "\n")
}

// likes reports whether a hazard says of somebody else what another says.
func (h Hazard) likes(other Hazard) bool {
	alike := func(x, y string) bool {
		return strings.ReplaceAll(x, h.Address, "") == strings.ReplaceAll(y, other.Address, "")
	}
	return h.Name == other.Name && h.Group == other.Group && h.Address != "" && other.Address != "" &&
		alike(h.Says, other.Says) && alike(h.Fix, other.Fix)
}

func (h Hazard) place() string {
	if h.File == "" {
		return ""
	}
	return h.File + ":" + strconv.Itoa(h.Line) + ":" + strconv.Itoa(h.Column)
}

func (a *Hazards) table() ([]string, iter.Seq[[]string]) {
	return []string{
			"severity",
			"name",
			"group",
			"address",
			"file",
			"line",
			"says",
			"fix",
			"id",
			"cause",
			"owners",
		}, func(yield func([]string) bool) {
			for _, h := range a.Hazards {
				if !yield(
					[]string{h.Severity, h.Name, h.Group, h.Address, h.File, strconv.Itoa(h.Line), h.Says, h.Fix, h.ID,
						h.Cause, strings.Join(h.Owners, "; ")},
				) {
					return
				}
			}
		}
}

// A HazardPage explains one kind of hazard.
type HazardPage struct {
	Name     string `json:"name"`
	Severity string `json:"severity"`
	Trap     string `json:"trap"`
	Doc      string `json:"doc"`
	Cure     string `json:"cure"`
}

// NewHazardPage returns the documentation of a check.
func NewHazardPage(check *hazard.Check) *HazardPage {
	return &HazardPage{check.Name, check.Severity.String(), check.Trap, check.Doc, check.Cure}
}

func (a *HazardPage) writeText(p *Page) {
	p.Line(2, Span{Strong, a.Name}, Span{Plain, "  "}, Span{severityStyle(a.Severity), a.Severity})
	p.Line(0, Span{Plain, a.Trap})
	p.Gap()
	// Prose is broken into lines anew; examples, which are set in, stay as they are.
	for i, part := range strings.Split(a.Doc, "\n\n") {
		if i > 0 {
			p.Gap()
		}
		if strings.HasPrefix(part, " ") {
			for line := range strings.SplitSeq(part, "\n") {
				p.Line(4, Span{Plain, line})
			}
			continue
		}
		p.Line(0, Span{Plain, oneLine(part)})
	}
	p.Gap()
	p.Line(0, Span{Plain, "What to do: " + a.Cure})
}

func (a *HazardPage) table() ([]string, iter.Seq[[]string]) {
	return []string{"name", "severity", "trap", "cure"}, slices.Values([][]string{{a.Name, a.Severity, a.Trap, a.Cure}})
}

// fileURI writes a path as a URI reference (RFC 3986).
func fileURI(path string) string {
	uri := (&url.URL{Path: strings.ReplaceAll(path, "\\", "/")}).String()
	if strings.HasPrefix(path, "/") {
		return "file://" + uri
	}
	return uri
}
