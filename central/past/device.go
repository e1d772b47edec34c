package past

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"

	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/sight"
)

// Reached is how far a device has pulled a collection.
type Reached struct {
	Collection string     `json:"collection" db:"collection"`
	Cursor     int64      `json:"cursor" db:"cursor"`
	Head       int64      `json:"head" db:"head"`
	PulledAt   *time.Time `json:"pulled_at,omitempty" db:"pulled_at" doc:"When it last said so; left out when it never has."`
}

// Reached gives how far a device has pulled each collection.
func (c *Past) Reached(ctx context.Context, device uuid.UUID) ([]Reached, error) {
	all := []Reached{}
	err := c.db.SelectContext(ctx, &all, `SELECT c.name AS collection, coalesce(k.cursor, 0) AS cursor, c.head, k.pulled_at
		FROM collections c LEFT JOIN cursors k ON k.collection = c.name AND k.device = $1 ORDER BY c.name`, device)
	for n := range all {
		if all[n].PulledAt != nil {
			at := all[n].PulledAt.UTC()
			all[n].PulledAt = &at
		}
	}
	return all, err
}

// Unaccepted gives the latest changes of a device that central did not accept, with the reasons. Of what the asker may
// not see, it says only that it travelled.
func (c *Past) Unaccepted(ctx context.Context, asker fleet.Person, device uuid.UUID, limit int) ([]Travelled, error) {
	var rows []struct {
		At     time.Time     `db:"at"`
		Batch  uuid.NullUUID `db:"batch"`
		Others []byte        `db:"others"`
		Told   []byte        `db:"told"`
	}
	if err := c.db.SelectContext(ctx, &rows, `SELECT at, batch, others, (SELECT json_agg(json_build_object('number', numbers[n],
			'collection', coalesce(collections[n], collections[1]), 'record', records[n], 'what', answers[n]))
			FROM generate_subscripts(numbers, 1) n WHERE answers[n] IN ('refused', 'waiting')) AS told
		FROM travelled WHERE device = $1 AND others IS NOT NULL ORDER BY at DESC LIMIT $2`, device, limit); err != nil {
		return nil, err
	}
	all := []Travelled{}
	for _, row := range rows {
		var others map[string]postgres.Unaccepted
		var told []Travelled
		if err := json.Unmarshal(row.Others, &others); err != nil {
			return nil, fmt.Errorf("stored exchanges of device %s: %w", device, err)
		}
		if row.Told != nil {
			if err := json.Unmarshal(row.Told, &told); err != nil {
				return nil, fmt.Errorf("stored exchanges of device %s: %w", device, err)
			}
		}
		for _, one := range told {
			rest := others[strconv.FormatInt(one.Number, 10)]
			one.At, one.Up, one.Reasons = row.At.UTC(), true, rest.Reasons
			if row.Batch.Valid {
				one.Batch = &row.Batch.UUID
			}
			if len(rest.Fields) > 0 {
				text, err := json.Marshal(rest.Fields)
				if err != nil {
					return nil, err
				}
				one.Fields = text
			}
			all = append(all, one)
		}
	}
	// A change that waits is sent again with each exchange: the last word on it counts.
	heard := map[int64]bool{}
	all = slices.DeleteFunc(all, func(one Travelled) bool {
		before := heard[one.Number]
		heard[one.Number] = true
		return before && one.Number > 0
	})
	if len(all) > limit {
		all = all[:limit]
	}
	return all, c.nameRecords(ctx, sight.Alone(asker), all)
}
