package store

import (
	"context"
	"database/sql"
	"time"
)

func (s *Store) addAlarm(ctx context.Context, tx *sql.Tx, a Alarm) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO alarms VALUES ($1, $2, $3, $4, $5, $6, $7)`, a.ID, plain(a.Plan),
		plain(a.Item), a.Record, milliseconds(a.At), plain(a.Body), s.owner)
	if err != nil {
		return err
	}
	for channel, due := range a.Ways {
		if _, err := tx.ExecContext(ctx, `INSERT INTO deliveries (alarm, way, due, owner, plan) VALUES ($1, $2, $3, $4, $5)`,
			a.ID, plain(channel), milliseconds(due), s.owner, plain(a.Plan)); err != nil {
			return err
		}
	}
	return nil
}

// A Batch is alarms that go out together, by one channel. One that may have gone out already, as the
// process that was at it is gone, keeps its name.
type Batch struct {
	ID      string
	Channel string
	Tries   int // how often it was begun, this time included
	Alarms  []Alarm
}

// mostTold is how many alarms go out together.
const mostTold = 200

// ClaimBatch returns alarms of a plan that are due to go out by a channel, for one holder alone; nil if
// there are none. id names them, unless they have a name already.
func (s *Store) ClaimBatch(
	ctx context.Context, plan, channel, id, holder string, now time.Time, lease time.Duration,
) (*Batch, error) {
	// Most often nothing waits: looking takes no lock.
	var waits int
	err := s.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM deliveries
		WHERE way = $1 AND state <> 'sent' AND due <= $2 AND owner = $3 AND plan = $4`, plain(channel), milliseconds(now),
		s.owner, plain(plan)).Scan(&waits)
	if err != nil || waits == 0 {
		return nil, err
	}
	var b *Batch
	err = s.in(ctx, func(tx *sql.Tx) error {
		if s.shared {
			if _, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock(796574)`); err != nil {
				return err
			}
		}
		ms := milliseconds(now)
		// A batch that somebody began and is gone from goes first, as it was.
		var begun string
		row := tx.QueryRowContext(ctx, `SELECT COALESCE(MIN(batch), '') FROM deliveries
			WHERE way = $1 AND batch <> '' AND due <= $2 AND (state = 'waiting' OR state = 'sending' AND lease < $2) AND
				owner = $3 AND plan = $4`, plain(channel), ms, s.owner, plain(plan))
		if err := row.Scan(&begun); err != nil {
			return err
		}
		if begun == "" {
			begun = id
			done, err := tx.ExecContext(ctx, `UPDATE deliveries SET batch = $1 WHERE way = $2 AND alarm IN
				(SELECT alarm FROM deliveries WHERE way = $2 AND state = 'waiting' AND batch = '' AND due <= $3 AND owner = $5 AND
				plan = $6 ORDER BY due, alarm LIMIT $4)`, begun, plain(channel), ms, mostTold, s.owner, plain(plan))
			if err != nil {
				return err
			}
			if n, err := done.RowsAffected(); err != nil || n == 0 {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `UPDATE deliveries SET state = 'sending', holder = $1, lease = $2, tries = tries + 1
			WHERE batch = $3 AND way = $4`, holder, milliseconds(now.Add(lease)), begun, plain(channel))
		if err != nil {
			return err
		}
		b, err = readBatch(ctx, tx, begun, channel)
		return err
	})
	return b, err
}

func readBatch(ctx context.Context, tx *sql.Tx, id, channel string) (*Batch, error) {
	b := &Batch{ID: id, Channel: channel}
	found, err := tx.QueryContext(ctx, `SELECT a.alarm, a.plan, a.item, a.record, a.at, a.body, d.tries FROM deliveries d
		JOIN alarms a ON a.alarm = d.alarm WHERE d.batch = $1 AND d.way = $2 ORDER BY a.at, a.alarm`, id, plain(channel))
	if err != nil {
		return nil, err
	}
	defer found.Close()
	for found.Next() {
		var a Alarm
		var when int64
		if err := found.Scan(&a.ID, &a.Plan, &a.Item, &a.Record, &when, &a.Body, &b.Tries); err != nil {
			return nil, err
		}
		a.At = at(when)
		b.Alarms = append(b.Alarms, a)
	}
	return b, found.Err()
}

// MarkSent says that a batch went out.
func (s *Store) MarkSent(ctx context.Context, b *Batch, holder string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE deliveries SET state = 'sent', holder = '', problem = ''
		WHERE batch = $1 AND way = $2 AND holder = $3`, b.ID, plain(b.Channel), holder)
	return err
}

// MarkFailed says why a batch did not go out, and when to try again.
func (s *Store) MarkFailed(ctx context.Context, b *Batch, holder, problem string, again time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE deliveries SET state = 'waiting', holder = '', problem = $1, due = $2
		WHERE batch = $3 AND way = $4 AND holder = $5`, plain(problem), milliseconds(again), b.ID, plain(b.Channel), holder)
	return err
}

// A Backlog is what has not gone out by a channel yet.
type Backlog struct {
	Channel string
	Waiting int
	Since   time.Time // of the oldest
	Problem string    // why the last try failed, or ""
}

// Backlogs returns what of a plan has not gone out, by channel.
func (s *Store) Backlogs(ctx context.Context, plan string) ([]Backlog, error) {
	return rows(ctx, s, func(r *sql.Rows) (b Backlog, err error) {
		var since int64
		err = r.Scan(&b.Channel, &b.Waiting, &since, &b.Problem)
		b.Since = at(since)
		return b, err
	}, `SELECT d.way, COUNT(*), MIN(a.at), MAX(d.problem) FROM deliveries d JOIN alarms a ON a.alarm = d.alarm
		WHERE d.state <> 'sent' AND d.owner = $1 AND d.plan = $2 GROUP BY d.way ORDER BY d.way`, s.owner, plain(plan))
}
