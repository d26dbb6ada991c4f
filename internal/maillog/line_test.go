package maillog

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/core/trail"
)

// now is after all lines of the tests.
var now = time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)

func newParser() *lineParser { return &lineParser{stamps: stamps{zone: time.UTC, now: now}} }

// said writes what a line says in short: "-" for a line that says nothing of a message, "?"
// for one that is not known.
func said(line string) string {
	var e trail.Event
	switch newParser().parse(line, &e) {
	case unknown:
		return "?"
	case beside:
		return "-"
	}
	parts := []string{e.Kind.String()}
	for _, field := range []struct{ name, value string }{
		{"host", e.Host}, {"queue", e.Queue}, {"id", e.Message}, {"from", e.From}, {"to", e.To}, {"group", e.Group}, {"login", e.Login},
		{"client", e.Client}, {"next", e.Next}, {"folder", e.Folder}, {"status", e.Status}, {"child", e.Child}, {"about", e.About},
		{"detail", e.Detail},
	} {
		if field.value != "" {
			parts = append(parts, field.name+"="+field.value)
		}
	}
	if e.Size != 0 {
		parts = append(parts, fmt.Sprint("size=", e.Size))
	}
	return trail.At(e.Time, time.UTC).Format("2006-01-02T15:04:05.000 ") + strings.Join(parts, " ")
}

// Lines as the programs write them, and what they say.
var lines = []struct{ line, want string }{
	// Postfix, by syslog.
	{"Nov 25 20:54:52 mx postfix/smtpd[12]: 4F2KQ1z0xQz1: client=out.example[192.0.2.7]", "2026-11-25T20:54:52.000 arrived host=mx queue=4F2KQ1z0xQz1 client=out.example[192.0.2.7]"},
	{"Nov 25 20:54:52 mx postfix/submission/smtpd[12]: A1B2C3D4E5: client=unknown[127.0.0.1], sasl_method=PLAIN, sasl_username=alice@corp.example", "2026-11-25T20:54:52.000 arrived host=mx queue=A1B2C3D4E5 login=alice@corp.example client=unknown[127.0.0.1]"},
	{"Dec  3 01:02:03 mx postfix/cleanup[12]: A1B2C3D4E5: message-id=<tok@probe.example>", "2025-12-03T01:02:03.000 arrived host=mx queue=A1B2C3D4E5 id=tok@probe.example"},
	{"Nov 25 20:54:52 mx postfix/qmgr[12]: A1B2C3D4E5: from=<olga@out.example>, size=371, nrcpt=3 (queue active)", "2026-11-25T20:54:52.000 arrived host=mx queue=A1B2C3D4E5 from=olga@out.example size=371"},
	{"Nov 25 20:54:52 mx postfix/qmgr[12]: A1B2C3D4E5: from=<>, size=2371, nrcpt=1 (queue active)", "2026-11-25T20:54:52.000 arrived host=mx queue=A1B2C3D4E5 from=<> size=2371"},
	{"Nov 25 20:54:52 mx postfix/qmgr[12]: A1B2C3D4E5: removed", "2026-11-25T20:54:52.000 done host=mx queue=A1B2C3D4E5"},
	{"Nov 25 20:54:52 mx postfix/qmgr[12]: A1B2C3D4E5: from=<olga@out.example>, status=expired, returned to sender", "2026-11-25T20:54:52.000 expired host=mx queue=A1B2C3D4E5 from=olga@out.example detail=it could not be delivered in time"},
	{"Nov 25 20:54:52 mx postfix/lmtp[12]: A1B2C3D4E5: to=<alice@corp.example>, orig_to=<team@corp.example>, relay=mx.corp.example[private/dovecot-lmtp], delay=0.05, delays=0.01/0.01/0.02/0.01, dsn=2.0.0, status=sent (250 2.0.0 <alice@corp.example> ID Saved)",
		"2026-11-25T20:54:52.000 delivered host=mx queue=A1B2C3D4E5 to=alice@corp.example group=team@corp.example next=mx.corp.example[private/dovecot-lmtp] status=2.0.0 detail=250 2.0.0 <alice@corp.example> ID Saved"},
	{"Nov 25 20:54:52 mx postfix/smtp[12]: A1B2C3D4E5: to=<\"o>d d\"@out.example>, relay=mx.out.example[192.0.2.1]:25, conn_use=2, delay=1, delays=0/0/0/1, dsn=4.2.2, status=deferred (host said: 452 4.2.2 over quota)",
		"2026-11-25T20:54:52.000 deferred host=mx queue=A1B2C3D4E5 to=\"o>d d\"@out.example next=mx.out.example[192.0.2.1]:25 status=4.2.2 detail=host said: 452 4.2.2 over quota"},
	{"Nov 25 20:54:52 mx postfix/smtp[12]: A1B2C3D4E5: to=<a@out.example>, relay=mx.out.example[192.0.2.1]:25, delay=1, delays=0/0/0/1, dsn=2.0.0, status=sent (250 ok)", "2026-11-25T20:54:52.000 handed-on host=mx queue=A1B2C3D4E5 to=a@out.example next=mx.out.example[192.0.2.1]:25 status=2.0.0 detail=250 ok"},
	{"Nov 25 20:54:52 mx postfix/local[12]: A1B2C3D4E5: to=<crew@mx>, relay=local, delay=1, delays=0/0/0/1, dsn=2.0.0, status=sent (forwarded as B1B2C3D4E5)", "2026-11-25T20:54:52.000 expanded host=mx queue=A1B2C3D4E5 to=crew@mx next=local status=2.0.0 detail=forwarded as B1B2C3D4E5"},
	{"Nov 25 20:54:52 mx postfix/error[12]: A1B2C3D4E5: to=<a@b.example>, relay=none, delay=1, delays=0/0/0/1, dsn=5.0.0, status=bounced (gone)", "2026-11-25T20:54:52.000 bounced host=mx queue=A1B2C3D4E5 to=a@b.example next=none status=5.0.0 detail=gone"},
	{"Nov 25 20:54:52 mx postfix/discard[12]: A1B2C3D4E5: to=<a@b.example>, relay=none, delay=1, dsn=2.0.0, status=sent (sink)", "2026-11-25T20:54:52.000 dropped host=mx queue=A1B2C3D4E5 to=a@b.example next=none status=2.0.0 detail=sink"},
	{"Nov 25 20:54:52 mx postfix/bounce[12]: A1B2C3D4E5: sender non-delivery notification: B1B2C3D4E5", "2026-11-25T20:54:52.000 told host=mx queue=A1B2C3D4E5 child=B1B2C3D4E5 detail=sender non-delivery"},
	{"Nov 25 20:54:52 mx postfix/smtpd[12]: NOQUEUE: reject: RCPT from unknown[127.0.0.1]: 554 5.7.1 <board@corp.example>: Recipient address rejected: Access denied; from=<o@out.example> to=<board@corp.example> proto=ESMTP helo=<x>",
		"2026-11-25T20:54:52.000 refused host=mx from=o@out.example to=board@corp.example client=unknown[127.0.0.1] status=5.7.1 detail=554 5.7.1 <board@corp.example>: Recipient address rejected: Access denied"},
	{"Nov 25 20:54:52 mx postfix/cleanup[12]: A1B2C3D4E5: milter-reject: END-OF-MESSAGE from out[192.0.2.1]: 5.7.1 no; from=<o@out.example> to=<a@b.example> proto=ESMTP helo=<x>", "2026-11-25T20:54:52.000 refused host=mx queue=A1B2C3D4E5 from=o@out.example to=a@b.example client=out[192.0.2.1] status=5.7.1 detail=5.7.1 no"},
	{"Nov 25 20:54:52 mx postfix/cleanup[12]: A1B2C3D4E5: hold: header Subject: x from out[192.0.2.1]; from=<o@out.example> to=<a@b.example> proto=ESMTP helo=<x>: look", "2026-11-25T20:54:52.000 held host=mx queue=A1B2C3D4E5 from=o@out.example to=a@b.example detail=header Subject: x from out[192.0.2.1]"},
	{"Nov 25 20:54:52 mx postfix/postsuper[12]: A1B2C3D4E5: released from hold", "2026-11-25T20:54:52.000 released host=mx queue=A1B2C3D4E5"},
	{"Nov 25 20:54:52 mx postfix/pickup[12]: A1B2C3D4E5: uid=0 from=<root>", "2026-11-25T20:54:52.000 arrived host=mx queue=A1B2C3D4E5 from=root client=uid 0"},
	{"Nov 25 20:54:52 mx postfix/smtpd[12]: connect from unknown[127.0.0.1]", "-"},
	{"Nov 25 20:54:52 mx postfix/smtpd[12]: NOQUEUE: reject: CONNECT from unknown[127.0.0.1]: 554 5.7.1 no; proto=SMTP", "-"},
	{"Nov 25 20:54:52 mx postfix/smtp[12]: warning: no route", "-"},
	{"Nov 25 20:54:52 mx postfix/smtpd[12]: something that nobody has written yet", "?"},
	{"Nov 25 20:54:52 mx postfix/lmtp[12]: A1B2C3D4E5: to=<alice@corp.example>, status=married (yes)", "?"},
	{"Nov 25 20:54:52 mx CRON[12]: (root) CMD (run-parts)", "-"},
	// Other ways to write the time.
	{"2026-11-25T20:54:52.123456+01:00 mx postfix/qmgr[12]: A1B2C3D4E5: removed", "2026-11-25T19:54:52.123 done host=mx queue=A1B2C3D4E5"},
	{"2026-11-25T20:54:52+0000 mx postfix/qmgr[12]: A1B2C3D4E5: removed", "2026-11-25T20:54:52.000 done host=mx queue=A1B2C3D4E5"},
	{"Wed 2026-11-25 20:54:52 UTC mx postfix/qmgr[12]: A1B2C3D4E5: removed", "2026-11-25T20:54:52.000 done host=mx queue=A1B2C3D4E5"},
	{"1795640092.5 mx postfix/qmgr[12]: A1B2C3D4E5: removed", "2026-11-25T20:54:52.500 done host=mx queue=A1B2C3D4E5"},
	{"Nov 25 20:54:52.250 mx postfix/qmgr[12]: A1B2C3D4E5: removed", "2026-11-25T20:54:52.250 done host=mx queue=A1B2C3D4E5"},
	{`{"__REALTIME_TIMESTAMP":"1795640092500000","_HOSTNAME":"mx","SYSLOG_IDENTIFIER":"postfix/qmgr","MESSAGE":"A1B2C3D4E5: removed"}`, "2026-11-25T20:54:52.500 done host=mx queue=A1B2C3D4E5"},
	{`{"__REALTIME_TIMESTAMP":"1795640092500000","SYSLOG_IDENTIFIER":"postfix/qmgr","MESSAGE":[65,66]}`, "-"},
	{"-- Boot 1234 --", "-"},
	{"Nov 31 20:54:52 mx x: y", "-"},
	{"Nov 25 20:74:52 mx x: y", "?"},
	{"no time at all", "?"},
	{"", "-"},
	// Dovecot.
	{"Nov 25 20:54:52 mx dovecot: lmtp(alice@corp.example)<12><ab>: sieve: msgid=<t@x.example>: stored mail into mailbox 'INBOX.Junk'", "2026-11-25T20:54:52.000 junk host=mx id=t@x.example to=alice@corp.example folder=INBOX.Junk detail=stored mail into mailbox 'INBOX.Junk'"},
	{"Nov 25 20:54:52 mx dovecot: lmtp(12, alice@corp.example): AB: msgid=<t@x.example>: saved mail to INBOX", "-"},
	{"Nov 25 20:54:52 lmtp(alice@corp.example)<12><ab>: Info: msgid=<t@x.example>: saved mail to INBOX", "2026-11-25T20:54:52.000 delivered id=t@x.example to=alice@corp.example folder=INBOX detail=saved mail to INBOX"},
	{"Nov 25 20:54:52 mx dovecot: lda(bob@corp.example)<12><ab>: sieve: msgid=<t@x.example>: forwarded to <bob@home.example>", "2026-11-25T20:54:52.000 handed-on host=mx id=t@x.example to=bob@corp.example next=bob@home.example detail=forwarded to <bob@home.example>"},
	{"Nov 25 20:54:52 mx dovecot: imap-login: Login: user=<alice>, method=PLAIN", "-"},
	// Exim.
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y <= olga@outside.example H=(probe.example) [127.0.0.1] P=esmtpa A=plain:bob@corp.example S=465 id=TOK@probe.example",
		"2026-11-25T20:54:52.000 arrived queue=1xWK0y-0008QI-1Y id=TOK@probe.example from=olga@outside.example login=bob@corp.example client=(probe.example) [127.0.0.1] size=465"},
	{"2026-11-25 20:54:52.123 +0100 [123] 1xWK0y-0008QI-1Y <= <> R=1xWK10-0008Qu-39 U=Debian-exim P=local S=1465", "2026-11-25T19:54:52.123 arrived queue=1xWK0y-0008QI-1Y from=<> client=Debian-exim about=1xWK10-0008Qu-39 size=1465"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y => alice@corp.example (team@corp.example) <all@corp.example> R=users T=cyrus H=127.0.0.1 [127.0.0.1] C=\"250 2.1.5 Success\"",
		"2026-11-25T20:54:52.000 delivered queue=1xWK0y-0008QI-1Y to=alice@corp.example group=all@corp.example next=127.0.0.1 [127.0.0.1] status=2.1.5 detail=250 2.1.5 Success"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y => alice <alice@corp.example> R=users T=boxes", "2026-11-25T20:54:52.000 delivered queue=1xWK0y-0008QI-1Y to=alice@corp.example"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y -> bob <team@corp.example> R=users T=boxes", "2026-11-25T20:54:52.000 delivered queue=1xWK0y-0008QI-1Y to=bob@corp.example group=team@corp.example"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y => a@out.example R=dns T=smtp H=mx.out.example [192.0.2.1] C=\"250 OK id=1\"", "2026-11-25T20:54:52.000 handed-on queue=1xWK0y-0008QI-1Y to=a@out.example next=mx.out.example [192.0.2.1] detail=250 OK id=1"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y => :blackhole: <drop@corp.example> R=x", "2026-11-25T20:54:52.000 dropped queue=1xWK0y-0008QI-1Y to=drop@corp.example"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y ** ghost@corp.example <stale@corp.example> R=users T=cyrus H=127.0.0.1 [127.0.0.1]: SMTP error from remote mail server after RCPT TO:<ghost@corp.example>: 550-5.1.1 no\\n550 5.1.1 none",
		"2026-11-25T20:54:52.000 bounced queue=1xWK0y-0008QI-1Y to=ghost@corp.example group=stale@corp.example next=127.0.0.1 [127.0.0.1] status=5.1.1 detail=SMTP error from remote mail server after RCPT TO:<ghost@corp.example>: 550-5.1.1 no 550 5.1.1 none"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y ** a@b.example: Unrouteable address", "2026-11-25T20:54:52.000 bounced queue=1xWK0y-0008QI-1Y to=a@b.example detail=Unrouteable address"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y == a@b.example R=dns T=smtp defer (-53): retry time not reached", "2026-11-25T20:54:52.000 deferred queue=1xWK0y-0008QI-1Y to=a@b.example detail=retry time not reached"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y Completed", "2026-11-25T20:54:52.000 done queue=1xWK0y-0008QI-1Y"},
	{"2026-11-25 20:54:52 1xWK0yAAAAA-0000000008QI-1YYY Completed", "?"},
	{"2026-11-25 20:54:52 1xWK0y-00000008QIx-1YYY Completed", "2026-11-25T20:54:52.000 done queue=1xWK0y-00000008QIx-1YYY"},
	{"2026-11-25 20:54:53 H=(probe.example) [127.0.0.1] F=<olga@outside.example> rejected RCPT <board@corp.example>: only authenticated senders", "2026-11-25T20:54:53.000 refused from=olga@outside.example to=board@corp.example client=(probe.example) [127.0.0.1] detail=only authenticated senders"},
	{"2026-11-25 20:54:53 1xWK0y-0008QI-1Y H=out [192.0.2.1] F=<o@out.example> rejected after DATA: virus", "2026-11-25T20:54:53.000 refused queue=1xWK0y-0008QI-1Y from=o@out.example client=out [192.0.2.1] detail=virus"},
	{"2026-11-25 20:54:53 H=out [192.0.2.1] temporarily rejected RCPT <a@b.example>: later", "2026-11-25T20:54:53.000 deferred to=a@b.example client=out [192.0.2.1] detail=later"},
	{"2026-11-25 20:54:53 exim 4.96 daemon started: pid=1", "-"},
	{"2026-11-25 20:54:53 End queue run: pid=1", "-"},
	{"Nov 25 20:54:52 mx exim[12]: 2026-11-25 20:54:52 1xWK0y-0008QI-1Y Completed", "2026-11-25T20:54:52.000 done host=mx queue=1xWK0y-0008QI-1Y"},
	{"2026-11-25 20:54:53 the moon is full", "?"},
	{"2026-11-26 16:31:55 1xWcO3-00036V-0z Spool file for 1xWcO3-00036V-0z is locked (another process is handling this message)", "-"},
	// OpenSMTPD, with syslog and without times.
	{"Nov 25 20:54:52 mx smtpd[12]: 0123456789abcdef smtp envelope evpid=1a2b3c4d5e6f7081 from=<o@out.example> to=<team@corp.example>", "2026-11-25T20:54:52.000 arrived host=mx queue=1a2b3c4d from=o@out.example to=team@corp.example"},
	{"0123456789abcdef mda delivery evpid=1a2b3c4d5e6f7081 from=<> to=<bob@corp.example> rcpt=<team@corp.example> user=bob delay=0s result=Ok stat=Delivered", "0001-01-01T00:00:00.000 delivered queue=1a2b3c4d from=<> to=bob@corp.example group=team@corp.example detail=Delivered"},
	{"0123456789abcdef mta delivery evpid=1a2b3c4d5e6f7081 from=<a@b.example> to=<x@out.example> rcpt=<-> source=\"1.2.3.4\" relay=\"mx.out.example\" delay=1s result=PermFail stat=\"550 5.1.1 no\"",
		"0001-01-01T00:00:00.000 bounced queue=1a2b3c4d from=a@b.example to=x@out.example next=mx.out.example status=5.1.1 detail=550 5.1.1 no"},
	{"0123456789abcdef smtp failed-command command=\"RCPT TO:<nix@corp.example>\" result=\"524 5.2.4 Mailing list expansion problem\"", "0001-01-01T00:00:00.000 refused to=nix@corp.example status=5.2.4 detail=524 5.2.4 Mailing list expansion problem"},
	{"0123456789abcdef smtp connected address=127.0.0.1 host=localhost", "-"},
	{"0123456789abcdef love letter to=nobody x", "?"},
	// The stand-in.
	{`{"time":"2026-11-25T20:54:52.5Z","step":"judged","id":"ab12","message":"t@x","from":"o@out.example","group":"team@corp.example","verdict":"admit","login":"l@corp.example","size":7}`, "2026-11-25T20:54:52.500 arrived queue=ab12 id=t@x from=o@out.example to=team@corp.example login=l@corp.example size=7"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"copied","id":"ab12-3","message":"t@x","to":"a@corp.example","group":"team@corp.example"}`, "2026-11-25T20:54:52.500 copied queue=ab12 id=t@x to=a@corp.example group=team@corp.example"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"delivered","id":"ab12-3","message":"t@x","to":"a@corp.example","folder":"Junk"}`, "2026-11-25T20:54:52.500 junk queue=ab12 id=t@x to=a@corp.example folder=Junk"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"refused","id":"ab12","message":"t@x","to":"a@corp.example","detail":"550 5.7.1 no"}`, "2026-11-25T20:54:52.500 refused queue=ab12 id=t@x to=a@corp.example status=5.7.1 detail=550 5.7.1 no"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"held","id":"ab12","message":"t@x","group":"g@corp.example","approvers":2}`, "2026-11-25T20:54:52.500 held queue=ab12 id=t@x to=g@corp.example"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"fault","do":"lose"}`, "-"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"flown"}`, "?"},
	{`{"time":"yesterday","step":"held"}`, "?"},
	{"Nov 25 20:54:52 mx postfix/local[12]: A1B2C3D4E5: to=<alice@mx>, orig_to=<team>, relay=local, delay=1, delays=0/0/0/1, dsn=2.0.0, status=sent (delivered to mailbox)", "2026-11-25T20:54:52.000 delivered host=mx queue=A1B2C3D4E5 to=alice@mx group=team next=local status=2.0.0 detail=delivered to mailbox"},
	{"Nov 25 20:54:52 mx postfix/local[12]: A1B2C3D4E5: to=<desk@mx>, relay=local, delay=1, delays=0/0/0/1, dsn=2.0.0, status=sent (delivered to command: /usr/bin/ticket)", "2026-11-25T20:54:52.000 handed-on host=mx queue=A1B2C3D4E5 to=desk@mx next=local status=2.0.0 detail=delivered to command: /usr/bin/ticket"},
	{"Nov 25 20:54:52 mx postfix/virtual[12]: A1B2C3D4E5: to=<a@b.example>, relay=virtual, delay=1, dsn=2.0.0, status=sent (delivered to maildir)", "2026-11-25T20:54:52.000 delivered host=mx queue=A1B2C3D4E5 to=a@b.example next=virtual status=2.0.0 detail=delivered to maildir"},
	{"Nov 25 20:54:52 mx postfix/pipe[12]: A1B2C3D4E5: to=<a@b.example>, relay=filter, delay=1, dsn=2.0.0, status=sent (delivered via filter service)", "2026-11-25T20:54:52.000 handed-on host=mx queue=A1B2C3D4E5 to=a@b.example next=filter status=2.0.0 detail=delivered via filter service"},
	{"Nov 25 20:54:52 mx postfix/smtpd[12]: NOQUEUE: reject: MAIL from out[192.0.2.1]: 552 5.3.4 Message size exceeds fixed limit; from=<o@out.example> proto=ESMTP helo=<x>", "2026-11-25T20:54:52.000 refused host=mx from=o@out.example client=out[192.0.2.1] status=5.3.4 detail=552 5.3.4 Message size exceeds fixed limit"},
	{"Nov 25 20:54:52 mx postfix/smtpd[12]: A1B2C3D4E5: reject: RCPT from out[192.0.2.1]: 450 4.7.1 <a@b.example>: Recipient address rejected: Greylisted; from=<o@out.example> to=<a@b.example> proto=ESMTP helo=<x>", "2026-11-25T20:54:52.000 deferred host=mx queue=A1B2C3D4E5 from=o@out.example to=a@b.example client=out[192.0.2.1] status=4.7.1 detail=450 4.7.1 <a@b.example>: Recipient address rejected: Greylisted"},
	{"Nov 25 20:54:52 mx postfix/postsuper[12]: A1B2C3D4E5: removed", "2026-11-25T20:54:52.000 dropped host=mx queue=A1B2C3D4E5 detail=an administrator removed it"},
	{"Nov 25 20:54:52 mx postfix/verify[12]: A1B2C3D4E5: to=<a@b.example>, relay=x, status=deliverable (250 ok)", "-"},
	{"2026-11-25 20:54:52 1xWK0_-0008QI-1Y Completed", "?"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y Message is frozen", "2026-11-25T20:54:52.000 deferred queue=1xWK0y-0008QI-1Y detail=the message is frozen"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y removed by root", "2026-11-25T20:54:52.000 dropped queue=1xWK0y-0008QI-1Y detail=removed by root"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y => /var/mail/alice <alice@corp.example> R=local T=file", "2026-11-25T20:54:52.000 delivered queue=1xWK0y-0008QI-1Y to=alice@corp.example"},
	{"2026-11-25 20:54:52 1xWK0y-0008QI-1Y => |/usr/bin/ticket <desk@corp.example> R=pipe T=pipe", "2026-11-25T20:54:52.000 handed-on queue=1xWK0y-0008QI-1Y to=desk@corp.example"},
	{"2026-11-25 20:54:53 H=out [192.0.2.1] rejected MAIL <o@out.example>: no", "-"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"collected","id":"ab12-digest-3","message":"t@x","to":"a@corp.example","group":"team@corp.example"}`, "2026-11-25T20:54:52.500 digest queue=ab12 id=t@x to=a@corp.example group=team@corp.example"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"archived","id":"ab12-0","message":"t@x","to":"team@corp.example","group":"team@corp.example"}`, "2026-11-25T20:54:52.500 archived queue=ab12 id=t@x to=team@corp.example group=team@corp.example"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"released","id":"ab12","message":"t@x","group":"g@corp.example","by":"x"}`, "2026-11-25T20:54:52.500 released queue=ab12 id=t@x to=g@corp.example"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"lost","id":"ab12","message":"t@x","to":"a@corp.example","detail":"disk"}`, "2026-11-25T20:54:52.500 dropped queue=ab12 id=t@x to=a@corp.example detail=disk"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"bounced","id":"ab12-1","message":"t@x","to":"a@corp.example","group":"g@corp.example","status":"5.2.2"}`, "2026-11-25T20:54:52.500 bounced queue=ab12 id=t@x to=a@corp.example group=g@corp.example status=5.2.2"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"notice","id":"cd","message":"n@x","to":"a@corp.example","group":""}`, "2026-11-25T20:54:52.500 arrived queue=cd id=n@x from=<> to=a@corp.example"},
	{`{"time":"2026-11-25T20:54:52.5Z","step":"dropped","id":"ab12","message":"t@x","from":"o@out.example","group":"g@corp.example"}`, "2026-11-25T20:54:52.500 dropped queue=ab12 id=t@x from=o@out.example to=g@corp.example"},
	{`{"level":"info"}`, "?"},
	{`{broken`, "?"},
}

func TestLines(t *testing.T) {
	for _, one := range lines {
		if got := said(one.line); got != one.want {
			t.Errorf("%s\n got %s\nwant %s", one.line, got, one.want)
		}
	}
}

// named knows one mailbox, at another domain than the groups.
func named(name, domain string) string {
	if name == "pia" {
		return "pia@kelp.example"
	}
	return ""
}

// Servers name mailboxes of their own without a domain, or by a user: the estate says whose they are.
func TestLocalNames(t *testing.T) {
	p := newParser()
	p.local = named
	for line, want := range map[string]string{
		"2026-11-25 20:54:52 1xWK0y-0008QI-1Y => pia <team@corp.example> R=users T=boxes":                                                                          "pia@kelp.example of team@corp.example delivered",
		"2026-11-25 20:54:52 1xWK0y-0008QI-1Y => bob <team@corp.example> R=users T=boxes":                                                                          "bob@corp.example of team@corp.example delivered",
		"2026-11-25 20:54:52 1xWK0y-0008QI-1Y ** pia <team@corp.example> R=x T=y: full":                                                                            "pia@kelp.example of team@corp.example bounced",
		"0123456789abcdef mda delivery evpid=1a2b3c4d5e6f7081 from=<o@x> to=<team@corp.example> rcpt=<-> user=pia delay=0s result=Ok stat=Delivered":               "pia@kelp.example of team@corp.example delivered",
		"0123456789abcdef mda delivery evpid=1a2b3c4d5e6f7081 from=<o@x> to=<bob@corp.example> rcpt=<-> user=vmail delay=0s result=Ok stat=Delivered":              "bob@corp.example of  delivered",
		"0123456789abcdef mda delivery evpid=1a2b3c4d5e6f7081 from=<o@x> to=<pia@kelp.example> rcpt=<-> user=pia delay=0s result=Ok stat=Delivered":                "pia@kelp.example of  delivered",
		"0123456789abcdef mda delivery evpid=1a2b3c4d5e6f7081 from=<o@x> to=<pia@kelp.example> rcpt=<team@corp.example> user=pia result=\"Ok\" stat=\"Delivered\"": "pia@kelp.example of team@corp.example delivered",
		"0123456789abcdef mta delivery evpid=1a2b3c4d5e6f7081 from=<o@x> to=<a@b.example> rcpt=<-> delay=4d result=\"Expire\" stat=\"Envelope expired\"":           "a@b.example of  bounced",
	} {
		var e trail.Event
		if m := p.parse(line, &e); m != something || e.To+" of "+e.Group+" "+e.Kind.String() != want {
			t.Errorf("%s\n says %s of %s %s, want %s", line, e.To, e.Group, e.Kind, want)
		}
	}
}

// A line says the same whatever was read before it.
func TestLinesInARow(t *testing.T) {
	p := newParser()
	for range 2 {
		for i := range lines {
			var alone, after trail.Event
			m := newParser().parse(lines[i].line, &alone)
			if got := p.parse(lines[i].line, &after); got != m || m == something && alone != after {
				t.Errorf("%s: %v after other lines, %v alone", lines[i].line, after, alone)
			}
		}
	}
}

// Whatever a line is, it is read in bounds: what an event says is in the line.
func FuzzLine(f *testing.F) {
	for _, one := range lines {
		f.Add(one.line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		var e trail.Event
		if newParser().parse(line, &e) != something || strings.HasPrefix(line, "{") {
			return
		}
		for _, text := range []string{e.Queue, e.Message, e.To, e.Group, e.Login} {
			parts := strings.Split(text, "@") // Exim's local parts get the domain of the group
			for _, part := range parts {
				if !strings.Contains(line, part) {
					t.Errorf("%q says %q", line, text)
				}
			}
		}
		if e.Kind.String() == "" || e.Size < 0 {
			t.Errorf("%q says %v", line, e)
		}
	})
}

// fuzzParser tries a parser with whatever a program may say after the time, host and name.
func fuzzParser(f *testing.F, seeds []string, parse func(string, *trail.Event) meaning) {
	for _, seed := range seeds {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var e trail.Event
		if m := parse(text, &e); m == something && (e.Kind.String() == "" || e.Size < 0) {
			t.Errorf("%q says %v", text, e)
		}
	})
}

// after returns what stands behind a mark in the lines of the tests.
func after(mark string) (seeds []string) {
	for _, one := range lines {
		if _, text, ok := strings.Cut(one.line, mark); ok {
			seeds = append(seeds, text)
		}
	}
	return seeds
}

func FuzzPostfix(f *testing.F) {
	seeds := after("]: ")
	for _, daemon := range []string{"smtpd", "cleanup", "qmgr", "lmtp", "local", "bounce", "postsuper", "pickup", "discard"} {
		f.Add(daemon, "A1B2C3D4E5: removed")
	}
	for _, seed := range seeds {
		f.Add("smtpd", seed)
		f.Add("lmtp", seed)
	}
	f.Fuzz(func(t *testing.T, daemon, text string) {
		var e trail.Event
		if m := postfix("postfix/"+daemon, text, &e); m == something && (e.Kind.String() == "" || e.Size < 0) {
			t.Errorf("%q says %v", text, e)
		}
	})
}

func FuzzExim(f *testing.F) {
	fuzzParser(f, append(after("2026-11-25 20:54:52 "), after("2026-11-25 20:54:53 ")...), func(text string, e *trail.Event) meaning { return exim(text, e, named) })
}

func FuzzDovecot(f *testing.F) { fuzzParser(f, after("dovecot: "), dovecot) }

func FuzzOpenSMTPD(f *testing.F) {
	fuzzParser(f, append(after("smtpd[12]: "), "0123456789abcdef mta delivery evpid=1a2b3c4d5e6f7081 to=<a@b> result=Ok stat=\"250 x\""),
		func(text string, e *trail.Event) meaning { return opensmtpd(text, e, named) })
}

// The stand-in's lines, and those of a journal.
func FuzzObject(f *testing.F) {
	var seeds []string
	for _, one := range lines {
		if strings.HasPrefix(one.line, "{") {
			seeds = append(seeds, one.line)
		}
	}
	fuzzParser(f, seeds, newParser().object)
}

func FuzzClock(f *testing.F) {
	for _, one := range lines {
		f.Add(one.line)
	}
	c := &stamps{zone: time.UTC, now: now}
	f.Fuzz(func(t *testing.T, line string) {
		if _, rest, ok := c.stamp(line); ok && !strings.HasSuffix(line, rest.text) {
			t.Errorf("%q leaves %q", line, rest.text)
		}
	})
}
