package vcard

import (
	"io"

	"github.com/emersion/go-vcard"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
)

// Carries says what cards hold by a map.
func Carries(m *directory.Map) directory.Carries {
	return directory.Carries{Settings: []string{"title", "about", "managed-in"}, Also: true, AlsoPeople: true, AlsoOutside: true, Names: true, Unnamed: true,
		Facts: func(name, value string) bool { _, ok := m.FactAttribute(name); return ok }}
}

// Write writes the people and groups of an estate as cards (RFC 6350).
func Write(w io.Writer, e *estate.Estate, m *directory.Map) error {
	encoder := vcard.NewEncoder(w)
	for i := range e.People() {
		p := e.Person(e.PersonID(i))
		card := newCard(p.Address, p.Also, p.Name, "individual")
		for _, f := range e.Facts(e.PersonID(i)) {
			if to, ok := m.FactAttribute(f.Attribute); ok {
				card.Add(to, &vcard.Field{Value: f.Value})
			}
		}
		if err := encoder.Encode(card); err != nil {
			return err
		}
	}
	for g := range estate.ID(e.Groups()) {
		group := e.Group(g)
		card := newCard(group.Address, group.Also, group.Title, "group")
		if group.About != "" {
			card.SetValue(vcard.FieldNote, group.About)
		}
		for _, entry := range e.Entries(g) {
			if !entry.Member.IsNobody() {
				card.Add(vcard.FieldMember, &vcard.Field{Value: "mailto:" + e.Address(entry.Member).String()})
			}
		}
		if err := encoder.Encode(card); err != nil {
			return err
		}
	}
	return nil
}

// newCard returns a card with addresses, the main one preferred.
func newCard(main address.Address, also []address.Address, name, kind string) vcard.Card {
	card := vcard.Card{}
	card.SetValue(vcard.FieldVersion, "4.0")
	card.SetValue(vcard.FieldKind, kind)
	if name == "" {
		name = main.String()
	}
	card.SetValue(vcard.FieldFormattedName, name)
	card.SetValue(vcard.FieldUID, main.Key())
	card.Add(vcard.FieldEmail, &vcard.Field{Value: main.String(), Params: vcard.Params{vcard.ParamPreferred: {"1"}}})
	for _, a := range also {
		card.Add(vcard.FieldEmail, &vcard.Field{Value: a.String()})
	}
	return card
}
