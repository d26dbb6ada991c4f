package probe_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/sample"
)

// opensmtpdFolder is where .ci/run unpacks OpenSMTPD, which excludes Postfix.
const opensmtpdFolder = "/opt/opensmtpd-beside"

// configureOpenSMTPD readies OpenSMTPD for the estate: its aliases are nested, and one group takes mail
// from inside alone.
func (m *mailServers) configureOpenSMTPD() {
	m.write("smtpd.conf", fmt.Sprintf(`table groups { "team@corp.example" = "alice@corp.example, bob@corp.example", "crew@corp.example" = "team@corp.example", \
  "outer@corp.example" = "carol@corp.example, team@corp.example", "board@corp.example" = "alice@corp.example", \
  "crowd@corp.example" = "bob@corp.example, dave@corp.example, gone@corp.example", \
  "alice@corp.example" = "mail", "bob@corp.example" = "mail", "carol@corp.example" = "mail", "dave@corp.example" = "mail", "guest@holiday.example" = "mail" }
listen on 127.0.0.1 port %d
listen on 127.0.0.1 port %d
action "deliver" lmtp "DIR/queue/private/dovecot-lmtp" rcpt-to virtual <groups>
match from any !mail-from "@corp.example" for rcpt-to "board@corp.example" reject
match from any for domain "corp.example" action "deliver"
match from any for domain "holiday.example" action "deliver"
`, m.smtp, m.submission))
	for _, name := range []string{"passwd", "group"} {
		data, err := os.ReadFile("/etc/" + name)
		if err != nil {
			m.t.Fatal(err)
		}
		for i, user := range []string{"opensmtpd", "opensmtpq"} {
			line := fmt.Sprintf("%s:x:%d:%[2]d::/nowhere:/bin/false\n", user, 8801+i)
			if name == "group" {
				line = fmt.Sprintf("%s:x:%d:\n", user, 8801+i)
			}
			data = append(data, line...)
		}
		m.write(name, string(data))
	}
	m.folder("queue/pid", "root", "root", 0o755)
}

// startOpenSMTPD is a script that starts it where it finds its users, programs and folders.
const startOpenSMTPD = "mount --bind DIR/passwd /etc/passwd; mount --bind DIR/group /etc/group; " +
	"mount -t tmpfs none /usr/libexec; mkdir /usr/libexec/opensmtpd; mount --bind " + opensmtpdFolder + "/usr/libexec/opensmtpd /usr/libexec/opensmtpd; " +
	"mount -t tmpfs none /var/spool; mkdir -m 711 /var/spool/smtpd; mount -t tmpfs none /run; " +
	"mount -t tmpfs none /var/lib; mkdir -p -m 711 /var/lib/opensmtpd/empty; " +
	opensmtpdFolder + "/usr/sbin/smtpd -d -F -f DIR/smtpd.conf > DIR/log/mail.log 2>&1 & echo $! > DIR/queue/pid/master.pid"

// A server that says the same of all that it refuses, and refuses a group for one member who is not
// there, is told as what it is.
func TestRealOpenSMTPD(t *testing.T) {
	t.Parallel()
	unpacked(t, opensmtpdFolder+"/usr/sbin/smtpd")
	m := newMailServers(t)
	m.configureOpenSMTPD()
	m.login = ""
	m.start([]string{"unshare", "-m", "sh", "-c", strings.ReplaceAll(startOpenSMTPD, "DIR", m.dir)})
	r := sample.Load(t, corp)
	choice := probe.Choice{Groups: allGroups(r.Estate()), Kinds: []probe.Kind{probe.Outsider, probe.Insider, probe.Member, probe.Alias}}
	run, err := probe.Start(t.Context(), probe.NewPlan(r, m.connections(), choice), inStore(t))
	if err != nil {
		t.Fatal(err)
	}
	j := probe.Judge(run)
	seen := map[string]string{}
	for i := range j.Cases {
		c := &j.Cases[i]
		seen[string(c.Case.Kind)+" "+c.Case.To.Local()] = c.Seen
		t.Logf("%s: predicted %s, seen %s (%s)", c.Case.Describe(), c.Predicted, c.Seen, c.Reply)
	}
	for name, want := range map[string]string{
		"outsider team": estate.Admit.String(), "outsider outer": estate.Admit.String(), "outsider board": estate.Refuse.String(),
		"insider board": estate.Admit.String(), "alias crew": estate.Admit.String(), "outsider crowd": estate.Refuse.String(),
	} {
		if seen[name] != want {
			t.Errorf("%s: seen %q, want %s", name, seen[name], want)
		}
	}
	for _, c := range j.Causes {
		t.Errorf("a setting is guessed: %+v", c.Hypotheses[0].Change)
	}
	const says = "the server refuses all of crowd@corp.example, as it cannot lay it out: perhaps for a member to whom it cannot deliver (dave@corp.example, gone@corp.example)"
	if len(j.Reasons) == 0 || j.Reasons[0].Says != says {
		t.Errorf("it is told as %+v", j.Reasons)
	}
}
