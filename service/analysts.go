package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"

	"homing/central/postgres"
)

// Analyst is a role of the database that may read the views of the collections, and nothing else.
type Analyst struct {
	Name string `json:"name"`
	// Address is where an SQL tool opens the views, with the password; only when the role is made.
	Address string `json:"address,omitempty"`
}

// analystMark is the comment by which the roles are known.
const analystMark = "reads the views of homing"

var analystName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)

// ErrNoAnalyst says that there is no such role, or that it is none of an analyst's.
var ErrNoAnalyst = errors.New("there is no analyst of that name")

// AddAnalyst makes a role that may read the views, those that are yet to come among them.
func AddAnalyst(ctx context.Context, database, data, name string) (Analyst, error) {
	if !analystName.MatchString(name) {
		return Analyst{}, fmt.Errorf("%q cannot name an analyst: take a small letter, then small letters, digits and _", name)
	}
	made := Analyst{Name: name}
	err := onDatabase(ctx, database, data, func(db *pgx.Conn, at string) error {
		var taken bool
		if err := db.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_roles WHERE rolname = $1)`, name).Scan(&taken); err != nil {
			return err
		}
		if taken {
			return fmt.Errorf("the database has a role %s already; take another name", name)
		}
		password := rand.Text()
		tx, err := db.Begin(ctx)
		if err != nil {
			return err
		}
		defer tx.Rollback(ctx)
		for _, statement := range append([]string{
			fmt.Sprintf(`CREATE ROLE %q LOGIN PASSWORD '%s' CONNECTION LIMIT 20`, name, password),
			fmt.Sprintf(`COMMENT ON ROLE %q IS '%s'`, name, analystMark),
			fmt.Sprintf(`ALTER ROLE %q SET default_transaction_read_only = on`, name),
			fmt.Sprintf(`ALTER ROLE %q SET search_path = %s`, name, postgres.ViewSchema),
		}, letRead(name)...) {
			if _, err := tx.Exec(ctx, statement); err != nil {
				return fmt.Errorf("the database did not make the role: %w", err)
			}
		}
		u, err := url.Parse(at)
		if err != nil {
			return err
		}
		u.User = url.UserPassword(name, password)
		made.Address = u.String()
		return tx.Commit(ctx)
	})
	return made, err
}

// letRead are the statements that let a role read the views of now and of later.
func letRead(name string) []string {
	return []string{
		fmt.Sprintf(`CREATE SCHEMA IF NOT EXISTS %s`, postgres.ViewSchema),
		fmt.Sprintf(`GRANT USAGE ON SCHEMA %s TO %q`, postgres.ViewSchema, name),
		fmt.Sprintf(`GRANT SELECT ON ALL TABLES IN SCHEMA %s TO %q`, postgres.ViewSchema, name),
		fmt.Sprintf(`ALTER DEFAULT PRIVILEGES IN SCHEMA %s GRANT SELECT ON TABLES TO %q`, postgres.ViewSchema, name),
	}
}

// Analysts are the roles that were made.
func Analysts(ctx context.Context, database, data string) (all []Analyst, err error) {
	err = onDatabase(ctx, database, data, func(db *pgx.Conn, _ string) error {
		names, err := analysts(ctx, db)
		for _, name := range names {
			all = append(all, Analyst{Name: name})
		}
		return err
	})
	return all, err
}

func analysts(ctx context.Context, db *pgx.Conn) ([]string, error) {
	rows, err := db.Query(ctx, `SELECT r.rolname FROM pg_roles r WHERE shobj_description(r.oid, 'pg_authid') = $1 ORDER BY 1`, analystMark)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

// RemoveAnalyst takes a role away again, and ends what it has open.
func RemoveAnalyst(ctx context.Context, database, data, name string) error {
	return onDatabase(ctx, database, data, func(db *pgx.Conn, _ string) error {
		all, err := analysts(ctx, db)
		if err != nil {
			return err
		}
		if !strings.Contains("\x00"+strings.Join(all, "\x00")+"\x00", "\x00"+name+"\x00") {
			return fmt.Errorf("%w: %s; homing analysts list lists them", ErrNoAnalyst, name)
		}
		for _, statement := range []string{fmt.Sprintf(`ALTER ROLE %q NOLOGIN`, name),
			`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = '` + name + `'`,
			fmt.Sprintf(`DROP OWNED BY %q`, name), fmt.Sprintf(`DROP ROLE %q`, name)} {
			if _, err := db.Exec(ctx, statement); err != nil {
				return fmt.Errorf("the database did not take the role away: %w", err)
			}
		}
		return nil
	})
}

// letAnalystsRead gives analysts the views again, after a restore has made them anew.
func letAnalystsRead(ctx context.Context, at string) error {
	db, err := pgx.Connect(ctx, at)
	if err != nil {
		return err
	}
	defer db.Close(ctx)
	all, err := analysts(ctx, db)
	if err != nil {
		return err
	}
	for _, name := range all {
		for _, statement := range letRead(name) {
			if _, err := db.Exec(ctx, statement); err != nil {
				return err
			}
		}
	}
	return nil
}

func onDatabase(ctx context.Context, database, data string, work func(db *pgx.Conn, at string) error) error {
	at, stop, err := reach(ctx, database, data)
	if err != nil {
		return err
	}
	db, err := pgx.Connect(ctx, at)
	if err != nil {
		return errors.Join(fmt.Errorf("database: %w", err), stop())
	}
	return errors.Join(work(db, at), db.Close(ctx), stop())
}
