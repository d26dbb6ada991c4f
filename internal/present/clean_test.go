package present

import (
	"bytes"
	"strings"
	"testing"
)

// What steers a terminal or a spreadsheet is text in every format.
func TestHarmless(t *testing.T) {
	for text, want := range map[string]string{
		"=1+1": "'=1+1", "\uff1d1+1": "'\uff1d1+1", "\uff20SUM(A1)": "'\uff20SUM(A1)", " =1+1": "' =1+1", "\u00a0\uff0b1": "'\u00a0\uff0b1",
		"a\u202eb": `a\u202eb`, "\x1b[31m": `\x1b[31m`, "\t=1": `\x09=1`, "": "", "plain": "plain", "a=b": "a=b",
	} {
		if got := cells([]string{text})[0]; got != want {
			t.Errorf("%q is %q, want %q", text, got, want)
		}
	}
	var b bytes.Buffer
	if err := encode(&b, map[string]string{"\u202ename": "\u2066=1\x7f\u0085"}, "", "  "); err != nil || strings.ContainsAny(b.String(), "\u202e\u2066\x7f\u0085") {
		t.Errorf("%q, %v", b.String(), err)
	}
}
