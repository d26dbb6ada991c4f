package preset_test

import (
	"fmt"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/preset"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

// What a preset says of itself is what its settings do.
func TestPresetsDoWhatTheySay(t *testing.T) {
	want := map[string]struct{ outside, inside, forged, member, owner, outcome, sendAs string }{
		"desk":         {"admit", "admit", "refuse", "admit", "admit", "inbox", "as"},
		"discussion":   {"refuse", "refuse", "refuse", "admit", "admit", "inbox", ""},
		"bulletin":     {"refuse", "refuse", "refuse", "refuse", "admit", "inbox", ""},
		"moderated":    {"hold", "hold", "refuse", "hold", "admit", "inbox", ""},
		"access-only":  {"refuse", "refuse", "refuse", "refuse", "refuse", "inbox", ""},
		"shared-inbox": {"refuse", "admit", "refuse", "admit", "admit", "archive", ""},
	}
	for _, p := range preset.All() {
		var b strings.Builder
		b.WriteString("yorvet: 1\ndomains: [kelp.example]\npeople: [{address: ann@kelp.example}, {address: bob@kelp.example}]\n" +
			"groups:\n- address: g@kelp.example\n  owners: [ann@kelp.example]\n  members: [bob@kelp.example]\n")
		for _, s := range p.Settings {
			if action, ok := strings.CutPrefix(s.Setting, "access."); ok {
				fmt.Fprintf(&b, "  access: {%s: %s}\n", action, s.Texts[0])
				continue
			}
			if setting, _ := estate.GroupSetting(s.Setting); !setting.Form.IsList() {
				fmt.Fprintf(&b, "  %s: %s\n", s.Setting, s.Texts[0])
				continue
			}
			fmt.Fprintf(&b, "  %s:\n", s.Setting)
			for _, text := range s.Texts {
				fmt.Fprintf(&b, "  - %s\n", text)
			}
		}
		r := sample.Load(t, b.String())
		strangers := r.Strangers()
		judge := func(s resolve.Sender, m resolve.Message) string { return r.Judge(0, s, m).Verdict.String() }
		bob, _ := r.Estate().Find(address.MustParse("bob@kelp.example"))
		outcome, _ := r.Receipt(0, bob)
		got := struct{ outside, inside, forged, member, owner, outcome, sendAs string }{
			judge(strangers.Outside, resolve.Message{}), judge(strangers.Inside, resolve.Message{}), judge(strangers.Inside, resolve.Message{Unproven: true}),
			judge(r.Sender(address.MustParse("bob@kelp.example")), resolve.Message{}), judge(r.Sender(address.MustParse("ann@kelp.example")), resolve.Message{}),
			outcome.String(), "",
		}
		sendAs, _ := r.SendAs(0, r.Sender(address.MustParse("bob@kelp.example")))
		got.sendAs = sendAs.String()
		// A preset brings no trap of its own.
		for _, f := range hazard.Run(r, hazard.All()) {
			if name := f.Check.Name; name != "owner-left-out" {
				t.Errorf("%s: a new group has the hazard %s", p.Name, name)
			}
		}
		if got != want[p.Name] {
			t.Errorf("%s: %+v, want %+v", p.Name, got, want[p.Name])
		}
	}
}

// A preset is found by its name, and no other word is one.
func TestFind(t *testing.T) {
	for _, name := range preset.Names() {
		if p, ok := preset.Find(name); !ok || p.Name != name {
			t.Errorf("%s is %q, %t", name, p.Name, ok)
		}
	}
	if p, ok := preset.Find("dek"); ok || p.Name != "" {
		t.Errorf("dek is %q, %t", p.Name, ok)
	}
}
