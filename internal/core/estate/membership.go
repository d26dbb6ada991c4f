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
	Form Form // FormWord, FormFlag or, for a date, FormText

	text func(m *Membership) string
	set  func(m *Membership, text string) error
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
	},
}

// MembershipSettings returns what memberships say, in the order of the columns of tables.
func MembershipSettings() []MembershipSetting { return membershipSettings }

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

func membershipWord[T ~uint8](name string, words []string, field func(*Membership) *T) MembershipSetting {
	return MembershipSetting{
		Name: name, Form: FormWord,
		text: func(m *Membership) string { return words[*field(m)] },
		set: func(m *Membership, text string) error {
			i, err := ParseWord(words, text)
			if err == nil {
				*field(m) = T(i)
			}
			return err
		},
	}
}
