package cli

import (
	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/demo"
)

// step is a part of the demo's tour: what it is about, and the command that shows it.
type step struct {
	title  string
	about  string
	args   []string
	estate string // below the demo's folder
	answer answering
}

// tour is the whole job, step by step.
var tour = []step{
	{
		"Who may write to the lost property desk?",
		"Passengers write to this group from outside, so its gate admits anyone, but no forged mail. The newest member " +
			"is held for two weeks.",
		[]string{"who", "posts", "lost-property@kelpmere.example"},
		demo.Estate,
		asked(func(*demonstration) ask.Question {
			return &ask.OfGroup{Group: "lost-property@kelpmere.example", Look: postersOf(resolve.Message{})}
		}),
	},
	{
		"A passenger writes to the desk",
		"To an old address of it, even. Every rule that is tried is there, and what each side sees.",
		[]string{"explain", "--from", "passenger@holiday.example", "--to", "found@kelpmereferries.example"},
		demo.Estate,
		asked(func(*demonstration) ask.Question {
			return &ask.Explain{From: []string{"passenger@holiday.example"}, To: []string{"found@kelpmereferries.example"}}
		}),
	},
	{
		"Somebody claims to be a skipper",
		"The address is inside, but the message is not authenticated. The gate asks that first.",
		[]string{
			"explain",
			"--from",
			"ines.maro@kelpmere.example",
			"--to",
			"lost-property@kelpmere.example",
			"--unproven",
		},
		demo.Estate,
		asked(func(*demonstration) ask.Question {
			return &ask.Explain{From: []string{"ines.maro@kelpmere.example"}, To: []string{"lost-property@kelpmere.example"}, Message: resolve.Message{Unproven: true}}
		}),
	},
	{
		"A new member of the crew writes to the desk",
		"Authenticated, inside, a member: and still it is held for approval.",
		[]string{"explain", "--from", "ivo.lark@kelpmere.example", "--to", "lost-property@kelpmere.example"},
		demo.Estate,
		asked(func(*demonstration) ask.Question {
			return &ask.Explain{From: []string{"ivo.lark@kelpmere.example"}, To: []string{"lost-property@kelpmere.example"}}
		}),
	},
	{
		"Who receives a sailing notice?",
		"A duty officer may post it. But a nested group asks its own gate again: the engine crew do not get it.",
		[]string{"who", "receives", "sailing-notices@kelpmere.example", "--from", "odile.renn@kelpmere.example"},
		demo.Estate,
		asked(func(*demonstration) ask.Question {
			return &ask.Receives{Group: "sailing-notices@kelpmere.example", From: "odile.renn@kelpmere.example"}
		}),
	},
	{
		"The chief engineer wrote to the same group, and nobody has seen it. Why?",
		"Step by step: which rule holds it, and who has to release it. This is what to paste into the ticket.",
		[]string{"explain", "--from", "chief@kelpmere.example", "--to", "sailing-notices@kelpmere.example"},
		demo.Estate,
		asked(func(*demonstration) ask.Question {
			return &ask.Explain{From: []string{"chief@kelpmere.example"}, To: []string{"sailing-notices@kelpmere.example"}}
		}),
	},
	{
		"Who may answer charter enquiries as the group?",
		"Three people may, on paper. But they have to prove it with a code that is mailed to the group.",
		[]string{"who", "sends-as", "charter@kelpmere.example"},
		demo.Estate,
		asked(func(*demonstration) ask.Question {
			return &ask.OfGroup{Group: "charter@kelpmere.example", Look: delegatesOf}
		}),
	},
	{
		"Why does Nora get so little?",
		"Everything about one person: what they get and miss, and why.",
		[]string{"person", "nora.teale@kelpmere.example"},
		demo.Estate,
		asked(func(*demonstration) ask.Question { return &ask.OfPerson{Person: "nora.teale@kelpmere.example"} }),
	},
	{
		"What else will go wrong?",
		"These are some of the worst hazards; without --only all are found.",
		[]string{
			"check",
			"--only",
			"forgeable",
			"--only",
			"approver-unreachable",
			"--only",
			"nested-stops",
			"--only",
			"no-such-address",
			"--fail-on",
			"never",
		},
		demo.Estate,
		asked(func(*demonstration) ask.Question {
			return &ask.Check{Only: []string{"forgeable", "approver-unreachable", "nested-stops", "no-such-address"},
				By: "severity", FailOn: "never"}
		}),
	},
	{
		"All groups at a glance",
		"What each gate says to anyone outside, to unknown inside addresses and to forged mail; who gets the mail, " +
			"who misses it.",
		[]string{"matrix", "--where", "outside admit"},
		demo.Estate,
		asked(func(*demonstration) ask.Question { return &ask.Matrix{Where: "outside admit"} }),
	},
	{
		"Does what was promised hold?",
		"Expectations are kept beside the estate. Two of these are broken.",
		[]string{"expect", "kelpmere.expect"},
		demo.Estate,
		asked(func(d *demonstration) ask.Question { return &ask.Expect{Files: []string{d.file("kelpmere.expect")}} }),
	},
	{
		"What would change if the estate were as the mail service really has it?",
		"Effects are compared, not texts.",
		[]string{"compare", "estate", "served"},
		demo.Estate,
		asked(func(d *demonstration) ask.Question {
			return &ask.Compare{Names: []string{d.file("estate"), d.file("served")}}
		}),
	},
	{
		"New volunteers have signed up: what changes if they are added?",
		"Their list is pasted as it came. What is not understood is listed, and what the change does is shown before " +
			"anything is written.",
		append(addVolunteers, "--preview"),
		demo.Estate,
		previewed,
	},
	{
		"And the directory that the group is managed in?",
		"In the copy of the estate in the folder changed they are added. The difference is exported as a change for " +
			"the directory: LDIF here, or SCIM.",
		[]string{"export", "--as", "ldif", "--since", "estate", "--for", "hq-directory"},
		demo.Changed,
		exported,
	},
}
