package hazard

import (
	"github.com/RoaringBitmap/roaring/v2"

	"yorvet.example/yorvet/internal/core/estate"
)

var answersShowPerson = Check{
	Name:     "answers-show-person",
	mailed:   true,
	Severity: Low,
	Trap:     "people outside may write, and see the private address of the member who answers",
	Doc: `Anyone outside may write to the group, and none of its members may send as it, or they answer as persons by
default. A member who answers shows their own address; the next question goes there, and not to the group.`,
	Cure: "Let the members send as it, for example with [as members], and set replies-as to group.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		far := p.outsidersWrite(id)
		if far < seldom {
			return
		}
		all := p.R.Members(id)
		members, total := p.people(all)
		if total == 0 {
			return
		}
		problem := ""
		if p.allSilent(id, all) {
			problem = "its members may not send as it"
		} else if g.RepliesAs == estate.PartyPerson {
			problem = "its members answer as persons"
		} else {
			return
		}
		p.reportAs(far, Finding{Group: id, Place: where(g, "send-as"),
			text: func() (says, fix string) {
				says = p.whoWrites(id) + ", and " + problem + ": an answer by " +
					p.some(members, total) + " shows their own address."
				switch {
				case !p.allSilent(id, all):
					return says, "Let them answer as the group: " + p.command("group set", id, "replies-as=group")
				case g.SendAsProof != estate.ProofNone:
					return says, "Let the members send as it, and answer so; each has to prove it by a mailed code."
				}
				return says, "Let the members send as it, and answer so: " +
					p.command("group set", id, "'send-as+=as inside and members' replies-as=group")
			}})
	},
}

// allSilent reports whether none of the people in a set may send as a group.
func (p *Pass) allSilent(id estate.ID, set *roaring.Bitmap) bool {
	if len(p.E.Group(id).SendAs) == 0 {
		return true
	}
	speaking := roaring.AndNot(set, p.R.Rights(id).Classes()[0])
	_, total := p.people(speaking)
	return total == 0
}
