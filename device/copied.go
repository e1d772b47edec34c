package device

import (
	"context"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
)

// partFromCopy gives a store an incarnation of its own when central has said that another store has used its numbers:
// one of the two is a copy of the other, and neither can tell which. What was refused for that reason goes again, and
// it says whether there is anything to send. What central may have had from here, but has not answered, keeps its old
// source, so that it counts once.
func (e *exchange) partFromCopy(ctx context.Context) (again bool, err error) {
	copied, err := fact(ctx, e.db, factCopied)
	if err != nil || copied != "true" {
		return false, storeError(err)
	}
	old := e.incarnation.String()
	err = e.within(ctx, func(tx *sqlx.Tx) error {
		if err := newIncarnation(ctx, tx, e.newID().String(), old); err != nil {
			return err
		}
		// Changes that have never left are of this store alone, and so are those that central has refused as another's.
		const reused = `state = 'refused' AND EXISTS (SELECT 1 FROM json_each(reasons) r WHERE r.value->>'code' = ?)`
		if _, err := tx.ExecContext(ctx, `UPDATE outbox SET origin = '' WHERE origin = ? AND state = 'new'`,
			old); err != nil {
			return err
		}
		done, err := tx.ExecContext(ctx, `UPDATE outbox SET origin = '', state = 'new', reasons = NULL, batch = NULL, folds = '[]'
			WHERE origin = ? AND (`+reused+` OR grp <> '' AND grp IN (SELECT grp FROM outbox WHERE `+reused+`))`,
			old, change.CodeNumberReused, change.CodeNumberReused)
		if err != nil {
			return err
		}
		n, err := done.RowsAffected()
		if err != nil {
			return err
		}
		e.summary.Refused -= min(int(n), e.summary.Refused) // they are answered anew
		return tx.GetContext(ctx, &again, `SELECT EXISTS (SELECT 1 FROM outbox WHERE state IN ('new', 'sent'))`)
	})
	if err != nil {
		return false, err
	}
	e.summary.Copied = true
	if e.incarnation, err = e.Store.incarnation(ctx, e.db); err != nil {
		return false, storeError(err)
	}
	return again, e.renew(ctx)
}

// newIncarnation gives the store another identity. What it has saved so far keeps the old one as its source.
func newIncarnation(ctx context.Context, tx *sqlx.Tx, now, old string) error {
	for _, table := range []string{"outbox", "travelled"} {
		if _, err := tx.ExecContext(ctx, `UPDATE `+table+` SET origin = ? WHERE origin = ''`, old); err != nil {
			return err
		}
	}
	for name, value := range map[string]string{factIncarnation: now, factRenewed: "true", factAnswered: "",
		factCopied: ""} {
		if err := setFact(ctx, tx, name, value); err != nil {
			return err
		}
	}
	return nil
}
