package present

import (
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/text"
)

func TestWrap(t *testing.T) {
	const red, end = "\x1b[31m", "\x1b[0m"
	for _, c := range []struct {
		in    string
		width int
		want  string
	}{
		{"a short line", 20, "a short line"},
		{"one two three", 7, "one two\nthree"},
		{"to passenger@holiday.example now", 10, "to\npassenger@holiday.example\nnow"},
		{"a  b", 10, "a  b"},
		{"aa  bb", 4, "aa\nbb"},
		{"one\ntwo three", 5, "one\ntwo\nthree"},
		{red + "one two" + end + " three", 5, red + "one" + end + "\n" + red + "two" + end + "\nthree"},
		{"größe größe", 5, "größe\ngröße"},
		{"漢字 漢字", 4, "漢字\n漢字"},
		{"\u0301 end", 3, "\u0301\nend"},
		{"", 5, ""},
	} {
		if got := wrap(c.in, c.width); got != c.want {
			t.Errorf("%q at %d: %q, want %q", c.in, c.width, got, c.want)
		}
	}
}

// No word is lost or broken, no line is too long but one of a single word, and every
// line ends without a colour.
func FuzzWrap(f *testing.F) {
	f.Add("one two\x1b[31m three\x1b[0m four", 8)
	f.Add("a  bb\nccc passenger@holiday.example (groups.yaml:4:14)", 3)
	f.Fuzz(func(t *testing.T, in string, width int) {
		if width < 1 || width > 200 || strings.ContainsAny(Clean(in), "\t\r\v\f") {
			return
		}
		in = "\x1b[1m" + Clean(in) + "\x1b[0m end"
		out := wrap(in, width)
		plain := text.StripEscape(out)
		if got, want := strings.Fields(plain), strings.Fields(text.StripEscape(in)); strings.Join(got, " ") != strings.Join(want, " ") {
			t.Fatalf("%q became %q", want, got)
		}
		for line := range strings.SplitSeq(out, "\n") {
			bare := strings.TrimRight(text.StripEscape(line), " ") // nobody sees blanks at an end
			if text.StringWidth(bare) > width && strings.Contains(strings.TrimSpace(bare), " ") {
				t.Errorf("%q is wider than %d", bare, width)
			}
			if colourAfter(line, "") != "" {
				t.Errorf("%q leaves a colour on", line)
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
