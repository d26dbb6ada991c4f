package trail

import (
	"slices"
	"strings"
)

// A Query says which messages are asked for. What it does not say holds of all.
type Query struct {
	From  func(address string) bool
	To    func(address string) bool // of a recipient, or of a group that was written to
	Since int64                     // as in Event
	Until int64                     // not any more
	Fates []Fate                    // one recipient at least, of those who are asked for, has one of them
	// Missed is true of groups whose messages are asked for, too, where To is not among their
	// recipients; nil: none are.
	Missed func(address string) bool
	// Message is a Message-ID, with or without angle brackets, or a queue name.
	Message string
	// In is true of addresses in whose name somebody writes: messages from them, and
	// answers to those.
	In func(address string) bool
}

// Matches reports whether a message is asked for.
func (q *Query) Matches(s *Story) bool {
	switch {
	case q.Since != 0 && s.Ended < q.Since, q.Until != 0 && s.Began >= q.Until:
		return false
	case q.From != nil && !q.From(s.From):
		return false
	case q.Message != "" && !s.is(q.Message):
		return false
	case q.To != nil && !s.reaches(q.To):
		if q.Missed == nil || len(q.Fates) > 0 || !slices.ContainsFunc(s.Addressed(), q.Missed) {
			return false
		}
	case q.In != nil && !q.In(s.From) && !s.reaches(q.In):
		return false
	}
	if len(q.Fates) == 0 {
		return true
	}
	// What became of it for those who were asked about: all, where it was written to a group.
	all := q.To == nil || slices.ContainsFunc(s.Expanded, q.To)
	return slices.ContainsFunc(s.Recipients, func(r Recipient) bool {
		return slices.Contains(q.Fates, r.Fate) && (all || q.To(r.Address) || r.Group != "" && q.To(r.Group))
	})
}

// is reports whether a message has a name.
func (s *Story) is(name string) bool {
	bare := strings.TrimSuffix(strings.TrimPrefix(name, "<"), ">")
	return s.Message == bare || slices.ContainsFunc(s.entries, func(one entry) bool { return one.queue == name })
}

// reaches reports whether a message is for an address that a function is true of.
func (s *Story) reaches(of func(string) bool) bool {
	return slices.ContainsFunc(s.Recipients, func(r Recipient) bool {
		return of(r.Address) || r.Group != "" &&
			of(r.Group)
	}) ||
		slices.ContainsFunc(s.Expanded, of)
}
