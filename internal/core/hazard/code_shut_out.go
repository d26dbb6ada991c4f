package hazard

import (
	"strconv"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var codeShutOut = Check{
	Name:     "code-shut-out",
	Severity: Medium,
	Trap:     "the group asks for a mailed code, and the code is not admitted",
	Doc: `With send-as-proof: mailed-code the code comes by mail, from the estate's code-sender, as an automatic
message. The gate or the edge does not admit it, or the estate has no code-sender.`,
	Cure: "Let the gate admit the code-sender before anything that refuses automatic or outside mail.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.SendAsProof != estate.ProofMailedCode {
			return
		}
		codes := p.E.Settings().CodeSender
		if !codes.IsValid() {
			p.report(Finding{Group: id, Place: where(g, "send-as-proof"), text: func() (says, fix string) {
				return p.name(id) + " asks for a mailed code, and the estate has no code-sender, so nobody can send as it.",
					"Name the code-sender at the top of the estate, or set send-as-proof to none: " +
						p.command("group set", id, "send-as-proof=none")
			}})
			return
		}
		code := resolve.Message{Automatic: true}
		decision := p.R.Gate(id).Post(p.R.Sender(codes), code)
		if decision.Verdict == estate.Admit {
			return
		}
		p.report(Finding{Group: id, Place: where(g, "send-as-proof"),
			more: &more{witness: func() *Witness { return &Witness{From: codes, Message: code} }},
			text: func() (says, fix string) {
				says = p.name(id) + " does not admit the ownership codes of " + codes.String() + ", so nobody can send as it."
				if decision.Edge > 0 {
					return says, "Leave " + codes.String() + " out of what rule " + strconv.Itoa(decision.Edge) + " of the edge stops."
				}
				return says, "Begin the gate with \"admit " + codes.String() + "\"."
			}})
	},
}
