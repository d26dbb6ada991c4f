package paste

import (
	"fmt"
	"strings"
	"testing"
)

func show(people []Person, remarks []Remark) string {
	var parts []string
	for _, p := range people {
		parts = append(parts, strings.TrimSpace(fmt.Sprintf("%d %s %s", p.Line, p.Address, p.Name)))
	}
	for _, r := range remarks {
		parts = append(parts, fmt.Sprintf("?%d %s", r.Line, r.Text))
	}
	return strings.Join(parts, " | ")
}

func TestParse(t *testing.T) {
	for _, test := range []struct{ in, want string }{
		{"Ann Oake <ann@kelp.example>, bob@kelp.example; cat@kelp.example", "1 ann@kelp.example Ann Oake | 1 bob@kelp.example | 1 cat@kelp.example"},
		{"ann@kelp.example\r\nbob@kelp.example\n\ncat@kelp.example\n", "1 ann@kelp.example | 2 bob@kelp.example | 4 cat@kelp.example"},
		{`"Oake, Ann" <ann@kelp.example>, Lark, Bob <bob@kelp.example>`, "1 ann@kelp.example Oake, Ann | 1 bob@kelp.example Lark, Bob"},
		{"Name\tE-mail\tBase\nAnn\tann@kelp.example\tpier\n\tbob@kelp.example\t\nCat\t\tquay", "2 ann@kelp.example Ann | 3 bob@kelp.example | ?4 Cat\t\tquay"},
		{"name,email\n\"Oake, Ann\",ann@kelp.example\nBob,bob@kelp.example", "2 ann@kelp.example Oake, Ann | 3 bob@kelp.example Bob"},
		{"E-Mail\nann@kelp.example\nnot an address\n", "2 ann@kelp.example | ?3 not an address"},
		{"To: Ann <ann@kelp.example>,\n  bob@kelp.example\nCc: crew: cat@kelp.example;", "1 ann@kelp.example Ann | 2 bob@kelp.example | 3 cat@kelp.example"},
		{"- ann@kelp.example\n2. bob@kelp.example (Bob Lark)\n* [Cat](mailto:cat@kelp.example?subject=x)", "1 ann@kelp.example | 2 bob@kelp.example Bob Lark | 3 cat@kelp.example Cat"},
		{"ann@kelp.example ANN@kelp.example bob@kelp.example", "1 ann@kelp.example | 1 bob@kelp.example | ?1 ANN@kelp.example"},
		{"Ann Oake ann@kelp.example\nbob@kelp.example - Bob", "1 ann@kelp.example Ann Oake | 2 bob@kelp.example Bob"},
		{"<ann@kelp.example> <bob@kelp.example>", "1 ann@kelp.example | 1 bob@kelp.example"},
		{"ann@@kelp.example, bob at kelp", "?1 ann@@kelp.example | ?1 bob at kelp"},
		{"ann@kelp.example,, ;\n\n;", "1 ann@kelp.example"},
		{`"ann smith"@kelp.example`, `1 "ann smith"@kelp.example`},
		{"Oake\tAnn\tann@kelp.example", "1 ann@kelp.example Oake"},
		{"'=ann@kelp.example", "1 =ann@kelp.example"},
		{"(ann@kelp.example", "?1 (ann@kelp.example"},
	} {
		if got := show(Parse(test.in)); got != test.want {
			t.Errorf("Parse(%q)\n got %s\nwant %s", test.in, got, test.want)
		}
	}
}

// A long list is read whole. How fast, the benchmark shows.
func TestParseLong(t *testing.T) {
	var b strings.Builder
	const many = 100_000
	for i := range many {
		fmt.Fprintf(&b, "Person %d <person.%d@kelp.example>%s", i, i, []string{", ", ";\n", "\n"}[i%3])
	}
	people, remarks := Parse(b.String())
	if len(people) != many || len(remarks) > 0 {
		t.Errorf("%d people, %d remarks", len(people), len(remarks))
	}
}

func BenchmarkParse(b *testing.B) {
	var text strings.Builder
	for i := range 100_000 {
		fmt.Fprintf(&text, "Person %d <person.%d@kelp.example>%s", i, i, []string{", ", ";\n", "\n"}[i%3])
	}
	b.SetBytes(int64(text.Len()))
	for b.Loop() {
		Parse(text.String())
	}
}

// Whatever is pasted, every address that is found stands there, and every line
// that holds an @ is heard of.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"Ann <ann@kelp.example>, b@c; d", "Name\tMail\nA\ta@b.example", "\"x, y\" <a@b>(c)", "To: a@b\n1. <c@d>"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		people, remarks := Parse(text)
		heard := map[int]bool{}
		folded := strings.ToLower(text)
		for _, p := range people {
			heard[p.Line] = true
			if !strings.Contains(folded, strings.ToLower(p.Address.String())) {
				t.Errorf("found %q, which is not there", p.Address)
			}
		}
		for _, r := range remarks {
			heard[r.Line] = true
		}
		for i, line := range strings.Split(text, "\n") {
			if strings.Contains(line, "@") && !heard[i+1] {
				t.Errorf("nothing is said of line %d: %q", i+1, line)
			}
		}
	})
}
