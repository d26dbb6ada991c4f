package directory_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/sample"
)

// office is a map that has a bit of everything.
const office = `yorvet-map: 1
people:
  - match: (kind=person)
    address: [mail, "{nick}@{domain}"]
    also: alias
    name: [displayName, "{first} {last}"]
    key: number
    mailbox: {from: state, open: [ok], full: [over quota], closed: [left]}
    attributes: {base: office, Post: job}
    member-of: [{from: team, copy: digest}]
  - match: (kind=pilot)
    address: mail
    name: call
    mailbox: {from: mode, open: [ok], closed: [off]}
    others: true
groups:
  - match: (kind=group)
    address: [mail, "{cn}@{domain}"]
    also: alias
    title: cn
    about: text
    owners: [{from: owner}]
    moderators: [{from: judge, by: key}]
    members: [{from: roster, by: address, copy: none}, {from: member}]
    settings: [copy, notify-sender, gate]
    set: {managed-in: hq, access.read: owners}
    set-when:
      - {match: (wide=yes), set: {title: Wide}}
    owns: [about]
`

// entry makes an entry of a text such as "id1 kind=person mail=a@b"; _ stands for a
// blank.
func entry(line int, text string) *directory.Entry {
	words := strings.Fields(text)
	e := &directory.Entry{ID: strings.TrimPrefix(words[0], "-"), Line: line}
	for _, word := range words[1:] {
		name, value, _ := strings.Cut(word, "=")
		e.Add(name, strings.ReplaceAll(value, "_", " "))
	}
	return e
}

// describe tells what a directory holds, a line each.
func describe(d *directory.Directory) []string {
	var out []string
	for _, p := range d.People {
		text := fmt.Sprintf("%d %s also=%v name=%q mailbox=%q", p.Line, p.Address, p.Also, p.Name, p.Mailbox)
		for _, f := range p.Attributes {
			text += " " + f.Name + "=" + f.Value
		}
		out = append(out, text)
	}
	for _, g := range d.Groups {
		text := fmt.Sprintf("%d %s also=%v", g.Line, g.Address, g.Also)
		for _, f := range slices.Concat(g.Settings, g.Access) {
			text += " " + f.Name + "=" + f.Text + strings.Join(f.List, "|")
		}
		text += fmt.Sprintf(" owners=%v mods=%v members:", g.Owners, g.Mods)
		for _, m := range g.Members {
			text += " " + m.Address + m.Where
			if m.Everyone {
				text += "everyone"
			}
			if m.Copy != estate.CopyUnset {
				text += "/" + m.Copy.String()
			}
		}
		out = append(out, text)
	}
	for _, r := range d.Remarks {
		out = append(out, mark(r)+r.String())
	}
	return out
}

// mark is what a remark begins with: ?! where it says that something is left out.
func mark(r directory.Remark) string {
	if r.Harm {
		return "?! "
	}
	return "? "
}

func TestCollect(t *testing.T) {
	const ann = "ann kind=person mail=ann@kelp.example number=N1 displayName=Ann"
	const annIs = `1 ann@kelp.example also=[] name="Ann" mailbox=""`
	const crewHas = " managed-in=hq read=owners owners=[] mods=[] members:"
	tests := []struct {
		name    string
		entries []string
		want    []string
	}{
		{"nothing that matches", []string{"x kind=boat mail=a@kelp.example"}, nil},
		{"a person", []string{ann}, []string{annIs}},
		{"names are one word in capitals or not", []string{"ann KIND=person Mail=ann@kelp.example displayname=Ann"},
			[]string{annIs}},
		{"an address out of a nickname", []string{"b kind=person nick=Bob_Oake first=Bob last=Oake"},
			[]string{`1 bob-oake@kelp.example also=[] name="Bob Oake" mailbox=""`}},
		{"an address out of any nickname", []string{"b kind=person nick=Größe_(2)_x.y-z"},
			[]string{`1 gr-e-2-x.y-z@kelp.example also=[] name="" mailbox=""`}},
		{"half a name", []string{"b kind=person mail=b@kelp.example first=Bob"},
			[]string{`1 b@kelp.example also=[] name="" mailbox=""`}},
		{"a name that is the address", []string{"b kind=person mail=b@kelp.example displayName=b@kelp.example"},
			[]string{`1 b@kelp.example also=[] name="" mailbox=""`}},
		{"aliases", []string{
			"b kind=person mail=b@kelp.example alias=smtp:c@kelp.example alias=x500:o alias=B@kelp.example;d@kelp.example",
		}, []string{`1 b@kelp.example also=[c@kelp.example d@kelp.example] name="" mailbox=""`}},
		{"states", []string{
			"a kind=person mail=a@kelp.example state=OK", "b kind=person mail=b@kelp.example state=over_quota",
			"c kind=person mail=c@kelp.example state=left", "d kind=person mail=d@kelp.example state=odd",
		}, []string{
			`1 a@kelp.example also=[] name="" mailbox="open"`, `2 b@kelp.example also=[] name="" mailbox="full"`,
			`3 c@kelp.example also=[] name="" mailbox="closed"`, `4 d@kelp.example also=[] name="" mailbox=""`,
			`?! hq.csv:4: state of d@kelp.example is "odd", which the map does not know`,
		}},
		{"attributes", []string{"a kind=person mail=a@kelp.example job=_ job=deck job=tow office=pier"},
			[]string{`1 a@kelp.example also=[] name="" mailbox="" Post=deck Post=tow base=pier`}},
		{"all else is an attribute", []string{"a kind=pilot mail=a@kelp.example call=Ay mode=off rank=1;2 name=Bee address=x"},
			[]string{`1 a@kelp.example also=[] name="Ay" mailbox="closed" kind=pilot rank=1 rank=2 name-2=Bee address-2=x`}},
		{"nobody without an address", []string{"a kind=person displayName=Ann", "b kind=person", "- kind=person"},
			[]string{
				"? hq.csv:1: Ann has no address and is left out", "? hq.csv:2: b has no address and is left out",
				"? hq.csv:3: this has no address and is left out",
			}},
		{"no address in it", []string{"a kind=person mail=nowhere displayName=Ann"},
			[]string{`?! hq.csv:1: "nowhere" is no address: there is no @`, "? hq.csv:1: Ann has no address and is left out"}},
		{"an identifier twice", []string{ann, "ann kind=person mail=b@kelp.example"},
			[]string{annIs, `2 b@kelp.example also=[] name="" mailbox=""`,
				"?! hq.csv:2: the identifier ann is there already"}},
		{"a group", []string{"g kind=group cn=Deck_crew"},
			[]string{"1 deck-crew@kelp.example also=[] title=Deck crew" + crewHas}},
		{"a title that is the address", []string{"g kind=group mail=g@kelp.example cn=g@kelp.example alias="},
			[]string{"1 g@kelp.example also=[]" + crewHas}},
		{"settings", []string{"g kind=group mail=g@kelp.example text=Hi copy=digest notify-sender=false access.find=members"},
			[]string{"1 g@kelp.example also=[] about=Hi copy=digest notify-sender=false managed-in=hq" +
				" find=members read=owners owners=[] mods=[] members:"}},
		{"a gate in a cell", []string{"g kind=group mail=g@kelp.example gate=refuse_unproven;admit_anyone"},
			[]string{"1 g@kelp.example also=[] gate=refuse unproven|admit anyone" + crewHas}},
		{"set when", []string{"g kind=group mail=g@kelp.example wide=yes"},
			[]string{"1 g@kelp.example also=[] managed-in=hq title=Wide read=owners owners=[] mods=[] members:"}},
		{"references", []string{
			"g kind=group mail=g@kelp.example member=ann member=mailto:eve@out.example member=nobody owner=ANN judge=n1 judge=N2",
			ann,
		}, []string{
			"2" + annIs[1:],
			"1 g@kelp.example also=[] managed-in=hq read=owners owners=[ann@kelp.example]" +
				" mods=[ann@kelp.example] members: ann@kelp.example eve@out.example",
			"?! hq.csv:1: the moderator N2 of g@kelp.example is not in this source",
			"?! hq.csv:1: the member nobody of g@kelp.example is not in this source",
		}},
		{"a roster", []string{
			"g kind=group mail=g@kelp.example roster=a@kelp.example;b@kelp.example roster=everyone roster=where_(base=x)",
		}, []string{"1 g@kelp.example also=[]" + crewHas +
			" a@kelp.example/none b@kelp.example/none everyone/none (base=x)/none"}},
		{"groups in groups", []string{"g kind=group mail=g@kelp.example member=h", "h kind=group mail=h@kelp.example"},
			[]string{"1 g@kelp.example also=[]" + crewHas + " h@kelp.example", "2 h@kelp.example also=[]" + crewHas}},
		{"member of", []string{"g kind=group mail=g@kelp.example", ann + " team=G team=ann team=gone"},
			[]string{"2" + annIs[1:], "1 g@kelp.example also=[]" + crewHas + " ann@kelp.example/digest",
				"? hq.csv:2: the group ann, of which ann@kelp.example is a member, is not in this source",
				"? hq.csv:2: the group gone, of which ann@kelp.example is a member, is not in this source"}},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			m, err := directory.ParseMap("office.yaml", []byte(office))
			if err != nil {
				t.Fatal(err)
			}
			c := directory.NewCollector("hq", "hq.csv", m, "kelp.example", strings.ToLower)
			for i, text := range test.entries {
				c.Add(entry(i+1, text))
			}
			if got := describe(c.Finish()); !slices.Equal(got, test.want) {
				t.Errorf("collected\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(test.want, "\n"))
			}
		})
	}
}

// What is wrong in a map is said in one go.
func TestMapErrors(t *testing.T) {
	for text, want := range map[string]string{
		"people:\n  - match: (a=b)\n": "people need address, the name of an attribute",
		"groups:\n  - match: (a=b)\n": "groups need address, the name of an attribute",
		"people:\n  - match: (a=b)\n    address: mail\n    member-of: [{copy: digest}]\n":               "member-of",
		"groups:\n  - match: (a=b)\n    address: mail\n    members: [{from: m, by: name}]\n":            "members",
		"groups:\n  - match: (a=b)\n    address: mail\n    owners: [{from: m, by: name}]\n":             "owners",
		"groups:\n  - match: (a=b)\n    address: mail\n    moderators: [{from: m, by: name}]\n":         "moderators",
		"people:\n  - match: (a=b)\n    address: mail\ngroups:\n  - match: (a=b)\n    set: {kind: a}\n": "groups need address",
		"people:\n  - match: (a=\n    address: mail\n":                                                  "never closed",
		"nothing: yes\n": "nothing",
	} {
		if _, err := directory.ParseMap("m.yaml", []byte("yorvet-map: 1\n"+text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

// A map without names gives none to a rule, and takes none from one.
func TestRuleOfNameless(t *testing.T) {
	for text, want := range map[string]bool{"": false, "    name: cn\n": true} {
		m, err := directory.ParseMap("m.yaml", []byte("yorvet-map: 1\npeople:\n  - match: (a=b)\n    address: mail\n"+text+
			"groups:\n  - match: (c=d)\n    address: mail\n    rules: memberURL\n"))
		if err != nil {
			t.Fatal(err)
		}
		f, err := selector.ParseFilter("(name=ann)")
		if err != nil {
			t.Fatal(err)
		}
		if url, ok := m.RuleURL(sample.Load(t, harbour).Estate(), "dc=kelp", estate.MemberRule{Filter: f}); ok != want {
			t.Errorf("with %q, the rule is %q, %t", text, url, ok)
		}
	}
}

// A server is asked for what a map reads, and for nothing else.
func TestAttributes(t *testing.T) {
	withOthers, err := directory.ParseMap("office.yaml", []byte(office))
	if err != nil {
		t.Fatal(err)
	}
	if got := withOthers.Attributes(); got != nil {
		t.Errorf("a map of all other attributes reads %v, want nil for all", got)
	}
	closed := strings.NewReplacer("others: true", "others: false", "\"{cn}@{domain}\"", "\"x-{cn}@{domain}\"").Replace(office)
	m, err := directory.ParseMap("office.yaml", []byte(closed))
	if err != nil {
		t.Fatal(err)
	}
	want := "kind mail nick alias displayName first last number job office state team call mode " +
		"cn text copy notify-sender gate access.manage access.see-members access.read access.find access.ask access.join owner judge roster member wide"
	if got := strings.Join(m.Attributes(), " "); got != want {
		t.Errorf("reads\n%s\nwant\n%s", got, want)
	}
}
