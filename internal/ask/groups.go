package ask

import (
	"errors"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/choose"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/present"
)

// Groups says which groups are meant.
type Groups struct {
	Names  []string // addresses, local parts, or patterns with *; none: all
	Filter string   // that those match which are left; "": all
	Except []string // those that are not meant, named likewise
}

// Some reports whether others than all groups are meant.
func (g *Groups) Some() bool { return len(g.Names)+len(g.Except) > 0 || g.Filter != "" }

// Groups returns the groups that are meant, in order.
func (d *Desk) Groups(which Groups) ([]estate.ID, error) {
	if len(which.Names) == 0 {
		which.Names = []string{"*"}
	}
	var list []estate.ID
	for _, text := range which.Names {
		some, err := d.named(text)
		if err != nil {
			return nil, err
		}
		list = append(list, some...)
	}
	slices.Sort(list)
	list = slices.Compact(list)
	for _, text := range which.Except {
		gone, err := d.named(text)
		if err != nil {
			return nil, err
		}
		list = slices.DeleteFunc(list, func(g estate.ID) bool { return slices.Contains(gone, g) })
	}
	if which.Filter == "" {
		return list, nil
	}
	f, err := selector.ParseFilter(which.Filter)
	if err != nil {
		return nil, SyntaxError("--groups", err)
	}
	if name, near := choose.Unknown(d.Estate, f); name != "" {
		return nil, Errorf("--groups: %q is no setting, column or attribute of a group%s", name, Meant(near))
	}
	chosen := choose.Groups(d.Resolver, f)
	return slices.DeleteFunc(list, func(g estate.ID) bool {
		_, found := slices.BinarySearch(chosen, g)
		return !found
	}), nil
}

// SyntaxError returns the error of an option whose text is no selector or filter, with a caret
// under the spot.
func SyntaxError(option string, err error) error {
	bad, ok := errors.AsType[*selector.SyntaxError](err)
	if !ok {
		return Errorf("%s: %w", option, err)
	}
	spot := utf8.RuneCountInString(bad.Text[:min(bad.Offset, len(bad.Text))])
	return Errorf("%s: %w\n    %s\n    %s^", option, err, present.Clean(bad.Text), strings.Repeat(" ", spot))
}

// named returns the group that an argument names, or those that its pattern matches.
func (d *Desk) named(text string) (list []estate.ID, err error) {
	if !strings.Contains(text, "*") {
		g, err := d.Group(text)
		return []estate.ID{g}, err
	}
	for g := range estate.ID(d.Estate.Groups()) {
		ok, err := d.matchesPattern(g, text)
		if err != nil {
			return nil, Errorf("%q is no pattern: %w", text, err)
		}
		if ok {
			list = append(list, g)
		}
	}
	if len(list) == 0 && text != "*" {
		return nil, Errorf("no group matches %s", text)
	}
	return list, nil
}

// matchesPattern reports whether any address of a group matches a pattern; one without @ is
// about the local part.
func (d *Desk) matchesPattern(g estate.ID, pattern string) (bool, error) {
	group := d.Estate.Group(g)
	for _, a := range append([]address.Address{group.Address}, group.Also...) {
		text := a.String()
		if !strings.Contains(pattern, "@") {
			text = a.Local()
		}
		ok, err := path.Match(strings.ToLower(pattern), strings.ToLower(text))
		if ok || err != nil {
			return ok, err
		}
	}
	return false, nil
}

// ParsePeople reads a selector that picks people of the estate.
func (d *Desk) ParsePeople(flag, text string) (selector.Expr, error) {
	x, err := selector.Parse(text, selector.ForPeople)
	if err != nil {
		return nil, SyntaxError(flag, err)
	}
	if problems := d.Estate.CheckSelector(x, text); len(problems) > 0 {
		return nil, Errorf("%s: %s%s", flag, problems[0].Text, Meant(problems[0].Nearest))
	}
	return x, nil
}

// EachPicked calls visit with the people that a selector picks for a group.
func (d *Desk) EachPicked(group estate.ID, x selector.Expr, visit func(estate.ID)) {
	// What asks nothing about the group picks the same people for all.
	key, aboutGroup := x.String(), false
	selector.Atoms(x, func(a *selector.Atom) { aboutGroup = aboutGroup || a.Kind.AboutGroup() })
	set, known := d.picks[key]
	if aboutGroup || !known {
		set = nil
		for it := d.Resolver.Set(group, x, resolve.Message{}).Iterator(); it.HasNext(); {
			if id := estate.ID(it.Next()); d.Estate.IsPerson(id) {
				set = append(set, id)
			}
		}
		if !aboutGroup {
			if d.picks == nil {
				d.picks = map[string][]estate.ID{}
			}
			d.picks[key] = set
		}
	}
	for _, id := range set {
		visit(id)
	}
}

// picked returns what picks the people of a selector, who may differ by the group that it is
// about.
func (d *Desk) picked(text string, groups []estate.ID) (func(estate.ID) []address.Address, error) {
	x, err := d.ParsePeople("--from", text)
	if err != nil {
		return nil, err
	}
	people := func(group estate.ID) (list []address.Address) {
		var picked []estate.ID
		d.EachPicked(group, x, func(id estate.ID) { picked = append(picked, id) })
		slices.SortFunc(picked, func(a, b estate.ID) int { return d.Estate.Rank(a) - d.Estate.Rank(b) })
		for _, id := range picked {
			list = append(list, d.Estate.Address(id))
		}
		return list
	}
	if !slices.ContainsFunc(groups, func(group estate.ID) bool { return len(people(group)) > 0 }) {
		return nil, Errorf("--from: %q picks nobody", text)
	}
	return people, nil
}
