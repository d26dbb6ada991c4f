package cli

import (
	"context"
	"errors"
	"os"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/address"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/trail"
	"yorvet.example/yorvet/internal/maillog"
	"yorvet.example/yorvet/internal/present"
)

func newLog(streams Streams) *cli.Command {
	return &cli.Command{
		Name:      "log",
		Usage:     "say what became of messages, by mail logs",
		ArgsUsage: "FILE...",
		Description: "Reads the logs of Postfix, Exim, OpenSMTPD, Dovecot and the stand-in, plain or compressed, of files\n" +
			"or standard input (-), and delivery tables by a map (--map). Each message is followed from machine to\n" +
			"machine. With an estate, members without a delivery are named, and why.\n\n" +
			"Example: yorvet log /var/log/mail.log --to lost-property --since yesterday\n" +
			"         journalctl -u postfix | yorvet log - --from guest@holiday.example",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "only messages from an `ADDRESS`, or @DOMAIN"},
			&cli.StringFlag{Name: "to", Usage: "only messages to an `ADDRESS`, or @DOMAIN; a group by any of its addresses"},
			&cli.StringFlag{Name: "since",
				Usage: "only from a `TIME` on: 2026-11-25, \"2026-11-25 08:00\", 08:00, yesterday, 2h"},
			&cli.StringFlag{Name: "until", Usage: "only before a `TIME`"},
			&cli.StringSliceFlag{Name: "outcome", Usage: "only with an `OUTCOME` for one recipient at least, such as bounced"},
			&cli.StringFlag{Name: "message", Usage: "one message by its Message-ID or queue `ID`, from beginning to end"},
			&cli.StringFlag{Name: "as", Usage: "what was sent in the name of a `GROUP`, by which logins, and the answers"},
			&cli.StringFlag{Name: "map", Usage: "the files are delivery tables that a map `FILE` describes"},
			&cli.StringFlag{Name: "time-zone", Usage: "the `ZONE` of times that do not say theirs, such as Europe/Oslo",
				DefaultText: "that of this machine"},
			&cli.BoolFlag{Name: "follow", Usage: "tell of each message as the logs grow"},
			&cli.BoolFlag{Name: "unknown", Usage: "show the lines that are not understood"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error { return logged(ctx, cmd, streams) },
	}
}

// logQuestion is what a log command asks.
type logQuestion struct {
	*session
	query   trail.Query
	words   string                    // what is asked, behind "messages"
	in      string                    // in whose name
	person  estate.ID                 // of the estate, whom messages are to be for, or None
	isTheir func(address string) bool // reports whether an address is the person's
	options maillog.Options
	files   []string
}

func logged(ctx context.Context, cmd *cli.Command, streams Streams) error {
	q, err := openLog(ctx, cmd, streams)
	if err != nil {
		return err
	}
	defer debug.SetGCPercent(debug.SetGCPercent(maillog.GCPercent))
	switch {
	case cmd.Bool("follow"):
		return q.follow()
	case q.format == present.CSV && !cmd.IsSet("as"):
		return q.rows()
	}
	return q.answer()
}

// openLog reads the flags, and the estate if there is one.
func openLog(ctx context.Context, cmd *cli.Command, streams Streams) (*logQuestion, error) {
	s, err := open(ctx, cmd, streams)
	if errors.Is(err, errNoEstate) {
		err = nil
	}
	if err != nil {
		return nil, err
	}
	if s == nil {
		s = &session{ctx: ctx, cmd: cmd, streams: streams}
		if s.format, err = formatOf(cmd); err != nil {
			return nil, err
		}
	}
	q := &logQuestion{session: s, files: cmd.Args().Slice(), person: estate.None}
	q.options = maillog.Options{Zone: time.Local, Now: clock.Now()}
	if q.e != nil {
		q.options.Local = q.mailboxCalled
	}
	if len(q.files) == 0 {
		return nil, usageError("log needs the names of files, or - for standard input")
	}
	if name := cmd.String("time-zone"); name != "" {
		if q.options.Zone, err = time.LoadLocation(name); err != nil {
			return nil, usageError("--time-zone: no time zone %q, expected one like Europe/Oslo", name)
		}
	}
	if path := cmd.String("map"); path != "" {
		if cmd.Bool("follow") {
			return nil, usageError("--map and --follow exclude each other: a trace does not grow")
		}
		if q.options.Map, err = maillog.ReadMap(ctx, path); err != nil {
			return nil, err
		}
	}
	return q, q.ask()
}

// ask reads what is asked for.
func (q *logQuestion) ask() (err error) {
	var words []string
	for _, flag := range []struct {
		name, word string
		into       *func(string) bool
	}{{"from", "from ", &q.query.From}, {"to", "to ", &q.query.To}, {"as", "", &q.query.In}} {
		text := q.cmd.String(flag.name)
		if text == "" {
			continue
		}
		var said string
		if *flag.into, said, err = q.who(flag.name, text); err != nil {
			return err
		}
		if flag.name == "as" {
			q.in = said
		} else {
			words = append(words, flag.word+said)
		}
	}
	var outcomes []string
	for _, text := range q.cmd.StringSlice("outcome") {
		for word := range strings.SplitSeq(text, ",") {
			fate, ok := trail.FateOf(strings.TrimSpace(word))
			if !ok {
				return unknown("outcome", word, trail.FateWords())
			}
			q.query.Fates = append(q.query.Fates, fate)
			outcomes = append(outcomes, fate.String())
		}
	}
	if outcomes != nil {
		words = append(words, strings.Join(outcomes, " or "))
	}
	if q.query.Message = q.cmd.String("message"); q.query.Message != "" {
		words = append(words, q.query.Message)
	}
	for _, flag := range []struct {
		name, word string
		into       *int64
	}{{"since", "since ", &q.query.Since}, {"until", "before ", &q.query.Until}} {
		if text := q.cmd.String(flag.name); text != "" {
			at, err := timeOf(text, q.options.Now, q.options.Zone)
			if err != nil {
				return usageError("--%s: %w", flag.name, err)
			}
			*flag.into = at.UnixMilli()
			words = append(words, flag.word+at.Format("2 Jan 2006 15:04"))
		}
	}
	q.words = strings.Join(words, " ")
	return nil
}

// mailboxCalled returns the address of the person whose mailbox has a name, where something was written
// to a domain: of that domain, or else the only one of the estate; "" where there is none.
func (q *logQuestion) mailboxCalled(name, domain string) string {
	var found []string
	for _, d := range append([]string{domain}, domainsOf(q.e)...) {
		a, err := address.Parse(name + "@" + d)
		if err != nil {
			continue
		}
		if id, ok := q.e.Find(a); ok && q.e.IsPerson(id) {
			if strings.EqualFold(d, domain) {
				return a.String()
			}
			if text := q.e.Address(id).String(); !slices.Contains(found, text) {
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
func (q *logQuestion) who(flag, text string) (is func(string) bool, said string, err error) {
	if domain, ok := strings.CutPrefix(text, "@"); ok {
		return func(a string) bool {
			at := strings.LastIndexByte(a, '@')
			return at >= 0 && strings.EqualFold(a[at+1:], domain)
		}, text, nil
	}
	if text == "<>" {
		return func(a string) bool { return a == "<>" }, "nobody (<>)", nil
	}
	if q.e == nil {
		a, err := address.Parse(text)
		if err != nil {
			return nil, "", usageError("--%s: %w", flag, err)
		}
		return func(other string) bool { return strings.EqualFold(other, text) }, a.String(), nil
	}
	a, err := q.address(flag, text)
	if err != nil {
		return nil, "", err
	}
	id, known := q.e.Find(a)
	if flag == "as" && (!known || !q.e.IsGroup(id)) {
		if _, err := q.group(text); err != nil {
			return nil, "", err
		}
	}
	key, seen := q.e.Key(a), map[string]bool{}
	is = func(other string) bool {
		yes, ok := seen[other]
		if !ok {
			if found, err := address.Parse(other); err == nil {
				foundID, isKnown := q.e.Find(found)
				yes = known && isKnown && foundID == id || q.e.Key(found) == key
			}
			const most = 100_000
			if len(seen) > most {
				clear(seen)
			}
			seen[strings.Clone(other)] = yes
		}
		return yes
	}
	if flag == "to" && known && q.e.IsPerson(id) {
		q.person, q.isTheir, q.query.Missed = id, is, q.holdsPerson
	}
	return is, a.String(), nil
}

// holdsPerson reports whether an address is that of a group which the person who is asked about is in.
func (q *logQuestion) holdsPerson(text string) bool {
	a, err := address.Parse(text)
	if err != nil {
		return false
	}
	group, ok := q.e.Find(a)
	return ok && q.e.IsGroup(group) && q.r.Members(group).Contains(uint32(q.person))
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
func (q *logQuestion) read(found func(*trail.Story)) (*maillog.Counts, *trail.Tracker, error) {
	t := trail.NewTracker(func(s *trail.Story) {
		if q.query.Matches(s) {
			found(s)
		}
	})
	t.Steps = q.query.Message != ""
	counts, err := maillog.Read(q.ctx, q.files, os.Stdin, q.options, t.Add)
	if err != nil {
		return nil, nil, err
	}
	t.End()
	return counts, t, nil
}

// mostKept is how many messages are kept to be listed.
const mostKept = 5_000

// answer prints what was found.
func (q *logQuestion) answer() error {
	found := trail.NewFound(mostKept)
	counts, t, err := q.read(found.Add)
	if err != nil {
		return err
	}
	found.Sort()
	read := present.LogRead{Lines: counts.Lines, Unknown: counts.Unknown, CutShort: t.CutShort}
	if q.cmd.Bool("unknown") {
		read.Samples = []present.LogLine{}
		for _, s := range counts.Samples {
			read.Samples = append(read.Samples, present.LogLine(s))
		}
	}
	a := present.NewLog(found, read, q.words, q.options.Zone, q.query.Message != "")
	if q.person != estate.None {
		a.SetPerson(q.e.Address(q.person).String(), q.isTheir)
	}
	if q.in != "" {
		a.SetInName(q.in, trail.NewInName(found.Stories, q.query.In))
	}
	if found.LeftOut > 0 && (q.e != nil || q.in != "") {
		a.Note("More messages than are kept: " + present.Count(found.LeftOut, "is", "are") +
			" neither among those in a group's name nor set beside the estate; ask for less at a time")
	}
	if q.e != nil && found.LeftOut == 0 {
		stories := found.Stories
		if q.in != "" {
			stories = nil
		}
		if compared := trail.Compare(q.r, stories); len(compared.Messages) > 0 {
			if q.person != estate.None {
				compared.Only(q.person)
			}
			a.SetEstate(q.r, compared)
		}
	}
	return q.print(a)
}

// rows writes a table of all that is found, as it is found.
func (q *logQuestion) rows() error {
	rows := present.NewLogRows(q.streams.Out, q.options.Zone)
	_, _, err := q.read(rows.Add)
	return errors.Join(err, rows.Flush())
}

// follow tells of messages as the logs grow.
func (q *logQuestion) follow() error {
	var failed error
	began := q.options.Now.Add(-time.Second).UnixMilli()
	tell := func(s *trail.Story) {
		if s.Ended < began || !q.query.Matches(s) || failed != nil {
			return
		}
		failed = present.PrintLogMessage(q.streams.Out, s, q.format, pageOptions(q.streams.Out), q.options.Zone)
	}
	t := trail.NewTracker(tell)
	t.News = tell
	t.Linger = 2000
	_, err := maillog.Follow(q.ctx, q.files, os.Stdin, q.options, t.Add, func() { t.Advance(clock.Now().UnixMilli()) })
	t.End()
	return errors.Join(err, failed)
}
