package directory_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/estatefile"
)

// followed is an estate that follows a source "hq": its lines are what is changed,
// added and left.
const followed = `yorvet: 1
domains: [kelp.example]
people:
  - address: ann@kelp.example
    name: Ann
    also: [anna@kelp.example]
    attributes: {base: pier}
  - address: bob@kelp.example
    mailbox: full
  - address: cat@kelp.example
  - address: dan@kelp.example
groups:
  - address: crew@kelp.example
    managed-in: hq
    title: Crew
    also: [team@kelp.example]
    access: {read: members}
    owners: [ann@kelp.example, bob@kelp.example]
    members:
      - {address: ann@kelp.example, copy: digest}
      - {address: bob@kelp.example, paused: true}
      - where: (base=pier)
  - address: deck@kelp.example
    managed-in: hq
    members:
      - dan@kelp.example
  - address: yard@kelp.example
    owners: [deck@kelp.example]
    moderators: [deck@kelp.example]
    members:
      - cat@kelp.example
      - deck@kelp.example
  - address: tow@kelp.example
    managed-in: works
    members:
      - deck@kelp.example
`

// update brings an estate to where a source is, and returns the lines that went and
// came, in order of the text, what the update says, and what it remarks.
func update(t *testing.T, text string, options directory.Options, list ...*directory.Directory) string {
	t.Helper()
	return updateBy(t, text, options, directory.MergeOptions{Domains: []string{"kelp.example"}}, list...)
}

func updateBy(t *testing.T, text string, options directory.Options, merge directory.MergeOptions,
	list ...*directory.Directory) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "estate.yaml")
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	d, err := estatefile.Open(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	m := directory.Merge(list, merge)
	gone := m.Update(d, options)
	if err := d.Write(); err != nil {
		t.Fatal(err)
	}
	now, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	before, after := strings.Split(text, "\n"), strings.Split(string(now), "\n")
	var out []string
	for _, line := range before {
		if !slices.Contains(after, line) {
			out = append(out, "- "+strings.TrimSpace(line))
		}
	}
	for _, line := range after {
		if !slices.Contains(before, line) {
			out = append(out, "+ "+strings.TrimSpace(line))
		}
	}
	if len(gone.Groups)+len(gone.People) > 0 {
		out = append(out, fmt.Sprint("gone ", gone.Groups, gone.People))
	}
	for _, r := range m.Remarks {
		out = append(out, mark(r)+r.String())
	}
	for _, c := range m.Conflicts {
		out = append(out, strings.ReplaceAll(c.String(), filepath.Dir(path)+"/", ""))
	}
	for _, c := range m.Coverage {
		for _, lost := range c.Lost {
			out = append(out, "lost "+lost.String())
		}
	}
	return strings.Join(out, "\n")
}

// source is what hq holds where nothing is different from the estate.
func source() *directory.Directory {
	managed := estatefile.Field{Name: "managed-in", Text: "hq"}
	return &directory.Directory{
		Name: "hq", File: "hq.ldif",
		People: []directory.Person{
			{Line: 1, Address: "ann@kelp.example", Name: "Ann", Attributes: []estate.Attribute{{Name: "base", Value: "pier"}}},
			{Line: 2, Address: "bob@kelp.example", Mailbox: "full"},
			{Line: 3, Address: "cat@kelp.example"},
			{Line: 4, Address: "dan@kelp.example"},
		},
		Groups: []directory.Group{
			{
				Line: 5, Address: "crew@kelp.example",
				Settings: []estatefile.Field{{Name: "title", Text: "Crew"}, managed},
				Owners:   []string{"ann@kelp.example", "bob@kelp.example"},
				Members: append(members("ann@kelp.example", "bob@kelp.example"),
					estatefile.Member{Where: "(base=pier)"}),
			},
			{
				Line: 6, Address: "deck@kelp.example", Settings: []estatefile.Field{managed},
				Members: members("dan@kelp.example"),
			},
		},
	}
}

// What a source says otherwise is changed, where it stands, and nothing else.
func TestUpdate(t *testing.T) {
	today, err := estate.ParseDay("2026-11-23")
	if err != nil {
		t.Fatal(err)
	}
	tests := []struct {
		name    string
		change  func(d *directory.Directory)
		options directory.Options
		want    string
	}{
		{name: "the same", change: func(*directory.Directory) {}},
		{name: "the same in capitals", change: func(d *directory.Directory) {
			d.People[0].Address, d.Groups[0].Members[1].Address = "ANN@kelp.example", "Bob@Kelp.example"
		}},
		{name: "a name and a mailbox", change: func(d *directory.Directory) {
			d.People[0].Name, d.People[1].Mailbox = "Ann Oake", "open"
		}, want: "- name: Ann\n- mailbox: full\n+ name: Ann Oake"},
		{name: "an attribute", change: func(d *directory.Directory) { d.People[0].Attributes[0].Value = "quay" },
			want: "- attributes: {base: pier}\n+ attributes: {base: quay}"},
		{name: "an attribute of two values", change: func(d *directory.Directory) {
			d.People[0].Attributes = append(d.People[0].Attributes, estate.Attribute{Name: "Base", Value: "quay"})
		}, want: "- attributes: {base: pier}\n+ attributes: {base: [pier, quay]}"},
		{name: "another main address", change: func(d *directory.Directory) {
			d.People[0].Address, d.People[0].Also = "anna@kelp.example", []string{"ann@kelp.example"}
			d.Groups[0].Owners[0], d.Groups[0].Members[0].Address = "anna@kelp.example", "anna@kelp.example"
		}, want: "- - address: ann@kelp.example\n- also: [anna@kelp.example]\n" +
			"- owners: [ann@kelp.example, bob@kelp.example]\n- - {address: ann@kelp.example, copy: digest}\n" +
			"+ - address: anna@kelp.example\n+ also: [ann@kelp.example]\n" +
			"+ owners: [anna@kelp.example, bob@kelp.example]\n+ - {address: anna@kelp.example, copy: digest}"},
		{name: "an address that nobody had", change: func(d *directory.Directory) {
			d.People[0].Address, d.People[0].Also = "ane@kelp.example", []string{"ann@kelp.example"}
			d.Groups[0].Owners[0], d.Groups[0].Members[0].Address = "ane@kelp.example", "ane@kelp.example"
		}, want: "- - address: ann@kelp.example\n- also: [anna@kelp.example]\n" +
			"- owners: [ann@kelp.example, bob@kelp.example]\n- - {address: ann@kelp.example, copy: digest}\n" +
			"+ - address: ane@kelp.example\n+ also: [anna@kelp.example, ann@kelp.example]\n" +
			"+ owners: [ane@kelp.example, bob@kelp.example]\n+ - {address: ane@kelp.example, copy: digest}"},
		{name: "one more address", change: func(d *directory.Directory) { d.People[0].Also = []string{"oake@kelp.example"} },
			want: "- also: [anna@kelp.example]\n+ also: [anna@kelp.example, oake@kelp.example]"},
		{name: "somebody new", change: func(d *directory.Directory) {
			d.People = append(d.People, directory.Person{Line: 9, Address: "eve@kelp.example", Name: "Eve"})
		}, want: "+ - address: eve@kelp.example\n+ name: Eve"},
		{name: "somebody new, with all that a person may have", change: func(d *directory.Directory) {
			d.People = append(d.People, directory.Person{Line: 9, Address: "eve@kelp.example", Name: "Eve", Mailbox: "closed",
				Also: []string{"e@kelp.example", "eva@kelp.example"}, Attributes: []estate.Attribute{{Name: "base", Value: "quay"}}})
		}, want: "+ - address: eve@kelp.example\n+ name: Eve\n+ also: [e@kelp.example, eva@kelp.example]\n+ mailbox: closed\n+ attributes: {base: quay}"},
		{name: "a member that does not exist, twice", change: func(d *directory.Directory) {
			d.Groups[1].Members = append(d.Groups[1].Members, members("ghost@kelp.example", "GHOST@kelp.example")...)
		}, want: "+ - ghost@kelp.example"},
		{name: "a setting", change: func(d *directory.Directory) { d.Groups[0].Settings[0].Text = "All crew" },
			want: "- title: Crew\n+ title: All crew"},
		{name: "a setting at its default", change: func(d *directory.Directory) {
			d.Groups[0].Settings = append(d.Groups[0].Settings, estatefile.Field{Name: "copy", Text: "every"})
		}},
		{name: "a setting that was not there", change: func(d *directory.Directory) {
			d.Groups[1].Settings = append(d.Groups[1].Settings, estatefile.Field{Name: "copy", Text: "digest"})
		}, want: "+ copy: digest"},
		{name: "access", change: func(d *directory.Directory) {
			d.Groups[0].Access = []estatefile.Field{{Name: "read", Text: "owners"}}
		}, want: "- access: {read: members}\n+ access: {read: owners}"},
		{name: "the same access", change: func(d *directory.Directory) {
			d.Groups[0].Access = []estatefile.Field{{Name: "read", Text: "members"}}
		}},
		{name: "an owner less", change: func(d *directory.Directory) { d.Groups[0].Owners = d.Groups[0].Owners[:1] },
			want: "- owners: [ann@kelp.example, bob@kelp.example]\n+ owners: [ann@kelp.example]"},
		{name: "an owner more", change: func(d *directory.Directory) {
			d.Groups[0].Owners = append(d.Groups[0].Owners, "dan@kelp.example")
		}, want: "- owners: [ann@kelp.example, bob@kelp.example]\n" +
			"+ owners: [ann@kelp.example, bob@kelp.example, dan@kelp.example]"},
		{name: "a moderator more", change: func(d *directory.Directory) {
			d.Groups[0].Mods = []string{"dan@kelp.example"}
		}, want: "+ moderators:"},
		{name: "no owners are said", change: func(d *directory.Directory) { d.Groups[0].Owners = nil }},
		{name: "a group with another main address", change: func(d *directory.Directory) {
			d.Groups[0].Address = "team@kelp.example"
		}, want: "- - address: crew@kelp.example\n- also: [team@kelp.example]\n" +
			"+ - address: team@kelp.example\n+ also: [crew@kelp.example]"},
		{name: "all addresses of a group", change: func(d *directory.Directory) {
			d.Groups[0].Also = []string{"hands@kelp.example"}
		}, want: "- also: [team@kelp.example]\n+ also: [hands@kelp.example]"},
		{name: "another of the addresses", change: func(d *directory.Directory) {
			d.Groups[0].Also = []string{"hands@kelp.example", "team@kelp.example"}
		}, want: "- also: [team@kelp.example]\n+ also: [team@kelp.example, hands@kelp.example]"},
		{name: "a member less", change: func(d *directory.Directory) { d.Groups[0].Members = d.Groups[0].Members[1:] },
			want: "- - {address: ann@kelp.example, copy: digest}"},
		{name: "a member more", change: func(d *directory.Directory) {
			d.Groups[1].Members = members("dan@kelp.example", "bob@kelp.example", "eve@out.example")
		}, options: directory.Options{Today: today},
			want: "+ - {address: bob@kelp.example, since: 2026-11-23}\n" +
				"+ - {address: eve@out.example, since: 2026-11-23}"},
		{name: "the same members and rules twice", change: func(d *directory.Directory) {
			d.Groups[1].Members = members("dan@kelp.example", "dan@kelp.example", "eve@out.example", "eve@out.example", "cat@kelp.example")
			for range 2 {
				d.Groups[1].Members = append(d.Groups[1].Members, estatefile.Member{Where: "(base=quay)"}, estatefile.Member{Everyone: true})
			}
		}, options: directory.Options{Today: today},
			want: "+ - {address: eve@out.example, since: 2026-11-23}\n+ - {address: cat@kelp.example, since: 2026-11-23}\n" +
				"+ - {where: (base=quay)}\n+ - {everyone: true}"},
		{name: "a group that comes, and is a member", change: func(d *directory.Directory) {
			d.Groups = append(d.Groups, directory.Group{Line: 9, Address: "new@kelp.example", Members: members("cat@kelp.example")})
			d.Groups[1].Members = members("dan@kelp.example", "new@kelp.example")
		}, options: directory.Options{Today: today},
			want: "+ - new@kelp.example\n+ - address: new@kelp.example"},
		{name: "somebody outside who stays", change: func(d *directory.Directory) {
			d.People = append(d.People, directory.Person{Line: 9, Address: "eve@out.example"})
			d.Groups[1].Members = members("dan@kelp.example", "eve@out.example")
		}, want: "+ - address: eve@out.example\n+ - eve@out.example"},
		{name: "somebody outside, who is a member by address alone", change: func(d *directory.Directory) {
			d.Groups[1].Members = members("dan@kelp.example", "eve@out.example")
			d.People = append(d.People, directory.Person{Line: 9, Address: "eve@out.example", Name: "Eve"})
			d.Groups = append(d.Groups, directory.Group{Line: 10, Address: "isle@kelp.example", Members: members("eve@out.example")})
		}, want: "+ - address: eve@out.example\n+ name: Eve\n+ - eve@out.example\n+ - address: isle@kelp.example\n+ - eve@out.example"},
		{name: "a copy that is said", change: func(d *directory.Directory) { d.Groups[0].Members[0].Copy = estate.CopyNone },
			want: "- - {address: ann@kelp.example, copy: digest}\n+ - {address: ann@kelp.example, copy: none}"},
		{name: "invitations that are said", change: func(d *directory.Directory) {
			d.Groups[1].Members[0].Invitations = estate.InvitationsNone
		}, want: "- - dan@kelp.example\n+ - {address: dan@kelp.example, invitations: none}"},
		{name: "a date that is said", change: func(d *directory.Directory) {
			d.Groups[1].Members[0].Since = today
		}, want: "- - dan@kelp.example\n+ - {address: dan@kelp.example, since: 2026-11-23}"},
		{name: "a rule less", change: func(d *directory.Directory) { d.Groups[0].Members = d.Groups[0].Members[:2] },
			want: "- - where: (base=pier)"},
		{name: "another rule", change: func(d *directory.Directory) { d.Groups[0].Members[2].Where = "(base=quay)" },
			want: "- - where: (base=pier)\n+ - {where: (base=quay)}"},
		{name: "a rule more", change: func(d *directory.Directory) {
			d.Groups[0].Members = append(d.Groups[0].Members, estatefile.Member{Where: "(base=quay)"})
		}, want: "+ - {where: (base=quay)}"},
		{name: "a rule's copy", change: func(d *directory.Directory) { d.Groups[0].Members[2].Copy = estate.CopyDigest },
			want: "+ copy: digest"},
		{name: "a group that went", change: func(d *directory.Directory) { d.Groups = d.Groups[:1] },
			want: "- - address: deck@kelp.example\n- - dan@kelp.example\n" +
				"- owners: [deck@kelp.example]\n- moderators: [deck@kelp.example]\n" +
				"- - deck@kelp.example\n- - deck@kelp.example\n" +
				"gone [deck@kelp.example] []"},
		{name: "a group that may just not have been read", change: func(d *directory.Directory) {
			d.Groups, d.People, d.Partial = d.Groups[:1], d.People[:2], true
		}},
		{name: "somebody who went", change: func(d *directory.Directory) { d.People = slices.Delete(d.People, 2, 3) },
			want: "gone [] [cat@kelp.example]"},
		{name: "somebody who is pruned", change: func(d *directory.Directory) { d.People = slices.Delete(d.People, 2, 3) },
			options: directory.Options{Prune: true},
			want:    "- - address: cat@kelp.example\n- - cat@kelp.example\ngone [] [cat@kelp.example]"},
		{name: "a person who is a group", change: func(d *directory.Directory) {
			d.People = append(d.People, directory.Person{Line: 9, Address: "yard@kelp.example"})
		}, want: "?! hq.ldif:9: yard@kelp.example is a group in the estate, and no person"},
		{name: "a group that is a person", change: func(d *directory.Directory) {
			d.People = slices.Delete(d.People, 2, 3)
			d.Groups = append(d.Groups, directory.Group{Line: 9, Address: "cat@kelp.example"})
		}, want: "gone [] [cat@kelp.example]\n?! hq.ldif:9: cat@kelp.example is a person in the estate, and no group"},
		{name: "a group of another system", change: func(d *directory.Directory) {
			d.Groups = append(d.Groups, directory.Group{Line: 9, Address: "tow@kelp.example",
				Settings: []estatefile.Field{{Name: "managed-in", Text: "hq"}}, Members: members("dan@kelp.example")})
		}, want: "?! hq.ldif:9: tow@kelp.example is managed in works by the estate, not in hq; " +
			"what this source says of it is not taken"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			d := source()
			test.change(d)
			if got := update(t, followed, test.options, d); got != test.want {
				t.Errorf("changed\n%s\nwant\n%s", got, test.want)
			}
		})
	}
}

// A group that goes while one comes with the same members may be a rename, and is told as one;
// nothing is told where there is doubt.
func TestMaybeRenamed(t *testing.T) {
	const told = "?! hq.ldif:5: hands@kelp.example comes and crew@kelp.example goes, with the same 3 members: " +
		"if that is a rename, \"yorvet group rename crew@kelp.example hands@kelp.example\" first keeps its gate " +
		"and what members chose"
	for _, test := range []struct {
		name   string
		change func(d *directory.Directory)
		want   string
	}{
		{"another name", func(*directory.Directory) {}, "gone [crew@kelp.example] []\n" + told},
		{"in another order", func(d *directory.Directory) { slices.Reverse(d.Groups[0].Members) },
			"gone [crew@kelp.example] []\n" + told},
		{"two that may be it", func(d *directory.Directory) {
			second := d.Groups[0]
			second.Address = "gang@kelp.example"
			d.Groups = append(d.Groups, second)
		}, "gone [crew@kelp.example] []"},
		{"a member less", func(d *directory.Directory) { d.Groups[0].Members = d.Groups[0].Members[1:] },
			"gone [crew@kelp.example] []"},
		{"another rule", func(d *directory.Directory) { d.Groups[0].Members[2].Where = "(base=quay)" },
			"gone [crew@kelp.example] []"},
		{"everyone in place of the rule", func(d *directory.Directory) {
			d.Groups[0].Members[2] = estatefile.Member{Everyone: true}
		}, "gone [crew@kelp.example] []"},
		{"one member is no sign", func(d *directory.Directory) {
			d.Groups[0].Address, d.Groups[1].Address = "crew@kelp.example", "hands@kelp.example"
		}, "gone [deck@kelp.example] []"},
	} {
		d := source()
		d.Groups[0].Address = "hands@kelp.example"
		test.change(d)
		got := update(t, followed, directory.Options{}, d)
		if _, got, _ = strings.Cut(got, "\ngone"); "gone"+got != test.want {
			t.Errorf("%s:\ngone%s\nwant\n%s", test.name, got, test.want)
		}
	}
}

// An alias of the estate makes nobody somebody else, the first of its people neither: who has it
// keeps it, which is told once, unless the other is preferred.
func TestUpdateAlias(t *testing.T) {
	const text = "yorvet: 1\ndomains: [kelp.example]\npeople:\n  - address: ann@kelp.example\n    also: [cat@kelp.example]\n"
	ann, cat := directory.Person{Line: 2, Address: "ann@kelp.example"}, directory.Person{Line: 3, Address: "cat@kelp.example", Name: "Cat"}
	claims := directory.Person{Line: 2, Address: "ann@kelp.example", Also: []string{"cat@kelp.example"}}
	const kept = "cat@kelp.example: this is an alias of ann@kelp.example (estate.yaml:4:14), not an address of cat@kelp.example (t:3)\n" +
		"lost an address of cat@kelp.example"
	const parted = "- also: [cat@kelp.example]\n+ - address: cat@kelp.example\n+ name: Cat"
	for name, c := range map[string]struct {
		people []directory.Person
		prefer []string
		want   string
	}{
		"another has it":              {[]directory.Person{ann, cat}, nil, kept},
		"another, and the first goes": {[]directory.Person{cat}, nil, kept},
		"both have it":                {[]directory.Person{claims, cat}, nil, kept},
		"another is preferred":        {[]directory.Person{ann, cat}, []string{"cat@kelp.example"}, parted},
		"both, another is preferred": {[]directory.Person{claims, cat}, []string{"cat@kelp.example"}, parted +
			"\ncat@kelp.example: this is a main address (t:3), not an alias of ann@kelp.example (t:2)\nlost an address of ann@kelp.example"},
		"both, the first is preferred": {[]directory.Person{claims, cat}, []string{"ann@kelp.example"},
			"cat@kelp.example: this is an alias of ann@kelp.example (t:2), not a main address (t:3)\nlost an address of cat@kelp.example"},
	} {
		t.Run(name, func(t *testing.T) {
			d := &directory.Directory{Name: "t", File: "t", People: slices.Clone(c.people), Coverage: &directory.Coverage{}}
			got := updateBy(t, text, directory.Options{}, directory.MergeOptions{Domains: []string{"kelp.example"}, Prefer: c.prefer}, d)
			if got != c.want {
				t.Errorf("it says\n%s\nand should\n%s", got, c.want)
			}
		})
	}
}

// One source that is not all there is enough for nothing to be taken out.
func TestUpdatePartial(t *testing.T) {
	for _, order := range [][]int{{0, 1}, {1, 0}} {
		list := []*directory.Directory{{Name: "hq", File: "hq.ldif"}, {Name: "works", File: "w.ldif", Partial: true}}
		got := update(t, followed, directory.Options{Prune: true}, list[order[0]], list[order[1]])
		if got != "" {
			t.Errorf("in order %v, changed\n%s", order, got)
		}
	}
}

// What a map owns is taken away where the source says it no longer, and only that; members
// that a table has a column for are those that it says, if none.
func TestUpdateOwned(t *testing.T) {
	m, err := directory.ParseMap("office.yaml", []byte(office))
	if err != nil {
		t.Fatal(err)
	}
	const text = `yorvet: 1
domains: [kelp.example]
people: []
groups:
  - address: g@kelp.example
    managed-in: hq
    about: All of us
    subject-tag: "[g]"
    access: {read: owners}
    members:
      - {address: eve@out.example, copy: none}
`
	for _, test := range []struct{ entry, want string }{
		{"g kind=group mail=g@kelp.example text=All_of_us roster=eve@out.example", ""},
		{"g kind=group mail=g@kelp.example text=Us roster=eve@out.example", "- about: All of us\n+ about: Us"},
		{"g kind=group mail=g@kelp.example roster=eve@out.example", "- about: All of us"},
		{"g kind=group mail=g@kelp.example text=All_of_us roster=", "- members:\n- - {address: eve@out.example, copy: none}"},
		{"g kind=group mail=g@kelp.example text=All_of_us member=", "- members:\n- - {address: eve@out.example, copy: none}"},
		{"g kind=group mail=g@kelp.example text=All_of_us", ""},
	} {
		c := directory.NewCollector("hq", "hq.csv", m, "kelp.example", strings.ToLower)
		c.Add(entry(1, test.entry))
		if got := update(t, text, directory.Options{}, c.Finish()); got != test.want {
			t.Errorf("%s: changed\n%s\nwant\n%s", test.entry, got, test.want)
		}
	}
}

func TestPlain(t *testing.T) {
	for text, want := range map[string]string{
		"Deck\tand\nbridge":        "Deck\tand\nbridge",
		"a\r\nb\rc":                "a\nbc",
		"a\x1b[31mb\x00":           "a[31mb",
		"a\u2028b\u2029c\u0085d":   "abcd",
		"Größe, \u00a0 and \u200d": "Größe, \u00a0 and \u200d",
	} {
		if got := directory.Plain(text); got != want {
			t.Errorf("Plain(%q) is %q, want %q", text, got, want)
		}
	}
}
