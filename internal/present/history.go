package present

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// History lists the answers that a store keeps, the newest first.
type History struct {
	Store string          `json:"store"`
	Runs  []HistoryResult `json:"runs"`
	More  bool            `json:"more,omitempty"` // there are older ones
	// NoStore is set where there is no store, and nothing makes one of itself: answers are not kept.
	NoStore bool `json:"noStore,omitempty"`
}

// HistoryResult is one answer that was kept: a check, expectations, a comparison or a probe.
type HistoryResult struct {
	Run       string `json:"run"`
	Kind      string `json:"kind"`
	State     string `json:"state"` // good, wrong or broken; of a probe, also open, closing and stopped
	Began     string `json:"began"` // RFC 3339
	Ended     string `json:"ended,omitempty"`
	Owner     string `json:"storeEstate,omitempty"` // the name of the estate in the store, where all are listed
	Estate    string `json:"estate"`
	What      string `json:"what,omitempty"` // what was asked for as well
	Item      string `json:"item,omitempty"` // of a plan that is watched
	Host      string `json:"host,omitempty"`
	Good      int    `json:"good"`
	Bad       int    `json:"bad"`
	Says      string `json:"says"`             // the first line of the answer
	Truncated int    `json:"untold,omitempty"` // found, where that is too much to be kept one by one
}

// HistoryFact is something that an answer found.
type HistoryFact struct {
	Name     string `json:"name"` // the same from one answer to the next
	Group    string `json:"group,omitempty"`
	Who      string `json:"who,omitempty"`
	Severity string `json:"severity,omitempty"`
	Says     string `json:"says"`
	Since    string `json:"since,omitempty"` // when it was found first, without a gap since
}

// HistoryShown is one answer, with what it found.
type HistoryShown struct {
	HistoryResult
	Found []HistoryFact `json:"found"`
}

// HistoryCompared is what one answer found and another one did not.
type HistoryCompared struct {
	Before   HistoryResult `json:"before"`
	After    HistoryResult `json:"after"`
	New      []HistoryFact `json:"new"`
	Resolved []HistoryFact `json:"over"`
	Same     int           `json:"same"` // in both
}

// HistoryOf is the history of a group or person.
type HistoryOf struct {
	Address  string            `json:"address"`
	Now      []HistoryInterval `json:"now"`               // what the last answers find
	Resolved []HistoryInterval `json:"over"`              // what earlier ones found
	LeftOut  int               `json:"leftOut,omitempty"` // older findings that are in neither list
	Mail     HistoryMail       `json:"mail"`              // what probes saw
	Changes  []HistoryChanged  `json:"changes"`
	Days     int               `json:"days"` // how far back Changes look
	// Unread says which changes could not be looked at, and why.
	Unread []string `json:"unread,omitempty"`
}

// HistoryInterval is how long something was found.
type HistoryInterval struct {
	HistoryFact
	Kind   string `json:"kind"`
	Until  string `json:"until"`            // when it was found last
	Times  int    `json:"times"`            // how often it came up
	First  string `json:"first"`            // when it was found the first time of all
	Estate string `json:"estate,omitempty"` // where
	Begun  bool   `json:"-"`                // it was there when anybody asked for the first time
}

// HistoryMail is what probes saw of messages to a group, or in somebody's mailbox.
type HistoryMail struct {
	Checks int            `json:"checks"`           // of which something can be said
	Wrong  int            `json:"wrong"`            // not as predicted
	Since  string         `json:"since,omitempty"`  // when the first was made
	Latest int            `json:"latest,omitempty"` // so many, the newest, make up what follows; 0: all
	Median float64        `json:"median,omitempty"`
	P95    float64        `json:"p95,omitempty"` // seconds
	Days   []HistoryDay   `json:"days"`          // the oldest first
	Flaky  []HistoryFlaky `json:"flaky"`
	Failed []HistoryFlaky `json:"failed"` // not as predicted the last time
}

// HistoryDay is how long messages took on one day.
type HistoryDay struct {
	Day      string  `json:"day"`
	Arrivals int     `json:"arrivals"`
	Median   float64 `json:"median"`
	P95      float64 `json:"p95"`
}

// HistoryFlaky is a check that is sometimes as predicted and sometimes not.
type HistoryFlaky struct {
	Group     string `json:"group"`
	Who       string `json:"who,omitempty"`
	Kind      string `json:"kind"`
	Runs      int    `json:"runs"`
	Wrong     int    `json:"wrong"`
	Turns     int    `json:"turns"` // how often it went from one to the other
	FirstFail string `json:"firstFail,omitempty"`
	Predicted string `json:"predicted"`
	Seen      string `json:"seen"` // the last time that it was not as predicted
}

// HistoryChanged is one change of a group or person.
type HistoryChanged struct {
	When string `json:"when"`
	Who  string `json:"who,omitempty"`
	By   string `json:"by"` // yorvet, git, or found: an answer was another one
	What string `json:"what"`
}

func (r HistoryResult) style() Style {
	switch r.State {
	case "good":
		return Good
	case "wrong":
		return Bad
	}
	return Doubtful
}

func shortTime(text string) string {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t.UTC().Format("2006-01-02 15:04")
	}
	return text
}

func (a *History) writeText(p *Page) {
	line := count(len(a.Runs), "result", "results") + " in " + a.Store
	if a.More {
		line = "The last " + count(len(a.Runs), "result", "results") + " in " + a.Store
	}
	p.Line(2, Span{Strong, line})
	switch {
	case a.NoStore:
		p.Line(2, Span{Plain, "Nothing is kept, as there is no store: yorvet watch and probe --send make one, or --store and " +
			"YORVET_STORE name one"})
		return
	case len(a.Runs) == 0:
		p.Line(2, Span{Plain, "check, expect, compare and probe are kept from now on"})
		return
	}
	p.Gap()
	rows := [][]Span{}
	for _, r := range a.Runs {
		rows = append(rows, append(ownerCell(r.Owner), Span{Strong, r.Run}, Span{Faint, shortTime(r.Began)},
			Span{Plain, r.Kind}, Span{r.style(), r.State}, Span{Plain, r.Says}))
	}
	p.Table(rows)
	if a.More {
		p.Line(0, Span{Faint, "  and older ones (--all)"})
	}
}

var historyHeader = []string{"run", "kind", "state", "began", "ended", "estate", "what", "item", "host", "good",
	"bad", "says", "store-estate"}

func (a *History) table(t *table) {
	t.head(historyHeader...)
	for _, r := range a.Runs {
		t.row(r.Run, r.Kind, r.State, r.Began, r.Ended, r.Estate, r.What, r.Item, r.Host, r.Good, r.Bad, r.Says, r.Owner)
	}
}

// about says who a fact is about.
func (f HistoryFact) about() string {
	about := f.Group
	if f.Who != "" && f.Who != f.Group {
		if about != "" {
			about += ", "
		}
		about += f.Who
	}
	return about
}

// listed writes so many things below a title; of very many the first, and how many more there are.
func (p *Page) listed(title string, n int, write func(i int)) {
	if n == 0 {
		return
	}
	p.Gap()
	p.Title(title + " (" + strconv.Itoa(n) + ")")
	p.first(n, 20, "more", write)
}

func (p *Page) facts(title string, facts []HistoryFact) {
	p.listed(title, len(facts), func(i int) {
		f := facts[i]
		style := Doubtful
		if f.Severity == "high" {
			style = Bad
		}
		spans := []Span{{style, "  " + f.about()}, {Plain, ": " + f.Says}}
		if f.Since != "" {
			spans = append(spans, Span{Faint, "  since " + shortTime(f.Since)})
		}
		p.Line(4, spans...)
	})
}

func (a *HistoryShown) writeText(p *Page) {
	p.Line(2, Span{Strong, a.Kind + " of " + a.Estate + ", " + shortTime(a.Began) + " UTC: "}, Span{a.style(), a.State})
	p.Line(2, Span{Plain, a.Says})
	if a.What != "" {
		p.Line(2, Span{Faint, "Asked for: " + a.What})
	}
	p.facts("Found", a.Found)
	if a.Kind == "probe" {
		p.Line(2, Span{Faint, "yorvet runs show " + a.Run + " tells all that was seen"})
	}
	if a.Truncated > 0 {
		p.Line(2, Span{Doubtful, "! " + thousands(a.Truncated) + " were found, too many to be kept one by one"})
	}
}

func factRows(t *table, marks []string, lists ...[]HistoryFact) {
	t.head("change", "name", "group", "who", "severity", "says", "since")
	for i, list := range lists {
		for _, f := range list {
			t.row(marks[i], f.Name, f.Group, f.Who, f.Severity, f.Says, f.Since)
		}
	}
}

func (a *HistoryShown) table(t *table) {
	factRows(t, []string{"found"}, a.Found)
}

func (a *HistoryCompared) writeText(p *Page) {
	if a.Before.Truncated+a.After.Truncated > 0 {
		p.Line(2, Span{Strong, "Too much was found to compare it one by one: " + thousands(a.Before.Bad) + " and " +
			thousands(a.After.Bad)})
		return
	}
	text := "Both results are the same: " + count(a.Same, "fact", "facts")
	if len(a.New)+len(a.Resolved) > 0 {
		text = strconv.Itoa(len(a.New)) + " new, " + strconv.Itoa(len(a.Resolved)) + " over, " + strconv.Itoa(a.Same) + " in both"
	}
	p.Line(2, Span{Strong, text})
	p.Line(2, Span{Plain, a.Before.Kind + " of " + shortTime(a.Before.Began) + " and of " + shortTime(a.After.Began) +
		" UTC"})
	p.facts("New", a.New)
	p.facts("Over", a.Resolved)
}

func (a *HistoryCompared) table(t *table) {
	factRows(t, []string{"new", "over"}, a.New, a.Resolved)
}

func (a *HistoryOf) writeText(p *Page) {
	p.Line(2, Span{Strong, a.answer()})
	p.spells("Found by the last answers", a.Now, false)
	p.spells("Found earlier", a.Resolved, true)
	a.writeMail(p)
	if len(a.Changes) > 0 {
		p.Gap()
		p.Title("Changed lately")
		for _, c := range a.Changes {
			who := ""
			if c.Who != "" {
				who = c.Who + ", "
			}
			p.Line(4, Span{Faint, "  " + shortTime(c.When) + "  "}, Span{Plain, c.What},
				Span{Faint, "  (" + who + c.By + ")"})
		}
	}
	for _, text := range a.Unread {
		p.Line(2, Span{Doubtful, "! " + text})
	}
}

// answer is the first line.
func (a *HistoryOf) answer() string {
	var parts []string
	if len(a.Now) > 0 {
		parts = append(parts, strconv.Itoa(len(a.Now))+" found by the last answers")
	}
	if len(a.Resolved) > 0 {
		parts = append(parts, strconv.Itoa(len(a.Resolved))+" found earlier")
	}
	if a.LeftOut > 0 {
		parts = append(parts, thousands(a.LeftOut)+" older findings left out")
	}
	if a.Mail.Checks > 0 {
		parts = append(parts, fmt.Sprintf("%d of %s not as predicted since %s", a.Mail.Wrong, count(a.Mail.Checks, "message",
			"messages"), shortTime(a.Mail.Since)[:10]))
	}
	if len(a.Mail.Flaky) > 0 {
		parts = append(parts, strconv.Itoa(len(a.Mail.Flaky))+" flaky")
	}
	if len(a.Changes) > 0 {
		parts = append(parts, count(len(a.Changes), "change", "changes")+" in "+count(a.Days, "day", "days"))
	}
	if len(parts) == 0 {
		return a.Address + ": nothing is kept about it"
	}
	return a.Address + ": " + strings.Join(parts, ", ")
}

func (p *Page) spells(title string, list []HistoryInterval, isOver bool) {
	p.listed(title, len(list), func(i int) {
		s := list[i]
		when := "since " + shortTime(s.Since) + ", last " + shortTime(s.Until)
		if isOver {
			when = shortTime(s.Since) + " to " + shortTime(s.Until)
		}
		spans := []Span{{Faint, "  " + s.Kind + "  "}, {Plain, s.Says}, {Faint, "  " + when}}
		if s.Times > 1 {
			spans = append(spans, Span{Doubtful, "  " + strconv.Itoa(s.Times) + " times since " + shortTime(s.First)})
		}
		p.Line(4, spans...)
	})
}

func (a *HistoryOf) writeMail(p *Page) {
	if a.Mail.Checks == 0 {
		return
	}
	p.Gap()
	p.Title("Messages of probes")
	if a.Mail.Latest > 0 {
		p.Line(2, Span{Doubtful, "  ! What follows is of the last " + thousands(a.Mail.Latest) + " of them"})
	}
	for _, list := range [][]HistoryFlaky{a.Mail.Failed, a.Mail.Flaky} {
		for _, f := range list {
			about := f.Group
			if f.Who != "" {
				about += " to " + f.Who
			}
			text := ", " + f.Kind + ": " + strconv.Itoa(f.Wrong) + " of " + strconv.Itoa(f.Runs) + " not as predicted"
			if f.Turns > 1 {
				text += ", back and forth " + strconv.Itoa(f.Turns) + " times"
			}
			p.Line(4, Span{Bad, "  ! " + about}, Span{Plain, text + "; predicted " + f.Predicted + ", seen " + f.Seen},
				Span{Faint, "  first " + shortTime(f.FirstFail)})
		}
	}
	if len(a.Mail.Days) > 0 {
		p.Line(2, Span{Plain, "  Arrival: median " + seconds(a.Mail.Median) + ", 95 % within " + seconds(a.Mail.P95)})
		p.plot(a.Mail.Days)
	}
}

func seconds(s float64) string { return strconv.FormatFloat(s, 'f', 1, 64) + " s" }

// plot draws the median and the 95th percentile of each day, as bars beside a common scale.
func (p *Page) plot(days []HistoryDay) {
	const most, room = 14, 40
	if len(days) > most && !p.options.All {
		days = days[len(days)-most:]
	}
	top := 0.0
	for _, d := range days {
		top = math.Max(top, d.P95)
	}
	bar := func(s float64) int {
		if top == 0 {
			return 0
		}
		return int(math.Round(s / top * room))
	}
	for _, d := range days {
		median, p95 := bar(d.Median), bar(d.P95)
		p.Line(4, Span{Faint, "  " + d.Day + "  "}, Span{Plain, strings.Repeat("█", median)},
			Span{Faint, strings.Repeat("░", max(p95-median, 0)) + strings.Repeat(" ", room-max(p95, median))},
			Span{Plain, fmt.Sprintf("  %s, %s", seconds(d.Median), seconds(d.P95))})
	}
}

func (a *HistoryOf) table(t *table) {
	t.head("what", "kind", "group", "who", "severity", "says", "since", "until", "times")
	for i, list := range [][]HistoryInterval{a.Now, a.Resolved} {
		for _, s := range list {
			t.row([]string{"now", "earlier"}[i], s.Kind, s.Group, s.Who, s.Severity, s.Says, s.Since, s.Until,
				s.Times)
		}
	}
	for _, f := range a.Mail.Flaky {
		t.row("flaky", f.Kind, f.Group, f.Who, "", "predicted "+f.Predicted+", seen "+f.Seen, f.FirstFail, "", f.Turns)
	}
	for _, d := range a.Mail.Days {
		t.row("arrival", "", "", "", "", "median "+seconds(d.Median)+", 95 % "+seconds(d.P95), d.Day, d.Day,
			d.Arrivals)
	}
	for _, c := range a.Changes {
		t.row("change", c.By, "", c.Who, "", c.What, c.When, c.When, "")
	}
}
