package directory_test

import (
	"os"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/directory"
)

// The maps of the document are maps.
func TestMapsOfTheDocument(t *testing.T) {
	text, err := os.ReadFile("../../docs/import.md")
	if err != nil {
		t.Fatal(err)
	}
	read := 0
	for part := range strings.SplitSeq(string(text), "```yaml\n") {
		block, _, _ := strings.Cut(part, "```")
		if !strings.Contains(block, "yorvet-map: 1") || strings.HasPrefix(part, "#") && !strings.HasPrefix(part, "# console.map") {
			continue
		}
		if _, err := directory.ParseMap("import.md", []byte(block)); err != nil {
			t.Errorf("%v\n%s", err, block)
		}
		read++
	}
	if read < 2 {
		t.Errorf("%d maps are in the document", read)
	}
}

// What a map says wrongly is told in the map, once, with its place.
func TestWrongMaps(t *testing.T) {
	const head = "yorvet-map: 1\ngroups:\n  - address: mail\n"
	for text, want := range map[string]string{
		"    gate: [admit insid]\n":                                                `m:4:12: "admit insid" is no rule of gate: unknown word "insid"`,
		"    gate: [{from: x, as: {A: admit inside, B: hol anyone}}]\n":            `m:4:47: "hol anyone" is no rule of gate`,
		"    gate: [{from: x}]\n":                                                  "a rule from an attribute needs as",
		"    gate: [{say: admit inside, from: x, as: {A: admit anyone}}]\n":        "a rule needs say, or from with as",
		"    gate: [{when: '(a=b', say: admit inside}]\n":                          "m:4:19",
		"    send-as: [{say: 'may {x}'}]\n":                                        `"may {x}" is no rule of send-as`,
		"    set: {kind: {from: x, as: {A: forun}}}\n":                             "m:4:35: set: kind:",
		"    set: {kind: {as: {A: forum}}}\n":                                      "a value needs from",
		"    set: {kind: {from: x, as: {A: forum}, otherwise: nothing}}\n":         "set: kind:",
		"    set: {kind: {from: x, az: {A: forum}}}\n":                             `unknown key "az"`,
		"    set: {colour: blue}\n":                                                `set is "colour"`,
		"    set: {access.find: membres}\n":                                        "set: access.find:",
		"    set: {gate: [admit inside]}\n    gate: [admit inside]\n":              "set has gate, which stands beside it, too",
		"    attributes: {kind: x}\n":                                              "attributes:",
		"    members: [{each: m}]\n":                                               "members needs from",
		"    members: [{from: m, address: a}]\n":                                   "members has from and address",
		"    members: [{address: a, role: {from: r, as: {X: captain}}}]\n":         `m:4:52: members: role is "captain"`,
		"    members: [{address: a, copy: {from: r, as: {X: all}}}]\n":             `members: copy is "all"`,
		"    members: [{address: a, paused: {from: r, as: {X: yes}}}]\n":           `members: paused is "yes"`,
		"    members: [{from: m, since: {from: s}}]\n":                             "members has from, beside which stands by or one word for copy",
		"    members: [{from: m, copy: {from: s, as: {A: digest}}}]\n":             "members has from, beside which stands by or one word for copy",
		"    members: [{from: m, copy: digest}]\n":                                 "",
		"    owners: [{address: a, role: owner}]\n":                                "owners takes from, by and address",
		"    match: '(=x)'\n":                                                      "expected the name of a column",
		"    gate: [{when: '(a b=c)', say: 'refuse {a b}'}]\n    rows-by: [x]\n":   "m:5",
		"    set: {kind: {from: [Type, Kind], as: {A: forum}, otherwise: skip}}\n": "",
		"    members: [{address: a, since: {from: j, format: DD.MM.YYYY}}]\n":      "",
	} {
		_, err := directory.ParseMap("m", []byte(head+text))
		if want == "" {
			if err != nil {
				t.Errorf("%s: %v", text, err)
			}
			continue
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

// FuzzMap: no map makes the reader panic, and one that is read says which names it reads.
func FuzzMap(f *testing.F) {
	for _, seed := range []string{
		"yorvet-map: 1\ngroups:\n  - address: mail\n    gate: [{when: '(a b=*)', say: 'refuse {a b}'}]\n",
		"yorvet-map: 1\npeople:\n  - address: [a, \"{b}@{domain}\"]\n    mailbox: {from: x, open: [y]}\n",
		"yorvet-map: 1\ngroups:\n  - address: a\n    members: [{each: m, address: e, role: {from: r, as: {X: [owner, member]}}}]\n",
	} {
		f.Add(seed, "a", "b")
	}
	f.Fuzz(func(t *testing.T, text, name, value string) {
		m, err := directory.ParseMap("m", []byte(text))
		if err != nil {
			return
		}
		_ = m.Attributes()
		c := directory.NewCollector("x", "x", m, "k.example", nil)
		e := &directory.Entry{Line: 1}
		e.Add(name, value)
		c.Add(e)
		c.Finish()
		_ = c.Problems(false)
	})
}
