package present

import (
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/harmless"
)

// A WatchEvent is one answer of something that is watched, with what is new in it.
type WatchEvent struct {
	At     string `json:"at"` // RFC 3339
	Plan   string `json:"plan"`
	Item   string `json:"item"`
	Kind   string `json:"kind"`
	Run    string `json:"run"`
	Host   string `json:"host,omitempty"`
	Estate string `json:"estate"`
	State  string `json:"state"` // good, wrong or broken
	Says   string `json:"says"`
	Alarm  bool   `json:"alarm"`            // something is new or over
	First  bool   `json:"first,omitempty"`  // there was no answer before
	Missed int    `json:"missed,omitempty"` // times that went by before it
	Breaks bool   `json:"breaks,omitempty"` // there is no answer, and there was one before
	Works  bool   `json:"works,omitempty"`  // there is one again
	// Many is set where too much is found to compare it one by one: there was Before and is Now.
	Many     bool          `json:"many,omitempty"`
	Before   int           `json:"before,omitempty"`
	Now      int           `json:"now,omitempty"`
	New      []HistoryFact `json:"new"`
	Resolved []HistoryFact `json:"over"`
	// MoreNew and MoreOver are how many more there are than are listed.
	MoreNew  int `json:"moreNew,omitempty"`
	MoreOver int `json:"moreOver,omitempty"`
	// Changed is who changed the group of the worst of what is new lately, and when.
	Changed string `json:"changed,omitempty"`
}

// mostAlarmed is how many facts of one answer an alarm lists.
const mostAlarmed = 50

// Short returns an event with no more facts than an alarm lists.
func (e *WatchEvent) Short() *WatchEvent {
	short := *e
	if n := len(e.New) - mostAlarmed; n > 0 {
		short.New, short.MoreNew = e.New[:mostAlarmed], n
	}
	if n := len(e.Resolved) - mostAlarmed; n > 0 {
		short.Resolved, short.MoreOver = e.Resolved[:mostAlarmed], n
	}
	return &short
}

// Headline says in one line what an event is about.
func (e *WatchEvent) Headline() string {
	var parts []string
	switch {
	case e.Breaks:
		parts = append(parts, "cannot be answered")
	case e.State == "broken":
		parts = append(parts, "still cannot be answered")
	case e.Works:
		parts = append(parts, "works again")
	}
	switch {
	case e.Many && e.First:
		parts = append(parts, thousands(e.Now)+" found, too many to compare one by one")
	case e.Many:
		parts = append(parts, thousands(e.Now)+" found, "+thousands(e.Before)+" before, too many to compare one by one")
	}
	if n := len(e.New) + e.MoreNew; n > 0 {
		word := " new"
		if e.First {
			word = " found at first"
		}
		parts = append(parts, strconv.Itoa(n)+word)
	}
	if n := len(e.Resolved) + e.MoreOver; n > 0 {
		parts = append(parts, strconv.Itoa(n)+" resolved")
	}
	if len(parts) == 0 {
		parts = append(parts, "as before")
	}
	return e.Item + ": " + strings.Join(parts, ", ")
}

// Subject says in one line what an event is about, who it concerns, how bad it is and who changed it.
func (e *WatchEvent) Subject() string {
	f, ok := e.Worst()
	switch {
	case e.First || e.Many || e.Breaks || !ok && len(e.Resolved) == 0:
		return e.Headline()
	case !ok:
		text := e.Item + ": resolved: " + strings.TrimPrefix(e.Resolved[0].about()+": ", ": ") + e.Resolved[0].Says
		if more := len(e.Resolved) + e.MoreOver - 1; more > 0 {
			text += " (and " + strconv.Itoa(more) + " more)"
		}
		return text
	}
	text := strings.TrimPrefix(f.Severity+" ", " ") + strings.TrimPrefix(f.about()+": ", ": ") + f.Says
	var besides []string
	if more := len(e.New) + e.MoreNew - 1; more > 0 {
		besides = append(besides, "and "+strconv.Itoa(more)+" more")
	}
	if n := len(e.Resolved) + e.MoreOver; n > 0 {
		besides = append(besides, strconv.Itoa(n)+" resolved")
	}
	if besides != nil {
		text += " (" + strings.Join(besides, ", ") + ")"
	}
	if e.Changed != "" {
		text += "; changed by " + e.Changed
	}
	return e.Item + ": " + text
}

// Worst returns the worst of what is new, and whether anything is.
func (e *WatchEvent) Worst() (worst HistoryFact, ok bool) {
	rank := func(f HistoryFact) int { return slices.Index([]string{"", "low", "medium", "high"}, f.Severity) }
	for _, f := range e.New {
		if !ok || rank(f) > rank(worst) {
			worst, ok = f, true
		}
	}
	return worst, ok
}

// Lines are what an alarm says of an event, in words.
func (e *WatchEvent) Lines() []string {
	lines := []string{e.Headline(), "  " + Clean(e.Says)}
	if e.Changed != "" {
		lines = append(lines, "  changed by "+Clean(e.Changed))
	}
	for _, list := range []struct {
		word  string
		facts []HistoryFact
		more  int
	}{{"new", e.New, e.MoreNew}, {"resolved", e.Resolved, e.MoreOver}} {
		for _, f := range list.facts {
			severity := strings.TrimPrefix(f.Severity+" ", " ")
			lines = append(lines, "  "+list.word+": "+Clean(severity+strings.TrimPrefix(f.about()+": ", ": ")+f.Says))
		}
		if list.more > 0 {
			lines = append(lines, fmt.Sprintf("  and %d more %s", list.more, list.word))
		}
	}
	return lines
}

// PrintWatchEvent writes an event as it happens: a line of JSON, or lines for people.
func PrintWatchEvent(w io.Writer, e *WatchEvent, format Format, options Options) error {
	if format == JSON {
		line, err := json.Marshal(e)
		if err != nil {
			return err
		}
		_, err = w.Write(append(harmless.JSON(line), '\n'))
		return err
	}
	style := Plain
	switch {
	case e.State == "broken":
		style = Doubtful
	case len(e.New) > 0:
		style = Bad
	case e.State == "good":
		style = Good
	}
	p := newPage(w, options)
	p.Line(2, Span{Faint, shortTime(e.At) + "  "}, Span{style, e.Headline()}, Span{Plain, ". " + e.Says})
	short := e.Short()
	const most = 6
	for i, line := range short.Lines()[2:] {
		if i == most && !options.All {
			p.Line(4, Span{Faint, "  and more: yorvet history show " + e.Run})
			break
		}
		p.Line(4, Span{Plain, line})
	}
	return p.flush()
}
