package resolve

import "yorvet.example/yorvet/internal/core/estate"

// A Source is where a copy comes from.
type Source uint8

// The sources of a copy.
const (
	FromMembership  Source = iota // the membership's own copy
	FromOutsideCopy               // the group's outside-copy
	FromGroup                     // the group's copy
	FromDefault                   // nothing says anything: every
)

// A Muting is what turns a copy into none.
type Muting uint8

// The mutings.
const (
	NotMuted         Muting = iota
	MutedPaused             // the membership is paused
	MutedEcho               // it is the sender's own message, and the group sends none back
	MutedInvitations        // it is an invitation, and they get none
)

// A Wish is what a membership wants of a message.
type Wish struct {
	Copy    estate.Copy // what counts in the end
	Written estate.Copy // what it is without Muting or invitation rules
	Source  Source      // of Written
	Muting  Muting
	Invited bool // Copy is every for being an invitation, whatever Written
}

// wish returns what a person's membership in a group wants of a message.
func (r *Resolver) wish(g *estate.Group, person estate.ID, says estate.Membership, q *Query) Wish {
	var w Wish
	switch {
	case says.Copy != estate.CopyUnset:
		w.Written, w.Source = says.Copy, FromMembership
	case g.OutsideCopy != estate.CopyUnset && !r.e.Inside(person):
		w.Written, w.Source = g.OutsideCopy, FromOutsideCopy
	case g.Copy != estate.CopyUnset:
		w.Written, w.Source = g.Copy, FromGroup
	default:
		w.Written, w.Source = estate.CopyEvery, FromDefault
	}
	w.Copy = w.Written
	switch {
	case says.Paused:
		w.Copy, w.Muting = estate.CopyNone, MutedPaused
	case g.NoEcho && q.isBy(person):
		w.Copy, w.Muting = estate.CopyNone, MutedEcho
	case q.Message.Invitation:
		invitations := says.Invitations
		if invitations == estate.InvitationsUnset {
			invitations = g.Invitations
		}
		if invitations == estate.InvitationsEvery ||
			invitations != estate.InvitationsNone && w.Written == estate.CopyEvery {
			w.Copy, w.Invited = estate.CopyEvery, w.Written != estate.CopyEvery
		} else {
			w.Copy, w.Muting = estate.CopyNone, MutedInvitations
		}
	}
	return w
}

// A Reason is why a recipient has their outcome.
type Reason struct {
	Wish
	Group  estate.ID // the group that gives the outcome
	Listed estate.Place
	Rule   bool // Listed is the place of a rule that picks them
	// Shared is set for those who read a shared mailbox; there is no Wish then,
	// and Listed is nowhere: see Lineage.
	Shared  bool
	Nobody  bool // the address belongs to nobody
	Mailbox estate.MailboxState
	Way     PathState
}

// Reason returns why a recipient has their outcome.
func (d *Delivery) Reason(recipient Recipient) Reason {
	r := d.r
	path := d.Path(recipient)
	reason := Reason{Group: path.Group, Way: path.State}
	g := r.e.Group(path.Group)
	switch {
	case recipient.ID.IsNobody():
		reason.Nobody = true
		if entry := r.entryOf(path.Group, recipient.ID); entry != nil {
			reason.Listed = entry.Place
		}
		return reason
	case recipient.member == inMailbox:
		reason.Shared = true
	case recipient.member < 0:
		rule := r.e.Rules(path.Group)[^recipient.member]
		reason.Listed, reason.Rule = rule.Place, true
		reason.Wish = r.wish(g, recipient.ID, rule.Membership, &d.Query)
	default:
		entry := r.e.Entries(path.Group)[recipient.member]
		reason.Listed = entry.Place
		reason.Wish = r.wish(g, recipient.ID, entry.Membership(), &d.Query)
	}
	reason.Mailbox = r.e.Person(recipient.ID).Mailbox
	return reason
}
