package save

import (
	"context"
	"errors"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/device/internal/file"
	"homing/device/internal/hold"
)

// AddMany is [device.Store.AddMany].
func (s *Desk) AddMany(ctx context.Context, collection string, rows []hold.Fields) (ids []uuid.UUID, wrong map[int]error, err error) {
	err = s.Saving(ctx, collection, func(tx *sqlx.Tx, c *definition.Collection, known map[string]string) error {
		ids, wrong = make([]uuid.UUID, len(rows)), map[int]error{}
		sums := tally{}
		for n, fields := range rows {
			w, err := wishFor(collection, change.Add, fields, nil)
			if err != nil {
				wrong[n] = err
				continue
			}
			row, err := s.saveIn(ctx, tx, c, s.NewID(), w, known)
			if ofTheRow(err) { // nothing was written yet
				wrong[n] = err
				continue
			}
			if err != nil {
				return err
			}
			if err := s.WorkOut(ctx, tx, &row); err != nil {
				return err
			}
			if ids[n], err = uuid.Parse(row.ID); err != nil {
				return err
			}
			sums.take(c, row.Fields)
		}
		return sums.keep(ctx, tx, known[file.FactWorker], collection, s.Now())
	})
	return ids, wrong, err
}

// ofTheRow says whether an error is about what a row says, so that the next may be in order.
func ofTheRow(err error) bool {
	var invalid *file.InvalidError
	return errors.As(err, &invalid) || errors.Is(err, file.ErrTaken) || errors.Is(err, file.ErrNotAllowed) || errors.Is(err, file.ErrNoRecord)
}
