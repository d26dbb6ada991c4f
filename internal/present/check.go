package present

import (
	"iter"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Hazards are what is going to bite in an estate.
type Hazards struct {
	Hazards  []Hazard       `json:"hazards"`
	Counts   map[string]int `json:"counts"`   // by severity, without those that are accepted
	Accepted []Hazard       `json:"accepted"` // meant to be, as the estate says
	Stale    []string       `json:"stale"`    // places where the estate accepts what is not there

	folder string
	checks []*hazard.Check
}

// A Hazard is one finding.
type Hazard struct {
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
}

// A WitnessCase is a message that shows a hazard; explain follows it.
type WitnessCase struct {
	From      string `json:"from"`
	To        string `json:"to"`
	Unproven  bool   `json:"unproven"`
	Automatic bool   `json:"automatic"`
}

// NewHazards tells what checks have found.
func NewHazards(r *resolve.Resolver, checks []*hazard.Check, findings []hazard.Finding) *Hazards {
	n := newNamer(r)
	a := &Hazards{
		Hazards:  []Hazard{},
		Accepted: []Hazard{},
		Stale:    []string{},
		Counts:   map[string]int{},
		folder:   n.folder(),
		checks:   checks,
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
	for _, acceptance := range hazard.Stale(n.e, checks, findings) {
		a.Stale = append(a.Stale, n.position(acceptance.Place)+": "+acceptance.Hazard)
	}
	return a
}

func (n namer) hazard(f hazard.Finding) Hazard {
	h := Hazard{
		Name:     f.Check.Name,
		Severity: f.Check.Severity.String(),
		Group:    n.address(f.Group),
		Address:  f.Address,
		Because:  f.Because,
	}
	h.Says, h.Fix = f.Text()
	if f.Place != (estate.Place{}) {
		h.File, h.Line, h.Column = n.e.Settings().Files[f.Place.File], int(f.Place.Line), int(f.Place.Column)
	}
	if f.Witness != nil {
		h.Witness = &WitnessCase{
			From:      f.Witness.From.String(),
			To:        h.Group,
			Unproven:  f.Witness.Message.Unproven,
			Automatic: f.Witness.Message.Automatic,
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

func (a *Hazards) writeText(p *Page) {
	p.folder = a.folder
	head := []Span{{Strong, count(len(a.Hazards), "hazard", "hazards")}}
	if len(a.Hazards) > 0 {
		head = append(head, Span{Plain, ": "})
		head = append(head, countSpans(a.Counts, hazard.SeverityWords(), severityStyle)...)
	}
	if len(a.Accepted) > 0 {
		head = append(head, Span{Faint, "; " + strconv.Itoa(len(a.Accepted)) + " accepted in the estate"})
	}
	p.Line(2, head...)
	const most = 4
	for i := 0; i < len(a.Hazards); {
		j := i
		for j < len(a.Hazards) && a.Hazards[j].Name == a.Hazards[i].Name {
			j++
		}
		p.hazards(a.Hazards[i:j], most)
		i = j
	}
	for _, stale := range a.Stale {
		p.Gap()
		p.Line(2, Span{Doubtful, "accepted, and does not occur: "}, Span{Plain, p.short(stale)})
	}
	if len(a.Hazards) > 0 {
		p.Gap()
		p.Line(0, Span{Faint, "yorvet check --explain NAME tells more about a kind of hazard."})
	}
	p.hint()
}

// hazards writes the findings of one check.
func (p *Page) hazards(list []Hazard, most int) {
	p.Gap()
	first := list[0]
	spans := []Span{{severityStyle(first.Severity), first.Severity}, {Plain, "  "}, {Strong, first.Name}}
	if len(list) > 1 {
		spans = append(spans, Span{Plain, " (" + strconv.Itoa(len(list)) + ")"})
	}
	p.Line(2, spans...)
	shown := list
	if !p.options.All && len(list) > most+1 {
		shown = list[:most]
	}
	for _, h := range shown {
		place := ""
		if h.File != "" {
			place = " (" + p.short(h.File+":"+strconv.Itoa(h.Line)+":"+strconv.Itoa(h.Column)) + ")"
		}
		p.Line(4, Span{Plain, "  " + p.short(h.Says)}, Span{Faint, place})
		if len(shown) == len(list) && len(list) == 1 || h == shown[len(shown)-1] {
			p.Line(4, Span{Faint, "    " + h.Fix})
		}
	}
	if len(shown) < len(list) {
		p.Line(4, Span{Faint, "  and " + strconv.Itoa(len(list)-len(shown)) + " more"})
		p.cut = true
	}
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
		}, func(yield func([]string) bool) {
			for _, h := range a.Hazards {
				if !yield(
					[]string{h.Severity, h.Name, h.Group, h.Address, h.File, strconv.Itoa(h.Line), h.Says, h.Fix},
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
