package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/secret"
)

// A Claim is a case that its holder alone may send now.
type Claim struct {
	Run string
	Case
}

// A Worker says whose work is asked for.
type Worker struct {
	Holder      string   // the name under which claims are held
	Run         string   // only this one; "": all
	Connections []string // the connections that it has
}

// connections returns the connections of a worker as a condition; arguments are numbered from one on.
func (w Worker) connections(column string, from int) (condition string, args []any) {
	var marks []string
	for i, connection := range w.Connections {
		marks = append(marks, fmt.Sprintf("$%d", from+i))
		args = append(args, plain(connection))
	}
	if len(marks) == 0 {
		return "FALSE", nil
	}
	return column + " IN (" + strings.Join(marks, ", ") + ")", args
}

// Waiting returns the connections of a worker in which a case is due to be sent.
func (s *Store) Waiting(ctx context.Context, w Worker) ([]string, error) {
	in, args := w.connections("c.lane", 4)
	return rows(ctx, s, func(found *sql.Rows) (name string, err error) { return name, found.Scan(&name) },
		`SELECT DISTINCT c.lane FROM cases c JOIN runs r ON r.run = c.run
		WHERE c.owner = $3 AND c.state = 'planned' AND c.due <= $1 AND r.state = 'open' AND ($2 = '' OR c.run = $2) AND `+in,
		append([]any{s.now(), w.Run, s.owner}, args...)...)
}

// Turn takes the next turn in a connection, and returns when it is: each comes a step after the
// one before, on whatever machine.
func (s *Store) Turn(ctx context.Context, connection string, step time.Duration) (time.Time, error) {
	var next int64
	micro := max(step.Milliseconds(), 0)
	err := s.db.QueryRowContext(ctx, `UPDATE lanes SET next = CASE WHEN next > $1 THEN next ELSE $1 END + $2
		WHERE owner = $3 AND lane = $4 RETURNING next`, s.now(), micro, s.owner, plain(connection)).Scan(&next)
	return time.UnixMilli(next - micro), err
}

// Claim takes a case that is due in a connection, if less than most are being sent in it. It is
// committed when it returns: whatever becomes of the holder, nobody else sends that case.
// It returns nil if there is none.
func (s *Store) Claim(ctx context.Context, w Worker, connection string, most int) (*Claim, error) {
	var c *Claim
	err := s.in(ctx, func(tx *sql.Tx) error {
		if err := s.holdConnection(ctx, tx, connection); err != nil {
			return err
		}
		now := s.now()
		row := tx.QueryRowContext(ctx, `UPDATE cases SET state = 'sending', holder = $1, intent = $2, tries = tries + 1
			WHERE state = 'planned' AND (run, n) = (
				SELECT c.run, c.n FROM cases c JOIN runs r ON r.run = c.run
				WHERE c.owner = $6 AND c.lane = $3 AND c.state = 'planned' AND c.due <= $2 AND r.state = 'open' AND
					($4 = '' OR c.run = $4)
				ORDER BY c.due, c.run, c.n LIMIT 1`+s.skipLocked("c")+`)
			AND (SELECT COUNT(*) FROM cases WHERE owner = $6 AND lane = $3 AND state = 'sending') < $5
			RETURNING run, n, kind, grp, lane, draft, message_id, tag, tries`, w.Holder, now, plain(connection), w.Run, most,
			s.owner)
		found := &Claim{}
		var draft string
		err := row.Scan(&found.Run, &found.N, &found.Kind, &found.Group, &found.Connection, &draft, &found.MessageID,
			&found.Tag, &found.Tries)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		found.Draft, found.State, found.Intent = json.RawMessage(draft), Sending, at(now)
		c = found
		return err
	})
	if err != nil {
		return nil, err
	}
	return c, nil
}

// holdConnection holds the row of a connection: anyone who counts what is being done in it does so alone.
func (s *Store) holdConnection(ctx context.Context, tx *sql.Tx, connection string) error {
	_, err := tx.ExecContext(ctx, `UPDATE lanes SET next = next WHERE owner = $1 AND lane = $2`, s.owner,
		plain(connection))
	return err
}

// skipLocked has a claim pass over rows that others are about to claim.
func (s *Store) skipLocked(table string) string {
	if s.shared {
		return " FOR UPDATE OF " + table + " SKIP LOCKED"
	}
	return ""
}

// Settle writes what became of a claim, also after somebody took its holder for dead. What
// is planned again is due at a later time.
func (s *Store) Settle(ctx context.Context, holder string, c *Claim, state string, reply json.RawMessage,
	due time.Time) error {
	said := secret.Hide(string(reply))
	return s.in(ctx, func(tx *sql.Tx) error {
		now := s.now()
		done, err := tx.ExecContext(ctx, `UPDATE cases SET state = $1, reply = $2, settled = $3, due = $4
			WHERE run = $5 AND n = $6 AND holder = $7 AND tries = $8 AND state IN ('sending', 'unsure')`,
			state, said, now, milliseconds(due), c.Run, c.N, holder, c.Tries)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return err // the run was removed meanwhile
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO sends VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT DO NOTHING`,
			c.Run, c.N, c.Tries, holder, milliseconds(c.Intent), now, said)
		return err
	})
}

// An Agent is a process that works on runs.
type Agent struct {
	Name, Host  string
	Owner       string          // the name of the estate whose runs those are
	Offers      json.RawMessage // the connections that it has, without secrets
	Problem     string          // what keeps it from a part of its work, or ""
	Began, Beat time.Time
}

// Silence is how long an agent that says nothing is taken for alive.
const Silence = 6 * time.Second

// Beat says that an agent is alive.
func (s *Store) Beat(ctx context.Context, a Agent) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO agents VALUES ($1, $2, $3, $4, $5, $6, $6)
		ON CONFLICT (owner, agent) DO UPDATE SET beat = excluded.beat, offers = excluded.offers, problem = excluded.problem`,
		s.owner, a.Name, plain(a.Host), string(a.Offers), plain(a.Problem), s.now())
	return err
}

// Leave says that an agent ends. What it holds is free at once.
func (s *Store) Leave(ctx context.Context, name string) error {
	if _, err := s.db.ExecContext(ctx, `DELETE FROM agents WHERE agent = $1 AND owner = $2`, name, s.owner); err != nil {
		return err
	}
	return s.Rescue(ctx)
}

// Agents returns the agents that are alive, by name.
func (s *Store) Agents(ctx context.Context) ([]Agent, error) {
	return rows(ctx, s, func(found *sql.Rows) (a Agent, err error) {
		var offers string
		var began, beat int64
		err = found.Scan(&a.Name, &a.Owner, &a.Host, &offers, &a.Problem, &began, &beat)
		a.Offers, a.Began, a.Beat = json.RawMessage(offers), at(began), at(beat)
		return a, err
	}, `SELECT agent, owner, host, offers, problem, began, beat FROM agents WHERE beat >= $1 AND `+s.mine("owner", 2)+
		` ORDER BY agent`, s.now()-Silence.Milliseconds(), s.owner)
}

// Rescue takes over what dead agents held: what they were about to send may have been sent,
// and is not sent again; their mailboxes are free.
func (s *Store) Rescue(ctx context.Context) error {
	return s.in(ctx, func(tx *sql.Tx) error {
		now := s.now()
		const living = `SELECT agent FROM agents WHERE beat >= $1`
		since := now - Silence.Milliseconds()
		_, err := tx.ExecContext(ctx, `UPDATE cases SET state = 'unsure', settled = $2
			WHERE owner = $3 AND state = 'sending' AND holder NOT IN (`+living+`)`, since, now, s.owner)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE looks SET lease = 0
			WHERE owner = $3 AND lease > $2 AND holder NOT IN (`+living+`)`, since, now, s.owner)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `DELETE FROM agents WHERE beat < $1 AND owner = $2`,
			now-time.Hour.Milliseconds(), s.owner)
		return err
	})
}

// Answer claims the answer to a request to an approver, and reports whether it is the
// caller's: of many who see one, a single one answers, once.
func (s *Store) Answer(ctx context.Context, holder, run string, n int, request string) (mine bool, err error) {
	done, err := s.db.ExecContext(ctx, `INSERT INTO answers (run, n, request, holder, intent)
		SELECT CAST($1 AS TEXT), CAST($2 AS INTEGER), $3, $4, CAST($5 AS BIGINT)
		WHERE NOT EXISTS (SELECT 1 FROM answers WHERE run = $1 AND n = $2 AND taken = 1)
		ON CONFLICT DO NOTHING`, run, n, plain(request), holder, s.now())
	if err != nil {
		return false, err
	}
	count, err := done.RowsAffected()
	return count == 1, err
}

// Answered says that an answer was taken.
func (s *Store) Answered(ctx context.Context, run string, n int, request string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE answers SET taken = 1 WHERE run = $1 AND n = $2 AND request = $3`,
		run, n, plain(request))
	return err
}

// A Share is the work of one connection in a run that is being worked on.
type Share struct {
	Run, Connection string // the name of the run, and of the connection
	Sends           bool   // the things are messages to send; else mailboxes to look into
	All, Left       int    // things, and those that are not sent, or were never opened
	Holders         []string
}

// Shares returns the work in the runs that are being worked on, by their names and connections, and
// which agents are at it now.
func (s *Store) Shares(ctx context.Context) ([]Share, error) {
	const from = ` FROM runs r JOIN `
	open := ` x ON x.run = r.run WHERE r.state IN ('open', 'closing') AND ` + s.mine("r.owner", 1)
	list, err := rows(ctx, s, func(found *sql.Rows) (h Share, err error) {
		var sends int
		err = found.Scan(&h.Run, &h.Connection, &sends, &h.All, &h.Left)
		h.Sends = sends == 1
		return h, err
	}, `SELECT r.name, x.lane, 1, COUNT(*), COUNT(*) FILTER (WHERE x.state IN ('planned', 'sending'))`+from+`cases`+open+
		` GROUP BY r.name, x.lane UNION ALL
		SELECT r.name, x.lane, 0, COUNT(*), COUNT(*) FILTER (WHERE x.looked = 0 AND x.certain = 0)`+from+`looks`+open+
		` GROUP BY r.name, x.lane ORDER BY 1, 3 DESC, 2`, s.owner)
	if err != nil {
		return nil, err
	}
	type held struct {
		run, connection, holder string
		sends                   int
	}
	holders, err := rows(ctx, s, func(found *sql.Rows) (h held, err error) {
		return h, found.Scan(&h.run, &h.connection, &h.sends, &h.holder)
	}, `SELECT DISTINCT r.name, x.lane, 1, x.holder`+from+`cases`+open+` AND x.state = 'sending' UNION ALL
		SELECT DISTINCT r.name, x.lane, 0, x.holder`+from+`looks`+open+` AND x.lease > $2 ORDER BY 4`, s.owner, s.now())
	for i := range list {
		for _, h := range holders {
			if h.run == list[i].Run && h.connection == list[i].Connection && (h.sends == 1) == list[i].Sends {
				list[i].Holders = append(list[i].Holders, h.holder)
			}
		}
	}
	return list, err
}
