package ask

import (
	"context"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/localfile"
)

// PeopleOrAll returns the people that arguments name, with or without stars; all without
// any.
func (d *Desk) PeopleOrAll(args []string) ([]estate.ID, error) {
	var list []estate.ID
	if len(args) == 0 {
		for i := range d.Estate.People() {
			list = append(list, d.Estate.PersonID(i))
		}
		return list, nil
	}
	for _, arg := range args {
		if !strings.Contains(arg, "*") {
			id, err := d.Person(arg)
			if err != nil {
				return nil, err
			}
			list = append(list, id)
			continue
		}
		before := len(list)
		for i := range d.Estate.People() {
			if id := d.Estate.PersonID(i); estate.MatchStars(arg, d.Estate.Address(id).String()) {
				list = append(list, id)
			}
		}
		if len(list) == before {
			return nil, Errorf("no person matches %q", arg)
		}
	}
	slices.Sort(list)
	return slices.Compact(list), nil
}

// PickedBy returns who a selector, or a filter alone, picks.
func (d *Desk) PickedBy(text string) (map[estate.ID]bool, error) {
	if _, err := selector.ParseFilter(text); err == nil {
		text = "where " + text
	}
	x, err := d.ParsePeople("--where", text)
	if err != nil {
		return nil, err
	}
	picked := map[estate.ID]bool{}
	var own error
	selector.Atoms(x, func(a *selector.Atom) {
		if a.Kind.AboutGroup() {
			own = Errorf("--where: %q is about one group, expected in GROUP", a.Text)
		}
	})
	if own != nil {
		return nil, own
	}
	d.EachPicked(estate.None, x, func(id estate.ID) { picked[id] = true })
	return picked, nil
}

// mostPasted bounds what is read as pasted.
const mostPasted = 64 << 20

// ReadPasted reads a pasted list from a file or standard input.
func ReadPasted(ctx context.Context, from string) (string, error) {
	var data []byte
	var err error
	if from == "-" {
		data, err = localfile.ReadAll(ctx, localfile.Standard(ctx), "standard input", mostPasted)
	} else {
		data, err = localfile.Read(ctx, from, mostPasted)
	}
	if err != nil {
		return "", Errorf("%w", err)
	}
	return string(data), nil
}
