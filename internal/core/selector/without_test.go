package selector

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
)

// randomText returns a selector of some atoms.
func randomText(random *rand.Rand, depth int) string {
	atoms := []string{"anyone", "nobody", "inside", "members", "a@k.example", "b@k.example", "suspect"}
	if depth == 0 || random.IntN(3) == 0 {
		return atoms[random.IntN(len(atoms))]
	}
	switch random.IntN(3) {
	case 0:
		return "not (" + randomText(random, depth-1) + ")"
	case 1:
		return "(" + randomText(random, depth-1) + " and " + randomText(random, depth-1) + ")"
	}
	return "(" + randomText(random, depth-1) + " or " + randomText(random, depth-1) + ")"
}

// What is left without some atoms says the same as the whole where these are false, and
// names them no more.
func TestWithout(t *testing.T) {
	gone := func(a *Atom) bool { return a.Text == "a@k.example" }
	for seed := range uint64(3000) {
		random := rand.New(rand.NewPCG(seed, 5))
		text := randomText(random, 4)
		x, err := Parse(text, ForMessages)
		if err != nil {
			t.Fatal(err)
		}
		left := Without(x, gone)
		if left != nil {
			Atoms(left, func(a *Atom) {
				if gone(a) || a.Kind == Nobody {
					t.Fatalf("%s without it names %s", text, a.Text)
				}
			})
		}
		for range 16 {
			world := map[string]bool{}
			answer := func(a *Atom) bool {
				switch {
				case a.Kind == Anyone:
					return true
				case a.Kind == Nobody || gone(a):
					return false
				}
				if _, known := world[a.Text]; !known {
					world[a.Text] = random.IntN(2) == 0
				}
				return world[a.Text]
			}
			want := Eval(x, answer)
			got := left != nil && Eval(left, answer)
			if got != want {
				t.Fatalf("%s without it is %v, want %v in %v", text, got, want, world)
			}
		}
	}
	for text, want := range map[string]string{
		"a@k.example": "", "not a@k.example": "anyone", "inside or a@k.example": "inside", "inside and a@k.example": "",
		"inside and not a@k.example": "inside", "not a@k.example and not a@k.example": "anyone", "not anyone": "",
		"members or inside or a@k.example": "members or inside", "inside or not a@k.example": "anyone",
		"members and inside and not a@k.example": "members and inside",
	} {
		x, err := Parse(text, ForMessages)
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		if left := Without(x, gone); left != nil {
			got = left.String()
		}
		if got != want {
			t.Errorf("%q without it is %q, want %q", text, got, want)
		}
	}
}

// Filters over columns have names with whatever is in them.
func TestParseColumns(t *testing.T) {
	for text, want := range map[string]string{
		"(Group Email=x)": "group email", "(&( Größe >=7)(a.b-c~d=*))": "größe a.b-c~d", `(a\3db=1)`: "a=b", `(\28x\29=1)`: "(x)",
	} {
		f, err := ParseColumns(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		var names []string
		eachItem(f, func(i *Item) { names = append(names, strings.ToLower(i.Attribute)) })
		if got := strings.Join(names, " "); got != want {
			t.Errorf("%s is about %q, want %q", text, got, want)
		}
	}
	for text, at := range map[string]int{`(a\zb=1)`: 2, `(a\3`: 2, "(=1)": 1, "(  =1)": 1, `(a\ff=1)`: 1, "(a=1) x": 5} {
		_, err := ParseColumns(text)
		if bad, ok := err.(*SyntaxError); !ok || bad.Offset != at {
			t.Errorf("%s: %v, want an error at %d", text, err, at)
		}
	}
	if _, err := ParseFilter("(Group Email=x)"); err == nil {
		t.Error("a blank is allowed in the name of an attribute")
	}
}

func eachItem(f Filter, visit func(*Item)) {
	switch f := f.(type) {
	case FilterAnd:
		for _, one := range f {
			eachItem(one, visit)
		}
	case FilterOr:
		for _, one := range f {
			eachItem(one, visit)
		}
	case FilterNot:
		eachItem(f.X, visit)
	case *Item:
		visit(f)
	}
}

func TestKinds(t *testing.T) {
	groups, messages := "", ""
	for k := Anyone; k <= Larger; k++ {
		if k.AboutGroup() {
			groups += fmt.Sprint(k, " ")
		}
		if k.AboutMessage() {
			messages += fmt.Sprint(k, " ")
		}
	}
	if want := fmt.Sprint(Members, " ", Owners, " ", Moderators, " ", Newcomers, " "); groups != want {
		t.Errorf("about the group are %s, want %s", groups, want)
	}
	if want := fmt.Sprint(Unproven, " ", Suspect, " ", Automatic, " ", Invitation, " ", Larger, " "); messages != want {
		t.Errorf("about the message are %s, want %s", messages, want)
	}
}
