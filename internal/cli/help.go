package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/docs"
	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/present"
)

// topic is something that yorvet help reports apart from commands.
type topic struct{ name, file, about string }

// topics returns all topics of help.
func topics() []topic {
	return []topic{
		{"words", "words.md", "each word of Yorvet in one line"},
		{"selectors", "selectors.md", "how to say who, and which message"},
		{"outcomes", "evaluation.md", "how a message is judged, and what becomes of it for each person"},
		{"connections", "connections.md", "how test mail is sent and mailboxes are opened"},
		{"exit-codes", "exit-codes.md", "what the exit code says"},
	}
}

func topicNames() []string {
	var names []string
	for _, t := range topics() {
		names = append(names, t.name)
	}
	return names
}

// isCommand reports whether there is a command of a name, which is no topic.
func isCommand(name string) bool {
	root := newRoot([]string{"yorvet"}, Streams{})
	return root.Command(name) != nil && !slices.Contains(topicNames(), name)
}

func newHelp(streams Streams) *cli.Command {
	about := ""
	for _, t := range topics() {
		about += "\n  " + t.name + ": " + t.about
	}
	return &cli.Command{
		Name:        "help",
		Usage:       "show help with a command or a topic",
		ArgsUsage:   "[COMMAND|TOPIC]",
		Description: "The topics are:" + about,
		Action: func(_ context.Context, cmd *cli.Command) error {
			name, err := oneArgument(cmd, "a command or a topic")
			if err != nil {
				return err
			}
			format, err := formatOf(cmd)
			if err != nil {
				return err
			}
			for _, t := range topics() {
				if t.name != name {
					continue
				}
				text, err := docs.Files.ReadFile(t.file)
				if err != nil {
					return err
				}
				s := &session{cmd: cmd, streams: streams, format: format}
				return s.print(&present.Document{Topic: t.name, Text: string(text)})
			}
			known := topicNames()
			for _, sub := range cmd.Root().Commands {
				known = append(known, sub.Name)
			}
			return ask.Errorf("unknown command or topic %q%s", name, ask.Meant(nearest.Word(name, known)))
		},
	}
}
