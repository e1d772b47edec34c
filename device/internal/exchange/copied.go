package exchange

import (
	"context"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/device/internal/file"
	"homing/device/internal/people"
)

// mostPartings is how often a store, and each change, takes another identity in one exchange. Once is enough, or twice
// where other copies send meanwhile; a central that says so for ever is mistaken, and nothing that is unsent gets lost by
// waiting.
const mostPartings = 5

// partFromCopy gives a store an incarnation of its own when central has said that another store has used its numbers:
// one of the two is a copy of the other, and neither can tell which. What it has saved so far keeps its old source,
// since the other may have sent the same, and each counts once; what was refused as another's goes again. It says
// whether there is anything to send.
func (e *exchange) partFromCopy(ctx context.Context) (again bool, err error) {
	copied, err := file.Fact(ctx, e.DB, file.FactCopied)
	if err != nil || copied != "true" || e.parted == mostPartings {
		return false, file.StoreError(err)
	}
	e.parted++
	old := e.incarnation.String()
	err = e.within(ctx, func(tx *sqlx.Tx) error {
		if err := people.NewIncarnation(ctx, tx, e.NewID().String(), old); err != nil {
			return err
		}
		var refused []file.Entry
		if err := tx.SelectContext(ctx, &refused, `SELECT * FROM outbox WHERE state = 'refused' AND origin <> ''
			AND EXISTS (SELECT 1 FROM json_each(reasons) r WHERE r.value->>'code' = ?) ORDER BY number`,
			change.CodeNumberReused); err != nil {
			return err
		}
		for _, q := range refused {
			if err := e.isOurs(ctx, tx, q); err != nil {
				return err
			}
		}
		e.summary.Refused -= min(len(refused), e.summary.Refused) // they are answered anew
		return tx.GetContext(ctx, &again, `SELECT EXISTS (SELECT 1 FROM outbox WHERE state IN ('new', 'sent'))`)
	})
	if err != nil {
		return false, err
	}
	e.summary.Copied = true
	if e.incarnation, err = e.Line.Incarnation(ctx, e.DB); err != nil {
		return false, file.StoreError(err)
	}
	return again, e.renew(ctx)
}

// isOurs deals with a change whose number, under an earlier source, another store has used for something else: so
// nobody has sent it, and it goes under its author's present one, with its group. Of one that stands for several, each
// is tried on its own, since the other store may have sent some of them; where these are sealed, it waits for its
// author.
func (e *exchange) isOurs(ctx context.Context, tx *sqlx.Tx, q file.Entry) error {
	if q.Aside() && q.Parts != "[]" {
		told, err := e.TellAside(ctx, tx, q.Author, []change.Reason{{Code: change.CodeNumberReused, Message: "another copy of this " +
			"device has used its number for something else, and may have sent a part of it; exchange, and it goes in"}})
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE outbox SET state = ?, reasons = NULL, told = ? WHERE number = ?`, file.IsWaiting, told, q.Number)
		return err
	}
	if q.Parts != "[]" {
		return unfold(ctx, tx, q, q.Origin)
	}
	fresh, err := e.FreshSource(ctx, tx, q.Author)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `UPDATE outbox SET origin = ?3, state = 'new', reasons = NULL, batch = NULL
		WHERE number = ?1 OR ?2 <> '' AND grp = ?2`, q.Number, q.Group, fresh)
	return err
}
