package present

import "testing"

// What stays as it was is not told as a change.
func TestDifferenceSaysWhatDiffers(t *testing.T) {
	for _, test := range []struct {
		count EffectCount
		part  string
		want  string
	}{
		{EffectCount{Old: "hold", New: "refuse"}, "posting", "posting: hold -> refuse"},
		{EffectCount{Old: "hold", New: "hold", OldText: toldSo, NewText: toldNothing}, "posting",
			"posting: hold, told so -> told nothing"},
		{EffectCount{Old: "for", New: "for", OldProof: "impossible", NewProof: "possible"}, "sending as it",
			"sending as it: for, proof impossible -> possible"},
		{EffectCount{Old: "", New: "may", What: "read"}, "may", "may read"},
		{EffectCount{Old: "may", What: "read", People: []string{"a", "b"}}, "may", "may no longer read for 2"},
	} {
		if got := test.count.difference("", test.part).Says; got != test.want {
			t.Errorf("%+v in %s is told as %q, and %q is right", test.count, test.part, got, test.want)
		}
	}
}
