package estate

import "strconv"

// A Membership is what an entry says besides its member.
type Membership struct {
	Copy        Copy
	Invitations Invitations
	Paused      bool
	Since       Day
}

// A MembershipSetting is one thing that a membership says. What reads, writes, compares and tells memberships walks
// over all of them.
type MembershipSetting struct {
	Name string
	Form Form // FormWord, FormFlag or FormText: a date
	// Words are all of FormWord, by number; the empty one stands for not given.
	Words []string
	Rules bool // a rule among the members takes it, too

	text func(m *Membership) string
	set  func(m *Membership, text string) error
	none func(m *Membership)
}

// membershipSettings are in the order of the columns of tables.
var membershipSettings = []MembershipSetting{
	membershipWord("copy", copyWords, func(m *Membership) *Copy { return &m.Copy }),
	{
		Name: "since", Form: FormText,
		text: func(m *Membership) string { return m.Since.String() },
		set: func(m *Membership, text string) error {
			day, err := ParseDay(text)
			if err != nil {
				return &ValueError{Text: err.Error()}
			}
			m.Since = day
			return nil
		},
		none: func(m *Membership) { m.Since = 0 },
	},
	membershipWord("invitations", invitationsWords, func(m *Membership) *Invitations { return &m.Invitations }),
	{
		Name: "paused", Form: FormFlag,
		text: func(m *Membership) string {
			if m.Paused {
				return strconv.FormatBool(true)
			}
			return ""
		},
		set: func(m *Membership, text string) (err error) {
			m.Paused, err = ParseFlag(text, m.Paused)
			return err
		},
		none: func(m *Membership) { m.Paused = false },
	},
}

// MembershipSettings returns what memberships say, in the order of the columns of tables.
func MembershipSettings() []MembershipSetting { return membershipSettings }

// IsDate reports whether it is a date.
func (s *MembershipSetting) IsDate() bool { return s.Form == FormText }

// Known returns the words that it can be set to; a date has none.
func (s *MembershipSetting) Known() []string {
	switch s.Form {
	case FormWord:
		return s.Words[1:]
	case FormFlag:
		return []string{"true", "false"}
	}
	return nil
}

// Scalar is the form of the scalar that holds it in YAML: FormFlag or FormText.
func (s *MembershipSetting) Scalar() Form {
	if s.Form == FormFlag {
		return FormFlag
	}
	return FormText
}

// Text returns what a membership says, as it is written; "" where it says nothing.
func (s *MembershipSetting) Text(m Membership) string { return s.text(&m) }

// Set has a membership say what a text says. An error is a *ValueError,
// and the membership says what it said.
func (s *MembershipSetting) Set(m *Membership, text string) error { return s.set(m, text) }

// Reset has a membership say nothing of it.
func (s *MembershipSetting) Reset(m *Membership) { s.none(m) }

func membershipWord[T ~uint8](name string, words []string, field func(*Membership) *T) MembershipSetting {
	return MembershipSetting{
		Name: name, Form: FormWord, Words: words, Rules: true,
		text: func(m *Membership) string { return words[*field(m)] },
		set: func(m *Membership, text string) error {
			i, err := ParseWord(words, text)
			if err == nil {
				*field(m) = T(i)
			}
			return err
		},
		none: func(m *Membership) { *field(m) = 0 },
	}
}

// Says returns what a membership says, for people: the words that were chosen, then dates and flags.
func (m Membership) Says() (parts []string) {
	for _, chosen := range []bool{true, false} {
		for _, s := range membershipSettings {
			switch text := s.Text(m); {
			case text == "" || chosen != (s.Form == FormWord):
			case s.Form == FormFlag:
				parts = append(parts, s.Name)
			default:
				parts = append(parts, s.Name+" "+text)
			}
		}
	}
	return parts
}
