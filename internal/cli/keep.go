package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/ask"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// keepFlags are the flags of commands whose answers are kept.
func keepFlags() []cli.Flag {
	return []cli.Flag{
		storeFlag(),
		&cli.BoolFlag{Name: "no-store", Usage: "do not keep the answer in the store"},
	}
}

// keepsAnswers reports whether the answers of a command are kept: there is a store, and nobody
// says otherwise.
func keepsAnswers(cmd *cli.Command) bool {
	if cmd.Bool("no-store") {
		return false
	}
	if cmd.String("store") != "" || os.Getenv(storeVariable) != "" {
		return true
	}
	folder, err := localfile.StateFolder()
	if err != nil {
		return false
	}
	_, err = os.Stat(filepath.Join(folder, "runs.db"))
	return err == nil
}

// mostKeeping is how long writing an answer into the store may hold up the end of a command.
const mostKeeping = 5 * time.Second

// record keeps what a question came to, if answers are kept. Where that does not work it says so:
// the answer stands.
func (s *session) record(o *history.Outcome) {
	if !keepsAnswers(s.cmd) || s.ctx.Err() != nil {
		return
	}
	ctx, cancel := context.WithTimeout(s.ctx, mostKeeping)
	defer cancel()
	st, err := openStore(ctx, s.cmd, Streams{Out: io.Discard}, o.Series.Path, false)
	if err == nil {
		defer st.Close()
		o.Began = o.Began.Add(st.Now().Sub(clock.Now())) // by the clock of the store
		_, err = st.Keep(ctx, o.Answer(st.Now()), o.Facts, nil, nil)
	}
	if err != nil {
		fmt.Fprintln(s.streams.Err, "yorvet: this answer is not kept: "+present.Clean(strings.TrimPrefix(err.Error(),
			"yorvet: ")))
	}
}

// whatOf returns what a command was asked for apart from its estate, as it stands on the command line.
func whatOf(cmd *cli.Command, flags ...string) string {
	parts := append([]string{}, cmd.Args().Slice()...)
	for _, name := range flags {
		if !cmd.IsSet(name) {
			continue
		}
		switch value := cmd.Value(name).(type) {
		case []string:
			for _, one := range value {
				parts = append(parts, "--"+name+" "+one)
			}
		case bool:
			parts = append(parts, "--"+name)
		default:
			parts = append(parts, fmt.Sprintf("--%s %v", name, value))
		}
	}
	return strings.Join(parts, " ")
}

// historyError says in words what is wrong with a name of a run.
func historyError(err error, name string) error {
	switch {
	case errors.Is(err, store.ErrNoRun):
		return ask.Errorf("there is no run %s; yorvet history lists those that are kept", name)
	case errors.Is(err, history.ErrUnlike):
		return ask.Errorf("%w; compare two runs of one kind and with the same arguments", err)
	}
	return ask.Network(err)
}
