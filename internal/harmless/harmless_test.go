package harmless

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"
)

func TestIsFormula(t *testing.T) {
	for cell, want := range map[string]bool{
		"=1+1": true, "\uff1d1+1": true, "\uff20SUM(A1)": true, " =1+1": true, "\u00a0\uff0b1": true, "\t=1": true, "-5": true, "\r": true,
		"": false, " ": false, "plain": false, "a=b": false, "'=1": false, "\ufffd": false, "\xff=": false,
	} {
		if got := IsFormula(cell); got != want {
			t.Errorf("%q: %t", cell, got)
		}
	}
}

// Whatever a text is: nothing of it steers, and JSON says the same as before.
func FuzzText(f *testing.F) {
	for _, seed := range []string{"=cmd|' /C calc'!A0", "\u202e\u2069", "\x1b]0;x\a", "\xff\xfe", "\u2028", "a\u0085b", "z"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		clean := Text(text)
		if strings.ContainsFunc(clean, steers) || !utf8.ValidString(clean) || Text(clean) != clean {
			t.Errorf("%q is %q", text, clean)
		}
		data, err := json.Marshal(text)
		if err != nil {
			t.Fatal(err)
		}
		var before, after string
		if json.Unmarshal(data, &before) != nil || json.Unmarshal(JSON(data), &after) != nil || before != after || strings.ContainsFunc(string(JSON(data)), steers) {
			t.Errorf("%q is %q", data, JSON(data))
		}
	})
}
