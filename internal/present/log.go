package present

import (
	"encoding/csv"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/core/trail"
)

// Log answers what became of messages, by the logs of mail systems.
type Log struct {
	Messages   int            `json:"messages"`
	Recipients int            `json:"recipients"`
	Outcomes   map[string]int `json:"outcomes"` // of recipients
	Began      string         `json:"began"`    // RFC 3339, as all times; of the first line about any of them
	Ended      string         `json:"ended"`
	Unbegun    int            `json:"unbegun"` // messages that began before the logs
	Unended    int            `json:"unended"` // messages that the logs have no end of
	List       []LogMessage   `json:"list"`
	LeftOut    int            `json:"leftOut"` // messages that are not listed
	InName     *LogInName     `json:"inName,omitempty"`
	Person     *LogPerson     `json:"person,omitempty"` // who was asked about
	Estate     *LogEstate     `json:"estate,omitempty"`
	Read       LogRead        `json:"read"`

	question string // what was asked, behind "messages"
	zone     *time.Location
	whole    bool // each message is shown as a timeline
	notes    []string
}

// LogPerson says what became of messages for one person: of those that are listed.
type LogPerson struct {
	Address  string         `json:"address"`
	Outcomes map[string]int `json:"outcomes"`
	None     int            `json:"none"` // messages to groups that they are in, without a line of them
}

// LogRead says what was read.
type LogRead struct {
	Lines    int       `json:"lines"`
	Unknown  int       `json:"unknown"` // lines that are not understood
	CutShort int       `json:"cutShort"`
	Samples  []LogLine `json:"unknownLines,omitempty"` // where they were asked for
}

// LogLine is a line of a log that is not understood.
type LogLine struct {
	File string `json:"file"`
	Line int    `json:"line,omitempty"`
	Text string `json:"text"`
}

// LogMessage is a message and what became of it.
type LogMessage struct {
	Message    string         `json:"message,omitempty"` // Message-ID
	Queues     []string       `json:"queues,omitempty"`
	From       string         `json:"from"` // "<>": nobody (RFC 5321, section 4.5.5)
	Login      string         `json:"login,omitempty"`
	Client     string         `json:"client,omitempty"`
	Size       int64          `json:"size,omitempty"`
	To         []string       `json:"to"` // as it was written
	Began      string         `json:"began"`
	Ended      string         `json:"ended"`
	Whole      bool           `json:"whole"` // its beginning and its end were seen
	About      string         `json:"about,omitempty"`
	Recipients []LogRecipient `json:"recipients"`
	Steps      []LogStep      `json:"steps,omitempty"`

	began  time.Time
	forOne *LogRecipient // who was asked about; nil: nobody, or there is no line of them
}

// LogRecipient is somebody that a message was for.
type LogRecipient struct {
	Address string `json:"address"`
	Group   string `json:"group,omitempty"` // that they stand in for
	Outcome string `json:"outcome"`
	Time    string `json:"time,omitempty"`
	Status  string `json:"status,omitempty"` // RFC 3463
	Detail  string `json:"detail,omitempty"`
	Folder  string `json:"folder,omitempty"`
	Next    string `json:"next,omitempty"` // the machine that has it
	Tries   int    `json:"tries,omitempty"`
}

// LogStep is a line about a message.
type LogStep struct {
	Time   string `json:"time"`
	Event  string `json:"event"`
	Host   string `json:"host,omitempty"`
	Queue  string `json:"queue,omitempty"`
	To     string `json:"to,omitempty"`
	Group  string `json:"group,omitempty"`
	Detail string `json:"detail,omitempty"`

	at    time.Time
	event trail.Event
}

// LogInName is what was sent in a group's name, and what came back.
type LogInName struct {
	Name    string       `json:"name"`
	Sent    []LogMessage `json:"sent"`
	Answers []LogMessage `json:"answers"`
	Others  int          `json:"others"` // messages to the group from others
}

// NewLog answers from messages that were found. question says what was asked, as in
// "to a@b.example".
func NewLog(f *trail.Found, read LogRead, question string, zone *time.Location, whole bool) *Log {
	a := &Log{Messages: f.Messages, Recipients: f.Recipients, Outcomes: map[string]int{}, Began: stamp(f.Began, zone),
		Ended: stamp(f.Ended, zone), Unbegun: f.Unbegun, Unended: f.Unended, LeftOut: f.LeftOut, Read: read,
		question: question, zone: zone, whole: whole, List: []LogMessage{}}
	for fate, n := range f.Fates {
		if n > 0 {
			a.Outcomes[trail.Fate(fate).String()] = n
		}
	}
	for _, s := range f.Stories {
		a.List = append(a.List, NewLogMessage(s, zone))
	}
	return a
}

// SetInName has the answer tell what was sent in the name of an address.
func (a *Log) SetInName(name string, n *trail.InName) {
	a.InName = &LogInName{Name: name, Sent: []LogMessage{}, Answers: []LogMessage{}, Others: n.Others}
	for _, s := range n.Sent {
		a.InName.Sent = append(a.InName.Sent, NewLogMessage(s, a.zone))
	}
	for _, s := range n.Answers {
		a.InName.Answers = append(a.InName.Answers, NewLogMessage(s, a.zone))
	}
	a.List = []LogMessage{}
}

// Note has the answer say what else holds of it.
func (a *Log) Note(text string) { a.notes = append(a.notes, text) }

// SetPerson has the answer tell what became of each message for one person. is is true of their
// addresses.
func (a *Log) SetPerson(address string, is func(string) bool) {
	a.Person = &LogPerson{Address: address, Outcomes: map[string]int{}}
	for i := range a.List {
		m := &a.List[i]
		at := slices.IndexFunc(m.Recipients, func(r LogRecipient) bool { return is(r.Address) })
		if at < 0 {
			a.Person.None++
			continue
		}
		m.forOne = &m.Recipients[at]
		a.Person.Outcomes[m.forOne.Outcome]++
	}
}

// stamp returns a time as RFC 3339 has it, or "".
func stamp(ms int64, zone *time.Location) string {
	if ms == 0 {
		return ""
	}
	return trail.At(ms, zone).Format(time.RFC3339)
}

// NewLogMessage reports one message.
func NewLogMessage(s *trail.Story, zone *time.Location) LogMessage {
	m := LogMessage{Message: s.Message, Queues: s.Queues(), From: s.From, Login: s.Login, Client: s.Client, Size: s.Size,
		To: append([]string{}, s.Addressed()...), Began: stamp(s.Began, zone), Ended: stamp(s.Ended,
			zone), Whole: s.Whole, About: s.About,
		Recipients: []LogRecipient{}, began: trail.At(s.Began, zone)}
	for _, r := range s.Recipients {
		m.Recipients = append(m.Recipients, LogRecipient{r.Address, r.Group, r.Fate.String(), stamp(r.Time, zone), r.Status,
			oneLine(r.Detail), r.Folder, r.Next, r.Tries})
	}
	for _, e := range s.Steps {
		m.Steps = append(m.Steps, LogStep{stamp(e.Time, zone), e.Kind.String(), e.Host, e.Queue, e.To, e.Group,
			oneLine(e.Detail),
			trail.At(e.Time, zone), e})
	}
	return m
}

// id is what a message is called shortly.
func (m *LogMessage) id() string {
	if len(m.Queues) > 0 {
		return m.Queues[0]
	}
	return m.Message
}

// sender names who wrote a message.
func (m *LogMessage) sender() string {
	if m.From == "" {
		return "an unknown sender"
	}
	return m.From
}

// counts returns how many recipients have each outcome.
func (m *LogMessage) counts() map[string]int {
	counts := map[string]int{}
	for _, r := range m.Recipients {
		counts[r.Outcome]++
	}
	return counts
}

// logStyle is how an outcome stands out.
func logStyle(outcome string) Style {
	switch outcome {
	case "bounced", "refused", "dropped":
		return Bad
	case "waiting", "held", "deferred", "junk":
		return Doubtful
	}
	return Plain
}

// becameFor says what became of a message for the person who was asked about.
func (m *LogMessage) becameFor() Span {
	if m.forOne == nil {
		whole := m.became()
		return Span{Bad, "no delivery to them logged; " + whole.Text}
	}
	text := m.forOne.Outcome
	switch {
	case !trailGood(text) && m.forOne.Detail != "":
		text += ": " + m.forOne.Detail
	case text == "junk" && m.forOne.Folder != "":
		text += ": " + m.forOne.Folder
	}
	return Span{logStyle(m.forOne.Outcome), text}
}

// became says what became of a message.
func (m *LogMessage) became() Span {
	if len(m.Recipients) == 0 {
		return Span{Doubtful, "no recipient is named"}
	}
	counts := m.counts()
	if len(m.Recipients) == 1 || len(counts) == 1 {
		first := m.Recipients[0]
		text := first.Outcome
		if len(m.Recipients) > 1 {
			preposition, all := " to ", "all "
			if !trailGood(first.Outcome) {
				preposition = " for "
			}
			if !m.Whole {
				all = ""
			}
			text += preposition + all + strconv.Itoa(len(m.Recipients))
		}
		if !m.Whole && len(counts) == 1 && trailGood(first.Outcome) {
			text += " so far"
		}
		if !trailGood(first.Outcome) && first.Detail != "" {
			text += ": " + first.Detail
		} else if first.Folder != "" && first.Outcome == "junk" {
			text += ": " + first.Folder
		}
		return Span{logStyle(first.Outcome), text}
	}
	style := Doubtful
	var parts []string
	for _, word := range trail.FateWords() {
		n := counts[word]
		if n == 0 {
			continue
		}
		if logStyle(word) == Bad {
			style = Bad
		}
		parts = append(parts, strconv.Itoa(n)+" "+word)
	}
	if !slices.ContainsFunc(m.Recipients, func(r LogRecipient) bool { return !trailGood(r.Outcome) }) {
		style = Plain
	}
	return Span{style, strings.Join(parts, ", ")}
}

// LogGood reports whether an outcome in a log is as its sender wants it.
func LogGood(outcome string) bool { return trailGood(outcome) }

func trailGood(outcome string) bool {
	f, ok := trail.FateOf(outcome)
	return ok && f.Good()
}

// reached returns how many recipients got a message.
func (m *LogMessage) reached() int {
	n := 0
	for _, r := range m.Recipients {
		if trailGood(r.Outcome) || r.Outcome == "junk" {
			n++
		}
	}
	return n
}

// table returns a row for each message and recipient.
func (a *Log) table(t *table) {
	t.head(logColumns...)
	lists := [][]LogMessage{a.List}
	if a.InName != nil {
		lists = append(lists, a.InName.Sent, a.InName.Answers)
	}
	for _, list := range lists {
		for i := range list {
			for _, row := range list[i].rows() {
				t.write(row)
			}
		}
	}
}

// logColumns are the columns of a table of messages and recipients.
var logColumns = []string{"began", "ended", "message", "queue", "from", "login", "client", "size", "written-to",
	"to", "group",
	"outcome", "time", "status", "detail", "folder", "next"}

// LogRows writes messages as a table (RFC 4180), as they are found.
type LogRows struct {
	w    *csv.Writer
	zone *time.Location
}

// NewLogRows begins a table with its heading.
func NewLogRows(w io.Writer, zone *time.Location) *LogRows {
	r := &LogRows{csv.NewWriter(w), zone}
	r.w.UseCRLF = true
	_ = r.w.Write(logColumns) // Flush reports the error
	return r
}

// Add writes a row for each recipient of a message.
func (r *LogRows) Add(s *trail.Story) {
	m := NewLogMessage(s, r.zone)
	for _, row := range m.rows() {
		_ = r.w.Write(cells(row))
	}
}

// Flush writes what is left, and returns the first error of all writing.
func (r *LogRows) Flush() error {
	r.w.Flush()
	return r.w.Error()
}

// PrintLogMessage writes one message: as a line of text, of JSON, or of a list in Markdown.
func PrintLogMessage(w io.Writer, s *trail.Story, format Format, options Options, zone *time.Location) error {
	m := NewLogMessage(s, zone)
	if format == JSON {
		return encode(w, m, "", "")
	}
	p := newPage(w, options)
	lead := ""
	if format == Markdown {
		lead = "- "
	}
	became := m.became()
	p.Line(4, Span{Faint, lead + m.began.Format("2 Jan 15:04:05") + "  "}, Span{Plain, m.sender() + " to "},
		Span{Strong, some(m.To)},
		Span{Plain, ": "}, became, Span{Faint, "  " + m.id()})
	return p.flush()
}

// rows returns a row for each recipient of a message, and one where none is known.
func (m *LogMessage) rows() (rows [][]string) {
	head := []string{m.Began, m.Ended, m.Message, strings.Join(m.Queues, " "), m.From, m.Login, m.Client,
		strconv.FormatInt(m.Size, 10), strings.Join(m.To, "; ")}
	for _, r := range m.Recipients {
		rows = append(rows, append(slices.Clone(head), r.Address, r.Group, r.Outcome, r.Time, r.Status, r.Detail,
			r.Folder, r.Next))
	}
	if rows == nil {
		rows = [][]string{append(head, "", "", "", "", "", "", "", "")}
	}
	return rows
}

// outcomeCounts words how many recipients have each outcome, the good ones first.
func outcomeCounts(counts map[string]int) []string {
	var parts []string
	for _, good := range []bool{true, false} {
		for _, word := range trail.FateWords() {
			if n := counts[word]; n > 0 && trailGood(word) == good {
				parts = append(parts, thousands(n)+" "+word)
			}
		}
	}
	return parts
}

// thousands writes a number with commas.
func thousands(n int) string {
	s := strconv.Itoa(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
