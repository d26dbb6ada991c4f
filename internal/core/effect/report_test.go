package effect_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/effect"
	"yorvet.example/yorvet/internal/sample"
)

// A report is empty only where nothing is in it.
func TestIsEmpty(t *testing.T) {
	if !(&effect.Report{}).IsEmpty() {
		t.Error("an empty report is not empty")
	}
	fields := reflect.TypeOf(effect.Report{})
	for i := range fields.NumField() {
		r := effect.Report{}
		field := reflect.ValueOf(&r).Elem().Field(i)
		lists := []reflect.Value{field}
		if field.Kind() == reflect.Struct {
			lists = nil
			for j := range field.NumField() {
				lists = append(lists, field.Field(j))
			}
		}
		for _, list := range lists {
			list.Set(reflect.MakeSlice(list.Type(), 1, 1))
			if r.IsEmpty() {
				t.Errorf("a report with %s is empty", fields.Field(i).Name)
			}
			list.SetZero()
		}
	}
}

const basin = `yorvet: 1
domains: [kelp.example]
people:
  - {address: ann@kelp.example}
  - {address: bob@kelp.example}
  - {address: cat@kelp.example, attributes: {base: pier}}
groups:
  - address: g@kelp.example
    owners: [ann@kelp.example]
    moderators: [bob@kelp.example]
    gate: [admit anyone]
    members: [ann@kelp.example, n@kelp.example, {address: bob@kelp.example, copy: none}]
  - {address: n@kelp.example, gate: [admit inside], members: [cat@kelp.example]}
  - {address: o@kelp.example, gate: [admit anyone], members: [bob@kelp.example, {where: (base=quay)}]}
`

// What differs of a group besides who gets what is told: and what does not differ, is
// not.
func TestOtherDifferences(t *testing.T) {
	for _, c := range []struct {
		name     string
		replace  []string
		settings []string // group: setting: was > is
	}{
		{"the same", nil, nil},
		{"a membership that says more", []string{"copy: none}", "copy: none, paused: true}"},
			[]string{"g@kelp.example: members: bob@kelp.example (copy none) > bob@kelp.example (copy none, paused)"}},
		{"a nested group that nobody is in otherwise", []string{"n@kelp.example, {", "{address: n@kelp.example, copy: none}, {", "cat@kelp.example]", "]"}, nil},
		{"a rule", []string{"(base=quay)", "(base=wall)"}, []string{"o@kelp.example: members: where (base=quay) > where (base=wall)"}},
		{"an owner by another name", []string{"{address: ann@kelp.example}", "{address: anna@kelp.example, also: [ann@kelp.example]}"}, nil},
		{"a moderator by another name", []string{"{address: bob@kelp.example}\n", "{address: bobby@kelp.example, also: [bob@kelp.example]}\n"}, nil},
		{"another owner", []string{"owners: [ann@kelp.example]", "owners: [cat@kelp.example]"}, []string{"g@kelp.example: owners: ann@kelp.example > cat@kelp.example"}},
		{"another moderator", []string{"moderators: [bob@kelp.example]", "moderators: [cat@kelp.example]"}, nil},
	} {
		x, y := sample.Load(t, basin), sample.Load(t, strings.NewReplacer(c.replace...).Replace(basin))
		var got []string
		for _, change := range effect.Compare(x, y).Changes {
			for _, s := range change.Settings {
				got = append(got, fmt.Sprintf("%s: %s: %s > %s", y.Estate().Address(change.Group.New), s.Name, strings.Join(s.Old, "; "), strings.Join(s.New, "; ")))
			}
		}
		if !slices.Equal(got, c.settings) {
			t.Errorf("%s: %q, want %q", c.name, got, c.settings)
		}
	}
}

// What the estate says of itself, and hazards of two groups, are not passed over.
func TestWholeEstate(t *testing.T) {
	for name, replace := range map[string][]string{
		"nested gates":        {"people:", "nested-gates: open\npeople:"},
		"a domain that means": {"domains: [kelp.example]", "domains: [kelp.example, {domain: old.example, same-as: kelp.example}]"},
		"subaddress":          {"people:", "subaddress: \"+\"\npeople:"},
		"code-sender":         {"people:", "code-sender: codes@post.example\npeople:"},
		"the same members":    {"gate: [admit anyone], members: [bob@kelp.example, {where: (base=quay)}]", "gate: [admit inside], members: [cat@kelp.example]"},
		"a mailbox":           {"{address: ann@kelp.example}", "{address: ann@kelp.example, mailbox: full}"},
		"an attribute":        {"base: pier", "base: quay"},
		"one more person":     {"  - {address: bob@", "  - {address: dan@kelp.example}\n  - {address: bob@"},
		"one more group":      {"  - {address: o@", "  - {address: p@kelp.example}\n  - {address: o@"},
		"a further address":   {"{address: n@kelp.example, ", "{address: n@kelp.example, also: [m@kelp.example], "},
	} {
		x, y := sample.Load(t, basin), sample.Load(t, strings.NewReplacer(replace...).Replace(basin))
		report := effect.Compare(x, y)
		got, want := effects(x, y, report), effects(x, y, effect.CompareAll(x, y))
		if !slices.Equal(got, want) || report.IsEmpty() {
			t.Errorf("%s: %v, want %v", name, got, want)
		}
		if found := slices.ContainsFunc(got, func(s string) bool { return strings.Contains(s, "same-members") }); found != (name == "the same members") {
			t.Errorf("%s: same-members is found: %v in %v", name, found, got)
		}
	}
}

// Random estates that differ in one line only, whichever, come to the same with and
// without passing over.
func TestPassingOverAnyLine(t *testing.T) {
	tried := 0
	for seed := range 250 {
		random := rand.New(rand.NewPCG(uint64(seed), 37))
		yaml := sample.Estate(random)
		lines := strings.SplitAfter(yaml, "\n")
		at := 4 + random.IntN(len(lines)-4)
		words := [][2]string{{"admit", "refuse"}, {"hold", "admit"}, {"digest", "none"}, {"every", "digest"}, {"false", "true"}, {"p1@", "p2@"}, {"p0@", "p1@"},
			{"deck", "engine"}, {"full", "open"}, {"none", "every"}, {"members", "owners"}, {"inside", "anyone"}, {"list", "mailbox"}, {"as ", "for "}}
		words = slices.DeleteFunc(words, func(pair [2]string) bool {
			return !strings.Contains(lines[at], pair[0]) || strings.HasPrefix(pair[0], "p") && strings.Contains(lines[at], "address: p")
		})
		if len(words) == 0 || strings.Contains(lines[at], "members:") {
			continue
		}
		pair := words[random.IntN(len(words))]
		lines[at] = strings.Replace(lines[at], pair[0], pair[1], 1)
		later, ok := sample.Try(t, strings.Join(lines, ""))
		if !ok {
			continue // it is no estate
		}
		tried++
		x := sample.Load(t, yaml)
		got, want := effects(x, later, effect.Compare(x, later)), effects(x, later, effect.CompareAll(x, later))
		if !slices.Equal(got, want) {
			t.Fatalf("estate %d, line %d: %q\n got %s\nwant %s", seed, at+1, lines[at], strings.Join(got, "\n     "), strings.Join(want, "\n     "))
		}
	}
	if tried < 25 {
		t.Errorf("only %d are tried", tried)
	}
}

// Who goes from one list of a group to the next one is no longer where they were.
func TestListsAreApart(t *testing.T) {
	const head = "yorvet: 1\ndomains: [kelp.example]\npeople: [{address: ann@kelp.example}, {address: bob@kelp.example}]\ngroups:\n  - {address: g@kelp.example, "
	texts := []string{
		"owners: [ann@kelp.example, bob@kelp.example]}", "owners: [ann@kelp.example], moderators: [bob@kelp.example]}", "moderators: [ann@kelp.example, bob@kelp.example]}",
		"owners: [ann@kelp.example, bob@kelp.example], members: [bob@kelp.example]}", "moderators: [ann@kelp.example], members: [bob@kelp.example]}",
	}
	for i, before := range texts {
		for j, later := range texts {
			report := effect.Compare(sample.Load(t, head+before+"\n"), sample.Load(t, head+later+"\n"))
			if report.IsEmpty() != (i == j) {
				t.Errorf("%s and %s: the same is %t", before, later, report.IsEmpty())
			}
		}
	}
}
