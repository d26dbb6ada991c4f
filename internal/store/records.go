package store

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"time"
)

// A Series is what is made again and again: one kind of question about one estate.
type Series struct {
	ID    string // its key in the store; "" before it is there
	Asked string // stands for what is asked: no other series of an estate has it
	Kind  string // check, expect or compare
	Path  string // of the estate
	What  string // what else was asked for, in words
}

// The states of a record.
const (
	Good   = "good"
	Wrong  = "wrong"  // something was found
	Broken = "broken" // the question could not be answered
)

// A KeptResult is one answer of a series, as it is kept.
type KeptResult struct {
	ID           string
	Owner        string // the name of the estate that it belongs to
	Series       Series
	Seq          int64     // of its answers, from 1; 0 where it is broken
	Item         string    // of a plan that is watched; "" where somebody asked
	Slot         time.Time // for which time it was due; none where somebody asked
	Began, Ended time.Time
	Day          string
	Version      string
	Host         string
	Estate       string // the digest of what was evaluated, or ""
	State        string
	Good, Bad    int
	Truncated    int    // findings, where they are too many to be kept one by one
	Says         string // the first line of the answer, or why there is none
}

// A Fact is something that an answer found.
type Fact struct {
	Name     string // the same from one answer of a series to the next
	Group    string // an address, or ""
	Who      string // likewise
	Severity string
	Says     string
}

// An Interval is how long something was found without a gap.
type Interval struct {
	Series Series
	Fact
	First, Last  int64     // the numbers of the records
	Since, Until time.Time // when they were made
	Open         bool      // the last answer of the series found it, too
	Times        int       // how often it came up in its series; 0 where nobody asked for it
	Ever         time.Time // when it came up the first time of all, likewise
}

// News is how an answer differs from the one before it.
type News struct {
	FirstEver bool // there was none
	New, Over []Fact
	Breaks    bool // it is broken, and the one before was not
	Works     bool // it is not, and the one before was
	// Many is set where there are too many findings to compare them one by one: there were Before
	// and are Now.
	Many        bool
	Before, Now int
}

// IsEmpty reports whether nothing is to be told.
func (n *News) IsEmpty() bool {
	return len(n.New)+len(n.Over) == 0 && !n.Breaks && !n.Works && !(n.Many && n.Before != n.Now)
}

// MostFacts is how many findings of one answer are kept one by one. Of more, none is: what is new
// could not be told from what was left out before.
const MostFacts = 5_000

// ErrTaken says that what a record was made for has been done by another process.
var ErrTaken = errors.New("another process has done it")

// An Alarm is something that is to be told.
type Alarm struct {
	ID, Plan, Item, Record string
	At                     time.Time
	Body                   string               // JSON
	Ways                   map[string]time.Time // by which ways, and from when on
}

// Keep writes a record with what was found, and the alarms that tell makes of what is new, all
// of it or nothing. It numbers the record. With done, that has to succeed first.
func (s *Store) Keep(
	ctx context.Context, r *KeptResult, facts []Fact, tell func(*News) []Alarm, done func(*Tx) (bool, error),
) (*News, error) {
	var news *News
	err := s.in(ctx, func(tx *sql.Tx) error {
		if done != nil {
			if ok, err := done(&Tx{ctx, tx, s.owner}); err != nil || !ok {
				return errors.Join(err, whether(!ok, ErrTaken))
			}
		}
		k := &keeping{ctx, tx, r, s.owner}
		var err error
		if news, err = k.keep(facts); err != nil || tell == nil {
			return err
		}
		for _, a := range tell(news) {
			if err := s.addAlarm(ctx, tx, a); err != nil {
				return err
			}
		}
		return nil
	})
	return news, err
}

func whether(is bool, err error) error {
	if is {
		return err
	}
	return nil
}

// Tx is a transaction in which a record is written.
type Tx struct {
	ctx   context.Context
	tx    *sql.Tx
	owner string
}

// keeping writes one record.
type keeping struct {
	ctx   context.Context
	tx    *sql.Tx
	r     *KeptResult
	owner string
}

func (k *keeping) exec(statement string, args ...any) error {
	_, err := k.tx.ExecContext(k.ctx, statement, args...)
	return err
}

func (k *keeping) keep(facts []Fact) (*News, error) {
	r := k.r
	facts = distinct(facts)
	if len(facts)+r.Truncated > MostFacts {
		r.Truncated, facts = len(facts)+r.Truncated, nil
	}
	err := k.exec(`INSERT INTO series (series, owner, asked, kind, path, what) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT DO NOTHING`, NewName(), k.owner, r.Series.Asked, r.Series.Kind, plain(r.Series.Path), plain(r.Series.What))
	if err != nil {
		return nil, err
	}
	var last int64
	var broken string
	// The row is written, so that others wait for it.
	row := k.tx.QueryRowContext(k.ctx, `UPDATE series SET kind = kind WHERE owner = $1 AND asked = $2
		RETURNING series, last, broken`, k.owner, r.Series.Asked)
	if err := row.Scan(&r.Series.ID, &last, &broken); err != nil {
		return nil, err
	}
	news := &News{FirstEver: last == 0}
	news.Breaks, news.Works = r.State == Broken && broken == "", r.State != Broken && broken != ""
	var untold, bad int
	err = k.tx.QueryRowContext(k.ctx, `SELECT untold, bad FROM records WHERE series = $1 AND seq = $2`, r.Series.ID, last).
		Scan(&untold, &bad)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	said := ""
	if r.State == Broken {
		said, r.Seq = "broken", 0
	} else {
		last++
		r.Seq = last
	}
	if err := k.exec(`UPDATE series SET last = $1, broken = $2 WHERE series = $3`, last, said, r.Series.ID); err != nil {
		return nil, err
	}
	err = k.exec(`INSERT INTO records VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17)`,
		r.ID, r.Series.ID, r.Seq, plain(r.Item), milliseconds(r.Slot), milliseconds(r.Began), milliseconds(r.Ended), r.Day,
		r.Version, plain(r.Host), r.Estate, r.State, r.Good, r.Bad, r.Truncated, plain(r.Says), k.owner)
	switch {
	case err != nil || r.State == Broken:
		return news, err
	case r.Truncated > 0:
		news.Many, news.Before, news.Now = true, bad, r.Bad
		return news, nil
	case untold > 0:
		news.FirstEver = true // nothing is known of the one before that could be compared
	}
	return news, k.spells(facts, news)
}

// distinct returns facts without those whose name was there before.
func distinct(facts []Fact) []Fact {
	seen := map[string]bool{}
	return slices.DeleteFunc(slices.Clone(facts), func(f Fact) bool {
		was := seen[f.Name]
		seen[f.Name] = true
		return was
	})
}

// spells lets what was found before, and is again, go on; begins what is new; and leaves the rest.
func (k *keeping) spells(facts []Fact, news *News) error {
	r := k.r
	before := map[string]Fact{}
	found, err := k.tx.QueryContext(k.ctx,
		`SELECT name, grp, who, severity, says FROM findings WHERE series = $1 AND last = $2`,
		r.Series.ID, r.Seq-1)
	if err != nil {
		return err
	}
	var order []string
	for found.Next() {
		var f Fact
		if err := found.Scan(&f.Name, &f.Group, &f.Who, &f.Severity, &f.Says); err != nil {
			found.Close()
			return err
		}
		before[f.Name] = f
		order = append(order, f.Name)
	}
	if err := errors.Join(found.Err(), found.Close()); err != nil {
		return err
	}
	is := map[string]bool{}
	var reworded []Fact
	for _, f := range facts {
		is[f.Name] = true
		if old, was := before[f.Name]; !was {
			news.New = append(news.New, f)
		} else if old.Says != plain(f.Says) || old.Severity != f.Severity {
			reworded = append(reworded, f)
		}
	}
	if err := k.exec(`UPDATE findings SET last = $1, until = $2 WHERE series = $3 AND last = $4`,
		r.Seq, milliseconds(r.Began), r.Series.ID, r.Seq-1); err != nil {
		return err
	}
	slices.Sort(order)
	var gone []string
	for _, name := range order {
		if !is[name] {
			news.Over = append(news.Over, before[name])
			gone = append(gone, name)
		}
	}
	reword := `UPDATE findings SET says = $1, severity = $2 WHERE series = $3 AND name = $4 AND last = $5`
	if err := insertAll(k.ctx, k.tx, reword, reworded, func(f Fact) []any {
		return []any{plain(f.Says), f.Severity, r.Series.ID, plain(f.Name), r.Seq}
	}); err != nil {
		return err
	}
	return k.move(gone, news.New)
}

// move removes those that are gone, and begins those that are new.
func (k *keeping) move(gone []string, fresh []Fact) error {
	r := k.r
	var ended int64 // when the record before was made
	row := k.tx.QueryRowContext(k.ctx, `SELECT COALESCE(MAX(began), 0) FROM records WHERE series = $1 AND seq = $2`,
		r.Series.ID, r.Seq-1)
	if err := row.Scan(&ended); err != nil {
		return err
	}
	back := `UPDATE findings SET last = $1, until = $2 WHERE series = $3 AND name = $4 AND last = $5`
	if err := insertAll(k.ctx, k.tx, back, gone, func(name string) []any {
		return []any{r.Seq - 1, ended, r.Series.ID, name, r.Seq}
	}); err != nil {
		return err
	}
	return insertAll(k.ctx, k.tx, `INSERT INTO findings VALUES ($1, $2, $3, $3, $4, $4, $5, $6, $7, $8, $9)`, fresh,
		func(f Fact) []any {
			return []any{r.Series.ID, plain(f.Name), r.Seq, milliseconds(r.Began), plain(f.Group), plain(f.Who), f.Severity,
				plain(f.Says), k.owner}
		})
}

const recordColumns = `r.record, r.owner, r.series, s.asked, s.kind, s.path, s.what, r.seq, r.item, r.slot, r.began,
	r.ended, r.day, r.version, r.host, r.estate, r.state, r.good, r.bad, r.untold, r.says`

func scanRecord(row interface{ Scan(...any) error }) (r KeptResult, err error) {
	var slot, began, ended int64
	err = row.Scan(&r.ID, &r.Owner, &r.Series.ID, &r.Series.Asked, &r.Series.Kind, &r.Series.Path, &r.Series.What,
		&r.Seq, &r.Item, &slot, &began, &ended, &r.Day, &r.Version, &r.Host, &r.Estate, &r.State, &r.Good, &r.Bad, &r.Truncated, &r.Says)
	r.Slot, r.Began, r.Ended = at(slot), at(began), at(ended)
	return r, err
}

// Answers returns the answers that were given since a time, the newest first, most of them at
// most.
func (s *Store) Answers(ctx context.Context, since time.Time, most int) ([]KeptResult, error) {
	return rows(ctx, s, func(r *sql.Rows) (KeptResult, error) { return scanRecord(r) },
		`SELECT `+recordColumns+` FROM records r JOIN series s ON s.series = r.series WHERE r.began >= $1
		AND `+s.mine("r.owner", 3)+` ORDER BY r.began DESC, r.record DESC LIMIT $2`, milliseconds(since), most, s.owner)
}

// AnswerNamed returns one answer.
func (s *Store) AnswerNamed(ctx context.Context, id string) (KeptResult, error) {
	r, err := scanRecord(s.db.QueryRowContext(ctx,
		`SELECT `+recordColumns+` FROM records r JOIN series s ON s.series = r.series WHERE r.record = $1
		AND `+s.mine("r.owner", 2), id, s.owner))
	if errors.Is(err, sql.ErrNoRows) {
		return r, ErrNoRun
	}
	return r, err
}

// Latest returns the last record of every series, by path and kind.
func (s *Store) Latest(ctx context.Context) ([]KeptResult, error) {
	return rows(ctx, s, func(r *sql.Rows) (KeptResult, error) { return scanRecord(r) },
		`SELECT `+recordColumns+` FROM series s JOIN records r ON r.record = (SELECT record FROM records
		WHERE series = s.series ORDER BY began DESC, record DESC LIMIT 1) WHERE s.owner = $1
		ORDER BY s.path, s.kind, s.what, s.asked`, s.owner)
}

const spellColumns = `s.series, s.asked, s.kind, s.path, s.what, s.last, f.name, f.first, f.last, f.since, f.until, f.grp,
	f.who, f.severity, f.says`

func scanInterval(row *sql.Rows, more ...any) (x Interval, err error) {
	var newest, since, until int64
	err = row.Scan(append([]any{&x.Series.ID, &x.Series.Asked, &x.Series.Kind, &x.Series.Path, &x.Series.What, &newest,
		&x.Name, &x.First, &x.Last, &since, &until, &x.Group, &x.Who, &x.Severity, &x.Says}, more...)...)
	x.Since, x.Until, x.Open = at(since), at(until), x.Last == newest
	return x, err
}

// FactsOf returns what a record found.
func (s *Store) FactsOf(ctx context.Context, r *KeptResult) ([]Interval, error) {
	scan := func(row *sql.Rows) (Interval, error) { return scanInterval(row) }
	return rows(ctx, s, scan, `SELECT `+spellColumns+` FROM findings f JOIN series s ON s.series = f.series
		WHERE f.series = $1 AND f.first <= $2 AND f.last >= $2 ORDER BY f.severity, f.grp, f.who, f.name`, r.Series.ID, r.Seq)
}

// IntervalsOf returns what was found of a group or person, each finding of a series once, by its last spell:
// the newest first, most of it at most, and how many there are in all.
func (s *Store) IntervalsOf(ctx context.Context, address string, most int) (list []Interval, all int, err error) {
	scan := func(row *sql.Rows) (Interval, error) {
		var times int
		var ever int64
		x, err := scanInterval(row, &times, &ever, &all)
		x.Times, x.Ever = times, at(ever)
		return x, err
	}
	list, err = rows(ctx, s, scan, `SELECT `+spellColumns+`, x.times, x.ever, COUNT(*) OVER () FROM (
			SELECT series, name, COUNT(*) AS times, MIN(since) AS ever, MAX(first) AS newest FROM (
				SELECT series, name, first, since FROM findings WHERE owner = $3 AND grp = $1
				UNION SELECT series, name, first, since FROM findings WHERE owner = $3 AND who = $1) AS y
			GROUP BY series, name) AS x
		JOIN findings f ON f.series = x.series AND f.name = x.name AND f.first = x.newest
		JOIN series s ON s.series = f.series ORDER BY f.since DESC, f.name LIMIT $2`, address, most, s.owner)
	return list, all, err
}

// CountOf returns how many answers a series has.
func (s *Store) CountOf(ctx context.Context, series string) (n int64, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT last FROM series WHERE series = $1`, series).Scan(&n)
	return n, err
}

// An Arrival is what a probe saw of a message in somebody's mailbox.
type Arrival struct {
	Kind, Group string
	Who         string // "" for the message itself
	Began       time.Time
	Predicted   string
	Seen        string
	OK          bool
	Looked      bool // something can be said of it
	Seconds     float64
}

// arrivals are checks of messages to the group $1, or in the mailbox of the person $1, of the estate $2.
const arrivals = ` FROM (SELECT * FROM checks WHERE owner = $2 AND grp = $1
	UNION ALL SELECT * FROM checks WHERE owner = $2 AND who = $1 AND grp <> $1) AS x `

// ArrivalsOf returns what probes saw of messages to a group, or in the mailbox of a person, the
// newest first, most of it at most.
func (s *Store) ArrivalsOf(ctx context.Context, address string, most int) ([]Arrival, error) {
	return rows(ctx, s, func(row *sql.Rows) (a Arrival, err error) {
		var ok int
		var began int64
		err = row.Scan(&a.Kind, &a.Group, &a.Who, &began, &a.Predicted, &a.Seen, &ok, &a.Seconds)
		a.Began, a.OK, a.Looked = at(began), ok == 1, ok >= 0
		return a, err
	}, `SELECT kind, grp, who, began, predicted, seen, ok, seconds FROM (
			SELECT *`+arrivals+`ORDER BY began DESC LIMIT $3) AS y ORDER BY began DESC, run, n, who`, address, s.owner, most)
}

// A Tally counts checks of which something can be said.
type Tally struct {
	All, Wrong int
	Since      time.Time // when the first was made
}

// TallyOf counts all that ArrivalsOf could return.
func (s *Store) TallyOf(ctx context.Context, address string) (t Tally, err error) {
	var since int64
	err = s.db.QueryRowContext(ctx, `SELECT COUNT(*), COALESCE(SUM(CASE WHEN ok = 0 THEN 1 ELSE 0 END), 0),
		COALESCE(MIN(began), 0)`+arrivals+`WHERE ok >= 0`, address, s.owner).Scan(&t.All, &t.Wrong, &since)
	t.Since = at(since)
	return t, err
}

// FailedOf returns what the run of an ID, of a probe, found not to be as predicted, or could not find out.
func (s *Store) FailedOf(ctx context.Context, run string) ([]Fact, error) {
	return rows(ctx, s, func(row *sql.Rows) (f Fact, err error) {
		var kind, predicted, seen string
		var ok int
		if err := row.Scan(&kind, &f.Group, &f.Who, &predicted, &seen, &ok); err != nil {
			return f, err
		}
		f.Name = kind + " " + f.Group + " " + f.Who + " " + predicted
		f.Says = kind + " message: predicted " + predicted + ", seen " + seen
		if ok < 0 {
			f.Says = kind + " message: predicted " + predicted + ", nothing can be said"
		}
		return f, nil
	}, `SELECT c.kind, c.grp, k.who, k.predicted, k.seen, k.ok FROM checks k
		JOIN cases c ON c.run = k.run AND c.n = k.n WHERE k.run = $1 AND k.ok <> 1 ORDER BY c.n, k.who`, run)
}

// Mail is how much mail probes sent, and how long what arrived took.
type Mail struct {
	Messages map[string]int // of all runs that are kept, by their state
	Arrivals int            // since a time
	Seconds  float64        // in all
	Median   float64
	P95      float64
}

// Mail sums up what probes sent, and what arrived of the runs since a time.
func (s *Store) Mail(ctx context.Context, since time.Time) (Mail, error) {
	m := Mail{Messages: map[string]int{Planned: 0, Sent: 0, Refused: 0}}
	type count struct {
		state string
		n     int
	}
	counts, err := rows(ctx, s, func(r *sql.Rows) (c count, err error) { return c, r.Scan(&c.state, &c.n) },
		`SELECT state, COUNT(*) FROM cases WHERE owner = $1 GROUP BY state`, s.owner)
	if err != nil {
		return m, err
	}
	for _, c := range counts {
		m.Messages[c.state] = c.n
	}
	took, err := rows(ctx, s, func(r *sql.Rows) (x float64, err error) { return x, r.Scan(&x) },
		`SELECT seconds FROM checks WHERE run IN (SELECT run FROM runs WHERE owner = $2 AND began >= $1) AND ok = 1 AND
		seconds > 0 ORDER BY seconds LIMIT 100000`, milliseconds(since), s.owner)
	if err != nil || len(took) == 0 {
		return m, err
	}
	for _, x := range took {
		m.Seconds += x
	}
	m.Arrivals = len(took)
	m.Median, m.P95 = took[(len(took)*50+99)/100-1], took[(len(took)*95+99)/100-1]
	return m, nil
}
