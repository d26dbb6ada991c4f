package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

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
	if !keepsAnswers(s.cmd) || s.ctx.Err() != nil || s.streams.passing {
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

// outcome returns what is kept of an answer, without what it found.
func (s *session) outcome(kind, path, what string, began time.Time, a present.Answer) *history.Outcome {
	o := &history.Outcome{Series: history.NewSeries(kind, path, what), Began: began, Version: version(),
		Says: present.FirstLine(a)}
	if s.r != nil {
		o.Day = s.r.Today().String()
	}
	return o
}

// whatOf returns what a command was asked for besides its estate, as it stands on the command line.
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

// hazardOutcome returns what is kept of a check.
func (s *session) hazardOutcome(path, what string, began time.Time, a *present.Hazards) *history.Outcome {
	o := s.outcome("check", path, what, began, a)
	for _, n := range a.Counts {
		o.Bad += n
	}
	if o.Bad > store.MostFacts { // they are not put into words
		o.Untold = o.Bad
		return o
	}
	for h := range a.Brief() {
		o.Facts = append(o.Facts, store.Fact{Name: h.ID, Group: strings.ToLower(h.Group), Who: strings.ToLower(h.Address),
			Severity: h.Severity, Says: h.Name + ": " + h.Says})
	}
	return o
}

// expectationOutcome returns what is kept of expectations.
func (s *session) expectationOutcome(path, what string, began time.Time, a *present.Expectations) *history.Outcome {
	o := s.outcome("expect", path, what, began, a)
	seen := map[string]int{}
	for e := range a.Brief() {
		if e.Holds {
			o.Good++
			continue
		}
		o.Bad++
		name := e.Group + "\n" + e.Text
		seen[name]++
		says := e.Text + ": broken"
		if len(e.Counterexamples) > 0 {
			says += ", " + breaks(e.Counterexamples[0])
		}
		base := store.Fact{Name: nameOf(name, strconv.Itoa(seen[name])), Group: strings.ToLower(e.Group), Says: says}
		o.Facts = append(o.Facts, base)
		// One that is broken by more than before is worse, which is something new.
		for _, n := range worse {
			if e.Breaking < n {
				break
			}
			more := base
			more.Name = nameOf(name, strconv.Itoa(seen[name]), "by", strconv.Itoa(n))
			more.Says = fmt.Sprintf("%s: broken by %d or more", e.Text, n)
			o.Facts = append(o.Facts, more)
		}
	}
	o.Wrong = o.Bad > 0
	return o
}

// worse are the numbers of those who break an expectation from which on that is worse.
var worse = []int{2, 3, 5, 8, 12, 20, 35, 60, 100, 200, 500, 1000, 2000, 5000, 10_000}

// breaks says who breaks an expectation, and what is the case instead.
func breaks(c present.Counterexample) string {
	who := map[string]string{"outside stranger": "anyone outside", "inside stranger": "an unknown inside address",
		"forged stranger": "forged mail"}[c.Who]
	return strings.TrimSuffix(strings.TrimPrefix(cmp.Or(who, c.Address)+": "+c.Says, ": "), ": ")
}

// nameOf returns a name that stands for some words.
func nameOf(words ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(words, "\x00")))
	return hex.EncodeToString(sum[:8])
}

// comparisonOutcome returns what is kept of a comparison: every difference.
func (s *session) comparisonOutcome(path, what string, began time.Time, a *present.Comparison) *history.Outcome {
	o := s.outcome("compare", path, what, began, a)
	for _, d := range a.Differences() {
		o.Facts = append(o.Facts, store.Fact{Name: nameOf(d.Group, d.Who, d.Says, d.Detail), Group: strings.ToLower(d.Group),
			Who: strings.ToLower(d.Who), Says: d.Says})
	}
	o.Bad, o.Wrong = len(o.Facts), len(o.Facts) > 0
	return o
}

// historyError says in words what is wrong with a name of a run.
func historyError(err error, name string) error {
	switch {
	case errors.Is(err, store.ErrNoRun):
		return usageError("there is no run %s; yorvet history lists those that are kept", name)
	case errors.Is(err, history.ErrUnlike):
		return usageError("%w; compare two runs of one kind and with the same arguments", err)
	}
	return networkError(err)
}
