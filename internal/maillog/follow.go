package maillog

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/trail"
	"yorvet.example/yorvet/internal/localfile"
)

// How following continues.
const (
	followEvery = 250 * time.Millisecond
	nearEnd     = 1 << 20 // bytes before the end of a log that are read at first
)

// Follow reads logs as they grow, "-" as standard input, and gives each event to visit
// until ctx ends. Of each log it begins a little before its end, so that messages that are
// on their way are known. A log that is rotated away is read to its end, and the one in
// its place from its beginning. tick is called after each look, from the same goroutine.
func Follow(
	ctx context.Context, paths []string, stdin io.Reader, options Options, visit func(*trail.Event), tick func(),
) (*Counts, error) {
	counts := &Counts{}
	var list []*followed
	defer func() {
		for _, f := range list {
			f.close()
		}
	}()
	for _, path := range paths {
		f := &followed{path: path, parser: lineParser{stamps: stamps{zone: options.Zone, now: options.Now}, local: options.Local}}
		list = append(list, f)
		if path == "-" {
			f.lines = linesOf(ctx, stdin)
		} else if err := f.open(true); err != nil {
			return counts, err
		}
	}
	ticker := time.NewTicker(followEvery)
	defer ticker.Stop()
	for {
		ended := 0
		for _, f := range list {
			if err := f.look(counts, visit); err != nil {
				return counts, err
			}
			if f.ended {
				ended++
			}
		}
		tick()
		if ended == len(list) {
			return counts, nil // standard input alone, to its end
		}
		select {
		case <-ctx.Done():
			return counts, nil
		case <-ticker.C:
		}
	}
}

// followed is a log that is followed.
type followed struct {
	path   string
	file   *os.File
	begun  []byte // of a line that is not whole yet
	parser lineParser
	skip   bool          // the rest of a line is not looked at
	lines  <-chan string // of standard input
	ended  bool
}

// open opens what is at the path now; before its end, or from its beginning.
func (f *followed) open(atEnd bool) error {
	file, err := localfile.Open(f.path)
	if err != nil {
		return err
	}
	f.file, f.begun, f.skip = file, nil, false
	info, err := file.Stat()
	if err != nil || !atEnd || info.Size() <= nearEnd {
		return err
	}
	f.skip = true // it begins within a line
	_, err = file.Seek(-nearEnd, io.SeekEnd)
	return err
}

func (f *followed) close() {
	if f.file != nil {
		f.file.Close()
	}
}

// look reads what is new.
func (f *followed) look(counts *Counts, visit func(*trail.Event)) error {
	if f.lines != nil {
		return f.fromInput(counts, visit)
	}
	if err := f.read(counts, visit); err != nil {
		return err
	}
	now, err := os.Stat(f.path)
	if errors.Is(err, os.ErrNotExist) {
		return nil // about to be there again
	}
	if err != nil {
		return err
	}
	was, err := f.file.Stat()
	if err != nil {
		return err
	}
	at, err := f.file.Seek(0, io.SeekCurrent)
	if err != nil {
		return err
	}
	switch {
	case !os.SameFile(now, was):
		if err := f.read(counts, visit); err != nil {
			return err
		}
		f.file.Close()
		if err := f.open(false); err != nil {
			return err
		}
		return f.read(counts, visit)
	case now.Size() < at: // it was cut
		f.begun = nil
		_, err = f.file.Seek(0, io.SeekStart)
	}
	return err
}

// read reads the whole lines that there are.
func (f *followed) read(counts *Counts, visit func(*trail.Event)) error {
	buffer := make([]byte, 64<<10)
	for {
		n, err := f.file.Read(buffer)
		f.begun = append(f.begun, buffer[:n]...)
		for {
			line, rest, whole := bytes.Cut(f.begun, []byte{'\n'})
			if !whole {
				break
			}
			if f.begun = rest; f.skip {
				f.skip = false
				continue
			}
			f.line(string(line), counts, visit)
		}
		if len(f.begun) > longestLine {
			f.begun, f.skip = nil, true
			counts.Lines++
			counts.Unknown++
		}
		if err == io.EOF || n == 0 {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%s: %w", f.path, err)
		}
	}
}

// line reads a line.
func (f *followed) line(line string, counts *Counts, visit func(*trail.Event)) {
	var e trail.Event
	f.parser.stamps.now = clock.Now()
	counts.Lines++
	switch f.parser.parse(strings.TrimSuffix(line, "\r"), &e) {
	case something:
		counts.Events++
		visit(&e)
	case beside:
		counts.Beside++
	default:
		counts.Unknown++
		counts.Samples = append(counts.Samples, Sample{f.path, 0, line[:min(len(line), sampleSize)]})
		if len(counts.Samples) > mostSamples {
			counts.Samples = counts.Samples[1:]
		}
	}
}

// linesOf gives the lines of a reader until it ends.
func linesOf(ctx context.Context, r io.Reader) <-chan string {
	lines := make(chan string, 1000)
	go func() {
		defer close(lines)
		scanner := bufio.NewScanner(r)
		scanner.Buffer(make([]byte, 64<<10), 1<<20)
		for scanner.Scan() {
			select {
			case lines <- scanner.Text():
			case <-ctx.Done():
				return
			}
		}
	}()
	return lines
}

// fromInput reads the lines of standard input that have come.
func (f *followed) fromInput(counts *Counts, visit func(*trail.Event)) error {
	for {
		select {
		case line, ok := <-f.lines:
			if !ok {
				f.ended = true
				return nil
			}
			f.line(line, counts, visit)
		default:
			return nil
		}
	}
}
