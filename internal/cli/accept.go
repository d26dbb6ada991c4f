package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/change"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/selector"
)

func newAccept(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "accept",
		Usage:     "write down that hazards are meant to be, and why",
		ArgsUsage: "HAZARD [GROUP...]",
		Description: "A GROUP may hold * for anything; '*' is all groups. The acceptance is written into the estate,\n" +
			"under accept: check counts what it is for apart, until the day of --until is over.\n\n" +
			"Example: yorvet accept gets-nothing 'pier-*' --because 'They read at the desk.' --until 2027-03-31",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "because", Usage: "the `REASON`, for those who read it later"},
			&cli.StringFlag{Name: "address", Usage: "only findings about an `ADDRESS`, which may hold * for anything"},
			&cli.StringFlag{Name: "until", Usage: "the last `DAY` on which it holds, as YYYY-MM-DD"},
			&cli.StringFlag{Name: "groups", Usage: "the groups that a `FILTER` of settings and attributes picks (RFC 4515)"},
		}, changeFlags()...),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() == 0 {
				return ask.Errorf("accept needs the name of a hazard, as check tells it")
			}
			check, err := ask.FindCheck(cmd.Args().First())
			if err != nil {
				return err
			}
			if strings.TrimSpace(cmd.String("because")) == "" {
				return ask.Errorf("accept needs the reason: --because TEXT")
			}
			return changeEstate(ctx, cmd, streams, func(c *changer) error { return c.accept(check) })
		},
	}
}

// accept proposes that findings of a check are intended.
func (c *changer) accept(check *hazard.Check) error {
	a := estate.Acceptance{Hazard: check.Name, Because: c.cmd.String("because"), Address: c.cmd.String("address")}
	for _, arg := range c.cmd.Args().Slice()[1:] {
		if !strings.Contains(arg, "*") {
			group, err := c.Group(arg)
			if err != nil {
				return err
			}
			arg = c.Estate.Address(group).String()
		} else if !strings.Contains(arg, "@") && arg != "*" {
			arg += "@*" // a pattern of local parts
		}
		a.Groups = append(a.Groups, arg)
	}
	if text := c.cmd.String("groups"); text != "" {
		f, err := selector.ParseFilter(text)
		if err != nil {
			return ask.SyntaxError("--groups", err)
		}
		if err := estate.CheckAcceptFilter(f); err != nil {
			return ask.Errorf("--groups: %w", err)
		}
		a.Filter = f
	}
	if len(a.Groups) == 0 && a.Filter == nil {
		return ask.Errorf("accept needs groups, or --groups FILTER; '*' is all of them")
	}
	if text := c.cmd.String("until"); text != "" {
		day, err := estate.ParseDay(text)
		if err != nil {
			return ask.Errorf("--until: %w", err)
		}
		if a.Until = day; !a.Holds(c.Resolver.Today()) {
			return ask.Errorf("--until: %s is over", text)
		}
	}
	var groups []estate.ID
	findings := 0
	for _, f := range hazard.Run(c.Resolver, []*hazard.Check{check}) {
		if !f.Accepted && a.IsFor(c.Estate, f.Group) && (a.Address == "" || estate.MatchStars(a.Address, f.Address)) {
			findings++
			if !slices.Contains(groups, f.Group) {
				groups = append(groups, f.Group)
			}
		}
	}
	if findings == 0 {
		return ask.Errorf("nothing to accept: check finds no %s there that is not accepted yet", check.Name)
	}
	c.about = fmt.Sprintf("%s accepted: %d found, in %d of %d groups", check.Name, findings, len(groups), c.Estate.Groups())
	c.draft.Apply(change.Accept{Acceptance: a})
	return nil
}
