package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/demo"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/propose"
	"yorvet.example/yorvet/internal/store"
)

func newDemo(streams Streams) *cli.Command {
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
			d, err := openDemo(ctx, cmd, streams)
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
	streams Streams
	dir     string
	day     estate.Day
}

// openDemo writes the demo, and makes its change in the copy of its estate.
func openDemo(ctx context.Context, cmd *cli.Command, streams Streams) (*demonstration, error) {
	d := &demonstration{cmd: cmd, streams: streams}
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
	how := &propose.Manner{Yes: true, Tell: func(string) {}}
	how.Command = []string{"--estate", d.file(demo.Changed), "--on", d.day.String(), "member", "add",
		"volunteers@kelpmere.example", "--from", d.file("volunteers.txt"), "--yes"}
	if _, err := propose.Change(ctx, d.place(demo.Changed), how, d.newVolunteers()); err != nil {
		return nil, err
	}
	return d, demo.Remember(ctx, d.dir)
}

// file returns where a file of the demo is.
func (d *demonstration) file(name string) string { return filepath.Join(d.dir, name) }

// place returns where a question about one of the demo's estates is asked.
func (d *demonstration) place(folder string) *ask.Place {
	return &ask.Place{Path: d.file(folder), Named: true, Day: d.day, Version: version(),
		Warn: func(text string) { warn(d.streams, text) },
		Note: func(line string) { fmt.Fprintln(d.streams.Err, present.Clean(line)) }}
}

// newVolunteers is the change that the demo makes.
func (d *demonstration) newVolunteers() *propose.NewMembers {
	return &propose.NewMembers{Groups: ask.Groups{Names: []string{"volunteers@kelpmere.example"}},
		Who: propose.Who{From: d.file("volunteers.txt")}}
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
			args: probeAll, answer: rehearse,
		})
	}
	one := tour[n-1]
	title := strconv.Itoa(n) + ". " + one.title
	return d.show(ctx, act{title: title, about: one.about, args: one.args, estate: one.estate, answer: one.answer})
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
	fmt.Fprintf(w, "\n$ %s\n", present.Clean(strings.Join(append([]string{"yorvet"}, ask.Quoted(shown)...), " ")))
	var text strings.Builder
	if err := a.answer(ctx, d, d.place(folder), &text); err != nil {
		return err
	}
	_, err := io.WriteString(w, a.cut(text.String()))
	return err
}

// print prints an answer, laid out for where the demo is shown.
func (d *demonstration) print(w io.Writer, answer present.Answer) error {
	options := pageOptions(d.streams.Out)
	options.Folder = filepath.ToSlash(d.dir) + "/"
	return present.Print(w, answer, present.Text, options)
}

// asked returns what shows the answer to a question.
func asked(question func(d *demonstration) ask.Question) answering {
	return func(ctx context.Context, d *demonstration, at *ask.Place, w io.Writer) error {
		r, err := question(d).Ask(ctx, at)
		if r == nil {
			return err
		}
		return errors.Join(d.print(w, r.Answer), err)
	}
}

// previewed shows the change that the demo makes.
func previewed(ctx context.Context, d *demonstration, at *ask.Place, w io.Writer) error {
	r, err := propose.Change(ctx, at, &propose.Manner{Preview: true}, d.newVolunteers())
	if err != nil {
		return err
	}
	return d.print(w, r.Answer)
}

// exported shows the change of the demo for the directory.
func exported(ctx context.Context, d *demonstration, at *ask.Place, w io.Writer) error {
	q := &ask.Export{As: "ldif", Since: d.file(demo.Estate), For: "hq-directory"}
	x, err := q.Make(ctx, at)
	if err != nil {
		return err
	}
	for _, line := range x.Notes(false) {
		at.Note(line)
	}
	_, err = w.Write(x.Data)
	return err
}

// rehearse sends the demo's messages to a stand-in.
func rehearse(ctx context.Context, d *demonstration, at *ask.Place, w io.Writer) error {
	r, q, err := rehearsal(ctx, d.dir, d.day)
	if err != nil {
		return err
	}
	defer r.close()
	if at.Store, err = store.Open(ctx, filepath.Join(r.folder, "runs.db")); err != nil {
		return ask.Errorf("%w", err)
	}
	defer at.Store.Close()
	return asked(func(*demonstration) ask.Question { return q })(ctx, d, at, w)
}

func heading(w io.Writer, s string) {
	present.Heading(w, s, pageOptions(w))
}
