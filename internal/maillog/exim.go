package maillog

import (
	"strings"

	"yorvet.example/yorvet/internal/core/trail"
)

// exim reads a line of Exim's main log, after its time (The Exim specification 4.96,
// chapter 53, "Log files").
func exim(text string, e *trail.Event, local localNames) meaning {
	queue, said, named := strings.Cut(text, " ")
	if !named || !isEximID(queue) {
		if text == "" || isEximID(text) {
			return beside
		}
		return eximRefusal(text, e)
	}
	e.Queue = queue
	if len(said) > 3 && said[2] == ' ' {
		flag, rest := said[:2], said[3:]
		switch flag {
		case "<=":
			return eximArrival(rest, e)
		case "=>", "->", ">>", "*>":
			return eximDelivery(rest, e, local)
		case "**":
			e.Kind = trail.Bounced
			return eximTrouble(rest, e, local)
		case "==":
			e.Kind = trail.Deferred
			return eximTrouble(rest, e, local)
		}
	}
	return eximState(said, e)
}

// isEximID reports whether a word is the name of a message: 6-6-2 letters and digits, or
// 6-11-4 from Exim 4.97 on.
func isEximID(s string) bool {
	if len(s) != 16 && len(s) != 23 || s[6] != '-' || s[len(s)-3] != '-' && s[len(s)-5] != '-' {
		return false
	}
	for i := range len(s) {
		c := s[i]
		if c != '-' && (c < '0' || c > '9') && (c < 'A' || c > 'Z') && (c < 'a' || c > 'z') {
			return false
		}
	}
	return true
}

// eximArrival reads "a@b H=(c) [1.2.3.4] P=esmtpa A=plain:login S=465 id=TOKEN@d", and
// "<> R=QUEUE U=user P=local S=465" of a bounce.
func eximArrival(said string, e *trail.Event) meaning {
	from, rest, _ := strings.Cut(said, " ")
	e.Kind, e.From = trail.Arrived, from
	if from == "<>" {
		e.About = eximField(rest, "R=")
	}
	e.Client = eximHost(rest)
	if e.Client == "" {
		e.Client = eximField(rest, "U=")
	}
	if login := eximField(rest, "A="); login != "" {
		_, e.Login, _ = strings.Cut(login, ":")
	}
	for _, digit := range eximField(rest, "S=") {
		if digit < '0' || digit > '9' || e.Size > 1<<50 {
			break
		}
		e.Size = e.Size*10 + int64(digit-'0')
	}
	e.Message = messageID(eximField(rest, "id="))
	return something
}

// eximField returns what follows a key that stands after a blank, up to the next blank; in
// quotes, what stands in them.
func eximField(s, key string) string {
	for at := 0; ; {
		i := strings.Index(s[at:], key)
		if i < 0 {
			return ""
		}
		i += at
		if at = i + len(key); i > 0 && s[i-1] != ' ' {
			continue
		}
		value := s[at:]
		if quoted, found := strings.CutPrefix(value, `"`); found {
			value, _, _ = strings.Cut(quoted, `"`)
			return value
		}
		value, _, _ = strings.Cut(value, " ")
		return value
	}
}

// eximHost returns the other machine of a line: "H=name (helo) [1.2.3.4]:25".
func eximHost(s string) string {
	at := strings.Index(s, "H=")
	if at < 0 || at > 0 && s[at-1] != ' ' {
		return ""
	}
	if end := strings.IndexByte(s[at:], ']'); end >= 0 {
		return s[at+len("H=") : at+end+1]
	}
	return eximField(s[at:], "H=")
}

// eximAddress takes the recipient and the address that was written from the beginning of a
// line: "a@b (c@d) <e@f>", or a name, a file or a command for the former.
func eximAddress(s string, names localNames) (to, group, rest string) {
	end := len(s)
	for _, key := range []string{" F=", " P=", " R=", " T=", ": "} {
		if i := strings.Index(s, key); i >= 0 {
			end = min(end, i)
		}
	}
	head := s[:end]
	rest = strings.TrimPrefix(s[end:], ":")
	first, head, _ := strings.Cut(head, " ")
	parent := ""
	if i := strings.LastIndexByte(head, '<'); i >= 0 {
		parent, _, _ = inBrackets(head[i:])
	}
	local, domain, _ := cutLast(parent, "@")
	switch {
	case parent == "":
		return first, "", rest
	case strings.Contains(first, "@") && first[0] != '|' && first[0] != '/':
		return first, parent, rest
	case strings.EqualFold(first, local), strings.ContainsAny(first, "|/:") || first == "":
		return parent, "", rest
	}
	if to = names.known(first, domain); to == "" {
		to = first + "@" + domain
	}
	return to, parent, rest
}

func cutLast(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

// eximDelivery reads "a@b (c@d) <e@f> R=router T=transport H=host [1.2.3.4] C=\"250 ...\"".
func eximDelivery(said string, e *trail.Event, local localNames) meaning {
	if dropped, found := strings.CutPrefix(said, ":blackhole: "); found {
		e.Kind = trail.Dropped
		e.To, _, _ = inBrackets(dropped)
		return something
	}
	var rest string
	e.To, e.Group, rest = eximAddress(said, local)
	e.Next, e.Detail = eximHost(rest), eximField(rest, "C=")
	e.Status = statusIn(e.Detail)
	e.Kind = trail.Delivered
	switch {
	case strings.HasPrefix(said, "|"):
		e.Kind = trail.HandedOn
	case e.Next != "" && !isHere(e.Next):
		e.Kind = trail.HandedOn
	case strings.Contains(e.Detail, " id=") || strings.Contains(strings.ToLower(e.Detail), "queued"):
		e.Kind = trail.HandedOn // to another program here, which has a queue
	}
	return something
}

// isHere reports whether a machine is this one.
func isHere(host string) bool {
	return strings.Contains(host, "[127.") || strings.Contains(host, "[::1]") || host == "localhost"
}

// eximTrouble reads "a@b <c@d> R=router T=transport defer (-1): text", or "a@b: text".
func eximTrouble(said string, e *trail.Event, local localNames) meaning {
	var rest string
	e.To, e.Group, rest = eximAddress(said, local)
	e.Next = eximHost(rest)
	e.Detail = strings.TrimSpace(rest)
	if _, text, found := strings.Cut(rest, ": "); found && strings.Contains(rest, "=") {
		e.Detail = text
	}
	e.Detail = strings.ReplaceAll(e.Detail, `\n`, " ")
	e.Status = statusIn(e.Detail)
	return something
}

// eximState reads what is said of a message as a whole.
func eximState(said string, e *trail.Event) meaning {
	switch {
	case said == "Completed", strings.HasPrefix(said, "Completed "):
		e.Kind = trail.Done
	case strings.HasPrefix(said, "Frozen"), strings.HasPrefix(said, "Message is frozen"), strings.HasPrefix(said,
		"frozen by "):
		e.Kind, e.Detail = trail.Deferred, "the message is frozen"
	case strings.HasPrefix(said, "removed by "), strings.HasPrefix(said, "message removed"):
		e.Kind, e.Detail = trail.Dropped, said
	case strings.HasPrefix(said, "cancelled by "), strings.HasPrefix(said, "Message abandoned"):
		e.Kind, e.Detail = trail.Dropped, said
	default:
		return eximRefusal(said, e)
	}
	return something
}

// eximAsides are beginnings of lines that are not about a message.
var eximAsides = []string{
	"Start queue run", "End queue run", "exim ", "daemon ", "no host name found", "no IP address found", "SMTP ",
	"unexpected disconnection", "TLS ", "ident connection", "Connection from", "refused connection",
	"too many connections", "DKIM: ", "Unfrozen", "unfrozen", "Warning: ", "Spool file", "re-exec of", "error in",
	"retry time not reached", "routing failed", "no immediate", "failed to expand", "host lookup",
	"lookup of host", "queue run", "socket bind", "cwd=", "1 message", "pid ", "SIGHUP received", "log_", "H=",
	"failed to open", "Failed to create", "Received from", "delivery deferred", "Remote host", "rejected from",
}

// eximRefusal reads what is refused: "H=(a) [1.2.3.4] F=<b> rejected RCPT <c>: text",
// "... F=<b> rejected after DATA: text", "... temporarily rejected RCPT <c>: text".
func eximRefusal(said string, e *trail.Event) meaning {
	at := strings.Index(said, "rejected ")
	if at < 0 || at > 0 && said[at-1] != ' ' {
		for _, known := range eximAsides {
			if strings.HasPrefix(said, known) {
				return beside
			}
		}
		return unknown
	}
	before, after := said[:at], said[at+len("rejected "):]
	e.Kind, e.Client = trail.Refused, eximHost(before)
	if strings.HasSuffix(before, "temporarily ") {
		e.Kind = trail.Deferred
	}
	if _, from, found := strings.Cut(before, "F="); found {
		from, _, _ = inBrackets(from)
		e.From = sender(from)
	}
	if login := eximField(before, "A="); login != "" {
		_, e.Login, _ = strings.Cut(login, ":")
	}
	what, text, _ := strings.Cut(after, " ")
	switch what {
	case "RCPT":
		to, rest, ok := inBrackets(text)
		if !ok {
			to, rest, _ = strings.Cut(text, ":")
		}
		e.To, e.Detail = to, strings.TrimPrefix(strings.TrimPrefix(rest, ":"), " ")
	case "after", "during", "DATA", "by":
		_, e.Detail, _ = strings.Cut(text, ": ")
	case "MAIL", "EHLO", "HELO", "connection", "AUTH", "VRFY", "EXPN", "ETRN", "STARTTLS":
		return beside
	default:
		return beside
	}
	e.Detail = strings.ReplaceAll(e.Detail, `\n`, " ")
	e.Status = statusIn(e.Detail)
	return something
}
