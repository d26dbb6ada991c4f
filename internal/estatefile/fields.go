package estatefile

import (
	"errors"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/selector"
)

// item is one value, or one of a list, as text with its place.
type item struct {
	text  string
	place estate.Place
}

// groupField is a field of a group that YAML and tables share: a setting. YAML has
// members, access and accept as well.
type groupField struct {
	*estate.Setting
	set func(l *loader, s *groupSpec, it item) // for a list: with each item
}

// groupFields are the settings of a group but those of access, in the order of the
// documentation.
var groupFields = func() []groupField {
	var list []groupField
	for setting := range estate.GroupSettings() {
		if setting.Form != estate.FormAccess {
			list = append(list, groupField{setting, reading(setting)})
		}
	}
	return list
}()

// reading returns how the value of a setting is read, by its form.
func reading(setting *estate.Setting) func(l *loader, s *groupSpec, it item) {
	take := func(s *groupSpec, it item, v estate.Value) {
		v.Place = it.place
		setting.Set(&s.group, v)
	}
	switch setting.Form {
	case estate.FormRules:
		return func(l *loader, s *groupSpec, it item) {
			rule, ok := l.parseRule(it.text, setting.Heads, setting.Scope, it.place)
			if ok && !l.tooMany(len(setting.Texts(nil, &s.group)), it) {
				take(s, it, estate.Value{Rule: rule})
			}
		}
	case estate.FormSelector:
		return func(l *loader, s *groupSpec, it item) {
			v, err := setting.Parse(it.text)
			if bad := (*estate.ValueError)(nil); errors.As(err, &bad) {
				l.failValue(err, setting.Name, it)
				return
			}
			if rule, ok := l.parseRule(it.text, nil, setting.Scope, it.place); ok {
				v.Rule = rule
				take(s, it, v)
			}
		}
	case estate.FormAddresses:
		return func(l *loader, s *groupSpec, it item) {
			if a, ok := l.parseAddress(it.text, it.place); ok {
				take(s, it, estate.Value{Address: a})
				s.alsoPlaces = append(s.alsoPlaces, it.place)
			}
		}
	case estate.FormParties:
		role := strings.TrimSuffix(setting.Name, "s") // owner, moderator
		return func(l *loader, s *groupSpec, it item) { s.relate(l, role, it) }
	}
	return func(l *loader, s *groupSpec, it item) {
		v, err := setting.Parse(it.text)
		l.failValue(err, setting.Name, it)
		take(s, it, v)
	}
}

// failValue notes that an item is no value of a setting, if err says so.
func (l *loader) failValue(err error, setting string, it item) {
	if err == nil {
		return
	}
	var bad *estate.ValueError
	if errors.As(err, &bad) {
		l.fail(it.place, setting+": "+bad.Text, bad.Nearest)
	}
}

// maxRules is how many rules a list of them has at most.
const maxRules = 500

// tooMany reports whether a list of rules is full, which is an error of each rule
// beyond.
func (l *loader) tooMany(rules int, it item) bool {
	if rules < maxRules {
		return false
	}
	l.fail(it.place, "this is one rule too many, expected "+strconv.Itoa(maxRules)+" in a list at most", "")
	return true
}

// give notes that a group has a setting of its own.
func (s *groupSpec) give(field groupField, place estate.Place) {
	s.group.Given = append(s.group.Given, estate.Given{Setting: field.Name, Place: place})
	if field.Name == "gate" {
		s.group.Gate = []estate.GateRule{} // even an empty gate replaces the default
	}
}

// relate adds an owner or moderator.
func (s *groupSpec) relate(l *loader, role string, it item) {
	if a, ok := l.parseAddress(it.text, it.place); ok {
		s.relations = append(s.relations, relation{role: role, address: a, place: it.place})
	}
}

// setAccess sets one rule of the access setting.
func (s *groupSpec) setAccess(l *loader, action estate.Action, it item) {
	if rule, ok := l.parseRule(it.text, nil, selector.ForPeople, it.place); ok {
		s.group.Access[action] = estate.SelectorRule{Selector: rule.Selector, Text: rule.Text, Place: it.place}
	}
}

// finish checks that a group has what it needs.
func (s *groupSpec) finish(l *loader, place estate.Place) {
	if s.group.Place == (estate.Place{}) {
		s.group.Place = place
		l.fail(place, "the group has no address, expected one", "")
	}
	l.specs = append(l.specs, s)
}

// personSpec is a person as read.
type personSpec struct {
	person     estate.Person
	alsoPlaces []estate.Place
	attributes []estate.Attribute
}

func (s *personSpec) setAddress(l *loader, it item) {
	s.person.Place = it.place
	s.person.Address, _ = l.parseAddress(it.text, it.place)
}

func (s *personSpec) addAlso(l *loader, it item) {
	if a, ok := l.parseAddress(it.text, it.place); ok {
		s.person.Also = append(s.person.Also, a)
		s.alsoPlaces = append(s.alsoPlaces, it.place)
	}
}

func (s *personSpec) set(l *loader, setting *estate.PartSetting[estate.Person], it item) {
	l.failValue(setting.Set(&s.person, strings.Clone(it.text)), setting.Name, it)
}

// checkAttributeName reports whether an attribute may have that name.
func (l *loader) checkAttributeName(name string, place estate.Place) bool {
	switch selector.Fold(name) {
	case "address", "name":
		l.fail(place, "an attribute cannot be called "+quote(name)+": filters mean the person's own by that", "")
		return false
	case "":
		l.fail(place, "an attribute has no name", "")
		return false
	}
	return true
}

// finish adds the person to the estate.
func (s *personSpec) finish(l *loader, place estate.Place) {
	if s.person.Place == (estate.Place{}) {
		s.person.Place = place
		l.fail(place, "the person has no address, expected one", "")
	}
	l.b.AddPerson(s.person, s.attributes, s.alsoPlaces)
}

// The fields of a membership that stands on its own, and those of an entry in a
// group.
var (
	membershipFields = append([]string{"group", "address"}, membershipNames()...)
	entryFields      = append([]string{"address", "where", "everyone"}, membershipNames()...)
	personFields     = append(personColumns(), "attributes")
)

// The words of rules, which there are many of, are at hand.
var (
	actionWords  = estate.ActionWords()
	edgeVerdicts = []string{estate.Refuse.String(), estate.Drop.String()}
)

// personColumns returns what is said of a person apart from attributes, in the order of the columns of tables.
func personColumns() []string {
	names := []string{"address"}
	for _, s := range estate.PersonSettings() {
		names = append(names, s.Name)
	}
	return slices.Insert(names, 2, "also")
}

func membershipNames() (names []string) {
	for _, s := range estate.MembershipSettings() {
		names = append(names, s.Name)
	}
	return names
}

// setMembership sets what a membership says apart from its group and member.
func (l *loader) setMembership(m *estate.Membership, name string, it item) {
	for _, s := range estate.MembershipSettings() {
		if s.Name == name {
			l.failValue(s.Set(m, it.text), name, it)
		}
	}
}

// addMembership adds a membership that names its group.
func (l *loader) addMembership(group, member item, m estate.Membership) {
	id, ok := l.findGroup(group)
	if !ok {
		return
	}
	if a, ok := l.parseAddress(member.text, member.place); ok {
		l.b.AddEntry(id, l.b.Refer(a, id, "member", member.place), m, member.place)
	}
}

// findGroup returns the group that a membership names.
func (l *loader) findGroup(it item) (estate.ID, bool) {
	a, ok := l.parseAddress(it.text, it.place)
	if !ok {
		return 0, false
	}
	id, ok := l.b.Find(a)
	switch {
	case !ok:
		l.fail(it.place, "there is no group "+quote(it.text)+", expected the address of one", l.b.NearestGroup(it.text))
	case !l.b.IsGroup(id):
		l.fail(it.place, quote(it.text)+" is a person, expected the address of a group", "")
		return 0, false
	}
	return id, ok
}

// parseBool reads true or false. otherwise is returned for anything else.
func (l *loader) parseBool(setting string, it item, otherwise bool) bool {
	flag, err := estate.ParseFlag(it.text, otherwise)
	l.failValue(err, setting, it)
	return flag
}

// setWord sets something to one of the words of a setting.
func setWord[T ~uint8](l *loader, to *T, setting string, it item, words []string) {
	i, err := estate.ParseWord(words, it.text)
	if l.failValue(err, setting, it); err == nil {
		*to = T(i)
	}
}

func quote(s string) string {
	const most = 60
	if len(s) > most {
		return strconv.Quote(s[:most]) + "..."
	}
	return strconv.Quote(s)
}
