package directory

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/yamlfile"
)

// A Map says which attributes of a source become what. docs/import.md describes
// its form.
type Map struct {
	Version int         `yaml:"yorvet-map"`
	People  []PeopleMap `yaml:"people"`
	Groups  []GroupsMap `yaml:"groups"`

	classesOnly bool // Match asks for objectClass alone, everywhere
}

// A PeopleMap is about the entries that are people.
type PeopleMap struct {
	Match      condition         `yaml:"match"`
	Address    Names             `yaml:"address"` // the first value is the main address
	Also       Names             `yaml:"also"`
	Name       Names             `yaml:"name"`
	Mailbox    *MailboxMap       `yaml:"mailbox"`
	Attributes map[string]string `yaml:"attributes"` // attributes by the name of the attribute
	Others     bool              `yaml:"others"`     // all attributes that nothing else takes are attributes
	Key        Names             `yaml:"key"`        // by which groups refer to somebody, besides the identifier
	MemberOf   []ReferenceMap    `yaml:"member-of"`
	Classes    []string          `yaml:"classes"` // values of objectClass for what is written out

	attributes []estate.Attribute // Attributes in order: the names, and as values the attributes
}

// A MailboxMap says which values of an attribute mean which state.
type MailboxMap struct {
	From   string   `yaml:"from"`
	Open   []string `yaml:"open"`
	Full   []string `yaml:"full"`
	Closed []string `yaml:"closed"`
	None   []string `yaml:"none"`
}

// A GroupsMap is about the entries that are groups.
type GroupsMap struct {
	Match      condition        `yaml:"match"`
	Address    Names            `yaml:"address"`
	Also       Names            `yaml:"also"`
	Title      Names            `yaml:"title"`
	About      Names            `yaml:"about"`
	Owners     []ReferenceMap   `yaml:"owners"`
	Moderators []ReferenceMap   `yaml:"moderators"`
	Members    []ReferenceMap   `yaml:"members"`
	Rules      Names            `yaml:"rules"`    // LDAP URLs (RFC 4516) that pick members
	Settings   Names            `yaml:"settings"` // attributes that are called as settings of a group, and hold them
	Set        map[string]Names `yaml:"set"`
	SetWhen    []SetWhen        `yaml:"set-when"`
	// Owns names those of title, about and also that a group has not got where the source
	// says nothing of them.
	Owns    []string `yaml:"owns"`
	Classes []string `yaml:"classes"`
	Entry   string   `yaml:"named-by"` // the attribute in the name of a new entry
}

// SetWhen sets settings of the groups that a filter matches.
type SetWhen struct {
	Match condition        `yaml:"match"`
	Set   map[string]Names `yaml:"set"`
}

// A ReferenceMap says how an attribute refers to people or groups.
type ReferenceMap struct {
	From string `yaml:"from"`
	By   string `yaml:"by"` // id (default), address or key
	Copy string `yaml:"copy"`
}

// Names are the names of attributes, or texts with {attribute} in them; in the
// file one or a list.
type Names []string

// UnmarshalYAML reads one text or a list of them.
func (n *Names) UnmarshalYAML(node *yaml.Node) error {
	var one string
	if node.Kind == yaml.ScalarNode {
		if err := node.Decode(&one); err != nil {
			return err
		}
		*n = Names{one}
		return nil
	}
	return node.Decode((*[]string)(n))
}

// condition is a filter over the attributes of an entry (RFC 4515).
type condition struct{ filter selector.Filter }

func (c *condition) UnmarshalYAML(node *yaml.Node) error {
	var text string
	if err := node.Decode(&text); err != nil {
		return err
	}
	var err error
	if c.filter, err = selector.ParseFilter(text); err != nil {
		return &yamlfile.Problem{Text: err.Error()}
	}
	return nil
}

func (c condition) matches(e *Entry) bool {
	return c.filter == nil || selector.MatchFilter(c.filter, func(item *selector.Item) bool {
		found := false
		e.each(item.Attribute, func(value string) { found = found || item.Matches(value) })
		return found
	})
}

//go:embed maps/*.yaml
var builtIn embed.FS

// BuiltIn returns the map that comes with the program for a format: ldap (for
// LDIF, too), scim, table or vcard.
func BuiltIn(format string) *Map {
	data, err := builtIn.ReadFile("maps/" + format + ".yaml")
	if err != nil {
		panic(err)
	}
	m, err := ParseMap(format, data)
	if err != nil {
		panic(err)
	}
	return m
}

// mostMap is the size in bytes of a map that is read.
const mostMap = 1 << 20

// ReadMap reads a map from a file.
func ReadMap(ctx context.Context, path string) (*Map, error) {
	data, err := localfile.Read(ctx, path, mostMap)
	if err != nil {
		return nil, err
	}
	return ParseMap(path, data)
}

// ParseMap reads a map. name is for messages.
func ParseMap(name string, data []byte) (*Map, error) {
	var m Map
	if err := yamlfile.Decode(name, data, &m); err != nil {
		return nil, err
	}
	if m.Version != 1 {
		return nil, fmt.Errorf(`%s:1:1: the format version is missing, expected "yorvet-map: 1"`, name)
	}
	if err := m.check(func(list string, index int) string {
		line, column := yamlfile.Find(data, list, index)
		return fmt.Sprintf("%s:%d:%d: ", name, line, column)
	}); err != nil {
		return nil, err
	}
	m.prepare()
	return &m, nil
}

// prepare works out what is asked of every entry.
func (m *Map) prepare() {
	m.classesOnly = true
	look := func(c condition) {
		if c.filter != nil {
			selector.Items(
				c.filter,
				func(item *selector.Item) { m.classesOnly = m.classesOnly && item.Attribute == "objectclass" },
			)
		}
	}
	for i := range m.People {
		p := &m.People[i]
		look(p.Match)
		for _, name := range slices.Sorted(maps.Keys(p.Attributes)) {
			p.attributes = append(p.attributes, estate.Attribute{Name: name, Value: p.Attributes[name]})
		}
	}
	for _, g := range m.Groups {
		look(g.Match)
	}
}

// check returns what is wrong in a map. place gives the place of a part.
func (m *Map) check(place func(list string, index int) string) error {
	var errs []error
	for i, p := range m.People {
		errs = append(errs, within(place("people", i), p.problems()))
	}
	for i, g := range m.Groups {
		errs = append(errs, within(place("groups", i), g.problems()))
	}
	return errors.Join(errs...)
}

// within puts the place of a part before what is wrong in it.
func within(place string, problems []string) error {
	var errs []error
	for _, text := range problems {
		errs = append(errs, errors.New(place+text))
	}
	return errors.Join(errs...)
}

func (p *PeopleMap) problems() (list []string) {
	if len(p.Address) == 0 {
		list = append(list, "people need address, the name of an attribute")
	}
	return append(list, wrongReferences("member-of", p.MemberOf)...)
}

func (g *GroupsMap) problems() (list []string) {
	if len(g.Address) == 0 {
		list = append(list, "groups need address, the name of an attribute")
	}
	list = append(list, wrongReferences("owners", g.Owners)...)
	list = append(list, wrongReferences("moderators", g.Moderators)...)
	list = append(list, wrongReferences("members", g.Members)...)
	for _, name := range g.Owns {
		list = append(list, wrongWord("owns", name, "title", "about", "also")...)
	}
	var known []string
	for setting := range estate.GroupSettings() {
		switch setting.Form {
		case estate.FormAddress, estate.FormAddresses, estate.FormParties, estate.FormSelector:
			// These have keys of their own.
		default:
			known = append(known, setting.Name)
		}
	}
	sets := []map[string]Names{g.Set}
	for _, when := range g.SetWhen {
		sets = append(sets, when.Set)
	}
	for _, set := range sets {
		for _, name := range slices.Sorted(maps.Keys(set)) {
			if action, ok := strings.CutPrefix(name, "access."); ok {
				list = append(list, wrongWord("set", action, estate.ActionWords()...)...)
			} else {
				list = append(list, wrongWord("set", name, known...)...)
			}
		}
	}
	return list
}

func wrongReferences(where string, list []ReferenceMap) (problems []string) {
	for _, r := range list {
		if r.From == "" {
			problems = append(problems, where+" needs from, the name of an attribute")
		}
		problems = append(problems, wrongWord(where+": by", r.By, "id", "address", "key")...)
		problems = append(problems, wrongWord(where+": copy", r.Copy, estate.CopyWords()[1:]...)...)
	}
	return problems
}

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

// Attributes returns the names of all attributes that a map reads.
func (m *Map) Attributes() []string {
	var names []string
	add := func(list ...string) {
		for _, text := range list {
			for part := range strings.SplitSeq(text, "{") {
				name, _, filled := strings.Cut(part, "}")
				if strings.Contains(text, "{") && !filled || name == "" || name == "domain" {
					continue
				}
				if !slices.Contains(names, name) {
					names = append(names, name)
				}
			}
		}
	}
	conditions := func(c condition) {
		if c.filter != nil {
			selector.Items(c.filter, func(item *selector.Item) { add(item.Attribute) })
		}
	}
	references := func(list []ReferenceMap) {
		for _, r := range list {
			add(r.From)
		}
	}
	for _, p := range m.People {
		conditions(p.Match)
		add(slices.Concat(p.Address, p.Also, p.Name, p.Key)...)
		for _, attribute := range slices.Sorted(maps.Keys(p.Attributes)) {
			add(p.Attributes[attribute])
		}
		if p.Mailbox != nil {
			add(p.Mailbox.From)
		}
		references(p.MemberOf)
		if p.Others {
			return nil
		}
	}
	for _, g := range m.Groups {
		conditions(g.Match)
		add(slices.Concat(g.Address, g.Also, g.Title, g.About, g.Rules, g.Settings)...)
		references(g.Owners)
		references(g.Moderators)
		references(g.Members)
		for _, when := range g.SetWhen {
			conditions(when.Match)
		}
	}
	return names
}
