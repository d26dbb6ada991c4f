package hazard

import (
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
)

var voiceUnprovable = Check{
	Name:     "voice-unprovable",
	Severity: High,
	Trap:     "somebody is given a voice, and the ownership code cannot reach them",
	Doc: `With voice-proof: mailed-code, whoever wants to write in the group's name has to receive a code that is
mailed to the group. If the gate does not let the code in, or the person does not get it (no member, a
digest, a full mailbox), the voice is theirs on paper only.`,
	Cure: "\"yorvet who speaks GROUP\" says for each person what stands in the way.",
	Run: func(p *Pass, id estate.ID, g *estate.Group) {
		if g.VoiceProof != estate.ProofMailedCode || len(g.Voice) == 0 {
			return
		}
		for _, s := range p.R.Speakers(id).People {
			if s.Proof == resolve.ProofImpossible {
				p.report(Finding{Group: id, Address: p.name(s.ID), Place: g.Voice[s.Rule-1].Place,
					text: func() (says, fix string) {
						return p.name(s.ID) + " may write " + s.Voice.String() + " " + p.name(id) + ", but the ownership code cannot " +
								"reach them.",
							"See who speaks " + p.name(id) + " for what stands in the way."
					}})
			}
		}
	},
}
