package maillog

import (
	"strings"

	"yorvet.example/yorvet/internal/core/trail"
)

// opensmtpd reads what OpenSMTPD says (6.8; smtpd(8) has no document of its lines): a
// session, what happens, and fields as key=value. It names a message by the first half of
// the name of its envelopes, says no Message-ID, and not when it is done with one.
func opensmtpd(text string, e *trail.Event, local localNames) meaning {
	session, said, ok := strings.Cut(text, " ")
	if !ok || !isHex(session, 16) {
		if strings.HasPrefix(text, "info: ") || strings.HasPrefix(text, "warn: ") || strings.HasPrefix(text, "debug: ") {
			return beside
		}
		return unknown
	}
	what, fields, ok := cutSecond(said)
	if !ok {
		return unknown
	}
	switch what {
	case "smtp message":
		e.Kind, e.Queue = trail.Arrived, opensmtpdField(fields, "msgid")
		e.Client = "session " + session
	case "smtp envelope":
		e.Kind, e.Queue = trail.Arrived, opensmtpdQueue(fields)
		e.From, e.To = sender(angled(opensmtpdField(fields, "from"))), angled(opensmtpdField(fields, "to"))
	case "mda delivery", "mta delivery":
		return opensmtpdDelivery(what, fields, e, local)
	case "smtp failed-command":
		return opensmtpdRefusal(fields, e)
	case "bounce bounce", "smtp bounce":
		return beside
	default:
		if strings.HasPrefix(what, "smtp ") || strings.HasPrefix(what, "mta ") || strings.HasPrefix(what, "mda ") {
			return beside
		}
		return unknown
	}
	if e.Queue == "" {
		return unknown
	}
	return something
}

// cutSecond cuts a text after its second word.
func cutSecond(s string) (before, after string, ok bool) {
	first := strings.IndexByte(s, ' ')
	if first < 0 {
		return s, "", false
	}
	if second := strings.IndexByte(s[first+1:], ' '); second >= 0 {
		return s[:first+1+second], s[first+second+2:], true
	}
	return s, "", true
}

func isHex(s string, digits int) bool {
	if len(s) != digits {
		return false
	}
	for i := range len(s) {
		if strings.IndexByte("0123456789abcdef", s[i]) < 0 {
			return false
		}
	}
	return true
}

// opensmtpdField returns the value of a field; one in quotes may hold blanks.
func opensmtpdField(s, key string) string {
	value := ""
	if rest, found := strings.CutPrefix(s, key+"="); found {
		value = rest
	} else if _, rest, found := strings.Cut(s, " "+key+"="); found {
		value = rest
	}
	if quoted, found := strings.CutPrefix(value, `"`); found {
		value, _, _ = strings.Cut(quoted, `"`)
		return value
	}
	value, _, _ = strings.Cut(value, " ")
	return value
}

// opensmtpdQueue returns the name of the message that an envelope is of.
func opensmtpdQueue(fields string) string {
	const half = 8
	if id := opensmtpdField(fields, "evpid"); isHex(id, 2*half) {
		return id[:half]
	}
	return ""
}

func angled(s string) string {
	inside, _, _ := inBrackets(s)
	return inside
}

// opensmtpdDelivery reads "evpid=1 from=<a> to=<b> rcpt=<c> user=d delay=0s result=Ok stat=Delivered".
func opensmtpdDelivery(what, fields string, e *trail.Event, local localNames) meaning {
	e.Queue = opensmtpdQueue(fields)
	e.From, e.To = sender(angled(opensmtpdField(fields, "from"))), angled(opensmtpdField(fields, "to"))
	if group := angled(opensmtpdField(fields, "rcpt")); group != "" && group != "-" && !strings.EqualFold(group, e.To) {
		e.Group = group
	} else if name, domain, _ := cutLast(e.To, "@"); what == "mda delivery" {
		user := opensmtpdField(fields, "user")
		if mailbox := local.known(user, domain); mailbox != "" && !strings.EqualFold(user, name) {
			e.To, e.Group = mailbox, e.To // of an alias
		}
	}
	_, e.Detail, _ = strings.Cut(fields, "stat=")
	e.Detail = strings.Trim(e.Detail, `"`)
	e.Status, e.Next = statusIn(e.Detail), opensmtpdField(fields, "relay")
	switch opensmtpdField(fields, "result") {
	case "Ok":
		e.Kind = trail.HandedOn
		if what == "mda delivery" {
			e.Kind = trail.Delivered
		}
	case "TempFail":
		e.Kind = trail.Deferred
	case "PermFail":
		e.Kind = trail.Bounced
	case "Expire":
		e.Kind = trail.Bounced // after all tries
	default:
		return unknown
	}
	if e.Queue == "" || e.To == "" {
		return unknown
	}
	return something
}

// opensmtpdRefusal reads `command="RCPT TO:<a>" result="524 5.2.4 ..."`.
func opensmtpdRefusal(fields string, e *trail.Event) meaning {
	command, found := strings.CutPrefix(opensmtpdField(fields, "command"), "RCPT TO:")
	if !found {
		return beside
	}
	e.Kind, e.To, e.Detail = trail.Refused, angled(command), opensmtpdField(fields, "result")
	e.Status = statusIn(e.Detail)
	if strings.HasPrefix(e.Detail, "4") {
		e.Kind = trail.Deferred // anyone who sends it tries again
	}
	return something
}
