package present

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"yorvet.example/yorvet/internal/directory/table"
)

// What steers a terminal or a spreadsheet is text in every format.
func TestHarmless(t *testing.T) {
	for text, want := range map[string]string{
		"=1+1": "'=1+1", "\uff1d1+1": "'\uff1d1+1", "\uff20SUM(A1)": "'\uff20SUM(A1)", " =1+1": "' =1+1", "\u00a0\uff0b1": "'\u00a0\uff0b1",
		"a\u202eb": `a\u202eb`, "\x1b[31m": `\x1b[31m`, "\t=1": `\x09=1`, "": "", "plain": "plain", "a=b": "a=b",
	} {
		if got := harmless([]string{text})[0]; got != want {
			t.Errorf("%q is %q, want %q", text, got, want)
		}
	}
	var b bytes.Buffer
	if err := encode(&b, map[string]string{"\u202ename": "\u2066=1\x7f\u0085"}, "", "  "); err != nil || strings.ContainsFunc(b.String(), func(r rune) bool { return r != '\n' && steers(r) }) {
		t.Errorf("%q, %v", b.String(), err)
	}
}

// Whatever a text is: nothing of it steers in an answer, and JSON says the same as before.
func FuzzClean(f *testing.F) {
	for _, seed := range []string{"=cmd|' /C calc'!A0", "\uff1d1", "\u202e\u2069", "\x1b]0;x\a", "\xff\xfe", "'=1", apartMark, "\u2028"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if clean := Clean(text); strings.ContainsFunc(clean, steers) || !utf8.ValidString(clean) || Clean(clean) != clean {
			t.Errorf("%q is %q", text, clean)
		}
		if cell := harmless([]string{text})[0]; table.IsFormula(cell) || strings.ContainsFunc(cell, steers) {
			t.Errorf("%q is the cell %q", text, cell)
		}
		if table.Plain(table.Neutral(text)) != text || table.IsFormula(table.Neutral(text)) {
			t.Errorf("%q is %q, and back %q", text, table.Neutral(text), table.Plain(table.Neutral(text)))
		}
		var b bytes.Buffer
		var back string
		if err := encode(&b, text, "", ""); err != nil || strings.ContainsFunc(strings.TrimSuffix(b.String(), "\n"), steers) {
			t.Errorf("%q is %q, %v", text, b.String(), err)
		}
		if err := json.Unmarshal(b.Bytes(), &back); err != nil || back != strings.ToValidUTF8(text, "\ufffd") && utf8.ValidString(text) {
			t.Errorf("%q comes back as %q, %v", text, back, err)
		}
	})
}
