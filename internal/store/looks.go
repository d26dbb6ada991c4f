package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"yorvet.example/yorvet/internal/secret"
)

// A Visit is a mailbox that its holder alone looks into now.
type Visit struct {
	Run string
	Look
	Through bool // all folders are to be gone through: nothing more is waited for
}

// Lease is how long a mailbox is held without a word.
const Lease = 30 * time.Second

// Visit takes a mailbox that is due to be looked into, if less than most are held in its
// connection. It returns nil if there is none.
func (s *Store) Visit(ctx context.Context, w Worker, most int) (*Visit, error) {
	in, args := w.connections("l.lane", 4)
	connections, err := rows(ctx, s, func(found *sql.Rows) (name string, err error) { return name, found.Scan(&name) },
		`SELECT DISTINCT l.lane FROM looks l JOIN runs r ON r.run = l.run WHERE `+dueToVisit+` AND `+in,
		append([]any{s.now(), w.Run, s.owner}, args...)...)
	if err != nil {
		return nil, err
	}
	for _, connection := range connections {
		v, err := s.visitIn(ctx, w, connection, most)
		if v != nil || err != nil {
			return v, err
		}
	}
	return nil, nil
}

// dueToVisit is the condition of a mailbox l of a run r that somebody is to look into by $1,
// of the run $2 or any, of the estate $3.
const dueToVisit = `l.owner = $3 AND l.lease <= $1 AND l.certain = 0 AND ($2 = '' OR l.run = $2) AND
	(r.state = 'open' AND l.due <= $1 OR r.state = 'closing' AND l.through < r.closing AND l.due <= $1)`

func (s *Store) visitIn(ctx context.Context, w Worker, connection string, most int) (*Visit, error) {
	var v *Visit
	err := s.in(ctx, func(tx *sql.Tx) error {
		if err := s.holdConnection(ctx, tx, connection); err != nil {
			return err
		}
		now := s.now()
		found := &Visit{}
		var marks, first, state string
		var looked, through, tried, closing int64
		err := tx.QueryRowContext(ctx, `UPDATE looks SET holder = $7, lease = $4
			WHERE (run, account) = (SELECT l.run, l.account FROM looks l JOIN runs r ON r.run = l.run
				WHERE l.lane = $5 AND `+dueToVisit+` ORDER BY l.due, l.run, l.account LIMIT 1`+s.skipLocked("l")+`)
			AND (SELECT COUNT(*) FROM looks WHERE owner = $3 AND lane = $5 AND lease > $1) < $6
			RETURNING run, account, lane, marks, first, looked, through, tried, problem,
				(SELECT state FROM runs WHERE runs.run = looks.run), (SELECT closing FROM runs WHERE runs.run = looks.run)`,
			now, w.Run, s.owner, now+Lease.Milliseconds(), plain(connection), most, w.Holder).
			Scan(&found.Run, &found.Account, &found.Connection, &marks, &first, &looked, &through, &tried, &found.Problem,
				&state, &closing)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		found.Looked, found.Look.Through, found.Tried = at(looked), at(through), at(tried)
		found.Through = state == StateClosing
		if marks != "" {
			found.Marks = json.RawMessage(marks)
		}
		if first != "" {
			found.First = json.RawMessage(first)
		}
		v = found
		return err
	})
	if err != nil {
		return nil, err
	}
	return v, nil
}

// Hold keeps holding a mailbox. It reports whether it is still the holder's, and whether
// all of it is to be gone through now.
func (s *Store) Hold(ctx context.Context, holder string, v *Visit) (mine, through bool, err error) {
	var state string
	var closing, done int64
	err = s.db.QueryRowContext(ctx, `UPDATE looks SET lease = $1 WHERE run = $2 AND account = $3 AND holder = $4
		RETURNING (SELECT state FROM runs WHERE runs.run = looks.run),
			(SELECT closing FROM runs WHERE runs.run = looks.run), through`,
		s.now()+Lease.Milliseconds(), v.Run, plain(v.Account), holder).Scan(&state, &closing, &done)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return false, false, nil
	case err != nil:
		return false, false, err
	}
	return state == StateOpen || state == StateClosing && done < closing, state == StateClosing, nil
}

// Looked is what one look into a mailbox came to.
type Looked struct {
	Began        time.Time       // of the store's clock
	Through      bool            // all folders were gone through
	Marks        json.RawMessage // to go on from; nil where the look failed
	Problem      string          // why it failed, or ""
	Certain      bool            // another try gives the same result
	Observations []Observation
	Next         time.Time // when to look again
	Keep         bool      // the holder keeps holding the mailbox
}

// Found writes what a look came to, and returns the observations that are new. What was seen
// is written even if another one holds the mailbox by now.
func (s *Store) Found(ctx context.Context, holder string, v *Visit, f Looked) (fresh []Observation, err error) {
	err = s.in(ctx, func(tx *sql.Tx) error {
		fresh = nil
		for _, o := range f.Observations {
			done, err := tx.ExecContext(ctx, `INSERT INTO observations
				(run, n, account, folder, validity, uid, what, seen, detail, look)
				SELECT CAST($1 AS TEXT), CAST($2 AS INTEGER), $3, $4, CAST($5 AS BIGINT), CAST($6 AS BIGINT), $7,
					CAST($8 AS BIGINT), $9, CAST($10 AS BIGINT)
				WHERE EXISTS (SELECT 1 FROM cases WHERE run = $1 AND n = $2) ON CONFLICT DO NOTHING`,
				v.Run, o.N, plain(o.Account), plain(o.Folder), int64(o.Validity), int64(o.UID), o.What, milliseconds(o.Seen),
				secret.Hide(string(o.Detail)), milliseconds(f.Began))
			if err != nil {
				return err
			}
			n, err := done.RowsAffected()
			if err != nil {
				return err
			}
			if n == 1 {
				fresh = append(fresh, o)
				continue
			}
			if _, err := tx.ExecContext(ctx, `UPDATE observations SET look = $1 WHERE run = $2 AND n = $3 AND account = $4
				AND folder = $5 AND validity = $6 AND uid = $7 AND what = $8`, milliseconds(f.Began), v.Run, o.N,
				plain(o.Account), plain(o.Folder), int64(o.Validity), int64(o.UID), o.What); err != nil {
				return err
			}
		}
		lease := int64(0)
		if f.Keep {
			lease = s.now() + Lease.Milliseconds()
		}
		looked, through := milliseconds(f.Began), int64(0)
		if f.Problem != "" {
			looked = 0
		} else if f.Through {
			through = looked
		}
		_, err := tx.ExecContext(ctx, `UPDATE looks SET lease = $1, due = $2, tried = $3, problem = $4, certain = $11,
			looked = CASE WHEN looked > $5 THEN looked ELSE $5 END,
			through = CASE WHEN through > $6 THEN through ELSE $6 END,
			marks = CASE WHEN $7 = '' THEN marks ELSE $7 END
			WHERE run = $8 AND account = $9 AND holder = $10`,
			lease, milliseconds(f.Next), milliseconds(f.Began), plain(f.Problem), looked, through, string(f.Marks),
			v.Run, plain(v.Account), holder, number(f.Certain))
		return err
	})
	return fresh, err
}

// Progress is how far a run is.
type Progress struct {
	Name, State             string
	Began, Until, Closing   time.Time
	Resumed, Steered        time.Time // as Run has them
	Cases, Waiting, Sending int       // messages in all, still to be sent, and being sent
	Accepted                int       // messages that were accepted, or may have been
	Checks, Missing         int       // what has to be observed where somebody looks, and what of it is not there yet
	LastSent, LastNews      time.Time // when something last became of a message for good, and when something else happened
	Mailboxes, Opened       int       // that are looked into, and those that have been
	Unlooked                int       // mailboxes that have not been gone through since the closing
	LastThrough             time.Time // when one was last, if any has been
	Terms                   Terms
	Held                    int // mailboxes that somebody looks into now
}

// Progress returns how far the run of an ID is.
func (s *Store) Progress(ctx context.Context, run string) (Progress, error) {
	var t Progress
	r, err := s.RunOf(ctx, run)
	if err != nil {
		return t, err
	}
	t.Name, t.State, t.Terms = r.Name, r.State, r.Terms
	t.Began, t.Until, t.Closing, t.Resumed, t.Steered = r.Began, r.Until, r.Closing, r.Resumed, r.Steered
	var sent, news, through int64
	err = s.db.QueryRowContext(ctx, `SELECT COUNT(*),
		COUNT(*) FILTER (WHERE state = 'planned'), COUNT(*) FILTER (WHERE state = 'sending'),
		COUNT(*) FILTER (WHERE state IN ('sent', 'unsure') OR EXISTS (
			SELECT 1 FROM signs g WHERE g.run = cases.run AND g.n = cases.n AND g.sign = 'code')),
		COALESCE(MAX(settled) FILTER (WHERE state NOT IN ('planned', 'sending')), 0)
		FROM cases WHERE run = $1`, run).Scan(&t.Cases, &t.Waiting, &t.Sending, &t.Accepted, &sent)
	if err != nil {
		return t, err
	}
	err = s.db.QueryRowContext(ctx, `SELECT COUNT(*), COUNT(*) FILTER (WHERE looked > 0),
		COUNT(*) FILTER (WHERE through < $2 AND certain = 0), COUNT(*) FILTER (WHERE lease > $3), COALESCE(MAX(through), 0)
		FROM looks WHERE run = $1`, run, milliseconds(r.Closing), s.now()).
		Scan(&t.Mailboxes, &t.Opened, &t.Unlooked, &t.Held, &through)
	if err != nil {
		return t, err
	}
	err = s.db.QueryRowContext(ctx, `SELECT COALESCE(MAX(t), 0) FROM (
		SELECT MAX(seen) AS t FROM observations WHERE run = $1
		UNION ALL SELECT MAX(intent) AS t FROM answers WHERE run = $1) news`, run).Scan(&news)
	if err != nil {
		return t, err
	}
	t.LastSent, t.LastNews, t.LastThrough = at(sent), at(max(sent, news)), at(through)
	err = s.db.QueryRowContext(ctx, `SELECT COUNT(*), COUNT(*) FILTER (WHERE NOT EXISTS (
			SELECT 1 FROM observations o WHERE o.run = g.run AND o.n = g.n AND o.account = g.account AND
				(o.what = g.sign OR g.sign IN ('digest', 'released') AND o.what = 'copy' OR
				g.sign = 'released' AND o.what = 'digest')))
		FROM signs g JOIN cases k ON k.run = g.run AND k.n = g.n
			JOIN looks l ON l.run = g.run AND l.account = g.account
		WHERE g.run = $1 AND (k.state IN ('sent', 'unsure') OR g.sign = 'code' AND k.state IN ('refused', 'given-up')) AND
			l.certain = 0 AND (g.sign <> 'released' OR EXISTS (
			SELECT 1 FROM answers a WHERE a.run = g.run AND a.n = g.n))`, run).Scan(&t.Checks, &t.Missing)
	return t, err
}

// Mailboxes returns how many mailboxes a worker could look into now.
func (s *Store) Mailboxes(ctx context.Context, w Worker) (n int, err error) {
	in, args := w.connections("l.lane", 3)
	err = s.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM looks l JOIN runs r ON r.run = l.run
		WHERE l.owner = $2 AND r.state IN ('open', 'closing') AND l.certain = 0 AND ($1 = '' OR l.run = $1) AND `+in,
		append([]any{w.Run, s.owner}, args...)...).Scan(&n)
	return n, err
}

// Under returns the IDs of the runs that are being worked on, and have to do with some connections.
func (s *Store) Under(ctx context.Context, w Worker) ([]string, error) {
	inCases, args := w.connections("c.lane", 3)
	inLooks, _ := w.connections("l.lane", 3)
	return rows(ctx, s, func(found *sql.Rows) (run string, err error) { return run, found.Scan(&run) },
		`SELECT r.run FROM runs r WHERE r.owner = $2 AND r.state IN ('open', 'closing') AND ($1 = '' OR r.run = $1) AND (
			EXISTS (SELECT 1 FROM cases c WHERE c.run = r.run AND `+inCases+`) OR
			EXISTS (SELECT 1 FROM looks l WHERE l.run = r.run AND `+inLooks+`)) ORDER BY r.began, r.run`,
		append([]any{w.Run, s.owner}, args...)...)
}

// Time in which nobody steered a run after it was planned, as the database was away or all agents were, is
// made up for: from leastGap on, as far as mostGap, after which the one who planned it has long stopped waiting.
const (
	leastGap = 4 * time.Second
	mostGap  = time.Hour
)

// Steer says that somebody steers a run now, and returns how far it is. Where nobody had for a while, what
// is waited for is waited for so much longer.
func (s *Store) Steer(ctx context.Context, run string) (Progress, error) {
	now := s.now()
	err := s.in(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE runs SET until = until + $1 - steered, resumed = $1, steered = $1
			WHERE run = $2 AND steered > $1 - CAST($3 AS BIGINT) AND steered < $1 - CAST($4 AS BIGINT)`,
			now, run, mostGap.Milliseconds(), leastGap.Milliseconds())
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE runs SET steered = $1 WHERE run = $2 AND steered < $1`, now, run)
		return err
	})
	if err != nil {
		return Progress{}, err
	}
	return s.Progress(ctx, run)
}

// Finish says that nothing more is waited for: each mailbox is to be gone through once more,
// and nothing more is sent. What was not sent stays so. resumed is Progress.Resumed, by which that was
// worked out: a run that was resumed since goes on, and one that nobody steered for a while.
func (s *Store) Finish(ctx context.Context, run string, resumed time.Time) error {
	return s.in(ctx, func(tx *sql.Tx) error {
		now := s.now()
		done, err := tx.ExecContext(ctx, `UPDATE runs SET state = 'closing', closing = $1
			WHERE run = $2 AND state = 'open' AND resumed = $3 AND steered >= $1 - CAST($4 AS BIGINT)`,
			now, run, milliseconds(resumed), leastGap.Milliseconds())
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE cases SET state = 'given-up', settled = $1 WHERE run = $2 AND state = 'planned'`,
			now, run)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE looks SET due = 0 WHERE run = $1`, run)
		return err
	})
}

// End says that a run has ended.
func (s *Store) End(ctx context.Context, run string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE runs SET state = 'ended', ended = $1 WHERE run = $2 AND state = 'closing'`,
		s.now(), run)
	return err
}

// Stop says that a run was interrupted: nobody works on it.
func (s *Store) Stop(ctx context.Context, run string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE runs SET state = 'stopped' WHERE run = $1 AND state IN ('open', 'closing')`,
		run)
	return err
}

// Reopen has a run worked on again, for so long at most.
func (s *Store) Reopen(ctx context.Context, run string, wait time.Duration) error {
	return s.in(ctx, func(tx *sql.Tx) error {
		now := s.now()
		done, err := tx.ExecContext(ctx, `UPDATE runs SET state = 'open', closing = 0, ended = 0, until = $1,
			steered = $3 WHERE run = $2`, now+wait.Milliseconds(), run, now)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, ErrNoRun)
		}
		_, err = tx.ExecContext(ctx, `UPDATE cases SET state = 'planned', due = 0 WHERE run = $1 AND state = 'given-up'`,
			run)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE looks SET due = 0, certain = 0 WHERE run = $1`, run)
		return err
	})
}
