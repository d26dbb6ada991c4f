package probe

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"yorvet.example/yorvet/internal/connections"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/resolve"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/mail/send"
	"yorvet.example/yorvet/internal/mail/watch"
)

// A Journal is the record of a run on disk, a line for each thing that happened.
// What matters for going on is there before it happens: a message is noted before
// it is sent, so that nothing is sent twice.
type Journal struct {
	mutex sync.Mutex
	file  *os.File
	path  string
}

// line is one line of a journal; one of its fields is set.
type line struct {
	Time    time.Time    `json:"time"`
	Plan    *plannedRun  `json:"plan,omitempty"`
	Marks   []watch.Mark `json:"marks,omitempty"`
	Sending *attempt     `json:"sending,omitempty"`
	Replied *attempt     `json:"replied,omitempty"`
	Seen    *Sighting    `json:"seen,omitempty"`
	Ended   bool         `json:"ended,omitempty"`
}

// attempt is one attempt to send a case.
type attempt struct {
	Case  int         `json:"case"`
	Reply *send.Reply `json:"reply,omitempty"`
}

// plannedRun is a plan as a journal holds it.
type plannedRun struct {
	Run   string        `json:"run"`
	Cases []plannedCase `json:"cases"`
	Notes []string      `json:"notes"`
}

type plannedCase struct {
	Name   string          `json:"case"`
	Kind   Kind            `json:"kind"`
	Group  string          `json:"group"`
	From   string          `json:"from"`
	By     string          `json:"by,omitempty"`
	To     string          `json:"to"`
	Traits resolve.Message `json:"message"`
	ID     string          `json:"id"`
	Tag    string          `json:"tag"`
}

// The bounds of a journal that is read, in bytes.
const (
	mostJournal = 4 << 30
	mostLine    = 64 << 20
)

// journalName is the file of a run in its folder.
const journalName = "journal.jsonl"

// newJournal begins the journal of a plan in a folder that must not have one.
func newJournal(dir string, p *Plan) (*Journal, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if _, err := localfile.Ignore(dir, "*"); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(dir, journalName), os.O_CREATE|os.O_EXCL|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	j := &Journal{file: f, path: f.Name()}
	plan := &plannedRun{Run: p.Run, Notes: p.Notes}
	e := p.resolver.Estate()
	for i := range p.Cases {
		c := &p.Cases[i]
		one := plannedCase{
			Name:   c.Name,
			Kind:   c.Kind,
			Group:  e.Address(c.Group).String(),
			From:   c.From.String(),
			To:     c.To.String(),
			Traits: c.Traits,
			ID:     c.ID,
			Tag:    c.Tag,
		}
		if c.By.IsValid() {
			one.By = c.By.String()
		}
		plan.Cases = append(plan.Cases, one)
	}
	return j, j.write(line{Plan: plan}, true)
}

// write adds a line; sure waits until it is on disk.
func (j *Journal) write(l line, sure bool) error {
	l.Time = time.Now().UTC()
	data, err := json.Marshal(l)
	if err != nil {
		return err
	}
	j.mutex.Lock()
	defer j.mutex.Unlock()
	if _, err := j.file.Write(append(data, '\n')); err != nil {
		return err
	}
	if sure {
		return j.file.Sync()
	}
	return nil
}

func (j *Journal) close() { _ = j.file.Close() }

// history is what a journal tells.
type history struct {
	plan    *plannedRun
	marks   []watch.Mark
	sent    map[int]bool // cases that have been sent, or may have been
	replies map[int]send.Reply
	at      map[int]time.Time // when the reply came, or else the attempt began
	seen    []Sighting
	ended   bool
}

// readJournal reads a journal. A last line that is half written is left out.
func readJournal(ctx context.Context, dir string) (*history, error) {
	f, err := localfile.Open(filepath.Join(dir, journalName))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	h := &history{sent: map[int]bool{}, replies: map[int]send.Reply{}, at: map[int]time.Time{}}
	scanner := bufio.NewScanner(&localfile.Bounded{Ctx: ctx, R: f, Name: f.Name(), Most: mostJournal})
	scanner.Buffer(nil, mostLine)
	var bad error
	for n := 1; scanner.Scan(); n++ {
		if bad != nil {
			return nil, bad // it was not the last one
		}
		var l line
		if err := json.Unmarshal(scanner.Bytes(), &l); err != nil {
			bad = fmt.Errorf("%s:%d:1: this is no line of a journal", f.Name(), n)
			continue
		}
		h.add(l)
	}
	if err := scanner.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			err = fmt.Errorf("%s: a line is longer than %d MiB", f.Name(), mostLine>>20)
		}
		return nil, err
	}
	if h.plan == nil {
		return nil, fmt.Errorf("%s holds no plan", f.Name())
	}
	return h, nil
}

func (h *history) add(l line) {
	switch {
	case l.Plan != nil:
		h.plan = l.Plan
	case l.Marks != nil:
		h.marks = append(h.marks, l.Marks...)
	case l.Sending != nil:
		h.sent[l.Sending.Case] = true
		h.at[l.Sending.Case] = l.Time
		delete(h.replies, l.Sending.Case)
	case l.Replied != nil && l.Replied.Reply != nil:
		h.replies[l.Replied.Case] = *l.Replied.Reply
		h.at[l.Replied.Case] = l.Time
		// What was not taken over may be sent again.
		h.sent[l.Replied.Case] = !l.Replied.Reply.Later()
	case l.Seen != nil:
		h.seen = append(h.seen, *l.Seen)
	case l.Ended:
		h.ended = true
	}
}

// reopen opens a journal to go on with it. A half written last line is ended.
func reopen(dir string) (*Journal, error) {
	path := filepath.Join(dir, journalName)
	f, err := os.OpenFile(path, os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	end, err := endOfLines(f)
	if err == nil {
		err = f.Truncate(end)
	}
	if err == nil {
		_, err = f.Seek(end, io.SeekStart)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return &Journal{file: f, path: path}, nil
}

// endOfLines returns where the last line ends that is whole.
func endOfLines(f *os.File) (int64, error) {
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	buffer := make([]byte, 64<<10)
	for end := info.Size(); end > 0; {
		from := max(0, end-int64(len(buffer)))
		part := buffer[:end-from]
		if _, err := f.ReadAt(part, from); err != nil {
			return 0, err
		}
		if last := bytes.LastIndexByte(part, '\n'); last >= 0 {
			return from + int64(last) + 1, nil
		}
		end = from
	}
	return 0, nil
}

// restore makes the plan of a journal again, for the estate and connections as they are.
func restore(h *history, r *resolve.Resolver, l *connections.Connections) (*Plan, error) {
	p := &Plan{Run: h.plan.Run, Notes: h.plan.Notes, resolver: r, connections: l}
	e := r.Estate()
	for _, one := range h.plan.Cases {
		c := Case{Name: one.Name, Kind: one.Kind, Group: estate.None, Traits: one.Traits, ID: one.ID, Tag: one.Tag}
		var err error
		for _, field := range []struct {
			text string
			into *address.Address
		}{{one.From, &c.From}, {one.By, &c.By}, {one.To, &c.To}} {
			if field.text != "" {
				if *field.into, err = address.Parse(field.text); err != nil {
					return nil, err
				}
			}
		}
		group, err := address.Parse(one.Group)
		if err != nil {
			return nil, err
		}
		id, ok := e.Find(group)
		if !ok || !e.IsGroup(id) {
			return nil, fmt.Errorf("the run is about %s, which is no group of the estate any more", one.Group)
		}
		c.Group = id
		sender := c.sender()
		way, ok := l.Sender(sender, e.InsideDomain(sender.Domain()), c.Kind == Forged)
		if !ok {
			return nil, fmt.Errorf("the connections have no way any more to send as %s", sender)
		}
		c.way, c.Way = way, way.Name
		p.Cases = append(p.Cases, c)
	}
	return p, nil
}
