package present

import (
	"fmt"
	"strings"
	"testing"
)

// changesOf are changes of so many groups in which each loses so many members: those of one number lose the same people.
func changesOf(groups int, lose func(group int) []string) []ChangedGroup {
	var list []ChangedGroup
	for i := range groups {
		list = append(list, ChangedGroup{Group: fmt.Sprintf("g%d@k.example", i), Receives: []EffectCount{
			{Old: "inbox", New: "", People: lose(i)}}})
	}
	return list
}

func changesText(t *testing.T, list []ChangedGroup, all bool) string {
	t.Helper()
	var b strings.Builder
	p := newPage(&b, Options{Width: 100, All: all})
	p.groupChanges(list)
	if err := p.flush(); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// Groups that change alike are told once; of very many, those whose people alone differ are, with how many in all.
func TestGroupsThatChangeAlike(t *testing.T) {
	named := func(names ...string) func(int) []string { return func(int) []string { return names } }
	text := changesText(t, changesOf(3, named("a@k", "b@k")), false)
	if want := "\n3 groups: g0@k.example, g1@k.example, g2@k.example\n  receiving  inbox -> no recipient  2  a@k, b@k\n"; text != want {
		t.Errorf("got\n%s\nwant\n%s", text, want)
	}
	// The first people are the same, and others further on are not.
	many := strings.Fields(strings.Repeat("x@k ", 20))
	text = changesText(t, changesOf(2, func(group int) []string { return append(many[:20:20], fmt.Sprint("last", group)) }), false)
	if strings.Contains(text, "2 groups") {
		t.Errorf("groups whose people differ are told as one:\n%s", text)
	}
	// 24 groups in 23 kinds: two lose the same person, the others one to three of their own.
	list := changesOf(24, func(group int) []string {
		if group < 2 {
			return []string{"same@k"}
		}
		return strings.Fields(strings.Repeat(fmt.Sprintf("p%d@k ", group), 1+group%3))
	})
	sum := 0
	for _, c := range list {
		sum += len(c.Receives[0].People)
	}
	row := fmt.Sprintf("  receiving  inbox -> no recipient  %d  in all of them\n", sum)
	if text = changesText(t, list, false); !strings.HasPrefix(text, "\n24 groups: g0@k.example, g1@") || !strings.HasSuffix(text, row) {
		t.Errorf("got\n%s\nwant at its end\n%s", text, row)
	}
	if text = changesText(t, list, true); strings.Count(text, "receiving") != 23 || !strings.Contains(text, "2 groups: g0@k.example, g1@k.example\n") {
		t.Errorf("all of them are\n%s", text)
	}
}
