package maillog

import (
	"strings"

	"yorvet.example/yorvet/internal/core/trail"
)

// postfix reads what a program of Postfix says. There is no document of it but the programs
// themselves (3.7); the words are those of their manual pages: smtpd(8), cleanup(8),
// qmgr(8), local(8), smtp(8), lmtp(8), virtual(8), pipe(8), bounce(8), discard(8),
// postsuper(1).
func postfix(program, text string, e *trail.Event) meaning {
	daemon := program[strings.LastIndexByte(program, '/')+1:]
	queue, said, ok := queueName(text)
	if !ok {
		if refusal, found := strings.CutPrefix(text, "NOQUEUE: "); found {
			return postfixRefusal(refusal, e)
		}
		return postfixAside(daemon, text)
	}
	e.Queue = queue
	switch daemon {
	case "smtpd", "pickup", "qmqpd":
		return postfixArrival(said, e)
	case "cleanup":
		return postfixCleanup(said, e)
	case "qmgr":
		return postfixQueue(said, e)
	case "bounce", "trace", "defer":
		return postfixNotice(said, e)
	case "postsuper":
		return postfixSuper(said, e)
	}
	return postfixDelivery(daemon, said, e)
}

// queueName takes the name of a message from the beginning of a text: letters and digits,
// not all of them small letters, as in "warning".
func queueName(text string) (queue, rest string, ok bool) {
	i, small := 0, 0
	for ; i < len(text); i++ {
		c := text[i]
		if c >= 'a' && c <= 'z' {
			small++
		} else if (c < '0' || c > '9') && (c < 'A' || c > 'Z') {
			break
		}
	}
	const shortest = 6
	if i < shortest || small == i || !strings.HasPrefix(text[i:], ": ") || text[:i] == "NOQUEUE" {
		return "", "", false
	}
	return text[:i], text[i+2:], true
}

// postfixAside reads what is said of no message.
func postfixAside(daemon, text string) meaning {
	switch daemon {
	case "master", "postfix-script", "anvil", "scache", "tlsmgr", "postlogd", "postalias", "postmap", "verify", "proxymap",
		"tlsproxy", "dnsblog", "postscreen", "qmgr", "trivial-rewrite", "postqueue", "sendmail", "showq", "flush", "script",
		"error", "retry", "policy-spf":
		return beside
	}
	for _, known := range []string{
		"connect from ", "disconnect from ", "connect to ", "lost connection after ", "timeout after ", "warning: ",
		"SSL_accept error ", "SSL_connect error ", "Anonymous TLS connection ", "Untrusted TLS connection ",
		"Trusted TLS connection ", "Verified TLS connection ", "too many errors after ", "improper command pipelining after ",
		"hostname ", "setting up TLS connection ", "initializing the server-side TLS engine", "fatal: ", "error: ", "panic: ",
		"table ", "Host offered STARTTLS", "concurrency limit exceeded", "reload", "terminating on signal",
		"dict_", "statistics: ", "certificate verification ", "discarding EHLO keywords",
	} {
		if strings.HasPrefix(text, known) {
			return beside
		}
	}
	return unknown
}

// postfixRefusal reads what is said of a message that has no name yet:
// "reject: RCPT from host[1.2.3.4]: 554 5.7.1 ...; from=<a> to=<b> proto=ESMTP helo=<c>".
func postfixRefusal(said string, e *trail.Event) meaning {
	what, said, ok := strings.Cut(said, ": ")
	if !ok {
		return unknown
	}
	switch what {
	case "reject", "milter-reject":
		e.Kind = trail.Refused
	case "discard":
		e.Kind = trail.Dropped
	case "hold":
		e.Kind = trail.Held
	case "reject_warning", "warn", "filter", "redirect", "client", "info", "permit", "trigger", "milter-hold",
		"milter-discard", "prepend", "bcc":
		return beside
	default:
		return unknown
	}
	return postfixWords(said, e)
}

// postfixWords reads the answer to a client, with its envelope behind it.
func postfixWords(said string, e *trail.Event) meaning {
	envelope := ""
	if at := strings.LastIndex(said, "; from=<"); at >= 0 {
		said, envelope = said[:at], said[at+len("; "):]
	} else if at := strings.LastIndex(said, "; proto="); at >= 0 {
		said = said[:at]
	}
	if _, where, found := strings.Cut(said, " from "); found {
		if client, answer, found := strings.Cut(where, ": "); found {
			e.Client, said = strings.TrimSuffix(client, ";"), answer
		}
	}
	e.Detail, e.Status = said, statusIn(said)
	if e.Kind == trail.Refused && (strings.HasPrefix(said, "4") || strings.HasPrefix(e.Status, "4")) {
		e.Kind = trail.Deferred // anyone who sends it tries again
	}
	if rest, found := strings.CutPrefix(envelope, "from="); found {
		if from, after, ok := inBrackets(rest); ok {
			e.From = sender(from)
			if rest, found = strings.CutPrefix(strings.TrimPrefix(after, " "), "to="); found {
				e.To, _, _ = inBrackets(rest)
			}
		}
		if _, login, found := strings.Cut(envelope, " sasl_username=<"); found {
			e.Login, _, _ = strings.Cut(login, ">")
		}
	}
	if e.From == "" && e.To == "" {
		return beside // of a session, before there is a message
	}
	return something
}

// postfixArrival reads what the programs that take messages say:
// "client=host[1.2.3.4], sasl_method=PLAIN, sasl_username=a", "uid=0 from=<a>".
func postfixArrival(said string, e *trail.Event) meaning {
	switch {
	case strings.HasPrefix(said, "client="):
		e.Kind = trail.Arrived
		said = said[len("client="):]
		e.Client, said, _ = strings.Cut(said, ", ")
		if _, login, found := strings.Cut(said, "sasl_username="); found {
			e.Login, _, _ = strings.Cut(login, ", ")
		}
		return something
	case strings.HasPrefix(said, "uid="):
		e.Kind = trail.Arrived
		uid, from, _ := strings.Cut(said[len("uid="):], " from=")
		e.Client = "uid " + uid
		if a, _, ok := inBrackets(from); ok {
			e.From = sender(a)
		}
		return something
	}
	return postfixRefusal(said, e)
}

// postfixCleanup reads what cleanup(8) says.
func postfixCleanup(said string, e *trail.Event) meaning {
	if id, found := strings.CutPrefix(said, "message-id="); found {
		e.Kind, e.Message = trail.Arrived, messageID(id)
		return something
	}
	for _, known := range []string{"resent-message-id=", "warning: ", "replace: ", "prepend: ", "filter: ",
		"redirect: ", "info: ",
		"strip: ", "bcc: ", "pass: ", "milter-quarantine"} {
		if strings.HasPrefix(said, known) {
			return beside
		}
	}
	return postfixRefusal(said, e)
}

// postfixQueue reads what qmgr(8) says:
// "from=<a>, size=371, nrcpt=3 (queue active)", "removed", "from=<a>, status=expired, ...".
func postfixQueue(said string, e *trail.Event) meaning {
	if said == "removed" {
		e.Kind = trail.Done
		return something
	}
	if strings.HasPrefix(said, "to=<") {
		return postfixDelivery("qmgr", said, e)
	}
	rest, found := strings.CutPrefix(said, "from=")
	from, rest, ok := inBrackets(rest)
	if !found || !ok {
		if strings.HasPrefix(said, "skipped, ") {
			return beside
		}
		return unknown
	}
	e.From = sender(from)
	if strings.HasPrefix(rest, ", status=expired") || strings.HasPrefix(rest, ", status=force-expired") {
		e.Kind, e.Detail = trail.Expired, "it could not be delivered in time"
		return something
	}
	e.Kind = trail.Arrived
	if size, found := strings.CutPrefix(rest, ", size="); found {
		for i := 0; i < len(size) && size[i] >= '0' && size[i] <= '9' && i < 15; i++ {
			e.Size = e.Size*10 + int64(size[i]-'0')
		}
	}
	return something
}

// postfixNotice reads what bounce(8) says:
// "sender non-delivery notification: QUEUE".
func postfixNotice(said string, e *trail.Event) meaning {
	what, child, ok := strings.Cut(said, " notification: ")
	if !ok {
		return unknown
	}
	e.Kind, e.Detail, e.Child = trail.Told, what, child
	return something
}

// postfixSuper reads what postsuper(1) says.
func postfixSuper(said string, e *trail.Event) meaning {
	switch said {
	case "placed on hold":
		e.Kind = trail.Held
	case "released from hold":
		e.Kind = trail.Released
	case "removed":
		e.Kind, e.Detail = trail.Dropped, "an administrator removed it"
	case "requeued":
		return beside
	case "expired", "force-expired":
		e.Kind, e.Detail = trail.Expired, "an administrator ended the tries"
	default:
		return unknown
	}
	return something
}

// postfixDelivery reads what a program that delivers says:
// "to=<a>, orig_to=<b>, relay=c, delay=0.05, delays=..., dsn=2.0.0, status=sent (250 ...)".
func postfixDelivery(daemon, said string, e *trail.Event) meaning {
	rest, found := strings.CutPrefix(said, "to=")
	to, rest, ok := inBrackets(rest)
	if !found || !ok {
		for _, known := range []string{"host ", "enabling PIX", "lost connection ", "Cannot start TLS",
			"conversation with ",
			"breaking line", "uid=", "warning: ", "passing ", "replace: ", "milter-", "defer: ", "table "} {
			if strings.HasPrefix(said, known) {
				return beside
			}
		}
		return unknown
	}
	e.To = to
	if group, found := strings.CutPrefix(rest, ", orig_to="); found {
		if e.Group, rest, ok = inBrackets(group); !ok {
			return unknown
		}
	}
	rest, said, ok = strings.Cut(rest, ", status=")
	if !ok {
		return unknown
	}
	if relay, found := strings.CutPrefix(rest, ", relay="); found {
		e.Next, _, _ = strings.Cut(relay, ", ")
	}
	if at := strings.LastIndex(rest, "dsn="); at >= 0 {
		e.Status = rest[at+len("dsn="):]
	}
	word, detail, _ := strings.Cut(said, " ")
	e.Detail = strings.TrimSuffix(strings.TrimPrefix(detail, "("), ")")
	switch word {
	case "sent":
		return postfixSent(daemon, e)
	case "deferred", "SOFTBOUNCE":
		e.Kind = trail.Deferred
	case "bounced", "expired":
		e.Kind = trail.Bounced
	case "deliverable", "undeliverable": // of an address that is only tried
		return beside
	default:
		return unknown
	}
	return something
}

// postfixSent says where a message is that was delivered.
func postfixSent(daemon string, e *trail.Event) meaning {
	switch daemon {
	case "local":
		e.Kind = trail.Delivered
		switch {
		case strings.HasPrefix(e.Detail, "forwarded as "):
			e.Kind, e.Child = trail.Expanded, ""
		case strings.HasPrefix(e.Detail, "delivered to command"):
			e.Kind = trail.HandedOn
		}
	case "virtual", "lmtp":
		e.Kind = trail.Delivered
	case "discard":
		e.Kind = trail.Dropped
	default:
		e.Kind = trail.HandedOn
	}
	return something
}
