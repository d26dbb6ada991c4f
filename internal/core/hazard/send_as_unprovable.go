package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var sendAsUnprovable = Check{
	Name:     "send-as-unprovable",
	Severity: High,
	Trap:     "somebody may send as the group, and the ownership code cannot reach them",
	Doc: `With send-as-proof: mailed-code, whoever wants to write in the group's name has to receive a code that is
mailed to the group. If the gate does not let the code in, or the person does not get it (no member, a
digest, a full mailbox), they may on paper only.`,
	Cure: "\"yorvet who sends-as GROUP\" says for each person what stands in the way.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.SendAsProof != estate.ProofMailedCode || len(g.SendAs) == 0 {
			return
		}
		for _, s := range p.R.Delegates(id).People {
			if s.Proof == resolve.ProofImpossible {
				p.report(Finding{Group: id, Address: p.name(s.ID), Place: g.SendAs[s.Rule-1].Place,
					text: func() (says, fix string) {
						return p.name(s.ID) + " may write " + s.SendAs.String() + " " + p.name(id) + ", but the ownership code cannot " +
								"reach them.",
							"See who sends-as " + p.name(id) + " for what stands in the way."
					}})
			}
		}
	},
}
