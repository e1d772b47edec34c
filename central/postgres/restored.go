package postgres

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/central/changes"
	"homing/core/desk"
)

// Restored is [changes.Defining.Restored].
func (t *Tx) Restored(ctx context.Context, since time.Time, generation, source uuid.UUID) error {
	if _, err := t.ExecContext(ctx, `
		UPDATE records r SET restored = CASE WHEN received_at <= $1 THEN revision ELSE coalesce((SELECT max(v.revision) FROM versions v
			WHERE v.collection = r.collection AND v.record = r.id AND v.received_at <= $1), 0) END`, since); err != nil {
		return err
	}
	if _, err := t.ExecContext(ctx, `INSERT INTO generations (generation, restored_at) SELECT generation, now()
			FROM identity ON CONFLICT DO NOTHING`); err != nil {
		return err
	}
	// Changes made at central itself are numbered anew, too: numbers after the backup may be known to devices.
	if _, err := t.ExecContext(ctx, `UPDATE identity SET generation = $1, direct = $2`, generation, source); err != nil {
		return err
	}
	all, err := t.Definitions(ctx)
	if err != nil {
		return err
	}
	for name, compiled := range all {
		for field := range compiled.SeriesFields() {
			series := Sequence(desk.Series{Collection: name, Field: field})
			if _, err := t.ExecContext(ctx, fmt.Sprintf(`SELECT setval('%[1]s', last_value + $1) FROM %[1]s`, series),
				changes.SeriesGap); err != nil {
				return err
			}
		}
	}
	return nil
}
