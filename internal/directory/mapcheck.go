package directory

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/selector"
)

// A mapProblem is what is wrong in a part of a map, with its place if it is known.
type mapProblem struct {
	mark
	text string
}

// check returns what is wrong in a map. place gives the place of a part.
func (m *Map) check(name string, place func(list string, index int) mark) error {
	var errs []error
	add := func(list string, index int, problems []mapProblem) {
		for _, p := range problems {
			if p.mark == (mark{}) {
				p.mark = place(list, index)
			}
			errs = append(errs, fmt.Errorf("%s:%d:%d: %s", name, p.line, p.column, p.text))
		}
	}
	for i, p := range m.People {
		add("people", i, p.problems())
	}
	for i, g := range m.Groups {
		add("groups", i, g.problems())
	}
	return errors.Join(errs...)
}

func problemsOf(texts []string) (list []mapProblem) {
	for _, text := range texts {
		list = append(list, mapProblem{text: text})
	}
	return list
}

func (p *PeopleMap) problems() (list []mapProblem) {
	if len(p.Address) == 0 {
		list = append(list, mapProblem{text: "people need address, the name of an attribute"})
	}
	return append(list, wrongReferences("member-of", p.MemberOf)...)
}

func (g *GroupsMap) problems() (list []mapProblem) {
	if len(g.Address) == 0 {
		list = append(list, mapProblem{text: "groups need address, the name of an attribute"})
	}
	list = append(list, wrongReferences("owners", g.Owners)...)
	list = append(list, wrongReferences("moderators", g.Moderators)...)
	list = append(list, wrongReferences("members", g.Members)...)
	for _, name := range g.Owns {
		list = append(list, problemsOf(wrongWord("owns", name, "title", "about", "also"))...)
	}
	for _, name := range slices.Sorted(maps.Keys(g.Attributes)) {
		if _, err := estate.ParseAttribute(name + ": x"); err != nil {
			list = append(list, mapProblem{text: "attributes: " + err.Error()})
		}
	}
	sets := []map[string]Value{g.Set}
	for _, when := range g.SetWhen {
		sets = append(sets, when.Set)
	}
	for _, set := range sets {
		for _, name := range slices.Sorted(maps.Keys(set)) {
			value := set[name]
			list = append(list, wrongSetting(name, &value)...)
		}
	}
	for _, rules := range []struct {
		name string
		list []RuleMap
	}{{"gate", g.Gate}, {"send-as", g.SendAs}} {
		setting, _ := estate.GroupSetting(rules.name)
		for i := range rules.list {
			for _, m := range rules.list[i].said() {
				for _, text := range m.Values {
					if wrong := ruleProblem(setting, text); wrong != "" {
						list = append(list, mapProblem{m.mark, wrong})
					}
				}
			}
		}
		if _, twice := g.Set[rules.name]; twice && len(rules.list) > 0 {
			list = append(list, mapProblem{text: "set has " + rules.name + ", which stands beside it, too"})
		}
	}
	return list
}

// wrongSetting returns what is wrong with a setting that a map sets.
func wrongSetting(name string, value *Value) (list []mapProblem) {
	parse := func(string) error { return nil }
	if action, ok := strings.CutPrefix(name, "access."); ok {
		if wrong := wrongWord("set", action, estate.ActionWords()...); wrong != nil {
			return []mapProblem{{value.mark, wrong[0]}}
		}
		parse = func(text string) error {
			_, err := selector.Parse(text, selector.ForPeople)
			return err
		}
	} else {
		var known []string
		for setting := range estate.GroupSettings() {
			switch setting.Form {
			case estate.FormAddress, estate.FormAddresses, estate.FormParties, estate.FormAccess:
				// These have keys of their own.
			default:
				known = append(known, setting.Name)
			}
		}
		if wrong := wrongWord("set", name, known...); wrong != nil {
			return []mapProblem{{value.mark, wrong[0]}}
		}
		setting, _ := estate.GroupSetting(name)
		parse = func(text string) error {
			_, err := setting.Parse(text)
			return err
		}
	}
	for _, m := range value.said() {
		for _, text := range m.Values {
			if err := parse(text); err != nil {
				list = append(list, mapProblem{m.mark, fmt.Sprintf("set: %s: %s", name, reason(err))})
			}
		}
	}
	return list
}

// saysMore reports whether a map says of memberships what stands beside copy.
func (r *ReferenceMap) saysMore() bool {
	return slices.ContainsFunc(estate.MembershipSettings(), func(s estate.PartSetting[estate.Membership]) bool {
		return s.Name != "copy" && r.says(s.Name) != nil
	})
}

func wrongReferences(where string, list []ReferenceMap) (problems []mapProblem) {
	for i := range list {
		r := &list[i]
		wrong := func(at mark, texts ...string) {
			for _, text := range texts {
				problems = append(problems, mapProblem{at, text})
			}
		}
		switch {
		case r.From == "" && len(r.Address) == 0:
			wrong(mark{}, where+" needs from, the name of an attribute")
		case r.From != "" && len(r.Address) > 0:
			wrong(mark{}, where+" has from and address, expected one of them")
		case where != "members" && (r.Each != "" || r.Role != nil || r.saysMore()):
			wrong(mark{}, where+" takes from, by and address; what a membership is like stands in members")
		case r.From != "" && (r.Each != "" || r.Role != nil || r.saysMore() ||
			r.Copy != nil && r.FixedCopy() == ""):
			wrong(mark{}, where+" has from, beside which stands by or one word for copy; what else a membership is like "+
				"goes with address")
		}
		wrong(mark{}, wrongWord(where+": by", r.By, "id", "address", "key")...)
		check := func(name string, value *Value, words []string) {
			for _, m := range value.said() {
				for _, text := range m.Values {
					wrong(m.mark, wrongWord(where+": "+name, text, words...)...)
				}
			}
		}
		check("role", r.Role, roles)
		for _, s := range estate.MembershipSettings() {
			if !s.IsDate() {
				check(s.Name, r.says(s.Name), s.Known())
			}
		}
	}
	return problems
}

// roles are what somebody can be in a group.
var roles = []string{"member", "owner", "moderator"}

func wrongWord(where, text string, known ...string) []string {
	if text == "" || slices.Contains(known, text) {
		return nil
	}
	return []string{
		fmt.Sprintf(
			"%s is %q, expected one of %s%s",
			where,
			text,
			strings.Join(known, ", "),
			nearest.Hint(text, known),
		),
	}
}
