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

// Hazards are the hazards of an estate. There may be very many: each is put into words when it
// is written.
type Hazards struct {
	Counts map[string]int // by severity, without those that are accepted
	Stale  []string       // places where the estate accepts what is not there
	Ended  []string       // places where it accepted something until a day that is over
	Gone   []KnownHazard  // of a baseline, and not found any more

	n        namer
	found    []hazard.Finding
	accepted []hazard.Finding // intended, as the estate says
	known    []hazard.Finding // of a baseline; they are not among found and Counts
	checks   []*hazard.Check
	groups   int             // of the estate
	names    map[string]bool // of the groups that were looked at; empty: all
	baseline string          // the file, or ""
	layout   HazardLayout
}

// writeJSON writes the hazards one after the other.
func (a *Hazards) writeJSON(w *jsonStream) {
	streamList(w, "hazards", a.each(a.found))
	w.field("counts", a.Counts)
	streamList(w, "accepted", a.each(a.accepted))
	w.field("stale", a.Stale)
	if len(a.Ended) > 0 {
		w.field("ended", a.Ended)
	}
	if len(a.known) > 0 {
		streamList(w, "known", a.each(a.known))
	}
	if len(a.Gone) > 0 {
		w.field("gone", a.Gone)
	}
}

// each puts findings into words.
func (a *Hazards) each(findings []hazard.Finding) iter.Seq[Hazard] {
	return func(yield func(Hazard) bool) {
		for i := range findings {
			if !yield(a.n.hazard(findings[i])) {
				return
			}
		}
	}
}

// Brief returns the hazards one after the other, but those that are accepted or known: what each is
// about and says, and no more.
func (a *Hazards) Brief() iter.Seq[Hazard] {
	return func(yield func(Hazard) bool) {
		for i := range a.found {
			f := &a.found[i]
			says, _ := f.Text()
			if !yield(Hazard{ID: a.n.idOf(f), Name: f.Check.Name, Severity: f.Severity.String(), Group: a.n.groupOf(f),
				Address: f.Address, Says: says}) {
				return
			}
		}
	}
}

// All returns all hazards but those that are accepted or known.
func (a *Hazards) All() []Hazard { return slices.Collect(a.each(a.found)) }

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
		Stale:  []string{},
		Counts: map[string]int{},
		n:      n,
		found:  findings,
		checks: checks,
		groups: len(layout.Groups),
		layout: layout,
	}
	for _, word := range hazard.SeverityWords() {
		a.Counts[word] = 0
	}
	if slices.ContainsFunc(findings, func(f hazard.Finding) bool { return f.Accepted }) {
		a.found = nil
		for _, f := range findings {
			if f.Accepted {
				a.accepted = append(a.accepted, f)
			} else {
				a.found = append(a.found, f)
			}
		}
	}
	for i := range a.found {
		a.Counts[a.found[i].Severity.String()]++
	}
	if len(layout.Groups) < n.e.Groups() {
		a.names = map[string]bool{}
		for _, id := range layout.Groups {
			a.names[n.address(id)] = true
		}
	}
	for _, acceptance := range hazard.Stale(r, checks, findings, layout.Groups) {
		text := n.position(acceptance.Place) + ": " + acceptance.Hazard
		if acceptance.Ended {
			a.Ended = append(a.Ended, text+" until "+acceptance.Until.String())
		} else {
			a.Stale = append(a.Stale, text)
		}
	}
	return a
}

func (n namer) hazard(f hazard.Finding) Hazard {
	h := Hazard{
		Name:     f.Check.Name,
		Severity: f.Severity.String(),
		Address:  f.Address,
		Because:  f.Because(),
		trap:     f.Check.Trap,
	}
	h.Group, h.Owners = n.groupOf(&f), n.ownersOf(&f)
	h.Says, h.Fix = f.Text()
	h.ID, h.Cause = n.idOf(&f), n.causeOf(&f, h.Fix)
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

// idOf returns what a finding is called from one check to the next.
func (n namer) idOf(f *hazard.Finding) string {
	return idOf(append([]string{f.Check.Name, n.groupOf(f), f.Address}, f.Detail()...)...)
}

// causeOf returns what stands for the cause of a finding, whose fix is known.
func (n namer) causeOf(f *hazard.Finding, fix string) string {
	cure, _, _ := strings.Cut(fix, ": yorvet ") // the command names the group of this one
	if f.ByAddress() {
		return idOf(f.Check.Name, cure, "address", f.Address)
	}
	return idOf(f.Check.Name, cure, "group", n.groupOf(f))
}

// groupOf returns the address of the group of a finding, or "" for the edge.
func (n namer) groupOf(f *hazard.Finding) string {
	if f.Group == estate.None {
		return ""
	}
	return n.address(f.Group)
}

// ownersOf returns the addresses of those who own the group of a finding.
func (n namer) ownersOf(f *hazard.Finding) []string {
	if f.Group == estate.None {
		return []string{}
	}
	return append([]string{}, n.addresses(n.r.Owners(f.Group))...)
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

// orders are the ways in which hazards can be laid out, other than by severity: by what they have
// in common, and what those are called who have nothing there.
var orders = map[string]struct {
	key  func(n namer, f *hazard.Finding) string
	none string
}{
	"group":  {namer.groupOf, "the edge"},
	"owner":  {func(n namer, f *hazard.Finding) string { return strings.Join(n.ownersOf(f), ", ") }, "no owner"},
	"person": {func(_ namer, f *hazard.Finding) string { return f.Address }, "about nobody in particular"},
}

// HazardOrders are the ways in which hazards can be laid out.
func HazardOrders() []string { return []string{"severity", "cause", "group", "owner", "person"} }

func (a *Hazards) writeText(p *Page) {
	p.Line(2, a.head()...)
	a.writeBaseline(p)
	order, ordered := orders[a.layout.By]
	switch {
	case a.layout.By == "cause":
		a.writeCauses(p, a.found)
	case ordered:
		for _, list := range a.gathered(a.found, func(f *hazard.Finding) string { return order.key(a.n, f) }) {
			p.Gap()
			p.Title(cmp.Or(order.key(a.n, &list[0]), order.none) + ": " + count(len(list), "hazard", "hazards"))
			p.findings(a.each(list))
		}
	case a.layout.Full || p.options.All:
		p.findings(a.each(a.found))
	default:
		a.writeWorst(p)
	}
	for _, stale := range a.Stale {
		p.Gap()
		p.Line(2, Span{Doubtful, "accepted, and does not occur: "}, Span{Plain, stale})
	}
	for _, ended := range a.Ended {
		p.Gap()
		p.Line(2, Span{Doubtful, "accepted, and no longer: "}, Span{Plain, ended})
	}
	if len(a.found) > 0 {
		p.Gap()
		p.Line(0, Span{Faint, "More about a kind of hazard: yorvet check --explain NAME"})
	}
}

// mostInFull is the number of hazards up to which each is shown in full without --all.
const mostInFull = 100

// writeWorst reports the hazards of high severity in full, or where there are very many by
// their causes, and counts the others.
func (a *Hazards) writeWorst(p *Page) {
	at := slices.IndexFunc(a.found, func(f hazard.Finding) bool { return f.Severity != hazard.High })
	if at < 0 {
		at = len(a.found)
	}
	if at > mostInFull {
		p.Gap()
		p.Title("High (" + strconv.Itoa(at) + "; what one change cures is told once; --all shows each)")
		a.writeCauses(p, a.found[:at])
	} else {
		p.findings(a.each(a.found[:at]))
	}
	p.kinds(a.found[at:])
}

// gathered returns the findings that have a key in common together, in the order in which
// the keys come first.
func (a *Hazards) gathered(findings []hazard.Finding, key func(*hazard.Finding) string) [][]hazard.Finding {
	at, sizes := map[string]int{}, []int{}
	of := make([]int32, len(findings))
	for i := range findings {
		one := key(&findings[i])
		number, ok := at[one]
		if !ok {
			number = len(sizes)
			at[one] = number
			sizes = append(sizes, 0)
		}
		of[i] = int32(number)
		sizes[number]++
	}
	lists := make([][]hazard.Finding, len(sizes))
	for number, size := range sizes {
		lists[number] = make([]hazard.Finding, 0, size)
	}
	for i, number := range of {
		lists[number] = append(lists[number], findings[i])
	}
	return lists
}

// kinds writes a line for each kind of hazard of a list.
func (p *Page) kinds(list []hazard.Finding) {
	var rows [][]Span
	for i := 0; i < len(list); {
		j := i
		for j < len(list) && list[j].Check == list[i].Check && list[j].Severity == list[i].Severity {
			j++
		}
		check, severity := list[i].Check, list[i].Severity.String()
		rows = append(rows, []Span{
			{severityStyle(severity), severity}, number(j-i, Plain), {Strong, check.Name}, {Plain, check.Trap},
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
func (p *Page) findings(list iter.Seq[Hazard]) {
	var first Hazard
	var also []string
	any, goesOn := false, false
	tell := func() {
		if !goesOn {
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
	}
	for h := range list {
		if any && h.likes(first) {
			also = append(also, h.Address)
			continue
		}
		if any {
			tell()
			if goesOn = h.Name == first.Name && h.Fix == first.Fix; !goesOn {
				p.fix(first.Fix)
			}
		}
		first, also, any = h, nil, true
	}
	if any {
		tell()
		p.fix(first.Fix)
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
	p.Code(4, Span{Plain, "yorvet " + command})
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

func (a *Hazards) table(t *table) {
	t.head("severity", "name", "group", "address", "file", "line", "says", "fix", "id", "cause", "owners")
	for h := range a.each(a.found) {
		t.row(h.Severity, h.Name, h.Group, h.Address, h.File, h.Line, h.Says, h.Fix, h.ID, h.Cause, h.Owners)
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
	// Prose is broken into lines again; examples, which are set in, stay as they are.
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

func (a *HazardPage) table(t *table) {
	t.head("name", "severity", "trap", "cure")
	t.row(a.Name, a.Severity, a.Trap, a.Cure)
}

// fileURI writes a path as a URI reference (RFC 3986).
func fileURI(path string) string {
	uri := (&url.URL{Path: strings.ReplaceAll(path, "\\", "/")}).String()
	if strings.HasPrefix(path, "/") {
		return "file://" + uri
	}
	return uri
}
