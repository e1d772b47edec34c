package central

import (
	"context"
	"fmt"
	"slices"

	"homing/central/postgres"
	"homing/core/desk"

	"github.com/google/uuid"
)

// SeriesGap is what series go on by after a restore, so that numbers that were handed out after the backup are not handed out again.
const SeriesGap = 1000

// Restored gives the database a new generation, after it was restored from a backup: devices notice that, and offer again what it has lost. It
// must not be open anywhere. Before are the generations that the replaced database had had, where that is known: devices may know any of them.
func Restored(ctx context.Context, options Options, before []uuid.UUID) (uuid.UUID, error) {
	c, err := Open(ctx, options)
	if err != nil {
		return uuid.Nil, err
	}
	defer c.Close()
	now, was := uuid.Must(uuid.NewV7()), c.Generation()
	err = c.db.Within(ctx, func(tx *postgres.Tx) error {
		for _, statement := range []string{
			`UPDATE records SET restored = revision`,
			`DELETE FROM sessions`,
		} {
			if _, err := tx.ExecContext(ctx, statement); err != nil {
				return err
			}
		}
		// Last comes the one that the backup is of: only its revisions mean the same.
		for _, generation := range append(slices.DeleteFunc(slices.Clone(before), func(one uuid.UUID) bool { return one == was }), was) {
			if _, err := tx.ExecContext(ctx, `INSERT INTO generations (generation, restored_at) VALUES ($1, now()) ON CONFLICT DO NOTHING`, generation); err != nil {
				return err
			}
		}
		// Changes made at central itself are numbered anew, too: numbers after the backup may be known to devices.
		if _, err := tx.ExecContext(ctx, `UPDATE identity SET generation = $1, direct = $2`, now, uuid.Must(uuid.NewV7())); err != nil {
			return err
		}
		all, err := tx.Definitions(ctx)
		if err != nil {
			return err
		}
		for name, compiled := range all {
			for field := range compiled.SeriesFields() {
				series := postgres.Sequence(desk.Series{Collection: name, Field: field})
				if _, err := tx.ExecContext(ctx, fmt.Sprintf(`SELECT setval('%[1]s', last_value + $1) FROM %[1]s`, series), SeriesGap); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return now, err
}
