package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/present"
)

func newDemo(program string, streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "demo",
		Usage:     "write the demo estate and walk through the job with it",
		ArgsUsage: "[DIR]",
		Description: "The estate is that of a made-up ferry line. It is written into DIR, a new temporary folder\n" +
			"by default; files that the demo did not write are never overwritten.\n\n" +
			"Example: yorvet demo ferries",
		Action: func(ctx context.Context, cmd *cli.Command) error { return runDemo(ctx, cmd, program, streams) },
	}
}

// step is a part of the demo: what it is about, and the command that shows it.
type step struct {
	title  string
	about  string
	args   []string
	estate string // below the demo's folder; "" for the estate as it is written down
}

// demoDate is the day that the demo plays on: some answers hang on it.
const demoDate = "2026-11-23"

var demoSteps = []step{
	{
		"Who may write to the lost property desk?",
		"Passengers write to this group from outside, so its gate has to let strangers in, but nobody who only claims to " +
			"be one of us. The newest member is held for two weeks.",
		[]string{"who", "posts", "lost-property@kelpmere.example"},
		"",
	},
	{
		"A passenger writes to the desk",
		"To an old address of it, even. Every rule that was tried is there, and what each side sees.",
		[]string{"explain", "--from", "passenger@holiday.example", "--to", "found@kelpmereferries.example"},
		"",
	},
	{
		"Somebody claims to be a skipper",
		"The address is one of ours, but nothing proves it. The gate looks at that first.",
		[]string{
			"explain",
			"--from",
			"ines.maro@kelpmere.example",
			"--to",
			"lost-property@kelpmere.example",
			"--unproven",
		},
		"",
	},
	{
		"A new member of the crew writes to the desk",
		"Proven, inside, a member: and still it waits, for somebody who can release it.",
		[]string{"explain", "--from", "ivo.lark@kelpmere.example", "--to", "lost-property@kelpmere.example"},
		"",
	},
	{
		"Who receives a sailing notice?",
		"A duty officer may post it. But a nested group asks its own gate again: the engine crew miss it, and " +
			"nobody is told.",
		[]string{"who", "receives", "sailing-notices@kelpmere.example", "--from", "odile.renn@kelpmere.example"},
		"",
	},
	{
		"The chief engineer wrote to the same group, and nobody has seen it. Why?",
		"Step by step: where it turned, and who has to release it. This is what to paste into the ticket.",
		[]string{"explain", "--from", "chief@kelpmere.example", "--to", "sailing-notices@kelpmere.example"},
		"",
	},
	{
		"Who may answer charter enquiries in the group's name?",
		"Three people may, on paper. But they have to prove it with a code that is mailed to the group.",
		[]string{"who", "sends-as", "charter@kelpmere.example"},
		"",
	},
	{
		"Why does Nora get nothing?",
		"Everything about one person, and what breaks without them.",
		[]string{"person", "nora.teale@kelpmere.example"},
		"",
	},
	{
		"What else is going to bite?",
		"There are 22 kinds of hazards. These are the worst; the list without --only is longer.",
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
		"",
	},
	{
		"All groups at a glance",
		"What each gate says to strangers, and how many post, get the mail and miss it.",
		[]string{"matrix", "--where", "outside admit"},
		"",
	},
	{
		"Does what was promised hold?",
		"Expectations are kept beside the estate. Two of these are broken.",
		[]string{"expect", "kelpmere.expect"},
		"",
	},
	{
		"What would change if the estate were as the mail service really has it?",
		"Not the texts are compared, but what they do.",
		[]string{"compare", "estate", "served"},
		"",
	},
	{
		"New volunteers have signed up: what changes if they are added?",
		"Their list is pasted as it came. What was not understood is listed, and what the change does is shown, before " +
			"anything is written.",
		append(addVolunteers, "--preview"),
		"",
	},
	{
		"And the directory that the group is managed in?",
		"In the copy of the estate in the folder changed they are added. The difference comes out as a change that the " +
			"directory takes: LDIF here, or SCIM.",
		[]string{"export", "--as", "ldif", "--since", "estate", "--for", "hq-directory"},
		demo.Changed,
	},
}

// addVolunteers is the change that the demo makes.
var addVolunteers = []string{"member", "add", "volunteers@kelpmere.example", "--from", "volunteers.txt"}

// makeChange makes the demo's change in the copy of its estate.
func makeChange(ctx context.Context, dir, program string) error {
	args := []string{program, "--estate", filepath.Join(dir, demo.Changed), "--on", demoDate}
	for _, arg := range addVolunteers {
		if slices.Contains(demo.Files(), arg) {
			arg = filepath.Join(dir, arg)
		}
		args = append(args, arg)
	}
	if code := Run(ctx, append(args, "--yes"), Streams{Out: io.Discard, Err: io.Discard}); code != exitAnswered &&
		code != exitWrong {
		return usageError("the demo's change ended with exit code %d", code)
	}
	return demo.Remember(ctx, dir)
}

func runDemo(ctx context.Context, cmd *cli.Command, program string, streams Streams) error {
	dir, err := demoFolder(cmd)
	if err != nil {
		return err
	}
	if err := demo.Write(ctx, dir); err != nil {
		return usageError("%w", err)
	}
	if err := makeChange(ctx, dir, program); err != nil {
		return err
	}
	w := streams.Out
	heading(w, "Kelpmere Ferries, a made-up ferry line, has its mail groups written down in")
	fmt.Fprintf(w, "%s\n", present.Clean(filepath.Join(dir, demo.Estate)))
	for i, one := range demoSteps {
		if one.estate == "" {
			one.estate = demo.Estate
		}
		fmt.Fprintf(w, "\n")
		heading(w, fmt.Sprintf("%d. %s", i+1, one.title))
		present.Paragraph(w, one.about, pageOptions(w))
		args := append([]string{"--estate", filepath.Join(dir, one.estate), "--on", demoDate}, one.args...)
		for j, arg := range args {
			if slices.Contains(demo.Files(), arg) {
				args[j] = filepath.Join(dir, arg)
			}
		}
		fmt.Fprintf(w, "\n$ %s\n\n", present.Clean(shellLine(invocation(program), args)))
		if code := Run(ctx, append([]string{program}, args...), streams); code != exitAnswered && code != exitWrong {
			return usageError("this step of the demo ended with exit code %d", code)
		}
	}
	if err := rehearse(ctx, dir, program, streams); err != nil {
		return err
	}
	fmt.Fprintf(w, "\n")
	heading(w, "Now try your own: change "+filepath.Join(dir, demo.Estate, "groups.yaml")+" and ask again,")
	fmt.Fprintf(w, "or write down one group of yours; the README begins with one.\n")
	return nil
}

// demoFolder returns the folder for the demo, a new one if none is named.
func demoFolder(cmd *cli.Command) (string, error) {
	if cmd.Args().Len() > 1 {
		return "", usageError("demo takes one folder, not %d", cmd.Args().Len())
	}
	if dir := cmd.Args().First(); dir != "" {
		return dir, nil
	}
	dir, err := os.MkdirTemp("", "yorvet-demo-")
	if err != nil {
		return "", errors.Join(usageError("no temporary folder can be made"), err)
	}
	return dir, nil
}

func heading(w io.Writer, s string) {
	present.Heading(w, s, pageOptions(w))
}

// invocation returns how the program is called: by its name, or by the go
// command if that built it just for this run.
func invocation(program string) string {
	if path, err := os.Executable(); err == nil && strings.Contains(filepath.ToSlash(path), "/go-build") {
		return "go run ./cmd/yorvet"
	}
	return shellWord(program)
}

var plainWord = regexp.MustCompile(`^[A-Za-z0-9_@%+=:,./-]+$`)

func shellWord(s string) string {
	if plainWord.MatchString(s) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

func shellLine(program string, args []string) string {
	line := program
	for _, arg := range args {
		line += " " + shellWord(arg)
	}
	return line
}
