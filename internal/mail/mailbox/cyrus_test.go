//go:build linux

package mailbox_test

import (
	"fmt"
	"net"
	"net/textproto"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/freeport"
	"yorvet.example/yorvet/internal/mail/mailbox"
	"yorvet.example/yorvet/internal/mail/read"
	"yorvet.example/yorvet/internal/secret"
)

// cyrus is a Cyrus server that runs from a temporary folder.
type cyrus struct {
	t                *testing.T
	imap, http, lmtp string
}

// programOf returns a program of Cyrus: where Debian puts it, or in a folder beside, as its
// packages and those of Dovecot exclude each other.
func programOf(name string) string {
	for _, dir := range []string{"/usr/lib/cyrus/bin", "/opt/cyrus-beside/usr/lib/cyrus/bin"} {
		if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
			return filepath.Join(dir, name)
		}
	}
	return ""
}

func startCyrus(t *testing.T) *cyrus {
	t.Helper()
	var missing []string
	for _, name := range []string{"master", "imapd", "httpd", "lmtpd", "ctl_cyrusdb"} {
		if programOf(name) == "" {
			missing = append(missing, name)
		}
	}
	who, err := user.Lookup("cyrus")
	if err != nil || os.Getuid() != 0 || len(missing) > 0 {
		if os.Getenv("YORVET_TEST_SERVERS") != "" {
			t.Fatalf("there is no Cyrus here: %v, %v", missing, err)
		}
		t.Skipf("there is no Cyrus here, or nobody who may start it: %v", missing)
	}
	if clock.Shift() != 0 {
		t.Skip("this server goes by the clock of this machine")
	}
	dir, err := os.MkdirTemp("", "yc")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	free := func() string { return fmt.Sprint("127.0.0.1:", freeport.On(t)) }
	c := &cyrus{t: t, imap: free(), http: free(), lmtp: free()}
	files := map[string]string{
		"imapd.conf": `configdirectory: DIR/conf
partition-default: DIR/spool
defaultpartition: default
admins: keeper
sasl_pwcheck_method: alwaystrue
sasl_mech_list: PLAIN
allowplaintext: yes
unixhierarchysep: yes
virtdomains: userid
defaultdomain: corp.example
autocreate_quota: 0
autocreate_post: yes
autocreate_inbox_folders: Junk|Archive|Work
xlist-junk: Junk
xlist-archive: Archive
conversations: 1
conversations_db: twoskip
httpmodules: jmap
proc_path: DIR/conf/proc
mboxname_lockpath: DIR/conf/lock
`,
		"cyrus.conf": `START {
  recover cmd="` + programOf("ctl_cyrusdb") + ` -r -C DIR/imapd.conf"
}
SERVICES {
  imap cmd="` + programOf("imapd") + ` -C DIR/imapd.conf" listen="` + c.imap + `" prefork=0
  http cmd="` + programOf("httpd") + ` -C DIR/imapd.conf" listen="` + c.http + `" prefork=0
  lmtp cmd="` + programOf("lmtpd") + ` -a -C DIR/imapd.conf" listen="` + c.lmtp + `" prefork=0
}
EVENTS {
  checkpoint cmd="` + programOf("ctl_cyrusdb") + ` -c -C DIR/imapd.conf" period=30
}
`,
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(strings.ReplaceAll(text, "DIR", dir)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	uid, _ := strconv.Atoi(who.Uid)
	gid, _ := strconv.Atoi(who.Gid)
	for _, name := range []string{"", "conf", "spool"} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(path, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Chown(path, uid, gid); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command(programOf("master"), "-C", dir+"/imapd.conf", "-M", dir+"/cyrus.conf", "-p", dir+"/conf/master.pid", "-D")
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, Pdeathsig: syscall.SIGTERM}
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	for tick := time.Tick(50 * time.Millisecond); ; <-tick {
		if conn, err := net.Dial("tcp", c.lmtp); err == nil {
			conn.Close()
			return c
		}
		if t.Context().Err() != nil {
			t.Fatalf("Cyrus does not start: %s", said.String())
		}
	}
}

// deliver delivers a message by LMTP (RFC 2033).
func (c *cyrus) deliver(to, id, tag string) {
	c.t.Helper()
	conn, err := textproto.Dial("tcp", c.lmtp)
	if err != nil {
		c.t.Fatal(err)
	}
	defer conn.Close()
	field := ""
	if tag != "" {
		field = read.Tag + ": " + tag + "\r\n"
	}
	_, _, err = conn.ReadResponse(220)
	for _, step := range []struct {
		say  string
		code int
	}{
		{"LHLO test.example", 250}, {"MAIL FROM:<x@far.example>", 250}, {"RCPT TO:<" + to + ">", 250}, {"DATA", 354},
		{"From: x@far.example\r\nTo: " + to + "\r\nSubject: =?utf-8?q?Gr=C3=B6=C3=9Fe?=\r\nMessage-ID: <" + id + ">\r\n" + field + "\r\nHello.\r\n.", 250},
	} {
		if err == nil {
			if err = conn.PrintfLine("%s", step.say); err == nil {
				_, _, err = conn.ReadResponse(step.code)
			}
		}
	}
	if err != nil {
		c.t.Fatal(err)
	}
}

// A Cyrus server is looked into over IMAP and over JMAP, to the same end: what is new, what
// came before, what is filed elsewhere, and what is removed.
func TestCyrus(t *testing.T) {
	c := startCyrus(t)
	for how, account := range map[string]mailbox.Account{
		"IMAP": {Name: "ann@corp.example", Endpoint: endpoint.Endpoint{Server: c.imap, TLS: endpoint.Plain}},
		"JMAP": {Name: "bob@corp.example", Endpoint: endpoint.Endpoint{Server: c.http, TLS: endpoint.Plain}, JMAP: "http://" + c.http + "/.well-known/jmap"},
	} {
		t.Run(how, func(t *testing.T) {
			account.Login = endpoint.Login{User: account.Name, Secret: secret.New("tide")}
			run := "run" + how
			c.deliver(account.Name, "old@far.example", "")
			box, err := mailbox.Open(t.Context(), account)
			if err != nil {
				t.Fatal(err)
			}
			defer box.Close()
			q := mailbox.Query{Since: clock.Now().Add(-48 * time.Hour), Tag: run + ".", Wants: func(m *read.Message) bool { return strings.HasPrefix(m.Tag, run+".") }}
			if q.Marks, err = box.Marks(); err != nil {
				t.Fatal(err)
			}
			if r := box.Look(q); r.Err != nil || len(r.Items) != 0 {
				t.Fatalf("before anything is sent: %+v", r)
			}
			for i := range 3 {
				c.deliver(account.Name, fmt.Sprintf("%d@far.example", i), fmt.Sprintf("%s.%d", run, i))
			}
			c.deliver(account.Name, "other@far.example", "runother.1")
			var items []mailbox.Item
			for len(items) < 3 {
				r := box.Look(q)
				if r.Err != nil {
					t.Fatal(r.Err)
				}
				items, q.Marks = append(items, r.Items...), r.Marks
				if !box.Wait(t.Context(), 200*time.Millisecond) {
					t.Fatal("the connection has ended")
				}
			}
			var got []string
			for _, item := range items {
				got = append(got, string(item.Role)+" "+item.Message.ID+" "+item.Message.Subject)
			}
			slices.Sort(got)
			if want := "[inbox 0@far.example Größe inbox 1@far.example Größe inbox 2@far.example Größe]"; fmt.Sprint(got) != want {
				t.Errorf("seen %v, want %s", got, want)
			}
			if r := box.Look(q); r.Err != nil || len(r.Items) != 0 {
				t.Errorf("seen again: %+v", r)
			}
			if again, err := box.Fetch(items[:2]); err != nil || len(again) != 2 || len(again[0].Raw) == 0 {
				t.Errorf("%d are fetched again, %v", len(again), err)
			}
			if _, err := mailbox.Remove(t.Context(), account, items[:1], false); err != nil {
				t.Fatal(err)
			}
			q.Through = true
			r := mailbox.Look(t.Context(), account, q)
			if r.Err != nil || len(r.Items) != 2 {
				t.Errorf("gone through, there are %d, %v", len(r.Items), r.Err)
			}
		})
	}
}
