package cli

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
)

// personCommands are the commands that list and change people.
func personCommands(streams Streams) []*cli.Command {
	return []*cli.Command{
		newPersonList(streams),
		newPersonAdd(streams),
		newPersonSet(streams),
		newPersonRename(streams),
		newPersonClose(streams),
		newPersonLeaves(streams),
		newPersonRemove(streams),
	}
}

func newPersonList(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "list",
		Usage:     "list people, one line each",
		ArgsUsage: "[PERSON...]",
		Description: "A PERSON may hold * for anything. --where keeps those that a selector picks.\n\n" +
			"Example: yorvet person list --where '(base=north-pier)'",
		Flags: []cli.Flag{&cli.StringFlag{Name: "where", Usage: "those that a `SELECTOR` picks"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			people, err := s.peopleOrAll(cmd.Args().Slice())
			if err != nil {
				return err
			}
			by := strings.Join(cmd.Args().Slice(), " ")
			if text := cmd.String("where"); text != "" {
				picked, err := s.pickedBy(text)
				if err != nil {
					return err
				}
				people = slices.DeleteFunc(people, func(id estate.ID) bool { return !picked[id] })
				by = strings.TrimSpace(by + " " + text)
			}
			return s.print(present.NewPeople(s.Resolver, people, by))
		},
	}
}

// pickedBy returns who a selector, or a filter alone, picks.
func (s *session) pickedBy(text string) (map[estate.ID]bool, error) {
	if _, err := selector.ParseFilter(text); err == nil {
		text = "where " + text
	}
	x, err := s.ParsePeople("--where", text)
	if err != nil {
		return nil, err
	}
	picked := map[estate.ID]bool{}
	var own error
	selector.Atoms(x, func(a *selector.Atom) {
		if a.Kind.AboutGroup() {
			own = ask.Errorf("--where: %q is about one group, expected in GROUP", a.Text)
		}
	})
	if own != nil {
		return nil, own
	}
	s.EachPicked(estate.None, x, func(id estate.ID) { picked[id] = true })
	return picked, nil
}

// peopleOrAll returns the people that arguments name, with or without stars; all without
// any.
func (s *session) peopleOrAll(args []string) ([]estate.ID, error) {
	var list []estate.ID
	if len(args) == 0 {
		for i := range s.Estate.People() {
			list = append(list, s.Estate.PersonID(i))
		}
		return list, nil
	}
	for _, arg := range args {
		if !strings.Contains(arg, "*") {
			id, err := s.Person(arg)
			if err != nil {
				return nil, err
			}
			list = append(list, id)
			continue
		}
		before := len(list)
		for i := range s.Estate.People() {
			if id := s.Estate.PersonID(i); estate.MatchStars(arg, s.Estate.Address(id).String()) {
				list = append(list, id)
			}
		}
		if len(list) == before {
			return nil, ask.Errorf("no person matches %q", arg)
		}
	}
	slices.Sort(list)
	return slices.Compact(list), nil
}

func newPersonAdd(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "add",
		Usage:     "write down a person",
		ArgsUsage: "ADDRESS [FIELD=VALUE...]",
		Description: "The fields are name, also, mailbox and attributes.NAME. Many people at once come from a table or a\n" +
			"directory: yorvet import people.csv.\n\n" +
			"Example: yorvet person add pia.strand@kelpmere.example name='Pia Strand' attributes.base=south-pier",
		Flags: changeFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				if cmd.Args().Len() == 0 {
					return ask.Errorf("person add needs an address")
				}
				a, err := c.freePerson(cmd.Args().First(), estate.None)
				if err != nil {
					return err
				}
				fields, err := personFields(cmd.Args().Slice()[1:])
				if err != nil {
					return err
				}
				add := change.AddPerson{Person: estate.Person{Address: a}}
				for _, f := range fields {
					switch {
					case f.operator != '=':
						return ask.Errorf("%s: a new person has nothing to add to or take from", f.name)
					case f.setting != nil:
						if text := f.text(); text != "" {
							_ = f.setting.Set(&add.Person, text) // it was tried
						}
					case f.name == "also":
						for _, text := range f.texts {
							also, err := c.freePerson(text, estate.None)
							if err != nil {
								return err
							}
							add.Also = append(add.Also, also)
						}
					default:
						for _, text := range f.texts {
							add.Attributes = append(add.Attributes, estate.Attribute{Name: f.attribute, Value: text})
						}
					}
				}
				c.draft.Apply(add)
				return nil
			})
		},
	}
}

// personField is FIELD=VALUE of a person.
type personField struct {
	name      string                             // also, attributes, or that of a setting
	setting   *estate.PartSetting[estate.Person] // or nil
	attribute string
	operator  byte
	texts     []string // of a setting one, or none
}

func (f *personField) text() string { return strings.Join(f.texts, "") }

// personFieldNames are what can be said of a person.
var personFieldNames = func() (names []string) {
	for _, s := range estate.PersonSettings() {
		names = append(names, s.Name)
	}
	return append(slices.Insert(names, 1, "also"), "attributes.NAME")
}()

func personFields(args []string) (list []personField, err error) {
	for _, arg := range args {
		name, value, ok := strings.Cut(arg, "=")
		if !ok || name == "" {
			return nil, ask.Errorf("expected FIELD=VALUE, not %q", arg)
		}
		f := personField{operator: '='}
		if last := name[len(name)-1]; last == '+' || last == '-' {
			f.operator, name = last, name[:len(name)-1]
		}
		f.name = name
		f.setting, _ = estate.PersonSetting(name)
		if attribute, is := strings.CutPrefix(name, "attributes."); is {
			f.name, f.attribute = "attributes", attribute
		}
		switch {
		case f.attribute == "" && !slices.Contains(personFieldNames, name):
			return nil, ask.Unknown("field", name, personFieldNames)
		case f.operator != '=' && f.setting != nil:
			return nil, ask.Errorf("%s is no list, expected %s=VALUE", name, name)
		case f.setting != nil && value != "":
			var wrong *estate.ValueError
			if errors.As(f.setting.Set(&estate.Person{}, value), &wrong) {
				return nil, ask.Errorf("%s=%s: %w%s", name, value, wrong, ask.Meant(wrong.Nearest))
			}
			f.texts = []string{value}
		case value != "":
			f.texts = estatefile.SplitList(value)
		}
		list = append(list, f)
	}
	return list, nil
}

// freePerson returns an address for somebody, if it is nobody's, or theirs already.
func (c *changer) freePerson(text string, self estate.ID) (address.Address, error) {
	a, err := address.Parse(text)
	if err != nil {
		return a, ask.Errorf("%w", err)
	}
	id, taken := c.Estate.Find(a)
	if !taken || id == self || c.Estate.IsPerson(id) && c.Estate.Person(id).Implied {
		return a, nil
	}
	what := "the person"
	if c.Estate.IsGroup(id) {
		what = "the group"
	}
	return a, ask.Errorf("%s is taken by %s %s", text, what, c.Estate.Address(id))
}

func newPersonSet(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "set",
		Usage:     "change what is said of people",
		ArgsUsage: "PERSON FIELD=VALUE...",
		Description: "The fields are name, also, mailbox and attributes.NAME; nothing behind = takes a field away. " +
			"+= adds to\n" +
			"a list and -= takes from it. A PERSON may hold * for anything.\n\n" +
			"Example: yorvet person set tam.weld@kelpmere.example mailbox=full attributes.base=south-pier",
		Flags: changeFlags(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				if cmd.Args().Len() < 2 {
					return ask.Errorf("person set needs a person and what to set, as in mailbox=closed")
				}
				people, err := c.peopleOrAll(cmd.Args().Slice()[:1])
				if err != nil {
					return err
				}
				fields, err := personFields(cmd.Args().Slice()[1:])
				if err != nil {
					return err
				}
				for _, id := range people {
					if err := c.setPerson(id, fields); err != nil {
						return err
					}
				}
				return nil
			})
		},
	}
}

// errImplied is the error of somebody who is a member of a group and nothing else.
func (c *changer) errImplied(id estate.ID) error {
	a := c.Estate.Address(id)
	return ask.Errorf("%s is listed in groups, and not written down as a person; yorvet person add %s", a, a)
}

func (c *changer) setPerson(id estate.ID, fields []personField) error {
	p := c.Estate.Person(id)
	if p.Implied {
		return c.errImplied(id)
	}
	all, values := slices.Clone(p.Also), map[string][]string{} // as the fields before leave them
	for _, f := range fields {
		switch {
		case f.setting != nil:
			c.draft.Apply(change.SetPerson{Person: id, Field: f.name, Text: f.text()})
		case f.name == "also":
			var err error
			if all, err = c.alsoOf(id, f, all); err != nil {
				return err
			}
			c.draft.Apply(change.SetPersonAlso{Person: id, Also: slices.Clone(all)})
		default:
			name := selector.Fold(f.attribute)
			if _, known := values[name]; !known {
				values[name] = c.Estate.Values(id, name)
			}
			values[name] = valuesOf(f, values[name])
			c.draft.Apply(change.SetAttribute{Person: id, Attribute: f.attribute, Values: values[name]})
		}
	}
	return nil
}

// alsoOf returns the aliases that a person is to have, who has some.
func (c *changer) alsoOf(id estate.ID, f personField, has []address.Address) ([]address.Address, error) {
	var list []address.Address
	if f.operator != '=' {
		list = has
	}
	for _, text := range f.texts {
		a, err := c.freePerson(text, id)
		if err != nil {
			return nil, err
		}
		same := func(other address.Address) bool { return other.Key() == a.Key() }
		switch {
		case f.operator == '-':
			list = slices.DeleteFunc(list, same)
		case !slices.ContainsFunc(list, same):
			list = append(list, a)
		}
	}
	return list, nil
}

// valuesOf returns the values that an attribute is to have, which has some.
func valuesOf(f personField, has []string) []string {
	var list []string
	if f.operator != '=' {
		list = slices.Clone(has)
	}
	for _, text := range f.texts {
		list = slices.DeleteFunc(list, func(one string) bool { return strings.EqualFold(one, text) })
		if f.operator != '-' {
			list = append(list, text)
		}
	}
	return list
}

func newPersonRename(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "rename",
		Usage:     "give a person another address",
		ArgsUsage: "PERSON NEW",
		Description: "The old address stays as an alias, unless --forget says otherwise. Where groups list the person and\n" +
			"rules name them, the new address is written.\n\n" +
			"Example: yorvet person rename tam.weld@kelpmere.example tam.weld-oake@kelpmere.example",
		Flags: append([]cli.Flag{&cli.BoolFlag{Name: "forget", Usage: "the old address is given up"}}, changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return changeEstate(ctx, cmd, streams, func(c *changer) error {
				if cmd.Args().Len() != 2 {
					return ask.Errorf("person rename needs a person and their new address")
				}
				id, err := c.Person(cmd.Args().First())
				if err != nil {
					return err
				}
				if c.Estate.Person(id).Implied {
					return c.errImplied(id)
				}
				a, err := c.freePerson(cmd.Args().Get(1), id)
				if err != nil {
					return err
				}
				if a.Key() == c.Estate.Address(id).Key() {
					return ask.Errorf("%s has this address already", a)
				}
				c.draft.Apply(change.RenamePerson{Person: id, To: a})
				if !cmd.Bool("forget") {
					also := slices.DeleteFunc(slices.Clone(c.Estate.Person(id).Also),
						func(x address.Address) bool { return x.Key() == a.Key() })
					c.draft.Apply(change.SetPersonAlso{Person: id, Also: append(also, c.Estate.Address(id))})
				}
				c.draft.Apply(change.Renamed(c.Estate, id, a)...)
				c.noteEdge(id)
				return nil
			})
		},
	}
}

// noteEdge tells which rules of the edge name a person, as these are changed by hand.
func (c *changer) noteEdge(id estate.ID) {
	for i, rule := range c.Estate.Settings().Edge {
		selector.Atoms(rule.Selector, func(a *selector.Atom) {
			if who, ok := c.Estate.Find(a.Address); a.Kind == selector.Is && ok && who == id {
				c.note("Rule %d of the edge names %s, and stays as it is: %s", i+1, a.Address, rule.Text)
			}
		})
	}
}
