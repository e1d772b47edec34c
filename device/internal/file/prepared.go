package file

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// The statements of a save, and of an answer. SQLite would otherwise read and plan them anew each time, which took a third of a save.
const (
	InsertChange = `INSERT INTO outbox (collection, record, kind, base, fields, stamp, edited_at, author, boot, line,
			generation, seen) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`
	// InsertSent keeps what was sent.
	InsertSent = `INSERT INTO travelled (at, exchange, up, collection, record, kind, answer, revision, fields,
			number, base, stamp, dated, unsure, edited_at, author, origin, generation, grp, grp_of, seen, folds, digests, parts, kept, sealed)
		VALUES (?, ?, 1, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`
	UpsertFact   = `INSERT INTO facts (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`
	UpsertRecord = `
		INSERT INTO records (collection, id, revision, removed, fields, local, marks, under_removed, under_fields, under_by, pending,
			withdrawn, lost, author, device, edited_at, received_at, confirmed_at, used_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (collection, id) DO UPDATE SET revision = excluded.revision, removed = excluded.removed,
			fields = excluded.fields, local = excluded.local, marks = excluded.marks,
			under_removed = excluded.under_removed, under_fields = excluded.under_fields,
			under_by = excluded.under_by, pending = excluded.pending,
				withdrawn = excluded.withdrawn, lost = excluded.lost, author = excluded.author,
			device = excluded.device, edited_at = excluded.edited_at, received_at = excluded.received_at,
			confirmed_at = excluded.confirmed_at, used_at = excluded.used_at`
)

// prepareStatements is done when the store is opened: later, a transaction may hold the only connection there is.
func (s *File) prepareStatements(ctx context.Context) error {
	for _, text := range []string{InsertChange, InsertSent, UpsertFact, UpsertRecord} {
		kept, err := s.DB.PreparexContext(ctx, text)
		if err != nil {
			return err
		}
		s.prepared[text] = kept
	}
	return nil
}

// Exec runs a statement that is kept prepared. Each connection prepares it once.
func (s *File) Exec(ctx context.Context, tx *sqlx.Tx, statement string, args ...any) error {
	_, err := tx.StmtxContext(ctx, s.prepared[statement]).ExecContext(ctx, args...)
	return err
}
