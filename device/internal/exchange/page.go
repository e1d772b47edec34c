package exchange

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"github.com/jmoiron/sqlx"

	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/wire"
)

// takePage stores a page and its cursor in one transaction, so a kill at any point leaves both or neither.
func (e *exchange) takePage(ctx context.Context, page wire.Page, gaining bool) error {
	return e.within(ctx, func(tx *sqlx.Tx) error { return e.storePage(ctx, tx, page, gaining) })
}

func (e *exchange) storePage(ctx context.Context, tx *sqlx.Tx, page wire.Page, gaining bool) error {
	e.summary.Received += len(page.Records)
	put, left, err := putRecords(ctx, tx, page.Collection, page.Records)
	if err != nil {
		return err
	}
	for _, r := range put {
		e.Hub.Note(tx, file.Changed{Collection: page.Collection, ID: r.ID})
	}
	if err := e.noteReceived(ctx, tx, page, gaining); err != nil {
		return err
	}
	for _, r := range left {
		if r.Removed {
			e.summary.Removed++
		}
		if r.Withdrawn {
			e.summary.Received--
			e.summary.Withdrawn++
		}
	}
	if err := e.layAll(ctx, tx, page.Collection, left); err != nil {
		return err
	}
	if err := hold.ForgetTouched(ctx, tx); err != nil {
		return err
	}
	if gaining {
		return noteGain(ctx, tx, page)
	}
	// A page that came with others has one seal with them, and what central has said before stays true.
	_, err = tx.ExecContext(ctx, `UPDATE collections SET cursor = ?1, seal = iif(?2 = '', seal, ?2), head = ?3, pulled_at = ?4,
			loading = (loading OR cursor = 0) AND ?5 WHERE name = ?6`,
		page.Cursor, page.Seal, page.Head, file.TimeText(e.Now()), page.More, page.Collection)
	return err
}

// putMany is how many records one statement writes: it saves most of the cost of a statement, and stays within
// SQLite's bounds.
const putMany = 50

// putRecords writes records that have no unsent changes here, which is the rule, many at once. It gives those that it
// wrote, and those that must take the long way: removals, and whatever was in a statement that could not write all of
// its records.
func putRecords(ctx context.Context, tx *sqlx.Tx, collection string,
	records []wire.Record) (put, left []wire.Record, err error) {
	const columns = `(?, ?, ?, 0, ?, ?, ?, ?, ?, ?)`
	statement := func(n int) string {
		return `INSERT INTO records (collection, id, revision, removed, fields, marks, author, device, edited_at,
				received_at) VALUES ` +
			columns + strings.Repeat(", "+columns, n-1) + `
			ON CONFLICT (collection, id) DO UPDATE SET revision = excluded.revision, removed = 0, fields = excluded.fields, marks = excluded.marks,
				author = excluded.author, device = excluded.device, edited_at = excluded.edited_at, received_at = excluded.received_at
			WHERE pending = 0 AND revision < excluded.revision AND lost = ''`
	}
	var chunk []wire.Record
	var args []any
	prepared, err := tx.PrepareContext(ctx, statement(putMany))
	if err != nil {
		return nil, nil, err
	}
	defer prepared.Close()
	flush := func() error {
		if len(chunk) == 0 {
			return nil
		}
		if _, err := tx.ExecContext(ctx, `SAVEPOINT chunk`); err != nil {
			return err
		}
		var done sql.Result
		var err error
		if len(chunk) == putMany {
			done, err = prepared.ExecContext(ctx, args...)
		} else {
			done, err = tx.ExecContext(ctx, statement(len(chunk)), args...)
		}
		if err != nil {
			return err
		}
		end := `RELEASE chunk`
		if n, err := done.RowsAffected(); err != nil || n != int64(len(chunk)) {
			// Which of them were written cannot be told, so none is.
			left, end = append(left, chunk...), `ROLLBACK TO chunk; RELEASE chunk`
		} else {
			put = append(put, chunk...)
		}
		chunk, args = chunk[:0], args[:0]
		_, err = tx.ExecContext(ctx, end)
		return err
	}
	for _, r := range records {
		if r.Removed || r.Withdrawn {
			left = append(left, r)
			continue
		}
		chunk = append(chunk, r)
		args = append(
			args,
			collection,
			r.ID.String(),
			r.Revision,
			string(r.Fields),
			string(r.Marks),
			r.Author,
			r.Device,
			file.TimeText(r.EditedAt),
			file.TimeText(r.ReceivedAt),
		)
		if len(chunk) == putMany {
			if err := flush(); err != nil {
				return nil, nil, err
			}
		}
	}
	err = flush()
	return put, left, err
}

// layAll puts records one by one under what is unsent, or drops those that are withdrawn.
func (e *exchange) layAll(ctx context.Context, tx *sqlx.Tx, collection string, records []wire.Record) error {
	for _, r := range records {
		take := e.layUnder
		if r.Withdrawn {
			take = e.withdraw
		}
		if err := take(ctx, tx, collection, r); err != nil {
			return err
		}
	}
	return nil
}

// layUnder puts central's new state of a record under what this device has not sent yet. An older state than the one
// here changes nothing.
func (e *exchange) layUnder(ctx context.Context, tx *sqlx.Tx, collection string, r wire.Record) error {
	row, err := hold.LoadStored(ctx, tx, collection, r.ID.String())
	if errors.Is(err, file.ErrNoRecord) {
		if r.Removed {
			return nil
		}
		row = hold.Stored{Collection: collection, ID: r.ID.String(), Local: "{}"}
	} else if err != nil {
		return err
	}
	known, err := row.Under()
	if err != nil {
		return err
	}
	if known.Revision >= r.Revision && row.Withdrawn == 0 && row.Lost == "" {
		return nil
	}
	if row.Lost != "" {
		if err := keepLostValues(ctx, tx, row, known, r); err != nil {
			return err
		}
	}
	row.Withdrawn, row.Lost = 0, ""
	under, err := stateOf(r, known)
	if err != nil {
		return err
	}
	row.Author, row.Device, row.EditedAt, row.ReceivedAt = r.Author, r.Device, file.TimeText(
		r.EditedAt,
	), file.TimeText(
		r.ReceivedAt,
	)
	if err := errors.Join(row.KeepBy(row.Author, row.Device, row.EditedAt), e.Note(tx, collection, row.ID, row.Removed)); err != nil {
		return err
	}
	return e.Rebuild(ctx, tx, row, under)
}
