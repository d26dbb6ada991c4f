package present_test

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/preset"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/sample"
)

const smallEstate = `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example, name: Ann}, {address: bob@kelp.example, mailbox: full}]
groups:
- {address: crew@kelp.example, owners: [ann@kelp.example], members: [{address: ann@kelp.example, copy: digest, since: 2026-03-02}, bob@kelp.example, {where: (a=b), copy: none}, nobody@kelp.example, x@out.example]}
- {address: all@kelp.example, moderators: [bob@kelp.example], members: [crew@kelp.example, {everyone: true}]}
`

func shown(t *testing.T, a present.Answer, format present.Format, all bool) string {
	t.Helper()
	var b bytes.Buffer
	if err := present.Print(&b, a, format, present.Options{Width: 160, All: all}); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// A list of members says of each who they are, what is written and what comes of
// it.
func TestMemberList(t *testing.T) {
	r := sample.Load(t, smallEstate)
	groups := []estate.ID{0, 1}
	got := shown(t, present.NewMemberList(r, groups, "", nil), present.CSV, false)
	lines := strings.Split(strings.TrimSpace(got), "\r\n")
	var short []string
	for _, line := range lines[1:] {
		cells := strings.Split(line, ",")
		short = append(short, strings.Join(append(cells[1:9:9], cells[9]), ","))
	}
	want := `ann@kelp.example,Ann,owner,person,,,,,digest
ann@kelp.example,Ann,member,person,digest,2026-03-02,,,digest
bob@kelp.example,,member,person,,,,,undeliverable
nobody@kelp.example,,member,nobody,,,,,undeliverable
x@out.example,,member,outside,,,,,inbox
where (a=b),,member,rule,none,,,,
bob@kelp.example,,moderator,person,,,,,undeliverable
crew@kelp.example,,member,group,,,,,
everyone,,member,rule,,,,,`
	if strings.Join(short, "\n") != want {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(short, "\n"), want)
	}
	if text := shown(t, present.NewMemberList(r, groups, "", nil), present.Text, false); !strings.Contains(text, "crew@kelp.example: 2 members, 1 outside member, 1 rule, 1 unknown member, 1 owner\n") ||
		!strings.Contains(text, "nobody@kelp.example  unknown member  undeliverable") || !strings.Contains(text, "copy digest, since 2026-03-02") {
		t.Errorf("text:\n%s", text)
	}
	only := present.NewMemberList(r, groups, "member", func(_, id estate.ID) bool { return r.Estate().IsPerson(id) && !r.Estate().Inside(id) })
	if len(only.Members) != 1 || only.Members[0].Address != "x@out.example" {
		t.Errorf("picked: %+v", only.Members)
	}
	nobody := present.NewMemberList(r, groups[:1], "moderator", nil)
	if text := shown(t, nobody, present.Text, false); text != "crew@kelp.example: nobody listed matches\n" {
		t.Errorf("nobody: %q", text)
	}
	if json := shown(t, nobody, present.JSON, false); !strings.Contains(json, `"members": []`) {
		t.Errorf("nobody: %s", json)
	}
}

// Who is listed twice is counted once, and beyond twenty the rest is counted.
func TestLongMemberList(t *testing.T) {
	var people, members strings.Builder
	for i := range 30 {
		fmt.Fprintf(&people, "- {address: p%d@kelp.example}\n", i)
		fmt.Fprintf(&members, "p%d@kelp.example, ", i)
	}
	r := sample.Load(t, "yorvet: 1\ndomains: [kelp.example]\npeople:\n"+people.String()+"groups:\n- {address: g@kelp.example, members: ["+members.String()+"p3@kelp.example]}\n")
	list := present.NewMemberList(r, []estate.ID{0}, "", nil)
	for all, want := range map[bool]int{false: 20, true: 31} {
		text := shown(t, list, present.Text, all)
		if !strings.HasPrefix(text, "g@kelp.example: 30 members, 1 second entry\n") || strings.Count(text, "inbox") != want ||
			strings.Contains(text, "and 11 more (--all)") == all {
			t.Errorf("with all %t:\n%s", all, text)
		}
	}
}

// A change tells what it does, what the new groups are like, and where it is
// written; quietly, its notices are kept back.
func TestChange(t *testing.T) {
	before := sample.Load(t, smallEstate)
	later := sample.Load(t, smallEstate+"- {address: new@kelp.example, gate: [hold outside, admit members], members: [ann@kelp.example, bob@kelp.example]}\n")
	a := present.NewChange(before, later, false)
	a.Notes, a.Files = append(a.Notes, "a note"), []present.FileChange{{File: "estate.yaml", Added: 3, Removed: 1, Names: 1, Diff: present.Unified("estate.yaml", []byte("a\nb\n"), []byte("a\nc\n"))}}
	text := shown(t, a, present.Text, false)
	for _, want := range []string{"a note\n", "2 welcome mails are sent.", "new@kelp.example: 2 people may post; forged mail is held; 2 recipients (1 inbox, 1", "Not written yet: estate.yaml +3 -1 lines\n", "  -b\n  +c\n"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing in\n%s", want, text)
		}
	}
	a.Written = true
	if text := shown(t, a, present.Text, false); !strings.Contains(text, "Written: estate.yaml +3 -1 lines") {
		t.Errorf("written:\n%s", text)
	}
	quiet := present.NewChange(before, later, true)
	quiet.Files = a.Files
	if text := shown(t, quiet, present.Text, false); quiet.Total != 0 || quiet.KeptBack != 2 || !strings.Contains(text, "2 welcome mails are kept back.") || !strings.Contains(text, "No welcome mail is sent.") {
		t.Errorf("quietly:\n%s", text)
	}
	same := present.NewChange(before, resolve.New(before.Estate(), before.Today()), false)
	if text := shown(t, same, present.Text, false); text != "There is nothing to change.\n" {
		t.Errorf("nothing: %q", text)
	}
	if json := shown(t, same, present.JSON, false); !strings.Contains(json, `"written": false`) || !strings.Contains(json, `"newGroups": []`) || !strings.Contains(json, `"totalNotices": 0`) {
		t.Errorf("nothing:\n%s", json)
	}
}

// What is not taken comes first, long lists are cut, and --all shows them.
func TestImportAnswer(t *testing.T) {
	a := &present.Import{Estate: "estate", People: 1, Groups: 2, Members: 3, Domains: []string{"a.example", "b.example"}, Files: []string{"estate.yaml"}, Written: true}
	for i := range 60 {
		a.Remarks = append(a.Remarks, present.ImportRemark{"x.ldif", i + 1, "just so", false})
		a.Conflicts = append(a.Conflicts, present.ImportConflict{Who: "g@a.example", What: "title", Taken: "A", TakenAt: "x:1", Left: "B", LeftAt: "y:2"})
	}
	a.Remarks = append(a.Remarks, present.ImportRemark{"x.ldif", 0, "lost", true})
	text := shown(t, a, present.Text, false)
	for _, want := range []string{"1 person, 2 groups, 3 memberships at a.example, b.example", "Notes (61): 1 entry not taken in full\n  x.ldif  lost\n", " more (--all)\n", "Sources disagree (60)", "g@a.example  title\n    kept: A  ", " x:1\n    not:  B  ", " y:2\n", "Wrote estate.yaml", "Next: yorvet --estate estate check"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing in\n%s", want, text)
		}
	}
	if strings.Count(text, "just so") >= 60 || strings.Count(shown(t, a, present.Text, true), "just so") != 60 {
		t.Error("the list is not cut, or not shown in full")
	}
	if csv := shown(t, a, present.CSV, false); strings.Count(csv, "\r\n") != 1+61+60 {
		t.Errorf("CSV:\n%.300s", csv)
	}
	a.Gone = present.ImportGone{Groups: []string{"g@a.example"}, People: []string{"p@a.example", "q@a.example"}}
	if text := shown(t, a, present.Text, false); !strings.Contains(text, "1 group is in no source any more and will be removed: g@a.example") || !strings.Contains(text, "2 people are in no source and stay") {
		t.Errorf("gone:\n%s", text)
	}
}

func TestPresets(t *testing.T) {
	a := present.NewPresets(preset.All()...)
	if len(a.Presets) != len(preset.All()) || a.Presets[0].Settings["gate"] == "" {
		t.Errorf("%+v", a)
	}
	text, csv := shown(t, a, present.Text, false), shown(t, a, present.CSV, false)
	for _, name := range preset.Names() {
		if !strings.Contains(text, name+": ") || !strings.Contains(csv, name+",") {
			t.Errorf("%s is missing", name)
		}
	}
}
