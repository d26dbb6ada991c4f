package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var codeShutOut = Check{
	Name:     "code-shut-out",
	Severity: Medium,
	Trap:     "the group asks for a mailed code, and its gate does not admit the code-sender",
	Doc: `With send-as-proof: mailed-code the code comes by mail, from the estate's code-sender, as an automatic
message.`,
	Cure: "Let the gate admit the code-sender before anything that refuses automatic or outside mail.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		codes := p.E.Settings().CodeSender
		if !codes.IsValid() || g.SendAsProof != estate.ProofMailedCode {
			return
		}
		code := resolve.Message{Automatic: true}
		if p.R.Judge(id, p.R.Sender(codes), code).Verdict != estate.Admit {
			p.report(Finding{Group: id, Place: where(g, "send-as-proof"), Witness: &Witness{From: codes, Message: code},
				text: func() (says, fix string) {
					return p.name(id) + " does not admit the ownership codes of " + codes.String() + ", so nobody can send as it.",
						"Begin the gate with \"admit " + codes.String() + "\"."
				}})
		}
	},
}
