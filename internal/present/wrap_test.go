package present

import (
	"slices"
	"strings"
	"testing"
)

// unwrapped returns lines as text, with the style of what is not plain before it.
func unwrapped(lines [][]Span) string {
	marks := map[Style]string{Bad: "<bad>", Strong: "<strong>"}
	var list []string
	for _, line := range lines {
		text := ""
		for _, s := range line {
			text += marks[s.Style] + s.Text
		}
		list = append(list, text)
	}
	return strings.Join(list, "\n")
}

func TestWrap(t *testing.T) {
	for _, c := range []struct {
		in    []Span
		width int
		want  string
	}{
		{[]Span{{Plain, "a short line"}}, 20, "a short line"},
		{[]Span{{Plain, "one two three"}}, 7, "one two\nthree"},
		{[]Span{{Plain, "to passenger@holiday.example now"}}, 10, "to\npassenger@holiday.example\nnow"},
		{[]Span{{Plain, "a  b"}}, 10, "a  b"},
		{[]Span{{Plain, "aa  bb"}}, 4, "aa\nbb"},
		{[]Span{{Bad, "one two"}, {Plain, " three"}}, 5, "<bad>one\n<bad>two\nthree"},
		{[]Span{{Bad, "one two"}, {Plain, " three"}}, 20, "<bad>one two three"},
		{[]Span{{Strong, "group"}, {Plain, ", and"}}, 6, "<strong>group,\nand"},
		{[]Span{{Plain, "größe größe"}}, 5, "größe\ngröße"},
		{[]Span{{Plain, "漢字 漢字"}}, 4, "漢字\n漢字"},
		{[]Span{{Plain, "\u0301 end"}}, 3, "\u0301\nend"},
		{[]Span{{Plain, "end  "}}, 5, "end"},
		{nil, 5, ""},
	} {
		if got := unwrapped(wrap(c.in, c.width)); got != c.want {
			t.Errorf("%q at %d: %q, want %q", c.in, c.width, got, c.want)
		}
	}
}

// No word is lost or broken, no line is too long but one of a single word, and every piece keeps its style.
func FuzzWrap(f *testing.F) {
	f.Add("one two", " three four", 8)
	f.Add("a  bb", "ccc passenger@holiday.example (groups.yaml:4:14)", 3)
	f.Fuzz(func(t *testing.T, bad, plain string, most int) {
		if most < 1 || most > 200 {
			return
		}
		in := []Span{{Bad, Clean(bad)}, {Plain, Clean(plain)}}
		styled := map[Style]string{}
		var words []string
		for _, line := range wrap(in, most) {
			text := ""
			for _, s := range line {
				text += s.Text
				styled[s.Style] += strings.ReplaceAll(s.Text, " ", "")
			}
			words = append(words, strings.Split(text, " ")...)
			if bare := strings.TrimSpace(text); terminalColumns(bare) > most && strings.Contains(bare, " ") && width(Span{Text: bare}) > most {
				t.Errorf("%q is wider than %d", bare, most)
			}
		}
		blank := func(s string) bool { return s == "" }
		got := strings.Join(slices.DeleteFunc(words, blank), " ")
		want := strings.Join(slices.DeleteFunc(strings.Split(in[0].Text+in[1].Text, " "), blank), " ")
		if got != want {
			t.Fatalf("%q became %q", want, got)
		}
		for _, s := range in {
			if without := strings.ReplaceAll(s.Text, " ", ""); styled[s.Style] != without {
				t.Errorf("%q in its style is %q", without, styled[s.Style])
			}
		}
	})
}

// Numbers stand to the right, under their head; what is no number does not.
func TestNumbersRight(t *testing.T) {
	got := printed(t, anyAnswer{rows: [][]Span{
		{{Faint, "group"}, {Faint, "members"}, {Faint, "rules"}, {Faint, "title"}},
		{{Plain, "desk"}, {Plain, "7"}, {Faint, "."}, {Plain, "12"}},
		{{Plain, "9"}, {Plain, "12345"}, {Faint, "."}, {Plain, "Twelve"}},
	}}, Options{Width: 80})
	want := "  group  members  rules  title\n  desk         7      .  12\n  9        12345      .  Twelve\n"
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}
