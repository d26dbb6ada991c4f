package read

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
)

// Whatever fills a header, reading it takes no longer than its length does.
func TestHeadersAreReadWithLittle(t *testing.T) {
	const size = maxHeader - 1000
	numbered := func(format string) string {
		var b strings.Builder
		for i := 0; b.Len() < size; i++ {
			fmt.Fprintf(&b, format, i)
		}
		return b.String()
	}
	const from = "From: ann@kelp.example\r\n"
	for about, header := range map[string]string{
		"references":            from + "References: " + numbered("<%d>\r\n ") + "\r\n",
		"references in one":     from + "References: " + numbered("<%d@k.example> ") + "\r\n",
		"recipients":            from + "To: " + numbered("a%d@k.example, ") + "b@k.example\r\n",
		"recipients, named":     from + "To: " + numbered("\"A, %d\" <a%[1]d@k.example>,\r\n ") + "b@k.example\r\n",
		"recipients, broken":    from + "To: @@, " + numbered("a%d@k.example, ") + "\r\n",
		"failed recipients":     from + "X-Failed-Recipients: " + numbered("a%d@k.example, ") + "\r\n",
		"addresses in a text":   from + "Comments: " + numbered("a%d@k.example ") + "\r\n",
		"fields":                from + numbered("X-A-%d: a\r\n"),
		"fields with addresses": from + numbered("X-A-%d: a%[1]d@k.example\r\n"),
		"the same field":        from + numbered("Authentication-Results: a%d\r\n"),
		"continuations":         from + "X-A: " + numbered("%d\r\n ") + "\r\n",
		"continuations, broken": "broken\r\n" + from + "X-A: " + numbered("%d\r\n ") + "\r\n",
		"comments":              "From: " + strings.Repeat("(", size) + "\r\n",
		"comments, closed":      "From: " + strings.Repeat("(", size/2) + strings.Repeat(")", size/2) + "\r\n",
		"comments, many":        "From: " + strings.Repeat("()", size/2) + " ann@kelp.example\r\n",
		"a group":               "From: a:" + strings.Repeat("b:", size/2) + ";\r\n",
		"quotes":                "From: " + strings.Repeat(`"\`, size/2) + "\r\n",
		"angles":                "From: " + strings.Repeat("<", size) + "\r\n",
		"dots":                  "From: " + strings.Repeat("a.", size/2) + "\r\n",
		"commas":                "From: " + strings.Repeat(",", size) + "\r\n",
		"domain literals":       "From: " + strings.Repeat("a@[", size/3) + "\r\n",
		"encoded words":         from + "Subject: " + strings.Repeat("=?utf-8?q?a?= ", size/14) + "\r\n",
		"encoded words, broken": from + "Subject: " + strings.Repeat("=?", size/2) + "\r\n",
		"encoded, unknown":      "From: " + strings.Repeat("=?x?b?YQ==?= ", size/13) + "<ann@kelp.example>\r\n",
		"parameters":            from + "Content-Type: text/plain" + numbered("; a%d=b") + "\r\n",
		"continued parameters":  from + "Content-Type: text/plain" + numbered("; a*%d=b") + "\r\n",
		"a list":                from + "List-Id: " + strings.Repeat("<", size) + "\r\n",
	} {
		for name, parse := range map[string]func([]byte) (*Message, error){"Parse": Parse, "ParseLight": ParseLight} {
			t.Run(name+" "+about, func(t *testing.T) { takesLittle(t, parse, header+"\r\nHello.\r\n") })
		}
	}
}

// takesLittle fails where reading takes more memory than some times the text, which stands for
// the work that is done: what tries all pairs of something does not end.
func takesLittle(t *testing.T, parse func([]byte) (*Message, error), text string) {
	t.Helper()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, _ = parse([]byte(text))
	runtime.ReadMemStats(&after)
	if took := (after.TotalAlloc - before.TotalAlloc) / uint64(len(text)); took > 60 {
		t.Errorf("it takes %d times its size", took)
	}
}

// The same of what is in a body.
func TestBodiesAreReadWithLittle(t *testing.T) {
	var status, parts, nested strings.Builder
	for i := range 200_000 {
		fmt.Fprintf(&status, "Final-Recipient: rfc822; a%d@k.example\r\nAction: failed\r\n\r\n", i)
		parts.WriteString("--x\r\n\r\nHello a@k.example\r\n")
	}
	for i := range 20_000 {
		fmt.Fprintf(&nested, "--x%d\r\nContent-Type: multipart/mixed; boundary=x%d\r\n\r\n", i, i+1)
	}
	for about, text := range map[string]string{
		"a report":     "Content-Type: multipart/report; report-type=delivery-status; boundary=x\r\n\r\n--x\r\nContent-Type: message/delivery-status\r\n\r\n" + status.String(),
		"many parts":   "Content-Type: multipart/mixed; boundary=x\r\n\r\n" + parts.String(),
		"nested parts": "Content-Type: multipart/mixed; boundary=x0\r\n\r\n" + nested.String(),
		"a bounce":     "From: mailer-daemon@k.example\r\nSubject: failure\r\n\r\n" + strings.Repeat("<a@k.example>: 550 5.1.1 unknown\r\n", 200_000),
		"dashes":       "Content-Type: multipart/mixed; boundary=x\r\n\r\n" + strings.Repeat("--x", 1_000_000),
	} {
		t.Run(about, func(t *testing.T) { takesLittle(t, Parse, text) })
	}
}
