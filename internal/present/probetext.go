package present

import (
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/probe"
)

// head is the first line, which says only what was seen.
func (a *Probe) head() []Span {
	head := []Span{{Strong, count(len(a.Cases), "message", "messages") + ", " +
		count(a.AsPredicted+a.NotAsPredicted+a.NotLookedAt+a.NotSent, "check", "checks") + ": "}}
	switch {
	case a.NotAsPredicted+a.NotLookedAt+a.NotSent == 0 && a.Ended:
		return append(head, Span{Good, "all as predicted"})
	case a.NotAsPredicted == 0:
		head = append(head, Span{Plain, strconv.Itoa(a.AsPredicted) + " as predicted"})
	default:
		head = append(head, Span{Plain, strconv.Itoa(a.AsPredicted) + " as predicted, "},
			Span{Bad, strconv.Itoa(a.NotAsPredicted) + " not"})
	}
	if a.NotSent > 0 {
		head = append(head, Span{Doubtful, ", " + strconv.Itoa(a.NotSent) + " not sent"})
	}
	if a.NotLookedAt > 0 {
		head = append(head, Span{Doubtful, ", " + strconv.Itoa(a.NotLookedAt) + " not looked at"})
	}
	return head
}

func (a *Probe) writeText(p *Page) {
	p.Line(2, a.head()...)
	if a.NotAsPredicted > 0 {
		p.Line(2, a.explanation())
	}
	switch {
	case a.UnderWay != nil:
		p.Line(2, Span{Doubtful, "! This is what was seen so far."})
		a.UnderWay.writeUnderWay(p)
		writeAgents(p, a.UnderWay.Agents)
	case !a.Ended:
		p.Line(2, Span{Doubtful, "! The run was interrupted; what was not seen may yet come. To go on:"})
		p.Line(2, Span{Plain, "  yorvet probe --resume " + a.Run + " --send"})
	}
	for _, note := range a.late {
		p.Line(2, Span{Doubtful, "! " + note})
	}
	a.writeReasons(p)
	a.writeCauses(p)
	a.writeDifferences(p)
	a.writeReaders(p)
	a.writeCodes(p)
	a.writeUnlooked(p)
	p.Gap()
	p.Line(0, Span{Faint, "Run " + a.Run + ". Show again: yorvet probe --show " + a.Run})
	p.Line(0, Span{Faint, "Remove its messages: yorvet probe --tidy " + a.Run})
}

// writeCodes reports for each who asked for the code of a group whether it came to them.
func (a *Probe) writeCodes(p *Page) {
	told := false
	for _, c := range a.Cases {
		if c.Seen != probe.CodeMailed && c.Seen != probe.CodeMissing {
			continue
		}
		if !told {
			p.Gap()
			p.Title("Codes to write in a group's name")
			told = true
		}
		seen := Span{Plain, c.Seen}
		if c.Seen == probe.CodeMissing {
			seen = Span{Bad, c.Seen}
		}
		p.Line(4, Span{Plain, "  " + c.By + ", as " + c.From + ": "}, seen)
	}
}

// writeUnlooked lists what is unknown, by reason.
func (a *Probe) writeUnlooked(p *Page) {
	var unsent, unlooked reasons
	for _, c := range a.Cases {
		switch {
		case !c.unlooked:
		case c.Seen == probe.NotSent || c.Seen == probe.Deferred:
			why := c.Why
			if why == "" {
				why = c.Reply
			}
			unsent.note(why, "message "+c.Case+" from "+c.From+" to "+c.To)
		case c.Seen == probe.Unknown:
			unlooked.note("the connection broke, and nobody knows whether it was taken over", "message "+c.Case)
		default:
			unlooked.note(c.Why, "what "+c.To+" does with message "+c.Case)
		}
	}
	for _, m := range a.Members {
		if m.unlooked {
			unlooked.note(strings.TrimPrefix(m.Why, m.Address+": "), m.Address)
		}
	}
	unsent.write(p, "Not sent")
	unlooked.write(p, "Not looked at")
}

// reasons are why nothing is known, and about which people.
type reasons struct {
	list []string
	who  map[string][]string
}

func (r *reasons) note(why, who string) {
	if r.who == nil {
		r.who = map[string][]string{}
	}
	if r.who[why] == nil {
		r.list = append(r.list, why)
	}
	if !slices.Contains(r.who[why], who) {
		r.who[why] = append(r.who[why], who)
	}
}

func (r *reasons) write(p *Page, title string) {
	if len(r.list) > 0 {
		p.Gap()
		p.Title(title)
	}
	p.first(len(r.list), 6, "more reasons", func(i int) {
		p.Line(4, Span{Doubtful, "  " + r.list[i] + ": "}, Span{Plain, p.some(r.who[r.list[i]])})
	})
}

// mayYetCome reports whether something that was predicted has neither come nor bounced.
func (a *Probe) mayYetCome() bool {
	return slices.ContainsFunc(a.Members, func(m ProbeMember) bool {
		return !m.AsPredicted && m.Seen == probe.SeenNot && (m.Predicted == "inbox" || m.Predicted == "digest")
	})
}

// writeReasons tells what servers said of what is not as predicted, before anything is guessed.
func (a *Probe) writeReasons(p *Page) {
	if len(a.Reasons) > 0 {
		p.Gap()
		p.Title("What servers said")
	}
	p.first(len(a.Reasons), 6, "more", func(i int) {
		r := &a.Reasons[i]
		of := "message " + p.some(r.Cases)
		if len(r.Cases) > 1 {
			of = "messages " + p.some(r.Cases)
		}
		if r.Who != nil {
			of = p.some(r.Who)
		}
		p.Line(4, Span{Plain, "  " + of + ": "}, Span{Bad, r.Words})
		if r.Says != "" {
			p.Line(6, Span{Plain, "    " + r.Says})
		}
	})
}

// explanation says how much of what differs is explained.
func (a *Probe) explanation() Span {
	if a.settled > 0 {
		text := "What servers said explains " + strconv.Itoa(a.settled)
		switch {
		case a.Unexplained == 0 && len(a.Causes) == 0:
			text += ", all of it"
		case len(a.Causes) > 0:
			text += ", " + count(len(a.Causes), "cause", "causes") + " " +
				strconv.Itoa(a.NotAsPredicted-a.settled-a.Unexplained)
		}
		if a.Unexplained > 0 {
			text = "! " + text + ", " + strconv.Itoa(a.Unexplained) + " not explained"
		}
		return Span{Plain, text}
	}
	if len(a.Causes) == 0 && a.Unexplained == a.NotAsPredicted {
		if a.mayYetCome() {
			return Span{Bad, "! No change to one or two settings explains it: it may still be on its way, be lost, or be " +
				"nothing an estate can say"}
		}
		return Span{Bad, "! No change to one or two settings explains it: lost on the way, or nothing an estate can say"}
	}
	causes := count(len(a.Causes), "cause explains", "causes explain")
	if a.Unexplained == 0 {
		return Span{Plain, causes + " all " + strconv.Itoa(a.NotAsPredicted)}
	}
	return Span{Bad, "! " + causes + " " + strconv.Itoa(a.NotAsPredicted-a.Unexplained) + ", " +
		strconv.Itoa(a.Unexplained) + " not explained"}
}

// writeDifferences tells what was not as predicted, case by case.
func (a *Probe) writeDifferences(p *Page) {
	const mostCases = 12
	shown, left, explained := 0, 0, 0
	for i, c := range a.Cases {
		members, known := a.otherwise(i, p.options.All)
		explained += known
		verdict := !c.AsPredicted && !c.unlooked
		facets := slices.DeleteFunc(slices.Clone(c.Facets), func(f Facet) bool { return f.AsPredicted })
		if verdict && c.explained && !p.options.All {
			explained++
			verdict = false
		}
		if !verdict && len(members)+len(facets) == 0 {
			continue
		}
		if shown >= mostCases && !p.options.All {
			left++
			continue
		}
		if shown == 0 {
			p.Gap()
			p.Title("Not as predicted")
		}
		shown++
		c.writeDifference(p, verdict, members, facets)
	}
	p.more(left, "more messages")
	if shown > 0 {
		p.more(explained, "more, explained above")
	}
}

// otherwise returns what was not seen as predicted of a case in mailboxes, and how much
// more of it is explained already, unless all is wanted.
func (a *Probe) otherwise(number int, all bool) (members []ProbeMember, explained int) {
	for _, m := range a.Members {
		switch {
		case m.index != number || m.AsPredicted || m.unlooked:
		case m.explained && !all:
			explained++
		default:
			members = append(members, m)
		}
	}
	return members, explained
}

// writeDifference tells what was seen otherwise of a case: the verdict, and what some
// got.
func (c *ProbeCase) writeDifference(p *Page, verdict bool, members []ProbeMember, facets []Facet) {
	from := c.From
	if c.By != "" {
		from = c.By + " as " + c.From
	}
	spans := []Span{
		{Faint, "  " + c.Case + " "},
		{Plain, c.Kind + ", " + from + " to " + c.To + ": "},
		{verdictStyle(c.Predicted), c.Predicted},
	}
	if verdict {
		spans = append(spans, Span{Plain, " was predicted, seen "}, Span{Bad, c.Seen})
		switch {
		case c.Why != "":
			spans = append(spans, Span{Faint, " (" + c.Why + ")"})
		case c.Reply != "":
			spans = append(spans, Span{Faint, " (" + c.Reply + ")"})
		}
	}
	p.Line(6, spans...)
	p.first(len(members), 4, "more", func(i int) {
		p.Line(8, Span{Plain, "      " + members[i].Address + ": "}, Span{Bad, members[i].difference()})
	})
	for _, f := range facets {
		p.Line(8, Span{Plain, "      " + f.Name + " in the mailbox of " + f.Reader + ": "},
			Span{Bad, quoted(f.Predicted) + " predicted, " + quoted(f.Seen)})
		if f.AsIf != nil {
			p.Line(8, Span{Faint, "      " + f.AsIf.Says})
		}
	}
}

// quoted is a text in quotes, or a word for none.
func quoted(text string) string {
	if text == "" {
		return "none"
	}
	return strconv.Quote(text)
}

// writeReaders tells what the readers of messages in a group's name see, and where
// private addresses show.
func (a *Probe) writeReaders(p *Page) {
	title := func() {
		p.Gap()
		p.Title("What readers see")
	}
	for _, c := range a.Cases {
		v := c.Reader
		if v == nil || c.By == "" && len(v.Shows) == 0 {
			continue
		}
		if title != nil {
			title()
			title = nil
		}
		by := c.From
		if c.By != "" {
			by = c.By
		}
		text := "from " + strings.Join(v.From, ", ")
		if len(v.Sender) > 0 {
			text += ", sent by " + strings.Join(v.Sender, ", ")
		}
		text += "; an answer goes to " + strings.Join(v.Answer, ", ")
		p.Line(6, Span{Faint, "  " + c.Case + " "}, Span{Plain, c.Kind + " by " + by + ": " + text})
		if len(v.Shows) > 0 {
			p.Line(8, Span{Bad, "      shows "}, Span{Plain, strings.Join(v.Shows, ", ")})
		}
	}
}
