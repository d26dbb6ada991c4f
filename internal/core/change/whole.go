package change

import (
	"errors"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// orSomewhere returns a place that is not nowhere, as what stands nowhere is a default.
func orSomewhere(p estate.Place) estate.Place {
	if p == (estate.Place{}) {
		return estate.Place{Line: 1, Column: 1}
	}
	return p
}

func (c AddGroup) apply(w *work) error {
	w.moves = true
	g := &group{Group: estate.Group{Address: c.Address, Place: orSomewhere(c.Place)}}
	for _, said := range c.Settings {
		s, err := setting(said.Setting)
		if err != nil {
			return err
		}
		if err := w.say(g, s, said.Texts); err != nil {
			return err
		}
	}
	for _, m := range c.Members {
		g.add(w, m)
	}
	w.newGroups = append(w.newGroups, g)
	return nil
}

func (c RenameGroup) apply(w *work) error {
	g := w.group(c.Group)
	old := g.Address
	g.Also = slices.DeleteFunc(slices.Clone(g.Also), func(a address.Address) bool { return a.Key() == c.To.Key() })
	g.Address, w.moves = c.To, true
	if !c.Forget && old.Key() != c.To.Key() {
		g.Also = append(g.Also, old)
	}
	return nil
}

func (c RemoveGroup) apply(w *work) error {
	w.group(c.Group).gone, w.moves = true, true
	return nil
}

func (c AddPerson) apply(w *work) error {
	w.moves = true
	p := c.Person
	p.Place = orSomewhere(p.Place)
	w.newPeople = append(w.newPeople, &person{Person: p, attributes: c.Attributes})
	return nil
}

func (c SetPerson) apply(w *work) error {
	setting, ok := estate.PersonSetting(c.Field)
	if !ok {
		return &SettingError{c.Field, errors.New("a person has none")}
	}
	p := w.person(c.Person)
	w.moves = w.moves || setting.Asked
	if c.Text == "" {
		setting.Reset(&p.Person)
		return nil
	}
	return setting.Set(&p.Person, c.Text)
}

func (c SetAttribute) apply(w *work) error {
	p := w.person(c.Person)
	w.moves = true
	p.attributes = slices.DeleteFunc(p.attributes, func(f estate.Attribute) bool {
		return selector.Fold(f.Name) == selector.Fold(c.Attribute)
	})
	for _, value := range c.Values {
		p.attributes = append(p.attributes, estate.Attribute{Name: w.e.AttributeName(c.Attribute), Value: value})
	}
	return nil
}

func (c SetPersonAlso) apply(w *work) error {
	w.person(c.Person).Also, w.moves = c.Also, true
	return nil
}

func (c RenamePerson) apply(w *work) error {
	p := w.person(c.Person)
	p.Also = slices.DeleteFunc(slices.Clone(p.Also), func(a address.Address) bool { return a.Key() == c.To.Key() })
	p.Address, w.moves = c.To, true
	return nil
}

func (c RemovePerson) apply(w *work) error {
	w.person(c.Person).gone, w.moves = true, true
	return nil
}

// own returns the settings of the estate, to be changed.
func (w *work) own() *estate.Settings {
	if w.settings == nil {
		settings := *w.e.Settings()
		settings.Domains = slices.Clone(settings.Domains)
		w.settings = &settings
	}
	return w.settings
}

func (c Accept) apply(w *work) error {
	s := w.own()
	a := c.Acceptance
	a.Place = orSomewhere(a.Place)
	s.Accepted = append(slices.Clip(s.Accepted), a)
	return nil
}

func (c AddDomain) apply(w *work) error {
	s := w.own()
	s.Domains, w.moves = append(s.Domains, estate.Domain{Name: c.Name}), true
	return nil
}

func (c RemoveDomain) apply(w *work) error {
	s := w.own()
	s.Domains = slices.DeleteFunc(s.Domains, func(d estate.Domain) bool {
		name, err := address.ParseDomain(d.Name)
		return err == nil && strings.EqualFold(name, c.Name)
	})
	w.moves = true
	return nil
}

func (c SetNestedGates) apply(w *work) error {
	w.own().OpenNestedGates = c.Open
	return nil
}
