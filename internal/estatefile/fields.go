package estatefile

import (
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/selector"
)

// A shape is what the value of a field looks like in YAML. In a table all are
// cells, and lists are separated by semicolons.
type shape uint8

const (
	oneText shape = iota
	oneBool
	oneNumber
	manyTexts
)

// item is one value, or one of a list, as text with its place.
type item struct {
	text  string
	place estate.Place
}

// groupField is a field of a group whose value is text or a list of texts.
type groupField struct {
	name  string
	shape shape
	set   func(l *loader, s *groupSpec, it item) // for a list: with each item
}

// groupFields are the fields that YAML and tables share, in the order of the
// documentation. YAML has members and access besides.
var groupFields = []groupField{
	{"address", oneText, func(l *loader, s *groupSpec, it item) {
		s.group.Place = it.place
		s.group.Address, _ = l.parseAddress(it.text, it.place)
	}},
	{"also", manyTexts, func(l *loader, s *groupSpec, it item) {
		if a, ok := l.parseAddress(it.text, it.place); ok {
			s.group.Also = append(s.group.Also, a)
			s.alsoPlaces = append(s.alsoPlaces, it.place)
		}
	}},
	{"title", oneText, func(_ *loader, s *groupSpec, it item) { s.group.Title = it.text }},
	{"about", oneText, func(_ *loader, s *groupSpec, it item) { s.group.About = it.text }},
	{"kind", oneText, func(l *loader, s *groupSpec, it item) { setWord(l, &s.group.Kind, it, estate.KindWords) }},
	{"owners", manyTexts, func(l *loader, s *groupSpec, it item) { s.relate(l, "owner", it) }},
	{"moderators", manyTexts, func(l *loader, s *groupSpec, it item) { s.relate(l, "moderator", it) }},
	{"copy", oneText, func(l *loader, s *groupSpec, it item) { setWord(l, &s.group.Copy, it, estate.CopyWords) }},
	{"joiners", oneText, func(l *loader, s *groupSpec, it item) { setWord(l, &s.group.Joiners, it, estate.CopyWords) }},
	{"outside-copy", oneText, func(l *loader, s *groupSpec, it item) {
		setWord(l, &s.group.OutsideCopy, it, estate.CopyWords)
	}},
	{"invitations", oneText, func(l *loader, s *groupSpec, it item) {
		setWord(l, &s.group.Invitations, it, estate.InvitationsWords)
	}},
	{"welcome", oneBool, func(l *loader, s *groupSpec, it item) { s.group.NoWelcome = !l.parseBool(it, true) }},
	{"echo", oneBool, func(l *loader, s *groupSpec, it item) { s.group.NoEcho = !l.parseBool(it, true) }},
	{"gate", manyTexts, func(l *loader, s *groupSpec, it item) {
		if rule, ok := l.parseRule(it.text, estate.VerdictWords, selector.ForMessages, it.place); ok {
			if l.tooMany(len(s.group.Gate), it) {
				return
			}
			verdict, _ := estate.WordIndex[estate.Verdict](estate.VerdictWords, rule.Head)
			s.group.Gate = append(s.group.Gate, estate.GateRule{
				Verdict: verdict, Selector: rule.Selector, Because: rule.Because, Text: rule.Text, Place: it.place})
		}
	}},
	{"tell-held", oneText, func(l *loader, s *groupSpec, it item) { setWord(l, &s.group.TellHeld, it, estate.AudienceWords) }},
	{"voice", manyTexts, func(l *loader, s *groupSpec, it item) {
		if rule, ok := l.parseRule(it.text, estate.VoiceWords[1:], selector.ForPeople, it.place); ok {
			if l.tooMany(len(s.group.Voice), it) {
				return
			}
			voice, _ := estate.WordIndex[estate.Voice](estate.VoiceWords, rule.Head)
			s.group.Voice = append(s.group.Voice, estate.VoiceRule{Voice: voice, Selector: rule.Selector, Text: rule.Text, Place: it.place})
		}
	}},
	{"voice-proof", oneText, func(l *loader, s *groupSpec, it item) { setWord(l, &s.group.VoiceProof, it, estate.ProofWords) }},
	{"replies-as", oneText, func(l *loader, s *groupSpec, it item) { setWord(l, &s.group.RepliesAs, it, estate.RepliesAsWords) }},
	{"replies-to", oneText, func(l *loader, s *groupSpec, it item) { setWord(l, &s.group.RepliesTo, it, estate.RepliesToWords) }},
	{"subject-tag", oneText, func(_ *loader, s *groupSpec, it item) { s.group.SubjectTag = it.text }},
	{"pause-after", oneNumber, func(l *loader, s *groupSpec, it item) {
		n, err := strconv.Atoi(it.text)
		if err != nil || n < 1 {
			l.fail(it.place, "expected a whole number of bounces from 1 up, not "+quote(it.text), "")
		}
		s.group.PauseAfter = n
	}},
	{"managed-in", oneText, func(_ *loader, s *groupSpec, it item) { s.group.ManagedIn = it.text }},
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
	s.group.Given = append(s.group.Given, estate.Given{Setting: field.name, Place: place})
	if field.name == "gate" {
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
		s.group.Access[action] = estate.AccessRule{Selector: rule.Selector, Text: rule.Text, Place: it.place}
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
	facts      []estate.Fact
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

func (s *personSpec) setMailbox(l *loader, it item) {
	setWord(l, &s.person.Mailbox, it, estate.MailboxWords)
}

// checkFactName reports whether a fact may have that name.
func (l *loader) checkFactName(name string, place estate.Place) bool {
	switch selector.Fold(name) {
	case "address", "name":
		l.fail(place, "a fact cannot be called "+quote(name)+": filters mean the person's own by that", "")
		return false
	case "":
		l.fail(place, "a fact has no name", "")
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
	l.b.AddPerson(s.person, s.facts, s.alsoPlaces)
}

// The fields of a membership that stands on its own, and those of an entry in a
// group.
var (
	membershipFields = []string{"group", "address", "copy", "since", "invitations", "paused"}
	entryFields      = []string{"address", "where", "everyone", "copy", "since", "invitations", "paused"}
	personFields     = []string{"address", "name", "also", "mailbox", "facts"}
)

// setMembership sets what a membership says besides its group and member.
func (l *loader) setMembership(m *estate.Membership, name string, it item) {
	switch name {
	case "copy":
		setWord(l, &m.Copy, it, estate.CopyWords)
	case "invitations":
		setWord(l, &m.Invitations, it, estate.InvitationsWords)
	case "paused":
		m.Paused = l.parseBool(it, false)
	case "since":
		day, err := estate.ParseDay(it.text)
		if err != nil {
			l.fail(it.place, err.Error(), "")
		}
		m.Since = day
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
func (l *loader) parseBool(it item, otherwise bool) bool {
	switch it.text {
	case "true", "True", "TRUE":
		return true
	case "false", "False", "FALSE":
		return false
	}
	l.fail(it.place, "expected true or false, not "+quote(it.text), "")
	return otherwise
}

// setWord sets a setting to one of its words.
func setWord[T ~uint8](l *loader, to *T, it item, words []string) {
	value, ok := estate.WordIndex[T](words, it.text)
	if !ok {
		l.fail(it.place, "expected "+orList(words)+", not "+quote(it.text), nearest.Word(it.text, words))
		return
	}
	*to = value
}

// orList lists the words of a setting as "a, b or c".
func orList(words []string) string {
	if words[0] == "" {
		words = words[1:]
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

func quote(s string) string {
	const most = 60
	if len(s) > most {
		return strconv.Quote(s[:most]) + "..."
	}
	return strconv.Quote(s)
}
