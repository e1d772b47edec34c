package past

import (
	"context"
	"encoding/json"
	"fmt"

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
		if history[n], err = row.entry(); err != nil {
			return nil, err
		}
	}
	return history, nil
}

// entry is a version as people and programs read it.
func (v storedVersion) entry() (wire.HistoryEntry, error) {
	h := wire.HistoryEntry{Revision: v.Revision, Position: v.Position, Kind: v.Kind, Base: v.Base, Fields: v.Delta, Sent: v.Sent,
		Author: v.Author, Device: v.Device, Source: change.Source{Incarnation: v.Incarnation, Number: v.Number},
		EditedDevice: v.EditedDevice.UTC(), EditedAt: v.EditedAt.UTC(), UncertaintyMS: v.UncertaintyMS, ReceivedAt: v.ReceivedAt.UTC()}
	if v.Batch.Valid {
		h.Batch = &v.Batch.UUID
	}
	if v.Decisions != nil {
		if err := json.Unmarshal(v.Decisions, &h.Decisions); err != nil {
			return h, fmt.Errorf("stored version of %s: %w", v.Record, err)
		}
	}
	return h, nil
}
