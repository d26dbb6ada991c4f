package present

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/trail"
)

// LogEstate says what an estate has to say of logged messages.
type LogEstate struct {
	Compared int `json:"compared"` // messages to groups, one for each group
	Differ   int `json:"differ"`   // of those, where the log and the estate disagree
	Passed   int `json:"passed"`   // not compared: they name no sender
	Untold   int `json:"untold"`   // where the logs do not tell what became of it, or not for each member
	Tried    int `json:"tried"`    // with which causes were looked for: the latest
	// Verdicts are of messages that were taken, held or refused where the estate says something else.
	Verdicts []LogVerdict `json:"verdicts"`
	// Missing are those that the estate names and the logs have no delivery to.
	Missing []LogMissing `json:"missing"`
	// Unlike are those that the logs and the estate disagree about.
	Unlike []LogMissing `json:"unlike"`
	Causes []LogCause   `json:"causes"`
	Lost   int          `json:"lost"` // differences that no change explains
}

// LogVerdict is what a group said of a message, by the logs, and what the estate says.
type LogVerdict struct {
	Message  string `json:"message"`
	Group    string `json:"group"`
	From     string `json:"from"`
	Estate   string `json:"estate"`
	By       string `json:"by"` // the rule that decides, by the estate
	Log      string `json:"log"`
	Place    string `json:"place,omitempty"`
	Messages int    `json:"messages"` // that are alike
}

// LogMissing is somebody, and in how many messages the logs say the same of them.
type LogMissing struct {
	Address  string `json:"address"`
	Group    string `json:"group"`
	Messages int    `json:"messages"`
	Outcome  string `json:"outcome"` // by the estate; "": none
	Why      string `json:"why"`     // by the estate
	Place    string `json:"place,omitempty"`
	Log      string `json:"log,omitempty"` // what the logs say instead
}

// LogCause is a change of the estate under which the logs would be as it says.
type LogCause struct {
	Explains int    `json:"explains"` // differences
	AsIf     []AsIf `json:"asIf"`     // equally good, the likeliest first
}

// SetEstate has the answer set an estate beside what was logged.
func (a *Log) SetEstate(r *resolve.Resolver, c *trail.Comparison) {
	n := newNamer(r)
	s := &LogEstate{Compared: len(c.Messages), Passed: c.Passed, Tried: c.Tried, Verdicts: []LogVerdict{}, Missing: []LogMissing{},
		Unlike: []LogMissing{}, Causes: []LogCause{}}
	for i := range c.Messages {
		m := &c.Messages[i]
		if m.Differs() {
			s.Differ++
		}
		if !m.Said.Has(m.Fate.Verdict) {
			s.verdict(n, m)
			continue
		}
		if m.Said == trail.All || m.Fate.Verdict == estate.Admit && !m.Told {
			s.Untold++
		}
		s.members(n, m)
	}
	byCount := func(x, y LogMissing) int {
		return cmp.Or(cmp.Compare(y.Messages, x.Messages), strings.Compare(strings.ToLower(x.Address),
			strings.ToLower(y.Address)))
	}
	slices.SortStableFunc(s.Missing, byCount)
	slices.SortStableFunc(s.Unlike, byCount)
	s.Lost = len(c.Lost) + c.Strangers
	const most = 6
	for _, cause := range c.Causes {
		one := LogCause{Explains: len(cause.Explains)}
		for _, h := range cause.Hypotheses[:min(most, len(cause.Hypotheses))] {
			one.AsIf = append(one.AsIf, n.hypothesis(h))
		}
		s.Causes = append(s.Causes, one)
	}
	a.Estate = s
}

// hypothesis words a change, with a second one that goes with it.
func (n namer) hypothesis(h infer.Hypothesis) AsIf {
	one := n.asIf(h.Change)
	if h.And != nil {
		and := n.asIf(h.And)
		one.Says += ", and " + and.Says
		one.YAML += and.YAML
	}
	return one
}

// verdict notes a message about which the log and the estate disagree.
func (s *LogEstate) verdict(n namer, m *trail.Compared) {
	said := ""
	for v := estate.Admit; v <= estate.Drop; v++ {
		if m.Said == infer.OneOf(v) {
			said = v.String()
		}
	}
	d := newDecision(n.e, m.Group, m.Fate.Gate)
	one := LogVerdict{Message: m.Story.Message, Group: n.address(m.Group), From: m.Story.From,
		Estate: m.Fate.Verdict.String(),
		By:     d.by(), Log: said, Place: d.at(), Messages: 1}
	for i := range s.Verdicts {
		if v := &s.Verdicts[i]; v.Group == one.Group && v.Log == one.Log && v.Estate == one.Estate && v.By == one.By &&
			v.From == one.From {
			v.Messages++
			return
		}
	}
	s.Verdicts = append(s.Verdicts, one)
}

// members notes who of a message has no delivery, or another one than by the estate.
func (s *LogEstate) members(n namer, m *trail.Compared) {
	d := m.Fate.Delivery()
	of := map[estate.ID]resolve.Recipient{}
	if d != nil {
		for _, recipient := range d.Recipients() {
			of[recipient.ID] = recipient
		}
	}
	for i := range m.Members {
		one := &m.Members[i]
		row := LogMissing{Address: one.Address, Group: n.address(m.Group), Messages: 1}
		if one.Named {
			row.Outcome = one.Outcome.String()
			why, own := n.why(d, of[one.ID])
			row.Why, row.Place = why.text, why.place+own
		}
		switch {
		case one.Line == nil && m.Told && one.Outcome != resolve.Digest && one.Outcome != resolve.Archive:
			s.Missing = noted(s.Missing, row)
		case one.Line != nil && !one.Agrees():
			if row.Log = one.Line.Fate.String(); one.Line.Detail != "" && !one.Line.Fate.Good() {
				row.Log += ": " + oneLine(one.Line.Detail)
			}
			s.Unlike = noted(s.Unlike, row)
		}
	}
}

// noted adds somebody to a list, or counts a message to them.
func noted(list []LogMissing, row LogMissing) []LogMissing {
	for i := range list {
		if one := &list[i]; one.Address == row.Address && one.Group == row.Group && one.Outcome == row.Outcome &&
			one.Why == row.Why {
			one.Messages++
			return list
		}
	}
	return append(list, row)
}

// writeText writes what the estate says.
func (s *LogEstate) writeText(p *Page) {
	if s.Compared == 0 {
		return
	}
	p.Gap()
	head := Span{Good, count(s.Compared, "message to a group", "messages to groups") + ": all as the estate says"}
	if s.Differ > 0 {
		head = Span{Bad, "Messages to groups: " + strconv.Itoa(s.Differ) + " of " + strconv.Itoa(s.Compared) +
			" otherwise than the estate says"}
	} else if s.Untold > 0 {
		head = Span{Plain, count(s.Compared, "message to a group agrees", "messages to groups agree") +
			" with the estate, as far as the logs tell"}
	}
	p.Line(0, head)
	if s.Untold > 0 {
		p.Line(2, Span{Doubtful, "  ! "}, Span{Plain, strconv.Itoa(s.Untold) +
			" of them without a line for each member, or none that tells: logs are missing, or the message is not through"})
	}
	if s.Passed > 0 {
		p.Line(2, Span{Faint, "  " + count(s.Passed, "more names", "more name") + " no sender and cannot be compared"})
	}
	for _, v := range s.Verdicts {
		text := verdictPast[v.Log] + " from " + v.From + " by " + v.Group
		p.LineAt(4, v.Place, Span{Bad, "  ! "}, Span{Strong, text},
			Span{Plain, times(v.Messages) + "; the estate says " + v.Estate + ", " +
				strings.Replace(v.By, ": ", ", ", 1)})
	}
	s.writeMissing(p)
	p.blocks("Logged otherwise than the estate says", s.blocksOf(s.Unlike, true))
	s.writeCauses(p)
}

func times(n int) string {
	if n == 1 {
		return ""
	}
	return " (" + strconv.Itoa(n) + " messages)"
}

// writeMissing names those without a delivery: first those who should have one.
func (s *LogEstate) writeMissing(p *Page) {
	var should, explained []LogMissing
	for _, m := range s.Missing {
		if m.Outcome == resolve.Inbox.String() || m.Outcome == resolve.Undeliverable.String() {
			should = append(should, m)
		} else {
			explained = append(explained, m)
		}
	}
	p.blocks("No delivery logged, though the estate says they get it", s.blocksOf(should, false))
	p.blocks("No delivery logged, as the estate says", s.blocksOf(explained, false))
}

// blocksOf puts together people with the same outcome.
func (s *LogEstate) blocksOf(list []LogMissing, unlike bool) []block {
	type key struct{ why, place, log, group string }
	var blocks []block
	index := map[key]int{}
	for _, m := range list {
		word := m.Why
		k := key{m.Why, "", m.Log, m.Group}
		if unlike {
			word = m.Log + "; by the estate " + m.Outcome
			if m.Outcome == "" {
				word = m.Log + "; by the estate no recipient"
			} else if m.Why != "" {
				word += " (" + m.Why + ")"
			}
		}
		i, ok := index[k]
		if !ok {
			i = len(blocks)
			index[k] = i
			style := Doubtful
			if unlike || m.Outcome == resolve.Inbox.String() {
				style = Bad
			}
			blocks = append(blocks, block{word: Span{style, word}, text: "of " + m.Group})
		}
		b := &blocks[i]
		b.people = append(b.people, m.Address+times(m.Messages))
		b.places = append(b.places, m.Place)
	}
	for i := range blocks {
		b := &blocks[i]
		if same := slices.Compact(slices.Clone(b.places)); len(same) == 1 {
			b.place, b.places = same[0], nil
		}
	}
	return blocks
}

// writeCauses reports changes that would explain the logs.
func (s *LogEstate) writeCauses(p *Page) {
	defer func() {
		if s.Lost > 0 {
			p.Gap()
			p.Line(2, Span{Doubtful, "! "}, Span{Plain, count(s.Lost, "difference is", "differences are") +
				" explained by no change of the estate"})
		}
		if s.Tried < s.Compared {
			p.Gap()
			p.Line(2, Span{Doubtful, "! "}, Span{Plain, "Causes were looked for with the latest " + strconv.Itoa(s.Tried) +
				" messages only"})
		}
	}()
	p.first(len(s.Causes), 5, "more causes", func(i int) {
		c := &s.Causes[i]
		p.Gap()
		p.Line(3, Span{Strong, strconv.Itoa(i+1) + ". " + causeWord(c.AsIf, c.Explains)}, Span{Bad, c.AsIf[0].Says})
		p.Line(3, Span{Plain, "   Explains " + count(c.Explains, "difference", "differences")})
		for line := range strings.Lines(c.AsIf[0].YAML) {
			p.Code(7, Span{Plain, strings.TrimRight(line, "\n")})
		}
		for _, other := range c.AsIf[1:min(len(c.AsIf), 3)] {
			p.Line(6, Span{Faint, "   or: " + other.Says})
		}
	})
}
