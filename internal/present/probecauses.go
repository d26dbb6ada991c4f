package present

import (
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/probe"
)

// markExplained marks what a cause explains and no other before it: what members got, and
// verdicts with all that follows from them. It returns how many differences these are, and
// in how many messages.
func (a *Probe) markExplained(n namer, j *probe.Judgement, cause infer.Cause) (differences, messages int) {
	met := map[int]bool{}
	for _, miss := range cause.Explains {
		number := j.Explained[miss.Trial]
		note := func(explained *bool) {
			if !*explained {
				*explained = true
				differences++
				met[number] = true
			}
		}
		if c := &a.Cases[number]; miss.Person == estate.None && !c.AsPredicted {
			note(&c.explained)
		}
		for i := range a.Members {
			m := &a.Members[i]
			if m.index == number && !m.AsPredicted &&
				(miss.Person == estate.None || n.e.IsPerson(miss.Person) && m.Address == n.address(miss.Person)) &&
				!m.unlooked && m.Seen != probe.SeenJunk && m.Seen != probe.SeenTwice && m.Seen != probe.Elsewhere {
				note(&m.explained)
			}
		}
	}
	return differences, len(met)
}

// example words one of the differences that a cause explains.
func (a *Probe) example(n namer, j *probe.Judgement, cause infer.Cause) string {
	first := cause.Explains[0]
	c := &a.Cases[j.Explained[first.Trial]]
	text := "message " + c.Case + ", " + c.From + " to " + c.To + ": "
	if first.Person == estate.None {
		return text + c.Predicted + " predicted, seen " + c.Seen
	}
	for _, m := range a.Members {
		if m.index == j.Explained[first.Trial] && m.Address == n.address(first.Person) {
			return text + "for " + m.Address + " " + m.difference()
		}
	}
	return text + "as predicted"
}

// difference says what was predicted for a mailbox, and what was seen in it.
func (m *ProbeMember) difference() string {
	predicted := m.Predicted
	if predicted == "" {
		predicted = "nothing"
	}
	text := predicted + " predicted, " + m.Seen
	switch {
	case m.Seen == probe.Elsewhere || m.Seen == probe.SeenJunk:
		text += " in " + m.Where
	case m.Why != "":
		text += " (" + m.Why + ")"
	}
	return text
}

func (n namer) cause(j *probe.Judgement, cause infer.Cause) ProbeCause {
	c := ProbeCause{}
	for _, miss := range cause.Explains {
		if name := j.Cases[j.Explained[miss.Trial]].Case.Name; !slices.Contains(c.Cases, name) {
			c.Cases = append(c.Cases, name)
		}
	}
	const most = 6
	for _, h := range cause.Hypotheses[:min(most, len(cause.Hypotheses))] {
		one := n.asIf(h.Change)
		if h.And != nil {
			and := n.asIf(h.And)
			one.Says += ", and " + and.Says
			one.YAML += and.YAML
		}
		c.AsIf = append(c.AsIf, one)
	}
	if explainsMissing(j, cause) {
		c.AsIf = append(c.AsIf, AsIf{Says: "it was lost on the way, or a filter of the mailbox took it out"})
	}
	return c
}

// explainsMissing reports whether a cause explains a copy that did not come, which may have been lost
// as well.
func explainsMissing(j *probe.Judgement, cause infer.Cause) bool {
	return slices.ContainsFunc(cause.Explains, func(miss infer.Miss) bool {
		if miss.Person == estate.None {
			return false
		}
		address := j.Run.Plan.Estate().Address(miss.Person).String()
		return slices.ContainsFunc(j.Members, func(m probe.MemberResult) bool {
			return m.Case == j.Explained[miss.Trial] && m.Address == address && m.Seen == probe.SeenNot
		})
	})
}

// alike returns how many causes from one on say the same of one person each: the same
// setting and value, in the same group or of the person themselves.
func (a *Probe) alike(from int) int {
	first := &a.Causes[from].AsIf[0]
	n := 1
	for _, c := range a.Causes[from+1:] {
		one := &c.AsIf[0]
		if first.Person == "" || one.Person == "" || one.Group != first.Group || one.Setting != first.Setting ||
			one.Value != first.Value || strings.Contains(one.Says, ", and ") {
			break
		}
		n++
	}
	return n
}

// writeCauses reports the causes, those that say the same of many people once.
func (a *Probe) writeCauses(p *Page) {
	const fewest = 3
	for i, number := 0, 1; i < len(a.Causes); number++ {
		n := a.alike(i)
		if n < fewest || p.options.All {
			a.writeCause(p, number, a.Causes[i])
			i++
			continue
		}
		all := a.Causes[i]
		var others []string
		in := map[string]bool{}
		for k, c := range a.Causes[i : i+n] {
			for _, name := range c.Cases {
				in[name] = true
			}
			if k > 0 {
				all.Explains += c.Explains
				others = append(others, c.AsIf[0].Person)
			}
		}
		all.messages = len(in)
		a.writeCause(p, number, all)
		p.Line(6, Span{Plain, "   The same of " + count(len(others), "other person", "other people") + ": " + p.some(others)})
		i += n
	}
}

// causeWord begins a cause: likely is only what has no equal by what was seen. That several copies are
// lost, and just those that one setting would keep back, is less likely than the setting.
func causeWord(list []AsIf, explains int) string {
	settings := 0
	for _, one := range list {
		if one.Setting != "" {
			settings++
		}
	}
	if settings == 1 && (explains > 1 || len(list) == 1) {
		return "Likely cause: "
	}
	return "One of these: "
}

func (a *Probe) writeCause(p *Page, number int, c ProbeCause) {
	p.Gap()
	p.Line(3, Span{Strong, strconv.Itoa(number) + ". " + causeWord(c.AsIf, c.Explains)}, Span{Bad, c.AsIf[0].Says})
	p.Line(3, Span{Plain, "   Explains " + strconv.Itoa(c.Explains) + " of " + strconv.Itoa(a.NotAsPredicted) + ", in " +
		count(c.messages, "message", "messages")})
	for line := range strings.Lines(c.AsIf[0].YAML) {
		p.Code(7, Span{Plain, strings.TrimRight(line, "\n")})
	}
	p.Line(6, Span{Faint, "   Example: " + c.example})
	const most = 3
	others := c.AsIf[1:]
	if last := len(others) - 1; last >= most && others[last].Setting == "" { // lost: it is always told
		others = append(slices.Clone(others[:most-1]), others[last])
	}
	for _, other := range others[:min(len(others), most)] {
		p.Line(6, Span{Faint, "   or: " + other.Says})
	}
}
