// Package ldif reads and writes directory entries as text (RFC 2849).
//
// Read takes content records as a stream, with their lines. It reads no files
// that an LDIF names unless that is allowed, and refuses change records: they
// say what is to be done, not what there is.
//
// Notable divergences from RFC 2849: the version line may be missing, lines may
// end in any way, and values may hold UTF-8 without being encoded; many programs
// write so.
package ldif

import (
	"bufio"
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/localfile"
)

// mostLine is the length in bytes of a line with all its continuations.
const mostLine = 8 << 20

// mostRecord is the size in bytes of the values of a record.
const mostRecord = 256 << 20

// Options say how an LDIF is read.
type Options struct {
	Name  string // of the file, for messages
	Files bool   // values may come from files that the LDIF names (attribute:< file:///...)
}

// An Error is a line that is no LDIF.
type Error struct {
	Name   string
	Line   int // from 1
	Column int // in bytes, from 1
	Text   string
}

func (e *Error) Error() string { return fmt.Sprintf("%s:%d:%d: %s", e.Name, e.Line, e.Column, e.Text) }

// ErrCut is what the error is of a file that ends in the middle of an entry: in its last
// line, or behind the name. Everything before has been read then, and that entry not.
var ErrCut = errors.New("the file ends in the middle of an entry: it is read as a part of a directory")

// Read calls visit with every entry. The entry is used again for the next one;
// its texts may be kept. A broken line is an *Error, and ends the reading.
func Read(ctx context.Context, r io.Reader, options Options, visit func(*directory.Entry)) error {
	// Records are read ahead while those before are looked at.
	const ahead = 64
	p := &reader{ctx: ctx, lines: lines{r: bufio.NewReaderSize(r, 1<<18)}, options: options, names: map[string]string{}}
	full, used := make(chan *record, ahead), make(chan *record, ahead)
	for range ahead {
		used <- &record{}
	}
	var failure error
	go func() {
		defer close(full)
		for {
			p.record = <-used
			more, err := p.readRecord()
			if failure = err; err != nil {
				return
			}
			if full <- p.record; !more {
				return
			}
		}
	}()
	var e directory.Entry
	for record := range full {
		record.give(&e, visit)
		used <- record
	}
	return failure
}

// record is a record as read: all its values in one piece, so that they are one
// text in memory, and where each is.
type record struct {
	text   []byte
	values []valueSpan
	start  int // its line, 0 before its name
}

// valueSpan is where a value of an attribute is in the text of a record.
type valueSpan struct {
	name     string
	from, to int
}

// reader reads records.
type reader struct {
	ctx context.Context // of the one reading that it is for
	lines
	*record // at hand
	options Options
	names   map[string]string // of attributes, each kept once
	last    string            // the one before
	began   bool              // a version or record has been read
}

func (p *reader) fail(column int, format string, args ...any) error {
	return &Error{p.options.Name, p.line, column, fmt.Sprintf(format, args...)}
}

// readRecord reads one record and reports whether there may be more. At the end
// it may be an empty one.
func (p *reader) readRecord() (bool, error) {
	p.text, p.values, p.start = p.text[:0], p.values[:0], 0
	for {
		line, err := p.next()
		if errors.Is(err, io.EOF) {
			if p.start > 0 && (p.unended || len(p.values) == 1) {
				p.start = 0
				return false, fmt.Errorf("%s:%d: %w", p.options.Name, p.line, ErrCut)
			}
			return false, nil
		}
		if err != nil {
			return false, p.fail(1, "%v", err)
		}
		if len(line) == 0 {
			if p.start > 0 {
				return true, nil
			}
			continue
		}
		if err := p.attribute(line); err != nil {
			if p.unended {
				return false, fmt.Errorf("%s:%d: %w", p.options.Name, p.line, ErrCut)
			}
			return false, err
		}
	}
}

// give hands out a record as an entry, unless it is empty.
func (r *record) give(e *directory.Entry, visit func(*directory.Entry)) {
	if r.start == 0 {
		return
	}
	text := string(r.text)
	e.Reset()
	e.Line, e.ID = r.start, text[r.values[0].from:r.values[0].to]
	for _, v := range r.values[1:] {
		e.Add(v.name, text[v.from:v.to])
	}
	visit(e)
}

// attribute reads a line such as "cn: Ann", "cn:: QW5u" or "cn:< file:///a".
func (p *reader) attribute(line []byte) error {
	colon := bytes.IndexByte(line, ':')
	if colon <= 0 {
		return p.fail(1, "expected an attribute and a colon, not %q", clip(line))
	}
	name := p.name(line[:colon])
	if p.start == 0 {
		switch {
		case name == "version" && !p.began:
			p.began = true
			if version := strings.TrimSpace(string(line[colon+1:])); version != "1" {
				return p.fail(colon+2, "this is version %s of the format, expected 1", version)
			}
			return nil
		case !strings.EqualFold(name, "dn"):
			return p.fail(1, "expected dn: and a name, as every record begins with, not %q", clip(line))
		}
		p.began = true
		p.start = p.line
	} else if len(p.values) == 1 && (strings.EqualFold(name, "changetype") || strings.EqualFold(name, "control")) {
		return p.fail(1, "this is a change record; expected entries as they are: apply the changes first, and export again")
	}
	from := len(p.text)
	if err := p.value(line[colon+1:], colon+2); err != nil {
		return err
	}
	p.values = append(p.values, valueSpan{name, from, len(p.text)})
	if len(p.text) > mostRecord {
		return p.fail(1, "the record is larger than %d MiB", mostRecord>>20)
	}
	return nil
}

// name returns the name of an attribute, the same text each time.
func (p *reader) name(raw []byte) string {
	if string(raw) == p.last {
		return p.last
	}
	if name, ok := p.names[string(raw)]; ok {
		p.last = name
		return name
	}
	name := string(raw)
	if len(p.names) < 10_000 {
		p.names[name] = name
	}
	return name
}

// value adds what follows the first colon, at a column, to the text of the record.
func (p *reader) value(rest []byte, column int) error {
	switch {
	case len(rest) > 0 && rest[0] == ':':
		raw := bytes.TrimSpace(rest[1:])
		text, err := base64.StdEncoding.AppendDecode(p.text, raw)
		if err != nil {
			return p.fail(column+1, "expected base64 after ::, not %q", clip(raw))
		}
		p.text = text
		return nil
	case len(rest) > 0 && rest[0] == '<':
		return p.fromURL(strings.TrimSpace(string(rest[1:])), column+1)
	}
	for len(rest) > 0 && rest[0] == ' ' {
		rest = rest[1:]
	}
	p.text = append(p.text, rest...)
	return nil
}

// fromURL adds a value from the file that a URL names, if that is allowed.
func (p *reader) fromURL(text string, column int) error {
	if !p.options.Files {
		return p.fail(
			column,
			"a value is to come from %s; files that a source names are not read, unless --allow-files says so",
			text,
		)
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "file" || u.Host != "" && u.Host != "localhost" {
		return p.fail(column, "%q is no URL of a file, expected one such as file:///path", text)
	}
	data, err := localfile.Read(p.ctx, u.Path, mostLine)
	if err != nil {
		return p.fail(column, "%v", err)
	}
	p.text = append(p.text, data...)
	return nil
}

func clip(b []byte) string {
	const most = 40
	if len(b) > most {
		return string(b[:most]) + "..."
	}
	return string(b)
}

// lines reads lines with their continuations put together, without comments.
type lines struct {
	r      *bufio.Reader
	line   int // of the first part of the line at hand
	count  int // physical lines that were read
	folded []byte
	ahead  []byte // the beginning of the next line, where it was read to see whether it continues
	// unended is set where the last line has no end.
	unended bool
}

// next returns the next line. It may be used until the one after.
func (l *lines) next() ([]byte, error) {
	for {
		line, err := l.physical()
		if err != nil {
			return nil, err
		}
		l.line = l.count
		isComment := len(line) > 0 && line[0] == '#'
		if l.goesOn() {
			l.folded = append(l.folded[:0], line...)
			for l.goesOn() {
				part, err := l.physical()
				if err != nil {
					return nil, err
				}
				if l.folded = append(l.folded, part[1:]...); len(l.folded) > mostLine {
					return nil, fmt.Errorf("the line is longer than %d MiB", mostLine>>20)
				}
			}
			line = l.folded
		}
		if !isComment {
			return line, nil
		}
	}
}

// goesOn reports whether the next line continues the one before: it begins with
// a blank.
func (l *lines) goesOn() bool {
	next, err := l.r.Peek(1)
	return err == nil && next[0] == ' '
}

// physical returns a line as it stands, without its end. What it returns stays
// until the next call after one to Peek.
func (l *lines) physical() ([]byte, error) {
	line, err := l.r.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		l.ahead = append(l.ahead[:0], line...)
		for errors.Is(err, bufio.ErrBufferFull) {
			line, err = l.r.ReadSlice('\n')
			if l.ahead = append(l.ahead, line...); len(l.ahead) > mostLine {
				return nil, fmt.Errorf("the line is longer than %d MiB", mostLine>>20)
			}
		}
		line = l.ahead
	} else if len(line) > 0 && l.r.Buffered() == 0 {
		l.ahead = append(l.ahead[:0], line...) // Peek may move what lies in the buffer
		line = l.ahead
	}
	if err != nil && (!errors.Is(err, io.EOF) || len(line) == 0) {
		return nil, err
	}
	if l.count == 0 {
		line = bytes.TrimPrefix(line, []byte("\ufeff"))
	}
	l.count++
	l.unended = !bytes.HasSuffix(line, []byte("\n"))
	line = bytes.TrimSuffix(line, []byte("\n"))
	return bytes.TrimSuffix(line, []byte("\r")), nil
}
