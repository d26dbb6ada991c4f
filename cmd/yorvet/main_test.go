package main

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/tools/txtar"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/golden"
)

// program is the built program.
var program string

func TestMain(m *testing.M) {
	flag.Parse()
	_ = flag.Set("test.parallel", "6") // those that run at once mostly wait
	debug.SetMemoryLimit(96 << 20)     // what a program is said to have needed is no less than what this one has
	os.Exit(buildAndRun(m))
}

func buildAndRun(m *testing.M) int {
	dir, err := os.MkdirTemp("", "yorvet-test-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	program = filepath.Join(dir, "yorvet")
	build := exec.Command("go", slices.Concat([]string{"build"}, clock.Flags(), []string{"-o", program, "."})...)
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%v\n%s", err, out)
		return 1
	}
	return m.Run()
}

// result is what one run of the program did.
type result struct {
	stdout, stderr string
	code           int
	memory         int64 // bytes at most, where the system tells
	processor      time.Duration
}

// run runs the program in a folder, with an environment of nothing but env.
func run(t *testing.T, dir string, env, args []string) result {
	t.Helper()
	var stdout, stderr bytes.Buffer
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &stdout, &stderr
	cmd.Args[0] = "yorvet"
	cmd.Env = append([]string{"TMPDIR=" + t.TempDir(), "XDG_STATE_HOME=" + stateOf(dir)}, env...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	memory := memoryOf(cmd.Process.Pid)
	err := cmd.Wait()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return result{stdout.String(), stderr.String(), cmd.ProcessState.ExitCode(), memory(cmd.ProcessState), cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()}
}

// memoryOf returns a function that says how much memory a process took at most, once it has ended. What the system counts
// for a process is no less than the memory of this one when it began: where that is much, the process is looked at while it runs.
func memoryOf(pid int) func(*os.ProcessState) int64 {
	own, seen, ended := peak("self"), int64(0), make(chan struct{})
	var looking sync.WaitGroup
	if own > 100<<20 {
		looking.Go(func() {
			for {
				seen = max(seen, peak(strconv.Itoa(pid)))
				select {
				case <-ended:
					return
				case <-time.After(5 * time.Millisecond):
				}
			}
		})
	}
	return func(state *os.ProcessState) int64 {
		close(ended)
		looking.Wait()
		usage := reflect.Indirect(reflect.ValueOf(state.SysUsage()))
		if most := usage.FieldByName("Maxrss"); runtime.GOOS == "linux" && most.IsValid() && (seen == 0 || most.Int()<<10 > own+own/8) {
			return most.Int() << 10
		}
		return seen
	}
}

// peak returns how much memory a process has taken at most, where the system tells.
func peak(process string) int64 {
	data, err := os.ReadFile("/proc/" + process + "/status")
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(data), "VmHWM:")
	kilobytes, _, _ := strings.Cut(strings.TrimSpace(rest), " ")
	n, _ := strconv.ParseInt(kilobytes, 10, 64)
	return n << 10
}

// stateOf is where a program that runs in a folder keeps what it knows of the user's work:
// beside that folder.
func stateOf(dir string) string { return dir + ".state" }

// TestScripts runs the scripts of testdata. Each is a txtar archive: files, and
// before them lines such as
//
//	$ yorvet who posts desk@kelp.example
//
// Behind each stands what the program answers: standard output, then standard
// error with "! " before each line, then the exit code unless it is 0. A line that
// would look like one of the script's own begins with a backslash. Lines with #
// are comments. With -update, the answers are written anew. The demo's files are
// in the folder ferries.
func TestScripts(t *testing.T) {
	scripts, err := filepath.Glob("testdata/*.txtar")
	if err != nil || len(scripts) == 0 {
		t.Fatalf("no scripts: %v", err)
	}
	for _, script := range scripts {
		t.Run(strings.TrimSuffix(filepath.Base(script), ".txtar"), func(t *testing.T) {
			t.Parallel()
			runScript(t, script)
		})
	}
}

func runScript(t *testing.T, script string) {
	archive, err := txtar.ParseFile(script)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	if err := demo.Write(t.Context(), filepath.Join(dir, "ferries")); err != nil {
		t.Fatal(err)
	}
	for _, file := range archive.Files {
		path := filepath.Join(dir, file.Name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, file.Data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want := string(archive.Comment)
	var got strings.Builder
	for line := range strings.Lines(want) {
		switch {
		case strings.HasPrefix(line, "#"):
			got.WriteString(line)
		case strings.HasPrefix(line, "$ "):
			got.WriteString(line)
			got.WriteString(answered(runLine(t, dir, strings.TrimSpace(line[2:]))))
			got.WriteString("\n")
		}
	}
	if got.String() == want {
		return
	}
	if golden.Updating() {
		archive.Comment = []byte(got.String())
		if err := os.WriteFile(script, txtar.Format(archive), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	gotLines, wantLines := strings.Split(got.String(), "\n"), strings.Split(want, "\n")
	for i := range max(len(gotLines), len(wantLines)) {
		if i >= len(gotLines) || i >= len(wantLines) || gotLines[i] != wantLines[i] {
			t.Fatalf("%s:%d differs; from there the program answers:\n%s", script, i+1, strings.Join(gotLines[min(i, len(gotLines)):min(i+40, len(gotLines))], "\n"))
		}
	}
}

// runLine runs a command line such as "A=b yorvet who 'x y'".
func runLine(t *testing.T, dir, line string) result {
	t.Helper()
	var env []string
	words := split(line)
	for len(words) > 0 && words[0] != "yorvet" {
		env = append(env, words[0])
		words = words[1:]
	}
	if len(words) == 0 {
		t.Fatalf("the line %q does not call yorvet", line)
	}
	return run(t, dir, env, words[1:])
}

// split splits a line at its spaces, but for those between single quotes.
func split(line string) []string {
	var words []string
	for i, part := range strings.Split(line, "'") {
		switch {
		case i%2 == 1 && len(words) > 0 && strings.HasSuffix(words[len(words)-1], "="):
			words[len(words)-1] += part
		case i%2 == 1:
			words = append(words, part)
		default:
			words = append(words, strings.Fields(part)...)
		}
	}
	return words
}

// slowly is how a line begins that tells how far a run is, where that takes a while.
var slowly = regexp.MustCompile(`^[0-9]+ of [0-9]+ sent`)

// answered writes a result as it stands in a script.
func answered(r result) string {
	var b strings.Builder
	for line := range strings.Lines(strings.ReplaceAll(r.stdout, "\r\n", "\\r\n")) {
		if strings.HasPrefix(line, "$ ") || strings.HasPrefix(line, "#") || strings.HasPrefix(line, "-- ") {
			b.WriteString("\\")
		}
		b.WriteString(line)
	}
	for line := range strings.Lines(r.stderr) {
		if !slowly.MatchString(line) {
			b.WriteString("! " + line)
		}
	}
	if r.code != 0 {
		fmt.Fprintf(&b, "[exit %d]\n", r.code)
	}
	return b.String()
}

// The demo runs from an empty folder, in at most 60 lines of 80 columns,
// and again over its own files. It does not touch files that it did not write.
func TestDemo(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	first := run(t, dir, nil, []string{"demo", "ferries"})
	if first.code != 0 || first.stderr != "" {
		t.Fatalf("demo ended with %d: %s", first.code, first.stderr)
	}
	lines := strings.Split(strings.TrimRight(first.stdout, "\n"), "\n")
	if len(lines) > 60 || slices.ContainsFunc(lines, func(line string) bool { return len(line) > 80 }) {
		t.Errorf("the demo has %d lines:\n%s", len(lines), first.stdout)
	}
	repeats(t, filepath.Join(dir, "ferries"), first.stdout)
	again := run(t, dir, nil, []string{"demo", "ferries"})
	if again.code != 0 || again.stdout != first.stdout {
		t.Errorf("the second demo ended with %d: %s\n%s\nthe first:\n%s", again.code, again.stderr, again.stdout, first.stdout)
	}
	groups := filepath.Join(dir, "ferries", "estate", "groups.yaml")
	if err := os.WriteFile(groups, []byte("mine"), 0o644); err != nil {
		t.Fatal(err)
	}
	before := list(t, dir)
	refused := run(t, dir, nil, []string{"demo", "ferries"})
	if refused.code != 2 || refused.stdout != "" || !strings.Contains(refused.stderr, "groups.yaml") {
		t.Errorf("over a file of somebody else's it ended with %d: %s%s", refused.code, refused.stdout, refused.stderr)
	}
	if after := list(t, dir); after != before {
		t.Errorf("it changed files:\n%s\nwere\n%s", after, before)
	}
	// What the demo wrote in an earlier version is its own, too: the record knows.
	if err := os.Remove(groups); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("people.csv", groups); err != nil {
		t.Fatal(err)
	}
	if refused := run(t, dir, nil, []string{"demo", "ferries"}); refused.code != 2 {
		t.Errorf("over a link it ended with %d", refused.code)
	}
}

// In the demo's folder, every command that the demo and its tour show can be repeated, with
// nothing added, and answers what they show.
func TestTourCommandsCanBeRepeated(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	tour := run(t, dir, nil, []string{"demo", "--tour"})
	if tour.code != 0 {
		t.Fatal(tour.stderr)
	}
	repeats(t, filepath.Join(dir, "yorvet-demo"), tour.stdout)
}

// repeats runs the commands that a demo shows, in its folder, and expects what it shows of each.
func repeats(t *testing.T, dir, demo string) {
	t.Helper()
	commands := 0
	for part := range strings.SplitSeq(demo, "\n$ ") {
		line, shown, ok := strings.Cut(part, "\n")
		if !ok || !strings.HasPrefix(line, "yorvet ") || strings.Contains(line, " probe ") {
			continue // the stand-in that a probe is sent to ends with the demo
		}
		commands++
		again := runLine(t, dir, line)
		if again.code > 1 {
			t.Errorf("%s ends with %d: %s", line, again.code, again.stderr)
		}
		for said := range strings.Lines(shown) {
			if said == "\n" {
				break // what comes next is another step
			}
			if said != "  [...]\n" && !strings.Contains(again.stdout, said) {
				t.Errorf("%s does not say %q in\n%s", line, said, again.stdout)
			}
		}
	}
	if commands < 3 {
		t.Errorf("%d commands are shown", commands)
	}
}

// A folder that holds something else is left alone, and so is one with --write-only shown.
func TestDemoKeepsApart(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "mine"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	before := list(t, dir)
	if refused := run(t, dir, nil, []string{"demo", "."}); refused.code != 2 || !strings.Contains(refused.stderr, "holds other files, such as mine") || list(t, dir) != before {
		t.Errorf("among other files it ends with %d: %s", refused.code, refused.stderr)
	}
	if written := run(t, dir, nil, []string{"demo", "new", "--write-only"}); written.code != 0 || strings.Count(written.stdout, "\n") != 1 {
		t.Errorf("it ends with %d: %s%s", written.code, written.stdout, written.stderr)
	}
	if one := run(t, dir, nil, []string{"demo", "new", "--step", "8"}); one.code != 0 || !strings.HasPrefix(one.stdout, "8. ") || strings.Contains(one.stdout, "9. ") {
		t.Errorf("one step ends with %d: %s%s", one.code, one.stdout, one.stderr)
	}
	// Without --on, somebody joined a week ago, whatever day it is.
	who := run(t, filepath.Join(dir, "new"), nil, []string{"who", "posts", "lost-property"})
	if !strings.Contains(who.stdout, "45 of 46 people may post, 1 held") {
		t.Errorf("today: %s%s", who.stdout, who.stderr)
	}
}

// Every command has help with an example from the demo, and there is a version.
func TestHelp(t *testing.T) {
	for _, args := range [][]string{{}, {"--help"}, {"who", "--help"}, {"who", "posts", "--help"}, {"who", "receives", "-h"}, {"explain", "--help"}, {"help", "demo"}} {
		help := run(t, t.TempDir(), nil, args)
		if help.code != 0 || help.stderr != "" || !strings.Contains(help.stdout, "yorvet demo") && !strings.Contains(help.stdout, "kelpmere.example") {
			t.Errorf("%v ends with %d and says\n%s%s", args, help.code, help.stdout, help.stderr)
		}
	}
	for _, command := range []string{"log", "report"} { // which have two examples
		if help := run(t, t.TempDir(), nil, []string{command, "--help"}); strings.Contains(help.stdout, `\x0a`) || strings.Count(help.stdout, " yorvet "+command) < 2 {
			t.Errorf("%s shows a line break as an escape:\n%s", command, help.stdout)
		}
	}
	if version := run(t, t.TempDir(), nil, []string{"--version"}); version.code != 0 || !strings.HasPrefix(version.stdout, "yorvet version ") {
		t.Errorf("the version is %q", version.stdout)
	}
}

// list returns the files below a folder with their content.
func list(t *testing.T, dir string) string {
	t.Helper()
	var b strings.Builder
	err := filepath.WalkDir(dir, func(path string, entry os.DirEntry, err error) error {
		if err == nil && !entry.IsDir() {
			data, _ := os.ReadFile(path)
			fmt.Fprintf(&b, "%s %q\n", path, data)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// TestReadme runs the commands of the README on its first estate, and compares

// await waits until something of another process is so, however busy this machine is: what
// never becomes so ends with the test's own time.
func await(t *testing.T, is func() bool) {
	t.Helper()
	for tick := time.Tick(10 * time.Millisecond); !is(); {
		select {
		case <-t.Context().Done():
			t.Fatal("the test has ended before that")
		case <-tick:
		}
	}
}
