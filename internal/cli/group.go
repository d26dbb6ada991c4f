package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/preset"
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
			"More settings, or others, are those of the estate, as in: notify-sender=inside\n\n" +
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
		return ask.Errorf("group new needs the address of the group")
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
		for _, s := range p.Settings(c.Estate, c.cmd.Bool("held")) {
			said[s.Setting] = s.Texts
		}
		used, ownersToo = &p, p.TakesMail()
	}
	before := maps.Clone(said)
	if err := c.flagsOfGroup(said); err != nil {
		return err
	}
	if err := c.settingsOfGroup(said); err != nil {
		return err
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

// settingsOfGroup notes the settings that a new group has by arguments.
func (c *changer) settingsOfGroup(said map[string][]string) error {
	settings, err := parseSettings(c.cmd.Args().Slice()[1:])
	if err != nil {
		return err
	}
	for _, s := range settings {
		if s.operator != '=' {
			return ask.Errorf("%s: a new group has nothing to add to or take from, expected %s=VALUE", s.Setting, s.Setting)
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
	return nil
}

// aboutPreset says what a preset means, but for what is said otherwise, which is shown as it
// will be.
func aboutPreset(p *preset.Preset, before, said map[string][]string) string {
	var own []string
	differs := map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(said)) {
		was, there := before[name]
		if there && slices.Equal(was, said[name]) {
			continue
		}
		if known, ok := estate.GroupSetting(name); ok && known.Form != estate.FormParties &&
			known.Form != estate.FormAddresses &&
			known.Affects&(estate.Posting|estate.Receiving|estate.Reading|estate.SendingAs) != 0 {
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
		rule, err := c.rule(text)
		if err != nil {
			return nil, err
		}
		list = append(list, rule)
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
			Membership: estate.Membership{Copy: copy, Since: c.Resolver.Today()},
			JustNow:    true,
		}
		if c.Estate.IsGroup(one.id) {
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
		id, known := c.Estate.Find(a)
		if err != nil || known && c.Estate.IsGroup(id) {
			continue
		}
		listed := slices.ContainsFunc(members, func(m change.Member) bool {
			other, ok := c.Estate.Find(m.Address)
			return c.Estate.Key(m.Address) == c.Estate.Key(a) || ok && known && other == id
		})
		if !listed {
			joined := estate.Membership{Since: c.Resolver.Today()}
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
		return p, ask.Errorf("there is no preset %q, expected %s%s", name, ask.OrList(preset.Names()), ask.Meant(near))
	}
	if cmd.Bool("held") && p.Held == "" {
		return p, ask.Errorf("--held: the preset %s has no such choice; see yorvet group presets", name)
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
		return a, ask.Errorf("%w", err)
	}
	if !c.Estate.InsideDomain(a.Domain()) {
		var domains []string
		for _, d := range c.Estate.Settings().Domains {
			domains = append(domains, d.Name)
		}
		return a, ask.Errorf(
			"%s is outside, expected an address at %s%s",
			text,
			ask.OrList(domains),
			ask.Meant(nearest.Word(a.Domain(), domains)),
		)
	}
	if id, taken := c.Estate.Find(a); taken {
		what := "the person"
		if c.Estate.IsGroup(id) {
			what = "the group"
		}
		holder := c.Estate.Address(id).String()
		if !address.Same(holder, text) {
			holder += ", which it leads to"
		}
		message := fmt.Sprintf("%s is taken by %s %s", text, what, holder)
		if free := c.alternatives(a); len(free) > 0 {
			message += "; free are " + strings.Join(free, ", ")
		}
		return a, ask.Errorf("%s", message)
	}
	const most, near = 3, 2
	var close []string
	for _, other := range nearest.Words(a.String(), c.Estate.Addresses, most) {
		if nearest.Distance(strings.ToLower(a.String()), strings.ToLower(other)) <= near {
			close = append(close, other)
		}
	}
	if len(close) > 0 {
		c.note("%s is free, but easily mistaken for %s.", a, ask.OrList(close))
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
			if _, taken := c.Estate.Find(one); !taken {
				free = append(free, text)
			}
		}
	}
	for _, d := range c.Estate.Settings().Domains {
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

// listed returns the addresses of those that a flag or setting names as owners or
// moderators: by address, or by a local part that is unique.
func (c *changer) listed(what string, texts []string) ([]string, error) {
	var list []string
	for _, text := range texts {
		id, ok, err := c.ByLocalPart(text, ask.Anybody)
		if err != nil {
			return nil, err
		}
		if ok {
			list = append(list, c.Estate.Address(id).String())
			continue
		}
		a, err := address.Parse(text)
		switch {
		case err != nil && !strings.Contains(text, "@"):
			return nil, ask.Errorf("%s: no address %q in the estate", what, text)
		case err != nil:
			return nil, ask.Errorf("%s: %w", what, err)
		}
		if _, known := c.Estate.Find(a); !known && c.Estate.InsideDomain(a.Domain()) {
			return nil, ask.Errorf("%s: %s does not exist%s", what, text, ask.Meant(c.nearAddress(text)))
		}
		list = append(list, a.String())
	}
	return list, nil
}

// mostSuggested is for how many texts of one command it is looked who may have been meant.
const mostSuggested = 100

// nearAddress returns the address of somebody that a text may have meant.
func (c *changer) nearAddress(text string) string {
	if c.suggested++; c.suggested > mostSuggested {
		return ""
	}
	near := nearest.Words(text, c.Estate.Addresses, 1)
	return strings.Join(near, "")
}
