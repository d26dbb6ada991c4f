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

// A mapProblem is what is wrong in a part of a map, with its place if it is known.
type mapProblem struct {
	mark
	text string
}

// check returns what is wrong in a map. place gives the place of a part.
func (m *Map) check(name string, place func(list string, index int) mark) error {
	var errs []error
	add := func(list string, index int, problems []mapProblem) {
		for _, p := range problems {
			if p.mark == (mark{}) {
				p.mark = place(list, index)
			}
			errs = append(errs, fmt.Errorf("%s:%d:%d: %s", name, p.line, p.column, p.text))
		}
	}
	for i, p := range m.People {
		add("people", i, p.problems())
	}
	for i, g := range m.Groups {
		add("groups", i, g.problems())
	}
	return errors.Join(errs...)
}

func problemsOf(texts []string) (list []mapProblem) {
	for _, text := range texts {
		list = append(list, mapProblem{text: text})
	}
	return list
}

func (p *PeopleMap) problems() (list []mapProblem) {
	if len(p.Address) == 0 {
		list = append(list, mapProblem{text: "people need address, the name of an attribute"})
	}
	return append(list, wrongReferences("member-of", p.MemberOf)...)
}

func (g *GroupsMap) problems() (list []mapProblem) {
	if len(g.Address) == 0 {
		list = append(list, mapProblem{text: "groups need address, the name of an attribute"})
	}
	list = append(list, wrongReferences("owners", g.Owners)...)
	list = append(list, wrongReferences("moderators", g.Moderators)...)
	list = append(list, wrongReferences("members", g.Members)...)
	for _, name := range g.Owns {
		list = append(list, problemsOf(wrongWord("owns", name, "title", "about", "also"))...)
	}
	for _, name := range slices.Sorted(maps.Keys(g.Attributes)) {
		if _, err := estate.ParseAttribute(name + ": x"); err != nil {
			list = append(list, mapProblem{text: "attributes: " + err.Error()})
		}
	}
	sets := []map[string]Value{g.Set}
	for _, when := range g.SetWhen {
		sets = append(sets, when.Set)
	}
	for _, set := range sets {
		for _, name := range slices.Sorted(maps.Keys(set)) {
			value := set[name]
			list = append(list, wrongSetting(name, &value)...)
		}
	}
	for _, rules := range []struct {
		name string
		list []RuleMap
	}{{"gate", g.Gate}, {"send-as", g.SendAs}} {
		setting, _ := estate.GroupSetting(rules.name)
		for i := range rules.list {
			for _, m := range rules.list[i].said() {
				for _, text := range m.Values {
					if wrong := ruleProblem(setting, text); wrong != "" {
						list = append(list, mapProblem{m.mark, wrong})
					}
				}
			}
		}
		if _, twice := g.Set[rules.name]; twice && len(rules.list) > 0 {
			list = append(list, mapProblem{text: "set has " + rules.name + ", which stands beside it, too"})
		}
	}
	return list
}

// wrongSetting returns what is wrong with a setting that a map sets.
func wrongSetting(name string, value *Value) (list []mapProblem) {
	parse := func(string) error { return nil }
	if action, ok := strings.CutPrefix(name, "access."); ok {
		if wrong := wrongWord("set", action, estate.ActionWords()...); wrong != nil {
			return []mapProblem{{value.mark, wrong[0]}}
		}
		parse = func(text string) error {
			_, err := selector.Parse(text, selector.ForPeople)
			return err
		}
	} else {
		var known []string
		for setting := range estate.GroupSettings() {
			switch setting.Form {
			case estate.FormAddress, estate.FormAddresses, estate.FormParties, estate.FormAccess:
				// These have keys of their own.
			default:
				known = append(known, setting.Name)
			}
		}
		if wrong := wrongWord("set", name, known...); wrong != nil {
			return []mapProblem{{value.mark, wrong[0]}}
		}
		setting, _ := estate.GroupSetting(name)
		parse = func(text string) error {
			_, err := setting.Parse(text)
			return err
		}
	}
	for _, m := range value.said() {
		for _, text := range m.Values {
			if err := parse(text); err != nil {
				list = append(list, mapProblem{m.mark, fmt.Sprintf("set: %s: %s", name, reason(err))})
			}
		}
	}
	return list
}

// saysMore reports whether a map says of memberships what stands beside copy.
func (r *ReferenceMap) saysMore() bool {
	return slices.ContainsFunc(estate.MembershipSettings(), func(s estate.PartSetting[estate.Membership]) bool {
		return s.Name != "copy" && r.says(s.Name) != nil
	})
}

func wrongReferences(where string, list []ReferenceMap) (problems []mapProblem) {
	for i := range list {
		r := &list[i]
		wrong := func(at mark, texts ...string) {
			for _, text := range texts {
				problems = append(problems, mapProblem{at, text})
			}
		}
		switch {
		case r.From == "" && len(r.Address) == 0:
			wrong(mark{}, where+" needs from, the name of an attribute")
		case r.From != "" && len(r.Address) > 0:
			wrong(mark{}, where+" has from and address, expected one of them")
		case where != "members" && (r.Each != "" || r.Role != nil || r.saysMore()):
			wrong(mark{}, where+" takes from, by and address; what a membership is like stands in members")
		case r.From != "" && (r.Each != "" || r.Role != nil || r.saysMore() ||
			r.Copy != nil && r.FixedCopy() == ""):
			wrong(mark{}, where+" has from, beside which stands by or one word for copy; what else a membership is like "+
				"goes with address")
		}
		wrong(mark{}, wrongWord(where+": by", r.By, "id", "address", "key")...)
		check := func(name string, value *Value, words []string) {
			for _, m := range value.said() {
				for _, text := range m.Values {
					wrong(m.mark, wrongWord(where+": "+name, text, words...)...)
				}
			}
		}
		check("role", r.Role, roles)
		for _, s := range estate.MembershipSettings() {
			if !s.IsDate() {
				check(s.Name, r.says(s.Name), s.Known())
			}
		}
	}
	return problems
}

// roles are what somebody can be in a group.
var roles = []string{"member", "owner", "moderator"}

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
