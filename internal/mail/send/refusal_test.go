package send

import (
	"sync/atomic"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/endpoint"
)

// Servers say alike what is the group's answer and what is about whoever writes: what they say to
// the same sender about a plain mailbox tells.
func TestWhoseRefusal(t *testing.T) {
	const group, plain = "g@k.example", "ada@k.example"
	taken := &Reply{Stage: "to", Code: 250}
	at := func(stage string, code int, status, text string) Reply {
		return Reply{Stage: stage, Code: code, Status: status, Text: text, Rcpt: group}
	}
	to := func(code int, status, text string) Reply { return at("to", code, status, text) }
	said := func(code int, status, text string) *Reply {
		return &Reply{Stage: "to", Code: code, Status: status, Text: text, Rcpt: plain}
	}
	for _, c := range []struct {
		server string
		reply  Reply
		plain  *Reply // nil: nobody asked
		group  bool   // it is the group's answer
	}{
		{"postfix", to(554, "5.7.1", "<gina@x.example>: Sender address rejected: Access denied"), taken, true},
		{"postfix", to(554, "5.7.1", "<gina@x.example>: Sender address rejected: Access denied"),
			said(554, "5.7.1", "<gina@x.example>: Sender address rejected: Access denied"), false},
		{"postfix", to(554, "5.7.1", "<g@k.example>: Recipient address rejected: Access denied"), taken, true},
		{"postfix", to(554, "5.7.1", "<g@k.example>: Recipient address rejected: Access denied"), nil, true},
		{"postfix", to(553, "5.7.1", "<bob@k.example>: Sender address rejected: not owned by user ada@k.example"),
			said(553, "5.7.1", "<bob@k.example>: Sender address rejected: not owned by user ada@k.example"), false},
		{"postfix", to(553, "5.7.1", "<bob@k.example>: Sender address rejected: not logged in"),
			said(553, "5.7.1", "<bob@k.example>: Sender address rejected: not logged in"), false},
		{"postfix", to(553, "5.7.1", "<bob@k.example>: Sender address rejected: not logged in"), taken, true},
		{"postfix", to(554, "5.7.1", "<g@k.example>: Relay access denied"),
			said(554, "5.7.1", "<ada@k.example>: Relay access denied"), false},
		{"postfix", to(554, "5.7.1", "<g@k.example>: Relay access denied"), nil, false},
		{"postfix", to(550, "5.1.1", "<g@k.example>: Recipient address rejected: User unknown in virtual alias table"), taken, true},
		{"postfix", to(550, "5.1.1", "<g@k.example>: Recipient address rejected: User unknown"),
			said(550, "5.1.1", "<ada@k.example>: Recipient address rejected: User unknown"), true},
		{"postfix", at("from", 552, "5.3.4", "Message size exceeds fixed limit"), nil, false},
		{"postfix", at("message", 552, "5.3.4", "Error: message file too big"), taken, false},
		{"postfix", at("message", 550, "5.7.1", "Not for this group"), taken, true},

		{"exim", to(550, "", "Administrative prohibition"), taken, true},
		{"exim", to(550, "", "Administrative prohibition"), said(550, "", "Administrative prohibition"), false},
		{"exim", to(550, "", "relay not permitted"), said(550, "", "relay not permitted"), false},
		{"exim", to(550, "", "Unrouteable address"), taken, true},
		{"exim", to(550, "", "Sender verify failed"), said(550, "", "Sender verify failed"), false},
		{"exim", to(550, "", "authentication required"), taken, true},
		{"exim", to(550, "", "authentication required"), nil, false},
		{"exim", at("from", 550, "", "rejected: there is no such user"), nil, false},

		{"opensmtpd", to(550, "", "Invalid recipient: <g@k.example>"), taken, true},
		{"opensmtpd", to(550, "", "Invalid recipient"), said(550, "", "Invalid recipient"), false},
		{"opensmtpd", to(503, "5.5.1", "Invalid command: Command not allowed at this point."), nil, false},
		{"opensmtpd", to(530, "5.5.1", "Invalid command: Must issue an AUTH command first"), said(530, "5.5.1",
			"Invalid command: Must issue an AUTH command first"), false},

		{"sendmail", to(550, "5.7.1", "<g@k.example>... Access denied"), taken, true},
		{"sendmail", to(550, "5.7.1", "<g@k.example>... Relaying denied. Proper authentication required."),
			said(550, "5.7.1", "<ada@k.example>... Relaying denied. Proper authentication required."), false},
		{"sendmail", to(550, "5.1.1", "<g@k.example>... User unknown"), taken, true},
		{"sendmail", at("from", 553, "5.1.8", "<a@nowhere.example>... Domain of sender address a@nowhere.example does not exist"), nil, false},
		{"sendmail", to(550, "5.0.0", "<g@k.example>... Members alone may write here"), taken, true},

		{"qmail", to(553, "", "sorry, that domain isn't in my list of allowed rcpthosts (#5.7.1)"),
			said(553, "", "sorry, that domain isn't in my list of allowed rcpthosts (#5.7.1)"), false},
		{"qmail", to(553, "", "sorry, your envelope sender is in my list of bad ones (#5.7.1)"),
			said(553, "", "sorry, your envelope sender is in my list of bad ones (#5.7.1)"), false},
		{"qmail", to(553, "", "sorry, your envelope sender is in my list of bad ones (#5.7.1)"), taken, true},
		{"qmail", at("message", 554, "", "sorry, I only take mail of members here (#5.7.2)"), taken, true},
		{"qmail", to(550, "", "sorry, no mailbox here by that name (#5.1.1)"), taken, true},

		{"hosted", to(550, "5.7.2", "Only people of this organisation may write to this group; authentication required"), taken, true},
		{"hosted", to(550, "5.4.1", "Recipient address rejected: access denied"), taken, true},
		{"hosted", to(550, "5.7.1", "The daily limit of this sender is reached"),
			said(550, "5.7.1", "The daily limit of this sender is reached"), false},
		{"hosted", to(554, "5.7.1", "Service unavailable; client host [192.0.2.1] blocked"),
			said(554, "5.7.1", "Service unavailable; client host [192.0.2.1] blocked"), false},
		{"hosted", to(550, "5.1.10", "There is no such recipient"), taken, true},
		{"hosted", to(451, "4.7.500", "Server busy, try again later"), nil, false},
	} {
		c.reply.Plain = c.plain
		if got := c.reply.Refusal(); got != c.group {
			t.Errorf("%s: %s, beside %v: the group's %t, want %t", c.server, c.reply, c.plain, got, c.group)
		}
	}
}

// After a refusal, and then alone, the server is asked about a plain mailbox; no message goes there,
// and the next one goes out as before.
func TestCompare(t *testing.T) {
	const refused = "554 5.7.1 <a@x.example>: Sender address rejected: Access denied"
	for name, c := range map[string]struct {
		answers     map[string]string
		plain       string
		group       bool
		connections int32
	}{
		"taken":                           {map[string]string{"RCPT TO:<g@y.example>": refused}, "250", true, 1},
		"refused, too":                    {map[string]string{"RCPT": refused}, "554", false, 2},
		"a server that hangs up after it": {map[string]string{"RCPT TO:<g@y.example>": refused, "RSET": "close"}, "250", true, 3},
		"one that takes no second greeting": {map[string]string{"RCPT TO:<g@y.example>": refused, "EHLO again": "503 5.5.1 Already identified"},
			"250", true, 3},
		"refused as a message": {map[string]string{".": "550 5.7.1 Not here."}, "250", true, 1},
	} {
		t.Run(name, func(t *testing.T) {
			var connections atomic.Int32
			s := NewSession(Route{Endpoint: endpoint.Endpoint{Server: server(t, c.answers, &connections), TLS: endpoint.Plain,
				Wait: time.Second}, Wait: time.Second})
			defer s.Close()
			e := Envelope{From: "a@x.example", To: "g@y.example", Plain: "ada@y.example"}
			reply := s.Send(t.Context(), e, []byte("Subject: x\r\n\r\ntext\r\n"))
			if reply.Plain == nil || reply.Plain.String()[:3] != c.plain || reply.Refusal() != c.group {
				t.Errorf("%s, about a plain mailbox %v", reply, reply.Plain)
			}
			if c.answers["."] != "" {
				return
			}
			if next := s.Send(t.Context(), Envelope{From: "a@x.example", To: "bob@y.example"}, []byte("Subject: x\r\n\r\ntext\r\n")); next.Code == 0 {
				t.Errorf("the next message: %s", next)
			}
			if got := connections.Load(); got != c.connections {
				t.Errorf("%d connections, want %d", got, c.connections)
			}
		})
	}
	var connections atomic.Int32
	s := NewSession(Route{Endpoint: endpoint.Endpoint{Server: server(t, nil, &connections), TLS: endpoint.Plain, Wait: time.Second}, Wait: time.Second})
	defer s.Close()
	if reply := s.Send(t.Context(), Envelope{From: "a@x.example", To: "g@y.example", Plain: "ada@y.example"}, nil); !reply.Accepted() || reply.Plain != nil {
		t.Errorf("what is taken is compared: %+v", reply)
	}
}
