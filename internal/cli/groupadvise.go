package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/preset"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/propose"
)

func newGroupAdvise(streams Streams) *cli.Command {
	flags := []cli.Flag{}
	for _, need := range preset.Needs() {
		flags = append(flags, &cli.BoolFlag{Name: need.Name, Usage: need.Says})
	}
	return &cli.Command{
		Name:      "advise",
		Usage:     "say which kind of group serves some needs, and whether a group is enough",
		ArgsUsage: "[ADDRESS]",
		Description: "The needs are flags; without any they are asked one by one on a terminal. What the other kinds " +
			"could not\n" +
			"do is said, and what nothing serves together.\n\n" +
			"Example: yorvet group advise --outsiders-write --answer-as-group --keep-posts",
		Flags: flags,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			format, err := formatOf(cmd)
			if err != nil {
				return err
			}
			s := &session{ctx: ctx, cmd: cmd, streams: streams, format: format}
			var needs []string
			for _, need := range preset.Needs() {
				if cmd.Bool(need.Name) {
					needs = append(needs, need.Name)
				}
			}
			if len(needs) == 0 {
				if needs, err = s.askNeeds(); err != nil {
					return err
				}
			}
			address := "ADDRESS"
			if cmd.Args().Len() > 0 {
				if address, err = adviceAddress(ctx, cmd); err != nil {
					return err
				}
			}
			advice := preset.Advise(needs)
			command := "yorvet " + strings.Join(ask.Quoted(advice.Command(address)), " ")
			return s.print(present.NewAdvice(needs, advice, command))
		},
	}
}

// adviceAddress returns the address that advice is about: one that group new would take, as far as
// there is an estate here to say so.
func adviceAddress(ctx context.Context, cmd *cli.Command) (string, error) {
	text := cmd.Args().First()
	e, err := loadNamed(ctx, cmd)
	if errors.Is(err, ask.ErrNoEstate) {
		_, err := address.Parse(text)
		if err != nil {
			return "", ask.Errorf("%w", err)
		}
		return text, nil
	}
	if err != nil {
		return "", err
	}
	return propose.FreeAddress(e, text)
}

// askNeeds asks for each need whether it is there.
func (s *session) askNeeds() ([]string, error) {
	out, ok := s.streams.Out.(*os.File)
	if !ok || !term.IsTerminal(int(out.Fd())) || !term.IsTerminal(int(os.Stdin.Fd())) {
		return nil, ask.Errorf("group advise needs what the address is to do, as in --outsiders-write --keep-posts; on a " +
			"terminal it asks")
	}
	answers := make(chan string)
	read := func() {
		in := bufio.NewScanner(os.Stdin)
		for in.Scan() {
			select {
			case answers <- strings.ToLower(strings.TrimSpace(in.Text())):
			case <-s.ctx.Done():
				return
			}
		}
		close(answers)
	}
	go read()
	var needs []string
	for _, need := range preset.Needs() {
		fmt.Fprintf(s.streams.Out, "%s [y/N] ", need.Question)
		select {
		case text, ok := <-answers:
			if !ok {
				return needs, nil
			}
			if text == "y" || text == "yes" {
				needs = append(needs, need.Name)
			}
			if need.Name == "access-only" && len(needs) > 0 {
				return needs, nil
			}
		case <-s.ctx.Done():
			return nil, s.ctx.Err()
		}
	}
	fmt.Fprintln(s.streams.Out)
	return needs, nil
}
