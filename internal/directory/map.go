package directory

import (
	"context"
	"embed"
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/yamlfile"
)

// A Map says which attributes of a source become what. docs/import.md describes
// its form.
type Map struct {
	Version  int         `yaml:"yorvet-map"`
	Encoding string      `yaml:"encoding"` // of a table (IANA character sets); "": UTF-8, or UTF-16 by its mark
	Heading  int         `yaml:"heading"`  // the line of a table with the names of the columns; 0: found out
	Sheet    string      `yaml:"sheet"`    // of a workbook; "": the first
	People   []PeopleMap `yaml:"people"`
	Groups   []GroupsMap `yaml:"groups"`

	classesOnly bool            // Match asks for objectClass alone, everywhere
	optional    map[string]bool // names, in lower case, that a source need not have
	isBuiltIn   bool            // it comes with the program
}

// IsBuiltIn reports whether a map comes with the program.
func (m *Map) IsBuiltIn() bool { return m.isBuiltIn }

// A PeopleMap is about the entries that are people.
type PeopleMap struct {
	Match      condition                `yaml:"match"`
	Records    string                   `yaml:"records"` // of JSON: the path of the list that they stand in
	ID         Names                    `yaml:"id"`      // by which others refer to them, where the format has no such thing
	Address    Names                    `yaml:"address"` // the first value is the main address
	Also       Names                    `yaml:"also"`
	Name       Names                    `yaml:"name"`
	Mailbox    *MailboxMap              `yaml:"mailbox"`
	Attributes map[string]attributeName `yaml:"attributes"` // attributes by the name of the attribute
	Others     bool                     `yaml:"others"`     // all attributes that nothing else takes are attributes
	Key        Names                    `yaml:"key"`        // by which groups refer to somebody, apart from the identifier
	MemberOf   []ReferenceMap           `yaml:"member-of"`
	Classes    []string                 `yaml:"classes"` // values of objectClass for what is written out

	attributes []estate.Attribute // Attributes in order: the names, and as values the attributes
}

// A MailboxMap says which values of an attribute mean which state.
type MailboxMap struct {
	From   string   `yaml:"from"`
	Open   []string `yaml:"open"`
	Full   []string `yaml:"full"`
	Closed []string `yaml:"closed"`
	None   []string `yaml:"none"`

	Optional bool `yaml:"optional"`
}

// A GroupsMap is about the entries that are groups.
type GroupsMap struct {
	Match      condition        `yaml:"match"`
	Records    string           `yaml:"records"`
	ID         Names            `yaml:"id"`
	RowsBy     string           `yaml:"rows-by"` // records with one value of this attribute are one group
	Address    Names            `yaml:"address"`
	Also       Names            `yaml:"also"`
	Title      Names            `yaml:"title"`
	About      Names            `yaml:"about"`
	Owners     []ReferenceMap   `yaml:"owners"`
	Moderators []ReferenceMap   `yaml:"moderators"`
	Members    []ReferenceMap   `yaml:"members"`
	Rules      Names            `yaml:"rules"`    // LDAP URLs (RFC 4516) that pick members
	Settings   Names            `yaml:"settings"` // attributes that are called as settings of a group, and hold them
	Gate       []RuleMap        `yaml:"gate"`
	SendAs     []RuleMap        `yaml:"send-as"`
	Set        map[string]Value `yaml:"set"`
	SetWhen    []SetWhen        `yaml:"set-when"`
	Attributes map[string]Names `yaml:"attributes"`
	// Owns names those of title, about and also that a group has not got where the source
	// says nothing of them.
	Owns    []string `yaml:"owns"`
	Classes []string `yaml:"classes"`
	Entry   string   `yaml:"named-by"` // the attribute in the name of a new entry
}

// SetWhen sets settings of the groups that a filter matches.
type SetWhen struct {
	Match condition        `yaml:"match"`
	Set   map[string]Value `yaml:"set"`
}

// A ReferenceMap says how an attribute refers to people or groups. Of members it may say
// what their membership is: then Each is the path of a list of records within the record,
// or nothing for the record itself, and Address the one that it means.
type ReferenceMap struct {
	From string `yaml:"from"`
	By   string `yaml:"by"` // id (default; address where Address is said), address or key
	Copy *Value `yaml:"copy"`

	Each        string `yaml:"each"`
	Address     Names  `yaml:"address"`
	Role        *Value `yaml:"role"` // member (default), owner, moderator, or several
	Invitations *Value `yaml:"invitations"`
	Paused      *Value `yaml:"paused"`
	Since       *Value `yaml:"since"`

	Optional bool `yaml:"optional"`
}

// says returns what sets a setting of memberships, by its name; nil: nothing does.
func (r *ReferenceMap) says(name string) *Value {
	return map[string]*Value{"copy": r.Copy, "since": r.Since, "invitations": r.Invitations, "paused": r.Paused}[name]
}

// FixedCopy returns the copy that all members have who stand in the attribute, or "".
func (r *ReferenceMap) FixedCopy() string { return r.Copy.isFixed() }

// Names are the names of attributes, or texts with {attribute} in them; in the
// file one, a list, or {from: NAMES, optional: true}.
type Names []string

// UnmarshalYAML reads one text or a list of them, or keys.
func (n *Names) UnmarshalYAML(node *yaml.Node) error {
	var one string
	if node.Kind == yaml.MappingNode {
		var keys struct {
			From     Names `yaml:"from"`
			Optional bool  `yaml:"optional"`
		}
		if err := node.Load(&keys, yaml.WithKnownFields()); err != nil {
			return err
		}
		if *n = keys.From; len(keys.From) == 0 {
			return &yamlfile.Problem{Text: "this needs from, the name of an attribute"}
		}
		return nil
	}
	if node.Kind == yaml.ScalarNode {
		if err := node.Decode(&one); err != nil {
			return err
		}
		*n = Names{one}
		return nil
	}
	return node.Decode((*[]string)(n))
}

// attributeName is the name of one attribute; in the file it, or {from: NAME, optional: true}.
type attributeName string

// UnmarshalYAML reads a text, or keys.
func (a *attributeName) UnmarshalYAML(node *yaml.Node) error {
	var names Names
	if err := names.UnmarshalYAML(node); err != nil {
		return err
	}
	if len(names) != 1 {
		return &yamlfile.Problem{Text: "expected the name of one attribute"}
	}
	*a = attributeName(names[0])
	return nil
}

// optionalNames adds to a set, in lower case, the names that stand in a mapping with
// "optional: true".
func optionalNames(node *yaml.Node, set map[string]bool) {
	if node.Kind == yaml.MappingNode {
		optional := false
		for i := 0; i+1 < len(node.Content); i += 2 {
			optional = optional || node.Content[i].Value == "optional" && node.Content[i+1].Value == "true"
		}
		if optional {
			r := &reads{}
			var each string
			var texts func(n *yaml.Node, add func(...string))
			texts = func(n *yaml.Node, add func(...string)) {
				add(n.Value)
				for _, one := range n.Content {
					texts(one, add)
				}
			}
			said := func(list ...string) {
				for _, found := range placeholder.FindAllStringSubmatch(list[0], -1) {
					r.add(found[1])
				}
			}
			for i := 0; i+1 < len(node.Content); i += 2 {
				switch node.Content[i].Value {
				case "each":
					each = node.Content[i+1].Value + "."
				case "from", "address":
					texts(node.Content[i+1], r.add)
				case "when":
					var c condition
					if node.Content[i+1].Decode(&c) == nil { // an error is reported where the map is read
						r.condition(c)
					}
				case "say", "as", "otherwise":
					texts(node.Content[i+1], said)
				}
			}
			for _, name := range r.names {
				set[strings.ToLower(each+name)] = true
			}
		}
	}
	for _, one := range node.Content {
		optionalNames(one, set)
	}
}

// condition is a filter over the attributes of an entry (RFC 4515).
type condition struct{ filter selector.Filter }

func (c *condition) UnmarshalYAML(node *yaml.Node) error {
	var text string
	if err := node.Decode(&text); err != nil {
		return err
	}
	var err error
	if c.filter, err = selector.ParseColumns(text); err != nil {
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
	m.isBuiltIn = true
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
	if err := m.check(name, func(list string, index int) mark {
		line, column := yamlfile.Find(data, list, index)
		return mark{line, column}
	}); err != nil {
		return nil, err
	}
	var node yaml.Node
	if err := yaml.Load(data, &node); err != nil {
		return nil, err
	}
	m.optional = map[string]bool{}
	optionalNames(&node, m.optional)
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
		m.classesOnly = m.classesOnly && p.Records == ""
		for _, name := range slices.Sorted(maps.Keys(p.Attributes)) {
			p.attributes = append(p.attributes, estate.Attribute{Name: name, Value: string(p.Attributes[name])})
		}
	}
	for _, g := range m.Groups {
		look(g.Match)
		m.classesOnly = m.classesOnly && g.Records == ""
	}
}
