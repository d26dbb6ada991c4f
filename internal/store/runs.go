package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"yorvet.example/yorvet/internal/secret"
)

// The states of a run.
const (
	StateOpen    = "open"    // messages are sent, and mailboxes looked into
	StateClosing = "closing" // nothing more is waited for: each mailbox is looked through once more
	StateEnded   = "ended"
	StateStopped = "stopped" // it was interrupted
)

// A Run is a row for each run. Its times are those of the store's clock.
type Run struct {
	ID                    string // by which its rows know it; no other run has it
	Name                  string // no other run of its estate has it
	Kind, State           string
	Owner                 string // the name of the estate that it belongs to
	Estate                string // the digest of what was evaluated
	Path                  string // where that was
	Day                   string // of evaluation
	Version               string // of the program that planned it
	Terms                 Terms
	Notes                 []string // what could not be planned, and why
	Approve               bool     // requests to approvers are answered
	Began, Closing, Ended time.Time
	Until                 time.Time // when nothing more is waited for, at the latest
	Steered               time.Time // when somebody last looked how far it is
	Resumed               time.Time // when somebody did again, after nobody had for a while
	Good, Bad             int       // checks as predicted and otherwise, once it was judged
	Unlooked              int       // checks of which nothing can be said
}

// Terms are how a run is watched, and what is inside.
type Terms struct {
	Patience  time.Duration `json:"patience"`
	LookEvery time.Duration `json:"lookEvery"`
	Settle    time.Duration `json:"settle"`
	Quiet     time.Duration `json:"quiet"`
	Domains   []string      `json:"domains"` // of the estate: a request from there is believed
}

// A Case is one message of a run.
type Case struct {
	N               int
	Kind, Group     string
	Connection      string          // the connection that sends it
	Draft           json.RawMessage // what anyone who sends it has to know
	Predicted       json.RawMessage
	MessageID, Tag  string
	State           string
	Tries           int
	Intent, Settled time.Time
	Reply           json.RawMessage // of the last try; nil if there is none
}

// The states of a case.
const (
	Planned = "planned"
	Sending = "sending" // claimed: from now on it may have been sent
	Sent    = "sent"
	Refused = "refused"
	Unsure  = "unsure"   // it may have been sent, and is not sent again
	GivenUp = "given-up" // it was not sent
)

// A Look is a mailbox of a run.
type Look struct {
	Account    string
	Connection string          // the connection that opens it
	Marks      json.RawMessage // where the last look ended; nil before the first
	First      json.RawMessage // where the mailbox ended when the run was planned; nil where nobody looked
	Looked     time.Time       // when the last look began that was complete
	Through    time.Time       // when the last one began that went through all folders
	Tried      time.Time       // when somebody tried last
	Problem    string          // why the last try failed, or ""
	Certain    bool            // another try gives the same result
}

// An Observation is something about a case that was seen in a mailbox.
type Observation struct {
	N               int
	Account, Folder string
	Validity, UID   uint32
	What            string
	Seen            time.Time
	Look            time.Time // when the last look began that saw it
	Detail          json.RawMessage
}

// A Check is what is predicted of one message and one mailbox, and whether it was so.
type Check struct {
	N              int
	Who            string // an address; "" for the message itself
	Predicted, Why string
	Seen           string
	OK             bool
	Seconds        float64
}

// Expected is something that is waited for: what is to be observed of a case in a mailbox.
type Expected struct {
	N       int
	Account string
	Sign    string
}

// The signs that are waited for.
const (
	ExpectCopy     = "copy"
	ExpectDigest   = "digest" // a copy will do
	ExpectApproval = "approval"
	ExpectReleased = "released" // a copy or a digest, once a request was answered
	ExpectCode     = "code"     // whether or not the message was accepted
)

// A PlannedRun is a run before it begins, with all that it is going to do.
type PlannedRun struct {
	Run
	Each     time.Duration // how long each of its messages takes at its pace: with others, a run takes longer
	Body     string        // what the digest of the estate stands for
	Cases    []Case
	Looks    []Look
	Expected []Expected
	Checks   []Check
}

// Record is a run with all that belongs to it.
type Record struct {
	Run
	Cases        []Case
	Looks        []Look
	Observations []Observation
	Answered     map[int]bool // by case: a request to an approver was answered, and the answer taken
}

// plain returns a text as both databases hold it, without secrets.
func plain(text string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(secret.Hide(text), "?"), "\x00", "")
}

// Plan writes a new run: from then on it may be worked on. It gets an ID, if it has none.
func (s *Store) Plan(ctx context.Context, p *PlannedRun) error {
	if p.ID == "" {
		p.ID = NewName()
	}
	limits, err := json.Marshal(p.Terms)
	if err != nil {
		return err
	}
	notes, err := json.Marshal(p.Notes)
	if err != nil {
		return err
	}
	return s.in(ctx, func(tx *sql.Tx) error {
		key := bodyKey(s.owner, p.Estate)
		_, err := tx.ExecContext(ctx, `INSERT INTO estates (digest, body, owner) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`,
			key, p.Body, s.owner)
		if err != nil {
			return err
		}
		done, err := tx.ExecContext(ctx, `INSERT INTO runs
			(run, name, owner, kind, state, estate, path, day, version, terms, notes, approve, began, until, steered)
			VALUES ($1, $2, $3, $4, 'open', $5, $6, $7, $8, $9, $10, $11, $12, $13, $14) ON CONFLICT DO NOTHING`,
			p.ID, p.Name, s.owner, p.Kind, key, plain(p.Path), p.Day, p.Version, string(limits), plain(string(notes)),
			number(p.Approve), milliseconds(p.Began), milliseconds(p.Until), s.now())
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, ErrExists)
		}
		if err := s.makeRoom(ctx, tx, p); err != nil {
			return err
		}
		return s.planRows(ctx, tx, p)
	})
}

// makeRoom has a new run wait for what others have still to send, and those for it: they take turns.
func (s *Store) makeRoom(ctx context.Context, tx *sql.Tx, p *PlannedRun) error {
	var waiting int64
	err := tx.QueryRowContext(ctx, `SELECT COUNT(*) FROM cases c JOIN runs r ON r.run = c.run
		WHERE c.owner = $1 AND c.state = 'planned' AND r.state = 'open'`, s.owner).Scan(&waiting)
	if err != nil {
		return err
	}
	each := p.Each.Milliseconds()
	_, err = tx.ExecContext(ctx, `UPDATE runs SET until = until + CASE WHEN run = $1 THEN CAST($2 AS BIGINT)
		ELSE CAST($3 AS BIGINT) END WHERE owner = $4 AND state = 'open'`, p.ID, waiting*each, int64(len(p.Cases))*each, s.owner)
	return err
}

func (s *Store) planRows(ctx context.Context, tx *sql.Tx, p *PlannedRun) error {
	connections := map[string]bool{}
	err := insertAll(ctx, tx, `INSERT INTO cases (run, n, kind, grp, lane, draft, predicted, message_id, tag, owner)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`, p.Cases, func(c Case) []any {
		connections[c.Connection] = true
		return []any{p.ID, c.N, c.Kind, c.Group, plain(c.Connection), string(c.Draft), string(c.Predicted), c.MessageID, c.Tag,
			s.owner}
	})
	if err != nil {
		return err
	}
	err = insertAll(ctx, tx, `INSERT INTO looks (run, account, lane, marks, first, problem, certain, owner)
		VALUES ($1, $2, $3, $4, $4, $5, $6, $7)`, p.Looks, func(l Look) []any {
		connections[l.Connection] = true
		return []any{p.ID, plain(l.Account), plain(l.Connection), string(l.Marks), plain(l.Problem), number(l.Certain), s.owner}
	})
	if err != nil {
		return err
	}
	err = insertAll(ctx, tx, `INSERT INTO lanes VALUES ($1, $2, 0) ON CONFLICT DO NOTHING`,
		slices.Sorted(maps.Keys(connections)), func(connection string) []any { return []any{s.owner, plain(connection)} })
	if err != nil {
		return err
	}
	err = insertAll(ctx, tx, `INSERT INTO signs VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`, p.Expected,
		func(g Expected) []any { return []any{p.ID, g.N, plain(g.Account), g.Sign} })
	if err != nil {
		return err
	}
	of := map[int]*Case{}
	for i := range p.Cases {
		of[p.Cases[i].N] = &p.Cases[i]
	}
	return insertAll(ctx, tx, `INSERT INTO checks (run, n, who, predicted, why, owner, kind, grp, began)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`, p.Checks, func(c Check) []any {
		return []any{p.ID, c.N, plain(c.Who), c.Predicted, plain(c.Why), s.owner, of[c.N].Kind, of[c.N].Group,
			milliseconds(p.Began)}
	})
}

// insertAll inserts a row for each of a list.
func insertAll[T any](ctx context.Context, tx *sql.Tx, statement string, list []T, row func(T) []any) error {
	insert, err := tx.PrepareContext(ctx, statement)
	if err != nil {
		return err
	}
	defer insert.Close()
	for _, one := range list {
		if _, err := insert.ExecContext(ctx, row(one)...); err != nil {
			return err
		}
	}
	return nil
}

func number(b bool) int {
	if b {
		return 1
	}
	return 0
}

const runColumns = `run, name, owner, kind, state, estate, path, day, version, terms, notes, approve, began, closing, ended,
	until, steered, resumed, good, bad, unlooked`

// scanRun reads a row of runColumns.
func scanRun(row interface{ Scan(...any) error }) (r Run, err error) {
	var terms, notes string
	var approve int
	var began, closing, ended, until, steered, resumed int64
	err = row.Scan(&r.ID, &r.Name, &r.Owner, &r.Kind, &r.State, &r.Estate, &r.Path, &r.Day, &r.Version, &terms, &notes,
		&approve, &began, &closing, &ended, &until, &steered, &resumed, &r.Good, &r.Bad, &r.Unlooked)
	if err != nil {
		return r, err
	}
	r.Approve, r.Began, r.Closing, r.Ended = approve != 0, at(began), at(closing), at(ended)
	r.Until, r.Steered, r.Resumed = at(until), at(steered), at(resumed)
	r.Estate = r.Estate[strings.Index(r.Estate, bodyKey("", ""))+1:]
	return r, errors.Join(json.Unmarshal([]byte(terms), &r.Terms), json.Unmarshal([]byte(notes), &r.Notes))
}

// rows reads all rows of a query.
func rows[T any](ctx context.Context, s *Store, scan func(*sql.Rows) (T, error), query string, args ...any) ([]T,
	error) {
	found, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	var list []T
	for found.Next() {
		one, err := scan(found)
		if err != nil {
			return nil, err
		}
		list = append(list, one)
	}
	return list, found.Err()
}

// CountRuns returns how many runs there are.
func (s *Store) CountRuns(ctx context.Context) (n int, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM runs WHERE `+s.mine("owner", 1), s.owner).Scan(&n)
	return n, err
}

// Runs returns all runs, the newest first.
func (s *Store) Runs(ctx context.Context) ([]Run, error) {
	return s.RunsSince(ctx, time.Time{}, math.MaxInt32)
}

// RunsSince returns the runs that began since a time, the newest first, most of them at most.
func (s *Store) RunsSince(ctx context.Context, since time.Time, most int) ([]Run, error) {
	return rows(ctx, s, func(r *sql.Rows) (Run, error) { return scanRun(r) },
		`SELECT `+runColumns+` FROM runs WHERE began >= $1 AND `+s.mine("owner", 3)+` ORDER BY began DESC, name LIMIT $2`,
		milliseconds(since), most, s.owner)
}

// RunNamed returns the run of a name.
func (s *Store) RunNamed(ctx context.Context, name string) (Run, error) {
	return s.oneRun(ctx, "name", name)
}

// RunOf returns the run of an ID.
func (s *Store) RunOf(ctx context.Context, id string) (Run, error) { return s.oneRun(ctx, "run", id) }

func (s *Store) oneRun(ctx context.Context, column, value string) (Run, error) {
	r, err := scanRun(s.db.QueryRowContext(ctx, `SELECT `+runColumns+` FROM runs WHERE `+column+` = $1 AND `+
		s.mine("owner", 2), value, s.owner))
	if errors.Is(err, sql.ErrNoRows) {
		return r, ErrNoRun
	}
	return r, err
}

// Record returns the run of a name with all that belongs to it.
func (s *Store) Record(ctx context.Context, name string) (*Record, error) {
	r := &Record{Answered: map[int]bool{}}
	var err error
	if r.Run, err = s.RunNamed(ctx, name); err != nil {
		return nil, err
	}
	if r.Cases, err = s.Cases(ctx, r.ID); err != nil {
		return nil, err
	}
	if r.Looks, err = s.Looks(ctx, r.ID); err != nil {
		return nil, err
	}
	r.Observations, err = rows(ctx, s, scanObservation, `SELECT n, account, folder, validity, uid, what, seen, detail, look
		FROM observations WHERE run = $1 ORDER BY seen, n, account, folder, uid, what`, r.ID)
	if err != nil {
		return nil, err
	}
	answered, err := rows(ctx, s, func(found *sql.Rows) (n int, err error) { return n, found.Scan(&n) },
		`SELECT n FROM answers WHERE run = $1 AND taken = 1`, r.ID)
	for _, n := range answered {
		r.Answered[n] = true
	}
	return r, err
}

func scanObservation(found *sql.Rows) (o Observation, err error) {
	var validity, uid, seen, look int64
	var detail string
	err = found.Scan(&o.N, &o.Account, &o.Folder, &validity, &uid, &o.What, &seen, &detail, &look)
	o.Look = at(look)
	o.Validity, o.UID, o.Seen, o.Detail = uint32(validity), uint32(uid), at(seen), json.RawMessage(detail)
	return o, err
}

// Cases returns the messages of the run of an ID, in order.
func (s *Store) Cases(ctx context.Context, run string) ([]Case, error) {
	return rows(ctx, s, func(found *sql.Rows) (c Case, err error) {
		var draft, predicted, reply string
		var intent, settled int64
		err = found.Scan(&c.N, &c.Kind, &c.Group, &c.Connection, &draft, &predicted, &c.MessageID, &c.Tag, &c.State, &c.Tries,
			&intent, &settled, &reply)
		c.Draft, c.Predicted, c.Intent, c.Settled = json.RawMessage(draft), json.RawMessage(predicted), at(intent),
			at(settled)
		if reply != "" {
			c.Reply = json.RawMessage(reply)
		}
		return c, err
	}, `SELECT n, kind, grp, lane, draft, predicted, message_id, tag, state, tries, intent, settled, reply
		FROM cases WHERE run = $1 ORDER BY n`, run)
}

// Looks returns the mailboxes of the run of an ID, by account.
func (s *Store) Looks(ctx context.Context, run string) ([]Look, error) {
	return rows(ctx, s, func(found *sql.Rows) (l Look, err error) {
		var marks string
		var looked, through, tried int64
		var certain int
		err = found.Scan(&l.Account, &l.Connection, &marks, &looked, &through, &tried, &l.Problem, &certain)
		l.Certain = certain != 0
		l.Looked, l.Through, l.Tried = at(looked), at(through), at(tried)
		if marks != "" {
			l.Marks = json.RawMessage(marks)
		}
		return l, err
	}, `SELECT account, lane, marks, looked, through, tried, problem, certain
		FROM looks WHERE run = $1 ORDER BY account`, run)
}

// bodyKey is the key of what an estate had evaluated: what has the same digest is another's. Before estates
// were kept apart it was the digest alone.
func bodyKey(owner, digest string) string { return owner + " " + digest }

// EstateOf returns what Run.Estate stands for.
func (s *Store) EstateOf(ctx context.Context, digest string) (body string, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT body FROM estates WHERE digest IN ($1, $2) AND owner = $3`, digest,
		bodyKey(s.owner, digest), s.owner).Scan(&body)
	return body, err
}

// Judge writes what became of the checks of the run of an ID, and how many were as predicted in
// all, otherwise, and of how many nothing can be said.
func (s *Store) Judge(ctx context.Context, run string, checks []Check, good, bad, unlooked int) error {
	return s.in(ctx, func(tx *sql.Tx) error {
		write, err := tx.PrepareContext(ctx, `INSERT INTO checks
			(run, n, who, predicted, why, seen, ok, seconds, owner, kind, grp, began)
			SELECT c.run, c.n, CAST($3 AS TEXT), CAST($4 AS TEXT), '', CAST($5 AS TEXT), CAST($6 AS INTEGER),
				CAST($7 AS DOUBLE PRECISION), c.owner, c.kind, c.grp, r.began
			FROM cases c JOIN runs r ON r.run = c.run WHERE c.run = $1 AND c.n = $2 ON CONFLICT (run, n, who)
			DO UPDATE SET seen = excluded.seen, ok = excluded.ok, seconds = excluded.seconds`)
		if err != nil {
			return err
		}
		defer write.Close()
		for _, c := range checks {
			_, err := write.ExecContext(ctx, run, c.N, plain(c.Who), c.Predicted, plain(c.Seen), number(c.OK), c.Seconds)
			if err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(ctx, `UPDATE runs SET good = $1, bad = $2, unlooked = $3 WHERE run = $4`, good, bad,
			unlooked, run)
		return err
	})
}

// Remove removes runs, with all that belongs to them.
func (s *Store) Remove(ctx context.Context, names ...string) error {
	return s.in(ctx, func(tx *sql.Tx) error {
		for _, name := range names {
			done, err := tx.ExecContext(ctx, `DELETE FROM runs WHERE name = $1 AND owner = $2`, name, s.owner)
			if err != nil {
				return err
			}
			if n, err := done.RowsAffected(); err != nil || n == 0 {
				return errors.Join(err, fmt.Errorf("%w: %s", ErrNoRun, name))
			}
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM estates WHERE owner = $1 AND digest NOT IN
			(SELECT estate FROM runs WHERE owner = $1)`, s.owner)
		return err
	})
}
