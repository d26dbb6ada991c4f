package nearest

import (
	"slices"
	"strings"
	"testing"
)

func TestWord(t *testing.T) {
	known := []string{"members", "owners", "moderators", "in", "inside", "outside"}
	for _, c := range []struct{ in, want string }{
		{"memebrs", "members"}, // a swap is one edit
		{"MEMBERS", "members"},
		{"owner", "owners"},
		{"insde", "inside"},
		{"ousdie", "outside"},
		{"on", "in"},
		{"xyz", ""},
		{"", ""},
		{strings.Repeat("x", 10000), ""},
	} {
		if got := Word(c.in, known); got != c.want {
			t.Errorf("Word(%q) = %q, want %q", c.in, got, c.want)
		}
	}
}

func TestWords(t *testing.T) {
	known := slices.Values([]string{"deck-crew@x", "desk-crew@x", "deck-crow@x", "engine@x"})
	if got := Words("deck-crew@x", known, 2); !slices.Equal(got, []string{"deck-crew@x", "desk-crew@x"}) {
		t.Errorf("Words = %v", got)
	}
}

func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"", "", 0}, {"a", "", 1}, {"", "ab", 2}, {"ab", "ba", 1}, {"kitten", "sitting", 3}, {"abc", "abc", 0},
	} {
		if got := distance(c.a, c.b, 9); got != c.want {
			t.Errorf("distance(%q, %q) = %d, want %d", c.a, c.b, got, c.want)
		}
	}
	if got := distance("aaaaaaaa", "bbbbbbbb", 2); got <= 2 {
		t.Errorf("a distance above the limit is %d", got)
	}
}

func TestDistanceBothWays(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"desk@x", "desk@x", 0}, {"desk@x", "deck@x", 1}, {"desk@x", "dsek@x", 1}, {"desk@x", "desks@x", 1}, {"desk@x", "", 5}, {"desk", "nowhere near", 5}, {"", "", 0},
	} {
		if got := Distance(c.a, c.b); got != c.want && (got <= 4 || c.want <= 4) {
			t.Errorf("Distance(%q, %q) = %d, want %d", c.a, c.b, got, c.want)
		}
		if back := Distance(c.b, c.a); back != Distance(c.a, c.b) && (back <= 4 || c.want <= 4) {
			t.Errorf("Distance(%q, %q) = %d, and %d the other way round", c.b, c.a, back, Distance(c.a, c.b))
		}
	}
}

// A word may be two edits away, and one if it is short; of addresses in one domain the
// local parts count.
func TestFarthest(t *testing.T) {
	for _, c := range []struct{ word, known, want string }{
		{"ab", "abc", "abc"}, {"ab", "abcd", ""}, {"abc", "abcde", ""}, {"abcd", "abcdef", "abcdef"}, {"abcdef", "abcdefgh", "abcdefgh"}, {"abcdef", "abcdefghi", ""},
		{"abcdefghijklmnopqrstuvwx", "abcdefghijklmnopqrstuv", "abcdefghijklmnopqrstuv"}, {"abcdefghijklmnopqrstuvwx", "abcdefghijklmnopqrstu", ""},
		{"sam@kelp.example", "tim@kelp.example", ""}, {"sam@kelp.example", "sum@kelp.example", "sum@kelp.example"},
		{"desk@klep.example", "desk@kelp.example", "desk@kelp.example"}, {"dosk@klep.example", "desk@kelp.example", "desk@kelp.example"}, {"disc@klep.example", "desk@kelp.example", ""},
		{strings.Repeat("x", 200), strings.Repeat("x", 199), strings.Repeat("x", 199)}, {strings.Repeat("x", 201), strings.Repeat("x", 200), ""},
	} {
		if got := Word(c.word, []string{c.known}); got != c.want {
			t.Errorf("%.30q may mean %.30q, got %.30q", c.word, c.known, got)
		}
	}
	known := []string{"moderators", "moderator", "moderate"}
	if got := Words("moderato", slices.Values(known), 3); !slices.Equal(got, []string{"moderator", "moderate", "moderators"}) {
		t.Errorf("the nearest first: %v", got)
	}
	if got := Words("moderato", slices.Values(known), 1); !slices.Equal(got, []string{"moderator"}) {
		t.Errorf("one of them: %v", got)
	}
}

func TestHint(t *testing.T) {
	if got := Hint("memebrs", []string{"owners", "members"}); got != "; did you mean members?" {
		t.Error(got)
	}
	if got := Hint("xyz", []string{"owners", "members"}); got != "" {
		t.Error(got)
	}
}
