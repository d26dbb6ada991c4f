package maillog

import (
	"bytes"
	"context"
	"io"
	"runtime"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/core/trail"
)

// Options say how logs are read.
type Options struct {
	Zone *time.Location // of times that do not say theirs
	Now  time.Time      // times without a year are before it
	Map  *Map           // logs are traces that a map describes, or nil
	// Local returns whose mailbox has a name on the machine that writes a log, where something was
	// written to a domain, or ""; nil: nobody says. Some servers name mailboxes without a domain.
	Local func(name, domain string) string
}

// Counts say how much of logs was understood.
type Counts struct {
	Lines   int
	Bytes   int64
	Events  int // lines that say what happens to a message
	Beside  int // lines that are known, and do not
	Unknown int
	// Samples are lines that are not known, the first of each file.
	Samples []Sample
}

// A Sample is a line of a log.
type Sample struct {
	File string
	Line int // 0: it is not known
	Text string
}

// GCPercent is a good garbage collection target percentage (runtime/debug) for anyone who reads
// large logs: little is kept of them, so the heap is small, and would be looked through all
// the time.
const GCPercent = 300

// The bounds of what is read.
const (
	chunkSize   = 128 << 10
	longestLine = 64 << 10 // what is longer counts as unknown
	mostSamples = 1000
	sampleSize  = 1000 // bytes of a line that are kept
)

// batch is what is read from a chunk of a log.
type batch struct {
	text   string
	line   int // of its first line, from 0
	events []trail.Event
	counts Counts
	err    error // after which nothing follows
	done   chan struct{}
}

// stream reads one log: events one after the other, in the order of its lines.
type stream struct {
	name    string
	ordered chan *batch
	current *batch
	at      int
	counts  *Counts
	free    chan *batch
	err     error
	stop    context.CancelFunc
}

// newStream begins to read a log. now is as in Options.
func newStream(ctx context.Context, name string, r io.Reader, now time.Time, options Options,
	counts *Counts) *stream {
	ctx, stop := context.WithCancel(ctx)
	workers := runtime.GOMAXPROCS(0)
	s := &stream{name: name, ordered: make(chan *batch, workers), counts: counts, free: make(chan *batch, 2*workers),
		stop: stop}
	work := make(chan *batch, workers)
	for range workers {
		go func() {
			p := &lineParser{stamps: stamps{zone: options.Zone, now: now}, local: options.Local}
			for b := range work {
				b.parse(p)
				close(b.done)
			}
		}()
	}
	go s.cut(ctx, r, work)
	return s
}

// cut cuts a log into chunks of whole lines. Of a line that is longer than a chunk the
// beginning stands for it.
func (s *stream) cut(ctx context.Context, r io.Reader, work chan<- *batch) {
	defer close(work)
	defer close(s.ordered)
	buffer := make([]byte, 0, chunkSize)
	line, within := 0, false
	for {
		var err error
		buffer, err = fill(r, buffer)
		if within {
			rest := bytes.IndexByte(buffer, '\n') + 1
			if rest == 0 {
				rest = len(buffer)
			} else {
				line, within = line+1, false
			}
			buffer = buffer[:copy(buffer, buffer[rest:])]
			if err == nil {
				continue
			}
		}
		end := len(buffer)
		if err == nil {
			if end = bytes.LastIndexByte(buffer, '\n') + 1; end == 0 {
				end, within = len(buffer), true
			}
		}
		b := s.empty()
		b.text, b.line = string(buffer[:end]), line
		if err != io.EOF {
			b.err = err
		}
		line += bytes.Count(buffer[:end], []byte{'\n'})
		buffer = buffer[:copy(buffer, buffer[end:])]
		select {
		case s.ordered <- b:
			work <- b
		case <-ctx.Done():
			return
		}
		if err != nil {
			return
		}
	}
}

// fill reads until a buffer is full, or until an error; io.EOF is the end.
func fill(r io.Reader, buffer []byte) ([]byte, error) {
	for len(buffer) < cap(buffer) {
		n, err := r.Read(buffer[len(buffer):cap(buffer)])
		if buffer = buffer[:len(buffer)+n]; err != nil {
			return buffer, err
		}
	}
	return buffer, nil
}

// empty returns a batch that nothing is in.
func (s *stream) empty() *batch {
	select {
	case b := <-s.free:
		*b = batch{events: b.events[:0], done: make(chan struct{})}
		return b
	default:
		return &batch{done: make(chan struct{})}
	}
}

// parse reads the lines of a batch.
func (b *batch) parse(p *lineParser) {
	for text := b.text; text != ""; {
		line, after, _ := strings.Cut(text, "\n")
		text = after
		line = strings.TrimSuffix(line, "\r")
		if len(b.events) == cap(b.events) {
			b.events = append(b.events, trail.Event{})
		} else {
			b.events = b.events[:len(b.events)+1]
		}
		e := &b.events[len(b.events)-1]
		*e = trail.Event{}
		m := unknown
		if len(line) <= longestLine {
			m = p.parse(line, e)
		}
		b.counts.Lines++
		switch m {
		case something:
			p.texts.keep(e)
			b.counts.Events++
			continue
		case beside:
			b.counts.Beside++
		case unknown:
			b.counts.Unknown++
			if len(b.counts.Samples) < mostSamples {
				sample := Sample{Line: b.line + b.counts.Lines, Text: strings.Clone(line[:min(len(line), sampleSize)])}
				b.counts.Samples = append(b.counts.Samples, sample)
			}
		}
		b.events = b.events[:len(b.events)-1]
	}
	b.counts.Bytes = int64(len(b.text))
}

// peek returns the next event, or nil at the end.
func (s *stream) peek() *trail.Event {
	for s.current == nil || s.at == len(s.current.events) {
		if s.current != nil && s.current.err == nil {
			select {
			case s.free <- s.current:
			default:
			}
		}
		b, ok := <-s.ordered
		if !ok {
			s.current, s.at = &batch{err: io.EOF}, 0
			return nil
		}
		<-b.done
		s.counts.add(s.name, &b.counts)
		s.current, s.at = b, 0
		if b.err != nil && s.err == nil {
			s.err = b.err
		}
	}
	return &s.current.events[s.at]
}

// next moves to the event after the current one.
func (s *stream) next() { s.at++ }

// close ends reading.
func (s *stream) close() {
	s.stop()
	for b := range s.ordered {
		_ = b
	}
}

// add adds the counts of a part of a log.
func (c *Counts) add(name string, part *Counts) {
	c.Lines += part.Lines
	c.Bytes += part.Bytes
	c.Events += part.Events
	c.Beside += part.Beside
	c.Unknown += part.Unknown
	for _, sample := range part.Samples {
		if len(c.Samples) < mostSamples {
			sample.File = name
			c.Samples = append(c.Samples, sample)
		}
	}
}
