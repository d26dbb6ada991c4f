package ask

import (
	"context"
	"errors"
	"os"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/trail"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/maillog"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// Log asks what became of messages, by mail logs.
type Log struct {
	Files        []string  // - is standard input
	From, To, As string    // an address or @DOMAIN, and a group in whose name messages were sent
	Since, Until string    // times, as in "2026-11-25 08:00", 08:00, yesterday or 2h
	After        time.Time // only from then on; zero: from the beginning
	Outcomes     []string  // with one of these for one recipient at least
	Message      string    // a Message-ID or queue ID
	Map          string    // the files are delivery tables that it describes
	Zone         string    // of times that do not say theirs; "": that of this machine
	Unknown      bool      // with lines that are not understood
}

// logReader reads logs for what is asked. Where there is no estate, its Desk is empty.
type logReader struct {
	Desk
	ask     *Log
	query   trail.Query
	words   string                    // what is asked, behind "messages"
	in      string                    // in whose name
	person  estate.ID                 // of the estate, who messages are to be for, or None
	isTheir func(address string) bool // reports whether an address is the person's
	options maillog.Options
}

// open reads what is asked for, and the estate if there is one.
func (q *Log) open(ctx context.Context, at *Place) (*logReader, error) {
	r := &logReader{ask: q, person: estate.None, options: maillog.Options{Zone: time.Local, Now: clock.Now()}}
	switch d, err := Open(ctx, at); {
	case err == nil:
		r.Desk = *d
		r.options.Local = r.mailboxCalled
	case !errors.Is(err, ErrNoEstate):
		return nil, err
	}
	if len(q.Files) == 0 {
		return nil, Errorf("log needs the names of files, or - for standard input")
	}
	var err error
	if q.Zone != "" {
		if r.options.Zone, err = time.LoadLocation(q.Zone); err != nil {
			return nil, Errorf("--time-zone: no time zone %q, expected one like Europe/Oslo", q.Zone)
		}
	}
	if q.Map != "" {
		if r.options.Map, err = maillog.ReadMap(ctx, q.Map); err != nil {
			return nil, err
		}
	}
	return r, r.prepare()
}

// prepare reads what is asked for.
func (q *logReader) prepare() (err error) {
	var words []string
	for _, flag := range []struct {
		name, text, word string
		into             *func(string) bool
	}{{"from", q.ask.From, "from ", &q.query.From}, {"to", q.ask.To, "to ", &q.query.To}, {"as", q.ask.As, "", &q.query.In}} {
		if flag.text == "" {
			continue
		}
		var said string
		if *flag.into, said, err = q.who(flag.name, flag.text); err != nil {
			return err
		}
		if flag.name == "as" {
			q.in = said
		} else {
			words = append(words, flag.word+said)
		}
	}
	var outcomes []string
	for _, text := range q.ask.Outcomes {
		for word := range strings.SplitSeq(text, ",") {
			fate, ok := trail.FateOf(strings.TrimSpace(word))
			if !ok {
				return Unknown("outcome", word, trail.FateWords())
			}
			q.query.Fates = append(q.query.Fates, fate)
			outcomes = append(outcomes, fate.String())
		}
	}
	if outcomes != nil {
		words = append(words, strings.Join(outcomes, " or "))
	}
	if q.query.Message = q.ask.Message; q.query.Message != "" {
		words = append(words, q.query.Message)
	}
	for _, flag := range []struct {
		name, text, word string
		into             *int64
	}{{"since", q.ask.Since, "since ", &q.query.Since}, {"until", q.ask.Until, "before ", &q.query.Until}} {
		if flag.text != "" {
			at, err := timeOf(flag.text, q.options.Now, q.options.Zone)
			if err != nil {
				return Errorf("--%s: %w", flag.name, err)
			}
			*flag.into = at.UnixMilli()
			words = append(words, flag.word+at.Format("2 Jan 2006 15:04"))
		}
	}
	if after := q.ask.After; !after.IsZero() {
		q.query.Since = max(q.query.Since, after.Truncate(time.Second).UnixMilli())
		words = append(words, "since "+after.In(q.options.Zone).Format("2 Jan 2006 15:04"))
	}
	q.words = strings.Join(words, " ")
	return nil
}

// mailboxCalled returns the address of the person whose mailbox has a name, where something was written
// to a domain: of that domain, or else the only one of the estate; "" if there is none.
func (q *logReader) mailboxCalled(name, domain string) string {
	var found []string
	for _, d := range append([]string{domain}, DomainsOf(q.Estate)...) {
		a, err := address.Parse(name + "@" + d)
		if err != nil {
			continue
		}
		if id, ok := q.Estate.Find(a); ok && q.Estate.IsPerson(id) {
			if strings.EqualFold(d, domain) {
				return a.String()
			}
			if text := q.Estate.Address(id).String(); !slices.Contains(found, text) {
				found = append(found, text)
			}
		}
	}
	if len(found) == 1 {
		return found[0]
	}
	return ""
}

// who returns a function that says whether an address is meant, and how it is called.
func (q *logReader) who(flag, text string) (is func(string) bool, said string, err error) {
	if domain, ok := strings.CutPrefix(text, "@"); ok {
		return func(a string) bool {
			at := strings.LastIndexByte(a, '@')
			return at >= 0 && strings.EqualFold(a[at+1:], domain)
		}, text, nil
	}
	if text == "<>" {
		return func(a string) bool { return a == "<>" }, "nobody (<>)", nil
	}
	if q.Estate == nil {
		a, err := address.Parse(text)
		if err != nil {
			return nil, "", Errorf("--%s: %w", flag, err)
		}
		return func(other string) bool { return strings.EqualFold(other, text) }, a.String(), nil
	}
	a, err := q.Address(flag, text)
	if err != nil {
		return nil, "", err
	}
	id, known := q.Estate.Find(a)
	if flag == "as" && (!known || !q.Estate.IsGroup(id)) {
		if _, err := q.Group(text); err != nil {
			return nil, "", err
		}
	}
	key, seen := q.Estate.Key(a), map[string]bool{}
	is = func(other string) bool {
		yes, ok := seen[other]
		if !ok {
			if found, err := address.Parse(other); err == nil {
				foundID, isKnown := q.Estate.Find(found)
				yes = known && isKnown && foundID == id || q.Estate.Key(found) == key
			}
			const most = 100_000
			if len(seen) > most {
				clear(seen)
			}
			seen[strings.Clone(other)] = yes
		}
		return yes
	}
	if flag == "to" && known && q.Estate.IsPerson(id) {
		q.person, q.isTheir, q.query.Missed = id, is, q.holdsPerson
	}
	return is, a.String(), nil
}

// holdsPerson reports whether an address is that of a group which the person who is asked about is in.
func (q *logReader) holdsPerson(text string) bool {
	a, err := address.Parse(text)
	if err != nil {
		return false
	}
	group, ok := q.Estate.Find(a)
	return ok && q.Estate.IsGroup(group) && q.Resolver.Members(group).Contains(uint32(q.person))
}

// timeOf reads a time of a flag.
func timeOf(text string, now time.Time, zone *time.Location) (time.Time, error) {
	now = now.In(zone)
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, zone)
	switch text {
	case "now":
		return now, nil
	case "today":
		return today, nil
	case "yesterday":
		return today.AddDate(0, 0, -1), nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05",
		"2006-01-02T15:04", time.DateOnly} {
		if at, err := time.ParseInLocation(layout, text, zone); err == nil {
			return at, nil
		}
	}
	for _, layout := range []string{"15:04", "15:04:05"} {
		if at, err := time.Parse(layout, text); err == nil {
			return time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), at.Second(), 0, zone), nil
		}
	}
	if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return now.Add(-d), nil
	}
	return now, errors.New("no time \"" + text +
		"\", expected one like 2026-11-25, \"2026-11-25 08:00\", 08:00, yesterday or 2h (ago)")
}

// read follows messages through the logs, and gives those that are asked for to found.
func (q *logReader) read(ctx context.Context, found func(*trail.Story)) (*maillog.Counts, *trail.Tracker, error) {
	t := trail.NewTracker(func(s *trail.Story) {
		if q.query.Matches(s) {
			found(s)
		}
	})
	t.Steps = q.query.Message != ""
	counts, err := maillog.Read(ctx, q.ask.Files, os.Stdin, q.options, t.Add)
	if err != nil {
		return nil, nil, err
	}
	t.End()
	return counts, t, nil
}

// mostKept is how many messages are kept to be listed.
const mostKept = 5_000

// Ask reads logs.
func (q *Log) Ask(ctx context.Context, at *Place) (*Result, error) {
	began := clock.Now()
	r, err := q.open(ctx, at)
	if err != nil {
		return nil, err
	}
	a, err := r.answer(ctx)
	if err != nil {
		return nil, err
	}
	return &Result{Answer: a, Kept: func() *history.Outcome { return at.log(began, a) }}, nil
}

func (q *logReader) answer(ctx context.Context) (*present.Log, error) {
	found := trail.NewFound(mostKept)
	counts, t, err := q.read(ctx, found.Add)
	if err != nil {
		return nil, err
	}
	found.Sort()
	read := present.LogRead{Lines: counts.Lines, Unknown: counts.Unknown, CutShort: t.CutShort}
	if q.ask.Unknown {
		read.Samples = []present.LogLine{}
		for _, s := range counts.Samples {
			read.Samples = append(read.Samples, present.LogLine(s))
		}
	}
	a := present.NewLog(found, read, q.words, q.options.Zone, q.query.Message != "")
	if q.person != estate.None {
		a.SetPerson(q.Estate.Address(q.person).String(), q.isTheir)
	}
	if q.in != "" {
		a.SetInName(q.in, trail.NewInName(found.Stories, q.query.In))
	}
	if found.LeftOut > 0 && (q.Estate != nil || q.in != "") {
		a.Note("More messages than are kept: " + present.Count(found.LeftOut, "is", "are") +
			" neither among those in a group's name nor set beside the estate; ask for less at a time")
	}
	if q.Estate != nil && found.LeftOut == 0 {
		stories := found.Stories
		if q.in != "" {
			stories = nil
		}
		if compared := trail.Compare(q.Resolver, stories); len(compared.Messages) > 0 {
			if q.person != estate.None {
				compared.Only(q.person)
			}
			a.SetEstate(q.Resolver, compared)
		}
	}
	return a, nil
}

// Rows gives all messages to add as they are found, however many; zone is that of times as they are shown.
func (q *Log) Rows(ctx context.Context, at *Place, begin func(zone *time.Location) (add func(*trail.Story))) error {
	r, err := q.open(ctx, at)
	if err != nil {
		return err
	}
	_, _, err = r.read(ctx, begin(r.options.Zone))
	return err
}

// Follow reports messages as the logs grow, until ctx ends or tell fails.
func (q *Log) Follow(ctx context.Context, at *Place, tell func(*trail.Story, *time.Location) error) error {
	if q.Map != "" {
		return Errorf("--map and --follow exclude each other: a trace does not grow")
	}
	r, err := q.open(ctx, at)
	if err != nil {
		return err
	}
	var failed error
	began := r.options.Now.Add(-time.Second).UnixMilli()
	news := func(s *trail.Story) {
		if s.Ended >= began && r.query.Matches(s) && failed == nil {
			failed = tell(s, r.options.Zone)
		}
	}
	t := trail.NewTracker(news)
	t.News = news
	t.Linger = 2000
	_, err = maillog.Follow(ctx, q.Files, os.Stdin, r.options, t.Add, func() { t.Advance(clock.Now().UnixMilli()) })
	t.End()
	return errors.Join(err, failed)
}

// log returns what is kept of a look into logs: who did not get what.
func (at *Place) log(began time.Time, a *present.Log) *history.Outcome {
	o := at.outcome("log", began, a)
	o.Truncated = a.LeftOut
	for _, m := range a.List {
		for _, r := range m.Recipients {
			if present.LogGood(r.Outcome) {
				o.Good++
				continue
			}
			o.Bad++
			says := r.Outcome + " from " + m.From
			if r.Detail != "" {
				says += ": " + r.Detail
			}
			o.Facts = append(o.Facts, store.Fact{Name: nameOf(m.Message, strings.Join(m.Queues, " "), m.Began, r.Address,
				r.Outcome), Group: strings.ToLower(r.Group), Who: strings.ToLower(r.Address), Says: says})
		}
	}
	o.Wrong = o.Bad > 0
	return o
}
