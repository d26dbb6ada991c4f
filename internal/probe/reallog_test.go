package probe_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/trail"
	"yorvet.example/yorvet/internal/maillog"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/sample"
)

// eximProgram is Debian's Exim, unpacked beside Postfix: as packages they exclude each other.
const eximProgram = "/opt/exim-beside/usr/sbin/exim4"

// configureExim has Exim do what configurePostfix has Postfix do. Its user is known in a mount
// namespace of its own alone.
func (m *mailServers) configureExim() {
	m.write("exim.conf", fmt.Sprintf(`exim_path = `+eximProgram+`
keep_environment =
primary_hostname = mx.corp.example
domainlist local_domains = corp.example : holiday.example
spool_directory = DIR/spool
log_file_path = DIR/log/%%slog
pid_file_path = DIR/spool/exim.pid
local_interfaces = <; 127.0.0.1
daemon_smtp_ports = %d : %d
tls_advertise_hosts =
auth_advertise_hosts = *
never_users =
acl_smtp_rcpt = rcpt
begin acl
rcpt:
  accept authenticated = *
  deny condition = ${if eq{$received_port}{%d}}
       message = log in first
  deny recipients = board@corp.example
       !senders = *@corp.example
       message = only authenticated senders may write to board
  deny message = no such address
       !verify = recipient
  accept domains = +local_domains
  deny message = relay not permitted
begin routers
groups:
  driver = redirect
  data = ${lookup{$local_part@$domain}lsearch{DIR/etc/groups.exim}}
users:
  driver = accept
  condition = ${lookup{$local_part@$domain}lsearch{DIR/etc/boxes.exim}{yes}}
  transport = boxes
strange:
  driver = accept
  domains = corp.example
  condition = ${if eq{$local_part}{gone}}
  transport = boxes
begin transports
boxes:
  driver = lmtp
  socket = DIR/queue/private/dovecot-lmtp
  user = mail
begin retry
* * F,1h,1s
begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_condition = ${if eq{$auth3}{tide-7-secret}}
  server_set_id = $auth2
`, m.smtp, m.submission, m.submission))
	m.write("etc/groups.exim", "team@corp.example: alice@corp.example, bob@corp.example\ncrew@corp.example: team@corp.example\n"+
		"outer@corp.example: carol@corp.example, team@corp.example\nboard@corp.example: alice@corp.example\n"+
		"crowd@corp.example: bob@corp.example, dave@corp.example, gone@corp.example\n")
	m.write("etc/boxes.exim", "alice@corp.example: a\nbob@corp.example: b\ncarol@corp.example: c\ndave@corp.example: d\nguest@holiday.example: g\n")
	m.folder("spool", "mail", "mail", 0o755)
	m.folder("log", "mail", "mail", 0o755)
	for _, name := range []string{"passwd", "group"} {
		data, err := os.ReadFile("/etc/" + name)
		if err != nil {
			m.t.Fatal(err)
		}
		line := "Debian-exim:x:8:8::/:/bin/false\n"
		if name == "group" {
			line = "Debian-exim:x:8:\n"
		}
		m.write(name, string(data)+line)
	}
}

// What Postfix logs, with Dovecot behind it, is read to the last line and tells what the
// probe saw.
func TestRealPostfixLog(t *testing.T) {
	t.Parallel()
	m := newMailServers(t)
	m.configurePostfix()
	m.start([]string{"/usr/lib/postfix/sbin/master", "-c", m.dir + "/etc", "-w"})
	m.tellsTheSame(true, "mail.log", "dovecot.log")
}

// The same of Exim.
func TestRealEximLog(t *testing.T) {
	t.Parallel()
	unpacked(t, eximProgram)
	m := newMailServers(t)
	m.configureExim()
	m.start([]string{"unshare", "-m", "sh", "-c", strings.ReplaceAll("mount --bind DIR/passwd /etc/passwd; mount --bind DIR/group /etc/group; "+
		"exec "+eximProgram+" -C DIR/exim.conf -bd -q2s", "DIR", m.dir)})
	m.tellsTheSame(true, "mainlog", "dovecot.log")
}

// The same of OpenSMTPD, which logs no Message-ID: its messages are told by who wrote to which group.
func TestRealOpenSMTPDLog(t *testing.T) {
	t.Parallel()
	unpacked(t, opensmtpdFolder+"/usr/sbin/smtpd")
	m := newMailServers(t)
	m.configureOpenSMTPD()
	m.login = ""
	m.start([]string{"unshare", "-m", "sh", "-c", strings.ReplaceAll(startOpenSMTPD, "DIR", m.dir)})
	m.tellsTheSame(false, "mail.log") // it refuses a group for a member who is not there
}

// tellsTheSame probes the servers and compares what they log with what was seen.
func (m *mailServers) tellsTheSame(asPredicted bool, logs ...string) {
	t := m.t
	r := sample.Load(t, corp)
	choice := probe.Choice{Groups: allGroups(r.Estate()), Kinds: []probe.Kind{probe.Outsider, probe.Insider, probe.Member, probe.Alias}}
	run, err := probe.Start(t.Context(), probe.NewPlan(r, m.connections(), choice), inStore(t))
	if err != nil {
		t.Fatal(err)
	}
	j := probe.Judge(run)
	report(t, j, asPredicted)
	for i := range logs {
		logs[i] = filepath.Join(m.dir, "log", logs[i])
	}
	stories := map[string]*trail.Story{}
	refused := map[string]int{}
	tracker := trail.NewTracker(func(s *trail.Story) {
		switch {
		case s.Message != "":
			stories[s.Message] = s
		case len(s.Recipients) == 1 && s.Recipients[0].Fate == trail.Rejected:
			refused[s.From+" "+s.Recipients[0].Address]++
		case s.From != "":
			stories[s.From+" "+s.Addressed()[0]] = s
		}
	})
	counts, err := maillog.Read(t.Context(), logs, nil, maillog.Options{Zone: time.Local, Now: clock.Now()}, tracker.Add)
	if err != nil {
		t.Fatal(err)
	}
	tracker.End()
	for _, s := range counts.Samples {
		t.Errorf("%s:%d is not understood: %s", s.File, s.Line, s.Text)
	}
	compared := 0
	for i, c := range j.Cases {
		story := storyOf(stories, c.Case)
		switch {
		case c.Seen == "refuse":
			if to := " " + c.Case.To.String(); refused[c.Case.From.String()+to]+refused[to] == 0 {
				t.Errorf("case %d, %s: refused, and not in the log", i+1, c.Case.Describe())
			}
		case story == nil:
			t.Errorf("case %d, %s: no message <%s> in the log", i+1, c.Case.Describe(), c.Case.ID)
		case story.Message != "" && !story.Whole || story.From != c.Case.From.String():
			t.Errorf("case %d, %s: whole %t, from %s", i+1, c.Case.Describe(), story.Whole, story.From)
		}
	}
	for _, seen := range j.Members {
		story := storyOf(stories, j.Cases[seen.Case].Case)
		if story == nil {
			continue
		}
		want := map[string]trail.Fate{"inbox": trail.InMailbox, probe.SeenBounced: trail.Failed}
		fate, known := want[seen.Seen]
		if !known {
			continue
		}
		compared++
		found := false
		for _, r := range story.Recipients {
			if strings.EqualFold(r.Address, seen.Address) {
				found = true
				if r.Fate != fate {
					t.Errorf("case %d: %s is %s by the log, seen %s", seen.Case+1, seen.Address, r.Fate, seen.Seen)
				}
				if to := j.Cases[seen.Case].Case.To.String(); r.Group != to {
					t.Errorf("case %d: %s is there for %q, not %q", seen.Case+1, seen.Address, r.Group, to)
				}
			}
		}
		if !found {
			t.Errorf("case %d: nothing of %s in the log, seen %s", seen.Case+1, seen.Address, seen.Seen)
		}
	}
	if compared < 19 {
		t.Errorf("only %d observations were compared", compared)
	}
	t.Logf("%d lines, %d messages, %d observations compared", counts.Lines, len(stories), compared)
}

// storyOf returns what a log tells of a case.
func storyOf(stories map[string]*trail.Story, c *probe.Case) *trail.Story {
	if s := stories[strings.Trim(c.ID, "<>")]; s != nil {
		return s
	}
	return stories[c.From.String()+" "+c.To.String()]
}
