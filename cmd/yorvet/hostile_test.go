package main

import (
	"bufio"
	"bytes"
	"fmt"
	"math"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/rude"
)

// path is the environment of runs that call other programs.
func path() []string { return []string{"PATH=" + os.Getenv("PATH")} }

// lay writes files below a folder.
func lay(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		to := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(to, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// In a folder that is only looked at nothing runs, and nobody is reached: what is
// found there is an estate, and never a source.
func TestFoundSourceDoesNothing(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	reached := make(chan struct{}, 100)
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			reached <- struct{}{}
			conn.Close()
		}
	}()
	source := func(secret string) string {
		return fmt.Sprintf("yorvet-source: 1\nfrom: http://%s/scim\ndomains: [kelp.example]\nlogin: {token: {%s}}\n", listener.Addr(), secret)
	}
	for about, files := range map[string]map[string]string{
		"a command":     {"estate.yaml": source("command: [touch, ran]")},
		"a variable":    {"estate.yaml": source("environment: HOME")},
		"tables":        {"estate/people.csv": "address\na@kelp.example\n"},
		"from a folder": {"estate/x.yaml": source("command: [touch, ran]")},
	} {
		for _, command := range [][]string{{"check"}, {"matrix"}, {"who", "posts", "a@kelp.example"}, {"member", "list"}, {"standin"},
			{"group", "remove", "a@kelp.example", "--preview"}, {"export", "--as", "aliases"}, {"export", "--as", "ldif", "--since", "old"}, {"probe"}} {
			dir := t.TempDir()
			lay(t, dir, files)
			r := run(t, dir, append(path(), "HOME=hush-42"), command)
			if r.code != 2 || r.stdout != "" {
				t.Errorf("%s, %v: exit code %d, %s%s", about, command, r.code, r.stdout, r.stderr)
			}
			if exists(filepath.Join(dir, "ran")) || exists(filepath.Join(dir, "estate", "ran")) {
				t.Errorf("%s, %v: a command ran", about, command)
			}
		}
	}
	if len(reached) > 0 {
		t.Error("a server was reached")
	}
	// Where it is named, it is used; its commands only if nobody else can write it.
	dir := t.TempDir()
	lay(t, dir, map[string]string{"estate.yaml": source("command: [touch, ran]")})
	if err := os.Chmod(filepath.Join(dir, "estate.yaml"), 0o666); err != nil {
		t.Fatal(err)
	}
	if r := run(t, dir, path(), []string{"--estate", "estate.yaml", "check"}); exists(filepath.Join(dir, "ran")) || !strings.Contains(r.stderr, "others may write") {
		t.Errorf("a file that others may write: %s", r.stderr)
	}
	if err := os.Chmod(filepath.Join(dir, "estate.yaml"), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := run(t, dir, path(), []string{"--estate", "estate.yaml", "check"}); !exists(filepath.Join(dir, "ran")) {
		t.Errorf("a source that is named is not used: %s", r.stderr)
	}
}

// A connections file that is found runs no command; a plan fetches no secret at all.
func TestFoundConnectionsRunNothing(t *testing.T) {
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	lay(t, dir, map[string]string{"connections.yaml": "yorvet-connections: 1\nsend:\n- {name: all, server: '127.0.0.1:1', from: [anyone], claims: true, tls: none, login: {password: {command: [touch, ran]}}}\n"})
	for _, command := range [][]string{{"probe"}, {"probe", "--connections", "connections.yaml"}, {"probe", "--send"}, {"held", "list", "--as", "tam.weld@kelpmere.example"},
		{"rollcall", "lost-property@kelpmere.example", "--as", "ines.maro@kelpmere.example", "--send"}} {
		run(t, dir, path(), command)
		if exists(filepath.Join(dir, "ran")) {
			t.Fatalf("%v: a command ran", command)
		}
	}
}

// Whatever a repository configures, comparing one of its revisions runs nothing of
// it, and writes nothing.
func TestRevisionsRunNothing(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("there is no git on this machine")
	}
	repository := t.TempDir()
	ran := filepath.Join(repository, "ran")
	lay(t, repository, map[string]string{
		"estate.yaml":    "yorvet: 1\ndomains: [kelp.example]\npeople: {table: tables/people.csv}\ngroups: [{address: a@kelp.example}]\n",
		"tables/p.csv":   "x",
		".gitattributes": "* filter=bad diff=bad text eol=crlf ident\n",
	})
	if err := os.Symlink("p.csv", filepath.Join(repository, "tables", "people.csv")); err != nil {
		t.Fatal(err)
	}
	git := gitIn(t, repository)
	git("init", "-q")
	git("add", ".")
	git("commit", "-q", "-m", "with a link")
	if err := os.Remove(filepath.Join(repository, "tables", "people.csv")); err != nil {
		t.Fatal(err)
	}
	lay(t, repository, map[string]string{"tables/people.csv": "address,name\nann@kelp.example,Ann $Id$\n"})
	git("add", ".")
	git("commit", "-q", "-m", "with a table")
	script := filepath.Join(repository, ".git", "bad")
	if err := os.WriteFile(script, []byte("#!/bin/sh\necho >> "+ran+"\ncat\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, setting := range []string{"filter.bad.smudge", "filter.bad.clean", "filter.bad.process", "diff.bad.textconv", "diff.bad.command",
		"diff.external", "core.fsmonitor", "core.pager", "core.sshCommand", "tar.tar.command", "core.askPass", "core.alternateRefsCommand"} {
		git("config", setting, script)
	}
	for _, hook := range []string{"post-checkout", "post-index-change", "pre-auto-gc", "reference-transaction"} {
		if err := os.WriteFile(filepath.Join(repository, ".git", "hooks", hook), []byte("#!/bin/sh\necho >> "+ran+"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	// An object that is missing would be fetched from a promised place.
	git("config", "remote.origin.url", "ext::"+script)
	git("config", "remote.origin.promisor", "true")
	git("config", "extensions.partialClone", "origin")
	git("config", "protocol.ext.allow", "always")
	for _, test := range []struct {
		older, newer string
		code         int
		want         string
	}{
		{"HEAD:estate.yaml", "estate.yaml", 0, ""},
		{"HEAD~1:estate.yaml", "estate.yaml", 2, "no regular file"},
		{"0123456789012345678901234567890123456789:estate.yaml", "estate.yaml", 2, ""},
		{"-h:estate.yaml", "estate.yaml", 2, ""},
		{"--output=x:estate.yaml", "estate.yaml", 2, ""},
		{"HEAD:../estate.yaml", "estate.yaml", 2, "within the repository"},
		{"HEAD:/etc/passwd", "estate.yaml", 2, "within the repository"},
		{"HEAD:tables/people.csv", "estate.yaml", 2, ""},
	} {
		r := run(t, repository, path(), []string{"compare", "--", test.older, test.newer})
		if r.code != test.code || !strings.Contains(r.stderr, test.want) {
			t.Errorf("%s: exit code %d, want %d\n%s%s", test.older, r.code, test.code, r.stdout, r.stderr)
		}
		if exists(ran) {
			t.Fatalf("%s: something of the repository ran", test.older)
		}
	}
	blob, err := exec.Command("git", "-C", repository, "rev-parse", "HEAD:tables/people.csv").Output()
	if err != nil {
		t.Fatal(err)
	}
	object := strings.TrimSpace(string(blob))
	if err := os.Remove(filepath.Join(repository, ".git", "objects", object[:2], object[2:])); err != nil {
		t.Fatal(err)
	}
	if r := run(t, repository, path(), []string{"compare", "HEAD:estate.yaml", "estate.yaml"}); r.code == 0 {
		t.Errorf("a missing object is no error: %s", r.stdout)
	}
	if exists(ran) {
		t.Error("a missing object was fetched")
	}
	if r := run(t, t.TempDir(), path(), []string{"compare", "HEAD:estate.yaml", "HEAD:estate.yaml"}); !strings.Contains(r.stderr, "not in a git repository") {
		t.Errorf("outside of a repository: %s", r.stderr)
	}
}

// The files that the stand-in and the probe write for themselves are nobody else's,
// whatever there was before, and git leaves them out.
func TestPrivateFiles(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("permissions are kept elsewhere there")
	}
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"connections.yaml", "ready.json"} {
		lay(t, dir, map[string]string{name: "old"})
		if err := os.Chmod(filepath.Join(dir, name), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	lay(t, dir, map[string]string{"other/.gitignore": "*.log\n"})
	cmd := exec.Command(program, "--estate", "estate", "standin", "--connections", "connections.yaml", "--ready", "ready.json", "--certificate", "other/authority.pem")
	var said bytes.Buffer
	cmd.Dir, cmd.Stdout = dir, &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	await(t, func() bool {
		data, _ := os.ReadFile(filepath.Join(dir, "ready.json"))
		return string(data) != "old"
	})
	r := run(t, dir, path(), []string{"--estate", "estate", "probe", "volunteers@kelpmere.example", "--send", "--sample", "1", "--run", "one", "--evidence", "evidence"})
	_ = cmd.Process.Signal(os.Interrupt)
	_ = cmd.Wait()
	for _, name := range []string{"connections.yaml", "ready.json", "standin.secret", stateOf(dir) + "/yorvet/runs.db"} {
		if !filepath.IsAbs(name) {
			name = filepath.Join(dir, name)
		}
		info, err := os.Stat(name)
		if err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%s: %v %v\n%s%s", name, info, err, r.stdout, r.stderr)
		}
	}
	for name, want := range map[string]string{".gitignore": "/connections.yaml\n/standin.secret\n", "other/.gitignore": "*.log\n",
		"evidence/.gitignore": "/case-*.eml\n"} {
		if data, err := os.ReadFile(filepath.Join(dir, name)); err != nil || !strings.HasSuffix(string(data), want) {
			t.Errorf("%s: %q %v", name, data, err)
		}
	}
	if want := filepath.Join(dir, "other", ".gitignore") + " does not name /authority.pem"; !strings.Contains(said.String(), want) {
		t.Errorf("it is not said that %s:\n%s", want, said.String())
	}
}

// A pipe, a device or an endless file is refused at once, whatever it is given as.
func TestKindsAreRefused(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("there are no such files")
	}
	dir := t.TempDir()
	if err := demo.Write(t.Context(), dir); err != nil {
		t.Fatal(err)
	}
	pipe := filepath.Join(dir, "pipe")
	if err := exec.Command("mkfifo", pipe).Run(); err != nil {
		t.Fatal(err)
	}
	group := "volunteers@kelpmere.example"
	for _, bad := range []string{pipe, "/dev/zero"} {
		planted := filepath.Join(dir, "planted")
		lay(t, planted, map[string]string{"estate.yaml": "yorvet: 1\ndomains: [kelp.example]\npeople: {table: p.csv}\n"})
		if err := os.RemoveAll(filepath.Join(planted, "p.csv")); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(bad, filepath.Join(planted, "p.csv")); err != nil {
			t.Fatal(err)
		}
		journal := filepath.Join(dir, "journal")
		lay(t, journal, map[string]string{"estate.yaml": "yorvet: 1\ndomains: [kelp.example]\n"})
		if err := os.RemoveAll(filepath.Join(journal, ".yorvet-change")); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(bad, filepath.Join(journal, ".yorvet-change")); err != nil {
			t.Fatal(err)
		}
		for _, command := range [][]string{
			{"--estate", bad, "check"}, {"--estate", "planted", "check"}, {"--estate", "journal", "check"}, {"--estate", "estate", "compare", bad, "estate"},
			{"--estate", "estate", "expect", bad}, {"--estate", "estate", "member", "add", group, "--from", bad},
			{"--estate", "estate", "probe", "--connections", bad}, {"--estate", "estate", "standin", "--faults", bad}, {"--estate", "estate", "standin", "--secret", bad},
			{"import", "ldif:" + bad, "-o", "x.yaml"}, {"import", "csv:" + bad, "-o", "x.yaml"}, {"import", "aliases:" + bad, "-o", "x.yaml"},
			{"import", "scim:" + bad, "-o", "x.yaml"}, {"import", "vcard:" + bad, "-o", "x.yaml"}, {"import", "list:" + bad, "-o", "x.yaml"},
			{"import", "volunteers.txt", "--map", bad, "-o", "x.yaml"}, {"import", "csv:planted/p.csv", "--map", bad, "-o", "x.yaml"},
			{"--estate", "estate", "export", "--as", "ldif", "--map", bad}, {"--estate", "estate", "explain", "--from", bad, "--to", group},
		} {
			if r := run(t, dir, path(), command); r.code != 2 || r.stderr == "" {
				t.Errorf("%v: exit code %d\n%s%s", command, r.code, r.stdout, r.stderr)
			}
		}
	}
}

// A long row neither takes memory nor time, as a table of an estate or a source.
func TestLongRows(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	lay(t, dir, map[string]string{"estate.yaml": "yorvet: 1\ndomains: [kelp.example]\npeople: {table: long.csv}\n"})
	for about, row := range map[string]struct{ begin, part string }{
		"one line":    {"", "xxxxxxxxxxxxxxxx"},
		"many cells":  {"", "x,x,x,x,x,x,x,x,"},
		"many quotes": {`"`, "xxxxxxx\nxxxxxxx\n"},
	} {
		writeLong(t, filepath.Join(dir, "long.csv"), "address,name\na@kelp.example,"+row.begin, row.part, 110<<20)
		for _, command := range [][]string{{"--estate", "estate.yaml", "check"}, {"import", "long.csv", "-o", "x.yaml"}} {
			r := run(t, dir, path(), command)
			if r.code != 2 || !strings.Contains(r.stderr, "longer than 4 MiB") || !strings.Contains(r.stderr, "long.csv:") {
				t.Errorf("%s, %v: exit code %d\n%s", about, command, r.code, r.stderr)
			}
			if r.memory > 250<<20 {
				t.Errorf("%s, %v: %d MiB of memory", about, command, r.memory>>20)
			}
		}
	}
}

// writeLong writes a file of so many bytes, piece by piece: what this process has in
// memory is counted for the programs that it starts.
func writeLong(t *testing.T, path, begin, part string, size int) {
	t.Helper()
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	piece := strings.Repeat(part, 1<<16/len(part))
	for written := 0; err == nil && written < size; written += len(piece) {
		if written == 0 {
			_, err = f.WriteString(begin)
		}
		_, err = f.WriteString(piece)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// processorTime returns how long a process has worked, in hundredths of a second.
func processorTime(pid int) int {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return math.MaxInt // this system does not say
	}
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return user + system
}

// An interrupt ends whatever a command waits for, at once, and nothing is written.
func TestInterrupt(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("there are no such signals")
	}
	for _, command := range [][]string{
		{"--estate", "source.yaml", "check"},
		{"--estate", "estate", "compare", "source.yaml", "estate"},
		{"import", "source.yaml", "-o", "x.yaml"},
		{"import", "list:-", "-o", "x.yaml", "--domain", "kelpmere.example"},
		{"--estate", "estate", "member", "add", "volunteers@kelpmere.example", "--from", "-", "--yes"},
		{"--estate", "directory.yaml", "matrix"},
		{"--estate", "dense.yaml", "check"},
		{"--estate", "estate", "probe", "--connections", "connections.yaml", "--send", "volunteers@kelpmere.example"},
		{"--estate", "estate", "held", "list", "--connections", "connections.yaml", "--as", "tam.weld@kelpmere.example"},
	} {
		silent, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer silent.Close()
		dir := t.TempDir()
		if err := demo.Write(t.Context(), dir); err != nil {
			t.Fatal(err)
		}
		lay(t, dir, map[string]string{
			"source.yaml":    fmt.Sprintf("yorvet-source: 1\nfrom: http://%s/scim\ndomains: [kelpmere.example]\n", silent.Addr()),
			"directory.yaml": fmt.Sprintf("yorvet-source: 1\nfrom: ldap://%s/dc=kelp\ntls: none\ndomains: [kelpmere.example]\n", silent.Addr()),
			"connections.yaml": fmt.Sprintf("yorvet-connections: 1\nsend:\n- {name: all, server: '%s', from: [anyone], tls: none}\n"+
				"look:\n- {server: '%[1]s', tls: none, for: [anyone], login: {password: {environment: SECRET}}}\n", silent.Addr()),
		})
		dense := "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: a@kelp.example}]\ngroups:\n" // which takes a while to check
		const turns = 225
		for i := range 2 * turns {
			members := "a@kelp.example"
			if i < 2*turns-2 {
				members = fmt.Sprintf("g%d@kelp.example, g%d@kelp.example", i/2*2+2, i/2*2+3)
			}
			dense += fmt.Sprintf("- {address: g%d@kelp.example, members: [%s], gate: [admit members, hold a@kelp.example, refuse anyone]}\n", i, members)
		}
		lay(t, dir, map[string]string{"dense.yaml": dense})
		before, _ := os.ReadFile(filepath.Join(dir, "estate", "groups.yaml"))
		cmd := exec.Command(program, command...)
		cmd.Dir, cmd.Env = dir, append(path(), "SECRET=hush-42", "XDG_STATE_HOME="+stateOf(dir))
		in, err := cmd.StdinPipe() // nobody types
		if err != nil {
			t.Fatal(err)
		}
		var said bytes.Buffer
		cmd.Stdout, cmd.Stderr = &said, &said
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		switch {
		case slices.Contains(command, "-") || slices.Contains(command, "list:-"):
			_, _ = in.Write(make([]byte, 1<<17)) // more than a pipe holds: it is being read
		case slices.Contains(command, "dense.yaml"):
			await(t, func() bool { return processorTime(cmd.Process.Pid) >= 20 })
		default:
			conn, err := silent.Accept()
			if err != nil {
				t.Fatal(err)
			}
			defer conn.Close()
		}
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
		in.Close()
		if code := cmd.ProcessState.ExitCode(); code != 1 {
			t.Errorf("%v: exit code %d\n%s", command, code, said.String())
		}
		if now, _ := os.ReadFile(filepath.Join(dir, "estate", "groups.yaml")); !bytes.Equal(now, before) || exists(filepath.Join(dir, "x.yaml")) {
			t.Errorf("%v: something was written", command)
		}
	}
}

// Patience is a bound: a probe ends, whatever the servers do, and it does not call that all
// well.
func TestPatienceIsABound(t *testing.T) {
	t.Parallel() // most of it is waiting
	later := func(c *net.TCPConn) {
		in := bufio.NewScanner(c)
		fmt.Fprint(c, "220 x\r\n")
		for in.Scan() {
			fmt.Fprint(c, "451 4.7.1 later\r\n")
		}
	}
	var done sync.WaitGroup
	defer done.Wait()
	for about, behave := range map[string]func(*net.TCPConn){"silent": rude.Silent, "drip": rude.Drip([]byte("220-x\r\n")),
		"pour": rude.Pour(bytes.Repeat([]byte("220-x\r\n"), 1000)), "later": later} {
		for _, tls := range []string{"starttls", "none", "implicit"} {
			done.Go(func() {
				dir := t.TempDir()
				if err := demo.Write(t.Context(), dir); err != nil {
					t.Error(err)
					return
				}
				where := rude.Server(t, behave)
				lay(t, dir, map[string]string{"connections.yaml": fmt.Sprintf("yorvet-connections: 1\nsend:\n- {name: all, server: '%s', from: [anyone], tls: %s}\n"+
					"look:\n- {server: '%[1]s', tls: %[2]s, for: [anyone], login: {password: {environment: SECRET}}}\nlimits: {patience: 4s, pace: 20, people: 100}\n", where, tls)})
				r := run(t, dir, append(path(), "SECRET=hush-42"), []string{"--estate", "estate", "probe", "--connections", "connections.yaml", "--send", "--sample", "20"})
				if r.code != 3 && r.code != 1 {
					t.Errorf("%s, %s: exit code %d\n%s%s", about, tls, r.code, r.stdout, r.stderr)
				}
				if r.memory > 150<<20 {
					t.Errorf("%s, %s: %d MiB of memory", about, tls, r.memory>>20)
				}
			})
		}
	}
}

// No small file takes absurd memory, or does not end.
func TestSmallFilesTakeLittle(t *testing.T) {
	_ = campaign.Runs(t)
	list := func(n int, item func(i int) string) string {
		var b strings.Builder
		for i := range n {
			b.WriteString(item(i))
		}
		return b.String()
	}
	const head = "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: a@kelp.example}]\ngroups:\n"
	const group = head + "- address: g@kelp.example\n  owners: [a@kelp.example]\n  members: [a@kelp.example]\n  gate:\n"
	for about, text := range map[string]string{
		"thresholds":  group + list(400, func(i int) string { return fmt.Sprintf("  - hold p%d@out%[1]d.example and larger(%dkB)\n", i, i+1) }),
		"one of them": group + "  - hold " + strings.TrimSuffix(list(2000, func(i int) string { return fmt.Sprintf("larger(%dkB) or ", i+1) }), " or ") + "\n",
		"same-as in chain": "yorvet: 1\ndomains: [kelp.example" + list(10_000, func(i int) string {
			return fmt.Sprintf(", {domain: d%d.example, same-as: %s}", i+1, map[bool]string{true: "kelp.example", false: fmt.Sprintf("d%d.example", i)}[i == 0])
		}) + "]\npeople: [{address: a@kelp.example}]\ngroups: [{address: g@kelp.example, members: [a@d9999.example]}]\n",
		"same-as in a ring": "yorvet: 1\ndomains: [kelp.example" + list(10_000, func(i int) string {
			return fmt.Sprintf(", {domain: d%d.example, same-as: d%d.example}", i, (i+1)%10_000)
		}) + "]\n",
		"a ring of groups": head + list(318, func(i int) string {
			return fmt.Sprintf("- {address: g%d@kelp.example, members: [g%d@kelp.example, a@kelp.example], gate: [admit anyone]}\n", i, (i+1)%318)
		}),
		"groups that all have gates, two at each turn": head + list(2*225, func(i int) string {
			members := "a@kelp.example"
			if i < 2*224 {
				members = fmt.Sprintf("g%d@kelp.example, g%d@kelp.example", i/2*2+2, i/2*2+3)
			}
			return fmt.Sprintf("- {address: g%d@kelp.example, members: [%s], gate: [admit members, hold a@kelp.example, refuse anyone]}\n", i, members)
		}),
		"nests of groups": head + list(1500, func(i int) string {
			return fmt.Sprintf("- {address: g%d@kelp.example, members: [a@kelp.example%s]}\n", i, list(7, func(k int) string {
				return fmt.Sprintf(", g%d@kelp.example", i/7*7+k)
			}))
		}),
		"too many nested groups": head + list(7000, func(i int) string {
			return fmt.Sprintf("- {address: g%d@kelp.example, members: [g%d@kelp.example], gate: [admit anyone]}\n", i, (i+1)%7000)
		}),
		"aliases on a line": "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: a@kelp.example, also: [" + list(30_000, func(i int) string {
			return fmt.Sprintf("a%d@kelp.example, ", i)
		}) + "b@kelp.example]}]\ngroups: [{address: g@kelp.example, members: [a@kelp.example]}]\n",
		"unknown groups": head + list(3000, func(i int) string {
			return fmt.Sprintf("- {address: group%d@kelp.example, gate: [admit in group%[1]dx@kelp.example]}\n", i)
		}),
		"too many rules":  group + list(5000, func(i int) string { return fmt.Sprintf("  - hold p%d@out%[1]d.example and larger(%dkB)\n", i, i+1) }),
		"a long selector": group + "  - admit " + strings.Repeat("a@b.example or ", 300_000) + "anyone\n",
	} {
		dir := t.TempDir()
		lay(t, dir, map[string]string{"estate.yaml": text})
		for _, command := range [][]string{{"check"}, {"matrix"}, {"person", "a@kelp.example"}, {"person", "a@kelp.example", "--json"},
			{"report", "-o", "report.html"}, {"compare", "estate.yaml", "estate.yaml"}} {
			r := run(t, dir, nil, command)
			if r.memory > 250<<20 || r.code > 2 || r.processor > 20*time.Second { // beside others it takes up to twice as much
				t.Errorf("%s, %v: exit code %d, %d MiB, %s of processor", about, command, r.code, r.memory>>20, r.processor)
			}
			if wrong := strings.HasPrefix(about, "too") || strings.HasPrefix(about, "a long") || strings.HasPrefix(about, "unknown") || strings.HasSuffix(about, "in a ring"); wrong != (r.code == 2) || wrong && !strings.Contains(r.stderr, "estate.yaml:") {
				t.Errorf("%s, %v: exit code %d\n%.300s", about, command, r.code, r.stderr)
			}
		}
	}
}

// A file of the estate that is a link out of its folder is written only if that is asked for.
func TestLinksOutside(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	const table = "address,name\nann@kelp.example,Ann\n"
	lay(t, dir, map[string]string{"estate/estate.yaml": "yorvet: 1\ndomains: [kelp.example]\npeople: {table: people.csv}\n", "elsewhere/people.csv": table, "own/people.csv": table})
	outside, link := filepath.Join(dir, "elsewhere", "people.csv"), filepath.Join(dir, "estate", "people.csv")
	if err := os.Symlink(outside, link); err != nil {
		t.Skip("there are no links here: ", err)
	}
	command := []string{"--estate", "estate", "person", "set", "ann@kelp.example", "name=Anna", "--yes"}
	r := run(t, dir, nil, command)
	if now, err := os.ReadFile(outside); err != nil || string(now) != table || r.code != 2 || !strings.Contains(strings.Join(strings.Fields(r.stderr), " "), outside) {
		t.Errorf("exit code %d, %v, the file is %q\n%s%s", r.code, err, now, r.stdout, r.stderr)
	}
	r = run(t, dir, nil, append(command, "--through-links"))
	if now, err := os.ReadFile(outside); err != nil || !strings.Contains(string(now), "Anna") || r.code != 0 || !strings.Contains(r.stdout, "out of the estate's folder") {
		t.Errorf("asked for: exit code %d, %v, the file is %q\n%s%s", r.code, err, now, r.stdout, r.stderr)
	}
	if info, err := os.Lstat(link); err != nil || info.Mode()&os.ModeSymlink == 0 {
		t.Errorf("the link is gone: %v", err)
	}
	// The folder itself may be reached by a link, and files in it by links within.
	if err := os.Symlink("own", filepath.Join(dir, "alias")); err != nil {
		t.Fatal(err)
	}
	lay(t, dir, map[string]string{"own/estate.yaml": "yorvet: 1\ndomains: [kelp.example]\npeople: {table: table.csv}\n"})
	if err := os.Symlink("people.csv", filepath.Join(dir, "own", "table.csv")); err != nil {
		t.Fatal(err)
	}
	command[1] = filepath.Join("alias", "estate.yaml")
	if r := run(t, dir, nil, command); r.code != 0 {
		t.Errorf("within: exit code %d\n%s%s", r.code, r.stdout, r.stderr)
	}
}

// A list of a megabyte, whatever it is made of, takes seconds: to read, and to add to a group.
func TestLongListsTakeLittle(t *testing.T) {
	t.Parallel()
	const most = 900_000
	var distinct strings.Builder
	for i := 0; distinct.Len() < most; i++ {
		fmt.Fprintf(&distinct, "n%d@elsewhere.example\n", i)
	}
	dir := t.TempDir()
	var estate strings.Builder
	estate.WriteString("yorvet: 1\ndomains: [kelp.example]\npeople:\n")
	for i := range 5000 {
		fmt.Fprintf(&estate, "- {address: p%d@kelp.example, name: Ann Oake %[1]d}\n", i)
	}
	estate.WriteString("groups: [{address: g@kelp.example, members: [p1@kelp.example]}]\n")
	lay(t, dir, map[string]string{"estate.yaml": estate.String()})
	for about, text := range map[string]string{
		"angles": strings.Repeat("<", most), "parentheses": strings.Repeat("(", most), "semicolons": strings.Repeat(";", most), "quotes": strings.Repeat(`" `, most/2),
		"words": strings.Repeat("Ann\n", most/4), "one again": strings.Repeat("a@elsewhere.example\n", most/20), "unknown ones": strings.ReplaceAll(distinct.String(), "elsewhere", "kelp"),
		"many": distinct.String(),
	} {
		lay(t, dir, map[string]string{"list.txt": text})
		for _, command := range [][]string{{"import", "list:list.txt", "-o", "new.yaml", "--domain", "elsewhere.example", "--preview"}, {"member", "add", "g@kelp.example", "--from", "list.txt", "--preview"}} {
			r := run(t, dir, nil, command)
			if r.memory > 500<<20 || r.code > 2 || r.processor > 20*time.Second { // beside others it takes up to twice as much
				t.Errorf("%s, %s: exit code %d, %d MiB, %s of processor\n%.300s", about, command[0], r.code, r.memory>>20, r.processor, r.stderr)
			}
		}
	}
}
