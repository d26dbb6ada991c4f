// Package maillog reads the logs of mail systems: what each line says happened to a
// message. Each format is a parser of its own, in a file that names the document which it
// follows; what a line is written by is found from the line itself, so that one log may
// hold the lines of several programs.
package maillog

import (
	"strings"

	"yorvet.example/yorvet/internal/core/trail"
)

// meaning is how much of a line is understood.
type meaning uint8

const (
	unknown   meaning = iota // nothing is known of such a line
	beside                   // it is known, and says nothing of what becomes of a message
	something                // it says what an event holds
)

// A lineParser reads lines. It is for one goroutine.
type lineParser struct {
	stamps stamps
	texts  texts
	local  localNames
}

// localNames is Options.Local, or nil.
type localNames func(name, domain string) string

// known returns whose mailbox has a name on this machine, where something was written to a domain;
// "" where nobody says.
func (l localNames) known(name, domain string) string {
	if l == nil || name == "" {
		return ""
	}
	return l(name, domain)
}

// texts keeps one copy of texts that come again and again, apart from the log.
type texts struct {
	all    map[string]string
	recent [64]string // the last one of each length, modulo 64
}

// mostTexts is how many are kept at one time.
const mostTexts = 30_000

// keep replaces the texts of an event that are kept by copies.
func (t *texts) keep(e *trail.Event) {
	for _, s := range [...]*string{&e.Host, &e.From, &e.To, &e.Group, &e.Login, &e.Client, &e.Next, &e.Folder, &e.Status} {
		if *s != "" {
			*s = t.copy(*s)
		}
	}
}

func (t *texts) copy(s string) string {
	recent := &t.recent[len(s)%len(t.recent)]
	if *recent == s {
		return *recent
	}
	known, ok := t.all[s]
	if !ok {
		if t.all == nil || len(t.all) >= mostTexts {
			t.all = make(map[string]string, mostTexts/8)
		}
		known = strings.Clone(s)
		t.all[known] = known
	}
	*recent = known
	return known
}

// parse reads a line into e, which is empty before. The texts in it are parts of the line.
func (p *lineParser) parse(line string, e *trail.Event) meaning {
	if len(line) == 0 {
		return beside
	}
	switch {
	case line[0] == '{':
		return p.object(line, e)
	case line[0] == ' ', line[0] == '\t', strings.HasPrefix(line, "-- "):
		return beside // of the line before; and of journalctl: a boot, or where the journal begins
	}
	at, rest, ok := p.stamps.stamp(line)
	if !ok {
		if m := opensmtpd(line, e, p.local); m != unknown {
			return m // by itself, it writes no times
		}
		return unknown
	}
	e.Time = at
	if rest.own { // without a host and a program
		if m := exim(rest.text, e, p.local); m != unknown {
			return m
		}
		return dovecotBare(rest.text, e)
	}
	if strings.HasPrefix(rest.text, "lmtp(") || strings.HasPrefix(rest.text, "lda(") || strings.HasPrefix(rest.text,
		"imap") {
		return dovecotBare(rest.text, e)
	}
	host, program, text, ok := fromSyslog(rest.text)
	if !ok {
		return dovecotBare(rest.text, e)
	}
	e.Host = host
	return p.said(program, text, e)
}

// said reads what a program said.
func (p *lineParser) said(program, text string, e *trail.Event) meaning {
	switch {
	case strings.HasPrefix(program, "postfix"):
		return postfix(program, text, e)
	case program == "dovecot":
		return dovecot(text, e)
	case strings.HasPrefix(program, "exim"):
		if at, rest, ok := p.stamps.stamp(text); ok && rest.own {
			e.Time, text = at, rest.text
		}
		return exim(text, e, p.local)
	case program == "smtpd":
		return opensmtpd(text, e, p.local)
	}
	return beside // of a program that brings no mail
}

// fromSyslog takes the name of the machine and the program from a line as syslog and
// journalctl write it, after the time (RFC 3164, section 4.1.3): HOST PROGRAM[PID]: TEXT.
func fromSyslog(s string) (host, program, text string, ok bool) {
	space := strings.IndexByte(s, ' ')
	if space < 0 {
		return "", "", "", false
	}
	host, s = s[:space], s[space+1:]
	colon := strings.IndexByte(s, ':')
	for colon >= 0 && colon+1 < len(s) && s[colon+1] != ' ' { // within the name
		next := strings.IndexByte(s[colon+1:], ':')
		if next < 0 {
			return "", "", "", false
		}
		colon += 1 + next
	}
	if colon < 0 {
		return "", "", "", false
	}
	program, text = s[:colon], s[min(colon+2, len(s)):]
	if bracket := strings.IndexByte(program, '['); bracket >= 0 {
		program = program[:bracket]
	}
	return host, program, text, strings.IndexByte(program, ' ') < 0
}

// inBrackets returns what stands in angle brackets at the beginning of a text, and the
// rest. Quoted local parts may hold brackets themselves (RFC 5321, section 4.1.2).
func inBrackets(s string) (inside, rest string, ok bool) {
	if !strings.HasPrefix(s, "<") {
		return "", s, false
	}
	if len(s) > 1 && s[1] == '"' {
		for i := 2; i < len(s); i++ {
			switch s[i] {
			case '\\':
				i++
			case '"':
				if end := strings.IndexByte(s[i:], '>'); end >= 0 {
					return s[1 : i+end], s[i+end+1:], true
				}
				return "", s, false
			}
		}
		return "", s, false
	}
	end := strings.IndexByte(s, '>')
	if end < 0 {
		return "", s, false
	}
	return s[1:end], s[end+1:], true
}

// sender returns an address as the sender of an envelope: nobody is "<>".
func sender(a string) string {
	if a == "" {
		return "<>"
	}
	return a
}

// messageID returns a Message-ID without its brackets.
func messageID(s string) string {
	return strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(s), "<"), ">")
}

// statusIn returns the enhanced code in what a server said (RFC 3463), or "".
func statusIn(s string) string {
	for i := 0; i+5 <= len(s); i++ {
		if c := s[i]; (c == '2' || c == '4' || c == '5') && s[i+1] == '.' &&
			(i == 0 || s[i-1] == ' ' || s[i-1] == '-' || s[i-1] == ':') {
			end := i + 2
			dots := 1
			for end < len(s) && (s[end] >= '0' && s[end] <= '9' || s[end] == '.' && dots < 2) {
				if s[end] == '.' {
					dots++
				}
				end++
			}
			if dots == 2 && end > i+3 && s[end-1] != '.' {
				return s[i:end]
			}
		}
	}
	return ""
}

// isJunk reports whether a folder is one for junk, by the names that it usually has.
func isJunk(folder string) bool {
	name := folder
	if i := strings.LastIndexAny(name, "./"); i >= 0 {
		name = name[i+1:]
	}
	switch strings.ToLower(name) {
	case "junk", "spam", "junk e-mail", "junk email", "bulk", "bulk mail":
		return true
	}
	return false
}
