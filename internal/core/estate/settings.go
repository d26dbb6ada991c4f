package estate

import (
	"iter"
	"slices"
	"strconv"

	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/selector"
)

// A Form is what the value of a setting looks like.
type Form uint8

// The forms of settings.
const (
	FormText        Form = iota
	FormWord             // one of Words
	FormFlag             // true or false
	FormNumber           // whole, from 1 up
	FormSelector         // who is meant
	FormAccess           // who may do something with the group
	FormRules            // a list of rules
	FormAddress          // of the group itself
	FormAddresses        // a list of them
	FormParties          // a list of people and groups
	FormDestination      // one of Words, or an address
	FormAttributes       // a list of attributes, each as NAME: VALUE
	FormDate             // a day; no group says one
)

// IsList reports whether a value of the form is a list of texts.
func (f Form) IsList() bool {
	return f == FormRules || f == FormAddresses || f == FormParties || f == FormAttributes
}

// Affects is what a setting makes a difference to, a set of bits.
type Affects uint8

// The concerns of settings. One that concerns nobody tells people about the group.
const (
	Posting   Affects = 1 << iota // who may post, and who hears what
	Receiving                     // who gets what
	Reading                       // what a reader sees
	SendingAs                     // who writes in the group's name
	Managing                      // who may do what else with the group
	Nobody    Affects = 0
)

// A Setting is one thing that a group says about itself: everything that knows of
// settings walks over GroupSettings.
type Setting struct {
	Name    string
	Form    Form
	Words   []string       // FormWord: all of them, by number; the empty one stands for not given
	Heads   []string       // FormRules: what a rule may begin with
	Scope   selector.Scope // FormRules, FormSelector and FormAccess: what selectors may ask about
	Unit    string         // FormNumber: what is counted
	Default string         // what holds where nothing is said; "" for nothing
	Affects Affects

	text  func(*Group) string            // of one value
	texts func(*Estate, *Group) []string // of a list
	set   func(*Group, Value)
	empty func(*Group) // takes what is said away; nil where setting the zero Value does
}

// A Value is what a setting is set to: the part that its form needs.
type Value struct {
	Text    string
	Word    int // index into Words
	Flag    bool
	Number  int
	Rule    selector.Rule // one more of a list
	Address address.Address
	// Attribute is one of FormAttributes.
	Attribute Attribute
	Place     Place
}

// Texts returns what a group says as it is written, each item of a list for itself.
// Where it says nothing, or the default, there are none.
func (s *Setting) Texts(e *Estate, g *Group) []string {
	if s.Form.IsList() {
		return s.texts(e, g)
	}
	if text := s.Text(g); text != "" {
		return []string{text}
	}
	return nil
}

// Text is Texts of a setting whose value is no list; "" where the group says nothing,
// or the default.
func (s *Setting) Text(g *Group) string {
	if text := s.text(g); text != s.Default {
		return text
	}
	return ""
}

// Said returns what a group says, as it is written, also where it says the default; nil where it says nothing.
func (s *Setting) Said(e *Estate, g *Group) []string {
	given := slices.ContainsFunc(g.Given, func(one Given) bool { return one.Setting == s.Name })
	switch texts := s.Texts(e, g); {
	case texts != nil || !given:
		return texts
	case s.Form.IsList():
		return []string{}
	}
	return []string{s.text(g)}
}

// Holds returns what holds for a group, whether it says so or not: Texts, or else the
// default.
func (s *Setting) Holds(e *Estate, g *Group) []string {
	texts := s.Texts(e, g)
	switch {
	case texts != nil:
		return texts
	case s.Default != "":
		return []string{s.Default}
	}
	return nil
}

// Set sets what a group says, or adds one item to a list.
func (s *Setting) Set(g *Group, v Value) { s.set(g, v) }

// Reset takes what a group says away, so that the default holds.
func (s *Setting) Reset(g *Group) {
	g.Given = slices.DeleteFunc(slices.Clone(g.Given), func(given Given) bool { return given.Setting == s.Name })
	switch {
	case s.empty != nil:
		s.empty(g)
	case s.Form == FormFlag:
		s.set(g, Value{Flag: s.Default == "true"})
	default:
		s.set(g, Value{})
	}
}

// GroupSettings returns all settings of a group, in the order in which they are
// written: those of access last, as access.find and so on.
func GroupSettings() iter.Seq[*Setting] {
	return func(yield func(*Setting) bool) {
		for i := range groupSettings {
			if !yield(&groupSettings[i]) {
				return
			}
		}
	}
}

// GroupSetting returns the setting of a group with a name, and whether there is one.
func GroupSetting(name string) (*Setting, bool) {
	for setting := range GroupSettings() {
		if setting.Name == name {
			return setting, true
		}
	}
	return nil, false
}

var groupSettings = slices.Concat([]Setting{
	{
		Name: "address", Form: FormAddress, Affects: Posting | Receiving | Reading | SendingAs,
		text: func(g *Group) string { return g.Address.String() },
		set:  func(g *Group, v Value) { g.Address, g.Place = v.Address, v.Place },
	}, {
		Name: "also", Form: FormAddresses, Affects: Posting,
		texts: func(_ *Estate, g *Group) []string { return addressTexts(g.Also) },
		set:   func(g *Group, v Value) { g.Also = append(slices.Clip(g.Also), v.Address) },
		empty: func(g *Group) { g.Also = nil },
	},
	textSetting("title", Nobody, func(g *Group) *string { return &g.Title }),
	textSetting("about", Nobody, func(g *Group) *string { return &g.About }),
	wordSetting("kind", kindWords, "list", Posting|Receiving, func(g *Group) *Kind { return &g.Kind }),
	partySetting("owners", func(g *Group) *[]Listed { return &g.Owners }),
	partySetting("moderators", func(g *Group) *[]Listed { return &g.Moderators }),
	wordSetting("copy", copyWords, "every", Receiving, func(g *Group) *Copy { return &g.Copy }),
	wordSetting("joiners", copyWords, "", Receiving, func(g *Group) *Copy { return &g.Joiners }),
	wordSetting("outside-copy", copyWords, "", Receiving, func(g *Group) *Copy { return &g.OutsideCopy }),
	flagWords("outside-members", outsideMembersWords, Managing, func(g *Group) *bool { return &g.NoOutsideMembers }),
	wordSetting(
		"invitations",
		invitationsWords,
		"follow",
		Receiving,
		func(g *Group) *Invitations { return &g.Invitations },
	),
	flagSetting("welcome", Receiving, func(g *Group) *bool { return &g.NoWelcome }),
	flagSetting("echo", Receiving, func(g *Group) *bool { return &g.NoEcho }),
	{
		Name: "gate", Form: FormRules, Heads: verdictWords, Scope: selector.ForMessages, Default: gateDefault,
		Affects: Posting | Receiving,
		texts: func(_ *Estate, g *Group) []string {
			if g.Where("gate") == (Place{}) {
				return nil
			}
			texts := []string{}
			for _, rule := range g.Gate {
				texts = append(texts, rule.Text)
			}
			return texts
		},
		set: func(g *Group, v Value) {
			g.Gate = append(slices.Clip(g.Gate), NewGateRule(v.Rule, v.Place))
		},
		empty: func(g *Group) { g.Gate = defaultGate },
	},
	{
		Name: "notify-sender", Form: FormSelector, Scope: selector.ForMessages, Default: defaultNotify.Text, Affects: Posting,
		text: func(g *Group) string {
			if g.NotifySender.Place == (Place{}) {
				return ""
			}
			return g.NotifySender.Text
		},
		set: func(g *Group, v Value) {
			g.NotifySender = SelectorRule{Selector: v.Rule.Selector, Text: v.Rule.Text, Place: v.Place}
		},
		empty: func(g *Group) { g.NotifySender = defaultNotify },
	},
	{
		Name: "send-as", Form: FormRules, Heads: sendAsWords[1:], Scope: selector.ForPeople, Affects: SendingAs,
		texts: func(_ *Estate, g *Group) []string {
			var texts []string
			for _, rule := range g.SendAs {
				texts = append(texts, rule.Text)
			}
			return texts
		},
		set: func(g *Group, v Value) {
			sendAs, _ := WordIndex[SendAs](sendAsWords, v.Rule.Head)
			rule := SendAsRule{SendAs: sendAs, Selector: v.Rule.Selector, Text: v.Rule.Text, Place: v.Place}
			g.SendAs = append(slices.Clip(g.SendAs), rule)
		},
		empty: func(g *Group) { g.SendAs = nil },
	},
	wordSetting("send-as-proof", proofWords, "none", SendingAs, func(g *Group) *Proof { return &g.SendAsProof }),
	wordSetting("replies-as", repliesAsWords, "person", Reading, func(g *Group) *Party { return &g.RepliesAs }),
	{
		Name: "replies-to", Form: FormDestination, Words: repliesToWords, Default: "author", Affects: Reading,
		text: func(g *Group) string {
			if g.RepliesToAt.IsValid() {
				return g.RepliesToAt.String()
			}
			return repliesToWords[g.RepliesTo]
		},
		set: func(g *Group, v Value) {
			g.RepliesTo, g.RepliesToAt = Party(v.Word), v.Address
		},
	},
	textSetting("subject-tag", Reading, func(g *Group) *string { return &g.SubjectTag }),
	textSetting("footer", Reading, func(g *Group) *string { return &g.Footer }),
	textSetting("auto-answer", Reading, func(g *Group) *string { return &g.AutoAnswer }),
	{
		Name: "attributes", Form: FormAttributes, Affects: Nobody,
		texts: func(_ *Estate, g *Group) []string {
			var texts []string
			for _, a := range g.Attributes {
				texts = append(texts, a.String())
			}
			return texts
		},
		set:   func(g *Group, v Value) { g.Attributes = append(slices.Clip(g.Attributes), v.Attribute) },
		empty: func(g *Group) { g.Attributes = nil },
	},
	{
		Name: "pause-after", Form: FormNumber, Unit: "bounces", Affects: Receiving,
		text: func(g *Group) string {
			if g.PauseAfter == 0 {
				return ""
			}
			return strconv.Itoa(g.PauseAfter)
		},
		set: func(g *Group, v Value) { g.PauseAfter = v.Number },
	},
	textSetting("managed-in", Nobody, func(g *Group) *string { return &g.ManagedIn }),
}, accessSettings())

func textSetting(name string, concerns Affects, field func(*Group) *string) Setting {
	return Setting{
		Name: name, Form: FormText, Affects: concerns,
		text: func(g *Group) string { return *field(g) },
		set:  func(g *Group, v Value) { *field(g) = v.Text },
	}
}

func wordSetting[T ~uint8](
	name string,
	words []string,
	otherwise string,
	concerns Affects,
	field func(*Group) *T,
) Setting {
	return Setting{
		Name: name, Form: FormWord, Words: words, Default: otherwise, Affects: concerns,
		text: func(g *Group) string { return words[*field(g)] },
		set:  func(g *Group, v Value) { *field(g) = T(v.Word) },
	}
}

// flagWords returns a setting of two words, of which the first is the default, of a
// field that says that it is the second.
func flagWords(name string, words []string, concerns Affects, field func(*Group) *bool) Setting {
	return Setting{
		Name: name, Form: FormWord, Words: words, Default: words[0], Affects: concerns,
		text: func(g *Group) string {
			if *field(g) {
				return words[1]
			}
			return words[0]
		},
		set: func(g *Group, v Value) { *field(g) = v.Word == 1 },
	}
}

// flagSetting returns a setting that is true by default, of a field that says that
// it is not.
func flagSetting(name string, concerns Affects, not func(*Group) *bool) Setting {
	return Setting{
		Name: name, Form: FormFlag, Default: "true", Affects: concerns,
		text: func(g *Group) string { return strconv.FormatBool(!*not(g)) },
		set:  func(g *Group, v Value) { *not(g) = !v.Flag },
	}
}

// partySetting returns a setting that lists people and groups. Those are numbers,
// so that a Builder sets them: see AddOwner.
func partySetting(name string, list func(*Group) *[]Listed) Setting {
	return Setting{
		Name: name, Form: FormParties, Affects: Posting | Managing,
		texts: func(e *Estate, g *Group) []string {
			var texts []string
			for _, one := range *list(g) {
				texts = append(texts, e.Address(one.ID).String())
			}
			return texts
		},
		set:   func(*Group, Value) {},
		empty: func(g *Group) { *list(g) = nil },
	}
}

func accessSettings() []Setting {
	var list []Setting
	for action := range actions {
		list = append(list, Setting{
			Name: "access." + action.String(), Form: FormAccess, Scope: selector.ForPeople,
			Default: defaultAccess[action].Text,
			Affects: Managing,
			text: func(g *Group) string {
				if g.Access[action].Place == (Place{}) {
					return ""
				}
				return g.Access[action].Text
			},
			set: func(g *Group, v Value) {
				g.Access[action] = SelectorRule{Selector: v.Rule.Selector, Text: v.Rule.Text, Place: v.Place}
			},
			empty: func(g *Group) { g.Access[action] = defaultAccess[action] },
		})
	}
	return list
}

func addressTexts(list []address.Address) []string {
	var texts []string
	for _, a := range list {
		texts = append(texts, a.String())
	}
	return texts
}
