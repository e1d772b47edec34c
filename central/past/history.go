package past

import (
	"context"
	"encoding/json"

	"github.com/google/uuid"

	"homing/central/fleet"
	"homing/core/change"
	"homing/wire"
)

// History gives all versions of a record, the latest first, if somebody may see the record.
func (c *Past) History(ctx context.Context, asker fleet.Person, collection string,
	id uuid.UUID) ([]wire.HistoryEntry, error) {
	if _, err := c.finding.Record(ctx, asker, collection, id); err != nil {
		return nil, err
	}
	var rows []storedVersion
	err := c.db.SelectContext(ctx, &rows, `
		SELECT revision, position, kind, base, delta, sent, decisions, incarnation, number, batch, author, device,
			edited_device,
			edited_at, uncertainty_ms, received_at
		FROM versions WHERE collection = $1 AND record = $2 ORDER BY revision DESC`, collection, id)
	if err != nil {
		return nil, err
	}
	history := make([]wire.HistoryEntry, len(rows))
	for n, row := range rows {
		h := wire.HistoryEntry{Revision: row.Revision, Position: row.Position, Kind: row.Kind, Base: row.Base,
			Fields: row.Delta,
			Sent:   row.Sent, Author: row.Author, Device: row.Device,
			Source:       change.Source{Incarnation: row.Incarnation, Number: row.Number},
			EditedDevice: row.EditedDevice.UTC(), EditedAt: row.EditedAt.UTC(), UncertaintyMS: row.UncertaintyMS,
			ReceivedAt: row.ReceivedAt.UTC()}
		if row.Batch.Valid {
			h.Batch = &row.Batch.UUID
		}
		if row.Decisions != nil {
			if err := json.Unmarshal(row.Decisions, &h.Decisions); err != nil {
				return nil, err
			}
		}
		history[n] = h
	}
	return history, nil
}
