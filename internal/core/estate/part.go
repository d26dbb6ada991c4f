package estate

// A PartSetting is one thing that a membership or a person says. What reads, writes, compares and tells them walks
// over all of them: MembershipSettings, PersonSettings.
type PartSetting[T Membership | Person] struct {
	Name string
	Form Form // FormWord, FormFlag, FormText, or FormDate
	// Words are all of FormWord, by number; the empty one stands for not given.
	Words   []string
	Default string // what holds where nothing is said
	Rules   bool   // of memberships: a rule among the members takes it, too
	Asked   bool   // of people: filters ask about it

	text func(part *T) string
	set  func(part *T, text string) error
	none func(part *T)
}

// IsDate reports whether it is a date.
func (s *PartSetting[T]) IsDate() bool { return s.Form == FormDate }

// Known returns the words that it can be set to; a text or a date has none.
func (s *PartSetting[T]) Known() []string {
	switch {
	case s.Form == FormFlag:
		return []string{"true", "false"}
	case s.Form == FormWord && s.Words[0] == "":
		return s.Words[1:]
	}
	return s.Words
}

// Scalar is the form of the scalar that holds it in YAML: FormFlag or FormText.
func (s *PartSetting[T]) Scalar() Form {
	if s.Form == FormFlag {
		return FormFlag
	}
	return FormText
}

// Text returns what a part says, as it is written; "" where it says nothing, or the default.
func (s *PartSetting[T]) Text(part T) string {
	if text := s.text(&part); text != s.Default {
		return text
	}
	return ""
}

// Holds returns what holds for a part, whether it says so or not: Text, or else the default.
func (s *PartSetting[T]) Holds(part T) string { return s.text(&part) }

// Set has a part say what a text says. An error is a *ValueError, and the part says what it said.
func (s *PartSetting[T]) Set(part *T, text string) error { return s.set(part, text) }

// Reset has a part say nothing of it.
func (s *PartSetting[T]) Reset(part *T) { s.none(part) }

// wordPart is a setting that is one of some words.
func wordPart[T Membership | Person, W ~uint8](name string, words []string, field func(*T) *W) PartSetting[T] {
	return PartSetting[T]{
		Name: name, Form: FormWord, Words: words, Default: words[0],
		text: func(part *T) string { return words[*field(part)] },
		set: func(part *T, text string) error {
			i, err := ParseWord(words, text)
			if err == nil {
				*field(part) = W(i)
			}
			return err
		},
		none: func(part *T) { *field(part) = 0 },
	}
}

// forRules has rules among the members take a setting, too.
func forRules(s PartSetting[Membership]) PartSetting[Membership] {
	s.Rules = true
	return s
}

// personSettings are in the order in which they are written.
var personSettings = []PartSetting[Person]{
	{
		Name: "name", Form: FormText, Asked: true,
		text: func(p *Person) string { return p.Name },
		set: func(p *Person, text string) error {
			p.Name = text
			return nil
		},
		none: func(p *Person) { p.Name = "" },
	},
	wordPart("mailbox", mailboxWords, func(p *Person) *MailboxState { return &p.Mailbox }),
}

// PersonSettings returns what is said of people apart from their addresses and attributes, in the order in which it is
// written.
func PersonSettings() []PartSetting[Person] { return personSettings }

// PersonSetting returns the setting of a name, and whether there is one.
func PersonSetting(name string) (*PartSetting[Person], bool) {
	for i := range personSettings {
		if personSettings[i].Name == name {
			return &personSettings[i], true
		}
	}
	return nil, false
}
