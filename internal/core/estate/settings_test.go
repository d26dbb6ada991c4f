package estate

import (
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/selector"
)

// say makes a field of a group say something.
func say(t *testing.T, g *Group, field string) {
	t.Helper()
	rule := &selector.Atom{Kind: selector.Anyone, Text: "anyone"}
	place := Place{Line: 7, Column: 7}
	switch v := reflect.ValueOf(g).Elem().FieldByName(field); v.Interface().(type) {
	case string:
		v.SetString("said")
	case bool:
		v.SetBool(true)
	case int:
		v.SetInt(3)
	case address.Address:
		v.Set(reflect.ValueOf(address.MustParse("said@kelp.example")))
	case []address.Address:
		v.Set(reflect.ValueOf([]address.Address{address.MustParse("said@kelp.example")}))
	case []Listed:
		v.Set(reflect.ValueOf([]Listed{{ID: 0}}))
	case []GateRule:
		g.Given = append(g.Given, Given{"gate", place})
		v.Set(reflect.ValueOf([]GateRule{{Selector: rule, Text: "admit anyone"}}))
	case []SendAsRule:
		v.Set(reflect.ValueOf([]SendAsRule{{Selector: rule, Text: "as anyone"}}))
	case [actions]SelectorRule:
		for i := range g.Access {
			g.Access[i] = SelectorRule{Selector: rule, Text: "anyone", Place: place}
		}
	case SelectorRule:
		g.NotifySender = SelectorRule{Selector: rule, Text: "members", Place: place}
	case []Attribute:
		v.Set(reflect.ValueOf([]Attribute{{"said", "so"}}))
	default:
		if v.Kind() != reflect.Uint8 {
			t.Fatalf("say does not know how to fill in %s, of type %s", field, v.Type())
		}
		v.SetUint(2)
		if field == "SendAsProof" || field == "RepliesAs" || field == "RepliesTo" {
			v.SetUint(1)
		}
	}
}

// notSaid are the fields of a group that are no settings.
var notSaid = []string{"Place", "Given", "Accepted"}

// Every field of a group is a setting: what is added to a group and forgotten in the
// table would be forgotten by whatever walks over it.
func TestEveryFieldIsASetting(t *testing.T) {
	e := &Estate{count: 1, groups: []Group{{Address: address.MustParse("first@kelp.example")}}}
	told := func(g *Group) map[string]string {
		texts := map[string]string{}
		for s := range GroupSettings() {
			if list := s.Texts(e, g); list != nil {
				texts[s.Name] = strings.Join(list, "|")
			}
		}
		return texts
	}
	kind := reflect.TypeOf(Group{})
	for i := range kind.NumField() {
		field := kind.Field(i).Name
		if slices.Contains(notSaid, field) {
			continue
		}
		g := Group{}
		before := told(&g)
		say(t, &g, field)
		if after := told(&g); reflect.DeepEqual(before, after) {
			t.Errorf("no setting tells of %s; add one to groupSettings", field)
		}
	}
}

// So is every field of a person, besides who they are and where that stands.
func TestEveryFieldIsAPersonSetting(t *testing.T) {
	kind := reflect.TypeOf(Person{})
	for i := range kind.NumField() {
		field := kind.Field(i)
		if slices.Contains([]string{"Address", "Also", "Place", "Implied"}, field.Name) {
			continue
		}
		found := false
		for _, s := range PersonSettings() {
			text := "Ann"
			if s.Form == FormWord {
				text = s.Words[1]
			}
			var p Person
			if err := s.Set(&p, text); err != nil || s.Text(p) != text || s.Holds(p) != text {
				t.Errorf("%s is %q where %q is said: %v", s.Name, s.Text(p), text, err)
			}
			found = found || !reflect.ValueOf(p).Field(i).IsZero()
			if s.Reset(&p); !reflect.ValueOf(p).IsZero() || s.Text(p) != "" || s.Holds(p) != s.Default {
				t.Errorf("%s is %+v where nothing is said", s.Name, p)
			}
			if s.Known() != nil && s.Set(&p, "no such value") == nil {
				t.Errorf("%s takes anything", s.Name)
			}
		}
		if !found {
			t.Errorf("no setting tells of %s; add one to personSettings", field.Name)
		}
	}
}

// What a setting is set to is what it tells then.
func TestSettingsTellWhatTheyAreSetTo(t *testing.T) {
	seen := map[string]bool{}
	for s := range GroupSettings() {
		if seen[s.Name] {
			t.Errorf("there are two settings %s", s.Name)
		}
		seen[s.Name] = true
		if found, ok := GroupSetting(s.Name); !ok || found != s {
			t.Errorf("%s is not found by its name", s.Name)
		}
		place := Place{Line: 7, Column: 7}
		rule := selector.Rule{Head: "admit", Selector: &selector.Atom{Kind: selector.Nobody}, Text: "x nobody"}
		value, want := Value{Text: "said", Number: 4, Rule: rule, Address: address.MustParse("said@kelp.example"), Place: place,
			Attribute: Attribute{"said", "so"}}, ""
		switch s.Form {
		case FormText:
			want = "said"
		case FormWord:
			value.Word = len(s.Words) - 1
			want = s.Words[value.Word]
		case FormFlag:
			value.Flag = s.Default != "true"
			want = map[bool]string{true: "true", false: "false"}[value.Flag]
		case FormNumber:
			want = "4"
		case FormSelector, FormAccess, FormRules:
			want = "x nobody"
		case FormAddress, FormAddresses, FormDestination:
			want = "said@kelp.example"
		case FormAttributes:
			want = "said: so"
		case FormParties:
			continue // a Builder sets them
		}
		g := Group{Given: []Given{{s.Name, place}}}
		s.Set(&g, value)
		if got := strings.Join(s.Texts(nil, &g), "|"); got != want {
			t.Errorf("%s is set to %q, and tells %q", s.Name, want, got)
		}
		// The default is as good as nothing.
		if s.Form == FormWord && s.Default != "" {
			g = Group{}
			s.Set(&g, Value{Word: slices.Index(s.Words, s.Default)})
			if got := s.Texts(nil, &g); got != nil {
				t.Errorf("%s tells its default: %q", s.Name, got)
			}
		}
	}
	if _, ok := GroupSetting("titel"); ok {
		t.Error("there is a setting titel")
	}
}

// The documentation of an estate knows every setting.
func TestSettingsAreDocumented(t *testing.T) {
	data, err := os.ReadFile("../../../docs/estate.md")
	if err != nil {
		t.Fatal(err)
	}
	for s := range GroupSettings() {
		name := strings.TrimPrefix(s.Name, "access.")
		if !strings.Contains(string(data), "`"+name+"`") && !strings.Contains(string(data), "`"+name+":") && !strings.Contains(string(data), name+":") {
			t.Errorf("docs/estate.md does not tell of %s", s.Name)
		}
	}
	for _, s := range MembershipSettings() {
		if !strings.Contains(string(data), "`"+s.Name+"`") {
			t.Errorf("docs/estate.md does not tell of %s of a membership", s.Name)
		}
	}
}
