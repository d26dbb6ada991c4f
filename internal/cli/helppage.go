package cli

import (
	"cmp"
	"context"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/present"
)

func init() {
	cli.HelpPrinter = func(w io.Writer, _ string, data any) {
		if cmd, ok := data.(*cli.Command); ok {
			_ = present.Print(w, helpOf(cmd), present.Text, pageOptions(w))
		}
	}
	cli.ShowCommandHelp = func(_ context.Context, cmd *cli.Command, name string) error {
		switch sub := cmd.Command(name); {
		case sub != nil:
			cmd = sub
		case len(cmd.VisibleCommands()) > 0:
			return missingCommand(cmd)
		}
		cli.HelpPrinter(cmd.Root().Writer, "", cmd) // of this very command, whatever arguments it has
		return nil
	}
	cli.HelpFlag = &cli.BoolFlag{Name: "help", Aliases: []string{"h"}, Usage: "show this help", Local: true}
	cli.VersionFlag = &cli.BoolFlag{Name: "version", Aliases: []string{"v"}, Usage: "show the version", Local: true}
}

// helpOf returns what a command says of itself.
func helpOf(cmd *cli.Command) *present.Help {
	usage := cmd.FullName()
	if len(cmd.VisibleCommands()) > 0 && cmd.ArgsUsage == "" {
		usage += " COMMAND"
	}
	if cmd.ArgsUsage != "" {
		usage += " " + cmd.ArgsUsage
	}
	if len(cmd.VisibleFlags()) > 1 { // apart from --help
		usage += " [OPTIONS]"
	}
	help := &present.Help{Usage: usage, About: cmd.Usage, Text: paragraphs(cmd.Description)}
	for _, sub := range cmd.VisibleCommands() {
		help.Commands = append(help.Commands, present.HelpEntry{Name: sub.Name, About: sub.Usage})
	}
	var global []string
	for _, flag := range cmd.Root().Flags {
		if len(flag.Names()[0]) > 1 && flag.Names()[0] != "help" && flag.Names()[0] != "version" {
			global = append(global, "--"+flag.Names()[0])
		}
	}
	for _, one := range cmd.Lineage() {
		if one == cmd.Root() && one != cmd {
			break // they are named below
		}
		for _, flag := range one.VisibleFlags() {
			if one == cmd || flag.Names()[0] != "help" {
				help.Options = append(help.Options, helpOfFlag(flag))
			}
		}
	}
	if cmd.Root() != cmd {
		help.Further = "For every command: " + strings.Join(global, ", ") + "; see yorvet --help."
	}
	return help
}

// helpOfFlag returns a flag with the noun for its value: the one in backquotes, or else
// its name in capitals.
func helpOfFlag(flag cli.Flag) present.HelpEntry {
	names := flag.Names()
	entry := present.HelpEntry{Name: "--" + names[0]}
	doc, ok := flag.(cli.DocGenerationFlag)
	if !ok {
		return entry
	}
	about := doc.GetUsage()
	if doc.TakesValue() {
		noun := strings.ToUpper(names[0])
		if _, rest, ok := strings.Cut(about, "`"); ok {
			noun, _, _ = strings.Cut(rest, "`")
		}
		entry.Name += " " + noun
		text := strings.Trim(cmp.Or(doc.GetDefaultText(), doc.GetValue()), `"`)
		if none := []string{"", "0", "0s", "[]"}; !slices.Contains(none, text) && !strings.Contains(about, "(default") {
			about += " (default: " + text + ")"
		}
	}
	if len(names) > 1 && len(names[1]) == 1 {
		entry.Name += ", -" + names[1]
	}
	for _, env := range doc.GetEnvVars() {
		about += " [$" + env + "]"
	}
	entry.About = strings.ReplaceAll(about, "`", "")
	return entry
}

// paragraphs returns a description with each paragraph on one line; lines that are set in
// stay apart.
func paragraphs(text string) string {
	var list []string
	for paragraph := range strings.SplitSeq(text, "\n\n") {
		lines := strings.Split(paragraph, "\n")
		joined := lines[0]
		for _, line := range lines[1:] {
			if strings.HasPrefix(line, " ") {
				joined += "\n" + line
			} else {
				joined += " " + line
			}
		}
		list = append(list, joined)
	}
	return strings.Join(list, "\n\n")
}
