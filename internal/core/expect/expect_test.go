package expect_test

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/expect"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

const desk = `yorvet: 1
domains: [kelp.example]
people:
  - {address: ada@kelp.example, attributes: {post: desk}}
  - {address: bo@kelp.example, attributes: {post: desk}}
  - {address: cy@kelp.example, attributes: {post: deck}, mailbox: open}
  - {address: far@out.example}
groups:
  - address: desk@kelp.example
    kind: list
    owners: [cy@kelp.example]
    moderators: [ada@kelp.example]
    members:
      - ada@kelp.example
      - {address: bo@kelp.example, copy: digest}
      - shut@kelp.example
    gate:
      - refuse unproven
      - hold suspect
      - admit inside
      - drop anyone
    send-as: [as moderators, for where (post=desk)]
  - {address: shut@kelp.example, members: [cy@kelp.example], gate: [refuse ada@kelp.example, admit inside]}
`

func TestEvaluate(t *testing.T) {
	r := sample.Load(t, desk)
	for _, c := range []struct {
		statement string
		broken    string // the addresses of those who break it, or what; "": it holds
	}{
		{"admits inside", ""},
		{"admits known", "far@out.example"},
		{"drops outside", ""},
		{"drops not inside", ""},
		{"refuses unproven", ""},
		{"admits unproven", "ada@kelp.example bo@kelp.example cy@kelp.example far@out.example no-such-stranger@kelp.example"},
		{"holds suspect and inside", ""},
		{"holds suspect", ""},
		{"admits inside and larger(5MB)", ""},
		{"refuses nobody", "picks nobody"},
		{"reaches members", "bo@kelp.example"},
		{"reaches members in inbox", "bo@kelp.example"},
		{"reaches bo@kelp.example in digest", ""},
		{"reaches where (post=deck)", ""},
		{"reaches where (post=deck) from ada@kelp.example", "cy@kelp.example"},
		{"reaches where (post=deck) in stopped from ada@kelp.example", ""},
		{"reaches ada@kelp.example from far@out.example", "ada@kelp.example"},
		{"reaches outside", "far@out.example"},
		{"never reaches outside", ""},
		{"never reaches inside", "ada@kelp.example bo@kelp.example cy@kelp.example"},
		{"never reaches cy@kelp.example from ada@kelp.example", ""},
		{"sends as moderators", ""},
		{"sends as where (post=desk)", "bo@kelp.example"},
		{"sends for bo@kelp.example", ""},
		{"sends only where (post=desk)", ""},
		{"sends only moderators", "bo@kelp.example"},
		{"sends only nobody", "ada@kelp.example bo@kelp.example picks nobody"},
		{"sends only where (post=none) and inside", "ada@kelp.example bo@kelp.example picks nobody"},
		{"approves moderators", ""},
		{"approves owners", "cy@kelp.example"},
		{"approves at least 1", ""},
		{"approves at least 2", "too few"},
		{"admits inside # a comment", ""},
		{"admits where (post=#x)", "picks nobody"},
	} {
		list, errs := expect.Parse("to desk@kelp.example\n  " + c.statement + "\n")
		if len(errs) > 0 || len(list) != 1 || len(expect.Check(r.Estate(), list)) > 0 {
			t.Errorf("%s: %v", c.statement, errs)
			continue
		}
		result := expect.Evaluate(r, &list[0])
		var got []string
		for _, counter := range result.Counter {
			name := counter.From.String()
			if !counter.From.IsValid() {
				name = "too few"
			}
			if !slices.Contains(got, name) {
				got = append(got, name)
			}
		}
		if result.Picked == 0 && list[0].Kind != expect.ApprovesAtLeast {
			got = append(got, "picks nobody")
		}
		if text := strings.Join(got, " "); text != c.broken || result.Holds != (c.broken == "") {
			t.Errorf("%s: broken by %q, holds: %t, want %q", c.statement, text, result.Holds, c.broken)
		}
	}
}

// The place of each error is marked by § in the input.
func TestErrors(t *testing.T) {
	for _, c := range []struct{ in, text, nearest string }{
		{"§admits inside", `expected "to"`, ""},
		{"to §desk", "address of a group", ""},
		{"to §", "address of a group", ""},
		{"to d@x\n §admit inside", "unknown statement", "admits"},
		{"to d@x\n\t admits §insde", "unknown word", "inside"},
		{"to d@x\n admits§", "not the end", ""},
		{"to d@x\n reaches members in §inbx", "unknown outcome", "inbox"},
		{"to d@x\n reaches members in §somewhere", "expected inbox, digest", ""},
		{"to d@x\n reaches members from §bo", "no address", ""},
		{"to d@x\n reaches §unproven", "about a message", ""},
		{"to d@x\n never reaches inside §because \"x\"", "because", ""},
		{"to d@x\n sends §a members", "expected as, for or only", ""},
		{"to d@x\n §spares outside", `"spares" is "never reaches" now`, ""},
		{"to d@x\n §speaks only owners", `"speaks" is "sends" now`, ""},
		{"to d@x\n approves §at last 2", "at least", ""},
		{"to d@x\n approves §at least 0", "at least", ""},
		{"to d@x\n admits @bücher.example or §outsdie", "unknown word", "outside"},
	} {
		in := strings.Replace(c.in, "§", "", 1)
		before := c.in[:strings.Index(c.in, "§")]
		line := strings.Count(before, "\n") + 1
		column := len([]rune(before[strings.LastIndex(before, "\n")+1:])) + 1
		_, errs := expect.Parse(in)
		if len(errs) != 1 || errs[0].Line != line || errs[0].Column != column || !strings.Contains(errs[0].Text, c.text) || errs[0].Nearest != c.nearest {
			t.Errorf("%q: %v, want %q at %d:%d", in, errs, c.text, line, column)
		}
	}
	list, errs := expect.Parse("to desk@kelp.example\n admits in dekc@kelp.example\nto desc@kelp.example\n admits inside\n holds inside\n")
	if len(errs) > 0 {
		t.Fatal(errs)
	}
	problems := expect.Check(sample.Load(t, desk).Estate(), list)
	if len(problems) != 2 || problems[0].Error() != `2:9: there is no group "dekc@kelp.example", expected one after "in"; did you mean "desk@kelp.example"?` ||
		problems[1].Error() != `3:4: there is no group "desc@kelp.example"; did you mean "desk@kelp.example"?` {
		t.Errorf("the problems are %v", problems)
	}
}

// What is drafted holds, on any estate.
func TestDraftHolds(t *testing.T) {
	for seed := range 200 {
		yaml := sample.Estate(rand.New(rand.NewPCG(uint64(seed), 11)))
		r := sample.Load(t, yaml)
		text := expect.Draft(r, allGroups(r))
		if broken := broken(t, r, text); len(broken) > 0 {
			t.Fatalf("estate %d:\n%s\nbroken: %v", seed, yaml, broken)
		}
		if strings.Count(text, "\n") < 2*r.Estate().Groups() {
			t.Errorf("estate %d: the draft says little:\n%s", seed, text)
		}
	}
}

func allGroups(r *resolve.Resolver) []estate.ID {
	var groups []estate.ID
	for id := range estate.ID(r.Estate().Groups()) {
		groups = append(groups, id)
	}
	return groups
}

// broken returns the expectations of a text that do not hold.
func broken(t *testing.T, r *resolve.Resolver, text string) []string {
	t.Helper()
	list, errs := expect.Parse(text)
	if len(errs)+len(expect.Check(r.Estate(), list)) > 0 {
		return []string{"it does not even parse"}
	}
	var broken []string
	for i := range list {
		if result := expect.Evaluate(r, &list[i]); !result.Holds {
			broken = append(broken, list[i].Text)
		}
	}
	return broken
}

// What is drafted breaks when the estate changes.
func TestDraftBreaks(t *testing.T) {
	draft := expect.Draft(sample.Load(t, desk), []estate.ID{0})
	for _, change := range [][2]string{
		{"      - ada@kelp.example\n", ""},                                                    // a member less
		{"      - ada@kelp.example\n", "      - ada@kelp.example\n      - far@out.example\n"}, // one more
		{"copy: digest", "copy: none"},
		{"mailbox: open", "mailbox: full"},
		{"kind: list", "kind: forum\n    copy: none"},
		{"      - admit inside\n", ""},
		{"      - refuse unproven\n", ""},
		{"      - hold suspect\n", ""},
		{"      - drop anyone\n", "      - admit anyone\n"},
		{"moderators: [ada@kelp.example]", "moderators: [bo@kelp.example]"},
		{"send-as: [as moderators, ", "send-as: ["},
		{"for where (post=desk)]", "for anyone]"},
		{"{address: shut@kelp.example, members: [cy@kelp.example]", "{address: shut@kelp.example, members: []"},
	} {
		changed := strings.Replace(desk, change[0], change[1], 1)
		if changed == desk {
			t.Fatalf("there is no %q", change[0])
		}
		if len(broken(t, sample.Load(t, changed), draft)) == 0 {
			t.Errorf("%q becomes %q, and all that was drafted holds:\n%s", change[0], change[1], draft)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("to a@b\n  admits outside # x\n reaches members in inbox from a@b\nsends only not members\napproves at least 2\n")
	f.Add("\ufeff# x\nto \"a b\"@x\nnever reaches where (a=b)\n")
	f.Fuzz(func(t *testing.T, text string) {
		list, errs := expect.Parse(text)
		lines := strings.Count(text, "\n") + 1
		for _, e := range errs {
			if e.Line < 1 || e.Line > lines || e.Column < 1 || e.Text == "" {
				t.Fatalf("%q: %+v", text, e)
			}
		}
		for _, x := range list {
			if x.Line < 1 || x.Line > lines || !x.Group.IsValid() || x.Selector == nil && x.Kind != expect.ApprovesAtLeast {
				t.Fatalf("%q: %+v", text, x)
			}
		}
	})
}
