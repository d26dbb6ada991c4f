package estate

import (
	"reflect"
	"sync/atomic"
	"testing"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/selector"
)

// marks returns values of the types that are coded as a whole, none of which is zero or a default.
func marks(t *testing.T) map[reflect.Type]any {
	t.Helper()
	filter, err := selector.ParseFilter("(post=skipper)")
	if err != nil {
		t.Fatal(err)
	}
	parse := func(kind ruleKind, text string) selector.Rule {
		rule, err := ruleText{kind, text}.parse()
		if err != nil {
			t.Fatal(err)
		}
		return rule
	}
	place := Place{Line: 3, Column: 5, File: 1}
	sends, asks := parse(sendAsRule, "as owners"), parse(accessRule, "where (post=skipper)")
	return map[reflect.Type]any{
		reflect.TypeFor[address.Address](): address.MustParse("Ann@Kelp.example"),
		reflect.TypeFor[selector.Filter](): filter,
		reflect.TypeFor[GateRule]():        NewGateRule(parse(gateRule, "refuse outside because \"no\""), place),
		reflect.TypeFor[SendAsRule]():      SendAsRule{SendAs(1), sends.Selector, sends.Text, place},
		reflect.TypeFor[SelectorRule]():    SelectorRule{asks.Selector, asks.Text, place},
	}
}

// eachMarked calls try with every part of a value marked in turn, however deep it stands in it. Of a list there is one
// value. What is marked is taken back afterwards.
func eachMarked(v reflect.Value, path string, marks map[reflect.Type]any, try func(path string)) {
	before := reflect.New(v.Type()).Elem()
	before.Set(v)
	set := func(to reflect.Value) {
		v.Set(to)
		try(path)
		v.Set(before)
	}
	if mark, ok := marks[v.Type()]; ok {
		set(reflect.ValueOf(mark))
		return
	}
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			eachMarked(v.Field(i), path+"."+v.Type().Field(i).Name, marks, try)
		}
	case reflect.Array:
		eachMarked(v.Index(v.Len()-1), path+"[]", marks, try)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 1, 1))
		eachMarked(v.Index(0), path+"[]", marks, try)
		v.Set(before)
	case reflect.String:
		set(reflect.ValueOf("marked").Convert(v.Type()))
	case reflect.Bool:
		set(reflect.ValueOf(true).Convert(v.Type()))
	default:
		set(reflect.ValueOf(1).Convert(v.Type()))
	}
}

// carries fails where a part of a value is lost between code and its inverse.
func carries[T any](t *testing.T, zero T, code func(c *coder, value *T), elsewhere ...string) {
	t.Helper()
	value, seen := zero, 0
	known := map[string]bool{}
	for _, path := range elsewhere {
		known[path] = true
	}
	eachMarked(reflect.ValueOf(&value).Elem(), "", marks(t), func(path string) {
		if known[path] {
			return
		}
		seen++
		rules := &ruleTexts{numbers: map[ruleText]int{}}
		written := &coder{rules: rules}
		code(written, &value)
		rules.parsed = make([]atomic.Pointer[selector.Rule], len(rules.texts))
		var again T
		read := &coder{data: written.data, reading: true, rules: rules}
		code(read, &again)
		if read.damaged || !reflect.DeepEqual(again, value) {
			t.Errorf("%T: %s does not come through: %+v, want %+v", zero, path, again, value)
		}
	})
	if seen == 0 {
		t.Errorf("%T has no parts", zero)
	}
}

// Everything that an estate holds is in its compiled form: a field that is added and is not coded there fails here.
func TestEveryFieldIsCompiled(t *testing.T) {
	group := Group{Gate: defaultGate, NotifySender: defaultNotify, Access: defaultAccess}
	// The addresses stand in sections of their own, which TestCompiled compares.
	carries(t, group, (*coder).group, ".Address", ".Also[]")
	carries(t, Settings{}, (*coder).settings)
	carries(t, MemberRule{}, (*coder).memberRule)
	carries(t, Listing{}, (*coder).listing)
	carries(t, Unknown{}, (*coder).unknown)
	carries(t, Person{}, func(c *coder, p *Person) {
		texts := &flatTexts{}
		e := &Estate{people: []Person{*p}, inside: []bool{false}}
		flat := texts.flatten(e)
		if c.reading {
			data := append(make([]byte, 0, len(c.data)), c.data...)
			texts.data = data[:len(data)-len(bytesOf(flat))]
			if !texts.raise(viewOf[flatPerson](data[len(texts.data):]), e) {
				c.damaged = true
			}
			*p = e.people[0]
			return
		}
		for len(texts.data)%8 != 0 {
			texts.data = append(texts.data, 0)
		}
		c.data = append(append(c.data, texts.data...), bytesOf(flat)...)
	}, ".Also[]")
	var m Membership
	eachMarked(reflect.ValueOf(&m).Elem(), "", nil, func(path string) {
		again := viewOf[Entry](bytesOf([]Entry{NewEntry(0, m, Place{})}))[0].Membership()
		if again != m {
			t.Errorf("a membership with %s comes through as %+v, want %+v", path, again, m)
		}
	})
}

// Everything that a membership says is a setting, and comes back from its text.
func TestEveryFieldIsAMembershipSetting(t *testing.T) {
	var m Membership
	eachMarked(reflect.ValueOf(&m).Elem(), "", nil, func(path string) {
		var again Membership
		said := 0
		for _, s := range MembershipSettings() {
			if text := s.Text(m); text != "" {
				said++
				if err := s.Set(&again, text); err != nil {
					t.Errorf("%s: %q: %v", s.Name, text, err)
				}
			}
			if err := s.Set(&again, "no such value"); err == nil {
				t.Errorf("%s takes anything", s.Name)
			}
		}
		if said != 1 || again != m {
			t.Errorf("of a membership with %s, %d settings say %+v, want %+v", path, said, again, m)
		}
	})
}
