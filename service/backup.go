package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"homing/central"
	"homing/central/postgres"
	"homing/cluster"
)

// reach gives the URL of central's database, and starts the private PostgreSQL where there is no other and it is not
// running. Stop ends what was started.
func reach(ctx context.Context, database, data string) (at string, stop func() error, err error) {
	if database != "" {
		return database, func() error { return nil }, nil
	}
	if _, err := os.Stat(filepath.Join(data, "data")); errors.Is(err, fs.ErrNotExist) {
		return "", nil, fmt.Errorf("there is no PostgreSQL of central's in %s; say where it is with --data FOLDER or "+
			"--database URL", data)
	}
	private, err := cluster.Start(ctx, cluster.Options{Dir: data})
	if err != nil {
		return "", nil, err
	}
	stop = private.Stop
	if private.Found() {
		stop = func() error { return nil } // another process runs it
	}
	at, err = private.Database(ctx, "homing", "")
	if err != nil {
		return "", nil, errors.Join(err, stop())
	}
	return at, stop, nil
}

// tool runs one of PostgreSQL's own programs. The password stands in its environment, where other users cannot see it.
func tool(ctx context.Context, database, name string, args ...string) error {
	bin, err := cluster.Program(name)
	if err != nil {
		return err
	}
	u, err := url.Parse(database)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	command := exec.CommandContext(ctx, bin)
	command.Env = os.Environ()
	if password, has := u.User.Password(); has {
		command.Env = append(command.Env, "PGPASSWORD="+password)
		u.User = url.User(u.User.Username())
	}
	command.Args = append(append(command.Args, args...), "--dbname="+u.String())
	var said bytes.Buffer
	command.Stderr = &said
	if err := command.Run(); err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(said.String()))
	}
	return nil
}

// Backup writes central's database to a new file, as of one moment, while it is in use. Without a database URL it is
// the private one in data.
func Backup(ctx context.Context, database, data, path string) error {
	at, stop, err := reach(ctx, database, data)
	if err != nil {
		return err
	}
	part := path + ".part"
	file, err := os.OpenFile(part, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600) // it holds everything, so it is nobody else's to read
	if err == nil {
		err = file.Close()
	}
	if err == nil {
		err = tool(ctx, at, "pg_dump", "--format=custom", "--file="+part)
	}
	if err == nil {
		err = os.Rename(part, path)
	} else {
		err = errors.Join(err, os.Remove(part))
	}
	if err == nil {
		err = noteBackup(ctx, at, path)
	}
	return errors.Join(err, stop())
}

const undefinedTable = "42P01" // PostgreSQL, appendix A

// noteBackup lets people at central see that there is a backup.
func noteBackup(ctx context.Context, database, path string) error {
	whole, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	info, err := os.Stat(path)
	if err != nil {
		return err
	}
	db, err := pgx.Connect(ctx, database)
	if err != nil {
		return fmt.Errorf("the backup is written, but central is not told of it: %w", err)
	}
	defer db.Close(ctx)
	_, err = db.Exec(ctx, `INSERT INTO backups (made_at, file, bytes) VALUES (now(), $1, $2)`, whole, info.Size())
	var known *pgconn.PgError
	if errors.As(err, &known) && known.Code == undefinedTable {
		return nil // an older version of the program runs central
	}
	if err != nil {
		return fmt.Errorf("the backup is written, but central is not told of it: %w", err)
	}
	return nil
}

// Restore replaces central's database by a backup, under a new generation. What it had is written to before first.
// Central must not be running.
func Restore(ctx context.Context, database, data, path, before string) (generation uuid.UUID, err error) {
	at, stop, err := reach(ctx, database, data)
	if err != nil {
		return uuid.Nil, err
	}
	defer func() { err = errors.Join(err, stop()) }()
	if err := unused(ctx, at); err != nil {
		return uuid.Nil, err
	}
	// A file that is no backup must be found out before anything is touched.
	list, err := cluster.Program("pg_restore")
	if err != nil {
		return uuid.Nil, err
	}
	if said, err := exec.CommandContext(ctx, list, "--list", path).CombinedOutput(); err != nil ||
		!bytes.Contains(said, []byte("TABLE DATA public records")) {
		return uuid.Nil, fmt.Errorf("%s is not a backup of central's database; nothing was changed", path)
	}
	known, err := generationsOf(ctx, at)
	if err != nil {
		return uuid.Nil, err
	}
	if err := tool(ctx, at, "pg_dump", "--format=custom", "--file="+before); err != nil {
		return uuid.Nil, fmt.Errorf("nothing was changed: what there is could not be kept: %w", err)
	}
	if err := os.Chmod(before, 0o600); err != nil {
		return uuid.Nil, err
	}
	if err := replace(ctx, at, path); err != nil {
		return uuid.Nil, fmt.Errorf("nothing was changed: %w", err)
	}
	if err := letAnalystsRead(ctx, at); err != nil {
		return uuid.Nil, err
	}
	return central.Restored(ctx, central.Options{Database: at}, known)
}

// replace puts a backup in the place of what a database has, in one transaction: whole or not at all. Views of
// collections that were defined after the backup hang on the tables, and the backup does not know of them; those that
// it knows it brings.
func replace(ctx context.Context, database, path string) error {
	restore, err := cluster.Program("pg_restore")
	if err != nil {
		return err
	}
	script, err := os.CreateTemp("", "homing-restore-*.sql") // nobody else can read it
	if err != nil {
		return err
	}
	defer os.Remove(script.Name())
	if err := script.Close(); err != nil {
		return err
	}
	if said, err := exec.CommandContext(ctx, restore, "--clean", "--if-exists", "--no-owner", "--no-privileges", "--file="+script.Name(),
		path).CombinedOutput(); err != nil {
		return fmt.Errorf("pg_restore: %w: %s", err, bytes.TrimSpace(said))
	}
	return tool(ctx, database, "psql", "--quiet", "--no-psqlrc", "--set=ON_ERROR_STOP=1", "--output="+os.DevNull,
		"--single-transaction",
		"--command=DROP SCHEMA IF EXISTS "+postgres.ViewSchema+" CASCADE", "--file="+script.Name())
}

// unused says whether nothing but this works on the database.
func unused(ctx context.Context, database string) error {
	db, err := pgx.Connect(ctx, database)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	defer db.Close(ctx)
	const tries = 20
	for range tries { // sessions of a central that has just stopped take a moment to end
		var others int
		if err := db.QueryRow(ctx, `SELECT count(*) FROM pg_stat_activity
				WHERE datname = current_database() AND application_name = 'homing'
					AND pid <> pg_backend_pid()`).Scan(&others); err != nil {
			return err
		}
		if others == 0 {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return errors.New("central is running on this database; stop it first. Nothing was changed")
}

// generationsOf are the generations that the database has had so far, the present one last. Devices may know any of
// them.
func generationsOf(ctx context.Context, database string) (all []uuid.UUID, err error) {
	db, err := pgx.Connect(ctx, database)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	defer db.Close(ctx)
	var there bool
	if err := db.QueryRow(ctx, `SELECT to_regclass('public.generations') IS NOT NULL`).Scan(&there); err != nil || !there {
		return nil, err // an empty database, in place of one that was lost
	}
	rows, err := db.Query(ctx, `SELECT generation FROM (SELECT generation, place
			FROM generations UNION ALL SELECT generation, 9223372036854775807 FROM identity) g ORDER BY place`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
}
