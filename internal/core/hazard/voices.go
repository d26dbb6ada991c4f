package hazard

import (
	"github.com/RoaringBitmap/roaring/v2"

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
	Run: func(p *Pass) {
		p.groups(func(id estate.ID, g *estate.Group) {
			if g.VoiceProof != estate.ProofMailedCode || len(g.Voice) == 0 {
				return
			}
			for _, s := range p.R.Speakers(id).People {
				if s.Proof == resolve.ProofImpossible {
					p.report(Finding{Group: id, Address: p.name(s.ID), Place: g.Voice[s.Rule-1].Place,
						Says: p.name(s.ID) + " may write " + s.Voice.String() + " " + p.name(id) + ", but the ownership code cannot reach them.",
						Fix:  "See who speaks " + p.name(id) + " for what stands in the way."})
				}
			}
		})
	},
}

var codeShutOut = Check{
	Name:     "code-shut-out",
	Severity: Medium,
	Trap:     "the group asks for a mailed code, and its gate does not admit the code-sender",
	Doc:      `With voice-proof: mailed-code the code comes by mail, from the estate's code-sender, as an automatic message.`,
	Cure:     "Let the gate admit the code-sender before anything that refuses automatic or outside mail.",
	Run: func(p *Pass) {
		codes := p.E.Settings().CodeSender
		if !codes.IsValid() {
			return
		}
		p.groups(func(id estate.ID, g *estate.Group) {
			if g.VoiceProof != estate.ProofMailedCode {
				return
			}
			code := resolve.Message{Automatic: true}
			if p.R.Judge(id, p.R.Sender(codes), code).Verdict != estate.Admit {
				p.report(Finding{Group: id, Place: where(g, "voice-proof"), Witness: Witness{From: codes, Message: code},
					Says: p.name(id) + " does not let in the ownership codes of " + codes.String() + ": nobody can prove a voice.",
					Fix:  "Begin the gate with \"admit " + codes.String() + "\"."})
			}
		})
	},
}

var answersShowPerson = Check{
	Name:     "answers-show-person",
	Severity: Low,
	Trap:     "outsiders may write, and see the private address of whoever answers",
	Doc: `Strangers from outside may write to the group, but its members have no voice, or answer as persons by
default. Whoever answers shows their own address; the next question goes there, and not to the group.`,
	Cure: "Give the members a voice, such as [as members], and set replies-as to group.",
	Run: func(p *Pass) {
		p.mailed(func(id estate.ID, g *estate.Group) {
			if p.R.Judge(id, p.R.Strangers().Outside, resolve.Message{}).Verdict != estate.Admit {
				return
			}
			all := p.R.Members(id)
			members, total := p.people(all)
			if total == 0 {
				return
			}
			problem := ""
			if p.allSilent(id, all) {
				problem = "its members have no voice"
			} else if g.RepliesAs == estate.PartyPerson {
				problem = "its members answer as persons"
			} else {
				return
			}
			p.report(Finding{Group: id, Place: where(g, "voice"),
				Says: "Outsiders may write to " + p.name(id) + ", and " + problem + ": an answer by " + p.some(members, total) + " shows their own address.",
				Fix:  "Give the members a voice, and set replies-as to group."})
		})
	},
}

// allSilent reports whether none of the people in a set has a voice in a group.
func (p *Pass) allSilent(id estate.ID, set *roaring.Bitmap) bool {
	if len(p.E.Group(id).Voice) == 0 {
		return true
	}
	speaking := roaring.AndNot(set, p.R.VoiceClasses(id)[0])
	_, total := p.people(speaking)
	return total == 0
}

var membersOnShow = Check{
	Name:     "members-on-show",
	Severity: Low,
	Trap:     "strangers from outside may see the member list",
	Doc:      `The access setting see-members is true for anybody at all.`,
	Cure:     "Set see-members to members or inside.",
	Run: func(p *Pass) {
		p.groups(func(id estate.ID, g *estate.Group) {
			rule := g.Access[estate.SeeMembers]
			if p.R.Eval(id, rule.Selector, p.R.Strangers().Outside, resolve.Message{}) {
				p.report(Finding{Group: id, Place: rule.Place, Says: "Strangers from outside may see who is in " + p.name(id) + ".",
					Fix: "Set see-members to members or inside."})
			}
		})
	},
}
