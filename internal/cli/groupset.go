package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/estatefile"
)

// setting is SETTING=VALUE, SETTING+=VALUE or SETTING-=VALUE.
type setting struct {
	change.Said
	operator  byte   // = + - and ^, which puts rules first
	attribute string // the only one of the group's attributes that is meant, or ""
}

// parseAttributeSetting reads what one attribute of a group is to be.
func parseAttributeSetting(s setting, attribute, value string) (setting, error) {
	if err := estate.CheckGroupAttribute(attribute); err != nil {
		return s, ask.Errorf("%s=%s: %w; nothing written", s.Setting, value, err)
	}
	s.Setting, s.attribute = "attributes", attribute
	for _, text := range estatefile.SplitList(value) {
		s.Texts = append(s.Texts, estate.Attribute{Name: attribute, Value: text}.String())
	}
	return s, nil
}

func parseSettings(args []string) ([]setting, error) {
	var list []setting
	for _, arg := range args {
		name, value, ok := strings.Cut(arg, "=")
		if !ok || name == "" {
			return nil, ask.Errorf("expected SETTING=VALUE, not %q", arg)
		}
		s := setting{operator: '='}
		if last := name[len(name)-1]; last == '+' || last == '-' || last == '^' {
			s.operator, name = last, name[:len(name)-1]
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
			return nil, ask.Errorf("the address of a group is changed by yorvet group rename")
		case !ok && isFormer(name):
			now, _ := estate.Former(name)
			return nil, ask.Errorf("%s is %s now", name, now)
		case !ok:
			return nil, ask.Unknown("setting", name, settingNames())
		case s.operator == '^' && known.Form != estate.FormRules:
			return nil, ask.Errorf("%s has no rules to put first, expected %s=VALUE", name, name)
		case !known.Form.IsList() && s.operator != '=':
			return nil, ask.Errorf("%s is no list, expected %s=VALUE", name, name)
		case value == "":
		case known.Form.IsList():
			s.Texts = estatefile.SplitList(value)
		default:
			s.Texts = []string{value}
		}
		if s.operator != '-' && known.Form != estate.FormParties {
			for _, text := range s.Texts {
				if _, err := known.Parse(text); err != nil {
					near := ""
					if bad := (*estate.ValueError)(nil); errors.As(err, &bad) && bad.Nearest != "" {
						near = ask.Meant(bad.Nearest)
					}
					return nil, ask.Errorf("%s=%s: %w%s; nothing written", name, value, err, near)
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

func newGroupSet(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "set",
		Usage:     "change settings of groups",
		ArgsUsage: "GROUP... SETTING=VALUE...",
		Description: "The settings are those of the estate: title, kind, copy, gate, send-as, access.find and so on. " +
			"SETTING=\n" +
			"without a value makes it the default again. Lists are separated by semicolons; += adds to one, -= takes\n" +
			"from it. Of rules += puts one last and ^= first; with --before and --after it goes next to another,\n" +
			"which is named by its number or its text. A GROUP may hold * for anything; with --groups or --except\n" +
			"it may be left out. attributes.NAME=VALUE sets one attribute.\n\n" +
			"Example: yorvet group set lost-property@kelpmere.example notify-sender=inside owners+=tam.weld@kelpmere.example",
		Flags: append(
			[]cli.Flag{
				&cli.StringFlag{Name: "preset", Usage: "the ready set of settings of this `NAME`"},
				heldFlag(),
				&cli.StringFlag{Name: "before", Usage: "put what += adds before this `RULE`"},
				&cli.StringFlag{Name: "after", Usage: "put what += adds behind this `RULE`"},
				groupsFlag(), exceptFlag(),
			},
			changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, proposeSettings)
		},
	}
}

// proposeSettings sets what the command line says, of all groups that it means.
func proposeSettings(c *changer) error {
	cmd := c.cmd
	named, said := splitConditions(cmd.Args().Slice())
	if len(named) == 0 && !cmd.IsSet("groups") && !cmd.IsSet("except") || len(said) == 0 && !cmd.IsSet("preset") {
		return ask.Errorf("group set needs a group and what to set, as in title=\"Lost property\"")
	}
	groups, err := c.changed(named...)
	if err != nil {
		return err
	}
	settings, err := parseSettings(said)
	if err != nil {
		return err
	}
	if cmd.IsSet("preset") {
		p, err := presetOf(cmd)
		if err != nil {
			return err
		}
		var first []setting
		for _, s := range p.Settings(c.Estate, cmd.Bool("held")) {
			first = append(first, setting{Said: s, operator: '='})
		}
		settings = append(first, settings...)
	}
	for i := range settings {
		if settings[i].Texts, err = c.listedIn(settings[i]); err != nil {
			return err
		}
	}
	for _, g := range groups {
		if err := c.set(g, settings); err != nil {
			return err
		}
	}
	c.warnManaged(groups...)
	return nil
}

// set makes settings of a group. Of several for one, the last counts.
func (c *changer) set(g estate.ID, settings []setting) error {
	attributes, differ := c.Estate.Group(g).Attributes, false
	for _, s := range folded(settings) {
		switch {
		case s.Setting == "attributes":
			attributes, differ = s.attributes(attributes), true
		case s.operator == '^' || s.operator == '+' && c.isPlaced(g, s):
			texts, err := c.placed(g, s)
			if err != nil {
				return err
			}
			c.draft.Apply(change.SetSetting{Group: g, Setting: s.Setting, Texts: texts})
		case s.operator == '+':
			c.draft.Apply(change.SetList{Group: g, Setting: s.Setting, Add: s.Texts})
		case s.operator == '-':
			c.draft.Apply(change.SetList{Group: g, Setting: s.Setting, Drop: s.Texts})
		default:
			c.draft.Apply(change.SetSetting{Group: g, Setting: s.Setting, Texts: s.Texts})
		}
	}
	if differ {
		var texts []string
		for _, one := range attributes {
			texts = append(texts, one.String())
		}
		c.draft.Apply(change.SetSetting{Group: g, Setting: "attributes", Texts: texts})
	}
	return nil
}

// isPlaced reports whether rules that are added go to a place of their own: because a flag
// says so, or because the group has the default, which stays then.
func (c *changer) isPlaced(g estate.ID, s setting) bool {
	known, _ := estate.GroupSetting(s.Setting)
	if known.Form != estate.FormRules {
		return false
	}
	return c.cmd.IsSet("before") || c.cmd.IsSet("after") || len(known.Texts(c.Estate, c.Estate.Group(g))) == 0 &&
		len(known.Holds(c.Estate, c.Estate.Group(g))) > 0
}

// placed returns the rules of a group with those that a setting adds, where they are to be.
// A rule that is there already is moved.
func (c *changer) placed(g estate.ID, s setting) ([]string, error) {
	known, _ := estate.GroupSetting(s.Setting)
	rules := slices.Clone(known.Holds(c.Estate, c.Estate.Group(g)))
	at := len(rules)
	before, after := c.cmd.String("before"), c.cmd.String("after")
	switch {
	case s.operator == '^':
		at = 0
	case before != "" && after != "":
		return nil, ask.Errorf("--before and --after exclude each other")
	case before+after != "":
		i, err := ruleNamed(rules, before+after)
		if err != nil {
			return nil, ask.Errorf("%s of %s: %w", s.Setting, c.Estate.Address(g), err)
		}
		if at = i; after != "" {
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

// attributes returns what becomes of the attributes of a group by a setting of them.
func (s setting) attributes(before []estate.Attribute) []estate.Attribute {
	var list []estate.Attribute
	said := func(one estate.Attribute) bool {
		return slices.ContainsFunc(s.Texts, func(text string) bool { return strings.EqualFold(one.String(), text) })
	}
	for _, one := range before {
		meant := s.attribute == "" || strings.EqualFold(one.Name, s.attribute)
		if s.operator == '=' && meant || s.operator != '=' && said(one) {
			continue
		}
		list = append(list, one)
	}
	if s.operator == '-' {
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
func folded(settings []setting) []setting {
	var list []setting
	for _, s := range settings {
		alike := func(other setting) bool { return other.Setting == s.Setting && other.attribute == s.attribute }
		if s.operator == '=' {
			list = slices.DeleteFunc(list, alike)
		}
		i := slices.IndexFunc(list, func(o setting) bool { return alike(o) && o.operator == '=' })
		switch {
		case i < 0:
			list = append(list, s)
		case s.operator == '+':
			list[i].Texts = slices.Concat(list[i].Texts, s.Texts)
		default:
			gone := func(text string) bool { return slices.Contains(s.Texts, text) }
			list[i].Texts = slices.DeleteFunc(slices.Clone(list[i].Texts), gone)
		}
	}
	return list
}
