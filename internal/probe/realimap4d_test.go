package probe_test

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/freeport"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/sample"
)

// imap4dFolder is where .ci/run unpacks the IMAP server of Mailutils, which excludes Dovecot.
const imap4dFolder = "/opt/mailutils-beside"

// tideHash is what crypt(3) makes of the password of the logins.
const tideHash = "$6$ferrytide$a9IZAZotJMgQOCRgP0ZSpfyMOitSmod9h4be2UpiRDB3T.wskMoaei7OEzZ.k9SkBKQfbkjpwBJVvXQdRTupU1"

// A server that gives messages new UIDs at each look shows none of them twice, and an empty mailbox
// is none that was seen to be there.
func TestRealImap4d(t *testing.T) {
	t.Parallel()
	unpacked(t, imap4dFolder+"/usr/sbin/imap4d")
	m := newMailServers(t)
	m.configurePostfix()
	users, err := os.ReadFile("/etc/passwd")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"alice@corp.example", "bob@corp.example", "carol@corp.example", "dave@corp.example", "guest@holiday.example"} {
		users = append(users, name+":"+tideHash+":8:8::/nowhere:/bin/sh\n"...)
	}
	m.write("passwd", string(users))
	dovecot := m.imap
	imap4d := freeport.On(t)
	m.write("imap4d.conf", fmt.Sprintf("mode daemon;\nserver 127.0.0.1:%d { };\nauth { authorization system; authentication generic; };\n"+
		"mailbox { mailbox-pattern \"maildir:DIR/mail/${user}\"; mailbox-type maildir; };\nlogging { facility mail; };\n", imap4d))
	const script = "mount --bind DIR/passwd /etc/passwd; LD_LIBRARY_PATH=" + imap4dFolder + "/usr/lib/x86_64-linux-gnu exec " + imap4dFolder +
		"/usr/sbin/imap4d --foreground --no-site-config --config-file=DIR/imap4d.conf"
	server := exec.Command("unshare", "-m", "sh", "-c", strings.ReplaceAll(script, "DIR", m.dir))
	if err := server.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	})
	m.start([]string{"/usr/lib/postfix/sbin/master", "-c", m.dir + "/etc", "-w"})
	m.imap, m.looks = imap4d, "mechanism: PLAIN, password: {environment: YORVET_TEST_SECRET}"
	defer func() { m.imap = dovecot }()
	m.await(imap4d)
	r := sample.Load(t, corp)
	choice := probe.Choice{Groups: []estate.ID{at(t, r, "team@corp.example"), at(t, r, "outer@corp.example")}, Kinds: []probe.Kind{probe.Outsider, probe.Member}}
	run, err := probe.Start(t.Context(), probe.NewPlan(r, m.connections(), choice), inStore(t))
	if err != nil {
		t.Fatal(err)
	}
	j := probe.Judge(run)
	report(t, j, true)
	for _, member := range j.Members {
		t.Logf("%+v", member)
	}
	if as, not, unlooked := j.Counts(); as < 10 || not+unlooked > 0 {
		t.Errorf("%d are as predicted, %d are not, %d were not looked at", as, not, unlooked)
	}
}
