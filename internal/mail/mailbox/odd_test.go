package mailbox

import (
	"bufio"
	"fmt"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/rude"
	"yorvet.example/yorvet/internal/secret"
)

// An oddServer is an IMAP server with one mailbox, that behaves in an odd way which the
// standard allows.
type oddServer struct {
	capabilities string   // with the greeting
	folders      []string // lines of LIST
	noNext       bool     // SELECT tells no UIDNEXT
	noStatus     bool     // nor does STATUS
	noHeaders    bool     // it cannot search for header fields
	bye          string   // a command at which it hangs up, once
	refuse       string   // the answer to the first login
	missing      string   // a folder that is gone when it is opened

	mutex    sync.Mutex
	validity int
	uids     []int // of the messages, the last of which is the run's
	said     []string
}

func (o *oddServer) account(t *testing.T) Account {
	t.Helper()
	server := rude.Server(t, func(c *net.TCPConn) { o.serve(c) })
	return Account{Name: "ada@kelp.example", Endpoint: endpoint.Endpoint{Server: server, TLS: endpoint.Plain, Wait: time.Second},
		Login: endpoint.Login{User: "ada", Secret: secret.New("tide")}}
}

func (o *oddServer) serve(conn net.Conn) {
	w, in := bufio.NewWriter(conn), bufio.NewScanner(conn)
	fmt.Fprintf(w, "* OK [CAPABILITY %s] hello\r\n", strings.TrimSpace("IMAP4rev1 "+o.capabilities))
	w.Flush()
	for in.Scan() {
		tag, command, _ := strings.Cut(in.Text(), " ")
		if !o.answer(w, tag, strings.ToUpper(command), command) {
			return
		}
		w.Flush()
	}
}

// answer answers one command, and reports false where the server hangs up.
func (o *oddServer) answer(w *bufio.Writer, tag, command, raw string) bool {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	o.said = append(o.said, command)
	if o.bye != "" && strings.HasPrefix(command, o.bye) {
		o.bye = ""
		fmt.Fprint(w, "* BYE not now\r\n")
		w.Flush()
		return false
	}
	result := "OK done"
	switch {
	case strings.HasPrefix(command, "LOGIN"), strings.HasPrefix(command, "AUTHENTICATE"):
		if o.refuse != "" {
			result, o.refuse = o.refuse, ""
		}
	case strings.HasPrefix(command, "LIST"):
		for _, line := range o.folders {
			fmt.Fprintf(w, "* LIST %s\r\n", line)
		}
	case strings.HasPrefix(command, "EXAMINE"):
		if o.missing != "" && strings.Contains(raw, o.missing) {
			result = "NO [NONEXISTENT] gone"
			break
		}
		fmt.Fprintf(w, "* %d EXISTS\r\n* OK [UIDVALIDITY %d] x\r\n", len(o.uids), o.validity)
		if !o.noNext {
			fmt.Fprintf(w, "* OK [UIDNEXT %d] x\r\n", o.next())
		}
	case strings.HasPrefix(command, "STATUS"):
		if o.noStatus {
			result = "BAD no"
			break
		}
		fmt.Fprintf(w, "* STATUS INBOX (UIDNEXT %d)\r\n", o.next())
	case strings.HasPrefix(command, "UID SEARCH"):
		if o.noHeaders && strings.Contains(command, "HEADER") {
			result = "NO [CANNOT] not by that"
			break
		}
		o.search(w, command)
	case strings.HasPrefix(command, "UID FETCH"):
		o.fetch(w, command)
	case strings.HasPrefix(command, "LOGOUT"):
		fmt.Fprint(w, "* BYE bye\r\n")
	}
	fmt.Fprintf(w, "%s %s\r\n", tag, result)
	return true
}

func (o *oddServer) next() int {
	if len(o.uids) == 0 {
		return 1
	}
	return o.uids[len(o.uids)-1] + 1
}

func (o *oddServer) search(w *bufio.Writer, command string) {
	first := 0
	if i := strings.Index(command, "UID SEARCH UID "); i >= 0 {
		_, _ = fmt.Sscanf(command[i:], "UID SEARCH UID %d", &first)
	}
	fmt.Fprint(w, "* SEARCH")
	for _, uid := range o.uids {
		if uid >= first {
			fmt.Fprintf(w, " %d", uid)
		}
	}
	fmt.Fprint(w, "\r\n")
}

func (o *oddServer) fetch(w *bufio.Writer, command string) {
	part := "BODY[HEADER]<0>"
	if !strings.Contains(command, "HEADER") {
		part = "BODY[]<0>"
	}
	set := strings.Fields(command)[2]
	for i, uid := range o.uids {
		if !inSet(set, uid) {
			continue
		}
		text := fmt.Sprintf("From: a@far.example\r\nMessage-ID: <%d@x>\r\n\r\n", uid)
		if i == len(o.uids)-1 {
			text = "From: a@far.example\r\nMessage-ID: <run@x>\r\n" + read.Tag + ": run.1\r\n\r\n"
		}
		fmt.Fprintf(w, "* %d FETCH (UID %d RFC822.SIZE %d %s {%d}\r\n%s)\r\n", i+1, uid, len(text), part, len(text), text)
	}
}

// inSet reports whether a number is in a set such as 1:3,7.
func inSet(set string, n int) bool {
	for part := range strings.SplitSeq(set, ",") {
		first, last := 0, 0
		if k, _ := fmt.Sscanf(part, "%d:%d", &first, &last); k == 1 {
			last = first
		}
		if first <= n && n <= last {
			return true
		}
	}
	return false
}

// Mailboxes of all kinds are looked into to the same end: the run's message is found, once.
func TestOddServers(t *testing.T) {
	plain, inbox := "SASL-IR AUTH=PLAIN", []string{`() "/" INBOX`}
	for _, test := range []struct {
		about   string
		server  *oddServer
		between func(*oddServer) // what happens between the mark and the look
		folder  string
		through bool
		tries   int // that fail before one goes well
	}{
		{about: "as usual", server: &oddServer{capabilities: plain, folders: inbox, uids: []int{3, 4}}},
		{about: "an empty mailbox", server: &oddServer{capabilities: plain, folders: inbox}},
		{about: "no next UID", server: &oddServer{capabilities: plain, folders: inbox, noNext: true, uids: []int{3, 4}}},
		{about: "no next UID, and no status", server: &oddServer{capabilities: plain, folders: inbox, noNext: true, noStatus: true}},
		{about: "UIDs are given anew", server: &oddServer{capabilities: plain, folders: inbox, uids: []int{}},
			between: func(o *oddServer) { o.validity, o.uids = 9, nil }},
		{about: "UIDs shift as nobody but us looks", server: &oddServer{capabilities: plain, folders: inbox, uids: []int{50}}, through: true,
			between: func(o *oddServer) { o.uids = []int{} }},
		{about: "no mechanism, but a LOGIN", server: &oddServer{folders: inbox}},
		{about: "no mechanism that we know, but a LOGIN", server: &oddServer{capabilities: "AUTH=GSSAPI", folders: inbox}},
		{about: "a namespace below the inbox", server: &oddServer{capabilities: plain, folders: []string{`() "." INBOX`, `() "." INBOX.Junk`}, missing: "INBOX.Junk"}, folder: "INBOX"},
		{about: "a folder in another script", server: &oddServer{capabilities: plain, folders: []string{`(\Junk) "/" "Unerw&APw-nscht"`}}, folder: "Unerwünscht"},
		{about: "filed away", server: &oddServer{capabilities: plain, folders: []string{`() "/" Work`}}, folder: "Work", through: true},
		{about: "filed away, and no search for it", server: &oddServer{capabilities: plain, folders: []string{`() "/" Work`}, noHeaders: true}, folder: "Work", through: true},
		{about: "a folder that is gone", server: &oddServer{capabilities: plain, folders: []string{`(\Junk) "/" Gone`, `() "/" INBOX`}, missing: "Gone"}, folder: "INBOX"},
		{about: "too many connections, for now", server: &oddServer{capabilities: plain, folders: inbox, refuse: "NO [LIMIT] too many connections"}, tries: 1},
		{about: "unavailable, for now", server: &oddServer{capabilities: plain, folders: inbox, refuse: "NO [UNAVAILABLE] later"}, tries: 1},
		{about: "it hangs up at the list", server: &oddServer{capabilities: plain, folders: inbox, bye: "LIST"}, tries: 1},
		{about: "it hangs up at a search", server: &oddServer{capabilities: plain, folders: inbox, bye: "UID SEARCH"}, tries: 1},
		{about: "it hangs up at a fetch", server: &oddServer{capabilities: plain, folders: inbox, bye: "UID FETCH"}, tries: 1},
		{about: "20,000 old messages", server: &oddServer{capabilities: plain, folders: inbox, uids: make([]int, 20000)}},
	} {
		t.Run(test.about, func(t *testing.T) {
			o := test.server
			o.validity = 1
			for i := range o.uids {
				o.uids[i] = max(o.uids[i], i+1)
			}
			account := o.account(t)
			q := Query{Since: clock.Now().Add(-48 * time.Hour), Through: test.through, Tag: "run.", Wants: func(m *read.Message) bool { return m.Tag == "run.1" }}
			failed := 0
			if box, err := Open(t.Context(), account); err == nil {
				q.Marks, _ = box.Marks()
				q.First = q.Marks
				box.Close()
			} else {
				failed++
				if IsCertain(err) {
					t.Errorf("it is not tried again: %v", err)
				}
			}
			o.mutex.Lock()
			if test.between != nil {
				test.between(o)
			}
			o.uids, o.said = append(o.uids, o.next()), nil
			o.mutex.Unlock()
			var r Report
			for range 3 {
				if r = Look(t.Context(), account, q); r.Err == nil {
					break
				}
				failed++
			}
			if r.Err != nil || len(r.Items) != 1 || r.Items[0].Message.ID != "run@x" || test.folder != "" && r.Items[0].Folder != test.folder {
				t.Fatalf("%v, %+v", r.Err, r.Items)
			}
			if failed != test.tries && !strings.HasPrefix(test.about, "it hangs up") {
				t.Errorf("%d tries failed, want %d", failed, test.tries)
			}
			if !test.through {
				q.Marks = r.Marks
				if again := Look(t.Context(), account, q); again.Err != nil || len(again.Items) != 0 && !o.noStatus {
					t.Errorf("looked at again, there are %d, %v", len(again.Items), again.Err)
				}
			}
			if fetches := strings.Count(strings.Join(o.said, "\n"), "UID FETCH"); len(o.uids) > 1000 && fetches > 4 {
				t.Errorf("%d fetches for one new message", fetches)
			}
		})
	}
}

// A login that leads to no folder is no mailbox that was gone through.
func TestNoFolder(t *testing.T) {
	o := &oddServer{capabilities: "SASL-IR AUTH=PLAIN", validity: 1}
	r := Look(t.Context(), o.account(t), Query{Since: clock.Now(), Through: true, Tag: "run."})
	if r.Err == nil || !strings.Contains(r.Err.Error(), "there is no mailbox") {
		t.Errorf("%v, %+v", r.Err, r)
	}
}

// A token that a server rejects is told in the server's words, and is not tried again.
func TestRejectedToken(t *testing.T) {
	for _, mechanism := range []string{"OAUTHBEARER", "XOAUTH2"} {
		t.Run(mechanism, func(t *testing.T) {
			server := rude.Server(t, func(c *net.TCPConn) {
				in := bufio.NewScanner(c)
				fmt.Fprintf(c, "* OK [CAPABILITY IMAP4rev1 SASL-IR AUTH=%s] hello\r\n", mechanism)
				for in.Scan() {
					tag, command, _ := strings.Cut(in.Text(), " ")
					if !strings.HasPrefix(command, "AUTHENTICATE") {
						fmt.Fprintf(c, "%s OK done\r\n", tag)
						continue
					}
					fmt.Fprint(c, "+ eyJzdGF0dXMiOiJpbnZhbGlkX3Rva2VuIn0=\r\n") // {"status":"invalid_token"}
					in.Scan()
					fmt.Fprintf(c, "%s NO [AUTHENTICATIONFAILED] The token has ended\r\n", tag)
				}
			})
			_, err := Open(t.Context(), Account{Name: "ada@kelp.example", Endpoint: endpoint.Endpoint{Server: server, TLS: endpoint.Plain, Wait: time.Second},
				Login: endpoint.Login{User: "ada", Bearer: true, Secret: secret.New("hush-42")}})
			const want = "ada@kelp.example: the login fails: the server says The token has ended (AUTHENTICATIONFAILED)"
			if err == nil || err.Error() != want || !IsCertain(err) {
				t.Errorf("%v, want %s, for certain", err, want)
			}
		})
	}
}
