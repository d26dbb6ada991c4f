package send

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/rude"
	"yorvet.example/yorvet/internal/secret"
)

// A server that is silent, drips or pours at whatever stage is given up in time, and
// is never said to have taken a message over.
func TestRudeServers(t *testing.T) {
	greet := "220 x\r\n250-x\r\n250 DSN\r\n"
	for about, begin := range map[string]string{"greeting": "", "hello": "220 x\r\n", "from": greet, "to": greet + "250 x\r\n", "data": greet + "250 x\r\n250 x\r\n", "message": greet + "250 x\r\n250 x\r\n354 x\r\n"} {
		for how, rest := range map[string][]byte{"silent": nil, "drips": []byte("2"), "pours": bytes.Repeat([]byte("250-x\r\n"), 1000), "pours a line": bytes.Repeat([]byte("x"), 1000)} {
			for _, mode := range []endpoint.TLS{endpoint.Plain, endpoint.StartTLS} {
				s := NewSession(Route{Endpoint: endpoint.Endpoint{TLS: mode, Wait: 300 * time.Millisecond, Server: rude.Server(t, func(c *net.TCPConn) {
					_, _ = c.Write([]byte(begin))
					for rest != nil {
						if _, err := c.Write(rest); err != nil {
							return
						}
						if len(rest) == 1 {
							<-time.After(50 * time.Millisecond)
						}
					}
					_, _ = io.Copy(io.Discard, c)
				})}, Hello: "test.example", Wait: 300 * time.Millisecond})
				reply := s.Send(t.Context(), Envelope{From: "ada@kelp.example", To: "bo@kelp.example"}, []byte("A: b\r\n\r\nx\r\n"))
				s.Close()
				if reply.Accepted() {
					t.Errorf("%s, %s: it is said to be accepted: %v", about, how, reply)
				}
			}
		}
	}
}

// When ctx ends, so does sending, whatever it waits for.
func TestSendIsInterrupted(t *testing.T) {
	s := NewSession(Route{Endpoint: endpoint.Endpoint{TLS: endpoint.Plain, Server: rude.Server(t, func(c *net.TCPConn) {
		_, _ = c.Write([]byte("220 x\r\n250 x\r\n250 x\r\n"))
		_, _ = io.Copy(io.Discard, c)
	})}, Hello: "test.example"})
	ctx, stop := context.WithCancel(t.Context())
	time.AfterFunc(100*time.Millisecond, stop)
	reply := s.Send(ctx, Envelope{From: "ada@kelp.example", To: "bo@kelp.example"}, []byte("A: b\r\n\r\nx\r\n"))
	if reply.Code != 0 || ctx.Err() == nil {
		t.Errorf("%v", reply)
	}
}

// Whatever a server says: sending ends, and with a reply.
func FuzzTalk(f *testing.F) {
	f.Add([]byte("220 x\r\n250-x\r\n250-AUTH PLAIN\r\n250 DSN\r\n235 x\r\n250 x\r\n250 x\r\n354 x\r\n250 2.0.0 x\r\n"))
	f.Add([]byte("220 x\r\n550 5.7.1 x\r\n"))
	f.Add([]byte("220-x\r\n220 x\r\n250 x\r\n334 \r\n535 x\r\n"))
	speech := make(chan []byte, 1)
	server := rude.Server(f, func(c *net.TCPConn) {
		_, _ = c.Write(<-speech)
		_ = c.CloseWrite()
		_, _ = io.Copy(io.Discard, c)
		_ = c.SetLinger(0)
	})
	f.Fuzz(func(t *testing.T, said []byte) {
		speech <- said
		s := NewSession(Route{Endpoint: endpoint.Endpoint{TLS: endpoint.Plain, Wait: 300 * time.Millisecond, Server: server}, Hello: "test.example", Wait: 300 * time.Millisecond, Login: &endpoint.Login{User: "ada", Secret: secret.New("tide-42")}})
		defer s.Close()
		reply := s.Send(t.Context(), Envelope{From: "ada@kelp.example", To: "bo@kelp.example"}, []byte("A: b\r\n\r\nx\r\n"))
		if reply.Stage == "connect" {
			t.Fatal("this machine has no ports left")
		}
		if reply.Stage == "" || reply.Accepted() && !bytes.Contains(said, []byte("354")) {
			t.Errorf("it says %+v", reply)
		}
	})
}

// A server that repeats what it is told has no secret shown.
func TestEchoedSecret(t *testing.T) {
	s := NewSession(Route{Endpoint: endpoint.Endpoint{TLS: endpoint.Plain, Wait: 10 * time.Second, Server: rude.Server(t, func(c *net.TCPConn) {
		in := bufio.NewScanner(c)
		_, _ = io.WriteString(c, "220 x\r\n")
		for in.Scan() {
			answer := "535 5.7.8 no: " + in.Text() + "\r\n"
			if strings.HasPrefix(in.Text(), "EHLO") {
				answer = "250-x\r\n250 AUTH PLAIN\r\n"
			}
			_, _ = io.WriteString(c, answer)
		}
	})}, Hello: "test.example", Login: &endpoint.Login{User: "ada@kelp.example", Secret: secret.New("tide-42-sécret")}})
	defer s.Close()
	reply := s.Send(t.Context(), Envelope{From: "ada@kelp.example", To: "bo@kelp.example"}, []byte("A: b\r\n\r\nx\r\n"))
	encoded := base64.StdEncoding.EncodeToString([]byte("\x00ada@kelp.example\x00tide-42-sécret"))
	if text := reply.String(); reply.Code != 535 || strings.Contains(text, encoded[len(encoded)-12:]) || !strings.Contains(text, "(secret)") {
		t.Errorf("%s", text)
	}
}
