package ask

import (
	"errors"
	"slices"
	"strings"

	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

// A Setting is SETTING=VALUE, SETTING+=VALUE or SETTING-=VALUE.
type Setting struct {
	change.Said
	Operator  byte   // = + - and ^, which puts rules first
	Attribute string // the only one of the group's attributes that is meant, or ""
}

// parseAttributeSetting reads what one attribute of a group is to be.
func parseAttributeSetting(s Setting, attribute, value string) (Setting, error) {
	if err := estate.CheckGroupAttribute(attribute); err != nil {
		return s, Errorf("%s=%s: %w; nothing written", s.Setting, value, err)
	}
	s.Setting, s.Attribute = "attributes", attribute
	for _, text := range estatefile.SplitList(value) {
		s.Texts = append(s.Texts, estate.Attribute{Name: attribute, Value: text}.String())
	}
	return s, nil
}

// ParseSettings reads settings of groups as they stand on a command line.
func ParseSettings(args []string) ([]Setting, error) {
	var list []Setting
	for _, arg := range args {
		name, value, ok := strings.Cut(arg, "=")
		if !ok || name == "" {
			return nil, Errorf("expected SETTING=VALUE, not %q", arg)
		}
		s := Setting{Operator: '='}
		if last := name[len(name)-1]; last == '+' || last == '-' || last == '^' {
			s.Operator, name = last, name[:len(name)-1]
		}
		s.Setting = name
		if attribute, isAttribute := strings.CutPrefix(name, "attributes."); isAttribute {
			one, err := parseAttributeSetting(s, attribute, value)
			if err != nil {
				return nil, err
			}
			list = append(list, one)
			continue
		}
		known, ok := estate.GroupSetting(name)
		switch {
		case name == "address":
			return nil, Errorf("the address of a group is changed by yorvet group rename")
		case !ok && isFormer(name):
			now, _ := estate.Former(name)
			return nil, Errorf("%s is %s now", name, now)
		case !ok:
			return nil, Unknown("setting", name, settingNames())
		case s.Operator == '^' && known.Form != estate.FormRules:
			return nil, Errorf("%s has no rules to put first, expected %s=VALUE", name, name)
		case !known.Form.IsList() && s.Operator != '=':
			return nil, Errorf("%s is no list, expected %s=VALUE", name, name)
		case value == "":
		case known.Form.IsList():
			s.Texts = estatefile.SplitList(value)
		default:
			s.Texts = []string{value}
		}
		if s.Operator != '-' && known.Form != estate.FormParties {
			for _, text := range s.Texts {
				if _, err := known.Parse(text); err != nil {
					near := ""
					if bad := (*estate.ValueError)(nil); errors.As(err, &bad) && bad.Nearest != "" {
						near = Meant(bad.Nearest)
					}
					return nil, Errorf("%s=%s: %w%s; nothing written", name, value, err, near)
				}
			}
		}
		list = append(list, s)
	}
	return list, nil
}

func isFormer(name string) bool {
	_, ok := estate.Former(name)
	return ok
}

func settingNames() []string {
	var names []string
	for s := range estate.GroupSettings() {
		names = append(names, s.Name)
	}
	return names
}

// Fulfils reports whether a setting of a group has the given value.
func (d *Desk) Fulfils(group estate.ID, said Setting) bool {
	known, _ := estate.GroupSetting(said.Setting)
	holds := known.Holds(d.Estate, d.Estate.Group(group))
	if len(said.Texts) == 0 {
		return len(holds) == 0
	}
	for _, text := range said.Texts {
		if !slices.ContainsFunc(holds, func(one string) bool { return strings.EqualFold(one, text) }) {
			return false
		}
	}
	return true
}
