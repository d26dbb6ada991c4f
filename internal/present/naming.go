package present

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// Naming is a rule that names a person by address.
type Naming struct {
	Group   string `json:"group"`   // "" for the edge
	Setting string `json:"setting"` // gate, send-as, access.find and so on, or edge
	Written string `json:"written"`
	Place   string `json:"place,omitempty"`
}

// naming returns the rules that name a person by any of their addresses.
func (n namer) naming(person estate.ID) []Naming {
	list := []Naming{}
	look := func(group estate.ID, setting string, x selector.Expr, text string, place estate.Place) {
		names := false
		selector.Atoms(x, func(a *selector.Atom) {
			if a.Kind == selector.Is {
				id, ok := n.e.Find(a.Address)
				names = names || ok && id == person
			}
		})
		if !names {
			return
		}
		one := Naming{Setting: setting, Written: oneLine(text), Place: n.position(place)}
		if group != estate.None {
			one.Group = n.address(group)
		}
		list = append(list, one)
	}
	for _, rule := range n.e.Settings().Edge {
		look(estate.None, "edge", rule.Selector, rule.Text, rule.Place)
	}
	for id := range estate.ID(n.e.Groups()) {
		for setting, rule := range n.e.Group(id).AllSelectors {
			look(id, setting, rule.Selector, rule.Text, rule.Place)
		}
	}
	return list
}
