package store

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/endpoint"
	"yorvet.example/yorvet/internal/secret"
)

// mostConnections is how many connections to a database one process has.
const mostConnections = 5

func (s *Store) openDatabase(ctx context.Context) error {
	config, err := databaseConfig(s.where)
	if err != nil {
		return err
	}
	ctx, stop := context.WithTimeout(ctx, openWait)
	defer stop()
	for name, value := range map[string]string{
		"idle_in_transaction_session_timeout": "5000", "lock_timeout": "8000", "application_name": "yorvet",
	} {
		if _, said := config.ConnConfig.RuntimeParams[name]; !said {
			config.ConnConfig.RuntimeParams[name] = value
		}
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return err
	}
	s.db = stdlib.OpenDBFromPool(pool)
	s.close = func() {
		_ = s.db.Close()
		pool.Close()
	}
	asked := clock.Now()
	milliseconds, err := s.databaseTime(ctx)
	if err != nil {
		go s.close() // what is under way with it may not end
		return Reason(err)
	}
	s.ahead = time.UnixMilli(int64(milliseconds)).Add(clock.Shift()).Sub(asked.Add(clock.Since(asked) / 2))
	return nil
}

// databaseTime returns what time a database has, in milliseconds. A login that asks for endless hashing
// does not end when ctx does, and is left to itself.
func (s *Store) databaseTime(ctx context.Context) (float64, error) {
	type answer struct {
		milliseconds float64
		err          error
	}
	answered := make(chan answer, 1)
	go func() {
		var a answer
		a.err = s.db.QueryRowContext(ctx, `SELECT CAST(extract(epoch from clock_timestamp())*1000 AS DOUBLE PRECISION)`).
			Scan(&a.milliseconds)
		answered <- a
	}()
	select {
	case a := <-answered:
		return a.milliseconds, a.err
	case <-ctx.Done():
		return 0, fmt.Errorf("no answer within %s", openWait)
	}
}

// How long a database may take to answer at first: one connection, and all of it.
const (
	connectWait = 10 * time.Second
	openWait    = 15 * time.Second
)

// databaseConfig reads the URL of a database. A password goes to this machine itself, or through TLS
// that is verified: where the URL says nothing of TLS, it is.
func databaseConfig(where string) (*pgxpool.Config, error) {
	parse := func(where string) (*pgxpool.Config, error) {
		config, err := pgxpool.ParseConfig(where)
		if err != nil {
			return nil, errors.New("this is no URL of a PostgreSQL database") // the error might show a password
		}
		return config, nil
	}
	config, err := parse(where)
	if err != nil {
		return nil, err
	}
	u, err := url.Parse(where)
	if err != nil {
		return nil, errors.New("this is no URL of a PostgreSQL database")
	}
	query := u.Query()
	if mode := os.Getenv("PGSSLMODE"); !isNear(config) && !query.Has("sslmode") && mode == "" {
		query.Set("sslmode", "verify-full")
		u.RawQuery = query.Encode()
		if config, err = parse(u.String()); err != nil {
			return nil, err
		}
	}
	if !isNear(config) && !isVerified(config) {
		return nil, errors.New("a login over a network needs TLS that is verified: sslmode=verify-full in its URL, with sslrootcert=FILE " +
			"for an authority of your own")
	}
	secret.New(config.ConnConfig.Password) // no error says it
	config.MaxConns = mostConnections
	if config.ConnConfig.ConnectTimeout <= 0 || config.ConnConfig.ConnectTimeout > connectWait {
		config.ConnConfig.ConnectTimeout = connectWait
	}
	return config, nil
}

// isNear reports whether a database is on this machine, at whatever of its hosts.
func isNear(c *pgxpool.Config) bool {
	near := func(host string) bool { return strings.HasPrefix(host, "/") || endpoint.IsLoopback(host) }
	isFar := func(f *pgconn.FallbackConfig) bool { return !near(f.Host) }
	return near(c.ConnConfig.Host) && !slices.ContainsFunc(c.ConnConfig.Fallbacks, isFar)
}

// isVerified reports whether nothing is said to any host of a database but through TLS by which it has
// shown who it is.
func isVerified(c *pgxpool.Config) bool {
	verified := func(t *tls.Config) bool { return t != nil && (!t.InsecureSkipVerify || t.VerifyPeerCertificate != nil) }
	return verified(c.ConnConfig.TLSConfig) &&
		!slices.ContainsFunc(c.ConnConfig.Fallbacks, func(f *pgconn.FallbackConfig) bool { return !verified(f.TLSConfig) })
}

// Reason says in one plain sentence what a database has come to. Any other error stays as it is.
func Reason(err error) error {
	if err == nil {
		return nil
	}
	var said *pgconn.PgError
	var lookup *net.DNSError
	switch {
	case errors.As(err, &said):
		return fmt.Errorf("the database says: %s (%s)", said.Message, said.Code)
	case errors.Is(err, syscall.ECONNREFUSED):
		return errors.New("nobody listens there")
	case errors.As(err, &lookup):
		return fmt.Errorf("the host %s is not found", lookup.Name)
	}
	if text := strings.Join(strings.Fields(err.Error()), " "); text != err.Error() {
		return errors.New(text)
	}
	return err
}
