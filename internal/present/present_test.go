package present

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"unicode"

	xwidth "golang.org/x/text/width"
)

// anyAnswer is an answer with data of any kind.
type anyAnswer struct {
	Value string   `json:"value"`
	rows  [][]Span // of a table
	line  []Span   // a line
	block []block  // blocks
}

func (s anyAnswer) writeText(p *Page) {
	p.Table(s.rows)
	if s.line != nil {
		p.Line(4, s.line...)
	}
	p.blocks("Blocks", s.block)
}

func (s anyAnswer) table(t *table) {
	t.head("value")
	t.row(s.Value)
}

// terminalColumns returns how many columns of a terminal a text takes (Unicode Standard Annex #11).
func terminalColumns(text string) (n int) {
	for _, r := range text {
		if k := xwidth.LookupRune(r).Kind(); k == xwidth.EastAsianWide || k == xwidth.EastAsianFullwidth {
			n++
		}
		if !unicode.Is(unicode.Mn, r) {
			n++
		}
	}
	return n
}

func printed(t *testing.T, s anyAnswer, options Options) string {
	t.Helper()
	var b bytes.Buffer
	if err := Print(&b, s, Text, options); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

func TestClean(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"plain, é, 渡し船", "plain, é, 渡し船"},
		{"\x1b[31mred", `\x1b[31mred`},
		{"a\tb\r\nc\x00\x7f", `a\x09b\x0d\x0ac\x00\x7f`},
		{"\u009b31m", `\u009b31m`},
		{"\u202eevil\u2066", `\u202eevil\u2066`},
		{"a\u2028b", `a\u2028b`},
		{"bad \xff utf", `bad \xff utf`},
		{"real \ufffd", "real \ufffd"},
	} {
		if got := Clean(c.in); got != c.want {
			t.Errorf("Clean(%q) = %q, want %q", c.in, got, c.want)
		}
	}
}

// The text of an answer never brings a control character to the terminal, but
// for the colours that were asked for.
func TestNoControls(t *testing.T) {
	const evil = "\x1b]0;title\a\u202e\u009b1m\r"
	s := anyAnswer{
		rows:  [][]Span{{{Bad, evil}, {Plain, evil}, {Faint, evil}}},
		line:  []Span{{Strong, evil}, {Good, evil}},
		block: []block{{word: Span{Doubtful, evil}, text: evil, place: evil, people: []string{evil}}},
	}
	for _, colour := range []bool{false, true} {
		out := printed(t, s, Options{Width: 80, Colour: colour})
		for _, code := range []string{"\x1b[0m", "\x1b[1m", "\x1b[2m", "\x1b[31m", "\x1b[32m", "\x1b[33m"} {
			if colour {
				out = strings.ReplaceAll(out, code, "")
			}
		}
		for _, r := range out {
			if r != '\n' && (r < ' ' || 0x7f <= r && r <= 0x9f || r == '\u202e') {
				t.Fatalf("colour %t: %q has the control character %q", colour, out, r)
			}
		}
	}
}

// Tables stay within the width, and their columns are aligned whatever the width
// of the characters.
func TestTable(t *testing.T) {
	s := anyAnswer{rows: [][]Span{
		{{Plain, "渡し船"}, {Plain, "first"}, {Plain, strings.Repeat("many words ", 20)}},
		{{Plain, "é"}, {Plain, "second"}, {Plain, "short"}},
	}}
	for _, width := range []int{40, 80, 120} {
		out := printed(t, s, Options{Width: width, Colour: width == 120})
		lines := strings.Split(strings.TrimSuffix(out, "\n"), "\n")
		for _, line := range lines {
			if got := terminalColumns(line); got > width {
				t.Errorf("at %d columns, a line has %d: %q", width, got, line)
			}
		}
		column := func(line, word string) int { return terminalColumns(line[:strings.Index(line, word)]) }
		last := lines[len(lines)-1]
		if column(lines[0], "first") != column(last, "second") || column(lines[0], "many") != column(last, "short") {
			t.Errorf("at %d columns, the columns are not aligned:\n%s", width, out)
		}
	}
}

func TestLinesAndBlocks(t *testing.T) {
	s := anyAnswer{line: []Span{{Plain, "  " + strings.Repeat("word ", 30)}}, block: []block{
		{word: Span{Bad, "stopped"}, text: "why", place: "a.yaml:1:2", people: strings.Split("abcdefghijkl", "")},
		{word: Span{Good, "inbox"}, text: "so", people: []string{"z"}},
		{word: Span{Good, "digest"}, via: "x", people: []string{"y"}, places: []string{"b.yaml:3:4"}},
		{word: Span{Bad, "late"}, people: []string{"v", "w"}, places: []string{"c.yaml:5:6", "c.yaml:7:8"}},
	}}
	out := printed(t, s, Options{Width: 50})
	for i, line := range strings.Split(out, "\n")[:3] {
		if indent := len(line) - len(strings.TrimLeft(line, " ")); len(line) > 50 || indent != []int{2, 4, 4}[i] {
			t.Errorf("line %d is %q", i, line)
		}
	}
	for _, want := range []string{"Blocks (16)", "  12 stopped: why                       a.yaml:1:2\n    a, b, c, d, e, f and 6 more (--all)\n", "  1 inbox: so\n    z\n", "  1 digest: y, via x                    b.yaml:3:4\n", "  2 late\n    v                                   c.yaml:5:6\n    w                                   c.yaml:7:8\n"} {
		if !strings.Contains(out, want) {
			t.Errorf("there is no %q in\n%s", want, out)
		}
	}
	if all := printed(t, s, Options{Width: 50, All: true}); !strings.Contains(all, "a, b, c, d, e, f, g, h, i, j, k, l\n") || strings.Contains(all, "--all") {
		t.Errorf("with --all:\n%s", all)
	}
}

func TestJSON(t *testing.T) {
	const value = "a\x1b\x7f\u009b\u2028<é>\xff"
	var b bytes.Buffer
	if err := Print(&b, anyAnswer{Value: value}, JSON, Options{}); err != nil {
		t.Fatal(err)
	}
	for _, r := range b.String() {
		if r != '\n' && (r < ' ' || 0x7f <= r && r <= 0x9f) {
			t.Errorf("%q has the control character %q", b.String(), r)
		}
	}
	var back anyAnswer
	if err := json.Unmarshal(b.Bytes(), &back); err != nil || back.Value != strings.ToValidUTF8(value, "\ufffd") {
		t.Errorf("%s is read back as %q, %v", b.String(), back.Value, err)
	}
}

func TestCSV(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"plain", "plain"}, {"=1+1", "'=1+1"}, {"+1", "'+1"}, {"-1", "'-1"}, {"@x", "'@x"}, {"a=b", "a=b"}, {"", ""},
		{"\t=1", `\x09=1`}, {"a,\"b\"", "a,\"b\""}, {"\x1b[m", `\x1b[m`},
	} {
		var b bytes.Buffer
		if err := Print(&b, anyAnswer{Value: c.in}, CSV, Options{}); err != nil {
			t.Fatal(err)
		}
		if !strings.HasSuffix(b.String(), "\r\n") {
			t.Errorf("%q does not end as RFC 4180 wants", b.String())
		}
		rows, err := csv.NewReader(strings.NewReader(b.String())).ReadAll()
		if c.in == "" {
			continue // an empty line is no row for package csv
		}
		if err != nil || len(rows) != 2 || rows[1][0] != c.want {
			t.Errorf("%q becomes %q, %v", c.in, rows, err)
		}
	}
}

// Names in JSON are of one style: words in one, each but the first with a capital letter.
func TestJSONNames(t *testing.T) {
	name := regexp.MustCompile(`json:"([^",]*)`)
	style := regexp.MustCompile(`^(-?|\$schema|p95|[a-z]+([A-Z][a-z]+)*)$`)
	files, err := filepath.Glob("*.go")
	if err != nil || len(files) < 10 {
		t.Fatal(files, err)
	}
	for _, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, match := range name.FindAllSubmatch(data, -1) {
			if !strings.HasSuffix(file, "_test.go") && !style.Match(match[1]) {
				t.Errorf("%s: %s", file, match[1])
			}
		}
	}
}

// Causes that say the same of many people are told once, with all that they explain.
func TestCausesAlike(t *testing.T) {
	cause := func(person, group string, cases ...string) ProbeCause {
		return ProbeCause{Explains: len(cases), Cases: cases, messages: len(cases),
			AsIf: []AsIf{{Says: "the copy of " + person + " in " + group + " is none", Group: group, Person: person, Setting: "members", Value: "copy: none"}}}
	}
	a := &Probe{NotAsPredicted: 7, Causes: []ProbeCause{cause("a@k", "g@k", "1", "2"), cause("b@k", "g@k", "2", "3"), cause("c@k", "g@k", "3"),
		cause("d@k", "h@k", "4"), cause("e@k", "h@k", "4")}}
	var b strings.Builder
	p := newPage(&b, Options{Width: 80})
	a.writeCauses(p)
	_ = p.flush()
	got := b.String()
	for _, want := range []string{"1. Likely cause: the copy of a@k in g@k is none", "Explains 5 of 7, in 3 messages", "The same of 2 other people: b@k, c@k",
		"2. Likely cause: the copy of d@k in h@k is none", "3. Likely cause: the copy of e@k in h@k is none"} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is not in\n%s", want, got)
		}
	}
}

// What servers said comes before what is guessed, and a guess is likely only where nothing equals it.
func TestReasonsFirst(t *testing.T) {
	a := &Probe{Run: "r", Ended: true, NotAsPredicted: 9, Unexplained: 1, settled: 6,
		Cases: []ProbeCase{{Case: "1"}},
		Reasons: []ProbeReason{{Words: "550 5.1.1 nobody", Says: "it is not there", Cases: []string{"1", "2"}},
			{Words: "5.2.2 full", Cases: []string{"3"}, Who: []string{"a@k"}}},
		Causes: []ProbeCause{{Explains: 2, AsIf: []AsIf{{Says: "the copy is none", Setting: "copy"}, {Says: "it was lost"}}}}}
	var b strings.Builder
	p := newPage(&b, Options{Width: 100})
	a.writeText(p)
	_ = p.flush()
	at := 0
	for _, want := range []string{"! What servers said explains 6, 1 cause 2, 1 not explained", "What servers said\n", "messages 1, 2: 550 5.1.1 nobody\n    it is not there",
		"a@k: 5.2.2 full", "1. Likely cause: the copy is none", "or: it was lost"} {
		i := strings.Index(b.String()[at:], want)
		if i < 0 {
			t.Fatalf("%q is not behind what comes before it in\n%s", want, b.String())
		}
		at += i
	}
	setting, lost := AsIf{Setting: "copy"}, AsIf{}
	for _, c := range []struct {
		list     []AsIf
		explains int
		want     string
	}{
		{[]AsIf{setting}, 1, "Likely cause: "}, {[]AsIf{setting, setting}, 5, "One of these: "}, {[]AsIf{setting, lost}, 1, "One of these: "},
		{[]AsIf{setting, lost}, 2, "Likely cause: "},
	} {
		if got := causeWord(c.list, c.explains); got != c.want {
			t.Errorf("%d alternatives, %d explained: %s", len(c.list), c.explains, got)
		}
	}
}
