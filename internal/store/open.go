// Package store keeps runs of probes in SQL: what was planned and predicted, what was
// sent, and what was seen. It is a SQLite file, or a PostgreSQL database that several
// machines share; everything that waits to be done stands in rows of it, and anyone who does
// something claims its row first.
package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/localfile"
)

// A Store is an open store, as one estate sees it. Its methods may be called by several goroutines.
type Store struct {
	db     *sql.DB
	owner  string        // the name of the estate; see Of
	all    bool          // lists have the rows of all estates
	shared bool          // PostgreSQL
	ahead  time.Duration // how far the clock of the database is ahead of this machine's
	where  string
	close  func()
}

// The errors of this package that callers tell apart.
var (
	ErrNewer  = errors.New("the store is of a newer Yorvet")
	ErrExists = errors.New("there is a run of this name already")
	ErrNoRun  = errors.New("there is no such run")
)

// IsURL reports whether a text names a PostgreSQL database rather than a file.
func IsURL(where string) bool {
	return strings.HasPrefix(where, "postgres://") || strings.HasPrefix(where, "postgresql://")
}

// HasPassword reports whether the URL of a database has a password in it.
func HasPassword(where string) bool {
	u, err := url.Parse(where)
	if err != nil {
		return strings.Contains(where, "password=")
	}
	_, in := u.User.Password()
	return in || u.Query().Has("password") || u.Query().Has("sslpassword")
}

// Open opens the store in a file, or at the URL of a PostgreSQL database, and brings its
// tables up to date. A file is made, with its folder, if there is none.
func Open(ctx context.Context, where string) (*Store, error) {
	s := &Store{where: where, shared: IsURL(where)}
	open := s.openFile
	if s.shared {
		open = s.openDatabase
	}
	if err := open(ctx); err != nil {
		return nil, fmt.Errorf("the store %s: %w", s.Where(), err)
	}
	err := s.migrate(ctx)
	// While one process first puts a new file into its mode, others are not made to wait.
	for began := clock.Now(); isBusy(err) && clock.Since(began) < busyWait && ctx.Err() == nil; err = s.migrate(ctx) {
		time.Sleep(20 * time.Millisecond)
	}
	if isBusy(err) {
		err = fmt.Errorf("another process has been writing to it for %s and does not end; is one stopped?", busyWait)
	}
	if err != nil {
		s.Close()
		return nil, fmt.Errorf("the store %s: %w", s.Where(), err)
	}
	return s, nil
}

// Where returns where the store is, without a password.
func (s *Store) Where() string {
	if u, err := url.Parse(s.where); s.shared && err == nil {
		u.RawQuery = ""
		return u.Redacted()
	}
	if s.shared {
		return "at its URL"
	}
	return s.where
}

// Shared reports whether several machines can share the store.
func (s *Store) Shared() bool { return s.shared }

// Close closes the store.
func (s *Store) Close() { s.close() }

// busyWait is how long a process waits for another one that writes.
const busyWait = 10 * time.Second

func (s *Store) openFile(context.Context) error {
	if err := os.MkdirAll(filepath.Dir(s.where), 0o700); err != nil {
		return err
	}
	// The file is made first, as the driver would let others read it.
	f, err := os.OpenFile(s.where, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	// What is empty becomes a store now, and holds what only its owner may read.
	if err := localfile.Ours(s.where, info, info.Size() == 0); err != nil {
		return err
	}
	path := (&url.URL{Path: filepath.ToSlash(s.where)}).EscapedPath()
	db, err := sql.Open("sqlite", "file:"+path+"?_txlock=immediate"+
		fmt.Sprintf("&_pragma=busy_timeout(%d)", busyWait.Milliseconds())+
		"&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)")
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	s.db, s.close = db, func() { _ = db.Close() }
	return nil
}

func isBusy(err error) bool {
	busy, ok := errors.AsType[*sqlite.Error](err)
	return ok && busy.Code()&0xff == sqlite3.SQLITE_BUSY
}

// Now returns the time that all machines of the store agree on.
func (s *Store) Now() time.Time { return clock.Now().Add(s.ahead) }

// now is Now in milliseconds.
func (s *Store) now() int64 { return s.Now().UnixMilli() }

// at returns a time of the store; 0 is none.
func at(milliseconds int64) time.Time {
	if milliseconds == 0 {
		return time.Time{}
	}
	return time.UnixMilli(milliseconds)
}

func milliseconds(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

// in writes one transaction.
func (s *Store) in(ctx context.Context, do func(tx *sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// migrationLock is the advisory lock of those who bring tables up to date.
const migrationLock = 796573

// migrate brings the tables up to date. Several processes may do so at once. A login that may make no
// tables finds them up to date, or anyone who runs the store has to open it first.
func (s *Store) migrate(ctx context.Context) error {
	var have int
	err := s.db.QueryRowContext(ctx, `SELECT COALESCE(MAX(n), 0) FROM yorvet_version`).Scan(&have)
	if err == nil && have == len(migrations) {
		return nil
	}
	return s.in(ctx, func(tx *sql.Tx) error {
		if s.shared {
			if _, err := tx.ExecContext(ctx, fmt.Sprintf(`SELECT pg_advisory_xact_lock(%d)`, migrationLock)); err != nil {
				return err
			}
		}
		const versions = `CREATE TABLE IF NOT EXISTS yorvet_version (n INTEGER PRIMARY KEY, at BIGINT NOT NULL)`
		if _, err := tx.ExecContext(ctx, versions); err != nil {
			return err
		}
		var have int
		if err := tx.QueryRowContext(ctx, `SELECT COALESCE(MAX(n), 0) FROM yorvet_version`).Scan(&have); err != nil {
			return err
		}
		if have > len(migrations) {
			return fmt.Errorf("%w (version %d of its tables, this one knows %d)", ErrNewer, have, len(migrations))
		}
		for n := have; n < len(migrations); n++ {
			for _, statement := range migrations[n] {
				if _, err := tx.ExecContext(ctx, statement); err != nil {
					return fmt.Errorf("version %d of the tables: %w", n+1, err)
				}
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO yorvet_version VALUES ($1, $2)`, n+1, s.now()); err != nil {
				return err
			}
		}
		return nil
	})
}
