package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var authorUnanswered = Check{
	Name:     "author-unanswered",
	mailed:   true,
	Severity: High,
	Trap:     "people outside may write, and a member's answer does not go to them",
	Doc: `Somebody outside who gets no copy may write to the group, and replies-to is not author: copies have a
Reply-To that leads elsewhere. A member who presses Reply answers the group, or the address that stands there; the author waits.`,
	Cure: "Set replies-to to author.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.RepliesTo == estate.PartyPerson && !g.RepliesToAt.IsValid() || g.Kind == estate.Mailbox {
			return
		}
		counts := p.survey.Counts(id)
		far := p.unanswered(id)
		if far < seldom || counts[resolve.Inbox]+counts[resolve.Digest] == 0 {
			return
		}
		p.reportAs(far, Finding{Group: id, Place: where(g, "replies-to"), text: func() (says, fix string) {
			to := p.name(id)
			if g.RepliesToAt.IsValid() {
				to = g.RepliesToAt.String()
			}
			return "People outside may write to " + p.name(id) + ", and answers go to " + to + ": an author outside who gets no copy never sees one.",
				"Let answers go to the author: " + p.command("group set", id, "replies-to=author")
		}})
	},
}
