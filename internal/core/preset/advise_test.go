package preset_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/preset"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

// What is advised serves each need that is not said to be unmet, for all sets of needs, as
// the rules of evaluation say and not the advice.
func TestAdviceServes(t *testing.T) {
	const head = "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: ann@kelp.example}, {address: bob@kelp.example}]\n"
	bare := sample.Load(t, head).Estate()
	all := preset.Needs()
	for set := range 1 << len(all) {
		var wanted []string
		for i, need := range all {
			if set&(1<<i) != 0 {
				wanted = append(wanted, need.Name)
			}
		}
		a := preset.Advise(wanted)
		p, ok := preset.Find(a.Preset)
		if !ok {
			t.Fatalf("%v: no preset %q", wanted, a.Preset)
		}
		said := map[string][]string{}
		for _, s := range slices.Concat(p.Settings(bare, false), a.Settings) {
			said[s.Setting] = s.Texts
		}
		var b strings.Builder
		b.WriteString(head + "groups:\n- address: g@kelp.example\n  owners: [ann@kelp.example]\n  members: [ann@kelp.example, bob@kelp.example]\n")
		for name, texts := range said {
			if action, is := strings.CutPrefix(name, "access."); is {
				fmt.Fprintf(&b, "  access: {%s: %s}\n", action, texts[0])
			} else if setting, _ := estate.GroupSetting(name); setting.Form.IsList() {
				fmt.Fprintf(&b, "  %s:\n  - %s\n", name, strings.Join(texts, "\n  - "))
			} else {
				fmt.Fprintf(&b, "  %s: %s\n", name, texts[0])
			}
		}
		r := sample.Load(t, b.String())
		e := r.Estate()
		bob, _ := e.Find(address.MustParse("bob@kelp.example"))
		sender := r.Sender(address.MustParse("bob@kelp.example"))
		outside := r.Gate(0).Post(r.Sender(address.MustParse("guest@holiday.example")), resolve.Message{}).Verdict
		outcome, _ := r.Flow(0, resolve.Message{}).Best(bob)
		sendAs, _ := r.Rights(0).SendAs(sender)
		invited := slices.ContainsFunc(r.Deliver(resolve.Query{Group: 0, Message: resolve.Message{Invitation: true}}).Recipients(),
			func(x resolve.Recipient) bool { return x.ID == bob && x.Outcome == resolve.Inbox })
		kind := e.Group(0).Kind
		few := r.Gate(0).Post(r.Sender(address.MustParse("ann@kelp.example")), resolve.Message{}).Verdict // an owner
		many := r.Gate(0).Post(sender, resolve.Message{}).Verdict
		serves := map[string]bool{
			"access-only":     kind == estate.Roster && outside == estate.Refuse,
			"outsiders-write": outside == estate.Admit || outside == estate.Hold,
			"look-first":      many == estate.Hold,
			"few-write":       few == estate.Admit && many != estate.Admit,
			"answer-as-group": sendAs == estate.AsGroup,
			"keep-posts":      kind == estate.Forum || kind == estate.Mailbox,
			"one-inbox":       kind == estate.Mailbox && outcome == resolve.Archive,
			"invitations":     invited && kind != estate.Roster,
		}
		for _, need := range all {
			if !slices.Contains(wanted, need.Name) {
				continue
			}
			if need.Name == "signs-in" || need.Name == "own-calendar" {
				if len(a.Account) == 0 {
					t.Errorf("%v: a group is said to be enough", wanted)
				}
				continue
			}
			unmet := slices.ContainsFunc(a.Unmet, func(text string) bool { return strings.HasPrefix(text, need.Says) })
			if serves[need.Name] == unmet {
				t.Errorf("%v: %s is served: %t, and unmet: %t\n%s", wanted, need.Name, serves[need.Name], unmet, b.String())
			}
		}
		if kind != a.Kind {
			t.Errorf("%v: the kind is %s, and said to be %s", wanted, kind, a.Kind)
		}
	}
}
