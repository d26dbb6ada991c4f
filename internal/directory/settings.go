package directory

import (
	"strconv"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
)

// defaults are the values of settings that say nothing.
var defaults = map[string]string{"kind": "list", "copy": "every", "invitations": "follow", "welcome": "true", "echo": "true", "tell-held": "all",
	"voice-proof": "none", "replies-as": "person", "replies-to": "author"}

// Settings returns the settings of a group that are not the default, but for
// addresses, owners and moderators, as they are written.
func Settings(g *estate.Group) []estatefile.Field {
	var fields []estatefile.Field
	text := func(name, value string) {
		if value != "" && value != defaults[name] {
			fields = append(fields, estatefile.Field{Name: name, Text: value})
		}
	}
	text("title", g.Title)
	text("about", g.About)
	text("kind", g.Kind.String())
	text("copy", g.Copy.String())
	text("joiners", g.Joiners.String())
	text("outside-copy", g.OutsideCopy.String())
	text("invitations", g.Invitations.String())
	text("welcome", strconv.FormatBool(!g.NoWelcome))
	text("echo", strconv.FormatBool(!g.NoEcho))
	if len(g.Gate) != 1 || &g.Gate[0] != &estate.DefaultGate[0] {
		f := estatefile.Field{Name: "gate", List: []string{}}
		for _, rule := range g.Gate {
			f.List = append(f.List, rule.Text)
		}
		fields = append(fields, f)
	}
	text("tell-held", g.TellHeld.String())
	if len(g.Voice) > 0 {
		f := estatefile.Field{Name: "voice"}
		for _, rule := range g.Voice {
			f.List = append(f.List, rule.Text)
		}
		fields = append(fields, f)
	}
	text("voice-proof", estate.ProofWords[g.VoiceProof])
	text("replies-as", estate.RepliesAsWords[g.RepliesAs])
	text("replies-to", estate.RepliesToWords[g.RepliesTo])
	text("subject-tag", g.SubjectTag)
	if g.PauseAfter > 0 {
		text("pause-after", strconv.Itoa(g.PauseAfter))
	}
	text("managed-in", g.ManagedIn)
	return fields
}
