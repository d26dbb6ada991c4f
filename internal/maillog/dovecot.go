package maillog

import (
	"strings"

	"yorvet.example/yorvet/internal/core/trail"
)

// dovecotBare reads a line of a log that Dovecot keeps itself (log_path), which names
// neither the machine nor the program: "lmtp(a@b)<1><2>: Info: TEXT".
func dovecotBare(text string, e *trail.Event) meaning {
	who, said, ok := strings.Cut(text, ": ")
	if !ok {
		return unknown
	}
	for _, level := range []string{"Info", "Warning", "Error", "Debug", "Fatal", "Panic"} {
		if rest, found := strings.CutPrefix(said, level+": "); found {
			return dovecot(who+": "+rest, e)
		}
	}
	return unknown
}

// dovecot reads what Dovecot says: "lmtp(a@b)<1><2>: sieve: msgid=<c>: stored mail into mailbox 'd'".
// Who was delivered to, by LMTP (RFC 2033) or by dovecot-lda, stands in its prefix; the rest
// is said by its plugins mail_log and sieve (RFC 5228), and by deliver_log_format.
func dovecot(text string, e *trail.Event) meaning {
	who, said, ok := strings.Cut(text, ": ")
	if !ok {
		return beside
	}
	inner, found := strings.CutPrefix(who, "lmtp(")
	if !found {
		if inner, found = strings.CutPrefix(who, "lda("); !found {
			return beside
		}
	}
	e.To, _, _ = strings.Cut(inner, ")")
	e.To = strings.TrimSpace(e.To[strings.LastIndexByte(e.To, ',')+1:]) // "lmtp(12, a@b)" of older ones
	if !strings.Contains(e.To, "@") {
		return beside // of a session
	}
	sieve := false
	if rest, found := strings.CutPrefix(said, "sieve: "); found {
		said, sieve = rest, true
	}
	id, found := strings.CutPrefix(said, "msgid=")
	if !found {
		return beside
	}
	id, said, ok = strings.Cut(id, ": ")
	if !ok {
		return unknown
	}
	e.Message, e.Detail = messageID(id), said
	if e.Message == "" || e.Message == "unspecified" {
		return beside
	}
	return dovecotKept(said, sieve, e)
}

// dovecotKept reads what became of a message.
func dovecotKept(said string, sieve bool, e *trail.Event) meaning {
	for _, stored := range []string{"stored mail into mailbox ", "saved mail to ",
		"fileinto action: stored mail into mailbox "} {
		folder, found := strings.CutPrefix(said, stored)
		if !found {
			continue
		}
		e.Kind, e.Folder = trail.Delivered, strings.Trim(folder, `'"`)
		if isJunk(e.Folder) {
			e.Kind = trail.Junk
		}
		return something
	}
	switch {
	case strings.HasPrefix(said, "save failed"), strings.HasPrefix(said, "failed to store "):
		return beside // the one who brought it is notified, and says so
	case strings.HasPrefix(said, "forwarded to "), strings.HasPrefix(said, "redirect action: "):
		e.Kind = trail.HandedOn
		e.Next = strings.Trim(said[strings.LastIndexByte(said, ' ')+1:], "<>")
	case strings.HasPrefix(said, "marked message to be discarded"), strings.HasPrefix(said, "discard"):
		e.Kind = trail.Dropped
	case sieve:
		return beside
	default:
		return unknown
	}
	return something
}
