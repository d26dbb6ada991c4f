package effect_test

import (
	"fmt"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/change/changetest"
	"yorvet.example/yorvet/internal/core/effect"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/golden"
	"yorvet.example/yorvet/internal/sample"
)

// All that is reported of a change of each type, and of the demo beside what its service
// does: testdata/said.txt was read by people.
func TestSaid(t *testing.T) {
	var b strings.Builder
	quay := sample.Load(t, changetest.Quay)
	for i, c := range changetest.Alterations(quay.Estate()) {
		text := changetest.Quay
		for j := 0; j < len(c.Rewrite); j += 2 {
			text = strings.Replace(text, c.Rewrite[j], c.Rewrite[j+1], -1)
		}
		after := sample.Load(t, text)
		fmt.Fprintf(&b, "%d %T\n", i, c.Change)
		describe(&b, quay, after)
		fmt.Fprintf(&b, "%d and back\n", i)
		describe(&b, after, quay)
	}
	b.WriteString("demo\n")
	ours, served := sample.Demo(t, demo.Estate), sample.Demo(t, "served")
	describe(&b, ours, served)
	b.WriteString("demo and back\n")
	describe(&b, served, ours)
	golden.Compare(t, "said.txt", b.String())
}

// describe writes a report with names.
func describe(b *strings.Builder, older, newer *resolve.Resolver) {
	a, e := older.Estate(), newer.Estate()
	list := func(e *estate.Estate, ids []estate.ID) string {
		var all []string
		for _, id := range ids {
			all = append(all, e.Address(id).String())
		}
		return strings.Join(all, " ")
	}
	r := effect.Compare(older, newer)
	for _, p := range []effect.Parties{r.Groups, r.People} {
		fmt.Fprintf(b, "  added [%s] removed [%s] renamed", list(e, p.Added), list(a, p.Removed))
		for _, pair := range p.Renamed {
			fmt.Fprintf(b, " %s>%s", a.Address(pair.Old), e.Address(pair.New))
		}
		b.WriteString("\n")
	}
	for _, s := range r.Estate {
		fmt.Fprintf(b, "  estate %+v\n", s)
	}
	for _, c := range r.Changes {
		fmt.Fprintf(b, "  %s>%s effect %t\n", a.Address(c.Group.Old), e.Address(c.Group.New), c.HasEffect())
		who := func(list []effect.Somebody) string {
			var all []string
			for _, one := range list {
				all = append(all, one.Stranger+one.Address.String())
			}
			return strings.Join(all, " ")
		}
		for _, v := range c.Posts {
			fmt.Fprintf(b, "    posts %+v %+v>%+v [%s]\n", v.Message, v.Old, v.New, who(v.People))
		}
		for _, o := range c.Receives {
			fmt.Fprintf(b, "    gets %+v %s>%s %t %t [%s] from %d [%s]\n", o.Message, o.Old, o.New, o.Before, o.Later, who(o.People), o.Senders, who(o.From))
		}
		for _, s := range c.SendsAs {
			fmt.Fprintf(b, "    sends %s>%s [%s]\n", s.Old, s.New, who(s.People))
		}
		for _, m := range c.May {
			fmt.Fprintf(b, "    %s now %t [%s]\n", m.What, m.Now, who(m.People))
		}
		for _, s := range append(c.Sees, c.Joining...) {
			fmt.Fprintf(b, "    sees or gets %s %q>%q\n", s.Name, s.Old, s.New)
		}
		for _, s := range c.Settings {
			fmt.Fprintf(b, "    %s %q>%q\n", s.Name, s.Old, s.New)
		}
	}
	for _, p := range r.Persons {
		fmt.Fprintf(b, "  %s>%s %+v\n", a.Address(p.Person.Old), e.Address(p.Person.New), p.Settings)
	}
	for _, f := range r.Appearing {
		fmt.Fprintf(b, "  new %s %s %s\n", f.Check.Name, e.Address(f.Group), f.Address)
	}
	for _, f := range r.Going {
		fmt.Fprintf(b, "  gone %s %s %s\n", f.Check.Name, a.Address(f.Group), f.Address)
	}
	for _, n := range r.Notices {
		fmt.Fprintf(b, "  notice %s [%s]\n", e.Address(n.Group), list(e, n.People))
	}
	for _, c := range r.Causes {
		fmt.Fprintf(b, "  because %+v\n", c)
	}
	fmt.Fprintf(b, "  %d notices, empty %t\n", r.Count(), r.IsEmpty())
}

// What is reported of each setting by itself, from its default to another value, on to a
// third and back: testdata/settings.txt was read by people.
func TestSettingsSaid(t *testing.T) {
	const head = `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example}, {address: bob@kelp.example, mailbox: full}, {address: eve@kelp.example}]
groups:
  - address: crew@kelp.example
    title: Crew
    members: [ann@kelp.example, {address: bob@kelp.example, copy: digest}, c@out.example, mates@kelp.example]
  - {address: mates@kelp.example, owners: [ann@kelp.example], members: [eve@kelp.example], gate: [admit anyone]}
  - {address: all@kelp.example, owners: [ann@kelp.example], members: [crew@kelp.example], gate: [admit in crew@kelp.example]}
`
	var b strings.Builder
	for s := range estate.GroupSettings() {
		values, ok := others[s.Name]
		if s.Form == estate.FormAccess {
			values, ok = [2]string{"owners or anyone", "nobody and members"}, true
		}
		if !ok || s.Name == "address" || s.Name == "title" {
			continue
		}
		written := func(value string) *resolve.Resolver {
			line := ""
			switch action, isAccess := strings.CutPrefix(s.Name, "access."); {
			case value == "":
			case isAccess:
				line = "    access: {" + action + ": " + value + "}\n"
			default:
				line = "    " + s.Name + ": " + value + "\n"
			}
			return sample.Load(t, strings.Replace(head, "    title: Crew\n", "    title: Crew\n"+line, 1))
		}
		none, first, second := written(""), written(values[0]), written(values[1])
		for _, step := range []struct {
			name       string
			was, later *resolve.Resolver
		}{{"-> " + values[0], none, first}, {values[0] + " -> " + values[1], first, second}, {values[1] + " ->", second, none}} {
			fmt.Fprintf(&b, "%s %s\n", s.Name, step.name)
			describe(&b, step.was, step.later)
		}
	}
	golden.Compare(t, "settings.txt", b.String())
}
