package send

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/secret"
)

// server answers commands by their first word, and by "WORD again" where it has come before in a
// connection; it counts connections. "close" ends the connection.
func server(t *testing.T, answers map[string]string, connections *atomic.Int32) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			connections.Add(1)
			go converse(conn, answers)
		}
	}()
	return l.Addr().String()
}

func converse(conn net.Conn, answers map[string]string) {
	defer conn.Close()
	fmt.Fprint(conn, "220 test.example ready\r\n")
	r, met := bufio.NewReader(conn), map[string]bool{}
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return
		}
		word := strings.ToUpper(strings.FieldsFunc(line, func(r rune) bool { return r == ' ' || r == '\r' || r == '\n' })[0])
		if word == "DATA" && answers["DATA"] == "" {
			fmt.Fprint(conn, "354 go on\r\n")
			for line != ".\r\n" {
				if line, err = r.ReadString('\n'); err != nil {
					return
				}
			}
			word = "."
		}
		answer := answers[word]
		if of := answers[strings.TrimSpace(line)]; of != "" {
			answer = of
		}
		if again := answers[word+" again"]; again != "" && met[word] {
			answer = again
		}
		met[word] = true
		if answer == "" {
			answer = map[string]string{"EHLO": "250-test.example\r\n250 ENHANCEDSTATUSCODES"}[word]
		}
		if answer == "" {
			answer = "250 2.0.0 fine"
		}
		if answer == "close" {
			return
		}
		fmt.Fprintf(conn, "%s\r\n", answer)
	}
}

func TestSend(t *testing.T) {
	for _, c := range []struct {
		answers  map[string]string
		want     string
		accepted bool
	}{
		{nil, "250 2.0.0 fine", true},
		{map[string]string{"MAIL": "550 5.7.1 not from you"}, "550 5.7.1 not from you", false},
		{map[string]string{"RCPT": "550-5.1.1 nobody\r\n550 5.1.1 is there"}, "550 5.1.1 nobody is there", false},
		{map[string]string{"RCPT": "451 4.7.1 later"}, "451 4.7.1 later", false},
		{map[string]string{"DATA": "554 5.5.1 no"}, "554 5.5.1 no", false},
		{map[string]string{".": "550 no code here"}, "550 no code here", false},
		{map[string]string{".": "close"}, "message: EOF", false},
		{map[string]string{"RCPT": "close"}, "to: EOF", false},
		{map[string]string{"EHLO": "close", "HELO": "close"}, "greeting: EOF", false},
	} {
		var connections atomic.Int32
		s := NewSession(Route{Endpoint: endpoint.Endpoint{Server: server(t, c.answers, &connections), TLS: endpoint.Plain, Wait: time.Second}, Wait: time.Second, Hello: "probe.example"})
		reply := s.Send(context.Background(), Envelope{From: "a@x.example", To: "b@y.example", ID: "e"}, []byte("Subject: x\r\n\r\n.text\r\n"))
		if reply.String() != c.want && !(strings.HasSuffix(c.want, "EOF") && reply.Code == 0 && strings.HasPrefix(reply.String(), strings.TrimSuffix(c.want, "EOF"))) || reply.Accepted() != c.accepted {
			t.Errorf("%v: %s, want %s", c.answers, reply, c.want)
		}
		// The next message goes over the same connection, unless that is broken, or the answer
		// was none about the recipient.
		s.Send(context.Background(), Envelope{From: "a@x.example", To: "b@y.example"}, []byte("Subject: x\r\n\r\ntext\r\n"))
		want := int32(1)
		if !reply.Accepted() && !reply.Refusal() {
			want = 2
		}
		if got := connections.Load(); got != want {
			t.Errorf("%v: %d connections, want %d", c.answers, got, want)
		}
		s.Close()
	}
}

// Only what is said of the recipient or the message is the group's answer; what may be tried
// again is told from what may not.
func TestRefusals(t *testing.T) {
	for _, c := range []struct {
		reply          Reply
		refusal, again bool
	}{
		{Reply{Stage: "to", Code: 550, Status: "5.7.1", Text: "Not you."}, true, false},
		{Reply{Stage: "message", Code: 554, Status: "5.7.1", Text: "Not that."}, true, false},
		{Reply{Stage: "to", Code: 550, Status: "5.1.1", Text: "nobody"}, true, false},
		{Reply{Stage: "from", Code: 550, Status: "5.7.1", Text: "Not you."}, false, false},
		{Reply{Stage: "login", Code: 535, Status: "5.7.8", Text: "wrong"}, false, false},
		{Reply{Stage: "login", Code: 454, Text: "too many"}, false, true},
		{Reply{Stage: "login", Text: "it offers none", Certain: true}, false, false},
		{Reply{Stage: "greeting", Code: 554, Text: "no service"}, false, false},
		{Reply{Stage: "greeting", Code: 554, Text: "Too many connections"}, false, true},
		{Reply{Stage: "greeting", Code: 421, Text: "busy"}, false, true},
		{Reply{Stage: "connect", Text: "nobody listens there"}, false, true},
		{Reply{Stage: "connect", Text: "not trusted", Certain: true}, false, false},
		{Reply{Stage: "to", Code: 451, Status: "4.7.1", Text: "Greylisted"}, false, true},
		{Reply{Stage: "to", Code: 550, Text: "Too many messages today"}, false, true},
		{Reply{Stage: "to", Code: 554, Status: "5.7.1", Text: "<x[192.0.2.1]>: Client host rejected: Access denied", Rcpt: "g@k.example"}, false, false},
		{Reply{Stage: "to", Code: 554, Status: "5.7.1", Text: "<G@k.example>: Recipient address rejected: Access denied", Rcpt: "g@k.example"}, true, false},
		{Reply{Stage: "to", Code: 554, Status: "5.7.1", Text: "<g@k.example>: Relay access denied", Rcpt: "g@k.example"}, false, false},
		{Reply{Stage: "to", Code: 530, Status: "5.7.0", Text: "Sign in."}, false, false},
		{Reply{Stage: "to", Code: 503, Status: "5.5.1", Text: "MAIL first"}, false, false},
		{Reply{Stage: "message", Code: 250}, false, false},
		{Reply{Stage: "message", Text: "the server ended the connection"}, false, false},
	} {
		if c.reply.Refusal() != c.refusal || c.reply.Temporary() != c.again {
			t.Errorf("%+v: refusal %t, again %t", c.reply, c.reply.Refusal(), c.reply.Temporary())
		}
	}
}

// After some refusals there is a new connection, before the server hangs up.
func TestFreshConnections(t *testing.T) {
	var connections atomic.Int32
	at := server(t, map[string]string{"RCPT": "550 5.7.1 no"}, &connections)
	s := NewSession(Route{Endpoint: endpoint.Endpoint{Server: at, TLS: endpoint.Plain, Wait: time.Second}, Wait: time.Second})
	defer s.Close()
	for range 12 {
		if reply := s.Send(context.Background(), Envelope{From: "a@x.example", To: "b@y.example"}, nil); !reply.Refusal() {
			t.Fatalf("%+v", reply)
		}
	}
	if got := connections.Load(); got != 3 {
		t.Errorf("%d connections for 12 refusals, want 3", got)
	}
}

// A server that takes no second greeting after a reset gets the next message by a new connection,
// and once.
func TestSecondGreetingIsRefused(t *testing.T) {
	var connections atomic.Int32
	answers := map[string]string{"RCPT": "550 5.7.1 no", "EHLO again": "503 5.5.1 Invalid command: Already identified"}
	s := NewSession(Route{Endpoint: endpoint.Endpoint{Server: server(t, answers, &connections), TLS: endpoint.Plain, Wait: time.Second}, Wait: time.Second})
	defer s.Close()
	for range 3 {
		if reply := s.Send(t.Context(), Envelope{From: "a@x.example", To: "b@y.example"}, nil); !reply.Refusal() {
			t.Fatalf("%+v", reply)
		}
	}
	if got := connections.Load(); got != 3 {
		t.Errorf("%d connections for 3 messages, want 3", got)
	}
	always := server(t, map[string]string{"MAIL": "503 5.5.1 Bad sequence"}, &connections)
	other := NewSession(Route{Endpoint: endpoint.Endpoint{Server: always, TLS: endpoint.Plain, Wait: time.Second}, Wait: time.Second})
	defer other.Close()
	if reply := other.Send(t.Context(), Envelope{From: "a@x.example", To: "b@y.example"}, nil); reply.Code != 503 || connections.Load() != 4 {
		t.Errorf("%+v, by %d connections", reply, connections.Load())
	}
}

// Nothing is said where TLS is wanted and not offered, or nobody is there.
func TestNoConnection(t *testing.T) {
	var connections atomic.Int32
	plain := server(t, nil, &connections)
	s := NewSession(Route{Endpoint: endpoint.Endpoint{Server: plain, TLS: endpoint.StartTLS, Wait: time.Second}, Wait: time.Second, Login: &endpoint.Login{User: "ada", Secret: secret.New("hush-42")}})
	reply := s.Send(context.Background(), Envelope{From: "a@x.example", To: "b@y.example"}, nil)
	if reply.Stage != "greeting" || reply.Accepted() || strings.Contains(reply.String(), "hush-42") {
		t.Errorf("without TLS: %s", reply)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	s = NewSession(Route{Endpoint: endpoint.Endpoint{Server: l.Addr().String(), TLS: endpoint.Plain, Wait: time.Second}, Wait: time.Second})
	if reply := s.Send(context.Background(), Envelope{}, nil); reply.Stage != "connect" || !reply.Later() {
		t.Errorf("where nobody is: %s", reply)
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	s = NewSession(Route{Endpoint: endpoint.Endpoint{Server: plain, TLS: endpoint.Plain, Wait: time.Second}, Wait: time.Second})
	if reply := s.Send(ctx, Envelope{}, nil); reply.Accepted() {
		t.Errorf("after the end: %s", reply)
	}
}

// A wrong password is told by the server's answer, and not shown.
func TestLogin(t *testing.T) {
	var connections atomic.Int32
	at := server(t, map[string]string{"EHLO": "250-test.example\r\n250 AUTH PLAIN", "AUTH": "535 5.7.8 wrong"}, &connections)
	s := NewSession(Route{Endpoint: endpoint.Endpoint{Server: at, TLS: endpoint.Plain, Wait: time.Second}, Wait: time.Second, Login: &endpoint.Login{User: "ada", Secret: secret.New("hush-42")}})
	if reply := s.Send(context.Background(), Envelope{From: "a@x.example", To: "b@y.example"}, nil); reply.String() != "535 5.7.8 wrong" || reply.Stage != "login" {
		t.Errorf("%+v", reply)
	}
}
