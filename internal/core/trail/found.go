package trail

import (
	"cmp"
	"slices"
	"strings"
)

// Found are messages that were asked for: all of them counted, and as many kept as there
// is room for, those with trouble first.
type Found struct {
	Messages    int
	Recipients  int // a message without any that is known counts as none
	Fates       [len(fateWords)]int
	Began       int64 // when the first line was written of any of them, as in Event
	Ended       int64
	Unbegun     int // messages whose beginning was not seen
	Unended     int // messages whose end was not seen
	Stories     []*Story
	LeftOut     int // messages that are not kept
	mostKept    int
	mostTrouble int
}

// NewFound returns an empty Found with room for so many messages, and for as many again
// that have trouble.
func NewFound(room int) *Found { return &Found{mostKept: room, mostTrouble: room} }

// Add adds a message.
func (f *Found) Add(s *Story) {
	f.Messages++
	for i := range s.Recipients {
		f.Recipients++
		f.Fates[s.Recipients[i].Fate]++
	}
	if s.Began != 0 && (f.Began == 0 || s.Began < f.Began) {
		f.Began = s.Began
	}
	f.Ended = max(f.Ended, s.Ended)
	switch {
	case s.Whole:
	case s.begun:
		f.Unended++
	default:
		f.Unbegun++
	}
	switch {
	case f.mostKept > 0:
		f.mostKept--
		f.Stories = append(f.Stories, s)
	case f.mostTrouble > 0 && s.Troubled():
		f.mostTrouble--
		f.Stories = append(f.Stories, s)
	default:
		f.LeftOut++
	}
}

// Sort puts the messages that are kept in the order in which they began.
func (f *Found) Sort() {
	slices.SortStableFunc(f.Stories, func(a, b *Story) int {
		return cmp.Or(cmp.Compare(a.Began, b.Began), strings.Compare(a.Message, b.Message))
	})
}

// Troubled reports whether somebody did not get the message, or not where they look.
func (s *Story) Troubled() bool {
	return len(s.Recipients) == 0 || slices.ContainsFunc(s.Recipients, func(r Recipient) bool { return !r.Fate.Good() })
}

// Good reports whether a fate is what a sender hopes for.
func (f Fate) Good() bool {
	switch f {
	case Passed, InDigest, InArchive, InMailbox:
		return true
	}
	return false
}

// InName are messages in the name of an address, and those that came back.
type InName struct {
	Sent    []*Story
	Answers []*Story // from somebody it had been written to before
	Others  int      // messages to the address from anybody else
}

// NewInName tells messages in the name of addresses that is is true of from answers to them,
// by sender and recipient: logs do not hold what a message refers to. The stories are in the
// order in which they began.
func NewInName(stories []*Story, is func(string) bool) *InName {
	n := &InName{}
	written := map[string]bool{}
	for _, s := range stories {
		switch {
		case is(s.From):
			n.Sent = append(n.Sent, s)
			for _, r := range s.Recipients {
				written[strings.ToLower(r.Address)] = true
			}
		case written[strings.ToLower(s.From)]:
			n.Answers = append(n.Answers, s)
		default:
			n.Others++
		}
	}
	return n
}
