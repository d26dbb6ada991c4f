package yorvet

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// layers are the packages from the bottom up: each uses none that stand above it, or
// beside it.
var layers = []string{
	"internal/core/address internal/core/nearest internal/core/schedule internal/rude internal/freeport internal/harmless internal/golden internal/campaign internal/mutate internal/core",
	"internal/core/selector",
	"internal/core/estate",
	"internal/core/change internal/core/resolve",
	"internal/core/message internal/core/preset internal/core/hazard internal/core/change/changetest",
	"internal/core/expect internal/core/infer internal/core/effect internal/core/choose",
	"internal/core/trail",
	"internal/clock docs .",
	"internal/localfile",
	"internal/secret internal/yamlfile internal/revision internal/demo internal/estatefile internal/undo " +
		"internal/store/storetest",
	"internal/endpoint internal/sample internal/mail/compose internal/mail/read internal/directory/paste",
	"internal/mail/send internal/mail/mailbox internal/directory internal/store",
	"internal/connections internal/directory/aliases internal/directory/ldap internal/directory/ldif " +
		"internal/directory/vcard internal/directory/records internal/directory/draft",
	"internal/directory/scim internal/directory/table internal/agent",
	"internal/directory/handout internal/source internal/standin internal/probe internal/maillog",
	"internal/present",
	"internal/history",
	"internal/report",
	"internal/ask",
	"internal/watch internal/propose",
	"internal/cli",
	"cmd/yorvet",
}

// workedOut are packages that commands do not use by themselves.
var workedOut = []string{
	"core/change", "core/effect", "core/infer", "core/message", "core/choose", "directory", "directory/paste", "report",
	"mail/compose", "mail/send", "mail/read",
}

// A command asks no other command: the whole program is run by a command line at one place, its entrance.
func TestCommandsAreRunOnce(t *testing.T) {
	files, err := filepath.Glob("internal/cli/*.go")
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	runs := 0
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		n := len(regexp.MustCompile(`(\broot|\))\.Run\(ctx|[^.\w]Run\(ctx`).FindAll(text, -1))
		if runs += n; n > 0 && filepath.Base(file) != "app.go" {
			t.Errorf("%s runs a command line", file)
		}
	}
	if runs == 0 {
		t.Error("nothing runs a command line: the pattern is no good")
	}
}

// Nothing runs back up, and every package has its place.
func TestLayers(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	const module = "yorvet.example/yorvet"
	place := map[string]int{}
	for i, layer := range layers {
		for _, name := range strings.Fields(layer) {
			if name == "." {
				place[module] = i
			} else {
				place[module+"/"+name] = i
			}
		}
	}
	packages := map[string]bool{}
	for line := range strings.Lines(string(out)) {
		names := strings.Fields(line)
		packages[names[0]] = true
		own, ok := place[names[0]]
		if !ok {
			t.Errorf("%s has no place among the layers", names[0])
		}
		for _, used := range names[1:] {
			if at, ours := place[used]; ours && at >= own {
				t.Errorf("%s uses %s, which stands above it", names[0], used)
			} else if !ours && strings.HasPrefix(used, module) {
				t.Errorf("%s uses %s, which has no place among the layers", names[0], used)
			}
		}
		// Commands parse and print. What they are about is worked out by functions that take values.
		if names[0] == module+"/internal/cli" {
			for _, used := range names[1:] {
				if slices.Contains(workedOut, strings.TrimPrefix(used, module+"/internal/")) {
					t.Errorf("%s uses %s: that is for the functions of ask and propose", names[0], used)
				}
			}
		}
		// What prints uses nothing that reads, waits or writes, but what a probe has seen.
		if names[0] == module+"/internal/present" {
			for _, used := range names[1:] {
				if strings.HasPrefix(used, module) && !strings.HasPrefix(used, module+"/internal/core/") && used != module+"/internal/probe" && used != module+"/internal/harmless" ||
					slices.Contains([]string{"os", "net", "io/fs", "os/exec"}, used) {
					t.Errorf("%s uses %s, and is to print only", names[0], used)
				}
			}
		}
	}
	for name := range place {
		if !packages[name] {
			t.Errorf("%s has a place among the layers, and is no package", name)
		}
	}
}

// What reaches a server by itself does so with bounds, meets servers that behave badly in its tests, and has a
// fuzz target of what a server may say.
func TestProtocolsMeetRudeServers(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.Dir}} {{.ImportPath}} {{join .TestImports " "}} {{join .XTestImports " "}}`, "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	dials, fuzzes := regexp.MustCompile(`\.Dial\(ctx\)`), regexp.MustCompile(`(?m)^func Fuzz`)
	found := 0
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		var code, tests strings.Builder
		files, _ := filepath.Glob(filepath.Join(fields[0], "*.go"))
		for _, file := range files {
			text, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			if strings.HasSuffix(file, "_test.go") {
				tests.Write(text)
			} else {
				code.Write(text)
			}
		}
		if fields[1] == "yorvet.example/yorvet/internal/endpoint" || !dials.MatchString(code.String()) {
			continue
		}
		found++
		if !slices.Contains(fields[2:], "yorvet.example/yorvet/internal/rude") {
			t.Errorf("%s reaches servers, and its tests do not know the rude ones", fields[1])
		}
		if !fuzzes.MatchString(tests.String()) {
			t.Errorf("%s reaches servers, and has no fuzz target", fields[1])
		}
	}
	if found == 0 {
		t.Error("nothing reaches servers")
	}
}

// The clock is read in one place: whatever else asks for the time would not follow a build
// that lives on another day.
func TestClockIsReadInOnePlace(t *testing.T) {
	files := token.NewFileSet()
	for _, path := range goFiles(t) {
		if strings.HasPrefix(path, "internal/clock/") || strings.HasPrefix(path, "release/") {
			continue
		}
		file, err := parser.ParseFile(files, path, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok && slices.Contains([]string{"Now", "Since", "Until"}, s.Sel.Name) {
				if of, ok := s.X.(*ast.Ident); ok && of.Name == "time" {
					t.Errorf("%s: time.%s, where clock.%s is asked", files.Position(s.Pos()), s.Sel.Name, s.Sel.Name)
				}
			}
			return true
		})
	}
}

// goFiles returns the paths of the Go files of the repository.
func goFiles(t *testing.T) []string {
	out, err := exec.Command("git", "ls-files", "*.go").Output()
	if err != nil {
		t.Skip("this is no clone of the repository: ", err)
	}
	return strings.Fields(string(out))
}

// identifier is a word that can only be a name of the code.
var identifier = regexp.MustCompile(`^[A-Za-z]+[a-z][A-Z]\w*$`)

// stated is a word that a comment on a field says something about.
var stated = regexp.MustCompile(`^([A-Z][A-Za-z]*) (is|are|says|say|returns|has|have|holds|reports|gets|maps|stands|was|were)\b`)

// A comment on something begins with its name, not with one that it had.
func TestCommentsNameWhatTheyAreOf(t *testing.T) {
	files := token.NewFileSet()
	check := func(name string, doc *ast.CommentGroup, at token.Pos) {
		words := strings.Fields(doc.Text())
		if len(words) > 1 && slices.Contains([]string{"A", "An", "The"}, words[0]) {
			words = words[1:]
		}
		if len(words) > 0 && identifier.MatchString(words[0]) && words[0] != name {
			t.Errorf("%s: the comment on %s begins with %s", files.Position(at), name, words[0])
		}
	}
	for _, path := range goFiles(t) {
		file, err := parser.ParseFile(files, path, nil, parser.ParseComments)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if s, ok := n.(*ast.StructType); ok {
				for _, about := range strangers(s) {
					t.Errorf("%s: no field of it is called %s", files.Position(s.Pos()), about)
				}
			}
			return true
		})
		for _, decl := range file.Decls {
			switch d := decl.(type) {
			case *ast.FuncDecl:
				check(d.Name.Name, d.Doc, d.Pos())
				if first, _, _ := strings.Cut(d.Doc.Text(), " "); first != "" && strings.TrimRight(first, ".,:\n") != d.Name.Name &&
					!strings.HasSuffix(path, "_test.go") {
					t.Errorf("%s: the comment on %s begins with %s", files.Position(d.Pos()), d.Name.Name, first)
				}
			case *ast.GenDecl:
				for _, spec := range d.Specs {
					if s, ok := spec.(*ast.TypeSpec); ok {
						check(s.Name.Name, s.Doc, s.Pos())
						check(s.Name.Name, d.Doc, s.Pos())
					}
				}
			}
		}
	}
}

// strangers returns what comments on fields of a struct speak of, and no field is called.
func strangers(s *ast.StructType) (list []string) {
	names := map[string]bool{"What": true}
	for _, f := range s.Fields.List {
		for _, name := range f.Names {
			names[name.Name] = true
		}
	}
	for _, f := range s.Fields.List {
		if found := stated.FindStringSubmatch(f.Doc.Text()); found != nil && !names[found[1]] {
			list = append(list, found[1])
		}
	}
	return list
}
