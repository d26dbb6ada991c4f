package trail

import (
	"slices"
	"strings"
)

// A Fate is what became of a message for one recipient.
type Fate uint8

// The fates. Of two that are said of one recipient the later one holds; but a mailbox that
// has it says more than a system that took it over to bring it there.
const (
	Waiting   Fate = iota // nothing is said yet
	OnHold                // it waits for approval
	Late                  // it is deferred
	Passed                // another system has it
	InDigest              // it comes with a digest
	InArchive             // the group keeps it
	InMailbox             // it was delivered
	InJunk                // it was filed as junk
	Gone                  // it was dropped
	Rejected              // it was refused
	Failed                // it bounced
)

// fateWords are the names of fates, as they are shown and asked for.
var fateWords = [...]string{
	Waiting: "waiting", OnHold: "held", Late: "deferred", Passed: "handed on", InDigest: "digest", InArchive: "archived",
	InMailbox: "delivered", InJunk: "junk", Gone: "dropped", Rejected: "refused", Failed: "bounced",
}

// String returns the name of a fate.
func (f Fate) String() string { return fateWords[f] }

// FateWords returns the names of all fates.
func FateWords() []string { return fateWords[:] }

// FateOf returns the fate with a name.
func FateOf(word string) (Fate, bool) {
	for f, w := range fateWords {
		if w == word {
			return Fate(f), true
		}
	}
	return 0, false
}

// A Recipient is somebody that a message is for, and what became of it for them.
type Recipient struct {
	Address string
	Group   string // the address that was written, where this one stands in for it; or ""
	Fate    Fate
	Time    int64 // when that was said, as in Event
	Status  string
	Detail  string
	Folder  string
	Next    string // the machine that has it
	Tries   int    // how often it was deferred
}

// A Story is all that was said of one message.
type Story struct {
	Message    string // Message-ID, or ""
	From       string // as in Event
	Login      string
	Client     string
	Size       int64
	Recipients []Recipient
	Expanded   []string // groups that were replaced by their members
	Told       []string // queue names of messages that were made about it
	About      string   // the Message-ID of the message that this one is about, or ""
	Steps      []Event  // all that was said, where a tracker keeps it
	Whole      bool     // its beginning and its end were seen
	Began      int64    // when the first line about it was written, as in Event
	Ended      int64    // when the last one was

	written      []string       // the addresses it was written to, where they are logged
	laidOut      bool           // a group went from the recipients as members of it came: there may be more of them
	begun        bool           // somebody said that it arrived
	told         bool           // as news
	entries      []entry        // under which queue names it is known
	open         int            // how many of them are not done
	index        map[string]int // recipients, where they are many
	older, newer *Story         // in the list that it is in
	list         *storyList
	one          [1]Recipient // room: most messages have one recipient, and one name
	name         [1]entry
}

// newStory returns a story of which nothing is said yet.
func newStory() *Story {
	s := &Story{}
	s.Recipients, s.entries = s.one[:0], s.name[:0]
	return s
}

// Queues returns the names that systems had for the message.
func (s *Story) Queues() []string {
	var names []string
	for _, k := range s.entries {
		names = append(names, k.queue)
	}
	return names
}

// Addressed returns the addresses that the message was written to, as far as it is known: groups rather
// than their members.
func (s *Story) Addressed() []string {
	if s.written != nil {
		return s.originals()
	}
	var list []string
	for i := range s.Recipients {
		if r := &s.Recipients[i]; r.Group != "" {
			list = added(list, r.Group)
		} else if len(s.Expanded) == 0 {
			list = added(list, r.Address)
		}
	}
	for _, group := range s.Expanded {
		list = added(list, group)
	}
	return list
}

// originals returns the addresses that systems say the message was written to; a member that one passes
// it on for a group, stands for the group.
func (s *Story) originals() (list []string) {
	var groups map[string]string
	for i := range s.Recipients {
		if r := &s.Recipients[i]; r.Group != "" {
			if groups == nil {
				groups = map[string]string{}
			}
			groups[strings.ToLower(r.Address)] = r.Group
		}
	}
	if groups == nil {
		return s.written
	}
	for _, text := range s.written {
		if group, ok := groups[strings.ToLower(text)]; ok {
			text = group
		}
		list = added(list, text)
	}
	return list
}

// added adds an address to a list, unless it is there.
func added(list []string, address string) []string {
	if slices.ContainsFunc(list, func(other string) bool { return strings.EqualFold(other, address) }) {
		return list
	}
	return append(list, address)
}

// settled reports whether nothing more is awaited for any recipient who is known.
func (s *Story) settled() bool {
	for i := range s.Recipients {
		if f := s.Recipients[i].Fate; f == Waiting || f == OnHold || f == Late {
			return false
		}
	}
	return len(s.Recipients) > 0
}

// over reports whether nothing more is awaited: all systems have said that they are done
// with it, or, of those that never say so, something final is said of all recipients.
func (s *Story) over() bool {
	settled := s.settled() && !s.laidOut
	return !slices.ContainsFunc(s.entries, func(one entry) bool { return !one.done && (one.host.ends || !settled) })
}

// end notes that a machine is done with the message.
func (s *Story) end(h *host, queue string) {
	for i := range s.entries {
		if one := &s.entries[i]; one.host == h && one.queue == queue {
			one.done = true
		}
	}
}

// Count returns how many recipients have each fate.
func (s *Story) Count() [len(fateWords)]int {
	var counts [len(fateWords)]int
	for _, r := range s.Recipients {
		counts[r.Fate]++
	}
	return counts
}

// manyRecipients is from how many on recipients are found by an index.
const manyRecipients = 12

// recipient returns the recipient with an address; there is one after that.
func (s *Story) recipient(address string) *Recipient {
	if s.index == nil {
		for i := range s.Recipients {
			if strings.EqualFold(s.Recipients[i].Address, address) {
				return &s.Recipients[i]
			}
		}
	} else if i, ok := s.index[strings.ToLower(address)]; ok {
		return &s.Recipients[i]
	}
	s.Recipients = append(s.Recipients, Recipient{Address: address})
	switch n := len(s.Recipients); {
	case s.index != nil:
		s.index[strings.ToLower(address)] = n - 1
	case n > manyRecipients:
		s.index = make(map[string]int, 2*n)
		for i := range s.Recipients {
			s.index[strings.ToLower(s.Recipients[i].Address)] = i
		}
	}
	return &s.Recipients[len(s.Recipients)-1]
}

// fates says what events mean for their recipients.
var fates = [...]Fate{
	Refused: Rejected, Dropped: Gone, Held: OnHold, Released: Waiting, Copied: Waiting, Delivered: InMailbox, Junk: InJunk,
	HandedOn: Passed, Archived: InArchive, Collected: InDigest, Deferred: Late, Bounced: Failed,
}

// tell adds what an event says.
func (s *Story) tell(e *Event) {
	if e.Time != 0 {
		if s.Began == 0 || e.Time < s.Began {
			s.Began = e.Time
		}
		s.Ended = max(s.Ended, e.Time)
	}
	switch {
	case e.From == "":
	case s.From == "", s.From == "<>" && e.From != "<>" && s.open > 1:
		s.From = e.From
	}
	if s.Login == "" {
		s.Login = e.Login
	}
	if s.Client == "" {
		s.Client = e.Client
	}
	s.Size = max(s.Size, e.Size)
	s.begun = s.begun || e.Kind == Refused || e.Kind == Arrived
	switch {
	case e.Kind == Arrived:
		if e.To != "" {
			r := s.recipient(e.To)
			s.written = added(s.written, r.Address)
			r.Group = keep(r.Group, e.Group)
			r.Time = max(r.Time, e.Time)
		}
	case e.Kind == Expanded:
		s.expand(e.To)
	case e.Kind == Told && e.Child != "":
		s.Told = append(s.Told, strings.Clone(e.Child))
	case e.Kind == Expired:
		s.expire(e)
	case e.Kind == Told:
	case e.To == "":
		for i := range s.Recipients {
			s.Recipients[i].take(fates[e.Kind], e)
		}
	default:
		r := s.recipient(e.To)
		if r.Group == "" && !strings.EqualFold(e.Group, e.To) {
			r.Group = e.Group
		}
		if e.Kind == Refused && r.Group == "" {
			s.written = added(s.written, r.Address)
		}
		r.take(fates[e.Kind], e)
		if r.Group != "" {
			s.laidOut = s.drop(r.Group) || s.laidOut
		}
	}
}

func keep(old, now string) string {
	if old == "" {
		return now
	}
	return old
}

// expand takes a group from the recipients: its members are.
func (s *Story) expand(group string) {
	if !slices.ContainsFunc(s.Expanded, func(g string) bool { return strings.EqualFold(g, group) }) {
		s.Expanded = append(s.Expanded, group)
	}
	s.drop(group)
}

// drop takes a group for whose members something is said from the recipients, and reports whether it
// was one of them.
func (s *Story) drop(group string) bool {
	i := slices.IndexFunc(s.Recipients, func(r Recipient) bool {
		return strings.EqualFold(r.Address, group) && (r.Fate == Waiting || r.Fate == Passed)
	})
	if i < 0 {
		return false
	}
	s.Recipients = slices.Delete(s.Recipients, i, i+1)
	s.index = nil
	return true
}

// expire ends the waiting of those that a message could not be delivered to.
func (s *Story) expire(e *Event) {
	for i := range s.Recipients {
		if r := &s.Recipients[i]; r.Fate == Late || r.Fate == Waiting {
			detail := r.Detail
			r.take(Failed, e)
			r.Detail = keep(detail, e.Detail)
		}
	}
}

// take notes what was said of a recipient.
func (r *Recipient) take(fate Fate, e *Event) {
	if fate == Late {
		r.Tries++
	}
	if brings := fate == Passed || fate == Waiting; brings && r.Fate > Passed {
		return // where it went is known already
	}
	if fate == InMailbox && (r.Fate == InJunk || r.Fate == InArchive) {
		return // the mailbox says where, and who brought it says that it is there
	}
	r.Fate, r.Time, r.Status, r.Detail, r.Next = fate, e.Time, e.Status, strings.Clone(e.Detail), e.Next
	if e.Folder != "" {
		r.Folder = e.Folder
	}
}
