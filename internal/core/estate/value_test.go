package estate

import (
	"errors"
	"reflect"
	"testing"

	"yorvet.example/yorvet/internal/core/selector"
)

// Values of each form: what is read, and what the value then holds.
func TestParseValue(t *testing.T) {
	for _, c := range []struct {
		setting, text string
		holds         func(Value) bool
	}{
		{"title", "Desk", func(v Value) bool { return v.Text == "Desk" }},
		{"kind", "mailbox", func(v Value) bool { return Kind(v.Word) == Mailbox }},
		{"copy", "every", func(v Value) bool { return Copy(v.Word) == CopyEvery }},
		{"echo", "false", func(v Value) bool { return !v.Flag }},
		{"echo", "TRUE", func(v Value) bool { return v.Flag }},
		{"pause-after", "1", func(v Value) bool { return v.Number == 1 }},
		{"also", "a@kelp.example", func(v Value) bool { return v.Address.Key() == "a@kelp.example" }},
		{"owners", "a@kelp.example", func(v Value) bool { return v.Address.Key() == "a@kelp.example" }},
		{"gate", `hold suspect because "No."`, func(v Value) bool { return v.Rule.Head == "hold" && v.Rule.Because == "No." }},
		{"send-as", "for members", func(v Value) bool { return v.Rule.Head == "for" && v.Rule.Selector.String() == "members" }},
		{"replies-to", "group", func(v Value) bool { return v.Word == 1 && !v.Address.IsValid() }},
		{"replies-to", "Desk@kelp.example", func(v Value) bool { return v.Address.Key() == "desk@kelp.example" }},
		{"attributes", " unit :  deck: lower ", func(v Value) bool { return v.Attribute == Attribute{"unit", "deck: lower"} }},
		{"access.find", "members", func(v Value) bool { return v.Rule.Text == "members" && v.Rule.Selector.String() == "members" }},
	} {
		s, _ := GroupSetting(c.setting)
		if v, err := s.Parse(c.text); err != nil || !c.holds(v) {
			t.Errorf("%s %q: %+v, %v", c.setting, c.text, v, err)
		}
	}
}

func TestNoValue(t *testing.T) {
	for _, c := range []struct{ setting, text, want, nearest string }{
		{"kind", "forun", `unknown value "forun"`, "forum"},
		{"kind", "", `expected list, forum, mailbox or roster, not ""`, ""},
		{"copy", "", `expected every, digest, replies or none, not ""`, ""},
		{"copy", "digset", `unknown value "digset"`, "digest"},
		{"echo", "yes", `expected true or false, not "yes"`, ""},
		{"pause-after", "0", `expected a whole number of bounces from 1 up, not "0"`, ""},
		{"replies-to", "grup", `unknown value "grup"`, "group"},
		{"replies-to", "zzzzzzz", `expected author, group or an address, not "zzzzzzz"`, ""},
		{"attributes", "unit", `expected NAME: VALUE, not "unit"`, ""},
		{"attributes", "unit: ", `expected NAME: VALUE, not "unit: "`, ""},
		{"attributes", ": deck", "an attribute has no name", ""},
		{"attributes", "Kind: deck", `an attribute of a group cannot be called "Kind": filters mean something else by that`, ""},
		{"attributes", "misses: deck", "", ""},
		{"attributes", "miss: deck", `an attribute of a group cannot be called "miss": filters mean something else by that`, ""},
		{"pause-after", "x", `expected a whole number of bounces from 1 up, not "x"`, ""},
	} {
		s, _ := GroupSetting(c.setting)
		_, err := s.Parse(c.text)
		var bad *ValueError
		if c.want == "" {
			if err != nil {
				t.Errorf("%s %q: %v", c.setting, c.text, err)
			}
			continue
		}
		if !errors.As(err, &bad) || bad.Error() != c.want || bad.Nearest != c.nearest {
			t.Errorf("%s %q: %v", c.setting, c.text, err)
		}
	}
	for setting, text := range map[string]string{"gate": "admit all", "send-as": "as", "access.find": ""} {
		s, _ := GroupSetting(setting)
		_, err := s.Parse(text)
		if bad := (*selector.SyntaxError)(nil); !errors.As(err, &bad) {
			t.Errorf("%s %q: %v", setting, text, err)
		}
	}
	also, _ := GroupSetting("also")
	if _, err := also.Parse("a@"); !errors.As(err, new(*ValueError)) {
		t.Errorf("an address that is none: %v", err)
	}
	for _, otherwise := range []bool{true, false} {
		if flag, err := ParseFlag("perhaps", otherwise); flag != otherwise || err == nil {
			t.Errorf("no flag, otherwise %v: %v, %v", otherwise, flag, err)
		}
	}
	if word, err := ParseWord(CopyWords(), "x"); word != 0 || err == nil {
		t.Errorf("no word: %d, %v", word, err)
	}
}

// What is set and reset is as it was.
func TestReset(t *testing.T) {
	texts := map[Form]string{FormText: "x", FormNumber: "7", FormSelector: "anyone", FormAccess: "anyone", FormAddresses: "x@kelp.example",
		FormDestination: "x@kelp.example", FormAttributes: "x: y"}
	b := NewBuilder(Settings{Domains: []Domain{{Name: "kelp.example"}}})
	b.AddGroup(Group{}, nil)
	plain := b.e.groups[0]
	for s := range GroupSettings() {
		g := plain
		text := texts[s.Form]
		switch s.Form {
		case FormAddress, FormParties:
			continue
		case FormWord:
			text = s.Words[len(s.Words)-1]
		case FormFlag:
			text = "false"
		case FormRules:
			text = s.Heads[len(s.Heads)-1] + " anyone"
			g.Gate = nil
		}
		v, err := s.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		v.Place = Place{Line: 1}
		s.Set(&g, v)
		g.Given = []Given{{s.Name, Place{Line: 1}}, {"other", Place{Line: 2}}}
		if reflect.DeepEqual(g, plain) {
			t.Errorf("%s: setting it changes nothing", s.Name)
		}
		s.Reset(&g)
		if len(g.Given) != 1 || g.Given[0].Setting != "other" {
			t.Errorf("%s: given are %v", s.Name, g.Given)
		}
		if g.Given = plain.Given; s.Form == FormRules {
			g.Gate = plain.Gate
		}
		if s.Name == "gate" {
			if s.Reset(&g); !reflect.DeepEqual(g.Gate, plain.Gate) {
				t.Errorf("the gate is %v", g.Gate)
			}
		}
		if !reflect.DeepEqual(g, plain) {
			t.Errorf("%s: %+v, want %+v", s.Name, g, plain)
		}
	}
	g := Group{Owners: []Listed{{ID: 1}}, Moderators: []Listed{{ID: 2}}, Gate: []GateRule{}, SendAs: []SendAsRule{{}}}
	for _, name := range []string{"owners", "moderators", "gate", "send-as"} {
		s, _ := GroupSetting(name)
		s.Reset(&g)
	}
	if g.Owners != nil || g.Moderators != nil || len(g.Gate) != 1 || g.Gate[0].Text != "admit inside" || g.SendAs != nil {
		t.Errorf("lists are %+v", g)
	}
}

func TestNestedGatesWord(t *testing.T) {
	if NestedGatesWord(true) != "open" || NestedGatesWord(false) != "enforce" {
		t.Error("other words")
	}
}
