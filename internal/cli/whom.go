package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
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

// groupsOf returns the groups that the arguments of a command name, or all, of those that --groups and --except leave.
func groupsOf(cmd *cli.Command) ask.Groups {
	return ask.Groups{Names: cmd.Args().Slice(), Filter: cmd.String("groups"), Except: cmd.StringSlice("except")}
}

// groupsOrAll returns the groups that arguments name, or all, of those that --groups and --except leave.
func (c *session) groupsOrAll(texts ...string) ([]estate.ID, error) {
	which := groupsOf(c.cmd)
	which.Names = slices.Concat(texts, c.cmd.StringSlice("group"))
	return c.Groups(which)
}

// exceptFlag names groups that are not meant.
func exceptFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "except", Usage: "not this `GROUP`, which may hold *; may be repeated"}
}

// changed returns the groups that arguments name, or all, of those that --groups leaves: at least
// one.
func (c *session) changed(texts ...string) ([]estate.ID, error) {
	groups, err := c.groupsOrAll(texts...)
	if err == nil && len(groups) == 0 {
		err = ask.Errorf("no group matches; nothing is changed")
	}
	return groups, err
}

// somebody is a person, group or address that a command is about.
type somebody struct {
	id      estate.ID // None for an address that the estate does not know
	address address.Address
	name    string // as pasted
}

// chosen returns who addresses, --from and --where mean. verb is what is done
// with them; to be a member one has to be known or outside.
func (c *changer) chosen(group estate.ID, addresses []string, verb string) ([]somebody, error) {
	var list []somebody
	met, written := map[estate.ID]bool{}, map[string]bool{}
	add := func(a address.Address, name string) {
		id, known := c.Estate.Find(a)
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
		if id, ok, err := c.ByLocalPart(text, ask.Anybody); err != nil {
			return nil, err
		} else if ok {
			add(c.Estate.Address(id), "")
			continue
		}
		a, err := address.Parse(text)
		if err != nil {
			return nil, ask.Errorf("%w", err)
		}
		if _, known := c.Estate.Find(a); !known && c.Estate.InsideDomain(a.Domain()) && verb != "removed" {
			return nil, ask.Errorf("%s does not exist%s", text, ask.Meant(c.nearAddress(text)))
		}
		add(a, "")
	}
	if err := c.pasted(verb, add); err != nil {
		return nil, err
	}
	if text := c.cmd.String("where"); text != "" {
		x, err := c.ParsePeople("--where", text)
		if err != nil {
			return nil, err
		}
		if group == estate.None {
			var own error
			selector.Atoms(x, func(a *selector.Atom) {
				switch a.Kind {
				case selector.Members, selector.Owners, selector.Moderators, selector.Newcomers:
					own = ask.Errorf("--where: %q is about a group that is there already, expected in GROUP", a.Text)
				}
			})
			if own != nil {
				return nil, own
			}
		}
		picked, of := false, ""
		c.EachPicked(group, x, func(id estate.ID) {
			picked = true
			add(c.Estate.Address(id), "")
		})
		selector.Atoms(x, func(a *selector.Atom) {
			if a.Kind.AboutGroup() && group != estate.None {
				of = " for " + c.Estate.Address(group).String()
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
			c.note("%s:%d: %s is %s", from, r.Line, r.Text, c.Estate.Address(id))
			tally.take(c.Estate.Address(id))
			add(c.Estate.Address(id), "")
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

// pastedTally counts what became of the pasted list.
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
		found.id, found.ok, found.err = c.ByName(r.Text)
		c.pastedNames[r.Text] = found
	}
	id, ok, err := found.id, found.ok, found.err
	if ok && len(words) == 1 && !strings.EqualFold(c.Estate.Person(id).Name, r.Text) {
		return estate.None, false, nil
	}
	return id, ok, err
}

// heldBack returns why an address that is pasted is not taken just so, or "".
func (c *changer) heldBack(a address.Address, verb string) string {
	id, known := c.Estate.Find(a)
	as := c.cmd.String("as")
	switch {
	case verb == "removed":
		return ""
	case known && c.Estate.IsGroup(id) && verb == "added" && (as == "" || as == "member") && !c.cmd.Bool("nest"):
		return fmt.Sprintf("is a group of %d members; --nest makes it a member, with all of them", len(c.Estate.Entries(id)))
	case known:
		return ""
	case c.Estate.InsideDomain(a.Domain()):
		return "does not exist" + ask.Meant(c.nearAddress(a.String()))
	case c.cmd.Bool("as-pasted"):
		return ""
	case !strings.Contains(a.Domain(), "."):
		return "has a domain without a dot; --as-pasted takes it all the same"
	}
	for _, d := range c.Estate.Settings().Domains {
		if nearest.Distance(a.Domain(), strings.ToLower(d.Name)) == 1 {
			return fmt.Sprintf("is one letter off %s; --as-pasted takes it all the same%s", d.Name,
				ask.Meant(c.nearAddress(a.String())))
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
		return "", ask.Errorf("%w", err)
	}
	return string(data), nil
}

// addPerson writes down an outside person who is pasted with a name.
func (c *changer) addPerson(one somebody) {
	if one.id == estate.None && one.name != "" && !c.Estate.InsideDomain(one.address.Domain()) &&
		!c.written[one.address.Key()] {
		if c.written == nil {
			c.written = map[string]bool{}
		}
		c.written[one.address.Key()] = true
		c.draft.Apply(change.AddPerson{Person: estate.Person{Address: one.address, Name: one.name}})
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
		return "", ask.Unknown("role", as, present.Roles())
	}
}
