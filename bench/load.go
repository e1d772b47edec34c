package main

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"
)

// firstLoad compares a device's first load with COPY of the same rows out of PostgreSQL and plain prepared inserts of them
// into SQLite, one after the other: by the clock, and by processor time of all that works on it.
func (s *stand) firstLoad(ctx context.Context, count int) ([]measure, error) {
	var there int
	db, err := sqlx.Open("pgx", s.database)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	if err := db.GetContext(ctx, &there, `SELECT count(*) FROM records`); err != nil {
		return nil, err
	}
	if there < count {
		more, err := s.hand(ctx)
		if err != nil {
			return nil, err
		}
		batches, err := more.batches(there, count-there, batchSize)
		if err != nil {
			return nil, err
		}
		if err := more.send(ctx, batches); err != nil {
			return nil, err
		}
	}
	if _, err := db.ExecContext(ctx, `VACUUM ANALYZE records`); err != nil {
		return nil, err
	}
	store, err := s.enrolled(ctx, "load.db")
	if err != nil {
		return nil, err
	}
	defer store.Close()
	began, before := time.Now(), spent(false)+spent(true)
	summary, err := store.Exchange(ctx, nil)
	if err != nil {
		return nil, err
	}
	took, used := time.Since(began), spent(false)+spent(true)-before
	plain, err := s.pipe(ctx, store.Path(), `true`)
	if err != nil {
		return nil, err
	}
	rate := func(records int, in time.Duration) float64 { return float64(records) / in.Seconds() }
	a, b := rate(summary.Received, took), rate(plain.records, plain.took)
	c, d := rate(summary.Received, used), rate(plain.records, plain.used)
	return []measure{{"first load", a, b, a / b, "1.2 (1.8)"}, {"by processor time", c, d, c / d, "none set"}}, nil
}

// piped is what the bare side of a load took.
type piped struct {
	records    int
	took, used time.Duration
}

// pipe copies the records of a condition out of PostgreSQL to a file, and inserts the same rows into a SQLite database with
// the table of a store. Reading the file's rows is left out.
func (s *stand) pipe(ctx context.Context, path, condition string) (p piped, err error) {
	const columns = `collection, id::text, revision, fields::text, marks::text, author, device, edited_at::text, received_at::text`
	conn, err := pgx.Connect(ctx, s.database)
	if err != nil {
		return p, err
	}
	defer conn.Close(ctx)
	read, err := conn.Query(ctx, `SELECT `+columns+` FROM records WHERE `+condition+` ORDER BY position`)
	if err != nil {
		return p, err
	}
	rows, err := pgx.CollectRows(read, func(row pgx.CollectableRow) ([]any, error) { return row.Values() })
	if err != nil {
		return p, err
	}
	name := filepath.Join(s.folder, "bare-load.db")
	for _, ending := range []string{"", "-wal", "-shm"} {
		if err := os.Remove(name + ending); err != nil && !errors.Is(err, os.ErrNotExist) {
			return p, err
		}
	}
	into, err := sqlx.Open("sqlite3", "file:"+name+"?_txlock=immediate&_pragma=journal_mode(wal)&_pragma=synchronous(full)")
	if err != nil {
		return p, err
	}
	defer into.Close()
	from, err := sqlx.Open("sqlite3", "file:"+path)
	if err != nil {
		return p, err
	}
	defer from.Close()
	var schema []string
	if err := from.SelectContext(ctx, &schema, `SELECT sql FROM sqlite_master WHERE tbl_name = 'records' AND sql IS NOT NULL
			AND type IN ('table', 'index') ORDER BY type DESC`); err != nil {
		return p, err
	}
	if _, err := into.ExecContext(ctx, strings.Join(schema, ";")); err != nil {
		return p, err
	}
	file, err := os.Create(filepath.Join(s.folder, "copy"))
	if err != nil {
		return p, err
	}
	defer file.Close()
	began, before := time.Now(), spent(false)+spent(true)
	if _, err := conn.PgConn().CopyTo(ctx, io.Writer(file),
		`COPY (SELECT `+columns+` FROM records WHERE `+condition+` ORDER BY position) TO STDOUT`); err != nil {
		return p, err
	}
	const inTransaction = 2000
	for start := 0; start < len(rows); start += inTransaction {
		tx, err := into.BeginTxx(ctx, nil)
		if err != nil {
			return p, err
		}
		insert, err := tx.PrepareContext(ctx, `INSERT INTO records (collection, id, revision, removed, fields, marks, author, device, edited_at,
			received_at) VALUES (?, ?, ?, 0, ?, ?, ?, ?, ?, ?)`)
		if err != nil {
			return p, errors.Join(err, tx.Rollback())
		}
		for _, row := range rows[start:min(start+inTransaction, len(rows))] {
			if _, err := insert.ExecContext(ctx, row...); err != nil {
				return p, errors.Join(err, tx.Rollback())
			}
		}
		if err := tx.Commit(); err != nil {
			return p, err
		}
	}
	return piped{len(rows), time.Since(began), spent(false) + spent(true) - before}, nil
}
