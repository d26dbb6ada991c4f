package expect_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/expect"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

const quayside = `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example}, {address: bob@kelp.example}, {address: cat@kelp.example}, {address: dan@out.example}]
groups:
  - address: desk@kelp.example
    gate: [refuse unproven, hold cat@kelp.example, refuse dan@out.example, admit inside]
    owners: [ann@kelp.example]
    members: [ann@kelp.example, {address: bob@kelp.example, copy: digest}]
    send-as: [as ann@kelp.example, for bob@kelp.example]
  - address: dumb@kelp.example
    gate: [refuse anyone]
`

// A draft says who posts, receives, speaks and approves, and who does not.
func TestDraftSaysAll(t *testing.T) {
	text := expect.Draft(sample.Load(t, quayside), []estate.ID{0, 1})
	desk, dumb, ok := strings.Cut(text, "to dumb@kelp.example\n")
	if !ok {
		t.Fatal(text)
	}
	want := map[string][]string{
		desk: {
			"to desk@kelp.example",
			"  admits members", "  admits inside and not known", "  holds cat@kelp.example", "  refuses outside",
			"  refuses unproven",
			"  admits (suspect or automatic or invitation) and members", "  refuses (suspect or automatic or invitation) and outside",
			"  reaches ann@kelp.example", "  reaches bob@kelp.example in digest",
			"  never reaches outside", "  never reaches not (ann@kelp.example or bob@kelp.example)",
			"  sends as owners", "  sends as ann@kelp.example", "  sends for members and not owners", "  sends for bob@kelp.example",
			"  sends only members", "  sends only ann@kelp.example or bob@kelp.example",
			"  approves owners", "  approves ann@kelp.example", "  approves at least 1",
		},
		dumb: {"  refuses anyone", "  refuses unproven", "  refuses suspect or automatic or invitation", "  never reaches anyone", "  sends only nobody"},
	}
	for part, lines := range want {
		said := strings.Split(part, "\n")
		at := 0
		for _, line := range lines {
			for at < len(said) && said[at] != line {
				at++
			}
			if at == len(said) {
				t.Errorf("%q is missing, or not in its place:\n%s", line, part)
				break
			}
		}
	}
	for _, never := range []string{"never reaches ann@", "never reaches bob@", "desk@kelp.example in", "admits cat@", "known and not (cat@kelp.example or dan@out.example or"} {
		if strings.Contains(desk, never) {
			t.Errorf("%q is said:\n%s", never, desk)
		}
	}
}

// Errors are told where they are, each once, and the lines behind are read all the
// same.
func TestErrorsGoOn(t *testing.T) {
	list, errs := expect.Parse("to desk@kelp.example\n\xff admits inside\n  admits outside # as ever\n  reaches from ann@kelp.example\n  admits from bob@\n")
	if len(list) != 1 || list[0].Line != 3 || list[0].Text != "admits outside" {
		t.Errorf("%+v", list)
	}
	var lines []int
	for _, e := range errs {
		lines = append(lines, e.Line)
	}
	if len(lines) != 3 || lines[0] != 2 || lines[1] != 4 || lines[2] != 5 || errs[0].Column != 1 {
		t.Errorf("errors of lines %v: %+v", lines, errs)
	}
}

// A group that is not there is named once, with one that may be meant if any is near.
func TestNoSuchGroup(t *testing.T) {
	list, errs := expect.Parse("to dsk@kelp.example\n  admits inside\n  admits outside\nto quitedifferent@kelp.example\n  admits inside\n")
	if len(errs) > 0 {
		t.Fatal(errs)
	}
	problems := expect.Check(sample.Load(t, quayside).Estate(), list)
	if len(problems) != 2 || problems[0].Nearest != "desk@kelp.example" || problems[1].Nearest != "" || problems[1].Line != 4 {
		t.Errorf("%+v", problems)
	}
}

// What is seen of one sender is what becomes of their message.
func TestReachesFrom(t *testing.T) {
	r := sample.Load(t, quayside)
	for text, holds := range map[string]bool{
		"reaches ann@kelp.example in inbox":                       true,
		"reaches ann@kelp.example in inbox from bob@kelp.example": true,
		"reaches ann@kelp.example in inbox from cat@kelp.example": false,
		"never reaches ann@kelp.example from cat@kelp.example":    true,
		"never reaches ann@kelp.example from bob@kelp.example":    false,
		"never reaches outside":                                   true,
		"reaches bob@kelp.example in inbox":                       false,
		"reaches known and members in inbox":                      false,
		"reaches members and not bob@kelp.example in inbox":       true,
		"never reaches anyone":                                    false,
		"sends only ann@kelp.example or bob@kelp.example":         true,
		"sends only ann@kelp.example":                             false,
		"sends as ann@kelp.example":                               true,
		"sends for ann@kelp.example":                              false,
		"approves at least 1":                                     true,
		"approves at least 2":                                     false,
		"approves bob@kelp.example":                               false,
		"refuses unproven":                                        true,
		"admits ann@kelp.example and not unproven":                true,
		"refuses larger(1MB) and outside":                         true,
	} {
		list, errs := expect.Parse("to desk@kelp.example\n  " + text + "\n")
		if len(errs) > 0 || len(list) != 1 {
			t.Fatalf("%s: %v", text, errs)
		}
		result := expect.Evaluate(r, &list[0])
		if result.Holds != holds || !holds && len(result.Counter) == 0 {
			t.Errorf("%s: holds is %v, %+v", text, result.Holds, result.Counter)
		}
	}
}

// Groups are apart by an empty line, and begin without one.
func TestDraftLayout(t *testing.T) {
	text := expect.Draft(sample.Load(t, quayside), []estate.ID{0, 1})
	if !strings.HasPrefix(text, "to desk@kelp.example\n") || !strings.Contains(text, "\n\nto dumb@kelp.example\n") || strings.Contains(text, "\n\n\n") || strings.HasSuffix(text, "\n\n") {
		t.Errorf("%q", text)
	}
}

// A comment begins with a # at the start of a word, and nowhere else.
func TestComments(t *testing.T) {
	for line, want := range map[string]string{
		"admits outside # x": "admits outside", "admits outside\t# x": "admits outside", "admits a#b@kelp.example": "admits a#b@kelp.example",
		"admits \"a #b\"@kelp.example # c": "admits \"a #b\"@kelp.example", "admits \"a\\\" #b\"@kelp.example # c": "admits \"a\\\" #b\"@kelp.example", "admits outside #": "admits outside",
		"admits where (note=a #1) # c": "admits where (note=a #1)", "admits where (&(a=b)(c=d)) or not where (!(a=x #1))": "admits where (&(a=b)(c=d)) or not where (!(a=x #1))",
	} {
		list, errs := expect.Parse("to desk@kelp.example\n" + line + "\n")
		if len(errs) > 0 || len(list) != 1 || list[0].Text != want {
			t.Errorf("%q is %+v, %v; want %q", line, list, errs, want)
		}
	}
}

// What is drafted of small estates breaks when a setting gives anybody another verdict
// or right to send as the group, and when anybody comes to get it or no longer does.
// That somebody new among the members may post is as it was stated.
func TestDraftNotices(t *testing.T) {
	noticed := 0
	for seed := range uint64(60) {
		r := sample.Load(t, sample.Estate(rand.New(rand.NewPCG(seed, 5))))
		e := r.Estate()
		for group := range estate.ID(e.Groups()) {
			text := expect.Draft(r, []estate.ID{group})
			for _, c := range alterations(e, group) {
				altered, err := change.Apply(e, c)
				if err != nil {
					continue // not of this group
				}
				later := resolve.New(altered, r.Today())
				differs := received(r, group) != received(later, group)
				if _, isSetting := c.(change.SetSetting); isSetting {
					differs = differs || permitted(r, group) != permitted(later, group)
				}
				if differs && len(broken(t, later, text)) == 0 {
					t.Fatalf("estate %d: %T%+v is not noticed by\n%s", seed, c, c, text)
				}
				if differs {
					noticed++
				}
			}
		}
	}
	if noticed < 500 {
		t.Errorf("only %d changes were tried", noticed)
	}
}

// alterations are changes of one group.
func alterations(e *estate.Estate, group estate.ID) []change.Change {
	list := []change.Change{
		change.SetSetting{Group: group, Setting: "gate", Texts: []string{"admit anyone"}},
		change.SetSetting{Group: group, Setting: "gate", Texts: []string{"refuse unproven", "admit inside"}},
		change.SetSetting{Group: group, Setting: "gate", Texts: []string{"hold suspect", "admit members", "drop outside"}},
		change.SetSetting{Group: group, Setting: "gate", Texts: []string{"refuse automatic", "hold invitation", "admit known"}},
		change.SetSetting{Group: group, Setting: "send-as", Texts: []string{"as members"}},
		change.SetSetting{Group: group, Setting: "send-as"},
		change.SetSetting{Group: group, Setting: "copy", Texts: []string{"digest"}},
	}
	for i := range e.Entries(group) {
		list = append(list, change.RemoveMember{Group: group, Entry: i})
	}
	for _, id := range e.PeopleByAddress() {
		list = append(list, change.AddMember{Group: group, Member: change.Member{Address: e.Address(id)}})
	}
	return list
}

// received is what people get in their mailbox.
func received(r *resolve.Resolver, group estate.ID) string {
	var b strings.Builder
	for _, recipient := range r.Deliver(resolve.Query{Group: group}).Recipients() {
		if recipient.Outcome <= resolve.Digest {
			fmt.Fprintln(&b, r.Estate().Address(recipient.ID), recipient.Outcome)
		}
	}
	return b.String()
}

// permitted is what people and strangers may, asked one by one.
func permitted(r *resolve.Resolver, group estate.ID) string {
	e := r.Estate()
	var b strings.Builder
	strangers := r.Strangers()
	senders := []resolve.Sender{strangers.Outside, strangers.Inside}
	for _, id := range e.PeopleByAddress() {
		senders = append(senders, r.Sender(e.Address(id)))
	}
	for _, s := range senders {
		how, _ := r.Rights(group).SendAs(s)
		fmt.Fprint(&b, s.Address, how)
		for _, m := range []resolve.Message{{}, {Unproven: true}, {Suspect: true}, {Automatic: true}, {Invitation: true}} {
			if !m.Unproven || s.ID != estate.None || s.Inside {
				fmt.Fprint(&b, " ", r.Gate(group).Judge(s, m).Verdict)
			}
		}
		fmt.Fprintln(&b)
	}
	return b.String()
}
