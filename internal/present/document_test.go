package present

import (
	"encoding/csv"
	"strings"
	"testing"
)

// A document in Markdown comes without its marks, its tables aligned, its code as it is.
func TestDocument(t *testing.T) {
	text := "# Title\n\nA *first* word of `code`, with [a link](to.md#there)\nand **more**.\n\n" +
		"| word | meaning |\n|---|---|\n| `a\\|b` | one or &#124; the other |\n| long word | x |\n\n" +
		"- one\n- two\n  goes on\n1. three\n\n```yaml\n  - keeps   *blanks*\n```\n"
	want := "Title\n\nA first word of code, with a link and more.\n\n" +
		"  word       meaning\n  a|b        one or | the other\n  long word  x\n\n" +
		"- one\n- two goes on\n1. three\n\n      - keeps   *blanks*\n"
	var b strings.Builder
	a := &Document{Topic: "t", Text: text}
	if err := Print(&b, a, Text, Options{Width: 60}); err != nil {
		t.Fatal(err)
	}
	if b.String() != want {
		t.Errorf("got\n%s\nwant\n%s", b.String(), want)
	}
	var rows strings.Builder
	if err := Print(&rows, a, CSV, Options{}); err != nil {
		t.Fatal(err)
	}
	lines, err := csv.NewReader(strings.NewReader(rows.String())).ReadAll()
	if err != nil || len(lines) != 1+strings.Count(text, "\n") {
		t.Errorf("%d lines, %v", len(lines), err)
	}
	for _, row := range lines[1:] {
		if len(row) != len(lines[0]) || row[0] != "t" {
			t.Errorf("%q", row)
		}
	}
}
