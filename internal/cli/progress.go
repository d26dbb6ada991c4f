package cli

import (
	"fmt"
	"io"
	"os"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"yorvet.example/yorvet/internal/agent"
	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/store"
)

// A progress shows how far a run is: on a terminal as a bar, else as a line now and then. The zero
// progress shows nothing.
type progress struct {
	bar  *progressbar.ProgressBar
	out  io.Writer
	last time.Time // when a line was written
}

// lineEvery is how often there is a line.
const lineEvery = 10 * time.Second

func (s *session) progress() *progress {
	f, ok := s.streams.Err.(*os.File)
	switch {
	case !ok:
		return &progress{}
	case !term.IsTerminal(int(f.Fd())):
		return &progress{out: f, last: clock.Now()}
	}
	return &progress{bar: progressbar.NewOptions(1,
		progressbar.OptionSetWriter(f),
		progressbar.OptionClearOnFinish(),
		progressbar.OptionSetPredictTime(false),
		progressbar.OptionSetElapsedTime(false),
		progressbar.OptionSetWidth(12),
	)}
}

func (p *progress) set(t store.Progress) {
	now := clock.Now()
	switch {
	case p.bar != nil:
		p.bar.ChangeMax(max(1, t.Checks+t.Cases))
		p.bar.Describe(agent.ProgressLine(t, now))
		_ = p.bar.Set(t.Checks - t.Missing + t.Cases - t.Waiting - t.Sending)
	case p.out != nil && now.Sub(p.last) >= lineEvery:
		p.last = now
		fmt.Fprintln(p.out, agent.ProgressLine(t, now))
	}
}

func (p *progress) end() {
	if p.bar != nil {
		_ = p.bar.Finish()
	}
}
