package cli

import (
	"context"
	"errors"
	"slices"
	"strconv"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/present"
)

func newMember(streams Streams) *cli.Command {
	return &cli.Command{
		Name:  "member",
		Usage: "add, remove, change and list members of groups",
		Description: "A GROUP may hold * for anything, so that one command is about many. What a change does is shown\n" +
			"first; then it is written into the files of the estate, in place.",
		Commands: []*cli.Command{
			newMemberAdd(streams),
			newMemberRemove(streams),
			newMemberSet(streams),
			newMemberList(streams),
		},
	}
}

// membershipFlags are the flags that say what a membership is to be like.
func membershipFlags() (flags []cli.Flag) {
	for _, s := range estate.MembershipSettings() {
		switch s.Form {
		case estate.FormWord:
			usage := ask.OrList(s.Words[1:]) + "; group: as the group says"
			flags = append(flags, &cli.StringFlag{Name: s.Name, Usage: usage})
		case estate.FormFlag:
			usage := "the membership is " + s.Name + "; --" + s.Name + "=false: it is not"
			flags = append(flags, &cli.BoolFlag{Name: s.Name, Usage: usage})
		default:
			usage := "a member " + s.Name + " this `DATE` (YYYY-MM-DD), or none"
			flags = append(flags, &cli.StringFlag{Name: s.Name, Usage: usage})
		}
	}
	return flags
}

// membership applies the flags to a membership.
func (c *changer) membership(m estate.Membership) (estate.Membership, error) {
	var errs []error
	for _, s := range estate.MembershipSettings() {
		text, unset := c.cmd.String(s.Name), "none"
		switch s.Form {
		case estate.FormFlag:
			text, unset = strconv.FormatBool(c.cmd.Bool(s.Name)), "false"
		case estate.FormWord:
			unset = "group"
		}
		switch {
		case !c.cmd.IsSet(s.Name):
		case text == unset:
			s.Reset(&m)
		default:
			var wrong *estate.ValueError
			if errors.As(s.Set(&m, text), &wrong) {
				errs = append(errs, ask.Errorf("--%s: %w%s", s.Name, wrong, ask.Meant(wrong.Nearest)))
			}
		}
	}
	return m, errors.Join(errs...)
}

func newMemberAdd(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "add",
		Usage:     "add members, owners or moderators to groups",
		ArgsUsage: "GROUP [ADDRESS...]",
		Description: "New members get what the group says its joiners get, and are members since today. Somebody outside\n" +
			"may be added by any address, and is written down where a name is pasted along. --rule and --everyone\n" +
			"add a rule instead.\n\n" +
			"Example: yorvet member add volunteers@kelpmere.example --from volunteers.txt",
		Flags: slices.Concat(
			[]cli.Flag{
				roleFlag(),
				&cli.StringFlag{
					Name:  "rule",
					Usage: "add a rule: everybody inside whose attributes a `FILTER` matches, as (base=north-pier)",
				},
				&cli.BoolFlag{
					Name:  "everyone",
					Usage: "add a rule: everybody inside",
				},
			},
			whoFlags(),
			membershipFlags(),
			changeFlags(),
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				role, groups, err := c.roleAndGroups()
				if err != nil {
					return err
				}
				for _, g := range groups {
					if err := c.addTo(g, role); err != nil {
						return err
					}
				}
				c.warnManaged(groups...)
				return nil
			})
		},
	}
}

// rule reads a rule for members, and notes that it picks nobody.
func (c *changer) rule(text string) (change.Member, error) {
	f, err := selector.ParseFilter(text)
	if err != nil {
		return change.Member{}, ask.SyntaxError("--rule", err)
	}
	picks := selector.And{&selector.Atom{Kind: selector.Where, Filter: f}, &selector.Atom{Kind: selector.Inside}}
	if c.Resolver.Set(estate.None, picks, resolve.Message{}).IsEmpty() {
		c.note("%s picks nobody: there is no such person inside.", f)
	}
	return change.Member{Filter: f}, nil
}

func (c *changer) roleAndGroups() (string, []estate.ID, error) {
	if c.cmd.Args().Len() == 0 {
		return "", nil, ask.Errorf("%s needs a group", name(c.cmd))
	}
	role, err := c.role()
	if err != nil {
		return "", nil, err
	}
	groups, err := c.changed(c.cmd.Args().First())
	return role, groups, err
}

func (c *changer) addTo(g estate.ID, role string) error {
	rule, everyone := c.cmd.String("rule"), c.cmd.Bool("everyone")
	m, err := c.membership(estate.Membership{})
	if err != nil {
		return err
	}
	if rule != "" || everyone {
		var one change.Member
		if rule != "" {
			if one, err = c.rule(rule); err != nil {
				return err
			}
		}
		one.Membership = m
		c.draft.Apply(change.AddMember{Group: g, Member: one})
		return nil
	}
	list, err := c.chosen(g, c.cmd.Args().Slice()[1:], "added")
	if err != nil {
		return err
	}
	if len(list) == 0 && len(c.notes) == 0 && !c.cmd.IsSet("where") {
		return ask.Errorf("member add needs somebody to add: addresses, --from, --where, --rule or --everyone")
	}
	group := c.Estate.Group(g)
	for _, one := range list {
		if role != "" {
			c.draft.Apply(change.SetList{Group: g, Setting: role, Add: []string{one.address.String()}})
			c.addPerson(one)
			continue
		}
		if len(entriesOf(c.Estate, g, one.id)) > 0 && one.id != estate.None {
			c.note("%s is a member of %s already", one.address, group.Address)
			c.tally.isThere(one.address)
			continue
		}
		if one.id == g {
			return ask.Errorf("%s cannot be a member of itself", group.Address)
		}
		if group.NoOutsideMembers && !c.Estate.InsideDomain(one.address.Domain()) {
			return ask.Errorf("%s is outside, and outside-members of %s is refused; nothing written. To allow it: "+
				"yorvet group set %s outside-members=allowed", one.address, group.Address, group.Address)
		}
		says := m
		if !c.cmd.IsSet("copy") {
			says.Copy = group.Joiners
		}
		if !c.cmd.IsSet("since") {
			says.Since = c.Resolver.Today()
		}
		if c.Estate.IsGroup(one.id) {
			says = estate.Membership{Copy: m.Copy}
		}
		member := change.Member{Address: one.address, Membership: says, JustNow: !c.cmd.IsSet("since")}
		c.draft.Apply(change.AddMember{Group: g, Member: member})
		c.addPerson(one)
	}
	return nil
}

func newMemberRemove(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "remove",
		Usage:     "remove members, owners or moderators from groups",
		ArgsUsage: "GROUP [ADDRESS...]",
		Description: "Somebody that a rule or a nested group brings in stays, and that is said.\n\n" +
			"Example: yorvet member remove '*@kelpmere.example' nora.teale@kelpmere.example",
		Flags: slices.Concat([]cli.Flag{roleFlag()}, whoFlags(), changeFlags()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				role, groups, err := c.roleAndGroups()
				if err != nil {
					return err
				}
				touched := []estate.ID{}
				for _, g := range groups {
					list, err := c.chosen(g, cmd.Args().Slice()[1:], "removed")
					if err != nil {
						return err
					}
					if len(list) == 0 && len(c.notes) == 0 && !cmd.IsSet("where") {
						return ask.Errorf("member remove needs somebody to remove: addresses, --from or --where")
					}
					if c.takeOut(g, role, list, len(groups) == 1) {
						touched = append(touched, g)
					}
				}
				if len(touched) == 0 && !c.wrong && !cmd.IsSet("where") {
					c.leaveOut("None of them is listed in these groups.")
				}
				c.warnManaged(touched...)
				return nil
			})
		},
	}
}

// takeOut removes people from a group, and reports whether it lists any. alone
// says that this is the only group that is asked for.
func (c *changer) takeOut(g estate.ID, role string, list []somebody, alone bool) bool {
	touched := false
	for _, one := range list {
		if role != "" {
			listed := map[string][]estate.Listed{"owners": c.Estate.Group(g).Owners, "moderators": c.Estate.Group(g).Moderators}[role]
			if slices.ContainsFunc(listed, func(l estate.Listed) bool { return l.ID == one.id }) {
				drop := []string{c.Estate.Address(one.id).String()}
				c.draft.Apply(change.SetList{Group: g, Setting: role, Drop: drop})
				touched = true
			}
			continue
		}
		entries := entriesOf(c.Estate, g, one.id)
		if one.id == estate.None {
			entries = nobodyEntries(c.Estate, g, one.address)
		}
		for _, entry := range entries {
			c.draft.Apply(change.RemoveMember{Group: g, Entry: entry})
			touched = true
		}
		if one.id == estate.None || !c.Estate.IsPerson(one.id) {
			continue
		}
		if _, isMember := c.Resolver.Flow(g, resolve.Message{}).Best(one.id); isMember && len(entries) == 0 && alone && !c.cmd.IsSet("where") {
			c.leaveOut(
				"%s is no direct member of %s: %s brings them in",
				one.address,
				c.Estate.Address(g),
				c.bringsIn(g, one.id),
			)
		}
	}
	return touched
}

// bringsIn names what makes somebody a member of a group apart from an entry.
func (c *changer) bringsIn(g, person estate.ID) string {
	for _, rule := range c.Estate.Rules(g) {
		if rule.Filter == nil && c.Estate.Inside(person) {
			return "the rule everyone"
		}
		if rule.Filter != nil && c.Estate.Inside(person) && c.Estate.Matches(person, rule.Filter) {
			return "the rule " + rule.Filter.String()
		}
	}
	for _, child := range c.Estate.Children(g) {
		if _, ok := c.Resolver.Flow(child.Group, resolve.Message{}).Best(person); ok {
			return c.Estate.Address(child.Group).String()
		}
	}
	return "a nested group"
}

func newMemberSet(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "set",
		Usage:     "change what members get",
		ArgsUsage: "GROUP [ADDRESS...]",
		Description: "Without addresses, --from and --where it is about every named member.\n\n" +
			"Example: yorvet member set '*-crew@kelpmere.example' --where members --copy every",
		Flags: slices.Concat(whoFlags(), membershipFlags(), changeFlags()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				if cmd.Args().Len() == 0 {
					return ask.Errorf("member set needs a group")
				}
				if !cmd.IsSet("copy") && !cmd.IsSet("invitations") && !cmd.IsSet("paused") && !cmd.IsSet("since") {
					return ask.Errorf("member set needs something to set: --copy, --invitations, --paused or --since")
				}
				groups, err := c.changed(cmd.Args().First())
				if err != nil {
					return err
				}
				touched := []estate.ID{}
				for _, g := range groups {
					changed, err := c.setIn(g, len(groups) == 1)
					if err != nil {
						return err
					}
					if changed {
						touched = append(touched, g)
					}
				}
				c.warnManaged(touched...)
				return nil
			})
		},
	}
}

// setIn changes entries of a group as the flags say.
func (c *changer) setIn(g estate.ID, alone bool) (bool, error) {
	all := c.cmd.Args().Len() == 1 && !c.cmd.IsSet("from") && !c.cmd.IsSet("where")
	list, err := c.chosen(g, c.cmd.Args().Slice()[1:], "changed")
	if err != nil {
		return false, err
	}
	picked := map[estate.ID]bool{}
	for _, one := range list {
		picked[one.id] = true
	}
	changed := false
	listed := map[estate.ID]bool{}
	for i, entry := range c.Estate.Entries(g) {
		listed[entry.Member] = true
		if !all && !picked[entry.Member] {
			continue
		}
		m, err := c.membership(entry.Membership())
		if err != nil {
			return false, err
		}
		if c.Estate.IsGroup(entry.Member) {
			if all || m.Copy == entry.Copy() {
				continue // what is said of people is not meant for nested groups
			}
			m = estate.Membership{Copy: m.Copy}
		}
		if m != entry.Membership() {
			c.draft.Apply(change.SetMember{Group: g, Entry: i, Membership: m})
			changed = true
		}
	}
	for _, one := range list {
		if listed[one.id] || c.cmd.IsSet("where") || !alone {
			continue
		}
		if _, isMember := c.Resolver.Flow(g, resolve.Message{}).Best(one.id); one.id != estate.None && c.Estate.IsPerson(one.id) && isMember {
			c.leaveOut(
				"%s is no direct member of %s: %s brings them in",
				one.address,
				c.Estate.Address(g),
				c.bringsIn(g, one.id),
			)
		} else {
			c.leaveOut("%s is no member of %s", one.address, c.Estate.Address(g))
		}
	}
	return changed, nil
}

func newMemberList(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "list",
		Usage:     "list the members of groups as written, with what they get",
		ArgsUsage: "GROUP",
		Description: "Owners and moderators, too, unless --as says otherwise. As CSV it is a table for a " +
			"spreadsheet; cells\n" +
			"that a spreadsheet would take for a formula begin with an apostrophe.\n\n" +
			"Example: yorvet member list lost-property@kelpmere.example --format csv > desk.csv",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "as", Usage: "those of a `ROLE` only: member, owner or moderator"},
			&cli.StringSliceFlag{Name: "group", Usage: "a further `GROUP`; may be repeated"},
			groupsFlag(), exceptFlag(),
			&cli.StringFlag{Name: "where", Usage: "those that a `SELECTOR` picks"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			if cmd.Args().Len() == 0 && !cmd.IsSet("groups") {
				return ask.Errorf("member list needs a group")
			}
			groups, err := s.groupsOrAll(cmd.Args().Slice()...)
			if err != nil {
				return err
			}
			if cmd.IsSet("as") {
				if _, err := s.role(); err != nil {
					return err
				}
			}
			var wanted func(group, id estate.ID) bool
			if where := cmd.String("where"); where != "" {
				x, err := s.ParsePeople("--where", where)
				if err != nil {
					return err
				}
				wanted = func(group, id estate.ID) bool {
					return s.Estate.IsPerson(id) && s.Resolver.Eval(group, x, s.Resolver.Sender(s.Estate.Address(id)), resolve.Message{})
				}
			}
			return s.print(present.NewMemberList(s.Resolver, groups, cmd.String("as"), wanted))
		},
	}
}
