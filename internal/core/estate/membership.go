package estate

import "strconv"

// A Membership is what an entry says apart from its member.
type Membership struct {
	Copy        Copy
	Invitations Invitations
	Paused      bool
	Since       Day
}

// membershipSettings are in the order of the columns of tables.
var membershipSettings = []PartSetting[Membership]{
	forRules(wordPart("copy", copyWords, func(m *Membership) *Copy { return &m.Copy })),
	{
		Name: "since", Form: FormDate,
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
	forRules(wordPart("invitations", invitationsWords, func(m *Membership) *Invitations { return &m.Invitations })),
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
func MembershipSettings() []PartSetting[Membership] { return membershipSettings }

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
