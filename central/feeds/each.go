package feeds

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/record"
	"homing/feed"
	"homing/wire"
)

// mostRows is how many changes go at once. A record may have had more: the feed then goes on within it.
const mostRows = 2000

// version is an accepted change as the history has it.
type version struct {
	Of         int         `db:"of"` // among the records that are asked for
	Record     uuid.UUID   `db:"record"`
	Revision   int64       `db:"revision"`
	Kind       change.Kind `db:"kind"`
	Removed    bool        `db:"removed"`
	Delta      []byte      `db:"delta"`
	Author     string      `db:"author"`
	Device     string      `db:"device"`
	EditedAt   time.Time   `db:"edited_at"`
	ReceivedAt time.Time   `db:"received_at"`
}

// changes are the changes of records, each with what the record was after it, that this round has not brought; those of records that are withdrawn go
// away. Brought says up to which revision it has, of records of which the destination has any. Whole says of how many of the records the items are all.
// A change after which a record does not fit goes where the one before did.
func (h *holding) changes(ctx context.Context, name string, records []wire.Record, brought map[uuid.UUID]int64) (items []feed.Item, of []int, whole int, err error) {
	var ids []string
	var upTo []int64
	var at []int // the records that the history is asked for
	for n, r := range records {
		if r.Withdrawn {
			continue
		}
		ids, upTo, at = append(ids, r.ID.String()), append(upTo, r.Revision), append(at, n)
	}
	rows, err := h.db.QueryxContext(ctx, `SELECT w.n AS of, v.record, v.revision, v.kind, v.removed, v.delta, v.author, v.device, v.edited_at, v.received_at
		FROM unnest($2::uuid[], $3::bigint[]) WITH ORDINALITY AS w (id, upto, n) JOIN versions v ON v.collection = $1 AND v.record = w.id AND v.revision <= w.upto
		ORDER BY w.n, v.revision`, name, ids, upTo)
	if err != nil {
		return nil, nil, 0, err
	}
	defer rows.Close()
	part, fields, fitted := h.parts[name], record.Fields{}, false
	next := 0 // of the records, the first whose items are not there
	gone := func(until int) {
		for ; next < until; next++ {
			if _, has := brought[records[next].ID]; records[next].Withdrawn && has {
				items, of = append(items, feed.Item{Collection: part.Called, Record: records[next].ID, Revision: records[next].Revision, Gone: true}), append(of, next)
			}
		}
	}
	for rows.Next() {
		var v version
		if err := rows.StructScan(&v); err != nil {
			return nil, nil, 0, err
		}
		n := at[v.Of-1] // ordinality counts from 1
		if len(items) >= mostRows {
			return items, of, min(n, next), rows.Close()
		}
		if n >= next {
			gone(n)
			fields, fitted, next = record.Fields{}, false, n+1
		}
		item, fits, err := h.after(part, v, &fields)
		if err != nil {
			return nil, nil, 0, err
		}
		if goes := fits || fitted; goes && v.Revision > brought[v.Record] {
			items, of = append(items, item), append(of, n)
		}
		fitted = fits
	}
	gone(len(records))
	return items, of, len(records), rows.Err()
}

// after is what goes of a change, and whether the record fits after it. Fields are those before it, and then those after it.
func (h *holding) after(part *feed.Shaped, v version, fields *record.Fields) (item feed.Item, fits bool, err error) {
	var delta record.Delta
	if err := json.Unmarshal(v.Delta, &delta); err != nil {
		return item, false, fmt.Errorf("stored version of %s: %w", v.Record, err)
	}
	*fields = fields.Apply(delta)
	item = feed.Item{Collection: part.Called, Record: v.Record, Revision: v.Revision, EditedAt: v.EditedAt, Author: v.Author,
		Change: &feed.Change{Kind: v.Kind, Device: v.Device, ReceivedAt: v.ReceivedAt, Changed: []string{}}}
	if !v.Removed {
		if item.Values, fits, err = part.Values(*fields); err != nil {
			return item, false, err
		}
	}
	if item.Gone = !fits; fits {
		item.Change.Changed = part.Changed(delta)
	}
	return item, fits, nil
}

// brought is up to which revision this round has brought the changes of records, of those of which the destination has any.
func (h *holding) brought(ctx context.Context, name string, records []wire.Record) (map[uuid.UUID]int64, error) {
	ids := make([]string, len(records))
	for n, r := range records {
		ids[n] = r.ID.String()
	}
	var rows []struct {
		Record   uuid.UUID `db:"record"`
		Revision int64     `db:"revision"`
	}
	err := h.db.SelectContext(ctx, &rows, `SELECT record, CASE round WHEN $4 THEN revision ELSE 0 END AS revision FROM feed_held
		WHERE feed = $1 AND collection = $2 AND record = ANY ($3::uuid[])`, h.name, name, ids, h.at.Round)
	all := map[uuid.UUID]int64{}
	for _, r := range rows {
		all[r.Record] = r.Revision
	}
	return all, err
}
