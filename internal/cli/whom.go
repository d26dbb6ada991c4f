package cli

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/choose"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/directory/paste"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
)

// whoFlags are the flags that say who is meant.
func whoFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "group", Usage: "a further `GROUP`; may be repeated"},
		groupsFlag(), exceptFlag(),
		&cli.StringFlag{
			Name:  "from",
			Usage: "take addresses from a `FILE`, or from - for standard input, as they are pasted",
		},
		&cli.StringFlag{Name: "where", Usage: "those that a `SELECTOR` picks"},
		&cli.BoolFlag{Name: "nest", Usage: "a group that is pasted becomes a member"},
		&cli.BoolFlag{Name: "as-pasted", Usage: "take pasted addresses that look mistyped"},
	}
}

// groupsFlag picks groups by a filter.
func groupsFlag() cli.Flag {
	return &cli.StringFlag{
		Name:  "groups",
		Usage: "only groups that a `FILTER` matches, as in '(&(kind=list)(outside=admit))'",
	}
}

// groupsOrAll returns the groups that arguments name, or all, of those that --groups
// leaves.
func (c *session) groupsOrAll(texts ...string) ([]estate.ID, error) {
	if len(texts) == 0 {
		texts = []string{"*"}
	}
	return c.groups(texts...)
}

// exceptFlag names groups that are not meant.
func exceptFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "except", Usage: "not this `GROUP`, which may hold *; may be repeated"}
}

// filtered returns those of some groups that --groups and --except leave.
func (c *session) filtered(list []estate.ID) ([]estate.ID, error) {
	for _, text := range c.cmd.StringSlice("except") {
		gone, err := c.named(text)
		if err != nil {
			return nil, err
		}
		list = slices.DeleteFunc(list, func(g estate.ID) bool { return slices.Contains(gone, g) })
	}
	text := c.cmd.String("groups")
	if text == "" {
		return list, nil
	}
	f, err := selector.ParseFilter(text)
	if err != nil {
		return nil, syntaxError("--groups", err)
	}
	if name, near := choose.Unknown(c.e, f); name != "" {
		return nil, usageError("--groups: %q is no setting, column or attribute of a group%s", name, meant(near))
	}
	chosen := choose.Groups(c.r, f)
	return slices.DeleteFunc(list, func(g estate.ID) bool {
		_, found := slices.BinarySearch(chosen, g)
		return !found
	}), nil
}

// syntaxError returns the error of an option whose text is no selector or filter, with a caret
// under the spot.
func syntaxError(option string, err error) error {
	bad, ok := errors.AsType[*selector.SyntaxError](err)
	if !ok {
		return usageError("%s: %w", option, err)
	}
	spot := utf8.RuneCountInString(bad.Text[:min(bad.Offset, len(bad.Text))])
	return usageError("%s: %w\n    %s\n    %s^", option, err, present.Clean(bad.Text), strings.Repeat(" ", spot))
}

// changed returns the groups that arguments name, or all, of those that --groups leaves: at least
// one.
func (c *session) changed(texts ...string) ([]estate.ID, error) {
	groups, err := c.groupsOrAll(texts...)
	if err == nil && len(groups) == 0 {
		err = usageError("no group matches; nothing is changed")
	}
	return groups, err
}

// groups returns the groups that arguments and --group name, of those that --groups
// leaves.
func (c *session) groups(texts ...string) ([]estate.ID, error) {
	var list []estate.ID
	for _, text := range append(texts, c.cmd.StringSlice("group")...) {
		some, err := c.named(text)
		if err != nil {
			return nil, err
		}
		list = append(list, some...)
	}
	slices.Sort(list)
	return c.filtered(slices.Compact(list))
}

// named returns the group that an argument names, or those that its pattern matches.
func (c *session) named(text string) (list []estate.ID, err error) {
	if !strings.Contains(text, "*") {
		g, err := c.group(text)
		return []estate.ID{g}, err
	}
	for g := range estate.ID(c.e.Groups()) {
		ok, err := c.matchesPattern(g, text)
		if err != nil {
			return nil, usageError("%q is no pattern: %w", text, err)
		}
		if ok {
			list = append(list, g)
		}
	}
	if len(list) == 0 && text != "*" {
		return nil, usageError("no group matches %s", text)
	}
	return list, nil
}

// matchesPattern reports whether any address of a group matches a pattern; one without @ is
// about the local part.
func (c *session) matchesPattern(g estate.ID, pattern string) (bool, error) {
	group := c.e.Group(g)
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

// somebody is a person, group or address that a command is about.
type somebody struct {
	id      estate.ID // None for an address that the estate does not know
	address address.Address
	name    string // as pasted
}

// chosen returns whom addresses, --from and --where mean. verb is what is done
// with them; to be a member one has to be known or outside.
func (c *changer) chosen(group estate.ID, addresses []string, verb string) ([]somebody, error) {
	var list []somebody
	met, written := map[estate.ID]bool{}, map[string]bool{}
	add := func(a address.Address, name string) {
		id, known := c.e.Find(a)
		if !known {
			id = estate.None
		}
		if known && met[id] || written[a.Key()] {
			return
		}
		met[id], written[a.Key()] = true, true
		list = append(list, somebody{id, a, name})
	}
	for _, text := range addresses {
		if id, ok, err := c.byLocalPart(text, ofAnybody); err != nil {
			return nil, err
		} else if ok {
			add(c.e.Address(id), "")
			continue
		}
		a, err := address.Parse(text)
		if err != nil {
			return nil, usageError("%w", err)
		}
		if _, known := c.e.Find(a); !known && c.e.InsideDomain(a.Domain()) && verb != "removed" {
			return nil, usageError("%s does not exist%s", text, meant(c.nearAddress(text)))
		}
		add(a, "")
	}
	if err := c.pasted(verb, add); err != nil {
		return nil, err
	}
	if text := c.cmd.String("where"); text != "" {
		x, err := parsePeople(c.session, "--where", text)
		if err != nil {
			return nil, err
		}
		if group == estate.None {
			var own error
			selector.Atoms(x, func(a *selector.Atom) {
				switch a.Kind {
				case selector.Members, selector.Owners, selector.Moderators, selector.Newcomers:
					own = usageError("--where: %q is about a group that is there already, expected in GROUP", a.Text)
				}
			})
			if own != nil {
				return nil, own
			}
		}
		picked, of := false, ""
		c.eachPicked(group, x, func(id estate.ID) {
			picked = true
			add(c.e.Address(id), "")
		})
		selector.Atoms(x, func(a *selector.Atom) {
			if a.Kind.AboutGroup() && group != estate.None {
				of = " for " + c.e.Address(group).String()
			}
		})
		if !picked {
			c.note("Nobody is picked by --where %q%s.", text, of)
		}
	}
	return list, nil
}

// pasted reads the addresses of --from.
func (c *changer) pasted(verb string, add func(address.Address, string)) error {
	from := c.cmd.String("from")
	if from == "" {
		return nil
	}
	text, err := c.input()
	if err != nil {
		return err
	}
	people, remarks := paste.Parse(text)
	tally := &pastedTally{verb: "understood", keys: map[string]bool{}}
	if verb == "added" {
		tally.verb = verb
	}
	c.tally = tally
	for _, p := range people {
		if why := c.heldBack(p.Address, verb); why != "" {
			c.leaveOut("%s:%d: %s %s", from, p.Line, p.Address, why)
			tally.unclear++
			continue
		}
		tally.take(p.Address)
		add(p.Address, p.Name)
	}
	for _, r := range remarks {
		switch id, ok, err := c.namedAs(r); {
		case ok:
			c.note("%s:%d: %s is %s", from, r.Line, r.Text, c.e.Address(id))
			tally.take(c.e.Address(id))
			add(c.e.Address(id), "")
		case r.Twice:
			c.leaveOut("%s:%d: %s: %s", from, r.Line, r.Text, r.Why)
			tally.twice++
		case err != nil:
			c.leaveOut("%s:%d: %s", from, r.Line, strings.TrimPrefix(err.Error(), "yorvet: "))
			tally.unclear++
		default:
			c.leaveOut("%s:%d: %s: %s", from, r.Line, r.Text, r.Why)
			tally.unclear++
		}
	}
	return nil
}

// pastedTally counts what became of what was pasted.
type pastedTally struct {
	taken, there, unclear, twice int

	verb string          // what is done with those that are taken
	keys map[string]bool // of those that are taken
}

func (t *pastedTally) take(a address.Address) {
	if !t.keys[a.Key()] {
		t.keys[a.Key()] = true
		t.taken++
		return
	}
	t.twice++
}

// isThere notes that somebody is a member already.
func (t *pastedTally) isThere(a address.Address) {
	if t != nil && t.keys[a.Key()] {
		delete(t.keys, a.Key())
		t.taken, t.there = t.taken-1, t.there+1
	}
}

// String says it in a line.
func (t *pastedTally) String() string {
	if t == nil {
		return ""
	}
	parts := []string{fmt.Sprintf("Of what was pasted: %d %s", t.taken, t.verb)}
	if t.there > 0 {
		parts = append(parts, fmt.Sprintf("%d there already", t.there))
	}
	if t.unclear > 0 {
		parts = append(parts, fmt.Sprintf("%d not understood or held back", t.unclear))
	}
	if t.twice > 0 {
		parts = append(parts, fmt.Sprintf("%d twice", t.twice))
	}
	return strings.Join(parts, ", ")
}

// byName is who has a name.
type byName struct {
	id  estate.ID
	ok  bool
	err error
}

// namedAs returns the person whose name is pasted without an address: the whole name, or
// two words of it at least that only they have.
func (c *changer) namedAs(r paste.Remark) (estate.ID, bool, error) {
	words := strings.Fields(r.Text)
	if !r.Nameless || len(words) == 0 || len(words) > 6 {
		return estate.None, false, nil
	}
	if c.pastedNames == nil {
		c.pastedNames = map[string]byName{}
	}
	found, asked := c.pastedNames[r.Text]
	if !asked {
		found.id, found.ok, found.err = c.byName(r.Text)
		c.pastedNames[r.Text] = found
	}
	id, ok, err := found.id, found.ok, found.err
	if ok && len(words) == 1 && !strings.EqualFold(c.e.Person(id).Name, r.Text) {
		return estate.None, false, nil
	}
	return id, ok, err
}

// heldBack returns why an address that is pasted is not taken just so, or "".
func (c *changer) heldBack(a address.Address, verb string) string {
	id, known := c.e.Find(a)
	as := c.cmd.String("as")
	switch {
	case verb == "removed":
		return ""
	case known && c.e.IsGroup(id) && verb == "added" && (as == "" || as == "member") && !c.cmd.Bool("nest"):
		return fmt.Sprintf("is a group of %d members; --nest makes it a member, with all of them", len(c.e.Entries(id)))
	case known:
		return ""
	case c.e.InsideDomain(a.Domain()):
		return "does not exist" + meant(c.nearAddress(a.String()))
	case c.cmd.Bool("as-pasted"):
		return ""
	case !strings.Contains(a.Domain(), "."):
		return "has a domain without a dot; --as-pasted takes it all the same"
	}
	for _, d := range c.e.Settings().Domains {
		if nearest.Distance(a.Domain(), strings.ToLower(d.Name)) == 1 {
			return fmt.Sprintf("is one letter off %s; --as-pasted takes it all the same%s", d.Name,
				meant(c.nearAddress(a.String())))
		}
	}
	return ""
}

// mostPasted bounds what is read as pasted.
const mostPasted = 64 << 20

// readPasted reads a file or standard input.
func readPasted(ctx context.Context, from string) (string, error) {
	var data []byte
	var err error
	if from == "-" {
		data, err = localfile.ReadAll(ctx, localfile.Standard(ctx), "standard input", mostPasted)
	} else {
		data, err = localfile.Read(ctx, from, mostPasted)
	}
	if err != nil {
		return "", usageError("%w", err)
	}
	return string(data), nil
}

// parsePeople reads a selector that picks people of the estate.
func parsePeople(s *session, flag, text string) (selector.Expr, error) {
	x, err := selector.Parse(text, selector.ForPeople)
	if err != nil {
		return nil, syntaxError(flag, err)
	}
	if problems := s.e.CheckSelector(x, text); len(problems) > 0 {
		return nil, usageError("%s: %s%s", flag, problems[0].Text, meant(problems[0].Nearest))
	}
	return x, nil
}

// eachPicked calls visit with the people whom a selector picks for a group.
func (c *session) eachPicked(group estate.ID, x selector.Expr, visit func(estate.ID)) {
	// What asks nothing about the group picks the same people for all.
	key, aboutGroup := x.String(), false
	selector.Atoms(x, func(a *selector.Atom) { aboutGroup = aboutGroup || a.Kind.AboutGroup() })
	set, known := c.picks[key]
	if aboutGroup || !known {
		set = nil
		for it := c.r.Set(group, x, resolve.Message{}).Iterator(); it.HasNext(); {
			if id := estate.ID(it.Next()); c.e.IsPerson(id) {
				set = append(set, id)
			}
		}
		if !aboutGroup {
			if c.picks == nil {
				c.picks = map[string][]estate.ID{}
			}
			c.picks[key] = set
		}
	}
	for _, id := range set {
		visit(id)
	}
}

// addPerson writes down an outside person who is pasted with a name.
func (c *changer) addPerson(one somebody) {
	if one.id == estate.None && one.name != "" && !c.e.InsideDomain(one.address.Domain()) &&
		!c.written[one.address.Key()] {
		if c.written == nil {
			c.written = map[string]bool{}
		}
		c.written[one.address.Key()] = true
		c.draft.Apply(change.AddPerson{Address: one.address, Name: one.name})
	}
}

// entriesOf returns which entries of a group name somebody, by their index.
func entriesOf(e *estate.Estate, g, id estate.ID) []int {
	return entriesWhere(e, g, func(member estate.ID) bool { return member == id })
}

// nobodyEntries returns which entries of a group list an inside address that is
// nobody's.
func nobodyEntries(e *estate.Estate, g estate.ID, a address.Address) []int {
	return entriesWhere(e, g, func(member estate.ID) bool {
		return member.IsNobody() && e.Key(e.Address(member)) == e.Key(a)
	})
}

func entriesWhere(e *estate.Estate, g estate.ID, is func(member estate.ID) bool) []int {
	var list []int
	for i, entry := range e.Entries(g) {
		if is(entry.Member) {
			list = append(list, i)
		}
	}
	return list
}

func roleFlag() cli.Flag {
	return &cli.StringFlag{Name: "as", Usage: "in this `ROLE`: member, owner or moderator", Value: "member"}
}

// role returns the list of a group that --as means, or "" for its members.
func (c *session) role() (string, error) {
	switch as := c.cmd.String("as"); as {
	case "member":
		return "", nil
	case "owner", "moderator":
		return as + "s", nil
	default:
		return "", unknown("role", as, present.Roles())
	}
}
