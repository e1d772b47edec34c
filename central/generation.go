package central

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/central/postgres"
)

// Restored gives the database a new generation, after it was restored from a backup: devices notice that, and offer
// again what it has lost. It must not be open anywhere. Before are the generations that the replaced database had
// had, where that is known: devices may know any of them.
func Restored(ctx context.Context, options Options, before []uuid.UUID) (uuid.UUID, error) {
	c, err := Open(ctx, options)
	if err != nil {
		return uuid.Nil, err
	}
	defer c.Close()
	now, was := uuid.Must(uuid.NewV7()), c.Generation()
	err = c.db.Within(ctx, func(tx *postgres.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM sessions`); err != nil {
			return err
		}
		// The one that the backup is of comes last: only its revisions mean the same.
		for _, generation := range slices.DeleteFunc(slices.Clone(before), func(one uuid.UUID) bool { return one == was }) {
			if _, err := tx.ExecContext(ctx, `INSERT INTO generations (generation, restored_at) VALUES ($1, now())
					ON CONFLICT DO NOTHING`, generation); err != nil {
				return err
			}
		}
		const all = 100 * 365 * 24 * time.Hour // whatever the backup has, the earlier generation had
		return tx.Restored(ctx, c.Now().Add(all), now, uuid.Must(uuid.NewV7()))
	})
	return now, err
}
