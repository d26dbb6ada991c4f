package present

import (
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

// NotFrom are the senders whose mail a recipient does not get as others' is got: gates of
// nested groups turn it away or hold it.
type NotFrom struct {
	Senders   int      `json:"senders"`             // people who may post to the group
	Of        int      `json:"of"`                  // of how many who may
	Strangers []string `json:"strangers,omitempty"` // outside, inside, or what the gate names
	Gates     []string `json:"gates"`               // the groups whose gates do it
}

// Says words it: which senders not, and by which gates.
func (f *NotFrom) Says() string { return f.text() }

// text is for behind the outcome: "not from 44 of 60 senders (nested gate of deck@...)".
func (f *NotFrom) text() string {
	var from []string
	if f.Senders > 0 {
		from = append(from, strconv.Itoa(f.Senders)+" of "+count(f.Of, "sender", "senders"))
	}
	for _, name := range f.Strangers {
		if label, ok := strangerLabels[name+" stranger"]; ok {
			name = label
		}
		from = append(from, name)
	}
	return "not from " + strings.Join(from, ", ") + " (nested " + choose(len(f.Gates), "gate", "gates") + " of " +
		shorten(f.Gates) + ")"
}

// notFrom returns for everybody who gets something of a group's mail the senders whose mail
// they do not get so.
func (n namer) notFrom(group estate.ID, list []resolve.Recipient, m resolve.Message) map[estate.ID]*NotFrom {
	found := map[estate.ID]*NotFrom{}
	postings, all := n.r.Flow(group, resolve.Message{}).Postings(m)
	if !all {
		return found
	}
	of := 0
	for _, p := range postings {
		of += p.People
	}
	for _, p := range postings {
		d := n.r.Deliver(resolve.Query{Group: group, Sender: &p.One, Message: m})
		if !slices.ContainsFunc(d.Paths, func(w resolve.Path) bool { return w.State != resolve.PathOpen }) {
			continue
		}
		now := map[estate.ID]resolve.Recipient{}
		for _, recipient := range d.Recipients() {
			now[recipient.ID] = recipient
		}
		for _, recipient := range list {
			is, ok := now[recipient.ID]
			if !n.e.IsPerson(recipient.ID) || !gotten(recipient.Outcome) || ok && gotten(is.Outcome) || is.ID == p.One.ID {
				continue
			}
			var gate string
			if at, _, hindered := d.Hindrance(d.Path(is)); ok && hindered {
				gate = n.address(at)
			}
			found[recipient.ID] = found[recipient.ID].add(p, of, gate)
		}
	}
	return found
}

func (f *NotFrom) add(p resolve.Posting, of int, gate string) *NotFrom {
	if f == nil {
		f = &NotFrom{Of: of, Gates: []string{}}
	}
	f.Senders += p.People
	if p.Stranger != "" {
		f.Strangers = append(f.Strangers, p.Stranger)
		slices.Sort(f.Strangers)
	}
	if gate != "" && !slices.Contains(f.Gates, gate) {
		f.Gates = append(f.Gates, gate)
		slices.Sort(f.Gates)
	}
	return f
}

// gotten reports whether an outcome brings somebody a message to their mailbox or where
// they can read it.
func gotten(o resolve.Outcome) bool {
	return o == resolve.Inbox || o == resolve.Digest || o == resolve.Archive
}

// mostEffort is how many nested groups are gone through for a person, once for each kind of sender: what
// is beyond is not worked out, and the answer says of how many groups.
const mostEffort = 3_000_000

// personNotFrom is notFrom for one person. It takes what it costs from what is left of the effort, and
// returns false if that is too little, or if there are too many kinds of senders.
func (n namer) personNotFrom(group, person estate.ID, left *int) (*NotFrom, bool) {
	nested := 0
	if groups := n.e.Groups(); groups > 0 {
		nested = int(n.r.Members(group).Rank(uint32(groups - 1)))
	}
	if *left -= nested; *left < 0 {
		return nil, false
	}
	postings, all := n.r.Flow(group, resolve.Message{}).Postings(resolve.Message{})
	if *left -= nested * len(postings); !all || *left < 0 {
		return nil, false
	}
	var found *NotFrom
	of := 0
	for _, p := range postings {
		of += p.People
	}
	for _, p := range postings {
		d := n.r.Deliver(resolve.Query{Group: group, Sender: &p.One, Author: resolve.NoAuthor})
		best, ok := d.Best(person)
		if ok && gotten(best.Outcome) || p.One.ID == person {
			continue
		}
		gate := ""
		if at, _, hindered := d.Hindrance(best.Path); ok && hindered {
			gate = n.address(at)
		}
		found = found.add(p, of, gate)
	}
	return found, true
}
