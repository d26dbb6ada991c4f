package propose

import (
	"errors"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/estatefile"
)

// A NewPerson is somebody who is to be written down.
type NewPerson struct {
	Address string
	Fields  []string // as FIELD=VALUE
}

func (x *NewPerson) propose(w *work) error {
	a, err := w.freePerson(x.Address, estate.None)
	if err != nil {
		return err
	}
	fields, err := personFields(x.Fields)
	if err != nil {
		return err
	}
	add := change.AddPerson{Person: estate.Person{Address: a}}
	for _, f := range fields {
		switch {
		case f.operator != '=':
			return ask.Errorf("%s: a new person has nothing to add to or take from", f.name)
		case f.setting != nil:
			if text := f.text(); text != "" {
				_ = f.setting.Set(&add.Person, text) // it was tried
			}
		case f.name == "also":
			for _, text := range f.texts {
				also, err := w.freePerson(text, estate.None)
				if err != nil {
					return err
				}
				add.Also = append(add.Also, also)
			}
		default:
			for _, text := range f.texts {
				add.Attributes = append(add.Attributes, estate.Attribute{Name: f.attribute, Value: text})
			}
		}
	}
	w.draft.Apply(add)
	return nil
}

// PersonSettings are what is to be said of people.
type PersonSettings struct {
	People []string // may hold * for anything
	Fields []string // as FIELD=VALUE
}

// Closing says that mailboxes of people are closed.
func Closing(people []string) *PersonSettings {
	return &PersonSettings{People: people, Fields: []string{"mailbox=" + estate.MailboxClosed.String()}}
}

func (x *PersonSettings) propose(w *work) error {
	people, err := w.PeopleOrAll(x.People)
	if err != nil {
		return err
	}
	fields, err := personFields(x.Fields)
	if err != nil {
		return err
	}
	for _, id := range people {
		if err := w.setPerson(id, fields); err != nil {
			return err
		}
	}
	return nil
}

// A PersonRename is another address for a person.
type PersonRename struct {
	Person, New string
	Forget      bool // the old address is given up
}

func (x *PersonRename) propose(w *work) error {
	id, err := w.Person(x.Person)
	if err != nil {
		return err
	}
	if w.Estate.Person(id).Implied {
		return w.errImplied(id)
	}
	a, err := w.freePerson(x.New, id)
	if err != nil {
		return err
	}
	if a.Key() == w.Estate.Address(id).Key() {
		return ask.Errorf("%s has this address already", a)
	}
	w.draft.Apply(change.RenamePerson{Person: id, To: a})
	if !x.Forget {
		also := slices.DeleteFunc(slices.Clone(w.Estate.Person(id).Also),
			func(other address.Address) bool { return other.Key() == a.Key() })
		w.draft.Apply(change.SetPersonAlso{Person: id, Also: append(also, w.Estate.Address(id))})
	}
	w.draft.Apply(change.Renamed(w.Estate, id, a)...)
	w.noteEdge(id)
	return nil
}

// personField is FIELD=VALUE of a person.
type personField struct {
	name      string                             // also, attributes, or that of a setting
	setting   *estate.PartSetting[estate.Person] // or nil
	attribute string
	operator  byte
	texts     []string // of a setting one, or none
}

func (f *personField) text() string { return strings.Join(f.texts, "") }

// personFieldNames are what can be said of a person.
var personFieldNames = func() (names []string) {
	for _, s := range estate.PersonSettings() {
		names = append(names, s.Name)
	}
	return append(slices.Insert(names, 1, "also"), "attributes.NAME")
}()

func personFields(args []string) (list []personField, err error) {
	for _, arg := range args {
		name, value, ok := strings.Cut(arg, "=")
		if !ok || name == "" {
			return nil, ask.Errorf("expected FIELD=VALUE, not %q", arg)
		}
		f := personField{operator: '='}
		if last := name[len(name)-1]; last == '+' || last == '-' {
			f.operator, name = last, name[:len(name)-1]
		}
		f.name = name
		f.setting, _ = estate.PersonSetting(name)
		if attribute, is := strings.CutPrefix(name, "attributes."); is {
			f.name, f.attribute = "attributes", attribute
		}
		switch {
		case f.attribute == "" && !slices.Contains(personFieldNames, name):
			return nil, ask.Unknown("field", name, personFieldNames)
		case f.operator != '=' && f.setting != nil:
			return nil, ask.Errorf("%s is no list, expected %s=VALUE", name, name)
		case f.setting != nil && value != "":
			var wrong *estate.ValueError
			if errors.As(f.setting.Set(&estate.Person{}, value), &wrong) {
				return nil, ask.Errorf("%s=%s: %w%s", name, value, wrong, ask.Meant(wrong.Nearest))
			}
			f.texts = []string{value}
		case value != "":
			f.texts = estatefile.SplitList(value)
		}
		list = append(list, f)
	}
	return list, nil
}

// freePerson returns an address for somebody, if it is nobody's, or theirs already.
func (w *work) freePerson(text string, self estate.ID) (address.Address, error) {
	a, err := address.Parse(text)
	if err != nil {
		return a, ask.Errorf("%w", err)
	}
	id, taken := w.Estate.Find(a)
	if !taken || id == self || w.Estate.IsPerson(id) && w.Estate.Person(id).Implied {
		return a, nil
	}
	what := "the person"
	if w.Estate.IsGroup(id) {
		what = "the group"
	}
	return a, ask.Errorf("%s is taken by %s %s", text, what, w.Estate.Address(id))
}

// errImplied is the error of somebody who is a member of a group and nothing else.
func (w *work) errImplied(id estate.ID) error {
	a := w.Estate.Address(id)
	return ask.Errorf("%s is listed in groups, and not written down as a person; yorvet person add %s", a, a)
}

func (w *work) setPerson(id estate.ID, fields []personField) error {
	p := w.Estate.Person(id)
	if p.Implied {
		return w.errImplied(id)
	}
	all, values := slices.Clone(p.Also), map[string][]string{} // as the fields before leave them
	for _, f := range fields {
		switch {
		case f.setting != nil:
			w.draft.Apply(change.SetPerson{Person: id, Field: f.name, Text: f.text()})
		case f.name == "also":
			var err error
			if all, err = w.alsoOf(id, f, all); err != nil {
				return err
			}
			w.draft.Apply(change.SetPersonAlso{Person: id, Also: slices.Clone(all)})
		default:
			name := selector.Fold(f.attribute)
			if _, known := values[name]; !known {
				values[name] = w.Estate.Values(id, name)
			}
			values[name] = valuesOf(f, values[name])
			w.draft.Apply(change.SetAttribute{Person: id, Attribute: f.attribute, Values: values[name]})
		}
	}
	return nil
}

// alsoOf returns the aliases that a person is to have, who has some.
func (w *work) alsoOf(id estate.ID, f personField, has []address.Address) ([]address.Address, error) {
	var list []address.Address
	if f.operator != '=' {
		list = has
	}
	for _, text := range f.texts {
		a, err := w.freePerson(text, id)
		if err != nil {
			return nil, err
		}
		same := func(other address.Address) bool { return other.Key() == a.Key() }
		switch {
		case f.operator == '-':
			list = slices.DeleteFunc(list, same)
		case !slices.ContainsFunc(list, same):
			list = append(list, a)
		}
	}
	return list, nil
}

// valuesOf returns the values that an attribute is to have, which has some.
func valuesOf(f personField, has []string) []string {
	var list []string
	if f.operator != '=' {
		list = slices.Clone(has)
	}
	for _, text := range f.texts {
		list = slices.DeleteFunc(list, func(one string) bool { return strings.EqualFold(one, text) })
		if f.operator != '-' {
			list = append(list, text)
		}
	}
	return list
}

// noteEdge tells which rules of the edge name a person, as these are changed by hand.
func (w *work) noteEdge(id estate.ID) {
	for i, rule := range w.Estate.Settings().Edge {
		selector.Atoms(rule.Selector, func(a *selector.Atom) {
			if who, ok := w.Estate.Find(a.Address); a.Kind == selector.Is && ok && who == id {
				w.note("Rule %d of the edge names %s, and stays as it is: %s", i+1, a.Address, rule.Text)
			}
		})
	}
}
