package vcard

import (
	"io"
	"strings"

	"github.com/emersion/go-vcard"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/directory"
)

// Carries says what cards hold by a map.
func Carries(m *directory.Map) directory.Carries {
	return directory.Carries{
		Settings:    []string{"title", "about", "managed-in"},
		Also:        true,
		AlsoPeople:  true,
		AlsoOutside: true,
		Names:       true,
		Unnamed:     true,
		Attributes:  func(name, value string) bool { _, ok := property(m, name); return ok },
	}
}

// property returns the property of an attribute, if it has one: letters, digits and
// hyphens (RFC 6350, section 3.3).
func property(m *directory.Map, attribute string) (string, bool) {
	name, ok := m.FieldOf(attribute)
	plain := strings.IndexFunc(name, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '-'
	}) < 0
	return name, ok && plain && name != ""
}

// Write writes the people and groups of an estate as cards (RFC 6350).
func Write(w io.Writer, e *estate.Estate, m *directory.Map) error {
	encoder := vcard.NewEncoder(w)
	for i := range e.People() {
		p := e.Person(e.PersonID(i))
		card := newCard(p.Address, p.Also, p.Name, "individual")
		for _, f := range e.Attributes(e.PersonID(i)) {
			if to, ok := property(m, f.Name); ok {
				card.Add(to, &vcard.Field{Value: directory.Plain(f.Value)})
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
			card.SetValue(vcard.FieldNote, directory.Plain(group.About))
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
	if name = directory.Plain(name); name == "" {
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
