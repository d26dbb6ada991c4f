package maillog

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"time"
)

// generate writes a log as Postfix does, of so many messages: to one or several people, to
// groups, refused, deferred and delivered later, bounced.
func generate(w io.Writer, messages int, seed uint64) error {
	r := rand.New(rand.NewPCG(seed, 0))
	out := bufio.NewWriterSize(w, 1<<20)
	g := &generator{Writer: out, Rand: r, now: time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)}
	for i := range messages {
		g.message(i)
	}
	for len(g.later) > 0 {
		g.flush(len(g.later))
	}
	return out.Flush()
}

// generator is a log that is being written.
type generator struct {
	*bufio.Writer
	*rand.Rand
	now   time.Time
	later []func() // what is said of messages later on
}

func (g *generator) say(program, format string, args ...any) {
	g.now = g.now.Add(time.Duration(g.IntN(20)) * time.Millisecond)
	fmt.Fprintf(g, "%s mx postfix/%s[%d]: ", g.now.Format(time.Stamp), program, 1000+g.IntN(30))
	fmt.Fprintf(g, format, args...)
	g.WriteByte('\n')
}

// flush says what is due of earlier messages.
func (g *generator) flush(n int) {
	for range n {
		next := g.later[0]
		g.later = g.later[1:]
		next()
	}
}

func (g *generator) message(i int) {
	from := fmt.Sprintf("p%d@corp.example", g.IntN(5000))
	to := fmt.Sprintf("p%d@corp.example", g.IntN(5000))
	if g.IntN(20) == 0 {
		g.say("smtpd", "NOQUEUE: reject: RCPT from out[192.0.2.%d]: 554 5.7.1 <board@corp.example>: Recipient address rejected: Access denied; "+
			"from=<%s> to=<board@corp.example> proto=ESMTP helo=<out>", g.IntN(250), from)
		return
	}
	queue := fmt.Sprintf("%010X", uint64(i)*7919%0xFFFFFFFFFF+0xA0000000)
	g.say("smtpd", "%s: client=mail.out.example[192.0.2.%d], sasl_method=PLAIN, sasl_username=%s", queue, g.IntN(250), from)
	g.say("cleanup", "%s: message-id=<%d.%x@corp.example>", queue, i, g.Uint32())
	g.later = append(g.later, func() { g.deliver(queue, from, to) })
	if n := len(g.later); n > 50 {
		g.flush(n - 50 + g.IntN(10))
	}
}

// deliver says what becomes of a message.
func (g *generator) deliver(queue, from, to string) {
	recipients, group := []string{to}, ""
	if g.IntN(10) == 0 {
		group = fmt.Sprintf(" orig_to=<team%d@corp.example>,", g.IntN(50))
		for range 2 + g.IntN(4) {
			recipients = append(recipients, fmt.Sprintf("p%d@corp.example", g.IntN(5000)))
		}
	}
	g.say("qmgr", "%s: from=<%s>, size=%d, nrcpt=%d (queue active)", queue, from, 500+g.IntN(50000), len(recipients))
	for _, to := range recipients {
		line := fmt.Sprintf("%s: to=<%s>,%s relay=mx.corp.example[private/dovecot-lmtp], delay=0.05, delays=0.01/0.01/0.02/0.01, ", queue, to, group)
		switch g.IntN(100) {
		case 0:
			g.say("lmtp", "%sdsn=5.1.1, status=bounced (host mx.corp.example said: 550 5.1.1 <%s> User doesn't exist (in reply to RCPT TO command))", line, to)
		case 1:
			g.say("lmtp", "%sdsn=4.2.2, status=deferred (host mx.corp.example said: 452 4.2.2 <%s> over quota (in reply to RCPT TO command))", line, to)
			g.later = append(g.later, func() {
				g.say("lmtp", "%sdsn=2.0.0, status=sent (250 2.0.0 <%s> Saved)", line, to)
			})
		default:
			g.say("lmtp", "%sdsn=2.0.0, status=sent (250 2.0.0 <%s> %x Saved)", line, to, g.Uint64())
		}
	}
	g.later = append(g.later, func() { g.say("qmgr", "%s: removed", queue) })
}

// generated is a log of so many messages.
func generated(messages int, seed uint64) string {
	var b strings.Builder
	if err := generate(&b, messages, seed); err != nil {
		panic(err)
	}
	return b.String()
}
