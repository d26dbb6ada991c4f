package cli

import (
	"context"
	"io"
	"strings"

	"yorvet.example/yorvet/internal/ask"
)

// act is something that the demo shows: a question, and the command that answers it.
type act struct {
	title, about string
	args         []string
	estate       string // below the demo's folder; "" for the estate as it is written down
	answer       answering
	shows        []part // of the answer; nil for all of it
}

// answering writes the answer to what is shown, asked in one of the demo's estates.
type answering func(ctx context.Context, d *demonstration, at *ask.Place, w io.Writer) error

// part is some lines of an answer: from the first one on that begins with a text.
type part struct {
	from  string
	lines int
}

// probeAll sends the demo's messages.
var probeAll = []string{"probe", "--send"}

// scenes are the short demo.
var scenes = []act{
	{
		title:  "1. A duty officer cancels the 07:10 ferry. Who does not hear of it?",
		about:  "Her notice is admitted, but each nested group asks its own gate again.",
		args:   []string{"who", "receives", "sailing-notices", "--from", "odile.renn"},
		answer: asked(func(*demonstration) ask.Question { return &ask.Receives{Group: "sailing-notices", From: "odile.renn"} }),
		shows:  []part{{"", 4}, {"Not delivered", 5}},
	},
	{
		title: "2. Could somebody fake that notice?",
		about: "Rules go by the address in From. Here no rule asks whether it is authenticated.",
		args:  []string{"check", "--only", "forgeable"},
		answer: asked(func(*demonstration) ask.Question {
			return &ask.Check{Only: []string{"forgeable"}, By: "severity", FailOn: "high"}
		}),
		shows: []part{{"", 6}, {"  fix:", 1}},
	},
	{
		title:  "3. Volunteers have signed up. What happens if I add them?",
		about:  "Their list is pasted as it came; nothing is written without a yes.",
		args:   append(append([]string{}, addVolunteers...), "--preview"),
		answer: previewed,
		shows:  []part{{"", 2}, {"New hazards", 6}},
	},
	{
		title:  "4. And what does the mail service really do?",
		about:  "Real messages go to a simulated service here, which is set up differently.",
		args:   probeAll,
		answer: rehearse,
		shows:  []part{{"", 2}, {"1. One of", 2}},
	},
}

// cut returns the parts of an answer that an act shows, and marks what is left out.
func (a act) cut(text string) string {
	if a.shows == nil {
		return text
	}
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	keep := make([]bool, len(lines))
	for _, p := range a.shows {
		for i, line := range lines {
			if strings.HasPrefix(uncoloured(line), p.from) {
				for k := i; k < min(i+p.lines, len(lines)); k++ {
					keep[k] = true
				}
				break
			}
		}
	}
	var b strings.Builder
	marked := true
	for i, line := range lines {
		switch {
		case strings.TrimSpace(line) == "":
		case keep[i]:
			b.WriteString(line + "\n")
			marked = false
		case !marked:
			b.WriteString("  [...]\n")
			marked = true
		}
	}
	return b.String()
}

// uncoloured returns a line without its colours.
func uncoloured(line string) string {
	for {
		before, rest, ok := strings.Cut(line, "\x1b[")
		if !ok {
			return line
		}
		_, after, _ := strings.Cut(rest, "m")
		line = before + after
	}
}
