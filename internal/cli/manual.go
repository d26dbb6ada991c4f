package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	docs "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/localfile"
)

func newManual(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "manual",
		Usage:     "write man pages",
		ArgsUsage: "DIR",
		Description: "A page for the program and one for each command, made from their help.\n\n" +
			"Example: yorvet manual ~/.local/share/man/man1",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "force", Usage: "overwrite pages that are there"}},
		Action: func(_ context.Context, cmd *cli.Command) error {
			dir, err := oneArgument(cmd, "a folder")
			if err != nil {
				return err
			}
			return writeManual(dir, cmd.Bool("force"))
		},
	}
}

// writeManual writes a man page for the program and for each command into a folder. It
// overwrites none unless it is forced to.
func writeManual(dir string, force bool) error {
	root := newRoot([]string{"yorvet"}, Streams{})
	pages := map[string]string{}
	if err := addPages(pages, root, root.Name); err != nil {
		return ask.Errorf("%w", err)
	}
	for name := range pages {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil && !force {
			return ask.Errorf("%s exists; use --force", filepath.Join(dir, name))
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return ask.Errorf("%w", err)
	}
	for name, text := range pages {
		if err := localfile.Write(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			return ask.Errorf("%w", err)
		}
	}
	return nil
}

// addPages adds the page of a command and those of its commands. It renames them all.
func addPages(pages map[string]string, cmd *cli.Command, name string) error {
	for _, sub := range cmd.Commands {
		if err := addPages(pages, sub, name+" "+sub.Name); err != nil {
			return err
		}
	}
	cmd.Name = strings.ReplaceAll(name, " ", "-") // as manuals are called
	cmd.UsageText = helpOf(cmd).Usage
	text, err := docs.ToManWithSection(cmd, 1)
	if err != nil {
		return err
	}
	pages[cmd.Name+".1"] = text
	return nil
}
