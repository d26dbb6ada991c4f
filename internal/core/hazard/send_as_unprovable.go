package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var sendAsUnprovable = Check{
	Name:     "send-as-unprovable",
	Severity: High,
	Trap:     "somebody may send as the group, and the ownership code cannot reach them",
	Doc: `With send-as-proof: mailed-code, a person who wants to send as the group has to receive a code that is
mailed to the group. If the gate does not admit the code, or the person does not get it (not a member, a
digest, a full mailbox), they have the right on paper only.`,
	Cure: "\"yorvet who sends-as GROUP\" shows for each person what stands in the way.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.SendAsProof != estate.ProofMailedCode || len(g.SendAs) == 0 {
			return
		}
		for _, s := range p.R.Rights(id).Delegates().People {
			if s.Proof == resolve.ProofImpossible {
				p.report(Finding{Group: id, Address: p.name(s.ID), Place: g.SendAs[s.Rule-1].Place,
					text: func() (says, fix string) {
						return p.name(s.ID) + " may send " + s.SendAs.String() + " " + p.name(id) + ", but the ownership code cannot " +
								"reach them.",
							"See who sends-as " + p.name(id) + " for what stands in the way."
					}})
			}
		}
	},
}
