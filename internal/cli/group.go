package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/preset"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
)

func newGroup(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "group",
		Usage: "list, show, create, change, rename and remove groups",
		Description: "What a change does is shown first: who starts and stops receiving, who may post, which hazards\n" +
			"appear, which welcome notices would go out. Then it is written into the files of the estate, in\n" +
			"place: comments, order and all other lines stay as they are.",
		Commands: []*cli.Command{
			newGroupList(streams),
			newGroupShow(streams),
			newGroupLike(streams),
			newGroupAdvise(streams),
			newGroupNew(streams),
			newGroupSet(streams),
			newGroupRename(streams),
			newGroupRemove(streams),
			newPresets(streams),
		},
	}
}

func newPresets(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "presets",
		Usage: "show the ready sets of settings",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			format, err := formatOf(cmd)
			if err != nil {
				return err
			}
			s := &session{cmd: cmd, streams: streams, format: format}
			return s.print(present.NewPresets(preset.All()...))
		},
	}
}

func newGroupNew(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "new",
		Usage:     "create a group",
		ArgsUsage: "ADDRESS [SETTING=VALUE...]",
		Description: "A preset is a ready set of settings: " + strings.Join(
			preset.Names(),
			", ",
		) + ". yorvet group presets tells what each\n" +
			"means. With a preset whose groups accept mail, the owners are members, too.\n" +
			"More settings, or others, are those of the estate, as in: tell-held=inside\n\n" +
			"Example: yorvet group new storm-desk@kelpmere.example --preset desk --title 'Storm desk' --owner " +
			"ines.maro@kelpmere.example",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "preset", Usage: "the ready set of settings of this `NAME`"},
			heldFlag(),
			&cli.StringFlag{Name: "title", Usage: "what people call it"},
			&cli.StringFlag{Name: "about", Usage: "what it is for"},
			&cli.StringSliceFlag{Name: "also", Usage: "an alias `ADDRESS`; may be repeated"},
			&cli.StringSliceFlag{Name: "owner", Usage: "the `ADDRESS` of an owner; may be repeated"},
			&cli.StringSliceFlag{Name: "moderator", Usage: "the `ADDRESS` of a moderator; may be repeated"},
			&cli.StringSliceFlag{Name: "member", Usage: "the `ADDRESS` of a member; may be repeated"},
			&cli.StringFlag{
				Name:  "from",
				Usage: "take members from a `FILE`, or from - for standard input, as they are pasted",
			},
			&cli.StringFlag{Name: "where", Usage: "take those as members that a `SELECTOR` picks"},
			&cli.StringSliceFlag{
				Name:  "rule",
				Usage: "a rule for members: everybody inside whose attributes a `FILTER` matches; may be repeated",
			},
			&cli.BoolFlag{Name: "everyone", Usage: "a rule for members: everybody inside"},
			&cli.StringFlag{Name: "managed-in", Usage: "the `SYSTEM` where it is managed"},
		}, changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, proposeGroup)
		},
	}
}

// proposeGroup adds the group that the command line describes.
func proposeGroup(c *changer) error {
	if c.cmd.Args().Len() == 0 {
		return usageError("group new needs the address of the group")
	}
	a, err := c.freeAddress(c.cmd.Args().First())
	if err != nil {
		return err
	}
	said, ownersToo := map[string][]string{}, false
	var used *preset.Preset
	if c.cmd.IsSet("preset") {
		p, err := presetOf(c.cmd)
		if err != nil {
			return err
		}
		for _, s := range p.Settings(c.e, c.cmd.Bool("held")) {
			said[s.Setting] = s.Texts
		}
		used, ownersToo = &p, p.TakesMail()
	}
	before := maps.Clone(said)
	if err := c.flagsOfGroup(said); err != nil {
		return err
	}
	settings, err := parseSettings(c.cmd.Args().Slice()[1:])
	if err != nil {
		return err
	}
	for _, s := range settings {
		if s.operator != '=' {
			return usageError("%s: a new group has nothing to add to or take from, expected %s=VALUE", s.Setting, s.Setting)
		}
		texts, err := c.listedIn(s)
		if err != nil {
			return err
		}
		if s.attribute != "" {
			texts = append(said[s.Setting], texts...)
		}
		said[s.Setting] = texts
	}
	if used != nil {
		c.about = aboutPreset(used, before, said)
	}
	g := change.AddGroup{Address: a}
	for _, name := range slices.Sorted(maps.Keys(said)) {
		g.Settings = append(g.Settings, change.Said{Setting: name, Texts: said[name]})
	}
	if g.Members, err = c.firstMembers(said["joiners"]); err != nil {
		return err
	}
	rules, err := c.ruleMembers()
	if err != nil {
		return err
	}
	g.Members = append(g.Members, rules...)
	if ownersToo {
		g.Members = c.withOwners(g.Members, said["owners"])
	}
	c.draft.Apply(g)
	return nil
}

// aboutPreset says what a preset means, but for what is said otherwise, which is told as it
// will be.
func aboutPreset(p *preset.Preset, before, said map[string][]string) string {
	var own []string
	differs := map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(said)) {
		was, there := before[name]
		if there && slices.Equal(was, said[name]) {
			continue
		}
		if known, ok := estate.GroupSetting(name); ok && known.Form != estate.FormParties && known.Form != estate.FormAddresses &&
			known.Concerns&(estate.Posting|estate.Receiving|estate.Reading|estate.SendingAs) != 0 {
			differs[name] = true
			text := strings.Join(said[name], "; ")
			if text == "" {
				text = "as by default"
			}
			own = append(own, name+": "+text)
		}
	}
	about := p.Name + ": " + p.For + "."
	posts := differs["gate"] || differs["kind"]
	if !posts {
		about += " Who posts: " + p.Posts
	}
	if len(own) == 0 || posts && len(own) == 1 && differs["gate"] {
		about += " Who receives: " + p.Receives
	}
	if len(own) > 0 {
		about += " Other than the preset: " + strings.Join(own, ". ") + "."
	}
	return about
}

// ruleMembers returns the rules for members that --rule and --everyone say.
func (c *changer) ruleMembers() (list []change.Member, err error) {
	for _, text := range c.cmd.StringSlice("rule") {
		f, err := selector.ParseFilter(text)
		if err != nil {
			return nil, usageError("--rule: %w", err)
		}
		list = append(list, change.Member{Filter: f})
	}
	if c.cmd.Bool("everyone") {
		list = append(list, change.Member{})
	}
	return list, nil
}

// flagsOfGroup notes the settings that a new group has by flags.
func (c *changer) flagsOfGroup(said map[string][]string) error {
	for _, name := range []string{"title", "about", "managed-in"} {
		if c.cmd.IsSet(name) {
			said[name] = []string{c.cmd.String(name)}
		}
	}
	for _, text := range c.cmd.StringSlice("also") {
		alias, err := c.freeAddress(text)
		if err != nil {
			return err
		}
		said["also"] = append(said["also"], alias.String())
	}
	for _, role := range []string{"owner", "moderator"} {
		list, err := c.listed("--"+role, c.cmd.StringSlice(role))
		if err != nil {
			return err
		}
		if len(list) > 0 {
			said[role+"s"] = list
		}
	}
	return nil
}

// firstMembers returns the members of a new group whose setting joiners says so.
func (c *changer) firstMembers(joiners []string) ([]change.Member, error) {
	copy := estate.CopyUnset
	if len(joiners) > 0 {
		copy, _ = estate.WordIndex[estate.Copy](estate.CopyWords(), joiners[0])
	}
	chosen, err := c.chosen(estate.None, c.cmd.StringSlice("member"), "member")
	if err != nil {
		return nil, err
	}
	var members []change.Member
	for _, one := range chosen {
		m := change.Member{
			Address:    one.address,
			Membership: estate.Membership{Copy: copy, Since: c.r.Today()},
			JustNow:    true,
		}
		if c.e.IsGroup(one.id) {
			m.Membership = estate.Membership{}
		}
		members = append(members, m)
		c.addPerson(one)
	}
	return members, nil
}

// withOwners adds the owners of a new group to its members, if they are people: they
// answer for its mail, and are to see it.
func (c *changer) withOwners(members []change.Member, owners []string) []change.Member {
	for _, text := range owners {
		a, err := address.Parse(text)
		id, known := c.e.Find(a)
		if err != nil || known && c.e.IsGroup(id) {
			continue
		}
		listed := slices.ContainsFunc(members, func(m change.Member) bool {
			other, ok := c.e.Find(m.Address)
			return c.e.Key(m.Address) == c.e.Key(a) || ok && known && other == id
		})
		if !listed {
			joined := estate.Membership{Since: c.r.Today()}
			members = append(members, change.Member{Address: a, Membership: joined, JustNow: true})
		}
	}
	return members
}

// presetOf returns the preset that --preset names.
func presetOf(cmd *cli.Command) (preset.Preset, error) {
	name := cmd.String("preset")
	p, ok := preset.Find(name)
	if !ok {
		near := nearest.Word(name, preset.Names())
		return p, usageError("there is no preset %q, expected %s%s", name, orList(preset.Names()), meant(near))
	}
	if cmd.Bool("held") && p.Held == "" {
		return p, usageError("--held: the preset %s has no such choice; see yorvet group presets", name)
	}
	return p, nil
}

// heldFlag is the choice that some presets have.
func heldFlag() cli.Flag {
	return &cli.BoolFlag{Name: "held", Usage: "with a preset that has this choice: hold others' posts for approval"}
}

// freeAddress returns an address for a group, if it is inside and nobody's.
func (c *changer) freeAddress(text string) (address.Address, error) {
	a, err := address.Parse(text)
	if err != nil {
		return a, usageError("%w", err)
	}
	if !c.e.InsideDomain(a.Domain()) {
		var domains []string
		for _, d := range c.e.Settings().Domains {
			domains = append(domains, d.Name)
		}
		return a, usageError(
			"%s is outside, expected an address at %s%s",
			text,
			orList(domains),
			meant(nearest.Word(a.Domain(), domains)),
		)
	}
	if id, taken := c.e.Find(a); taken {
		what := "the person"
		if c.e.IsGroup(id) {
			what = "the group"
		}
		holder := c.e.Address(id).String()
		if !address.Same(holder, text) {
			holder += ", which it leads to"
		}
		message := fmt.Sprintf("%s is taken by %s %s", text, what, holder)
		if free := c.alternatives(a); len(free) > 0 {
			message += "; free are " + strings.Join(free, ", ")
		}
		return a, usageError("%s", message)
	}
	const most, near = 3, 2
	var close []string
	for _, other := range nearest.Words(a.String(), c.e.Addresses, most) {
		if nearest.Distance(strings.ToLower(a.String()), strings.ToLower(other)) <= near {
			close = append(close, other)
		}
	}
	if len(close) > 0 {
		c.note("%s is free, but easily mistaken for %s.", a, orList(close))
	}
	return a, nil
}

// alternatives returns free addresses that are like a taken one.
func (c *changer) alternatives(a address.Address) []string {
	const most = 3
	local, domain, _ := strings.Cut(a.String(), "@")
	var free []string
	try := func(text string) {
		if one, err := address.Parse(text); err == nil && len(free) < most {
			if _, taken := c.e.Find(one); !taken {
				free = append(free, text)
			}
		}
	}
	for _, d := range c.e.Settings().Domains {
		if d.SameAs == "" && !strings.EqualFold(d.Name, domain) {
			try(local + "@" + d.Name)
		}
	}
	for _, end := range []string{"-group", "-list", "-team", "-2", "-3"} {
		try(local + end + "@" + domain)
	}
	return free
}

// listedIn returns the values of a setting; those of people and groups as addresses.
func (c *changer) listedIn(s setting) ([]string, error) {
	if known, ok := estate.GroupSetting(s.Setting); !ok || known.Form != estate.FormParties {
		return s.Texts, nil
	}
	return c.listed(s.Setting, s.Texts)
}

// listed returns the addresses of those whom a flag or setting names as owners or
// moderators: by address, or by a local part that is unique.
func (c *changer) listed(what string, texts []string) ([]string, error) {
	var list []string
	for _, text := range texts {
		id, ok, err := c.byLocalPart(text, ofAnybody)
		if err != nil {
			return nil, err
		}
		if ok {
			list = append(list, c.e.Address(id).String())
			continue
		}
		a, err := address.Parse(text)
		switch {
		case err != nil && !strings.Contains(text, "@"):
			return nil, usageError("%s: no address %q in the estate", what, text)
		case err != nil:
			return nil, usageError("%s: %w", what, err)
		}
		if _, known := c.e.Find(a); !known && c.e.InsideDomain(a.Domain()) {
			return nil, usageError("%s: %s does not exist%s", what, text, meant(c.nearAddress(text)))
		}
		list = append(list, a.String())
	}
	return list, nil
}

// nearAddress returns the address of somebody that a text may have meant.
func (c *changer) nearAddress(text string) string {
	near := nearest.Words(text, c.e.Addresses, 1)
	return strings.Join(near, "")
}

// setting is SETTING=VALUE, SETTING+=VALUE or SETTING-=VALUE.
type setting struct {
	change.Said
	operator  byte   // = + - and ^, which puts rules first
	attribute string // the only one of the group's attributes that is meant, or ""
}

// parseAttributeSetting reads what one attribute of a group is to be.
func parseAttributeSetting(s setting, attribute, value string) (setting, error) {
	if err := estate.CheckGroupAttribute(attribute); err != nil {
		return s, usageError("%s=%s: %w; nothing written", s.Setting, value, err)
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
			return nil, usageError("expected SETTING=VALUE, not %q", arg)
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
			return nil, usageError("the address of a group is changed by yorvet group rename")
		case !ok && isFormer(name):
			now, _ := estate.Former(name)
			return nil, usageError("%s is %s now", name, now)
		case !ok:
			return nil, unknown("setting", name, settingNames())
		case s.operator == '^' && known.Form != estate.FormRules:
			return nil, usageError("%s has no rules to put first, expected %s=VALUE", name, name)
		case !known.Form.IsList() && s.operator != '=':
			return nil, usageError("%s is no list, expected %s=VALUE", name, name)
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
						near = meant(bad.Nearest)
					}
					return nil, usageError("%s=%s: %w%s; nothing written", name, value, err, near)
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
			"Example: yorvet group set lost-property@kelpmere.example tell-held=inside owners+=tam.weld@kelpmere.example",
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
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				named, said := splitConditions(cmd.Args().Slice())
				if len(named) == 0 && !cmd.IsSet("groups") && !cmd.IsSet("except") || len(said) == 0 && !cmd.IsSet("preset") {
					return usageError("group set needs a group and what to set, as in title=\"Lost property\"")
				}
				groups, err := c.groupsOrAll(named...)
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
					for _, s := range p.Settings(c.e, cmd.Bool("held")) {
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
			})
		},
	}
}

// set makes settings of a group. Of several for one, the last counts.
func (c *changer) set(g estate.ID, settings []setting) error {
	attributes, differ := c.e.Group(g).Attributes, false
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
	return c.cmd.IsSet("before") || c.cmd.IsSet("after") || len(known.Texts(c.e, c.e.Group(g))) == 0 && len(known.Holds(c.e, c.e.Group(g))) > 0
}

// placed returns the rules of a group with those that a setting adds, where they are to be.
// A rule that is there already is moved.
func (c *changer) placed(g estate.ID, s setting) ([]string, error) {
	known, _ := estate.GroupSetting(s.Setting)
	rules := slices.Clone(known.Holds(c.e, c.e.Group(g)))
	at := len(rules)
	before, after := c.cmd.String("before"), c.cmd.String("after")
	switch {
	case s.operator == '^':
		at = 0
	case before != "" && after != "":
		return nil, usageError("--before and --after exclude each other")
	case before+after != "":
		i, err := ruleNamed(rules, before+after)
		if err != nil {
			return nil, usageError("%s of %s: %w", s.Setting, c.e.Address(g), err)
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
		return 0, fmt.Errorf("there is no rule %q%s", text, meant(nearest.Word(text, rules)))
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

func newGroupRename(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "rename",
		Usage:     "give a group another address",
		ArgsUsage: "OLD NEW",
		Description: "The old address stays as an alias, so that mail to it still arrives, unless --forget says\n" +
			"otherwise. Where other groups list it, the new address is written. OLD and NEW may hold one * for\n" +
			"the same text: '*@kelpmere-cargo.example' '*@kelpmere.example'.\n\n" +
			"Example: yorvet group rename charter@kelpmere.example whole-ships@kelpmere.example",
		Flags: append(
			[]cli.Flag{&cli.BoolFlag{Name: "forget", Usage: "the old address is given up"}, groupsFlag(), exceptFlag()},
			changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				if cmd.Args().Len() != 2 {
					return usageError("group rename needs two addresses, OLD and NEW")
				}
				return c.renameAll(cmd.Args().First(), cmd.Args().Get(1))
			})
		},
	}
}

// renameAll renames a group, or all that a pattern matches, to what the star stands for in
// another one.
func (c *changer) renameAll(old, now string) error {
	if !strings.Contains(old, "*") {
		g, err := c.group(old)
		if err != nil {
			return err
		}
		return c.rename(g, now)
	}
	if strings.Count(old, "*") != 1 || strings.Count(now, "*") != 1 || !strings.Contains(old, "@") {
		return usageError("of many groups, OLD and NEW each need one *, as in '*@old.example' '*@new.example'")
	}
	groups, err := c.groups(old)
	if err != nil {
		return err
	}
	head, tail, _ := strings.Cut(strings.ToLower(old), "*")
	renamed := 0
	for _, g := range groups {
		text := strings.ToLower(c.e.Address(g).String())
		if !strings.HasPrefix(text, head) || !strings.HasSuffix(text, tail) || len(text) < len(head)+len(tail) {
			continue // an alias matches
		}
		middle := c.e.Address(g).String()[len(head) : len(text)-len(tail)]
		if err := c.rename(g, strings.Replace(now, "*", middle, 1)); err != nil {
			return err
		}
		renamed++
	}
	if renamed == 0 {
		return usageError("no group has a main address like %s", old)
	}
	return nil
}

func (c *changer) rename(g estate.ID, text string) error {
	old := c.e.Address(g).String()
	a, err := address.Parse(text)
	if err != nil {
		return usageError("%w", err)
	}
	if id, known := c.e.Find(a); known && id == g {
		isAlso := func(also address.Address) bool { return also.Key() == a.Key() }
		if !slices.ContainsFunc(c.e.Group(g).Also, isAlso) {
			return usageError("%s has the address %s already", old, text)
		}
	} else if a, err = c.freeAddress(text); err != nil {
		return err
	}
	c.draft.Apply(change.RenameGroup{Group: g, To: a, Forget: c.cmd.Bool("forget")})
	c.warnManaged(g)
	return nil
}

// unused returns an error where rules of other groups name one of those that go.
func (c *changer) unused(gone []estate.ID) error {
	for _, id := range gone {
		var used []string
		for _, use := range c.e.Uses(id) {
			if !slices.Contains(gone, use.Group) {
				place := c.e.Settings().Position(use.Place)
				used = append(used, fmt.Sprintf("  %s: %s, %s", place, c.e.Address(use.Group), use.Rule))
			}
		}
		if len(used) > 0 {
			return usageError("%s is still named by \"in\" in these rules; change them first\n%s", c.e.Address(id),
				strings.Join(used, "\n"))
		}
	}
	return nil
}

func newGroupRemove(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "remove",
		Usage:     "remove groups",
		ArgsUsage: "GROUP...",
		Description: "If other groups list it as a member, owner or moderator, it is removed there, too.\n\nExample: " +
			"yorvet group remove old-regatta@kelpmere.example",
		Flags: append([]cli.Flag{groupsFlag(), exceptFlag()}, changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				if cmd.Args().Len() == 0 && !cmd.IsSet("groups") {
					return usageError("group remove needs a group")
				}
				gone, err := c.groupsOrAll(cmd.Args().Slice()...)
				if err != nil {
					return err
				}
				if err := c.unused(gone); err != nil {
					return err
				}
				for _, g := range gone {
					c.draft.Apply(change.RemoveGroup{Group: g})
				}
				c.draft.Apply(change.Cascade(c.e, gone, nil)...)
				c.warnManaged(gone...)
				return nil
			})
		},
	}
}
