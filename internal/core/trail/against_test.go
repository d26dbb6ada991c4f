package trail_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/infer"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/trail"
	"yorvet.example/yorvet/internal/sample"
)

const harbour = `yorvet: 1
domains: [kelp.example]
people:
  - {address: ada@kelp.example}
  - {address: bo@kelp.example}
  - {address: cy@kelp.example, mailbox: full}
  - {address: dee@kelp.example, also: [d@kelp.example]}
groups:
  - {address: all@kelp.example, also: [crew@kelp.example], gate: [admit inside, hold @out.example], members: [ada@kelp.example, {address: bo@kelp.example, copy: none}, cy@kelp.example, dee@kelp.example, deck@kelp.example]}
  - {address: deck@kelp.example, gate: [refuse anyone], members: [eve@out.example]}
`

// logged makes stories of lines.
func logged(lines string) (stories []*trail.Story) {
	t := trail.NewTracker(func(s *trail.Story) { stories = append(stories, s) })
	for line := range strings.Lines(lines) {
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		kind, ok := trail.KindOf(words[0])
		if !ok {
			panic(line)
		}
		e := trail.Event{Kind: kind, Time: 1000}
		for _, word := range words[1:] {
			key, value, _ := strings.Cut(word, "=")
			switch key {
			case "q":
				e.Queue = value
			case "id":
				e.Message = value
			case "from":
				e.From, e.Client = value, "x"
			case "to":
				e.To = value
			case "group":
				e.Group = value
			case "login":
				e.Login = value
			}
		}
		t.Add(&e)
	}
	t.End()
	return stories
}

// A log as the estate says is no difference; what is missing in it is named.
func TestAgainst(t *testing.T) {
	r := sample.Load(t, harbour)
	const begin = "arrived q=A id=m from=ada@kelp.example login=ada@kelp.example\n"
	const rest = "bounced q=A to=cy@kelp.example group=crew@kelp.example\ndone q=A\n"
	ada := "delivered q=A to=ada@kelp.example group=crew@kelp.example\n"
	for _, one := range []struct {
		name, lines string
		differs     bool
		said        infer.Verdicts
		told        bool
	}{
		{"as it says", begin + ada + "delivered q=A to=D@kelp.example group=crew@kelp.example\n" + rest, false, infer.OneOf(estate.Admit), true},
		{"somebody is missing", begin + ada + rest, true, infer.OneOf(estate.Admit), true},
		{"somebody is there who should not", begin + ada + "delivered q=A to=dee@kelp.example group=crew@kelp.example\ndelivered q=A to=bo@kelp.example group=crew@kelp.example\n" + rest, true, infer.OneOf(estate.Admit), true},
		{"a stranger is there", begin + ada + "delivered q=A to=dee@kelp.example group=crew@kelp.example\ndelivered q=A to=zed@out.example group=crew@kelp.example\n" + rest, true, infer.OneOf(estate.Admit), true},
		{"what bounces was delivered", begin + ada + "delivered q=A to=dee@kelp.example group=crew@kelp.example\ndelivered q=A to=cy@kelp.example group=crew@kelp.example\ndone q=A", true, infer.OneOf(estate.Admit), true},
		{"not at its end", begin + ada + "deferred q=A to=dee@kelp.example group=crew@kelp.example", false, infer.OneOf(estate.Admit), false},
		{"handed on as a group", begin + "handed-on q=A to=crew@kelp.example\ndone q=A", false, trail.All, false},
		{"refused", "refused from=ada@kelp.example login=ada@kelp.example to=all@kelp.example", true, infer.OneOf(estate.Refuse), false},
		{"refused as it says", "refused from=x@far.example to=all@kelp.example", false, infer.OneOf(estate.Refuse), false},
		{"held as it says", "arrived q=A id=m from=x@out.example to=all@kelp.example\nheld q=A to=all@kelp.example", false, infer.OneOf(estate.Hold), false},
	} {
		c := trail.Compare(r, logged(one.lines))
		if len(c.Messages) != 1 {
			t.Fatalf("%s: %d messages", one.name, len(c.Messages))
		}
		m := &c.Messages[0]
		if m.Differs() != one.differs || m.Said != one.said || m.Told != one.told || (len(c.Causes)+len(c.Lost)+c.Strangers > 0) != one.differs {
			t.Errorf("%s: differs %t, said %b, told %t, %d causes, %d lost", one.name, m.Differs(), m.Said, m.Told, len(c.Causes), len(c.Lost))
		}
	}
	c := trail.Compare(r, logged(begin+ada+rest))
	if who := c.Causes[0].Explains[0].Person; r.Estate().Address(who).String() != "dee@kelp.example" {
		t.Errorf("a cause explains %s", r.Estate().Address(who))
	}
	if c := trail.Compare(r, logged("arrived q=A id=m from=<> to=all@kelp.example\ndelivered q=A to=ada@kelp.example group=all@kelp.example")); c.Passed != 1 || len(c.Messages) != 0 {
		t.Errorf("a message of nobody: %d passed, %d compared", c.Passed, len(c.Messages))
	}
}

// Somebody inside without a login is taken to be proven or not as the log says, since it
// does not say which.
func TestProvenOrNot(t *testing.T) {
	r := sample.Load(t, strings.Replace(harbour, "gate: [admit inside", "gate: [refuse unproven, admit inside", 1))
	for _, lines := range []string{
		"refused from=ada@kelp.example to=all@kelp.example",
		"arrived q=A id=m from=ada@kelp.example to=all@kelp.example\ndelivered q=A to=ada@kelp.example group=all@kelp.example",
	} {
		if c := trail.Compare(r, logged(lines)); c.Messages[0].Differs() {
			t.Errorf("%s: differs", lines)
		}
	}
	c := trail.Compare(r, logged("arrived q=A id=m from=ada@kelp.example login=ada@kelp.example to=all@kelp.example\nrefused q=A to=all@kelp.example"))
	if !c.Messages[0].Differs() {
		t.Error("a refusal of somebody who logged in is as the estate says")
	}
}

// What is logged as random estates say is never a difference; what is logged as one with
// another membership says is one for those whom it concerns, and nobody else.
func TestAgainstRandom(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 9))
	compared, differing := 0, 0
	for range 300 {
		r, ok := sample.Try(t, sample.Estate(random))
		if !ok || r.Estate().Groups() == 0 || r.Estate().People() == 0 {
			continue
		}
		e := r.Estate()
		group := estate.ID(random.IntN(e.Groups()))
		from := e.Address(e.PersonID(random.IntN(e.People())))
		lines, got := asLog(r, group, from.String())
		c := trail.Compare(r, logged(lines))
		for i := range c.Messages {
			compared++
			if c.Messages[i].Differs() {
				t.Errorf("a message from %s to %s differs:\n%s", from, e.Address(group), lines)
			}
		}
		if len(got) == 0 {
			continue
		}
		lost := got[random.IntN(len(got))]
		c = trail.Compare(r, logged(strings.ReplaceAll(lines, "delivered q=A to="+lost+" ", "told q=A to="+lost+" ")))
		for i := range c.Messages {
			differing++
			for _, m := range c.Messages[i].Members {
				if (m.Address == lost) == m.Agrees() && (m.Line != nil || c.Messages[i].Told) {
					t.Errorf("%s lost: %s agrees %t", lost, m.Address, m.Agrees())
				}
			}
		}
	}
	if compared < 100 || differing < 30 {
		t.Errorf("only %d messages, %d with a difference", compared, differing)
	}
}

// asLog writes what a system logs that does as the estate says, and to whom it delivers.
func asLog(r *resolve.Resolver, group estate.ID, from string) (lines string, got []string) {
	e := r.Estate()
	to := e.Address(group).String()
	s := r.Sender(e.Address(mustFind(e, from)))
	begin := "arrived q=A id=m from=" + from + " login=" + from + " to=" + to + "\n"
	d := r.Gate(group).Post(s, resolve.Message{})
	switch d.Verdict {
	case estate.Refuse:
		return "refused from=" + from + " login=" + from + " to=" + to, nil
	case estate.Hold:
		return begin + "held q=A to=" + to, nil
	case estate.Drop:
		return begin + "dropped q=A to=" + to, nil
	}
	lines = begin + "expanded q=A to=" + to + "\n"
	for _, one := range r.Deliver(resolve.Query{Group: group, Sender: &s}).Recipients() {
		line := ""
		switch one.Outcome {
		case resolve.Inbox:
			line = "delivered"
			got = append(got, e.Address(one.ID).String())
		case resolve.Digest:
			line = "digest"
		case resolve.Undeliverable:
			line = "bounced"
		}
		if line != "" {
			lines += line + " q=A to=" + e.Address(one.ID).String() + " group=" + to + "\n"
		}
	}
	return lines + "done q=A\n", got
}

func mustFind(e *estate.Estate, address string) estate.ID {
	for i := range e.People() {
		if id := e.PersonID(i); e.Address(id).String() == address {
			return id
		}
	}
	panic(address)
}
