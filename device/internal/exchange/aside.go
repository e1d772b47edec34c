package exchange

import (
	"context"
	"errors"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/wire"
)

// takeAside stores the answer to a change that this store could not read, since whoever made it is not signed in. What
// became of the record comes with the answer.
func (e *exchange) takeAside(ctx context.Context, tx *sqlx.Tx, q file.Entry, answer wire.Answer) error {
	if !answer.Answer.Accepted() {
		now := file.IsWaiting
		if answer.Answer == change.Refused {
			now = file.IsRefused
		}
		told, err := e.TellAside(ctx, tx, q.Author, answer.Reasons)
		if err != nil {
			return err
		}
		var open *string // what says nothing of the change, and what the exchange must know
		if hasCode(answer.Reasons, change.CodeNumberReused) {
			text := `[{"code":"` + change.CodeNumberReused + `"}]`
			open = &text
		}
		_, err = tx.ExecContext(ctx, `UPDATE outbox SET state = ?, reasons = ?, told = ? WHERE number = ?`, now, open, told, q.Number)
		return err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE number = ?`, q.Number); err != nil {
		return err
	}
	if answer.Record == nil || answer.Collection == "" {
		return nil // it came as part of another, and what became of it comes with the next pull
	}
	if !answer.Record.Withdrawn {
		return e.layUnder(ctx, tx, answer.Collection, *answer.Record)
	}
	row, err := hold.LoadStored(ctx, tx, answer.Collection, answer.Record.ID.String())
	if errors.Is(err, file.ErrNoRecord) {
		return nil
	}
	if err != nil || answer.Record.Revision <= row.Revision && row.Lost == "" {
		return err
	}
	return e.withdraw(ctx, tx, answer.Collection, *answer.Record)
}
