package handout_test

import (
	"os/exec"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/handout"
	"yorvet.example/yorvet/internal/sample"
)

const before = `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example}, {address: bob@kelp.example}, {address: cat@out.example}]
groups:
  - {address: crew@kelp.example, title: Crew, members: [ann@kelp.example, {address: bob@kelp.example, copy: digest}], managed-in: hq}
  - {address: old@kelp.example, members: [crew@kelp.example], managed-in: hq}
  - {address: same@kelp.example, members: [ann@kelp.example], managed-in: hq}
  - {address: far@kelp.example, members: [ann@kelp.example], managed-in: other}
`

const after = `yorvet: 1
domains: [kelp.example]
people: [{address: ann@kelp.example}, {address: bob@kelp.example}, {address: cat@out.example}]
groups:
  - address: hands@kelp.example
    also: [crew@kelp.example]
    title: "Hands; it's \"all\""
    owners: [ann@kelp.example]
    gate: [refuse unproven, admit inside]
    access: {find: members}
    members: [{address: bob@kelp.example, copy: none, paused: true}, {address: cat@out.example, since: 2026-03-02}, {where: (unit=deck)}]
    managed-in: hq
  - {address: same@kelp.example, members: [ann@kelp.example], managed-in: hq}
  - {address: far@kelp.example, members: [], managed-in: other}
  - {address: new@kelp.example, kind: forum, members: [same@kelp.example], managed-in: hq}
`

// A change comes to steps: groups that come first, those that go last, and each thing that
// a group or a membership says otherwise.
func TestSteps(t *testing.T) {
	d := directory.Differ(sample.Load(t, before).Estate(), sample.Load(t, after).Estate(), "hq")
	w := handout.Writer{Format: "csv"}
	data, losses, err := w.Change(d)
	if err != nil || len(losses) > 0 {
		t.Fatal(losses, err)
	}
	want := `do,group,was,setting,value,before,member,is-group,copy,since,invitations,paused
group-add,new@kelp.example,,,,,,,,,,
group-rename,hands@kelp.example,crew@kelp.example,,,,,,,,,
setting,new@kelp.example,,kind,forum,,,,,,,
member-add,new@kelp.example,,,,,same@kelp.example,true,,,,
setting,hands@kelp.example,,also,crew@kelp.example,,,,,,,
setting,hands@kelp.example,,title,"Hands; it's ""all""",Crew,,,,,,
setting,hands@kelp.example,,gate,refuse unproven; admit inside,,,,,,,
setting,hands@kelp.example,,access.find,members,,,,,,,
owner-add,hands@kelp.example,,,,,ann@kelp.example,,,,,
member-add,hands@kelp.example,,,,,cat@out.example,,,2026-03-02,,
member-add,hands@kelp.example,,,,,where (unit=deck),,,,,
member-change,hands@kelp.example,,,,,bob@kelp.example,,none,,,true
member-remove,hands@kelp.example,,,,,ann@kelp.example,,,,,
group-remove,old@kelp.example,,,,,,,,,,
`
	if string(data) != want {
		t.Errorf("got\n%s\nwant\n%s", data, want)
	}
	if len(d.Refused) != 1 || d.Refused[0].Group != "far@kelp.example" {
		t.Errorf("refused: %v", d.Refused)
	}
}

// A template makes a line of each step. What it quotes is one word of a shell, one cell, one
// value of JSON, whatever stands in it.
func TestRender(t *testing.T) {
	evil := "a'b\"c$(touch x)`id`\\ \n;=1"
	list := []handout.Step{{Do: "setting", Group: "crew@kelp.example", Setting: "title", Value: evil}, {Do: "group-remove", Group: "x@kelp.example"}}
	data, err := handout.Render("t", `{{define "begin"}}# {{len .}} steps{{end}}{{if .Value}}printf %s {{sh .Value}}{{end}}{{define "end"}}# end{{end}}`, list)
	if err != nil {
		t.Fatal(err)
	}
	if text := string(data); !strings.HasPrefix(text, "# 2 steps\nprintf") || !strings.HasSuffix(text, "\n# end\n") {
		t.Errorf("%q", text)
	}
	if out, err := exec.Command("sh", "-c", string(data)).Output(); err != nil || string(out) != evil {
		t.Errorf("the shell makes %q of it, %v", out, err)
	}
	for text, want := range map[string]string{
		`{{csv .Value}}`:                     `"a'b""c$(touch x)`,
		`{{json .Value}}`:                    `"a'b\"c$(touch x)`,
		`{{json .}}`:                         `{"do":"setting","group":"crew@kelp.example"`,
		`{{local .Group}} {{domain .Group}}`: "crew kelp.example\nx kelp.example\n",
		`{{csv "=1+1"}}`:                     `"'=1+1"`,
		`{{.Nothing}}`:                       "can't evaluate field Nothing",
		`{{`:                                 "unclosed action",
		`{{range $i := 2000000000}}{{printf "%1000000d" $i}}{{end}}`: "it makes more than 256 MiB",
	} {
		data, err := handout.Render("t", text, list)
		got := string(data)
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, want) {
			t.Errorf("%s makes %.200s, want %s", text, got, want)
		}
	}
}
