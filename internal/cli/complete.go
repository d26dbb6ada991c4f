package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/preset"
	"yorvet.example/yorvet/internal/core/trail"
	"yorvet.example/yorvet/internal/directory/handout"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/probe"
	"yorvet.example/yorvet/internal/source"
)

// The bounds of what is offered to complete a word: how many addresses, and how long the
// reading of the estate may take.
const (
	mostOffered = 5000
	offerWithin = 2 * time.Second
)

// offerCommand shows the command that writes completions; the library that makes them hides
// it.
func offerCommand(cmd *cli.Command) {
	cmd.Hidden = false
	cmd.Usage = "write completions for a shell"
	cmd.ArgsUsage = "bash|zsh|fish"
	cmd.Description = "Commands, flags, their values, and the addresses of the estate are completed.\n\n" +
		"Example: source <(yorvet completion bash)"
	cmd.Commands = slices.DeleteFunc(cmd.Commands, func(sub *cli.Command) bool {
		sub.Usage = "write completions for " + sub.Name
		return !slices.Contains([]string{"bash", "zsh", "fish"}, sub.Name)
	})
}

// completer offers what may stand next on a command line.
type completer struct {
	args []string // of the program, with the mark that asks for completion at the end
	out  io.Writer
}

func (c completer) complete(ctx context.Context, cmd *cli.Command) {
	last := ""
	if n := len(c.args); n > 1 {
		last = c.args[n-2]
	}
	if name, ok := strings.CutPrefix(last, "-"); ok {
		if flag := valued(cmd, strings.TrimPrefix(name, "-")); flag != nil {
			c.offer(c.values(ctx, cmd, flag))
			return
		}
		for _, one := range cmd.Lineage() {
			for _, flag := range one.VisibleFlags() {
				fmt.Fprintln(c.out, "--"+flag.Names()[0]+":"+helpOfFlag(flag).About)
			}
		}
		return
	}
	if strings.HasPrefix(cmd.ArgsUsage, "SOURCE") {
		return // files, which the shell knows
	}
	for _, sub := range cmd.VisibleCommands() {
		fmt.Fprintln(c.out, sub.Name+":"+sub.Usage)
	}
	switch usage := cmd.ArgsUsage; {
	case strings.Contains(usage, "TOPIC"):
		c.offer(topicNames())
	case strings.HasPrefix(usage, "GROUP"), strings.HasPrefix(usage, "[GROUP"), strings.HasPrefix(usage, "OLD GROUP"):
		c.offer(addresses(ctx, cmd, ask.OfGroups))
	case strings.HasPrefix(usage, "ADDRESS"), strings.HasPrefix(usage, "PERSON"):
		c.offer(addresses(ctx, cmd, ask.Anybody))
	}
}

func (c completer) offer(words []string) {
	for _, word := range words[:min(len(words), mostOffered)] {
		fmt.Fprintln(c.out, present.Clean(word))
	}
}

// valued returns the flag of a command, or of those above it, that has a name and takes a
// value; nil if there is none.
func valued(cmd *cli.Command, name string) cli.Flag {
	for _, one := range cmd.Lineage() {
		for _, flag := range one.Flags {
			if _, isSwitch := flag.(*cli.BoolFlag); !isSwitch && slices.Contains(flag.Names(), name) {
				return flag
			}
		}
	}
	return nil
}

// values returns what a flag takes, as far as that is known.
func (c completer) values(ctx context.Context, cmd *cli.Command, flag cli.Flag) []string {
	command := name(cmd)
	switch flag.Names()[0] {
	case "format":
		words := []string{string(present.Text), string(present.JSON), string(present.CSV), string(present.Markdown)}
		switch command {
		case "check":
			return append(words, string(present.SARIF))
		case "expect":
			return append(words, string(present.TAP), string(present.JUnit))
		case "probe":
			return append(words, string(present.JUnit))
		}
		return words
	case "fail-on":
		return append(hazard.SeverityWords(), "never")
	case "only", "skip", "explain":
		var names []string
		for _, check := range hazard.All() {
			names = append(names, check.Name)
		}
		return names
	case "by":
		return present.HazardOrders()
	case "preset":
		return preset.Names()
	case "copy", "joiners", "outside-copy":
		return estate.CopyWords()
	case "kind":
		if command != "probe" {
			return estate.KindWords()
		}
		var words []string
		for _, kind := range probe.Kinds() {
			words = append(words, string(kind))
		}
		return words
	case "as":
		switch {
		case command == "export":
			return handout.Formats()
		case strings.HasPrefix(command, "member"):
			return present.Roles()
		}
		return addresses(ctx, cmd, ask.Anybody)
	case "outcome":
		return trail.FateWords()
	case "from", "to", "owner", "moderator", "member":
		return addresses(ctx, cmd, ask.Anybody)
	}
	return nil
}

// addresses returns main addresses of the estate; none if it cannot be read at once.
func addresses(ctx context.Context, cmd *cli.Command, who ask.Whose) []string {
	path := estatePath(cmd)
	if source.Is(path) {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, offerWithin)
	defer cancel()
	e, err := estatefile.Load(ctx, path)
	if err != nil {
		return nil
	}
	var list []string
	var before estate.ID = estate.None
	(&ask.Desk{Estate: e}).Addresses(who)(func(id estate.ID, a address.Address) bool {
		if id != before { // aliases are left to those who know them
			before = id
			list = append(list, a.String())
		}
		return len(list) < mostOffered
	})
	return list
}
