package cli

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/present"
)

func newDemo(program string, streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "demo",
		Usage:     "write a demo estate and show what Yorvet does with it",
		ArgsUsage: "[DIR]",
		Description: "The estate is that of a made-up ferry line. It is written into DIR, by default the new folder\n" +
			"yorvet-demo; a folder that holds something else is left alone. Dates in it are set so that somebody\n" +
			"joined a week ago. Nothing leaves this machine.\n\n" +
			"Example: yorvet demo ferries",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "tour", Usage: "show the whole job step by step, and wait for Enter"},
			&cli.IntFlag{Name: "step", Usage: "show one `STEP` of the tour only"},
			&cli.BoolFlag{Name: "write-only", Usage: "write the estate and show nothing"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			d, err := openDemo(ctx, cmd, program, streams)
			if err != nil {
				return err
			}
			return d.run(ctx)
		},
	}
}

// addVolunteers is the change that the demo makes.
var addVolunteers = []string{"member", "add", "volunteers@kelpmere.example", "--from", "volunteers.txt"}

// demonstration is a run of the demo.
type demonstration struct {
	cmd     *cli.Command
	program string
	streams Streams
	dir     string
	day     estate.Day
}

// openDemo writes the demo, and makes its change in the copy of its estate.
func openDemo(ctx context.Context, cmd *cli.Command, program string, streams Streams) (*demonstration, error) {
	d := &demonstration{cmd: cmd, program: program, streams: streams}
	if n := cmd.Int("step"); cmd.IsSet("step") && (n < 1 || n > len(tour)+1) {
		return nil, ask.Errorf("--step takes a number from 1 to %d, not %d", len(tour)+1, n)
	}
	var err error
	if d.day, err = dayOf(cmd); err != nil {
		return nil, err
	}
	switch args := cmd.Args(); args.Len() {
	case 0:
		d.dir = "yorvet-demo"
	case 1:
		d.dir = args.First()
	default:
		return nil, ask.Errorf("demo takes one folder, not %d", args.Len())
	}
	if err := demo.WriteOn(ctx, d.dir, d.day); err != nil {
		return nil, ask.Errorf("%w", err)
	}
	args := []string{program, "--estate", filepath.Join(d.dir, demo.Changed), "--on", d.day.String()}
	for _, arg := range addVolunteers {
		args = append(args, d.inFolder(arg))
	}
	if code := Run(ctx, append(args, "--yes"), Streams{Out: io.Discard, Err: io.Discard}); code != exitAnswered &&
		code != exitWrong {
		return nil, ask.Errorf("the demo's change ended with exit code %d", code)
	}
	return d, demo.Remember(ctx, d.dir)
}

// inFolder returns an argument with the demo's folder before it if it is one of its files.
func (d *demonstration) inFolder(arg string) string {
	if slices.Contains(demo.Files(), arg) {
		return filepath.Join(d.dir, arg)
	}
	return arg
}

func (d *demonstration) run(ctx context.Context) error {
	w := d.streams.Out
	switch {
	case d.cmd.Bool("write-only"):
		fmt.Fprintf(w, "Wrote the demo estate. Next: cd %s; yorvet check\n", present.Clean(d.dir))
		return nil
	case d.cmd.IsSet("step"):
		return d.step(ctx, d.cmd.Int("step"))
	case d.cmd.Bool("tour"):
		for n := 1; n <= len(tour)+1; n++ {
			if n > 1 {
				if err := d.pause(ctx); err != nil {
					return err
				}
			}
			if err := d.step(ctx, n); err != nil {
				return err
			}
		}
		return nil
	}
	for i, scene := range scenes {
		if i > 0 {
			fmt.Fprintln(w)
		}
		if err := d.show(ctx, scene); err != nil {
			return err
		}
	}
	fmt.Fprintf(w, "\nNothing left this machine. Next: cd %s; yorvet check\n", present.Clean(d.dir))
	fmt.Fprintf(w, "All %d steps: yorvet demo --tour. Your own groups: yorvet import --help\n", len(tour)+1)
	return nil
}

// pause waits for Enter, if somebody is there to press it.
func (d *demonstration) pause(ctx context.Context) error {
	out, ok := d.streams.Out.(*os.File)
	if !ok || !term.IsTerminal(int(out.Fd())) || !term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprintln(d.streams.Out)
		return nil
	}
	fmt.Fprint(out, "\n[Enter] ")
	entered := make(chan error, 1)
	go func() {
		_, err := bufio.NewReader(os.Stdin).ReadString('\n')
		entered <- err
	}()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-entered:
		return nil
	}
}

// step shows a step of the tour; the last is the rehearsal.
func (d *demonstration) step(ctx context.Context, n int) error {
	if n > len(tour) {
		return d.show(ctx, act{
			title: strconv.Itoa(n) + ". What does the mail service really do?",
			about: "So far all was worked out from files. Now a simulated mail service starts on this machine, set up as the " +
				"real one is. Yorvet sends it real messages, looks into all mailboxes, and says what differs.",
			args: probeAll, rehearsed: true,
		})
	}
	one := tour[n-1]
	title := strconv.Itoa(n) + ". " + one.title
	return d.show(ctx, act{title: title, about: one.about, args: one.args, estate: one.estate})
}

// show runs a command in the demo's folder and shows it with its answer, as it is for
// somebody in that folder.
func (d *demonstration) show(ctx context.Context, a act) error {
	w := d.streams.Out
	heading(w, a.title)
	present.Paragraph(w, a.about, pageOptions(w))
	shown := a.args
	if d.cmd.IsSet("on") {
		shown = append([]string{"--on", d.day.String()}, shown...)
	}
	folder := demo.Estate
	if a.estate != "" && a.estate != demo.Estate {
		folder = a.estate
		shown = append([]string{"--estate", folder}, shown...)
	}
	fmt.Fprintf(w, "\n$ %s\n", present.Clean(shellLine("yorvet", shown)))
	args := []string{d.program, "--estate", filepath.Join(d.dir, folder), "--on", d.day.String()}
	for _, arg := range a.args {
		args = append(args, d.inFolder(arg))
	}
	if a.rehearsed {
		r, options, err := rehearsal(ctx, d.dir, d.day)
		if err != nil {
			return err
		}
		defer r.close()
		args = append(args, options...)
	}
	answer := &captured{options: pageOptions(w)}
	answer.options.Folder = filepath.ToSlash(d.dir) + "/"
	if code := Run(ctx, args, Streams{Out: answer, Err: d.streams.Err, passing: true}); code != exitAnswered && code != exitWrong {
		return ask.Errorf("this step of the demo ended with exit code %d", code)
	}
	_, err := io.WriteString(w, a.cut(answer.String()))
	return err
}

// captured is an answer that is shown later, laid out for where it is shown.
type captured struct {
	bytes.Buffer
	options present.Options
}

func heading(w io.Writer, s string) {
	present.Heading(w, s, pageOptions(w))
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
