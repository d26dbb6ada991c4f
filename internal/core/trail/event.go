// Package trail follows messages through what mail systems say of them: which lines
// belong together, and what became of each message for every recipient.
package trail

import "time"

// A Kind is what happens to a message.
type Kind uint8

// The kinds of events.
const (
	Arrived   Kind = iota // a system has a message: its sender, by which login, which Message-ID, how big
	Refused               // it is not taken for To, or for anybody
	Dropped               // it is taken, and goes nowhere
	Held                  // it waits for somebody's approval
	Released              // it waits no more
	Expanded              // the group To is replaced by its members
	Copied                // To is to get it
	Delivered             // it is in the mailbox of To; Detail: what the mailbox said, Folder: where
	Junk                  // it is in the junk folder of To
	HandedOn              // another system has taken it for To
	Archived              // it is kept with the group To
	Collected             // it will come to To with a digest
	Deferred              // it could not be delivered to To yet
	Bounced               // it cannot be delivered to To
	Expired               // it was deferred for too long
	Told                  // a message about it was made: Child
	Done                  // the system is done with it
)

// kindWords are the names of kinds, as maps of traces write them.
var kindWords = [...]string{
	Arrived: "arrived", Refused: "refused", Dropped: "dropped", Held: "held", Released: "released", Expanded: "expanded",
	Copied: "copied", Delivered: "delivered", Junk: "junk", HandedOn: "handed-on", Archived: "archived",
	Collected: "digest", Deferred: "deferred", Bounced: "bounced", Expired: "expired", Told: "told", Done: "done",
}

// String returns the name of a kind.
func (k Kind) String() string { return kindWords[k] }

// KindWords returns the names of all kinds.
func KindWords() []string { return kindWords[:] }

// KindOf returns the kind with a name.
func KindOf(word string) (Kind, bool) {
	for k, w := range kindWords {
		if w == word {
			return Kind(k), true
		}
	}
	return 0, false
}

// An Event is what one line of a log says. What it does not say is empty. Queue, Message,
// Detail, Child and About may be parts of larger texts, such as those of a whole log: what is
// kept of them is copied. The others are kept as they are.
type Event struct {
	Time    int64 // milliseconds since 1970 (UTC); 0: unknown
	Kind    Kind
	Host    string // the machine that says so
	Queue   string // its name of the message while it has it
	Message string // Message-ID without angle brackets (RFC 5322, section 3.6.4)
	From    string // sender of the envelope; "<>": nobody (RFC 5321, section 4.5.5)
	To      string
	Group   string // the address that was written, where To stands in for it
	Login   string // who logged in to send it
	Client  string // the machine that sent it here
	Next    string // the machine that it went on to
	Folder  string
	Status  string // RFC 3463
	Detail  string
	Child   string // the queue name of the message that was made about it (Told)
	About   string // the queue name of the message that this one is about (Arrived)
	Size    int64  // bytes
}

// At returns a time of an event or a story, in a time zone; the zero Time where it is 0.
func At(milliseconds int64, zone *time.Location) time.Time {
	if milliseconds == 0 {
		return time.Time{}
	}
	return time.UnixMilli(milliseconds).In(zone)
}
