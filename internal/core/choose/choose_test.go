package choose_test

import (
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/choose"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/sample"
)

const quay = `yorvet: 1
domains: [kelp.example, {domain: alias.example, same-as: kelp.example}]
people:
  - {address: ann@kelp.example, also: [a.oake@kelp.example]}
  - {address: bob@kelp.example, mailbox: full}
  - {address: cat@kelp.example}
groups:
  - address: desk@kelp.example
    also: [counter@kelp.example]
    kind: forum
    owners: [ann@kelp.example]
    moderators: [bob@kelp.example]
    members: [ann@kelp.example, {address: bob@kelp.example, copy: digest}, {address: cat@kelp.example, copy: none}]
    gate: [refuse unproven, hold suspect, admit anyone]
    send-as: [as members]
    replies-to: ann@kelp.example
    attributes: {department: operations, floors: [2, 12]}
  - address: crew@kelp.example
    copy: none
    members: [cat@kelp.example, far@out.example]
    access: {join: inside}
    pause-after: 7
  - {address: press@kelp.example, kind: roster, attributes: {department: Press}}
`

func TestGroups(t *testing.T) {
	r := sample.Load(t, quay)
	for filter, want := range map[string]string{
		"(kind=list)": "crew", "(kind=*)": "desk crew press", "(KIND=Forum)": "desk", "(!(kind=list))": "desk press",
		"(address=counter@*)": "desk", "(address=DESK@kelp.example)": "desk",
		"(owners=a.oake@kelp.example)": "desk", "(moderators=bob@*)": "desk", "(owners=*)": "desk", "(replies-to=a.oake@*)": "desk", "(replies-to=author)": "crew press",
		"(copy=every)": "desk press", "(joiners=none)": "crew", "(joiners=every)": "desk press", "(outside-copy=*)": "", "(pause-after>=7)": "crew", "(pause-after>=8)": "",
		"(gate=admit anyone)": "desk", "(gate=admit inside)": "crew press", "(gate=*suspect*)": "desk", "(send-as=as *)": "desk", "(welcome=true)": "desk crew press",
		"(access.join=inside)": "crew", "(access.join=nobody)": "desk press", "(echo=false)": "",
		"(department=OPERATIONS)": "desk", "(department=*)": "desk press", "(floors>=10)": "desk", "(floors=2)": "desk", "(no-such=*)": "", "(inbox=0)": "crew press", "(digest=0)": "desk crew press", "(undeliverable=1)": "desk", "(attributes=*)": "",
		"(outside=admit)": "desk", "(outside=refuse)": "crew press", "(inside=admit)": "desk crew", "(forged=refuse)": "desk crew press",
		"(post>=4)": "desk", "(post=3)": "crew", "(held=0)": "desk crew press", "(refused=1)": "crew", "(refused=4)": "press",
		"(miss>=2)": "crew", "(miss=1)": "desk", "(invited=1)": "desk", "(sends-as=3)": "desk", "(approvers=1)": "desk", "(approvers=0)": "crew press",
		"(hazards=0)": "", "(hazard=no-owner)": "crew press", "(hazard=no-members)": "crew", "(&(kind=list)(miss>=1)(!(address=press@*)))": "crew",
		"(|(kind=forum)(kind=roster))": "desk press",
	} {
		f, err := selector.ParseFilter(filter)
		if err != nil {
			t.Fatalf("%s: %v", filter, err)
		}
		var got []string
		for _, id := range choose.Groups(r, f) {
			got = append(got, r.Estate().Address(id).Local())
		}
		if text := strings.Join(got, " "); text != want {
			t.Errorf("%s: %q, want %q", filter, text, want)
		}
	}
}

// What can be got or missed adds up to those who are members.
func TestGetsAndMisses(t *testing.T) {
	r := sample.Load(t, quay)
	for _, c := range []struct{ filter, want string }{
		{"(&(address=desk@*)(get=2)(miss=1))", "desk"}, // the archive is read, a full mailbox gets nothing
		{"(&(address=crew@*)(get=0)(miss=2))", "crew"},
	} {
		f, _ := selector.ParseFilter(c.filter)
		if list := choose.Groups(r, f); len(list) != 1 || r.Estate().Address(list[0]).Local() != c.want {
			t.Errorf("%s: %v", c.filter, list)
		}
	}
}
