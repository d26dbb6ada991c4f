package selector

import (
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"anyone", "anyone"},
		{" nobody ", "nobody"},
		{"inside or outside and known", "inside or outside and known"},
		{"(inside or outside) and known", "(inside or outside) and known"},
		{"((inside))", "inside"},
		{"not not inside", "not not inside"},
		{"not (inside or known)", "not (inside or known)"},
		{"not(inside)or(known)", "not inside or known"},
		{"members or owners or moderators", "members or owners or moderators"},
		{"newcomers(14d)", "newcomers(14d)"},
		{"newcomers ( 14d )", "newcomers(14d)"},
		{"larger(10MB)", "larger(10000000)"},
		{"larger(3 kB) or larger(7)", "larger(3000) or larger(7)"},
		{"larger(2GB)", "larger(2000000000)"},
		{"in deck@x.example", "in deck@x.example"},
		{"Ines.Maro@X.example", "Ines.Maro@X.example"},
		{"or@x.example or not@x.example", "or@x.example or not@x.example"},
		{`"a b"@x.example or inside`, `"a b"@x.example or inside`},
		{`"a\"(b"@x.example`, `"a\"(b"@x.example`},
		{"@X.example", "@x.example"},
		{"@*.x.example", "@*.x.example"},
		{"@bücher.example", "@xn--bcher-kva.example"},
		{"where (a=b) or inside", "where (a=b) or inside"},
		{"where(a=b c)", "where (a=b c)"},
		{"where (&(a=b)(!(c=*)))and inside", "where (&(a=b)(!(c=*))) and inside"},
		{"unproven\n\tor suspect\r\n or automatic or invitation", "unproven or suspect or automatic or invitation"},
	} {
		x, err := Parse(c.in, ForMessages)
		if err != nil {
			t.Errorf("Parse(%q): %v", c.in, err)
			continue
		}
		if x.String() != c.want {
			t.Errorf("Parse(%q) = %q, want %q", c.in, x, c.want)
		}
		again, err := Parse(x.String(), ForMessages)
		if err != nil || again.String() != x.String() {
			t.Errorf("Parse(%q) = %v, %v, want itself", x, again, err)
		}
	}
}

// The spot of each error is between two § in the input.
func TestParseErrors(t *testing.T) {
	for _, c := range []struct{ in, reason, nearest string }{
		{"§§", "not the end", ""},
		{"§memebrs§", "unknown word", "members"},
		{"§Anyone§", "unknown word", "anyone"},
		{"inside or §outsdie§", "unknown word", "outside"},
		{"inside or§§", "not the end", ""},
		{"inside and §or§ known", "before \"or\"", ""},
		{"inside §known§", `expected "and", "or" or the end`, ""},
		{"inside §an§ known", `expected "and"`, "and"},
		{"§(§inside", "never closed", ""},
		{"inside§)§", "closes nothing", ""},
		{"(inside §known§)", `expected "and"`, ""},
		{"(inside or §)§", `before ")"`, ""},
		{"newcomers§§", "as in newcomers(14d)", ""},
		{"newcomers(§14§)", "such as 14d", ""},
		{"newcomers§(§", "never closed", ""},
		{"newcomers(§-1d§)", "such as 14d", ""},
		{"newcomers(§99999999999999d§)", "too large", ""},
		{"larger(§10KB§)", "unknown unit", ""},
		{"larger(§1.5MB§)", "expected a size", ""},
		{"larger(§99999999999GB§)", "too large", ""},
		{"larger(§§)", "expected a size", ""},
		{"in §deck§", "address of a group", ""},
		{"in§§", "address of a group", ""},
		{"deck@§-x.example§", "hyphen", ""},
		{"in deck@x§_y§", "does not take", ""},
		{"§@§", "no domain", ""},
		{"@x§_y§", "does not take", ""},
		{`§"a@x.example§`, "never closed", ""},
		{"where §§", "expected a filter", ""},
		{"where §i§nside", "expected a filter", ""},
		{"where (a§~§=b)", "not supported", ""},
		{`inside §because§ "x"`, `expected "and"`, ""},
	} {
		parts := strings.Split(c.in, "§")
		in := strings.Join(parts, "")
		_, err := Parse(in, ForMessages)
		var bad *SyntaxError
		if !errors.As(err, &bad) {
			t.Errorf("Parse(%q) = %v, want a SyntaxError", in, err)
			continue
		}
		if !strings.Contains(bad.Reason, c.reason) || bad.Nearest != c.nearest || bad.Offset != len(parts[0]) {
			t.Errorf("Parse(%q) = %q (%q) at %d, want %q (%q) at %d", in, bad.Reason, bad.Nearest, bad.Offset, c.reason, c.nearest, len(parts[0]))
		}
		if len(parts) > 2 && parts[1] != "" && bad.Length != len(parts[1]) {
			t.Errorf("Parse(%q): the spot has %d bytes, want %d", in, bad.Length, len(parts[1]))
		}
	}
}

func TestScope(t *testing.T) {
	for _, atom := range []string{"unproven", "suspect", "automatic", "invitation", "larger(1MB)"} {
		if _, err := Parse("inside and "+atom, ForMessages); err != nil {
			t.Errorf("%s in a gate: %v", atom, err)
		}
		if _, err := Parse("inside and "+atom, ForPeople); err == nil || !strings.Contains(err.Error(), "about a message") {
			t.Errorf("%s about people: %v, want an error", atom, err)
		}
	}
	_, err := ParseRule(`as inside because "x"`, []string{"as", "for"}, ForPeople)
	if err == nil || !strings.Contains(err.Error(), "rules of a gate") {
		t.Errorf("because in a send-as: %v, want an error", err)
	}
}

func TestParseRule(t *testing.T) {
	verdicts := []string{"admit", "hold", "refuse", "drop"}
	for _, c := range []struct{ in, head, selector, because string }{
		{"admit inside", "admit", "inside", ""},
		{`refuse unproven because "Sign in."`, "refuse", "unproven", "Sign in."},
		{`drop suspect because "say \"please\"; C:\\x or C:\y"`, "drop", "suspect", `say "please"; C:\x or C:\y`},
		{`hold where (a="b) because ""`, "hold", `where (a="b)`, ""},
	} {
		rule, err := ParseRule(c.in, verdicts, ForMessages)
		if err != nil {
			t.Errorf("ParseRule(%q): %v", c.in, err)
			continue
		}
		if rule.Head != c.head || rule.Selector.String() != c.selector || rule.Because != c.because || rule.Text != c.in {
			t.Errorf("ParseRule(%q) = %+v", c.in, rule)
		}
	}
	for _, c := range []struct{ in, reason string }{
		{"allow inside", "expected admit, hold, refuse or drop"},
		{"", "not the end"},
		{"admit", "not the end"},
		{"admit inside because", "expected a text in double quotes"},
		{"admit inside because no", "expected a text in double quotes"},
		{`admit inside because "no`, "never closed"},
		{`admit inside because "no" or`, "expected the end after the text"},
		{`admit inside because "no"x`, "expected the end after the text"},
		{`admit inside because ""x`, "expected the end after the text"},
	} {
		if _, err := ParseRule(c.in, verdicts, ForMessages); err == nil || !strings.Contains(err.Error(), c.reason) {
			t.Errorf("ParseRule(%q) = %v, want %q", c.in, err, c.reason)
		}
	}
	var bad *SyntaxError
	if _, err := ParseRule("admti inside", verdicts, ForMessages); !errors.As(err, &bad) || bad.Nearest != "admit" || !strings.Contains(bad.Error(), `did you mean "admit"?`) {
		t.Errorf("the error for admti is %v", err)
	}
}

func TestDepth(t *testing.T) {
	for _, deep := range []string{
		strings.Repeat("(", 100000) + "inside" + strings.Repeat(")", 100000),
		strings.Repeat("not ", 100000) + "inside",
		"where " + strings.Repeat("(!", 100000) + "(a=b)" + strings.Repeat(")", 100000),
	} {
		if _, err := Parse(deep, ForMessages); err == nil || !strings.Contains(err.Error(), "nested deeper") || len(err.Error()) > 300 {
			t.Errorf("a selector of depth 100000: %.300v", err)
		}
	}
	wide := strings.Repeat("inside or ", 100000) + "known"
	if x, err := Parse(wide, ForMessages); err != nil || len(x.(Or)) != 100001 {
		t.Errorf("a wide selector: %v", err)
	}
}

// Eval and Witness have to agree, and the answers of Witness have to settle the
// value whatever the other atoms are.
func TestWitness(t *testing.T) {
	words := []string{"anyone", "inside", "known", "members", "owners", "suspect"}
	random := rand.New(rand.NewPCG(1, 2))
	var build func(depth int) string
	build = func(depth int) string {
		switch n := random.IntN(5); {
		case depth == 0 || n < 2:
			return words[random.IntN(len(words))]
		case n == 2:
			return "not " + build(depth-1)
		case n == 3:
			return "(" + build(depth-1) + " or " + build(depth-1) + ")"
		}
		return "(" + build(depth-1) + " and " + build(depth-1) + ")"
	}
	for range 3000 {
		text := build(4)
		x, err := Parse(text, ForMessages)
		if err != nil {
			t.Fatalf("Parse(%q): %v", text, err)
		}
		truth := map[Kind]bool{}
		for kind := range Kind(20) {
			truth[kind] = random.IntN(2) == 0
		}
		ask := func(a *Atom) bool { return truth[a.Kind] }
		want := Eval(x, ask)
		got, answers := Witness(x, ask)
		if got != want {
			t.Fatalf("%s: Witness is %t, Eval %t", text, got, want)
		}
		settled := map[Kind]bool{}
		for _, answer := range answers {
			if answer.True != truth[answer.Atom.Kind] {
				t.Fatalf("%s: the answer for %s is %t", text, answer.Atom, answer.True)
			}
			settled[answer.Atom.Kind] = true
		}
		other := Eval(x, func(a *Atom) bool {
			if settled[a.Kind] {
				return truth[a.Kind]
			}
			return random.IntN(2) == 0
		})
		if other != want {
			t.Fatalf("%s: the answers %v do not settle %t", text, answers, want)
		}
	}
}

func TestAtoms(t *testing.T) {
	x, err := Parse("inside and not (known or in a@x.example) or where (a=b)", ForMessages)
	if err != nil {
		t.Fatal(err)
	}
	var seen []string
	Atoms(x, func(a *Atom) {
		if got := "inside and not (known or in a@x.example) or where (a=b)"[a.Offset:]; !strings.HasPrefix(got, a.Text) {
			t.Errorf("%q is not at %d", a.Text, a.Offset)
		}
		seen = append(seen, a.Text)
	})
	if got := strings.Join(seen, "|"); got != "inside|known|in a@x.example|where (a=b)" {
		t.Errorf("the atoms are %s", got)
	}
}

func FuzzParseSelector(f *testing.F) {
	for _, seed := range []string{
		"anyone", "not (inside or @x.example) and newcomers(14d)", `"a b"@x or larger(10MB)`,
		"where (&(a=b*c)(|(d>=7)(!(e=*))))", `refuse unproven because "no \" way"`, "in a@b", "((", "@*.x",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		check := func(err error) {
			var bad *SyntaxError
			if !errors.As(err, &bad) || bad.Offset < 0 || bad.Offset+bad.Length > len(text)+1 || bad.Length < 0 {
				t.Fatalf("%q: %#v", text, err)
			}
		}
		if rule, err := ParseRule(text, []string{"admit", "refuse"}, ForMessages); err != nil {
			check(err)
		} else if rule.Selector == nil {
			t.Fatalf("%q is a rule without a selector", text)
		}
		x, err := Parse(text, ForMessages)
		if err != nil {
			check(err)
			return
		}
		again, err := Parse(x.String(), ForMessages)
		if err != nil || again.String() != x.String() {
			t.Fatalf("%q is %q, which parses to %v, %v", text, x, again, err)
		}
		Atoms(x, func(a *Atom) {
			if !strings.HasPrefix(text[a.Offset:], a.Text) || a.Text == "" {
				t.Fatalf("%q: the atom %q is not at %d", text, a.Text, a.Offset)
			}
		})
	})
}
