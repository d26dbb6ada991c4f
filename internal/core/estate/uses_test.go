package estate

import (
	"slices"
	"testing"

	"yorvet.example/yorvet/internal/core/selector"
)

// A group is used where a selector names it by "in", and nowhere else.
func TestUses(t *testing.T) {
	parse := func(text string) selector.Expr {
		x, err := selector.Parse(text, selector.ForPeople)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	b := NewBuilder(settings())
	used := b.AddGroup(Group{Address: at("used@kelp.example")}, nil)
	desk := b.AddGroup(Group{Address: at("desk@kelp.example"),
		Gate: []GateRule{{Selector: parse("used@kelp.example"), Place: place(1)}, {Selector: parse("inside and not in used@kelp.example"), Place: place(2)},
			{Selector: parse("in other@kelp.example"), Place: place(3)}},
		SendAs: []SendAsRule{{Selector: parse("in used@kelp.example"), Place: place(4)}},
		Access: [actions]SelectorRule{Join: {Selector: parse("members or in used@kelp.example"), Place: place(5)}},
	}, nil)
	b.AddGroup(Group{Address: at("other@kelp.example")}, nil)
	e, problems := b.Build()
	if e == nil {
		t.Fatal(problems)
	}
	want := []Use{{desk, "rule 2 of the gate", place(2)}, {desk, "rule 1 of send-as", place(4)}, {desk, "access.join", place(5)}}
	if got := e.Uses(used); !slices.Equal(got, want) {
		t.Errorf("%+v, want %+v", got, want)
	}
	if got := e.Uses(desk); len(got) > 0 {
		t.Errorf("desk is used: %+v", got)
	}
}
