package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"fmt"
	"strings"
	"time"
)

// An Estate is one of those whose runs, answers, plans and agents a store keeps. None sees or does
// anything of another's.
type Estate struct {
	Name     string    // a random one: anyone who has it is taken for this estate
	Began    time.Time // when it first used the store
	Role     string    // the login of the database that sees this estate alone; "": see KeepApart
	Places   []Place
	Runs     int // of probes
	Answers  int // of checks, expectations and comparisons
	Agents   int // that are alive
	LastUsed time.Time
}

// A Place is where an estate is used: a folder of a machine.
type Place struct{ Host, Path string }

// NewName returns a random name of 26 letters and digits, of an estate or a run, that nobody can guess.
func NewName() string { return strings.ToLower(rand.Text()) }

// IsName reports whether a text has the form of what NewName returns.
func IsName(text string) bool {
	return len(text) == len(rand.Text()) && strings.Trim(text, "abcdefghijklmnopqrstuvwxyz234567") == ""
}

// mine is the condition of rows that the store shows, with its estate as argument n.
func (s *Store) mine(column string, n int) string {
	if s.all {
		return fmt.Sprintf("$%d = ''", n)
	}
	return fmt.Sprintf("%s = $%d", column, n)
}

// All returns the store as its administrator sees it: Runs, RunsSince, Answers and Agents list those of
// all estates. Nothing else is to be done with it.
func (s *Store) All() *Store {
	all := *s
	all.owner, all.all = "", true
	return &all
}

// Of returns the store as the estate of a name sees it.
func (s *Store) Of(estate string) *Store {
	one := *s
	one.owner, one.all = estate, false
	return &one
}

// Estate returns the name of the estate that sees the store; "" is none.
func (s *Store) Estate() string { return s.owner }

// An ElsewhereError says that an estate is used at other places, and not at one.
type ElsewhereError struct {
	Estate string
	Here   Place
	Places []Place
}

func (e *ElsewhereError) Error() string {
	return fmt.Sprintf("the estate %s is used in %s on %s, and not here", e.Estate, e.Places[0].Path, e.Places[0].Host)
}

// Enter has an estate use the store at a place. Its first use begins it, and takes over what the
// store kept of the paths before estates were kept apart. At another place than before the error is
// an *ElsewhereError, unless it is to join.
func (s *Store) Enter(ctx context.Context, estate string, here Place, join bool, paths ...string) (*Store, error) {
	places, err := s.places(ctx, estate)
	if err != nil {
		return nil, err
	}
	for _, p := range places {
		if p == here {
			return s.Of(estate), nil
		}
	}
	if len(places) > 0 && !join {
		return nil, &ElsewhereError{Estate: estate, Here: here, Places: places}
	}
	err = s.in(ctx, func(tx *sql.Tx) error {
		if err := begin(ctx, tx, estate, s.now(), paths); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO places VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`, estate,
			plain(here.Host), plain(here.Path), s.now())
		return err
	})
	return s.Of(estate), err
}

// begin begins an estate, unless it has begun.
func begin(ctx context.Context, tx *sql.Tx, estate string, now int64, paths []string) error {
	var known bool
	err := tx.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM owners WHERE owner = $1)`, estate).Scan(&known)
	if err != nil || known {
		return err
	}
	done, err := tx.ExecContext(ctx, `INSERT INTO owners (owner, began) VALUES ($1, $2) ON CONFLICT DO NOTHING`, estate, now)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return err
	}
	return takeOver(ctx, tx, estate, paths)
}

func (s *Store) places(ctx context.Context, estate string) ([]Place, error) {
	return rows(ctx, s, func(r *sql.Rows) (p Place, err error) { return p, r.Scan(&p.Host, &p.Path) },
		`SELECT host, path FROM places WHERE owner = $1 ORDER BY began, host, path`, estate)
}

// takeOver gives an estate what has no owner and was found of one of some paths.
func takeOver(ctx context.Context, tx *sql.Tx, estate string, paths []string) error {
	const ofPath, ofRun = `WHERE owner = '' AND path = $2`, `WHERE owner = '' AND run IN (SELECT run FROM runs WHERE owner = $1)`
	const ofSeries = `WHERE owner = '' AND series IN (SELECT series FROM series WHERE owner = $1)`
	for _, path := range paths {
		for _, table := range []string{"runs", "series"} {
			if _, err := tx.ExecContext(ctx, `UPDATE `+table+` SET owner = $1 `+ofPath, estate, path); err != nil {
				return err
			}
		}
	}
	for _, statement := range []string{
		`UPDATE cases SET owner = $1 ` + ofRun,
		`UPDATE looks SET owner = $1 ` + ofRun,
		`UPDATE checks SET owner = $1 ` + ofRun,
		`UPDATE estates SET owner = $1 WHERE owner = '' AND digest IN (SELECT estate FROM runs WHERE owner = $1)`,
		`UPDATE records SET owner = $1 ` + ofSeries,
		`UPDATE findings SET owner = $1 ` + ofSeries,
		`UPDATE alarms SET owner = $1 WHERE owner = '' AND record IN (SELECT record FROM records WHERE owner = $1)`,
		`UPDATE deliveries SET owner = $1 WHERE owner = '' AND alarm IN (SELECT alarm FROM alarms WHERE owner = $1)`,
		`INSERT INTO lanes SELECT DISTINCT CAST($1 AS TEXT), lane, 0 FROM (SELECT lane FROM cases WHERE owner = $1 UNION
			SELECT lane FROM looks WHERE owner = $1) AS x WHERE TRUE ON CONFLICT DO NOTHING`,
	} {
		if _, err := tx.ExecContext(ctx, statement, estate); err != nil {
			return err
		}
	}
	return nil
}

// Names returns the names of the estates of the store, the first to use it first.
func (s *Store) Names(ctx context.Context) ([]string, error) {
	return rows(ctx, s, func(r *sql.Rows) (name string, err error) { return name, r.Scan(&name) },
		`SELECT owner FROM owners ORDER BY began, owner`)
}

// Estates returns what the store has of its estate, or of all, the first to use it first.
func (s *Store) Estates(ctx context.Context) ([]Estate, error) {
	list, err := rows(ctx, s, func(r *sql.Rows) (e Estate, err error) {
		var began, used int64
		err = r.Scan(&e.Name, &began, &e.Role, &e.Runs, &e.Answers, &e.Agents, &used)
		e.Began, e.LastUsed = at(began), at(used)
		return e, err
	}, `SELECT owner, began, role, (SELECT COUNT(*) FROM runs r WHERE r.owner = o.owner),
		(SELECT COUNT(*) FROM records r WHERE r.owner = o.owner),
		(SELECT COUNT(*) FROM agents a WHERE a.owner = o.owner AND a.beat >= $1),
		(SELECT COALESCE(MAX(t), 0) FROM (SELECT MAX(began) AS t FROM runs r WHERE r.owner = o.owner
			UNION ALL SELECT MAX(began) AS t FROM records r WHERE r.owner = o.owner) AS x)
		FROM owners o WHERE `+s.mine("owner", 2)+` ORDER BY began, owner`, s.now()-Silence.Milliseconds(), s.owner)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].Places, err = s.places(ctx, list[i].Name); err != nil {
			return nil, err
		}
	}
	return list, nil
}
