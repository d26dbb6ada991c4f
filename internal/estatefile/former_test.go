package estatefile

import (
	"strings"
	"testing"
)

// A word that is called otherwise now is an error that says the new one.
func TestFormerWords(t *testing.T) {
	for text, want := range map[string]string{
		"groups: [{address: g@kelp.example, voice: [as members]}]":                              `"voice" is "send-as" now`,
		"groups: [{address: g@kelp.example, voice-proof: none}]":                                `"voice-proof" is "send-as-proof" now`,
		"people: [{address: p@kelp.example, facts: {base: x}}]":                                 `"facts" is "attributes" now`,
		"groups: [{address: g@kelp.example, accept: [{hazard: voice-unprovable, because: x}]}]": `"voice-unprovable" is "send-as-unprovable" now`,
	} {
		path := writeEstate(t, map[string]string{"estate.yaml": "yorvet: 1\ndomains: [kelp.example]\n" + text + "\n"})
		if _, err := Load(t.Context(), path); err == nil || !strings.Contains(err.Error(), ":3:") || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", text, err, want)
		}
	}
	path := writeEstate(t, map[string]string{"estate.yaml": "yorvet: 1\ndomains: [kelp.example]\ngroups: {table: g.csv}\n", "g.csv": "address,voice\ng@kelp.example,as members\n"})
	if _, err := Load(t.Context(), path); err == nil || !strings.Contains(err.Error(), `g.csv:1:9: "voice" is "send-as" now`) {
		t.Errorf("a column: %v", err)
	}
}
