package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"yorvet.example/yorvet/internal/golden"
)

// document is one of the documents, which are checked against what the program does.
type document struct {
	t        *testing.T
	name     string
	dir      string // where its commands run: the demo's folder, or that of an estate it writes down
	commands int
}

// Every command in every document can be run. Where the answer stands below it, that is
// what the program answers; a line [...] stands for any lines.
func TestDocuments(t *testing.T) {
	t.Parallel()
	names, err := filepath.Glob("../../docs/*.md")
	if err != nil || len(names) < 10 {
		t.Fatal(names, err)
	}
	var total atomic.Int64
	t.Run("each", func(t *testing.T) {
		for _, name := range append(names, "../../README.md") {
			t.Run(filepath.Base(name), func(t *testing.T) {
				t.Parallel()
				data, err := os.ReadFile(name)
				if err != nil {
					t.Fatal(err)
				}
				d := &document{t: t, name: filepath.Base(name)}
				checked := d.check(string(data))
				total.Add(int64(d.commands))
				if checked == string(data) {
					return
				}
				if !golden.Updating() {
					t.Errorf("%s differs from what the program answers; go test ./cmd/yorvet -update writes it", d.name)
				} else if err := os.WriteFile(name, []byte(checked), 0o644); err != nil {
					t.Fatal(err)
				}
			})
		}
	})
	if total.Load() < 60 {
		t.Errorf("there are %d commands in all documents", total.Load())
	}
}

var fence = regexp.MustCompile("(?ms)^```([a-z]*)\n(.*?)^```$")

// check runs the commands of a document, and returns it with the answers of today.
func (d *document) check(text string) string {
	prose := fence.ReplaceAllString(text, "")
	for _, found := range regexp.MustCompile("`(yorvet [^`]+)`").FindAllStringSubmatch(prose, -1) {
		d.known(found[1])
	}
	return fence.ReplaceAllStringFunc(text, func(block string) string {
		parts := fence.FindStringSubmatch(block)
		switch parts[1] {
		case "yaml":
			if strings.HasPrefix(parts[2], "yorvet: 1\n") {
				d.dir = d.t.TempDir()
				d.write("estate.yaml", parts[2])
			}
		case "sh":
			for line := range strings.Lines(parts[2]) {
				if line = strings.TrimSpace(line); strings.HasPrefix(line, "yorvet ") {
					d.shell(line)
				}
			}
		case "console":
			return "```console\n" + d.console(parts[2]) + "```"
		}
		return block
	})
}

func (d *document) write(name, text string) {
	d.t.Helper()
	path := filepath.Join(d.dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		d.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		d.t.Fatal(err)
	}
}

// demo makes the folder that most documents speak of: the demo with its history, its
// connections, and the files that a directory and a mail server would give.
func (d *document) demo() {
	d.t.Helper()
	if d.dir != "" {
		return
	}
	d.dir = filepath.Join(d.t.TempDir(), "yorvet-demo")
	for _, line := range []string{"demo . --write-only", "export --as ldif -o people.ldif"} {
		if err := os.MkdirAll(d.dir, 0o755); err != nil {
			d.t.Fatal(err)
		}
		if r := run(d.t, d.dir, nil, append([]string{"--on", "2026-11-23"}, strings.Fields(line)...)); r.code > 1 {
			d.t.Fatalf("%s: %s", line, r.stderr)
		}
	}
	d.write("aliases", "postmaster: tam.weld\nlost: tam.weld, piers.oake\n")
	d.write("hq.yaml", "yorvet-source: 1\nname: hq-directory\nformat: ldif\npath: people.ldif\n")
	d.write("connections.yaml", "yorvet-connections: 1\n")
	git := func(args ...string) {
		cmd := exec.Command("git", append([]string{"-c", "user.name=Demo", "-c", "user.email=demo@kelpmere.example"}, args...)...)
		cmd.Dir = d.dir
		if out, err := cmd.CombinedOutput(); err != nil {
			d.t.Fatalf("git %v: %s", args, out)
		}
	}
	git("init", "-q")
	git("add", "-A")
	git("commit", "-qm", "One")
	git("commit", "-qm", "Two", "--allow-empty")
}

// ahead are words of commands that need a server, a run or what only the reader has: of
// these, it is checked that the program knows the command and its flags.
var ahead = []string{"--send", "standin", "RUN", "PORT", "--resume", "GROUP", "ADDRESS", "SHELL", "TOPIC", "FILE", "DIR", "NAME", "FORMAT", "...",
	"probe", "rollcall", "held", "import", "hq.yaml", "export", "completion", "--yes", "STEP", "member add", "member remove", "undo"}

// shell runs a command, without its answer.
func (d *document) shell(line string) {
	line, _, _ = strings.Cut(line, " # ")
	line, _, _ = strings.Cut(line, " > ")
	line = strings.TrimSpace(line)
	d.known(line)
	if slices.ContainsFunc(ahead, func(word string) bool { return strings.Contains(line, word) }) {
		return
	}
	d.demo()
	if r := run(d.t, d.dir, []string{"PATH=" + os.Getenv("PATH")}, split(line)[1:]); r.code > 1 {
		d.t.Errorf("%s: %s ends with %d: %s", d.name, line, r.code, r.stderr)
	}
}

// console runs commands and returns them with their answers.
func (d *document) console(text string) string {
	d.demo()
	var b strings.Builder
	for part := range strings.SplitSeq("\n"+strings.TrimRight(text, "\n"), "\n$ ") {
		if part == "" {
			continue
		}
		line, shown, _ := strings.Cut(part, "\n")
		d.commands++
		answer := runLine(d.t, d.dir, line+" ")
		if answer.code > 1 {
			d.t.Errorf("%s: %s ends with %d: %s", d.name, line, answer.code, answer.stderr)
		}
		b.WriteString("$ " + line + "\n")
		if !strings.Contains("\n"+shown+"\n", "\n[...]\n") {
			b.WriteString(answer.stdout)
			continue
		}
		at := 0
		for piece := range strings.SplitSeq("\n"+shown+"\n", "\n[...]\n") {
			piece = strings.Trim(piece, "\n")
			i := strings.Index(answer.stdout[at:], piece)
			if i < 0 {
				d.t.Errorf("%s: %s does not answer\n%s\nbut\n%s", d.name, line, piece, answer.stdout)
				break
			}
			at += i + len(piece)
		}
		b.WriteString(shown + "\n")
	}
	return b.String()
}

var flagWord = regexp.MustCompile(`^--[a-z-]+`)

// known checks that the program has a command, with the flags that are named.
func (d *document) known(line string) {
	d.commands++
	line = strings.NewReplacer(`\|`, "|", "[", " ", "]", " ").Replace(line)
	var words, flags []string
	value := false
	for _, word := range strings.Fields(line)[1:] {
		switch flag := flagWord.FindString(word); {
		case flag != "":
			flags, value = append(flags, flag), true
		case value:
			value = false
		default:
			words = append(words, strings.Split(word, "|")[0])
		}
	}
	help := run(d.t, d.t.TempDir(), nil, []string{"--help"}).stdout
	all := help
	path := []string{}
	for _, word := range words {
		if !regexp.MustCompile(`(?m)^  ` + regexp.QuoteMeta(word) + ` `).MatchString(section(help, "Commands")) {
			break
		}
		path = append(path, word)
		help = run(d.t, d.t.TempDir(), nil, append(slices.Clone(path), "--help")).stdout
	}
	if len(path) == 0 && len(words) > 0 && words[0] != "help" && words[0] != strings.ToUpper(words[0]) {
		d.t.Errorf("%s: %q is no command", d.name, line)
	}
	for _, flag := range flags {
		if !strings.Contains(help+all, "  "+flag) {
			d.t.Errorf("%s: %q: yorvet %s has no %s", d.name, line, strings.Join(path, " "), flag)
		}
	}
}

// section returns the lines of a help page below a heading.
func section(help, title string) string {
	_, rest, _ := strings.Cut(help, "\n"+title+"\n")
	rest, _, _ = strings.Cut(rest, "\n\n")
	return rest
}

// None of the words that are not to be used stands in a document, in help, or in what the
// program answers in any script.
func TestDropList(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("testdata/drop-list")
	if err != nil {
		t.Fatal(err)
	}
	var words []string
	for word := range strings.Lines(string(data)) {
		words = append(words, regexp.QuoteMeta(strings.TrimSpace(word)))
	}
	drop := regexp.MustCompile(`(?i)\b(` + strings.Join(words, "|") + `)\b`)
	look := func(name string, text []byte) {
		for i, line := range bytes.Split(text, []byte("\n")) {
			if found := drop.Find(line); found != nil {
				t.Errorf("%s:%d: %q in %s", name, i+1, found, line)
			}
		}
	}
	var files []string
	for _, pattern := range []string{"../../docs/*.md", "../../*.md", "testdata/*.txtar"} {
		found, err := filepath.Glob(pattern)
		if err != nil || len(found) == 0 {
			t.Fatal(pattern, err)
		}
		files = append(files, found...)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		look(filepath.Base(file), text)
	}
	for _, page := range helpPages(t, nil) {
		look("help", []byte(page))
	}
}

// helpPages returns the help of a command and of all below it.
func helpPages(t *testing.T, path []string) []string {
	help := run(t, t.TempDir(), nil, append(slices.Clone(path), "--help"))
	if help.code != 0 {
		t.Fatalf("%v: %s", path, help.stderr)
	}
	pages := []string{help.stdout}
	for line := range strings.Lines(section(help.stdout, "Commands") + "\n") {
		if name, _, _ := strings.Cut(strings.TrimPrefix(line, "  "), " "); strings.HasPrefix(line, "  ") && name != "" {
			pages = append(pages, helpPages(t, append(slices.Clone(path), name))...)
		}
	}
	return pages
}
