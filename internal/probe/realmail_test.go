package probe_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/freeport"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/sample"
)

// corp is the estate that Postfix and Dovecot serve in this test.
const corp = `yorvet: 1
domains: [corp.example]
people:
  - {address: alice@corp.example}
  - {address: bob@corp.example}
  - {address: carol@corp.example}
  - {address: dave@corp.example, mailbox: full}
  - {address: gone@corp.example, mailbox: none}
groups:
  - {address: team@corp.example, gate: [admit anyone], members: [alice@corp.example, bob@corp.example], also: [crew@corp.example]}
  - {address: outer@corp.example, gate: [admit anyone], members: [carol@corp.example, team@corp.example]}
  - {address: board@corp.example, gate: ["admit @corp.example"], members: [alice@corp.example]}
  - {address: crowd@corp.example, gate: [admit anyone], members: [bob@corp.example, dave@corp.example, gone@corp.example]}
`

// realMail starts Postfix and Dovecot on loopback, from a temporary folder, and
// returns connections to them.
func realMail(t *testing.T) *connections.Connections {
	m := newMailServers(t)
	m.configurePostfix()
	m.start([]string{"/usr/lib/postfix/sbin/master", "-c", m.dir + "/etc", "-w"})
	return m.connections()
}

// unpacked skips a test whose server is not there: .ci/run unpacks those that exclude others.
func unpacked(t *testing.T, program string) {
	t.Helper()
	if _, err := os.Stat(program); err != nil {
		if os.Getenv("YORVET_TEST_SERVERS") != "" {
			t.Fatal(err)
		}
		t.Skip("it is not unpacked here, as .ci/run does: ", err)
	}
}

// newMailServers readies a folder for servers, and Dovecot in it.
func newMailServers(t *testing.T) *mailServers {
	t.Helper()
	for _, program := range []string{"/usr/sbin/postfix", "/usr/sbin/dovecot", "/usr/lib/postfix/sbin/master"} {
		if _, err := os.Stat(program); err != nil {
			if os.Getenv("YORVET_TEST_SERVERS") != "" {
				t.Fatal(err)
			}
			t.Skipf("%s is not installed here (Debian: postfix, dovecot-imapd, dovecot-lmtpd)", program)
		}
	}
	if os.Getuid() != 0 {
		t.Skip("only root may start Postfix")
	}
	if clock.Shift() != 0 {
		t.Skip("these servers go by the clock of this machine")
	}
	dir, err := os.MkdirTemp("/tmp", "yv")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	m := &mailServers{t: t, dir: dir, looks: `user: "{address}*probe", password: {command: [echo, keeper-9-secret]}`,
		login: ", login: {password: {environment: YORVET_TEST_SECRET}}", smtp: freeport.On(t), submission: freeport.On(t), imap: freeport.On(t)}
	m.configureDovecot()
	return m
}

type mailServers struct {
	t                      *testing.T
	dir                    string
	smtp, submission, imap int
	login                  string // how people inside log in to send, in the connections
	looks                  string // and to look into mailboxes
}

// write writes a file below the folder, dated back: Postfix waits with files that
// have just changed.
func (m *mailServers) write(name, text string) {
	m.t.Helper()
	path := filepath.Join(m.dir, name)
	err := os.MkdirAll(filepath.Dir(path), 0o755)
	if err == nil {
		err = os.WriteFile(path, []byte(strings.ReplaceAll(text, "DIR", m.dir)), 0o644)
	}
	if err == nil {
		old := clock.Now().Add(-time.Hour)
		err = os.Chtimes(path, old, old)
	}
	if err != nil {
		m.t.Fatal(err)
	}
}

func (m *mailServers) folder(name, owner, group string, mode os.FileMode) {
	m.t.Helper()
	path := filepath.Join(m.dir, name)
	err := os.MkdirAll(path, mode)
	var uid, gid int
	if err == nil {
		uid, gid, err = ids(owner, group)
	}
	if err == nil {
		err = os.Chown(path, uid, gid)
	}
	if err == nil {
		err = os.Chmod(path, mode)
	}
	if err != nil {
		m.t.Fatal(err)
	}
}

func ids(owner, group string) (uid, gid int, err error) {
	u, err := user.Lookup(owner)
	if err != nil {
		return 0, 0, err
	}
	g, err := user.LookupGroup(group)
	if err != nil {
		return 0, 0, err
	}
	uid, _ = strconv.Atoi(u.Uid)
	gid, _ = strconv.Atoi(g.Gid)
	return uid, gid, nil
}

func (m *mailServers) configurePostfix() {
	m.write("etc/main.cf", `compatibility_level = 3.6
queue_directory = DIR/queue
data_directory = DIR/data
command_directory = /usr/sbin
daemon_directory = /usr/lib/postfix/sbin
meta_directory = DIR/etc
mail_owner = postfix
setgid_group = postdrop
maillog_file = DIR/log/mail.log
maillog_file_prefixes = DIR
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
myhostname = mx.corp.example
mydestination =
mynetworks = 127.0.0.77/32
alias_maps =
alias_database =
virtual_mailbox_domains = corp.example holiday.example
virtual_mailbox_maps = texthash:DIR/etc/boxes
virtual_alias_maps = texthash:DIR/etc/groups
virtual_transport = lmtp:unix:private/dovecot-lmtp
lmtp_destination_recipient_limit = 1
local_transport = error:nothing leaves this machine
default_transport = error:nothing leaves this machine
relay_transport = error:nothing leaves this machine
smtpd_sasl_type = dovecot
smtpd_sasl_path = private/auth
smtpd_relay_restrictions = permit_mynetworks, permit_sasl_authenticated, reject_unauth_destination
smtpd_restriction_classes = board_only
board_only = check_sender_access texthash:DIR/etc/insiders, reject
smtpd_recipient_restrictions = check_recipient_access texthash:DIR/etc/restricted
smtpd_tls_auth_only = no
`)
	m.write("etc/master.cf", fmt.Sprintf(`127.0.0.1:%d inet n - n - - smtpd
127.0.0.1:%d inet n - n - - smtpd
  -o syslog_name=postfix/submission -o smtpd_sasl_auth_enable=yes
  -o smtpd_client_restrictions=permit_sasl_authenticated,reject
  -o smtpd_sender_login_maps=texthash:DIR/etc/owners -o smtpd_sender_restrictions=reject_sender_login_mismatch
pickup unix n - n 60 1 pickup
cleanup unix n - n - 0 cleanup
qmgr unix n - n 300 1 qmgr
rewrite unix - - n - - trivial-rewrite
bounce unix - - n - 0 bounce
defer unix - - n - 0 bounce
trace unix - - n - 0 bounce
verify unix - - n - 1 verify
proxymap unix - - n - - proxymap
error unix - - n - - error
retry unix - - n - - error
lmtp unix - - n - - lmtp
anvil unix - - n - 1 anvil
scache unix - - n - 1 scache
showq unix n - n - - showq
postlog unix-dgram n - n - 1 postlogd
`, m.smtp, m.submission))
	m.write("etc/postfix-files", "")
	m.write("etc/boxes", "alice@corp.example a\nbob@corp.example b\ncarol@corp.example c\ndave@corp.example d\nguest@holiday.example g\n")
	m.write("etc/groups", "team@corp.example alice@corp.example bob@corp.example\ncrew@corp.example team@corp.example\nouter@corp.example carol@corp.example team@corp.example\n"+
		"board@corp.example alice@corp.example\ncrowd@corp.example bob@corp.example dave@corp.example gone@corp.example\n")
	m.write("etc/restricted", "board@corp.example board_only\n")
	m.write("etc/insiders", "corp.example OK\nguest@holiday.example REJECT\n")
	m.write("etc/owners", "alice@corp.example alice@corp.example\nbob@corp.example bob@corp.example\n"+
		"carol@corp.example carol@corp.example\ndave@corp.example dave@corp.example\n")
	m.folder("data", "postfix", "postfix", 0o700)
	m.folder("queue", "root", "root", 0o755)
	for _, name := range []string{"incoming", "active", "bounce", "corrupt", "defer", "deferred", "flush", "hold", "private", "saved", "trace"} {
		m.folder("queue/"+name, "postfix", "root", 0o700)
	}
	m.folder("queue/private", "postfix", "root", 0o700)
	m.folder("queue/pid", "root", "root", 0o755)
	m.folder("queue/maildrop", "postfix", "postdrop", 0o730)
	m.folder("queue/public", "postfix", "postdrop", 0o710)
}

func (m *mailServers) configureDovecot() {
	m.write("dovecot.conf", fmt.Sprintf(`base_dir = DIR/dv
log_path = DIR/log/dovecot.log
protocols = imap lmtp
listen = 127.0.0.1
ssl = no
disable_plaintext_auth = no
auth_failure_delay = 0
auth_master_user_separator = *
first_valid_uid = 1
mail_location = maildir:DIR/mail/%%u
mail_plugins = quota
plugin {
  quota = maildir:User quota
  quota_grace = 0
}
passdb {
  driver = passwd-file
  master = yes
  result_success = continue
  args = DIR/masters
}
passdb {
  driver = passwd-file
  args = DIR/users
}
userdb {
  driver = passwd-file
  args = DIR/users
  default_fields = uid=mail gid=mail home=DIR/mail/%%u
}
namespace inbox {
  inbox = yes
  mailbox Junk {
    auto = create
    special_use = \Junk
  }
}
service imap-login {
  inet_listener imap {
    port = %d
  }
  inet_listener imaps {
    port = 0
  }
}
service lmtp {
  unix_listener DIR/queue/private/dovecot-lmtp {
    mode = 0666
  }
}
service auth {
  unix_listener DIR/queue/private/auth {
    mode = 0666
  }
}
service anvil {
  unix_listener anvil-auth-penalty {
    mode = 0
  }
}
`, m.imap))
	users := ""
	for _, name := range []string{"alice@corp.example", "bob@corp.example", "carol@corp.example", "guest@holiday.example"} {
		users += name + ":{PLAIN}tide-7-secret::::::\n"
	}
	m.write("users", users+"dave@corp.example:{PLAIN}tide-7-secret::::::userdb_quota_rule=*:bytes=100\n")
	m.write("masters", "probe:{PLAIN}keeper-9-secret\n")
	m.folder("log", "root", "root", 0o755)
	m.folder("mail", "mail", "mail", 0o755)
	m.folder("queue/private", "root", "root", 0o755)
	m.folder("dv", "root", "root", 0o755)
}

// start starts Dovecot, and a program that takes mail.
func (m *mailServers) start(taker []string) {
	m.t.Helper()
	said, err := os.Create(m.dir + "/log/said")
	if err != nil {
		m.t.Fatal(err)
	}
	defer said.Close()
	for _, line := range [][]string{{"dovecot", "-c", m.dir + "/dovecot.conf"}, taker} {
		cmd := exec.Command(line[0], line[1:]...)
		cmd.Stdout, cmd.Stderr = said, said // a file: servers keep it open, and it is not waited for
		if err := cmd.Run(); err != nil {
			m.t.Fatalf("%v: %v: %s", line, err, m.logs())
		}
	}
	m.t.Cleanup(func() {
		_ = exec.Command("doveadm", "-c", m.dir+"/dovecot.conf", "stop").Run()
		for _, name := range []string{"/queue/pid/master.pid", "/spool/exim.pid"} {
			if pid, err := os.ReadFile(m.dir + name); err == nil {
				_ = exec.Command("kill", strings.TrimSpace(string(pid))).Run()
			}
		}
		if m.t.Failed() {
			m.t.Log(m.logs())
		}
	})
	m.await(m.smtp, m.submission, m.imap)
}

// await waits until servers listen at ports.
func (m *mailServers) await(ports ...int) {
	m.t.Helper()
	patience, stop := context.WithTimeout(m.t.Context(), 3*time.Minute) // a server may end as it starts
	defer stop()
	for _, port := range ports {
		for tick := time.Tick(20 * time.Millisecond); ; <-tick {
			conn, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", port))
			if err == nil {
				conn.Close()
				break
			}
			if patience.Err() != nil {
				m.t.Fatalf("nobody listens at %d: %s", port, m.logs())
			}
		}
	}
}

func (m *mailServers) logs() string {
	var b strings.Builder
	for _, name := range []string{"said", "mail.log", "dovecot.log", "mainlog", "paniclog", "courier"} {
		data, _ := os.ReadFile(filepath.Join(m.dir, "log", name))
		b.Write(data)
	}
	return b.String()
}

func (m *mailServers) connections() *connections.Connections {
	m.t.Helper()
	m.write("connections.yaml", fmt.Sprintf(`yorvet-connections: 1
send:
  - {name: inside, server: "127.0.0.1:%d", tls: none, from: [inside]%s}
  - {name: outside, server: "127.0.0.1:%d", tls: none, from: [anyone]}
  - {name: forged, server: "127.0.0.1:%d", tls: none, from: [anyone], claims: true}
look:
  - {server: "127.0.0.1:%d", tls: none, for: [inside, "@holiday.example"], login: {%s}}
strangers: [guest@holiday.example]
limits: {pace: 100, patience: 20s, quiet: 8s, settle: 1s, look-every: 1s, connections: 10}
`, m.submission, m.login, m.smtp, m.smtp, m.imap, m.looks))
	l, err := connections.Load(context.Background(), m.dir+"/connections.yaml")
	if err == nil {
		err = l.Unlock(context.Background(), true, func(string) {})
	}
	if err != nil {
		m.t.Fatal(err)
	}
	return l
}

// Against Postfix and Dovecot, which serve the estate by nested aliases, a
// restricted recipient, a member that is not there and a full mailbox.
func TestRealServers(t *testing.T) {
	t.Parallel()
	l := realMail(t)
	r := sample.Load(t, corp)
	choice := probe.Choice{Groups: allGroups(r.Estate()), Kinds: []probe.Kind{probe.Outsider, probe.Forged, probe.Insider, probe.Member, probe.Attachment, probe.Alias}}
	run, err := probe.Start(context.Background(), probe.NewPlan(r, l, choice), inStore(t))
	if err != nil {
		t.Fatal(err)
	}
	j := probe.Judge(run)
	seen := map[string]string{}
	for i, c := range j.Cases {
		t.Logf("case %d, %s: predicted %s, seen %s (%s)", i+1, c.Case.Describe(), c.Predicted, c.Seen, c.Reply)
		if c.Case.Kind == probe.Outsider {
			seen[c.Case.To.String()] = c.Reply
		}
	}
	if want := "554 5.7.1 <guest@holiday.example>: Sender address rejected: Access denied"; seen["board@corp.example"] != want {
		t.Errorf("the restricted group answers %q, want %q", seen["board@corp.example"], want)
	}
	undeliverable := 0
	for _, m := range j.Members {
		if m.Seen == probe.SeenBounced {
			undeliverable++
		}
	}
	if undeliverable < 4 {
		t.Errorf("%d bounces of the full and the missing mailbox were seen", undeliverable)
	}
	report(t, j, true)
}

// Postfix says of a login that may not use its sender, and of a group that refuses, that the sender
// is rejected: what it says of a plain mailbox tells which it is.
func TestRealRefusals(t *testing.T) {
	t.Parallel()
	m := newMailServers(t)
	m.configurePostfix()
	m.write("etc/owners", "bob@corp.example bob@corp.example\ndave@corp.example alice@corp.example\n")
	m.start([]string{"/usr/lib/postfix/sbin/master", "-c", m.dir + "/etc", "-w"})
	l, r := m.connections(), sample.Load(t, corp)
	from := func(list ...string) func(estate.ID) []address.Address {
		return func(estate.ID) (senders []address.Address) {
			for _, text := range list {
				senders = append(senders, address.MustParse(text))
			}
			return senders
		}
	}
	choice := probe.Choice{Groups: []estate.ID{at(t, r, "board@corp.example")}, From: from("guest@holiday.example", "dave@corp.example", "bob@corp.example")}
	run, err := probe.Start(t.Context(), probe.NewPlan(r, l, choice), inStore(t))
	if err != nil {
		t.Fatal(err)
	}
	j := probe.Judge(run)
	for i, want := range []struct{ seen, reply string }{
		{"refuse", "554 5.7.1 <guest@holiday.example>: Sender address rejected: Access denied"},
		{probe.NotSent, "553 5.7.1 <dave@corp.example>: Sender address rejected: not owned by user dave@corp.example"},
		{"admit", "250"},
	} {
		if c := j.Cases[i]; c.Seen != want.seen || !strings.HasPrefix(c.Reply, want.reply) {
			t.Errorf("from %s: seen %s (%s), want %s (%s)", c.Case.From, c.Seen, c.Reply, want.seen, want.reply)
		}
	}
	if len(j.Causes) > 0 {
		t.Errorf("a cause is made up: %v", j.Causes)
	}
}
