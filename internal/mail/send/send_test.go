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

// server answers commands by their first word, and counts connections. "close"
// ends the connection.
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
	r := bufio.NewReader(conn)
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
		// The next message goes over the same connection, unless that is broken.
		s.Send(context.Background(), Envelope{From: "a@x.example", To: "b@y.example"}, []byte("Subject: x\r\n\r\ntext\r\n"))
		want := int32(1)
		if reply.Code == 0 {
			want = 2
		}
		if got := connections.Load(); got != want {
			t.Errorf("%v: %d connections, want %d", c.answers, got, want)
		}
		s.Close()
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
