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
		"moderated":    {"hold", "hold", "refuse", "hold", "admit", "inbox", "as"},
		"access-only":  {"refuse", "refuse", "refuse", "refuse", "refuse", "inbox", ""},
		"shared-inbox": {"refuse", "admit", "refuse", "admit", "admit", "archive", ""},
	}
	const head = "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: ann@kelp.example}, {address: bob@kelp.example}]\n"
	bare := sample.Load(t, head).Estate()
	for _, p := range preset.All() {
		var b strings.Builder
		b.WriteString(head + "groups:\n- address: g@kelp.example\n  owners: [ann@kelp.example]\n  members: [bob@kelp.example, ann@kelp.example]\n")
		for _, s := range p.Settings(bare, false) {
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
		judge := func(s resolve.Sender, m resolve.Message) string { return r.Gate(0).Judge(s, m).Verdict.String() }
		bob, _ := r.Estate().Find(address.MustParse("bob@kelp.example"))
		outcome, _ := r.Flow(0, resolve.Message{}).Best(bob)
		got := struct{ outside, inside, forged, member, owner, outcome, sendAs string }{
			judge(strangers.Outside, resolve.Message{}), judge(strangers.Inside, resolve.Message{}), judge(strangers.Inside, resolve.Message{Unproven: true}),
			judge(r.Sender(address.MustParse("bob@kelp.example")), resolve.Message{}), judge(r.Sender(address.MustParse("ann@kelp.example")), resolve.Message{}),
			outcome.String(), "",
		}
		sendAs, _ := r.Rights(0).SendAs(r.Sender(address.MustParse("bob@kelp.example")))
		got.sendAs = sendAs.String()
		// A preset brings no trap of its own.
		for _, f := range hazard.Run(r, hazard.All()) {
			t.Errorf("%s: a new group has the hazard %s", p.Name, f.Check.Name)
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

// yaml writes a group of a preset into an estate.
func yaml(p preset.Preset, e *estate.Estate, held bool, members, moderators string) string {
	text := "- address: g@kelp.example\n  owners: [ann@kelp.example]\n  members: [" + members + "]\n  moderators: [" + moderators + "]\n"
	for _, s := range p.Settings(e, held) {
		switch action, isAccess := strings.CutPrefix(s.Setting, "access."); {
		case isAccess:
			text += "  access: {" + action + ": " + s.Texts[0] + "}\n"
		case s.Setting == "gate" || s.Setting == "send-as":
			text += "  " + s.Setting + ":\n  - " + strings.Join(s.Texts, "\n  - ") + "\n"
		default:
			text += "  " + s.Setting + ": " + s.Texts[0] + "\n"
		}
	}
	return text
}

// Presets raise no hazard, whoever the members and moderators are and however many domains
// there are; customers' mail that is not authenticated gets where it is to, mail that
// claims to be from us does not, and nobody outside speaks for us.
func TestPresetsRaiseNoHazard(t *testing.T) {
	tried := 0
	for _, domains := range []string{"[kelp.example]", "[kelp.example, {domain: alias.example, same-as: kelp.example}, cargo.example]"} {
		head := "yorvet: 1\ndomains: " + domains + "\npeople: [{address: ann@kelp.example}, {address: bob@kelp.example}]\n"
		bare := sample.Load(t, head).Estate()
		for _, p := range preset.All() {
			for _, held := range []bool{false, true} {
				for _, members := range []string{"bob@kelp.example, ann@kelp.example", "ann@kelp.example, far@out.example"} {
					for _, moderators := range []string{"", "bob@kelp.example", "far@out.example"} {
						text := head + "groups:\n" + yaml(p, bare, held, members, moderators)
						r := sample.Load(t, text)
						tried++
						for _, f := range hazard.Run(r, hazard.All()) {
							says, _ := f.Text()
							t.Errorf("%s: %s\n%s", p.Name, says, text)
						}
						far := r.Sender(address.MustParse("far@out.example"))
						customer := r.Sender(address.MustParse("guest@holiday.example"))
						if as, _ := r.Rights(0).SendAs(far); as != estate.NoSendAs {
							t.Errorf("%s: somebody outside sends %s the group", p.Name, as)
						}
						want := map[string]estate.Verdict{"desk": estate.Admit, "moderated": estate.Hold}
						verdict := r.Gate(0).Post(customer, resolve.Message{Unproven: true}).Verdict
						if expected, ok := want[p.Name]; ok && verdict != expected {
							t.Errorf("%s: a customer's mail: %s", p.Name, verdict)
						}
						if v := r.Gate(0).Post(r.Sender(address.MustParse("bob@kelp.example")), resolve.Message{Unproven: true}).Verdict; v != estate.Refuse {
							t.Errorf("%s: forged mail of a member: %s", p.Name, v)
						}
						if bulletin := r.Gate(0).Post(customer, resolve.Message{}).Verdict; p.Name == "bulletin" && bulletin != estate.Refuse {
							t.Errorf("bulletin: a stranger's mail: %s", bulletin)
						}
					}
				}
			}
		}
	}
	if tried != 2*len(preset.All())*2*2*3 {
		t.Errorf("%d are tried", tried)
	}
}
