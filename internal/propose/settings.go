package propose

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
)

// GroupSettings are settings of groups that are to be changed.
type GroupSettings struct {
	Groups        ask.Groups
	Settings      []string // as SETTING=VALUE
	Preset        string   // the ready set of settings, before the others; "": none
	Held          bool     // the choice that some presets have
	Before, After string   // the rule next to which rules are added, by number or text; "": at the end
}

func (s *GroupSettings) propose(w *work) error {
	if !s.Groups.Some() || len(s.Settings) == 0 && s.Preset == "" {
		return ask.Errorf("group set needs a group and what to set, as in title=\"Lost property\"")
	}
	groups, err := w.groups(s.Groups)
	if err != nil {
		return err
	}
	settings, err := ask.ParseSettings(s.Settings)
	if err != nil {
		return err
	}
	if s.Preset != "" {
		p, err := presetOf(s.Preset, s.Held)
		if err != nil {
			return err
		}
		var first []ask.Setting
		for _, said := range p.Settings(w.Estate, s.Held) {
			first = append(first, ask.Setting{Said: said, Operator: '='})
		}
		settings = append(first, settings...)
	}
	for i := range settings {
		if settings[i].Texts, err = w.listedIn(settings[i]); err != nil {
			return err
		}
	}
	for _, g := range groups {
		if err := s.set(w, g, settings); err != nil {
			return err
		}
	}
	w.warnManaged(groups...)
	return nil
}

// set makes settings of a group. Of several for one, the last counts.
func (x *GroupSettings) set(w *work, g estate.ID, settings []ask.Setting) error {
	attributes, differ := w.Estate.Group(g).Attributes, false
	for _, s := range folded(settings) {
		switch {
		case s.Setting == "attributes":
			attributes, differ = attributesBy(s, attributes), true
		case s.Operator == '^' || s.Operator == '+' && x.isPlaced(w, g, s):
			texts, err := x.placed(w, g, s)
			if err != nil {
				return err
			}
			w.draft.Apply(change.SetSetting{Group: g, Setting: s.Setting, Texts: texts})
		case s.Operator == '+':
			w.draft.Apply(change.SetList{Group: g, Setting: s.Setting, Add: s.Texts})
		case s.Operator == '-':
			w.draft.Apply(change.SetList{Group: g, Setting: s.Setting, Drop: s.Texts})
		default:
			w.draft.Apply(change.SetSetting{Group: g, Setting: s.Setting, Texts: s.Texts})
		}
	}
	if differ {
		var texts []string
		for _, one := range attributes {
			texts = append(texts, one.String())
		}
		w.draft.Apply(change.SetSetting{Group: g, Setting: "attributes", Texts: texts})
	}
	return nil
}

// isPlaced reports whether rules that are added go to a place of their own: because that is
// said, or because the group has the default, which stays then.
func (x *GroupSettings) isPlaced(w *work, g estate.ID, s ask.Setting) bool {
	known, _ := estate.GroupSetting(s.Setting)
	if known.Form != estate.FormRules {
		return false
	}
	return x.Before+x.After != "" || len(known.Texts(w.Estate, w.Estate.Group(g))) == 0 &&
		len(known.Holds(w.Estate, w.Estate.Group(g))) > 0
}

// placed returns the rules of a group with those that a setting adds, where they are to be.
// A rule that is there already is moved.
func (x *GroupSettings) placed(w *work, g estate.ID, s ask.Setting) ([]string, error) {
	known, _ := estate.GroupSetting(s.Setting)
	rules := slices.Clone(known.Holds(w.Estate, w.Estate.Group(g)))
	at := len(rules)
	switch {
	case s.Operator == '^':
		at = 0
	case x.Before != "" && x.After != "":
		return nil, ask.Errorf("--before and --after exclude each other")
	case x.Before+x.After != "":
		i, err := ruleNamed(rules, x.Before+x.After)
		if err != nil {
			return nil, ask.Errorf("%s of %s: %w", s.Setting, w.Estate.Address(g), err)
		}
		if at = i; x.After != "" {
			at++
		}
	}
	var kept []string
	for i, rule := range rules {
		if i == at {
			kept = append(kept, s.Texts...)
		}
		if !slices.Contains(s.Texts, rule) {
			kept = append(kept, rule)
		}
	}
	if at == len(rules) {
		kept = append(kept, s.Texts...)
	}
	return kept, nil
}

// ruleNamed returns which rule a text names: by its number from 1, or by its words.
func ruleNamed(rules []string, text string) (int, error) {
	if n, err := strconv.Atoi(text); err == nil {
		if n < 1 || n > len(rules) {
			return 0, fmt.Errorf("there is no rule %d, but %d", n, len(rules))
		}
		return n - 1, nil
	}
	i := slices.IndexFunc(rules, func(rule string) bool {
		return strings.Join(strings.Fields(rule), " ") == strings.Join(strings.Fields(text), " ")
	})
	if i < 0 {
		return 0, fmt.Errorf("there is no rule %q%s", text, ask.Meant(nearest.Word(text, rules)))
	}
	return i, nil
}

// attributesBy returns what becomes of the attributes of a group by a setting of them.
func attributesBy(s ask.Setting, before []estate.Attribute) []estate.Attribute {
	var list []estate.Attribute
	said := func(one estate.Attribute) bool {
		return slices.ContainsFunc(s.Texts, func(text string) bool { return strings.EqualFold(one.String(), text) })
	}
	for _, one := range before {
		meant := s.Attribute == "" || strings.EqualFold(one.Name, s.Attribute)
		if s.Operator == '=' && meant || s.Operator != '=' && said(one) {
			continue
		}
		list = append(list, one)
	}
	if s.Operator == '-' {
		return list
	}
	for _, text := range s.Texts {
		if one, err := estate.ParseAttribute(text); err == nil {
			list = append(list, one)
		}
	}
	return list
}

// folded returns settings so that what is set by = is there once, with all that is
// added to it and taken from it behind.
func folded(settings []ask.Setting) []ask.Setting {
	var list []ask.Setting
	for _, s := range settings {
		alike := func(other ask.Setting) bool { return other.Setting == s.Setting && other.Attribute == s.Attribute }
		if s.Operator == '=' {
			list = slices.DeleteFunc(list, alike)
		}
		i := slices.IndexFunc(list, func(o ask.Setting) bool { return alike(o) && o.Operator == '=' })
		switch {
		case i < 0:
			list = append(list, s)
		case s.Operator == '+':
			list[i].Texts = slices.Concat(list[i].Texts, s.Texts)
		default:
			gone := func(text string) bool { return slices.Contains(s.Texts, text) }
			list[i].Texts = slices.DeleteFunc(slices.Clone(list[i].Texts), gone)
		}
	}
	return list
}
