package directory_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
)

// console is a map of one's own for rows, with values by their words.
const console = `yorvet-map: 1
people:
  - match: (kind=person)
    address: mail
groups:
  - match: (kind=list)
    rows-by: list
    address: list
    title: title
    owners: [{from: owner, by: address}]
    moderators: [{from: judge, by: address}]
    gate:
      - {when: (Blocked=*), say: 'refuse {Blocked} or suspect'}
      - {when: (Held=*), say: 'hold {Held}'}
      - {from: Who, as: {ALL: admit anyone, LISTED: ['admit {Writers}', refuse anyone], NOBODY: []}, otherwise: admit members}
    send-as: [{when: (Sender=*), say: 'as {Sender}'}]
    set:
      kind: {from: type, as: {talk: forum, post: list}}
      copy: {from: [copies, copy], as: {A: every, B: digest}, otherwise: skip}
      footer: {from: foot}
      access.find: members
    attributes: {Cost: centre, where: "{base}/{deck}"}
    members:
      - address: member
        role: {from: role, as: {o: [owner, member], m: moderator, u: member}}
        copy: {from: delivery, as: {each: every, daily: digest}}
        invitations: {from: calendar, as: {y: every, n: none}}
        since: {from: joined, format: DD.MM.YYYY}
        paused: {from: state, as: {off: true}, otherwise: false}
`

// A word that is copied as it stands, and is none that a membership knows, is told.
func TestWordsOfMembershipsAreKnown(t *testing.T) {
	const text = "yorvet-map: 1\ngroups:\n  - match: (kind=list)\n    rows-by: list\n    address: list\n    members:\n" +
		"      - {address: member, copy: {from: delivery}, paused: {from: state}}\n"
	_, problem, got := rows(t, text, "- kind=list list=g@kelp.example member=a@kelp.example delivery=digest state=true",
		"- kind=list list=g@kelp.example member=b@kelp.example delivery=daily", "- kind=list list=g@kelp.example member=c@kelp.example state=off")
	want := "rows.csv:3: delivery is \"daily\" in 1 of its records, and the map knows every, digest, replies, none"
	if problem == nil || !strings.Contains(problem.Error(), want) || !strings.Contains(problem.Error(), "the map knows true, false") ||
		!strings.Contains(got, "a@kelp.example/digest/paused") {
		t.Errorf("%v\n%s", problem, got)
	}
}

// rows collects records by a map and tells what came of them.
func rows(t *testing.T, text string, entries ...string) (*directory.Directory, error, string) {
	t.Helper()
	m, err := directory.ParseMap("console.yaml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	c := directory.NewCollector("console", "rows.csv", m, "kelp.example", strings.ToLower)
	for i, one := range entries {
		c.Add(entry(i+2, one))
	}
	d := c.Finish()
	var out []string
	for _, g := range d.Groups {
		for _, f := range slices.Concat(g.Settings, g.Access) {
			if f.Name != "find" {
				out = append(out, f.Name+"="+f.Text+strings.Join(f.List, "|"))
			}
		}
		for i, list := range [][]string{g.Owners, g.Mods} {
			if len(list) > 0 {
				out = append(out, fmt.Sprint([]string{"owners", "mods"}[i], list))
			}
		}
		for _, m := range g.Members {
			line := m.Address
			if m.Copy != estate.CopyUnset {
				line += "/" + m.Copy.String()
			}
			if m.Invitations != estate.InvitationsUnset {
				line += "/invitations " + m.Invitations.String()
			}
			if m.Paused {
				line += "/paused"
			}
			if m.Since != 0 {
				line += "/" + m.Since.String()
			}
			out = append(out, line)
		}
	}
	for _, r := range d.Remarks {
		out = append(out, mark(r)+r.String())
	}
	return d, c.Problems(true), strings.Join(out, "\n")
}

func TestValues(t *testing.T) {
	const g = "- kind=list list=g@kelp.example "
	tests := []struct {
		name    string
		entries []string
		want    string
		problem string
	}{
		{"nothing but the group", []string{g}, "", ""},
		{"words", []string{g + "type=TALK copies=B foot=Bye"}, "copy=digest\nfooter=Bye\nkind=forum", ""},
		{"the second attribute", []string{g + "copy=a"}, "copy=every", ""},
		{"a word that is skipped", []string{g + "copy=c"}, "", ""},
		{"a word that nobody knows", []string{g + "type=x", "- kind=list list=h@kelp.example type=x"}, "",
			"rows.csv:2: type is \"x\" in 2 of its records, and the map knows talk, post; " +
				"add it to \"as\", or say \"otherwise\""},
		{"two words", []string{g + "type=x", "- kind=list list=h@kelp.example type=y"}, "",
			"type is \"y\" in 1 of its records"},
		{"rules", []string{g + "Who=ALL"}, "gate=admit anyone", ""},
		{"no rules", []string{g + "Who=NOBODY"}, "", ""},
		{"other rules", []string{g + "Who=what"}, "gate=admit members", ""},
		{"a list in a rule", []string{g + "Who=LISTED Writers=a@kelp.example,@sea.example;b.example"},
			"gate=admit a@kelp.example or @sea.example or @b.example|refuse anyone", ""},
		{"an empty list in a rule", []string{g + "Who=LISTED"}, "gate=refuse anyone", ""},
		{"a list among others", []string{g + "Blocked=x.example;y.example"},
			"gate=refuse (@x.example or @y.example) or suspect", ""},
		{"one among others, twice", []string{g + "Blocked=x.example;x.example"}, "gate=refuse @x.example or suspect", ""},
		{"a group in a rule", []string{g + "Held=G@kelp.example Sender=a@kelp.example"},
			"gate=hold in G@kelp.example\nsend-as=as a@kelp.example", ""},
		{"rules in their order", []string{g + "Who=ALL Held=@x.example Blocked=y.example"},
			"gate=refuse @y.example or suspect|hold @x.example|admit anyone", ""},
		{"what is no address", []string{g + "Blocked=nonsense"}, "",
			`rows.csv:2: "nonsense" in {Blocked} of g@kelp.example is no address and no domain`},
		{"attributes", []string{g + "centre=7 base=pier deck=2"}, "attributes=Cost: 7|where: pier/2", ""},
		{"half of a text", []string{g + "base=pier"}, "", ""},
		{"a member", []string{g + "member=a@kelp.example delivery=daily calendar=n state=off joined=02.03.2026"},
			"a@kelp.example/digest/invitations none/paused/2026-03-02", ""},
		{"a member with a role", []string{g + "member=a@kelp.example role=m delivery=daily"}, "mods[a@kelp.example]", ""},
		{"a member with two", []string{g + "member=a@kelp.example role=O calendar=y state=on"},
			"owners[a@kelp.example]\na@kelp.example/invitations every", ""},
		{"a day and a time", []string{g + "member=a@kelp.example joined=02.03.2026_10:00"}, "a@kelp.example/2026-03-02", ""},
		{"a day as a workbook has it", []string{g + "member=a@kelp.example joined=2026-03-02"}, "a@kelp.example/2026-03-02", ""},
		{"no day", []string{g + "member=a@kelp.example joined=32.03.2026"},
			"a@kelp.example", `rows.csv:2: joined is "32.03.2026", expected a day as DD.MM.YYYY`},
		{"rows of one group", []string{g + "member=a@kelp.example owner=o@kelp.example",
			"- kind=list list=G@KELP.example member=b@kelp.example judge=o@kelp.example title=G",
			"- kind=list list=g@kelp.example title=G"},
			"title=G\nowners[o@kelp.example]\nmods[o@kelp.example]\na@kelp.example\nb@kelp.example", ""},
		{"rows that differ", []string{g + "title=A", "- kind=list list=g@kelp.example title=B"},
			"title=A\n?! rows.csv:3: title of g@kelp.example is \"B\" here and \"A\" in line 2, which counts", ""},
		{"rows that differ in a rule", []string{g + "Who=ALL", "- kind=list list=g@kelp.example type=talk"},
			"kind=forum\ngate=admit anyone", ""},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			_, problem, got := rows(t, console, test.entries...)
			if got != test.want && test.problem == "" {
				t.Errorf("collected\n%s\nwant\n%s", got, test.want)
			}
			if text := fmt.Sprint(problem); problem == nil != (test.problem == "") || !strings.Contains(text, test.problem) {
				t.Errorf("the problem is %v, want %q", problem, test.problem)
			}
		})
	}
}

// Days come in many forms, and the map says which.
func TestDays(t *testing.T) {
	for _, test := range []struct{ format, text, want string }{
		{"", "2026-03-02", "2026-03-02"},
		{"", "2026-03-02T10:00:00Z", "2026-03-02"},
		{"", "2026-03-02_10:00", "2026-03-02"},
		{"", "2026-03-02x", ""},
		{"", "02.03.2026", ""},
		{"M/D/YY", "3/2/26", "2026-03-02"},
		{"DD-MM-YYYY", "02-03-2026", "2026-03-02"},
		{"YYYY/MM/DD hh:mm:ss", "2026/03/02_23:59:58", "2026-03-02"},
		{"YYYYMMDD", "20261302", ""},
	} {
		value := "{from: joined}"
		if test.format != "" {
			value = fmt.Sprintf("{from: joined, format: %q}", test.format)
		}
		_, problems, got := rows(t, "yorvet-map: 1\ngroups:\n  - match: (kind=list)\n    address: list\n    members:\n"+
			"      - {address: member, since: "+value+"}\n", "- kind=list list=g@kelp.example "+
			"member=a@kelp.example joined="+test.text)
		want := "a@kelp.example"
		if test.want != "" {
			want += "/" + test.want
		}
		if got != want || (problems == nil) != (test.want != "") {
			t.Errorf("%q as %q: %s, %v, want %s", test.text, test.format, got, problems, want)
		}
	}
}

// Values in a map that cannot be are said with what they should be.
func TestWrongValues(t *testing.T) {
	for part, want := range map[string]string{
		"set: {kind: {as: {a: b}}}":                               "a value needs from",
		"set: {kind: {from: a, as: [b]}}":                         "as has words with what they mean",
		"set: {kind: {from: a, as: {b: {c: d}}}}":                 "expected a text, or a list of texts",
		"set: {kind: {from: a, as: {b: [[c]]}}}":                  "expected a text, or a list of texts",
		"set: {kind: {from: a, as: {b: parish}}}":                 "parish",
		"set: {kind: {from: a, as: {b: list}, otherwise: x}}":     "x",
		"set: {kind: parish}":                                     "parish",
		"set: {nothing: x}":                                       "nothing",
		"gate: [{when: (a=b)}]":                                   "say",
		"gate: [{from: a}]":                                       "needs as",
		"gate: [let anyone]":                                      "let anyone",
		"send-as: [{from: a, as: {x: as suspect}}]":               "as suspect",
		"members: [{address: a, copy: {from: b, as: {c: some}}}]": "some",
		"members: [{address: a, role: king}]":                     "king",
	} {
		_, err := directory.ParseMap("m.yaml", []byte("yorvet-map: 1\ngroups:\n  - match: (a=b)\n    address: "+
			"mail\n    "+part+"\n"))
		if err == nil || !strings.Contains(err.Error(), want) || !strings.HasPrefix(err.Error(), "m.yaml:") {
			t.Errorf("%s: %v, want m.yaml:... %q", part, err, want)
		}
	}
}

// What a map took of a source is counted, column by column and part by part.
func TestCoverageOf(t *testing.T) {
	d, problem, _ := rows(t, console,
		"- kind=list list=g@kelp.example title=G copy=x color=red member=a@kelp.example",
		"- kind=list list=h@kelp.example copy=x color=blue",
		"- kind=list list=h@kelp.example copy=y",
		"- kind=person mail=a@kelp.example color=green title=Mate",
		"- kind=boat draught=3")
	if problem != nil {
		t.Fatal(problem)
	}
	c := d.Coverage
	if c.Source != "console" || c.Records != 5 || c.Skipped != 1 {
		t.Errorf("%s: %d records, %d skipped; want console, 5, 1", c.Source, c.Records, c.Skipped)
	}
	want := "[{groups 1 3 2} {people 1 1 1}]"
	if got := fmt.Sprint(c.Parts); got != want {
		t.Errorf("parts are %s, want %s", got, want)
	}
	want = "[{color 3 0 red} {copy 3 3 x} {draught 1 0 3} {kind 5 4 list} {list 3 3 g@kelp.example} " +
		"{mail 1 1 a@kelp.example} {member 1 1 a@kelp.example} {title 2 1 G}]"
	if got := fmt.Sprint(c.Columns); got != want {
		t.Errorf("columns are\n%s\nwant\n%s", got, want)
	}
	if got, want := fmt.Sprint(c.Untaken()), "[{color 3 0 red} {draught 1 0 3}]"; got != want {
		t.Errorf("lost are %s, want %s", got, want)
	}
	if got, want := fmt.Sprint(c.Words), "[{copies, copy x 2} {copies, copy y 1}]"; got != want {
		t.Errorf("words skipped are %s, want %s", got, want)
	}
	if got := strings.Join(c.Absent, " "); !strings.HasPrefix(got, "base blocked calendar centre copies deck "+
		"delivery foot") {
		t.Errorf("absent are %s", got)
	}
}

// A list that holds nothing in any record is an error, unless it is meant.
func TestEmptyLists(t *testing.T) {
	m, err := directory.ParseMap("console.yaml", []byte(console))
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		entry, want string
	}{
		{"- kind=list list=g@kelp.example owner=a@kelp.example judge=b@kelp.example member=c@kelp.example", ""},
		{"- kind=list list=g@kelp.example judge=b@kelp.example member=c@kelp.example",
			"rows.csv: owners of all 1 records is empty (owner); if that is intended: --allow-empty"},
		{"- kind=person mail=a@kelp.example", ""},
	} {
		c := directory.NewCollector("console", "rows.csv", m, "kelp.example", strings.ToLower)
		c.Add(entry(2, test.entry))
		c.Finish()
		got := ""
		if err := c.Problems(false); err != nil {
			got = err.Error()
		}
		if got != test.want {
			t.Errorf("%s: %q, want %q", test.entry, got, test.want)
		}
		if err := c.Problems(true); err != nil {
			t.Errorf("%s: %v although it is meant", test.entry, err)
		}
	}
}
