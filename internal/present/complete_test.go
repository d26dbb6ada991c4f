package present

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/campaign"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/sample"
)

// noAnswer are the fields of answers that are no answer: where something is written, by
// which rule and which way something is so.
var noAnswer = map[string]bool{
	"rule": true, "edge": true, "written": true, "place": true, "via": true, "why": true, "tried": true, "ways": true, "fix": true,
	"file": true, "line": true, "column": true, "approvers": true, "alone": true, "gate": true, "nearest": true,
}

// bare returns an answer as JSON without what is no answer.
func bare(t *testing.T, answer any) string {
	t.Helper()
	data, err := json.Marshal(answer)
	if err != nil {
		t.Fatal(err)
	}
	var v any
	if err := json.Unmarshal(data, &v); err != nil {
		t.Fatal(err)
	}
	strip(v)
	data, _ = json.Marshal(v)
	return string(data)
}

func strip(v any) {
	switch v := v.(type) {
	case map[string]any:
		for key, value := range v {
			if _, isText := value.(string); noAnswer[key] || key == "text" && isText && value == noRule {
				delete(v, key)
				continue
			}
			strip(value)
		}
	case []any:
		for _, one := range v {
			strip(one)
		}
	}
}

// aboutGroup returns every answer about a group that there is, each with its name.
func aboutGroup(t *testing.T, r *resolve.Resolver, id estate.ID, senders []address.Address) map[string]string {
	t.Helper()
	answers := map[string]string{}
	for _, m := range []resolve.Message{{}, {Unproven: true}, {Suspect: true}, {Automatic: true}, {Invitation: true}, {Size: 6_000_000}, {Suspect: true, Unproven: true}} {
		answers[fmt.Sprintf("posts %+v", m)] = bare(t, NewPosts(r, id, m))
		answers[fmt.Sprintf("receives %+v", m)] = bare(t, NewReceives(r, id, nil, m))
		for _, a := range senders {
			s := r.Sender(a)
			answers[fmt.Sprintf("receives %+v from %s", m, a)] = bare(t, NewReceives(r, id, &s, m))
			answers[fmt.Sprintf("explain %+v from %s", m, a)] = bare(t, NewExplanation(r, Case{From: a, To: r.Estate().Address(id), As: estate.None, For: estate.None, Message: m}))
		}
	}
	answers["sends-as"] = bare(t, NewSendsAs(r, id))
	answers["approves"] = bare(t, NewApproves(r, id))
	for i, verb := range estate.ActionWords() {
		answers[verb] = bare(t, NewMay(r, id, estate.Action(i), verb))
	}
	return answers
}

// Where a comparison says nothing of a group, every answer about it is the same; where it
// says nothing at all, the estates are. Random pairs differ in one line, whichever, or in all.
func TestComparisonIsComplete(t *testing.T) {
	pairs := campaign.Rounds(50, 500)
	same, differ := 0, 0
	for seed := range pairs {
		random := rand.New(rand.NewPCG(uint64(seed), 71))
		older := sample.Estate(random)
		newer := altered(random, older)
		x := sample.Load(t, older)
		y, ok := sample.Try(t, newer)
		if !ok {
			continue
		}
		c := NewComparison(x, y)
		listed := map[string]bool{}
		for _, one := range c.Changes {
			listed[one.Group] = true
		}
		general := len(c.Estate)+len(c.Persons)+len(c.People.Added)+len(c.People.Removed)+len(c.People.Renamed) > 0
		var senders []address.Address
		for i := range x.Estate().People() {
			senders = append(senders, x.Estate().Person(x.Estate().PersonID(i)).Address)
		}
		senders = append(senders, x.Strangers().Outside.Address, address.MustParse("friend@far.example"), address.MustParse("g0@kelp.example"))
		for id := range estate.ID(x.Estate().Groups()) {
			other, ok := y.Estate().Find(x.Estate().Address(id))
			if !ok || !y.Estate().IsGroup(other) {
				continue
			}
			before, later := aboutGroup(t, x, id, senders), aboutGroup(t, y, other, senders)
			equal := reflect.DeepEqual(before, later)
			if equal {
				same++
			} else {
				differ++
			}
			if equal || listed[y.Estate().Address(other).String()] || general {
				continue
			}
			for name := range before {
				if before[name] != later[name] {
					t.Fatalf("pair %d, %s: %s is\n%s\nand then\n%s\nand nothing is said of it\n%s\n%s", seed, x.Estate().Address(id), name, before[name], later[name], older, difference(older, newer))
				}
			}
		}
		if c.IsEmpty() && bare(t, NewMatrix(x)) != bare(t, NewMatrix(y)) {
			t.Fatalf("pair %d: the matrix differs, and nothing is said", seed)
		}
	}
	if same < pairs || differ < pairs/2 {
		t.Errorf("%d groups are the same and %d are not, which tells little", same, differ)
	}
	t.Logf("%d pairs, %d groups the same, %d not", pairs, same, differ)
}

// altered returns an estate in which a line is another one, or is not there.
func altered(random *rand.Rand, text string) string {
	lines := strings.SplitAfter(text, "\n")
	words := [][2]string{
		{"admit", "refuse"}, {"hold", "admit"}, {"hold", "drop"}, {"digest", "none"}, {"every", "digest"}, {"false", "true"}, {"p1@", "p2@"}, {"p0@", "p1@"},
		{"deck", "engine"}, {"none", "every"}, {"members", "owners"}, {"inside", "anyone"}, {"list", "forum"}, {"forum", "mailbox"}, {"as ", "for "},
		{"suspect", "automatic"}, {"group", "author"}, {"refuse", "hold"}, {"unproven", "suspect"}, {"g1@", "g0@"}, {"person", "group"}, {"anyone", "members"},
	}
	for range 50 {
		at := 4 + random.IntN(len(lines)-4)
		pair := words[random.IntN(len(words))]
		switch {
		case strings.Contains(lines[at], pair[0]) && !strings.Contains(lines[at], "address: p") && !strings.HasPrefix(lines[at], "  - address"):
			lines[at] = strings.Replace(lines[at], pair[0], pair[1], 1)
		case random.IntN(8) == 0 && strings.HasPrefix(lines[at], "      - ") && at+1 < len(lines) && strings.HasPrefix(lines[at+1], "      - "):
			lines[at] = ""
		default:
			continue
		}
		break
	}
	return strings.Join(lines, "")
}

func difference(older, newer string) string { return Unified("estate", []byte(older), []byte(newer)) }
