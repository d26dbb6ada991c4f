package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// A Rule says how long runs of probes and answers of checks, expectations and comparisons are kept: what
// is older than so many days goes, and what is beyond so many of both. 0 is no bound.
type Rule struct{ Days, Runs int }

func (r Rule) String() string {
	switch {
	case r == Rule{}:
		return "all is kept"
	case r.Runs == 0:
		return fmt.Sprintf("%d days are kept", r.Days)
	case r.Days == 0:
		return fmt.Sprintf("the newest %d are kept", r.Runs)
	}
	return fmt.Sprintf("the newest %d of %d days are kept", r.Runs, r.Days)
}

// A Part is which runs and answers a rule is for.
type Part struct {
	// Item and Run are how the names of items, and of runs of probes, begin that belong to a plan; "" is
	// everything.
	Item, Run string
	Rest      bool // instead: all that belongs to no plan, where those of plans begin with Run
}

// where is the condition of a part: of answers by their items, or of runs by their names.
func (p Part) where(runs bool, n int) (condition, arg string) {
	begins := func(column, start string) string {
		return fmt.Sprintf("substr(%s, 1, %d) = $%d", column, len([]rune(start)), n)
	}
	switch {
	case p.Rest && runs:
		return "NOT " + begins("name", p.Run), plain(p.Run)
	case p.Rest:
		return fmt.Sprintf("item = $%d", n), ""
	case runs:
		return begins("name", p.Run), plain(p.Run)
	}
	return begins("item", p.Item), plain(p.Item)
}

// UsualRule is that of an estate that nobody gave one.
var UsualRule = Rule{Days: 400}

// Rule returns the rule of the estate.
func (s *Store) Rule(ctx context.Context) (r Rule, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT keep_days, keep_runs FROM owners WHERE owner = $1`, s.owner).
		Scan(&r.Days, &r.Runs)
	if errors.Is(err, sql.ErrNoRows) {
		return UsualRule, nil
	}
	return r, err
}

// SetRule changes it.
func (s *Store) SetRule(ctx context.Context, r Rule) error {
	_, err := s.db.ExecContext(ctx, `UPDATE owners SET keep_days = $1, keep_runs = $2 WHERE owner = $3`, r.Days, r.Runs,
		s.owner)
	return err
}

// Cutoff returns the time before which all of a part goes by a rule; zero where nothing does.
func (s *Store) Cutoff(ctx context.Context, r Rule, p Part) (cutoff time.Time, err error) {
	if r.Days > 0 {
		cutoff = s.Now().AddDate(0, 0, -r.Days)
	}
	if r.Runs == 0 {
		return cutoff, nil
	}
	ofRuns, run := p.where(true, 3)
	ofItems, item := p.where(false, 4)
	var oldest int64
	err = s.db.QueryRowContext(ctx, `SELECT began FROM (SELECT began FROM runs WHERE owner = $1 AND `+ofRuns+`
		UNION ALL SELECT began FROM records WHERE owner = $1 AND `+ofItems+`) AS x ORDER BY began DESC LIMIT 1 OFFSET $2`,
		s.owner, r.Runs-1, run, item).Scan(&oldest)
	if errors.Is(err, sql.ErrNoRows) {
		return cutoff, nil
	}
	if kept := at(oldest); err == nil && kept.After(cutoff) {
		cutoff = kept
	}
	return cutoff, err
}

// EndedBefore returns the names of the runs of a part that have ended and began before a time, the newest
// first.
func (s *Store) EndedBefore(ctx context.Context, cutoff time.Time, p Part) ([]string, error) {
	where, run := p.where(true, 3)
	return rows(ctx, s, func(r *sql.Rows) (name string, err error) { return name, r.Scan(&name) },
		`SELECT name FROM runs WHERE owner = $1 AND began < $2 AND state IN ('ended', 'stopped') AND `+where+`
		ORDER BY began DESC, name`, s.owner, milliseconds(cutoff), run)
}

// notLast is the condition of answers that are not the last of their series, by which what is new is found.
const notLast = `NOT EXISTS (SELECT 1 FROM series WHERE series.series = records.series AND series.last = records.seq)`

// AnswersBefore counts the answers that RemoveAnswers would remove.
func (s *Store) AnswersBefore(ctx context.Context, cutoff time.Time, p Part) (n int, err error) {
	where, item := p.where(false, 3)
	err = s.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM records WHERE owner = $1 AND began < $2 AND `+where+` AND `+notLast,
		s.owner, milliseconds(cutoff), item).Scan(&n)
	return n, err
}

// RemoveAnswers removes answers of a part that were given before a time, and of all findings those that
// were over then. The last answer of a series stays.
func (s *Store) RemoveAnswers(ctx context.Context, cutoff time.Time, p Part) (removed int64, err error) {
	where, item := p.where(false, 3)
	err = s.in(ctx, func(tx *sql.Tx) error {
		done, err := tx.ExecContext(ctx, `DELETE FROM records WHERE owner = $1 AND began < $2 AND `+where+` AND `+notLast,
			s.owner, milliseconds(cutoff), item)
		if err != nil {
			return err
		}
		if removed, err = done.RowsAffected(); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `DELETE FROM findings WHERE owner = $1 AND until < $2 AND NOT EXISTS
			(SELECT 1 FROM series WHERE series.series = findings.series AND series.last = findings.last) AND NOT EXISTS
			(SELECT 1 FROM records WHERE records.series = findings.series AND records.seq <= findings.last AND
				records.seq >= findings.first)`, s.owner, milliseconds(cutoff))
		return err
	})
	return removed, err
}

// Sweep removes what a rule has of a part no longer kept, and returns how much, and how old it was.
func (s *Store) Sweep(ctx context.Context, r Rule, p Part) (runs, answers int, cutoff time.Time, err error) {
	if cutoff, err = s.Cutoff(ctx, r, p); err != nil || cutoff.IsZero() {
		return 0, 0, cutoff, err
	}
	names, err := s.EndedBefore(ctx, cutoff, p)
	if err == nil && len(names) > 0 {
		err = s.Remove(ctx, names...)
	}
	if err != nil {
		return 0, 0, cutoff, err
	}
	removed, err := s.RemoveAnswers(ctx, cutoff, p)
	return len(names), int(removed), cutoff, err
}
