package standin

import (
	"bytes"
	"mime/multipart"
	"net/textproto"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/message"
	"yorvet.example/yorvet/internal/mail/compose"
)

// withFooter returns a message with a text under what it says. A plain text gets it at its
// end; anything else becomes the first part of a multipart/mixed (RFC 2046, section 5.1.3)
// whose second it is.
func withFooter(raw []byte, footer string) []byte {
	if footer == "" {
		return raw
	}
	head, rest, _ := splitRaw(raw)
	body := bytes.TrimPrefix(bytes.TrimPrefix(rest, []byte("\r\n")), []byte("\n"))
	text := strings.ReplaceAll(strings.ReplaceAll(footer, "\r\n", "\n"), "\n", "\r\n") + "\r\n"
	if isPlain(raw) && isASCII(footer) {
		end := bytes.TrimRight(body, "\r\n")
		return joined(head, append(append(bytes.Clone(end), "\r\n\r\n"...), text...))
	}
	var content, others [][]byte
	own := textproto.MIMEHeader{}
	for _, f := range head {
		if name := fieldName(f); len(name) > 8 && strings.EqualFold(name[:8], "Content-") {
			content = append(content, f)
			own.Add(name, strings.TrimSpace(strings.TrimPrefix(string(f), name+":")))
		} else if !strings.EqualFold(fieldName(f), "MIME-Version") {
			others = append(others, f)
		}
	}
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for name := range own { // on one line each
		own.Set(name, field(bytes.Join(content, nil), name))
	}
	first, err := w.CreatePart(own)
	if err == nil {
		_, err = first.Write(body)
	}
	second, failed := w.CreatePart(textproto.MIMEHeader{
		"Content-Type": {"text/plain; charset=utf-8"}, "Content-Transfer-Encoding": {"8bit"},
		"Content-Disposition": {"inline"},
	})
	if failed == nil {
		_, failed = second.Write([]byte(text))
	}
	if err != nil || failed != nil || w.Close() != nil {
		return raw
	}
	others = append(others, []byte("MIME-Version: 1.0\r\n"),
		[]byte("Content-Type: multipart/mixed; boundary=\""+w.Boundary()+"\"\r\n"))
	return joined(others, b.Bytes())
}

// joined returns a message of header fields and a body.
func joined(head [][]byte, body []byte) []byte {
	return append(append(bytes.Join(head, nil), "\r\n"...), body...)
}

// isPlain reports whether the body of a message is text as it stands.
func isPlain(raw []byte) bool {
	kind, encoding := strings.ToLower(field(raw, "Content-Type")), strings.ToLower(field(raw, "Content-Transfer-Encoding"))
	return (kind == "" || strings.HasPrefix(kind, "text/plain")) && (encoding == "" || encoding == "7bit" ||
		encoding == "8bit")
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] > 0x7e {
			return false
		}
	}
	return true
}

// answerAuthor gives an outside author back what a group answers by itself, once a day
// (RFC 3834).
func (p *post) answerAuthor(a *arrival, fate *message.Fate) {
	if !fate.AutoAnswered() || !mayAnswer(a) {
		return
	}
	to, err := address.Parse(a.from)
	if err != nil {
		return
	}
	g := p.r.Estate().Group(fate.To)
	once := membership{to.Key(), g.Address.String()}
	now := p.options.Now()
	if last, ok := p.answered[once]; ok && now.Sub(last) < 24*time.Hour {
		return
	}
	p.answered[once] = now
	p.mail(compose.Message{
		From: g.Address, To: to, Auto: "auto-replied", InReplyTo: a.message.ID,
		Subject: "Your message to " + g.Address.String(), Text: g.AutoAnswer + "\n",
	})
}
