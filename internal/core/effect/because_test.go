package effect_test

import (
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/effect"
	"yorvet.example/yorvet/internal/sample"
)

// What a rule has to say where it admits, or drops, reaches no sender: it is told as a setting,
// beside what else changes, too. Where it refuses, senders are told another text.
func TestBecauseThatReachesNobody(t *testing.T) {
	at := func(gate string) string {
		return "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: ann@kelp.example}]\ngroups:\n" +
			"- {address: g@kelp.example, members: [ann@kelp.example], gate: [" + gate + "]}\n"
	}
	for _, c := range []struct {
		old, new    string
		posts, gate bool
	}{
		{`'admit inside because "one"', drop outside`, `'admit inside because "two"', drop outside`, false, true},
		{`admit inside, 'drop outside because "one"'`, `admit inside, drop outside`, false, true},
		{`admit inside, 'refuse outside because "one"'`, `admit inside, 'refuse outside because "two"'`, true, false},
		{`'admit inside because "one"', drop outside`, `'admit inside because "two"', admit outside`, true, true},
		{`'admit inside because "one"', drop outside`, `'admit inside because "one"', admit outside`, true, false},
	} {
		older, newer := sample.Load(t, at(c.old)), sample.Load(t, at(c.new))
		for range 2 {
			report := effect.Compare(older, newer)
			if len(report.Changes) != 1 {
				t.Fatalf("%s -> %s: %d changes", c.old, c.new, len(report.Changes))
			}
			change := report.Changes[0]
			var settings []string
			for _, s := range change.Settings {
				settings = append(settings, s.Name)
			}
			if posts, gate := len(change.Posts) > 0, strings.Join(settings, " ") == "gate"; posts != c.posts || gate != c.gate {
				t.Errorf("%s -> %s: posting changes: %t, settings: %v", c.old, c.new, posts, settings)
			}
			older, newer = newer, older
		}
	}
}
