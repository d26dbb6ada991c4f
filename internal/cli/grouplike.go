package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/choose"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/directory/paste"
	"yorvet.example/yorvet/internal/present"
)

func newGroupLike(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "like",
		Usage:     "find the groups that reach the people of a pasted list",
		ArgsUsage: "[ADDRESS...]",
		Description: "Is that a group already? The nearest are told by who really gets their mail, with who is " +
			"missing and who\n" +
			"is too many, and the command that makes a group of just these people. Names without an address are\n" +
			"found where one person has them; a group stands for those who get its mail.\n\n" +
			"Example: yorvet group like --from volunteers.txt",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "take addresses from a `FILE`, or from - for standard input, as they " +
				"are pasted"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, err := open(ctx, cmd, streams)
			if err != nil {
				return err
			}
			w, err := s.wanted()
			if err != nil {
				return err
			}
			if len(w.people)+len(w.unknown) == 0 {
				return ask.Errorf("group like needs people: addresses, or --from")
			}
			const most = 5
			near := choose.Nearest(s.Resolver, w.people, most)
			answer := present.NewAlike(s.Resolver, w.people, w.unknown, near)
			answer.Notes = append(answer.Notes, w.notes...)
			answer.Command = s.commandFor(cmd)
			return s.print(answer)
		},
	}
}

// wanted are the people of a list.
type wanted struct {
	people  []estate.ID
	unknown []string // addresses that the estate does not know
	notes   []string
}

// wanted returns the people that the command line and --from name.
func (s *session) wanted() (*wanted, error) {
	text := strings.Join(s.cmd.Args().Slice(), "\n")
	if from := s.cmd.String("from"); from != "" {
		pasted, err := ask.ReadPasted(s.ctx, from)
		if err != nil {
			return nil, err
		}
		text += "\n" + pasted
	}
	w := &wanted{}
	found, remarks := paste.Parse(text)
	for _, p := range found {
		s.want(w, p.Address)
	}
	for _, r := range remarks {
		if r.Twice {
			continue
		}
		id, ok, err := s.ByLocalPart(r.Text, ask.Anybody)
		if !ok && err == nil && r.Nameless {
			id, ok, err = s.ByName(r.Text)
		}
		switch {
		case ok:
			s.want(w, s.Estate.Address(id))
		case err != nil:
			w.notes = append(w.notes, strings.TrimPrefix(err.Error(), "yorvet: "))
		default:
			w.notes = append(w.notes, fmt.Sprintf("%s: %s", r.Text, r.Why))
		}
	}
	slices.Sort(w.people)
	w.people = slices.Compact(w.people)
	return w, nil
}

// want adds who an address means.
func (s *session) want(w *wanted, a address.Address) {
	id, known := s.Estate.Find(a)
	switch {
	case !known:
		w.unknown = append(w.unknown, a.String())
	case s.Estate.IsGroup(id):
		n := 0
		for _, x := range s.Resolver.Flow(id, resolve.Message{}).Outcomes() {
			if x.Outcome == resolve.Inbox || x.Outcome == resolve.Digest || x.Outcome == resolve.Archive ||
				x.Outcome == resolve.Undeliverable {
				w.people = append(w.people, x.Person)
				n++
			}
		}
		w.notes = append(w.notes, fmt.Sprintf("%s stands for the %d who get its mail", a, n))
	default:
		w.people = append(w.people, id)
	}
}

// commandFor returns the command that makes a group of just these people.
func (s *session) commandFor(cmd *cli.Command) string {
	parts := []string{"yorvet group new NAME@" + s.Estate.Settings().Domains[0].Name + " --preset discussion --owner ADDRESS"}
	if from := cmd.String("from"); from != "" {
		parts = append(parts, "--from "+ask.Quoted([]string{from})[0])
	}
	for _, arg := range ask.Quoted(cmd.Args().Slice()) {
		parts = append(parts, "--member "+arg)
	}
	return strings.Join(parts, " ")
}
