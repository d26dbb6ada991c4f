package ldap

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"runtime"
	"strings"
	"testing"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/rude"
	"yorvet.example/yorvet/internal/secret"
)

// element writes an element in full: its tag, length and content.
func element(tag byte, parts ...[]byte) []byte {
	content := bytes.Join(parts, nil)
	b := []byte{tag}
	switch n := len(content); {
	case n < 0x80:
		b = append(b, byte(n))
	default:
		b = append(b, 0x84, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
	}
	return append(b, content...)
}

func text(s string) []byte { return element(0x04, []byte(s)) }

// message writes an LDAP message with an operation of an application tag.
func message(id int64, tag byte, parts ...[]byte) []byte {
	return element(0x30, element(0x02, []byte{byte(id >> 8), byte(id)}), element(0x60|tag, parts...))
}

// entry writes an entry with one attribute.
func entry(id int64, dn string, values ...[]byte) []byte {
	return message(id, ldap.ApplicationSearchResultEntry, text(dn), element(0x30, element(0x30, text("mail"), element(0x31, values...))))
}

// done writes the end of a search, with a cookie for the next page.
func done(id int64, code byte, cookie string) []byte {
	result := element(0x65, element(0x0a, []byte{code}), text(""), text(""))
	value := element(0x30, element(0x02, []byte{0}), text(cookie))
	controls := element(0xa0, element(0x30, text(ldap.ControlTypePaging), text(string(value))))
	return element(0x30, element(0x02, []byte{byte(id >> 8), byte(id)}), result, controls)
}

// rudeDirectory is a directory that lets everybody in, and answers searches as
// search does.
func rudeDirectory(t *testing.T, search func(w *bufio.Writer, id int64)) *Server {
	t.Helper()
	server := rude.Server(t, func(conn *net.TCPConn) {
		w := bufio.NewWriter(conn)
		for {
			packet, err := ber.ReadPacket(conn)
			if err != nil {
				return
			}
			id, _ := packet.Children[0].Value.(int64)
			switch packet.Children[1].Tag {
			case ldap.ApplicationBindRequest:
				_, _ = w.Write(message(id, ldap.ApplicationBindResponse, element(0x0a, []byte{0}), text(""), text("")))
			case ldap.ApplicationSearchRequest:
				search(w, id)
			}
			if w.Flush() != nil {
				return
			}
		}
	})
	return &Server{URL: "ldap://" + server, TLS: endpoint.Plain, User: "cn=probe", Password: secret.New("hush-42"), Base: "dc=kelp",
		bounds: bounds{answer: time.Minute, pages: 300, entries: 5000}}
}

// However much a directory says, or how little: reading ends, without taking memory,
// and says why.
func TestRudeDirectories(t *testing.T) {
	big := bytes.Repeat([]byte("x"), 1<<20)
	pour := func(data []byte) func(*bufio.Writer, int64) {
		return func(w *bufio.Writer, _ int64) {
			for range 1 << 20 {
				if _, err := w.Write(data); err != nil {
					return
				}
			}
		}
	}
	for about, test := range map[string]struct {
		search func(*bufio.Writer, int64)
		want   string
	}{
		"silence":        {func(*bufio.Writer, int64) { <-t.Context().Done() }, "no answer within 1s"},
		"one huge value": {pour(append([]byte{0x30, 0x84, 0x7f, 0xff, 0xff, 0xff}, big...)), "an entry of more than 32 MiB"},
		"a huge claim": {func(w *bufio.Writer, _ int64) {
			_, _ = w.Write([]byte{0x30, 0x84, 0x01, 0xff, 0xff, 0xff})
			_ = w.Flush()
			<-t.Context().Done()
		}, "no answer within 1s"},
		"tiny values": {func(w *bufio.Writer, id int64) {
			_, _ = w.Write(entry(id, "cn=a", bytes.Repeat([]byte{0x04, 0}, 5<<20)))
		}, "an entry of more than 1000000 values"},
		"deep":                       {pour([]byte{0x30, 0x84, 0x00, 0x10, 0x00, 0x00}), "does not speak LDAP"},
		"no end of length":           {pour([]byte{0x30, 0x80}), "does not speak LDAP"},
		"other talk":                 {pour([]byte("HTTP/1.1 400 Bad Request\r\n")), "does not speak LDAP"},
		"answers to other questions": {func(w *bufio.Writer, _ int64) { pour(entry(999, "cn=a", text("x")))(w, 0) }, ""},
		"an odd operation":           {func(w *bufio.Writer, id int64) { _, _ = w.Write(message(id, 30)) }, "does not speak LDAP"},
		"entries that are none":      {func(w *bufio.Writer, id int64) { _, _ = w.Write(message(id, ldap.ApplicationSearchResultEntry)) }, "does not speak LDAP"},
		"an end in the middle": {func(w *bufio.Writer, id int64) {
			_, _ = w.Write(entry(id, "cn=a", text("x")))
			_ = w.Flush()
			runtime.Goexit()
		}, "ended the connection"},
		"an own code": {func(w *bufio.Writer, id int64) { _, _ = w.Write(done(id, 99, "")) }, "answers with the code 99"},
		"a refusal":   {func(w *bufio.Writer, id int64) { _, _ = w.Write(done(id, ldap.LDAPResultInsufficientAccessRights, "")) }, `it answers "Insufficient Access Rights" (50`},
	} {
		t.Run(about, func(t *testing.T) {
			s := rudeDirectory(t, test.search)
			if strings.HasPrefix(test.want, "no answer") || test.want == "" {
				s.bounds.answer = time.Second
			}
			var err error
			most := rude.Memory(func() { _, err = s.Read(t.Context(), func(*directory.Entry) {}, func(string) {}) })
			if err == nil || !strings.Contains(err.Error(), test.want) {
				t.Errorf("%v, want %q", err, test.want)
			}
			if err != nil && (strings.Contains(err.Error(), "hush") || strings.Contains(err.Error(), "LDAP Result Code") || strings.Contains(err.Error(), "ldap:")) {
				t.Errorf("it says %v", err)
			}
			if most > 200<<20 {
				t.Errorf("it took %d MiB", most>>20)
			}
		})
	}
}

// Pages and entries that never end are cut.
func TestEndlessDirectories(t *testing.T) {
	for about, test := range map[string]struct {
		search func(*bufio.Writer, int64)
		want   string
	}{
		"pages":   {func(w *bufio.Writer, id int64) { _, _ = w.Write(done(id, 0, "more")) }, "more than 300 pages"},
		"entries": {func(w *bufio.Writer, id int64) { endless(w, id) }, "more than 5000 entries"},
		"full pages": {func(w *bufio.Writer, id int64) {
			_, _ = w.Write(bytes.Repeat(entry(id, "cn=a", text("x")), 500))
			_, _ = w.Write(done(id, 0, "more"))
		}, "more than 5000 entries"},
		"one of them": {func(w *bufio.Writer, id int64) {
			_, _ = w.Write(entry(id, "cn=a", text("x")))
			_, _ = w.Write(done(id, 0, ""))
		}, ""},
	} {
		n := 0
		_, err := rudeDirectory(t, test.search).Read(t.Context(), func(*directory.Entry) { n++ }, func(string) {})
		if test.want == "" && (err != nil || n != 1) || test.want != "" && (err == nil || !strings.Contains(err.Error(), test.want)) {
			t.Errorf("%s: %d entries, %v, want %q", about, n, err, test.want)
		}
	}
}

func endless(w *bufio.Writer, id int64) {
	for i := range 1 << 20 {
		if _, err := w.Write(entry(id, fmt.Sprint("cn=", i), text("x"))); err != nil {
			return
		}
	}
}

// An interrupt ends reading at once.
func TestReadIsInterrupted(t *testing.T) {
	s := rudeDirectory(t, func(*bufio.Writer, int64) { <-t.Context().Done() })
	ctx, stop := context.WithCancel(t.Context())
	time.AfterFunc(100*time.Millisecond, stop)
	_, err := s.Read(ctx, func(*directory.Entry) {}, func(string) {})
	if !errors.Is(err, context.Canceled) {
		t.Errorf("it ends with %v", err)
	}
}

// So it does while the server is not reached yet.
func TestDialIsInterrupted(t *testing.T) {
	s := rudeDirectory(t, func(*bufio.Writer, int64) {})
	ctx, stop := context.WithCancel(t.Context())
	stop()
	if _, err := s.Read(ctx, func(*directory.Entry) {}, func(string) {}); !errors.Is(err, context.Canceled) {
		t.Errorf("it ends with %v", err)
	}
}

// What is taken for a message is one in full, and every element of it is within it.
func FuzzFrames(f *testing.F) {
	f.Add(entry(1, "cn=a", text("x"), text("y")))
	f.Add(done(1, 0, "more"))
	f.Add([]byte{0x30, 0x84, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, data []byte) {
		ours, theirs := net.Pipe()
		defer ours.Close()
		go func() {
			_, _ = theirs.Write(data)
			theirs.Close()
		}()
		frames := &frames{in: bufio.NewReader(ours)}
		for {
			if err := frames.next(); err != nil {
				return
			}
			packet, err := ber.DecodePacketErr(frames.frame.Bytes())
			if err != nil {
				continue // of a kind that the library does not take
			}
			if got := len(packet.Bytes()); got > 2*len(frames.frame.Bytes()) {
				t.Errorf("%d bytes became %d", len(frames.frame.Bytes()), got)
			}
		}
	})
}
