package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
)

// role is the name of a login that needs no quotes in SQL.
var role = regexp.MustCompile(`^[a-z_][a-z0-9_]{0,62}$`)

// ofOwner are the tables whose rows name their estate; ofRun those whose rows name a run that does.
var (
	ofOwner = []string{"runs", "cases", "looks", "checks", "series", "records", "findings", "alarms", "deliveries", "estates",
		"lanes", "items", "agents", "places"}
	ofRun = []string{"sends", "observations", "signs", "answers"}
)

// Apart returns the SQL by which a login of PostgreSQL sees this estate alone, whatever it asks for
// (row-level security). Anyone who owns the tables runs it, once for each estate, and still sees all.
func (s *Store) Apart(ctx context.Context, login string) ([]string, error) {
	if !s.shared {
		return nil, errors.New("a SQLite file has no logins: those who can read it read all of it")
	}
	if !role.MatchString(login) {
		return nil, fmt.Errorf("%q is no login, expected small letters, digits and underscores", login)
	}
	var list []string
	say := func(format string, args ...any) { list = append(list, fmt.Sprintf(format, args...)) }
	var there bool
	err := s.db.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = $1)`, login).Scan(&there)
	if err != nil {
		return nil, err
	}
	if why, err := s.seesMore(ctx, login); err != nil || why != "" {
		return nil, errors.Join(err, whether(why != "", fmt.Errorf("the login %s %s; name another", login, why)))
	}
	if !there {
		say(`CREATE ROLE %s LOGIN`, login)
	}
	say(`GRANT USAGE ON SCHEMA public TO %s`, login)
	say(`GRANT SELECT ON yorvet_version, owners TO %s`, login)
	say(`GRANT UPDATE (keep_days, keep_runs) ON owners TO %s`, login)
	protect := func(table, mine string) {
		say(`ALTER TABLE %s ENABLE ROW LEVEL SECURITY`, table)
		say(`DROP POLICY IF EXISTS own_estate ON %s`, table)
		say(`CREATE POLICY own_estate ON %s USING (%s)`, table, mine)
	}
	protect("owners", `role = current_user`)
	for _, table := range ofOwner {
		protect(table, `owner IN (SELECT owner FROM owners WHERE role = current_user)`)
		say(`GRANT SELECT, INSERT, UPDATE, DELETE ON %s TO %s`, table, login)
	}
	for _, table := range ofRun {
		protect(table, fmt.Sprintf(`EXISTS (SELECT 1 FROM runs WHERE runs.run = %s.run)`, table))
		say(`GRANT SELECT, INSERT, UPDATE, DELETE ON %s TO %s`, table, login)
	}
	say(`UPDATE owners SET role = '%s' WHERE owner = '%s'`, login, s.owner)
	return list, nil
}

// seesMore says why a login would see more than this estate all the same, or "".
func (s *Store) seesMore(ctx context.Context, login string) (why string, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT CASE
		WHEN EXISTS (SELECT 1 FROM owners WHERE role = $1 AND owner <> $2) THEN 'is that of another estate'
		WHEN EXISTS (SELECT 1 FROM pg_roles WHERE (rolsuper OR rolbypassrls OR rolname =
				(SELECT tableowner FROM pg_tables WHERE tablename = 'runs' AND schemaname = current_schema())) AND
			pg_has_role((SELECT oid FROM pg_roles WHERE rolname = $1), oid, 'MEMBER')) THEN 'may see all rows of the tables'
		ELSE '' END`, login, s.owner).Scan(&why)
	return why, err
}

// Execute runs statements, all of them or none.
func (s *Store) Execute(ctx context.Context, statements []string) error {
	return s.in(ctx, func(tx *sql.Tx) error {
		for _, statement := range statements {
			if _, err := tx.ExecContext(ctx, statement); err != nil {
				return Reason(err)
			}
		}
		return nil
	})
}
