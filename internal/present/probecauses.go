package present

import (
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/probe"
)

// markExplained marks what a cause explains: what members got, and verdicts with all
// that follows from them.
func (a *Probe) markExplained(n namer, j *probe.Judgement, cause infer.Cause) {
	for _, miss := range cause.Explains {
		number := j.Explained[miss.Trial]
		if miss.Person == estate.None {
			a.Cases[number].explained = true
		}
		for i := range a.Members {
			m := &a.Members[i]
			if m.index == number &&
				(miss.Person == estate.None || n.e.IsPerson(miss.Person) && m.Address == n.address(miss.Person)) &&
				m.Seen != probe.SeenJunk &&
				m.Seen != probe.SeenTwice {
				m.explained = true
			}
		}
	}
	example := &a.Causes[len(a.Causes)-1].example
	first := cause.Explains[0]
	c := &a.Cases[j.Explained[first.Trial]]
	*example = c.Kind + ", " + c.From + " to " + c.To + ": "
	if first.Person == estate.None {
		*example += c.Predicted + " predicted, seen " + c.Seen
		return
	}
	for _, m := range a.Members {
		if m.index == j.Explained[first.Trial] && m.Address == n.address(first.Person) {
			predicted := m.Predicted
			if predicted == "" {
				predicted = "nothing"
			}
			*example += m.Address + ", " + predicted + " predicted, " + m.Seen
		}
	}
}

func (n namer) cause(j *probe.Judgement, cause infer.Cause) ProbeCause {
	c := ProbeCause{Explains: len(cause.Explains)}
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
	return c
}

func (a *Probe) writeCause(p *Page, i int, c ProbeCause) {
	p.Gap()
	p.Line(
		3,
		Span{Strong, strconv.Itoa(i+1) + ". It is as if "},
		Span{Bad, c.AsIf[0].Says},
		Span{Plain, "."},
		Span{
			Faint,
			" Explains " + count(
				c.Explains,
				"difference",
				"differences",
			) + " in " + count(
				len(c.Cases),
				"message",
				"messages",
			) + ".",
		},
	)
	for line := range strings.Lines(c.AsIf[0].YAML) {
		p.Line(10, Span{Plain, "       " + strings.TrimRight(line, "\n")})
	}
	p.Line(6, Span{Faint, "   Such as in " + c.example + "."})
	const most = 3
	for i, other := range c.AsIf[1:min(len(c.AsIf), 1+most)] {
		word := "or as if "
		if i == 0 {
			word = "What was seen cannot tell it from this: as if "
		}
		p.Line(6, Span{Faint, "   " + word + other.Says})
	}
}
