package mailbox

import (
	"net"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/rude"
	"yorvet.example/yorvet/internal/secret"
)

// Whatever a server says: a look ends, and gives a report.
func FuzzTalk(f *testing.F) {
	f.Add([]byte("* OK [CAPABILITY IMAP4rev1 SASL-IR AUTH=PLAIN] x\r\nT1 OK x\r\n* LIST () \"/\" INBOX\r\nT2 OK x\r\n* 1 EXISTS\r\n* OK [UIDVALIDITY 1] x\r\nT3 OK x\r\n* SEARCH 1\r\nT4 OK x\r\n* 1 FETCH (UID 1 RFC822.SIZE 9 BODY[HEADER]<0> {9}\r\nA: b\r\n\r\nx)\r\nT5 OK x\r\n"))
	f.Add([]byte("* PREAUTH x\r\n* BYE x\r\n"))
	f.Add([]byte("* OK x\r\n* ESEARCH (TAG \"T1\") UID ALL 1:*,5:4294967295\r\n"))
	f.Fuzz(func(t *testing.T, said []byte) {
		server := rude.Server(t, func(c *net.TCPConn) {
			_, _ = c.Write(said)
			_ = c.CloseWrite()
			rude.Silent(c)
		})
		a := Account{Name: "ada@kelp.example", Endpoint: endpoint.Endpoint{Server: server, TLS: endpoint.Plain, Wait: 500 * time.Millisecond},
			Login: endpoint.Login{User: "ada", Secret: secret.New("tide")}}
		r := Look(t.Context(), a, Query{Wants: func(*read.Message) bool { return true }})
		if r.Account != a.Name || r.Err == nil && len(r.Items) > 0 && r.Marks == nil {
			t.Errorf("it says %+v", r)
		}
	})
}
