package maillog

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"yorvet.example/yorvet/internal/core/trail"
	"yorvet.example/yorvet/internal/localfile"
)

// Read reads logs and gives each event to visit, in the order of their times as far as each
// log keeps to it; "-" is standard input. What is compressed (RFC 1952, RFC 8878, xz) is
// read as what it holds. The event is visit's until it returns; its texts are parts of the
// log.
func Read(ctx context.Context, paths []string, stdin io.Reader, options Options,
	visit func(*trail.Event)) (*Counts, error) {
	counts := &Counts{}
	if options.Map != nil {
		return counts, readTraces(ctx, paths, stdin, options, counts, visit)
	}
	m := &merge{ctx: ctx, options: options, stdin: stdin, counts: counts}
	defer m.close()
	if err := m.look(paths); err != nil {
		return counts, err
	}
	return counts, m.run(visit)
}

// merge reads logs side by side.
type merge struct {
	ctx     context.Context
	options Options
	stdin   io.Reader
	counts  *Counts
	waiting []logFile // not begun, by when they begin
	open    []*stream
	files   []io.Closer
}

// logFile is a log and when it begins.
type logFile struct {
	path   string
	begins int64 // the first time in it; 0: none in its beginning
	now    time.Time
}

// look finds out when logs begin: those that were rotated away are read one after the other.
func (m *merge) look(paths []string) error {
	for _, path := range paths {
		file := logFile{path: path, now: m.options.Now}
		if path != "-" {
			r, closer, err := m.reader(path)
			if err != nil {
				return err
			}
			if info, err := os.Stat(path); err == nil && info.ModTime().Before(file.now) {
				file.now = info.ModTime()
			}
			file.begins = firstTime(r, stamps{zone: m.options.Zone, now: file.now})
			closer.Close()
		}
		m.waiting = append(m.waiting, file)
	}
	slices.SortStableFunc(m.waiting, func(a, b logFile) int {
		switch {
		case a.begins < b.begins:
			return -1
		case a.begins > b.begins:
			return 1
		}
		return 0
	})
	return nil
}

// firstTime returns the first time in the beginning of a log.
func firstTime(r io.Reader, c stamps) int64 {
	const most = 100 // lines
	lines := bufio.NewReaderSize(io.LimitReader(r, longestLine), longestLine)
	for range most {
		line, err := lines.ReadString('\n')
		if line = strings.TrimRight(line, "\r\n"); line != "" {
			p := lineParser{stamps: c}
			var e trail.Event
			if p.parse(line, &e); e.Time != 0 {
				return e.Time
			}
		}
		if err != nil {
			break
		}
	}
	return 0
}

// run gives the events of all logs, the earliest first.
func (m *merge) run(visit func(*trail.Event)) error {
	for {
		if err := m.ctx.Err(); err != nil {
			return err
		}
		if len(m.open) == 0 {
			if len(m.waiting) == 0 {
				return nil
			}
			if err := m.begin(); err != nil {
				return err
			}
		}
		s, until := m.earliest()
		if len(m.waiting) > 0 && (s == nil || m.waiting[0].begins <= s.peek().Time) {
			if err := m.begin(); err != nil {
				return err
			}
			continue
		}
		if s == nil {
			return nil
		}
		if len(m.waiting) > 0 {
			until = min(until, m.waiting[0].begins)
		}
		if err := m.give(s, until, visit); err != nil {
			return err
		}
	}
}

// give gives the events of one log as long as no other one has an earlier one.
func (m *merge) give(s *stream, until int64, visit func(*trail.Event)) error {
	const often = 1 << 12
	for n := 1; ; n++ {
		e := s.peek()
		if e == nil {
			m.open = slices.DeleteFunc(m.open, func(other *stream) bool { return other == s })
			s.close()
			if s.err != nil {
				return fmt.Errorf("%s: %w", s.name, s.err)
			}
			return nil
		}
		if e.Time > until {
			return nil
		}
		visit(e)
		s.next()
		if n%often == 0 && m.ctx.Err() != nil {
			return m.ctx.Err()
		}
	}
}

// earliest returns the open log with the earliest event, and until when it is that.
func (m *merge) earliest() (first *stream, until int64) {
	const never = 1<<63 - 1
	until = never
	for _, s := range m.open {
		if s.peek() == nil {
			if s.err != nil || len(m.open) == 1 {
				return s, never // which ends it
			}
		}
	}
	for _, s := range m.open {
		e := s.peek()
		switch {
		case e == nil:
			return s, never
		case first == nil:
			first = s
		case e.Time < first.peek().Time:
			until = min(until, first.peek().Time)
			first = s
		default:
			until = min(until, e.Time)
		}
	}
	return first, until
}

// begin begins to read the log that begins first.
func (m *merge) begin() error {
	file := m.waiting[0]
	m.waiting = m.waiting[1:]
	r, closer, err := m.reader(file.path)
	if err != nil {
		return err
	}
	m.files = append(m.files, closer)
	m.open = append(m.open, newStream(m.ctx, file.path, r, file.now, m.options, m.counts))
	return nil
}

func (m *merge) close() {
	for _, s := range m.open {
		s.close()
	}
	for _, f := range m.files {
		f.Close()
	}
}

// reader opens a log, which may be compressed.
func (m *merge) reader(path string) (io.Reader, io.Closer, error) {
	if path == "-" {
		r, err := unpacked(m.ctx, "standard input", m.stdin)
		return r, io.NopCloser(nil), err
	}
	f, err := localfile.Open(path)
	if err != nil {
		return nil, nil, err
	}
	r, err := unpacked(m.ctx, path, f)
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return r, f, nil
}

// most is how much of a log is read, in bytes of what it holds.
const most = 1 << 40

// unpacked returns what a file holds, if it is compressed, by its first bytes.
func unpacked(ctx context.Context, name string, r io.Reader) (io.Reader, error) {
	const ahead = 64 << 10
	b := bufio.NewReaderSize(r, ahead)
	begin, err := b.Peek(6)
	if err != nil && err != io.EOF {
		return nil, err
	}
	var plain io.Reader = b
	switch {
	case bytes.HasPrefix(begin, []byte{0x1f, 0x8b}):
		plain, err = gzip.NewReader(b)
	case bytes.HasPrefix(begin, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		plain, err = zstd.NewReader(b, zstd.WithDecoderMaxMemory(mostWindow), zstd.WithDecoderConcurrency(1))
	case bytes.HasPrefix(begin, []byte{0xfd, '7', 'z', 'X', 'Z', 0}):
		plain, err = xz.ReaderConfig{DictCap: xzDictionary}.NewReader(b)
	default:
		err = nil
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return &localfile.Bounded{Ctx: ctx, R: plain, Name: name, Most: most}, nil
}

// What unpacking may take of memory, in bytes.
const (
	mostWindow   = 128 << 20
	xzDictionary = 64 << 20
)
