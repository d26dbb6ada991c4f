package present

import (
	"strconv"
)

// Mailing is what is sent to owners of groups, or would be.
type Mailing struct {
	From    string   `json:"from"`
	Sent    bool     `json:"sent"` // it was sent, rather than planned
	Letters []Letter `json:"letters"`
	Unowned int      `json:"unowned"` // groups of which nobody is notified, since nobody owns them
	Failed  int      `json:"failed"`
}

// Letter is what one owner is sent.
type Letter struct {
	To     string   `json:"to"`
	Groups []string `json:"groups"`
	Bytes  int      `json:"bytes"`
	Why    string   `json:"why,omitempty"`   // it cannot arrive, by the estate
	Reply  string   `json:"reply,omitempty"` // of the server
	Taken  bool     `json:"taken"`           // the server has taken it over
}

func (a *Mailing) writeText(p *Page) {
	head := count(len(a.Letters), "owner", "owners")
	switch {
	case !a.Sent:
		head = "Plan: " + head + " would be sent the report of their groups, from " + a.From +
			". Nothing is sent without --send"
	case a.Failed == 0:
		head += " sent the report of their groups, from " + a.From
	default:
		head = strconv.Itoa(a.Failed) + " of " + head + " could not be sent the report of their groups"
	}
	p.Line(2, Span{Strong, head})
	if a.Unowned > 0 {
		p.Line(2, Span{Doubtful, "! "}, Span{Plain, count(a.Unowned, "group has", "groups have") +
			" no owner who could be told"})
	}
	p.Gap()
	var rows [][]Span
	shown := p.shown(len(a.Letters), 30)
	for _, one := range a.Letters[:shown] {
		state := Span{Plain, ""}
		switch {
		case a.Sent && one.Taken:
			state = Span{Good, "taken"}
		case a.Sent:
			state = Span{Bad, "not taken: " + one.Reply}
		case one.Why != "":
			state = Span{Bad, "cannot arrive: " + one.Why}
		}
		rows = append(rows, []Span{{Strong, one.To}, {Plain, count(len(one.Groups), "group", "groups")},
			{Plain, kilobytes(one.Bytes)}, state})
	}
	p.Table(rows)
	p.more(len(a.Letters)-shown, "more")
}

func kilobytes(n int) string { return strconv.Itoa((n+999)/1000) + " kB" }

func (a *Mailing) table(t *table) {
	t.head("to", "groups", "bytes", "taken", "why", "reply")
	for _, one := range a.Letters {
		t.row(one.To, len(one.Groups), one.Bytes, one.Taken, one.Why, one.Reply)
	}
}
