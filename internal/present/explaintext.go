package present

import (
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

func (a *Explanations) writeText(p *Page) {
	for i, one := range a.Explanations {
		if i > 0 {
			p.Gap()
			p.Line(0, Span{Faint, strings.Repeat("-", min(p.options.Width, 60))})
			p.Gap()
		}
		one.writeText(p)
	}
}

func (a *Explanation) writeText(p *Page) {
	p.Line(2, Span{Strong, a.answer()})
	rule, waits := a.reason()
	p.LineAt(2, a.at(), Span{Plain, rule + waits})
	admitted := a.Verdict == estate.Admit.String()
	if admitted {
		if worst := worst(p.byCause(a.Recipients)); worst.Style == Bad || worst.Style == Doubtful {
			p.Line(2, worst)
		}
	}
	if a.unknown != "" {
		meant := ""
		if len(a.Nearest) > 0 {
			meant = " Did you mean " + strings.Join(a.Nearest, " or ") + "?"
		}
		p.Line(2, Span{Doubtful, "! " + a.unknown + " does not exist."}, Span{Plain, meant})
	}
	p.Gap()
	p.message(a)
	if a.SendAs != nil {
		p.sendAs(a.SendAs)
	}
	switch {
	case a.Group != "":
		p.gate(a)
		if len(a.Ways) > 1 {
			p.paths(a.Ways)
		}
	case len(a.Recipients) == 0:
		return
	case len(a.Tried) > 0:
		p.gate(a)
	}
	switch {
	case a.For != nil:
		p.followed(a.For)
	case admitted || p.options.All:
		p.recipients(p.byCause(a.Recipients))
	}
	p.Gap()
	p.sees(a)
	if !admitted && len(a.Recipients) > 0 {
		condition := "If it were admitted: "
		if a.Verdict == estate.Hold.String() {
			condition = "If released: "
		}
		more := " (--all)"
		if p.options.All {
			more = ""
		}
		p.Line(2, Span{Plain, condition + howMany(a.Recipients) + more})
	}
}

// answer is the first line: true by itself.
func (a *Explanation) answer() string {
	words := map[string]string{"admit": "Admitted", "hold": "Held", "refuse": "Refused", "drop": "Dropped"}
	line := words[a.Verdict] + ": " + a.From
	if a.Unsent {
		line = "Not sent: " + a.From
	}
	if a.Sender.Name != "" && !a.Message.Unproven {
		line += " (" + a.Sender.Name + ")"
	}
	line += " to " + a.To
	if a.SendAs != nil {
		line += ", as " + a.SendAs.As
	}
	if a.Verdict == estate.Admit.String() {
		line += ", " + howMany(a.Recipients)
	}
	return line
}

// reason is why the message is admitted or not, and who it waits for.
func (a *Explanation) reason() (rule, waits string) {
	rule = a.by()
	switch {
	case rule == "":
		rule = "mail to a person passes no gate"
	case a.Verdict == estate.Hold.String() && len(a.Approvers) == 0:
		waits = "; nobody can release it: there is no moderator or owner"
	case a.Verdict == estate.Hold.String():
		role := choose(len(a.Approvers), "moderator", "moderators")
		if a.owners {
			role = choose(len(a.Approvers), "owner", "owners")
		}
		waits = "; waits for " + strings.Join(a.waiting, ", ") + " (" + role + ")"
	}
	return rule, waits
}

// message writes what the message is.
func (p *Page) message(a *Explanation) {
	from := "not in the estate"
	if a.Sender.Is != "stranger" {
		from = a.Sender.Is
		if a.Sender.Name != "" {
			from = a.Sender.Name
		}
		if !address.Same(a.Sender.Address, a.From) {
			from += ", " + a.Sender.Address
		}
	}
	if a.Sender.Inside {
		from += ", inside"
	} else {
		from += ", outside"
	}
	to := a.name
	if a.Group != "" && !address.Same(a.Group, a.To) {
		to += ", " + a.Group
	}
	var traits []string
	for _, trait := range []struct {
		is   bool
		name string
	}{
		{a.Message.Unproven, "not authenticated"}, {a.Message.Suspect, "suspect"}, {a.Message.Automatic, "automatic"},
		{a.Message.Invitation, "an invitation"}, {a.Message.Size > 0, count(int(a.Message.Size), "byte", "bytes")},
	} {
		if trait.is {
			traits = append(traits, trait.name)
		}
	}
	if len(traits) == 0 {
		traits = []string{"an ordinary, authenticated message"}
	}
	p.Table([][]Span{
		{{Faint, "from"}, {Plain, a.From}, {Faint, from}},
		{{Faint, "to"}, {Plain, a.To}, {Faint, to}},
		{{Faint, "is"}, {Plain, strings.Join(traits, ", ")}, {}},
	})
}

func (p *Page) sendAs(v *SendAsDecision) {
	p.Gap()
	if v.Rule == 0 {
		p.Line(2, Span{Strong, "Send-as: "}, Span{Bad, "no"},
			Span{Plain, ", no rule lets " + v.By + " send as " + v.As + ". What follows is what would become of it."})
		return
	}
	p.LineAt(2, v.Place, Span{Strong, "Send-as: "}, Span{Plain, "yes, " + v.SendAs + " the group, by rule " +
		strconv.Itoa(v.Rule) + ": " + v.Written})
	if v.Proof == resolve.ProofImpossible.String() {
		p.Line(2, Span{Bad, "The code that would prove it cannot reach " + v.By + "."},
			Span{Plain, " What follows is what would become of it."})
	}
}

// gate writes the rules that were tried.
func (p *Page) gate(a *Explanation) {
	p.Gap()
	title := "Gate of " + a.Group
	switch {
	case a.Group == "":
		title = "Edge of the estate"
	case a.Edge > 0 || len(a.Tried) > 0 && a.Tried[0].Edge > 0:
		title = "Edge of the estate, gate of " + a.Group
	}
	p.Title(title)
	var rows [][]Span
	for _, tried := range a.Tried {
		answer := Span{Faint, "no"}
		if tried.Matched {
			answer = Span{Strong, "YES"}
		}
		rows = append(
			rows,
			[]Span{
				{Plain, tried.number()},
				{Plain, tried.Written},
				answer,
				{Faint, strings.Join(tried.Because, "; ")},
			},
		)
	}
	p.Table(rows)
	if a.Group != "" && a.gate.Rule == 0 && a.gate.Edge == 0 {
		p.Line(2, Span{Plain, "  " + a.gate.by() + ": "}, verdictSpan(a.gate))
	}
}

// followed writes what one recipient gets, and by which paths.
func (p *Page) followed(f *Followed) {
	p.Gap()
	if f.Outcome == "" {
		p.Line(2, Span{Bad, "! Nothing for " + f.Address}, Span{Plain, ": " + f.Why})
		return
	}
	p.Line(2, Span{outcomeStyle(f.Outcome), "For " + f.Address + ": " + f.Outcome}, Span{Plain, ", " + f.Why})
	for _, path := range f.Paths {
		mark := "also "
		if path.Decides {
			mark = "best "
		}
		text := mark + path.Outcome + ": " + path.reason
		if len(path.Via) > 1 {
			text += ", via " + shorten(path.Via[1:])
		}
		p.LineAt(4, path.place, Span{Plain, "  " + text})
	}
}

// number is the rule as it is called in a table.
func (t Tried) number() string {
	if t.Edge > 0 {
		return "edge " + strconv.Itoa(t.Edge)
	}
	return strconv.Itoa(t.Rule)
}

// paths writes the nested groups that the message comes to: those with trouble, and with
// --all the others.
func (p *Page) paths(paths []Path) {
	words := map[string]Span{
		resolve.PathOpen.String():    {Plain, "admits"},
		resolve.PathWaiting.String(): {Doubtful, "holds"},
		resolve.PathStopped.String(): {Bad, "refuses"},
	}
	rows := map[string][][]Span{}
	for _, w := range paths[1:] {
		why := "its own gate is not asked"
		if w.Decision != nil {
			why = w.Decision.by()
		}
		if w.From != paths[0].Group {
			why = "from " + w.From + "; " + why
		}
		rows[w.State] = append(rows[w.State], []Span{words[w.State], {Plain, w.Group}, {Faint, why}})
	}
	var counts []string
	var shown [][]Span
	for _, state := range []string{resolve.PathStopped.String(), resolve.PathWaiting.String(), resolve.PathOpen.String()} {
		n := len(rows[state])
		if n == 0 {
			continue
		}
		verb := words[state].Text
		if n > 1 {
			verb = strings.TrimSuffix(verb, "s")
		}
		counts = append(counts, strconv.Itoa(n)+" "+verb)
		if state != resolve.PathOpen.String() || p.options.All {
			shown = append(shown, rows[state]...)
		}
	}
	p.Gap()
	title := []Span{{Strong, "Nested groups: "}, {Plain, strings.Join(counts, ", ")}}
	if len(rows[resolve.PathOpen.String()]) > 0 && !p.options.All {
		title = append(title, Span{Faint, "   (--all lists them)"})
	}
	p.Line(2, title...)
	n := p.shown(len(shown), mostShown)
	p.Table(shown[:n])
	p.more(len(shown)-n, "more")
}

// sees writes what each side sees.
func (p *Page) sees(a *Explanation) {
	p.Line(2, Span{Plain, "Sender " + a.Sees.Sender})
	if a.Sees.Before != "" && p.options.All {
		p.Line(2, Span{Plain, "Could they have known? " + a.Sees.Before})
	}
	if a.Verdict != estate.Admit.String() || a.Sees.Reaching == 0 {
		return
	}
	view := "Readers see From: " + a.Sees.From
	if a.Sees.SentBy != "" {
		view += "; Sender: " + a.Sees.SentBy
	}
	if a.Sees.ReplyTo != "" {
		view += "; Reply-To: " + a.Sees.ReplyTo
	}
	if a.Sees.Subject != "" {
		view += "; Subject: " + a.Sees.Subject + " ..."
	}
	p.Line(2, Span{Plain, view})
	if a.Sees.Footer != "" {
		p.Line(2, Span{Plain, "Under each copy: " + oneLine(a.Sees.Footer)})
	}
	if a.Sees.Answer != "" {
		p.Line(2, Span{Plain, "The author gets back, once a day: " + oneLine(a.Sees.Answer)})
	}
}

func (a *Explanations) table(t *table) {
	t.head("from", "to", "group", "verdict", "rule", "text", "address", "outcome", "via", "why")
	for _, one := range a.Explanations {
		row := func(address, outcome, via, why string) {
			t.row(one.From, one.To, one.Group, one.Verdict, one.Rule, one.Text, address, outcome, via, why)
		}
		if len(one.Recipients) == 0 {
			row("", "", "", "")
		}
		for _, r := range one.Recipients {
			row(r.Address, r.Outcome, strings.Join(r.Via, " > "), r.Why)
		}
	}
}
