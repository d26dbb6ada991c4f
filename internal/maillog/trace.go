package maillog

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/core/trail"
	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/records"
	"yorvet.example/yorvet/internal/directory/table"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/yamlfile"
)

// A Map says how a delivery table, a table or JSON that a mail service has handed out, tells
// what happened: which column is what, and what its words mean. docs/logs.md describes its
// form.
type Map struct {
	Version  int             `yaml:"yorvet-trace"`
	Encoding string          `yaml:"encoding"` // of a table, as in maps of sources
	Heading  int             `yaml:"heading"`
	Sheet    string          `yaml:"sheet"`
	Records  string          `yaml:"records"`   // of JSON: the path of the list
	Zone     string          `yaml:"time-zone"` // of times that do not say theirs (IANA); "": that of the command
	Time     traceTime       `yaml:"time"`
	Event    directory.Value `yaml:"event"`
	Message  directory.Names `yaml:"message"`
	From     directory.Names `yaml:"from"`
	To       directory.Names `yaml:"to"`
	Group    directory.Names `yaml:"group"`
	Login    directory.Names `yaml:"login"`
	Client   directory.Names `yaml:"client"`
	Next     directory.Names `yaml:"next"`
	Folder   directory.Names `yaml:"folder"`
	Status   directory.Names `yaml:"status"`
	Detail   directory.Names `yaml:"detail"`
	Size     directory.Names `yaml:"size"`

	zone *time.Location
}

// traceTime says where the time stands, and how it is written.
type traceTime struct {
	From   directory.Names `yaml:"from"`
	Format string          `yaml:"format"` // as DD.MM.YYYY hh:mm:ss; "": RFC 3339 and the like, or seconds since 1970
}

// ReadMap reads a map from a file.
func ReadMap(ctx context.Context, path string) (*Map, error) {
	const most = 1 << 20
	data, err := localfile.Read(ctx, path, most)
	if err != nil {
		return nil, err
	}
	return ParseMap(path, data)
}

// ParseMap reads a map. name is for messages.
func ParseMap(name string, data []byte) (*Map, error) {
	m := &Map{}
	if err := yamlfile.Decode(name, data, m); err != nil {
		return nil, err
	}
	if m.Version != 1 {
		return nil, fmt.Errorf(`%s:1:1: the format version is missing, expected "yorvet-trace: 1"`, name)
	}
	var errs []error
	wrong := func(key, text string) {
		line, column := yamlfile.Find(data, key, 0)
		errs = append(errs, fmt.Errorf("%s:%d:%d: %s", name, line, column, text))
	}
	if len(m.Time.From) == 0 {
		wrong("time", "time is missing: {from: COLUMN}")
	}
	if len(m.Message) == 0 && len(m.To) == 0 {
		wrong("message", "message or to is missing: the name of a column")
	}
	if text, line, column := m.Event.WrongWord("event", trail.KindWords()); text != "" {
		errs = append(errs, fmt.Errorf("%s:%d:%d: %s", name, line, column, text))
	}
	if len(m.Event.Fixed) == 0 && len(m.Event.From) == 0 {
		wrong("event", "event is missing: {from: COLUMN, as: {WORD: EVENT, ...}}")
	}
	if m.Zone != "" {
		zone, err := time.LoadLocation(m.Zone)
		if err != nil {
			wrong("time-zone", fmt.Sprintf("no time zone %q", m.Zone))
		}
		m.zone = zone
	}
	return m, errors.Join(errs...)
}

// mostRows is how many rows of traces are read.
const mostRows = 2_000_000

// errRows says that there are more.
var errRows = fmt.Errorf("more than %d rows: take a trace of less time", mostRows)

// readTraces reads traces, and gives what they say by its time: services hand them out in
// any order.
func readTraces(
	ctx context.Context, paths []string, stdin io.Reader, options Options, counts *Counts, visit func(*trail.Event),
) error {
	m := &merge{ctx: ctx, options: options, stdin: stdin, counts: counts}
	var events []trail.Event
	for _, path := range paths {
		r, closer, err := m.reader(path)
		if err != nil {
			return err
		}
		var tooMany bool
		err = options.Map.each(r, path, func(row *directory.Entry) {
			counts.Lines++
			if len(events) >= mostRows {
				tooMany = true
				return
			}
			events = options.Map.events(events, row, path, options.Zone, counts)
		})
		closer.Close()
		if tooMany {
			err = fmt.Errorf("%s: %w", path, errRows)
		}
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
	}
	slices.SortStableFunc(events, func(a, b trail.Event) int { return int(max(-1, min(1, a.Time-b.Time))) })
	for i := range events {
		visit(&events[i])
	}
	return nil
}

// each gives the rows of a trace: of a workbook, JSON or a table.
func (m *Map) each(r io.Reader, path string, visit func(*directory.Entry)) error {
	name := path
	if path == "-" {
		name = "standard input"
	}
	options := table.Options{Encoding: m.Encoding, Heading: m.Heading, Sheet: m.Sheet}
	b := bufio.NewReader(r)
	begin, _ := b.Peek(512)
	begin = bytes.TrimLeft(bytes.TrimPrefix(begin, []byte("\ufeff")), " \t\r\n")
	switch ext := strings.ToLower(filepath.Ext(path)); {
	case ext == ".xlsx" || bytes.HasPrefix(begin, []byte("PK\x03\x04")):
		t, closed, err := table.OpenWorkbook(b, name, options)
		if err != nil {
			return err
		}
		return errors.Join(t.Each(visit), closed())
	case bytes.HasPrefix(begin, []byte("{")) || bytes.HasPrefix(begin, []byte("[")):
		return records.Read(b, name, []string{m.Records}, visit)
	case ext == ".tsv" || ext == ".tab":
		options.Separator = '\t'
	}
	t, err := table.NewReader(b, name, options)
	if err != nil {
		return err
	}
	return t.Each(visit)
}

// events adds what a row says: an event for each recipient in it.
func (m *Map) events(list []trail.Event, row *directory.Entry, path string, zone *time.Location,
	counts *Counts) []trail.Event {
	unread := func(why string) []trail.Event {
		counts.Unknown++
		if len(counts.Samples) < mostSamples {
			counts.Samples = append(counts.Samples, Sample{path, row.Line, why})
		}
		return list
	}
	words := []string(m.Event.Fixed)
	if words == nil {
		word := row.First(m.Event.From)
		var known bool
		if words, known = m.Event.Meant(word); len(m.Event.As) == 0 {
			words, known = []string{word}, true
		}
		if !known && m.Event.Otherwise.Skip {
			counts.Beside++
			return list
		}
		if !known {
			return unread(fmt.Sprintf("%s is %q, which the map does not know", strings.Join(m.Event.From, ", "), word))
		}
	}
	e := trail.Event{
		Message: messageID(row.First(m.Message)), From: row.First(m.From), Group: bare(row.First(m.Group)),
		Login: row.First(m.Login), Client: row.First(m.Client), Next: row.First(m.Next), Folder: row.First(m.Folder),
		Status: row.First(m.Status), Detail: row.First(m.Detail),
	}
	var ok bool
	if e.Kind, ok = trail.KindOf(strings.ToLower(words[0])); !ok {
		return unread(fmt.Sprintf("%s is %q, which is no event", strings.Join(m.Event.From, ", "), words[0]))
	}
	if m.zone != nil {
		zone = m.zone
	}
	if e.Time, ok = m.Time.read(row.First(m.Time.From), zone); !ok {
		return unread(fmt.Sprintf("%s is %q, expected a time", strings.Join(m.Time.From, ", "), row.First(m.Time.From)))
	}
	if e.From != "<>" && len(m.From) > 0 {
		e.From = sender(bare(e.From))
	}
	e.Size, _ = strconv.ParseInt(row.First(m.Size), 10, 64)
	counts.Events++
	recipients := strings.FieldsFunc(row.First(m.To), func(r rune) bool { return r == ';' || r == ',' || r == ' ' })
	if len(recipients) == 0 {
		return append(list, e)
	}
	for _, to := range recipients {
		e.To = bare(to)
		list = append(list, e)
	}
	return list
}

// bare returns an address without angle brackets.
func bare(s string) string { return strings.TrimSuffix(strings.TrimPrefix(s, "<"), ">") }

// read reads a time, in milliseconds since 1970.
func (t traceTime) read(text string, zone *time.Location) (int64, bool) {
	layouts := []string{time.RFC3339Nano, "2006-01-02 15:04:05.999999999", "2006-01-02T15:04:05.999999999",
		"2006-01-02 15:04:05Z07:00", "2006-01-02 15:04", time.DateOnly}
	if t.Format != "" {
		layouts = []string{directory.LayoutOf(t.Format)}
	}
	for _, layout := range layouts {
		if at, err := time.ParseInLocation(layout, text, zone); err == nil {
			return at.UnixMilli(), true
		}
	}
	const latest = 1e11 // what is more is milliseconds
	if n, err := strconv.ParseFloat(text, 64); err == nil && t.Format == "" && n > 0 {
		if n < latest {
			n *= 1000
		}
		return int64(n), n < 1e15
	}
	return 0, false
}
