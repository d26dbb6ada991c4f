package present

import (
	"strings"
	"testing"
)

func TestMarkdown(t *testing.T) {
	long := strings.Repeat("word ", 25) + "end"
	var b strings.Builder
	a := anyAnswer{line: []Span{{Strong, "desk@kelp.example: 2 of 3 <b>people</b> *may* " + long}}, block: []block{
		{word: Span{Good, "admit"}, text: "rule 1: admit `inside` ```", people: []string{"ann_bee@kelp.example"}},
	}}
	if err := Print(&b, onlyLine{a}, Markdown, Options{Width: 40, Colour: true}); err != nil {
		t.Fatal(err)
	}
	want := "**desk@kelp.example: 2 of 3 \\<b\\>people\\</b\\> \\*may\\* " + long + "**\n" +
		"\n````text\nBlocks (1)\n  1 admit: rule 1: admit `inside` ```\n    ann_bee@kelp.example\n````\n"
	if b.String() != want {
		t.Errorf("got\n%s\nwant\n%s", b.String(), want)
	}
	for in, want := range map[string]string{"- a": `\- a`, "a - b": "a - b", "! x": `\! x`, "#1 [a](b)": `\#1 \[a\](b)`, "a_b": `a\_b`} {
		if got := escapeMarkdown(in); got != want {
			t.Errorf("%q is %q, want %q", in, got, want)
		}
	}
}

// onlyLine is an answer without a table in front.
type onlyLine struct{ anyAnswer }

func (s onlyLine) writeText(p *Page) {
	p.Line(2, s.line...)
	p.blocks("Blocks", s.block)
}
