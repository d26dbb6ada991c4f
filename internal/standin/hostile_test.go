package standin_test

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-imap/v2/imapclient"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/mail/compose"
	"yorvet.example/yorvet/internal/sample"
	"yorvet.example/yorvet/internal/standin"
)

// dialogue is a connection on which lines are exchanged as they are.
type dialogue struct {
	t    *testing.T
	conn net.Conn
	in   *bufio.Reader
	tag  int
}

// imap begins a dialogue with the IMAP port.
func (r *rig) imap() *dialogue {
	r.t.Helper()
	conn, err := tls.Dial("tcp", r.service.Ready().IMAPS, &tls.Config{RootCAs: r.roots, ServerName: "127.0.0.1"})
	if err != nil {
		r.t.Fatal(err)
	}
	r.t.Cleanup(func() { conn.Close() })
	d := &dialogue{t: r.t, conn: conn, in: bufio.NewReader(conn)}
	d.line()
	return d
}

func (d *dialogue) line() string {
	_ = d.conn.SetReadDeadline(clock.Machine().Add(10 * time.Second))
	line, err := d.in.ReadString('\n')
	if err != nil {
		return ""
	}
	return strings.TrimRight(line, "\r\n")
}

// say sends a command, and returns what is answered, up to its status.
func (d *dialogue) say(command string) string {
	d.tag++
	tag := fmt.Sprint("t", d.tag, " ")
	fmt.Fprintf(d.conn, "%s%s\r\n", tag, command)
	var all strings.Builder
	for {
		line := d.line()
		all.WriteString(line + "\n")
		switch {
		case line == "" || strings.HasPrefix(line, tag):
			return all.String()
		case strings.HasPrefix(line, "+"):
			fmt.Fprintf(d.conn, "DONE\r\n")
		}
	}
}

// Whatever a folder is called, nothing is written outside of its mailbox, and it is
// found again.
func TestFoldersStayInside(t *testing.T) {
	root := t.TempDir()
	dir := filepath.Join(root, "mail")
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	e := sample.Load(t, quay).Estate()
	r := start(t, e, func(o *standin.Options) { o.Dir = dir })
	r.send("ada@kelp.example", "ada@kelp.example", "one@kelp.example", nil)
	r.box("ada@kelp.example")
	files := func() (list []string) {
		_ = filepath.WalkDir(root, func(path string, one fs.DirEntry, err error) error {
			if rel, _ := filepath.Rel(root, path); !one.IsDir() {
				list = append(list, rel)
			}
			return err
		})
		return list
	}
	before := files()
	d := r.imap()
	if got := d.say("LOGIN keeper tide"); !strings.Contains(got, " NO ") {
		t.Fatal(got)
	}
	if got := d.say("LOGIN ada@kelp.example tide"); !strings.Contains(got, " OK ") {
		t.Fatal(got)
	}
	d.say("SELECT INBOX")
	var made []string
	for _, name := range []string{"..", "../..", "../../outside", "../../../../../../../tmp/yorvet-outside", "/tmp/yorvet-outside", "a/../../b", ".", "CON", "x.", "tmp", "new", `\\x`, "a b",
		"&AAA-", "a&AAA-b", "&AAo-", "", "/", "a//b", strings.Repeat("x", 300), strings.Repeat("../", 60), "INBOX", "inbox", "Inbox/x", "INBOX/../../y", "{", "%", "*"} {
		quoted := `"` + name + `"`
		if got := d.say("CREATE " + quoted); strings.Contains(got, " OK ") {
			made = append(made, name)
		}
		for _, command := range []string{"COPY 1 ", "UID COPY 1 ", "RENAME Junk ", "RENAME " + quoted + " ", "SUBSCRIBE ", "STATUS "} {
			if strings.HasPrefix(command, "STATUS") {
				quoted += " (MESSAGES)"
			}
			if got := d.say(command + quoted); strings.Contains(got, "SERVERBUG") {
				t.Errorf("%s%s: %s", command, quoted, got)
			}
		}
	}
	if slices.Contains(made, "inbox") || slices.Contains(made, "") || len(made) < 10 {
		t.Errorf("made: %q", made)
	}
	added := 0
	for _, path := range files() {
		if slices.Contains(before, path) {
			continue
		}
		added++
		if !strings.HasPrefix(path, filepath.Join("mail", "mail", "ada@kelp.example")+string(filepath.Separator)) && !strings.HasPrefix(path, filepath.Join("mail", "mail", "ada%40kelp.example")+string(filepath.Separator)) {
			t.Errorf("written outside of the mailbox: %s", path)
		}
	}
	if added < len(made) {
		t.Errorf("%d files for %d folders", added, len(made))
	}
	if _, err := os.Stat("/tmp/yorvet-outside"); err == nil {
		t.Error("something was written to /tmp")
	}
	r.service.Close()
	again := start(t, e, func(o *standin.Options) { o.Dir = dir })
	d = again.imap()
	d.say("LOGIN ada@kelp.example tide")
	for _, name := range made {
		if got := d.say(`STATUS "` + name + `" (MESSAGES)`); !strings.Contains(got, "MESSAGES 2") && !strings.Contains(got, "MESSAGES 1") {
			t.Errorf("%q after a restart: %s", name, got)
		}
	}
}

// No command is answered with a fault of the server, in whatever state it comes.
func TestNoCommandIsAFault(t *testing.T) {
	if testing.Short() {
		t.Skip("many commands take their time")
	}
	r := start(t, sample.Load(t, quay).Estate(), func(o *standin.Options) { o.Dir = t.TempDir() })
	r.send("ada@kelp.example", "ada@kelp.example", "one@kelp.example", func(d *compose.Message) { d.Subject = "=?utf-8?q?a?=" })
	r.box("ada@kelp.example")
	commands := []string{"NOOP", "CAPABILITY", "CHECK", "NAMESPACE", "ENABLE IMAP4rev2", "ENABLE X", "IDLE", "GETACL INBOX", "X", "", "LIST", `LIST "" ""`, `LIST "" *`, `LIST "" (a b *)`, `LIST (SUBSCRIBED) "" * RETURN (STATUS (MESSAGES))`,
		`LIST (SPECIAL-USE) "" *`, `LIST "" * RETURN (SPECIAL-USE)`, `LIST (X) "" *`, `LIST "" "` + strings.Repeat("*a", 13) + `*b"`, `LIST "" "` + strings.Repeat("%", 2000) + `"`, `LIST "` + strings.Repeat("a/", 50) + `" *`, `LSUB "" *`, `LSUB "" "` + strings.Repeat("*a", 26) + `"`,
		"SUBSCRIBE INBOX", "UNSUBSCRIBE INBOX", "SUBSCRIBE none", "STATUS INBOX (MESSAGES UIDNEXT UIDVALIDITY UNSEEN SIZE RECENT DELETED)", "STATUS none (MESSAGES)", "STATUS INBOX (X)", "STATUS INBOX ()", "CREATE a", "CREATE a", "CREATE a/", "CREATE a/b (USE (\\Junk))",
		"DELETE a", "DELETE none", "RENAME a b", "RENAME none b", "SELECT none", "SELECT inbox", "EXAMINE INBOX", "SELECT INBOX", "APPEND none {1+}\r\nx", "APPEND INBOX {5+}\r\nhello", "APPEND inbox (\\Seen) \"01-Jan-2026 00:00:00 +0000\" {3+}\r\na:b", "APPEND INBOX {99999999999+}", "APPEND INBOX {0+}\r\n",
		"FETCH 1 ALL", "FETCH 1 FULL", "FETCH 1 FAST", "FETCH 1:* (FLAGS ENVELOPE BODYSTRUCTURE BODY INTERNALDATE RFC822.SIZE UID RFC822 RFC822.HEADER RFC822.TEXT)", "FETCH 1 BODY[1.2.3.4]", "FETCH 1 BODY[0]", "FETCH 1 BODY[HEADER.FIELDS (a b)]", "FETCH 1 BODY[TEXT]<5.10>", "FETCH 1 BODY[]<99999999.1>", "FETCH 1 BODY[]<0.0>",
		"FETCH 4294967295 FLAGS", "FETCH *:1 FLAGS", "FETCH 1 BINARY[1]", "FETCH 1 BINARY.SIZE[1]", "FETCH 1 X", "UID FETCH 1:* FLAGS", "UID X", "FETCH $ FLAGS",
		"SEARCH ALL", "SEARCH 1:*", "SEARCH BEFORE 1-Jan-2026", "SEARCH HEADER a b", "SEARCH RETURN (MIN MAX ALL COUNT) ALL", "SEARCH RETURN (SAVE) ALL", "SEARCH CHARSET x ALL", "SEARCH KEYWORD x", "SEARCH OR ALL", "SEARCH " + strings.Repeat("NOT ", 10_000) + "ALL", "SEARCH " + strings.Repeat("(", 100) + "ALL" + strings.Repeat(")", 100), "UID SEARCH ALL",
		"STORE 1 +FLAGS (\\Deleted)", "STORE 1 FLAGS x", "STORE 1 X x", "STORE 1 -FLAGS.SILENT ()", "STORE 99 +FLAGS x", "UID STORE 1 FLAGS (a b)", "COPY 1 none", "COPY 1 INBOX", "COPY 1 Junk", "COPY 99 Junk", "UID COPY 99 Junk", "MOVE 1 none", "MOVE 1 INBOX", "MOVE 99 Junk", "UID MOVE 1 inbox", "UID MOVE 1 Junk",
		"EXPUNGE", "UID EXPUNGE 1:*", "SORT (DATE) UTF-8 ALL", "THREAD X UTF-8 ALL", "ID NIL", "UNSELECT", "CLOSE", "STARTTLS", "LOGIN a b", "AUTHENTICATE X", "UNAUTHENTICATE", "COMPRESS DEFLATE", "{5+}", strings.Repeat("x", 60_000)}
	for _, state := range [][]string{nil, {"LOGIN ada@kelp.example tide"}, {"LOGIN ada@kelp.example tide", "SELECT INBOX"}, {"LOGIN ada@kelp.example tide", "EXAMINE INBOX"}} {
		open := func() *dialogue {
			d := r.imap()
			for _, command := range state {
				d.say(command)
			}
			return d
		}
		d := open()
		for _, command := range commands {
			got := d.say(command)
			if strings.Contains(got, "SERVERBUG") || strings.Contains(got, "nternal server") {
				t.Errorf("%v, %.60s: %s", state, command, got)
			}
			if !strings.HasPrefix(got[max(0, strings.LastIndexByte(strings.TrimRight(got, "\n"), '\n')+1):], "t") {
				d = open() // it hung up, as it may on what is no command
			}
		}
	}
}

// A wrong login is refused, and the right one behind it is not.
func TestWrongAndRightLogin(t *testing.T) {
	r := start(t, sample.Load(t, quay).Estate(), nil)
	if got := r.imap().say("LOGIN ada@kelp.example wrong"); !strings.Contains(got, " NO ") {
		t.Fatal(got)
	}
	if got := r.imap().say("LOGIN ada@kelp.example tide"); !strings.Contains(got, " OK ") {
		t.Fatal(got)
	}
	client, err := imapclient.DialTLS(r.service.Ready().IMAPS, &imapclient.Options{TLSConfig: &tls.Config{RootCAs: r.roots, ServerName: "127.0.0.1"}})
	if err != nil {
		t.Fatal(err)
	}
	client.Close()
}
