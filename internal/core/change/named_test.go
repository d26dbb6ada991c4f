package change_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/sample"
)

// What names somebody in rules names their heir, or nobody in their place.
func TestNamed(t *testing.T) {
	const head = "yorvet: 1\ndomains: [k.example]\npeople: [{address: ann@k.example, also: [a@k.example]}, {address: bob@k.example}]\ngroups:\n- address: g@k.example\n"
	for _, test := range []struct{ rules, renamed, unnamed string }{
		{"gate: [admit ann@k.example]", "admit bob@k.example", ""},
		{"gate: ['admit ann@k.example or members']", "admit bob@k.example or members", "admit members"},
		{"gate: ['hold not (a@k.example or suspect) and inside because \"It is (ann@k.example).\"']",
			"hold not (bob@k.example or suspect) and inside because \"It is (ann@k.example).\"", "hold not suspect and inside because \"It is (ann@k.example).\""},
		{"gate: ['refuse not ann@k.example']", "refuse not bob@k.example", "refuse anyone"},
		{"gate: ['admit (ann@k.example and inside) or @x.example', 'hold anyone']", "admit (bob@k.example and inside) or @x.example|hold anyone", "admit @x.example|hold anyone"},
		{"send-as: ['as ann@k.example', 'for members']", "as bob@k.example|for members", "for members"},
		{"access: {find: 'ann@k.example or owners', read: ann@k.example, manage: 'not ann@k.example'}", "bob@k.example or owners|bob@k.example|not bob@k.example", "owners|nobody|anyone"},
	} {
		e := sample.Load(t, head+"  "+test.rules+"\n").Estate()
		ann, bob := e.PersonID(0), e.PersonID(1)
		for want, changes := range map[string][]change.Change{
			test.renamed: change.Renamed(e, ann, e.Address(bob)), test.unnamed: change.Unnamed(e, ann),
		} {
			later, err := change.Apply(e, changes...)
			if err != nil {
				t.Fatalf("%s: %v", test.rules, err)
			}
			var got []string
			for _, r := range later.Group(0).Gate {
				if r.Place != (estate.Place{}) || len(later.Group(0).Gate) > 1 || r.Text != "admit inside" {
					got = append(got, r.Text)
				}
			}
			for _, r := range later.Group(0).SendAs {
				got = append(got, r.Text)
			}
			if strings.HasPrefix(test.rules, "access") {
				got = nil
				for _, action := range []estate.Action{estate.Find, estate.Read, estate.Manage} {
					got = append(got, later.Group(0).Access[action].Text)
				}
			}
			if strings.Join(got, "|") != want {
				t.Errorf("%s becomes %q, want %q", test.rules, got, want)
			}
		}
	}
}

// Whom nobody names any more is judged for nobody else in another way.
func TestUnnamedIsAboutOne(t *testing.T) {
	random := rand.New(rand.NewPCG(14, 7))
	changed := 0
	for n := range 400 {
		r := sample.Load(t, sample.Estate(random))
		e := r.Estate()
		if e.People() < 2 {
			continue
		}
		who := e.PersonID(random.IntN(e.People()))
		changes := change.Unnamed(e, who)
		changed += len(changes)
		later, err := change.Apply(e, changes...)
		if err != nil {
			t.Fatalf("estate %d: %v", n, err)
		}
		for g := range estate.ID(later.Groups()) {
			for _, rule := range later.Group(g).Gate {
				selector.Atoms(rule.Selector, func(a *selector.Atom) {
					if id, ok := later.Find(a.Address); a.Kind == selector.Is && ok && id == who {
						t.Errorf("estate %d: %s still names %s", n, rule.Text, a.Address)
					}
				})
			}
		}
		now := resolve.New(later, r.Today())
		senders := []address.Address{address.MustParse("stranger@else.example")}
		for i := range e.People() {
			if id := e.PersonID(i); id != who {
				senders = append(senders, e.Address(id))
			}
		}
		for g := range estate.ID(e.Groups()) {
			for _, a := range senders {
				for _, m := range []resolve.Message{{}, {Unproven: true}, {Suspect: true, Automatic: true}} {
					if x, y := r.Gate(g).Judge(r.Sender(a), m).Verdict, now.Gate(g).Judge(now.Sender(a), m).Verdict; x != y {
						t.Fatalf("estate %d: %s to %s: %s became %s", n, a, e.Address(g), x, y)
					}
				}
			}
		}
	}
	if changed < 50 {
		t.Errorf("only %d rules changed", changed)
	}
}

// What somebody is in groups, their heir is after them, once, and keeps what they are already.
func TestHandOver(t *testing.T) {
	const text = `yorvet: 1
domains: [k.example]
people: [{address: ann@k.example}, {address: bob@k.example}, {address: cat@k.example}]
groups:
  - address: one@k.example
    owners: [ann@k.example, cat@k.example]
    moderators: [ann@k.example]
    members: [{address: ann@k.example, copy: digest, invitations: none, since: 2020-01-01, paused: true}, cat@k.example]
    gate: [admit ann@k.example]
  - address: two@k.example
    owners: [bob@k.example, ann@k.example]
    moderators: [ann@k.example, bob@k.example]
    members: [{address: bob@k.example, copy: none}, ann@k.example]
  - address: three@k.example
    owners: [cat@k.example]
    members: [ann@k.example, {address: ann@k.example, copy: none}]
  - address: four@k.example
    members: [cat@k.example]
`
	e := sample.Load(t, text).Estate()
	today, err := estate.ParseDay("2026-11-23")
	if err != nil {
		t.Fatal(err)
	}
	later, err := change.Apply(e, change.HandOver(e, e.PersonID(0), e.PersonID(1), today)...)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for id := range estate.ID(later.Groups()) {
		g := later.Group(id)
		line := later.Address(id).String()
		for _, l := range g.Owners {
			line += " owner " + later.Address(l.ID).String()
		}
		for _, l := range g.Moderators {
			line += " moderator " + later.Address(l.ID).String()
		}
		for _, entry := range later.Entries(id) {
			m := entry.Membership()
			line += " member " + later.Address(entry.Member).String() + " " + m.Copy.String() + " " + m.Invitations.String()
			if m.Since != 0 {
				line += " " + m.Since.String()
			}
			if m.Paused {
				line += " paused"
			}
		}
		for _, r := range g.Gate {
			line += " " + r.Text
		}
		got = append(got, strings.ReplaceAll(strings.Join(strings.Fields(line), " "), "@k.example", ""))
	}
	want := `one owner cat owner bob moderator bob member cat member bob digest none 2026-11-23 admit bob
two owner bob moderator bob member bob none admit inside
three owner cat member bob 2026-11-23 admit inside
four member cat admit inside`
	if text := strings.Join(got, "\n"); text != want {
		t.Errorf("handed over\n%s\nwant\n%s", text, want)
	}
}
