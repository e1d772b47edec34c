package feeds

import (
	"context"
	"errors"
	"maps"
	"slices"

	"github.com/google/uuid"

	"homing/central/postgres"
	"homing/central/pulls"
	"homing/core/definition"
	"homing/feed"
	"homing/outlet"
	"homing/wire"
)

// again sends what somebody wants to be sent again: a record as it is now, or a change as it was.
func (h *holding) again(ctx context.Context) error {
	var rows []Aside
	if err := h.db.SelectContext(ctx, &rows, `SELECT collection, record, revision FROM feed_aside WHERE feed = $1 AND again ORDER BY place LIMIT 500`, h.name); err != nil {
		return err
	}
	byCollection := map[string][]Aside{}
	for _, r := range rows {
		byCollection[r.Collection] = append(byCollection[r.Collection], r)
	}
	for _, name := range slices.Sorted(maps.Keys(byCollection)) {
		if err := h.sendNow(ctx, name, byCollection[name]); err != nil {
			return err
		}
	}
	return nil
}

// sendNow sends what was set aside, whatever the cursor.
func (h *holding) sendNow(ctx context.Context, name string, aside []Aside) error {
	part := h.parts[name]
	if part == nil { // the feed does not carry it any more
		return h.db.Within(ctx, func(tx *postgres.Tx) error {
			_, err := tx.ExecContext(ctx, `DELETE FROM feed_aside WHERE feed = $1 AND collection = $2`, h.name, name)
			return err
		})
	}
	var records []wire.Record
	err := h.db.Deliver(ctx, func(t pulls.Tables) error {
		definitions, err := t.Definitions(ctx)
		if err != nil {
			return err
		}
		records, err = h.asTheyAre(ctx, t, definitions[name], aside)
		return err
	})
	if err != nil {
		return err
	}
	var items []feed.Item
	if h.feed.EachChange() {
		before := map[uuid.UUID]int64{}
		for _, one := range aside {
			before[one.Record] = one.Revision - 1
		}
		items, _, _, err = h.changes(ctx, name, records, before)
	} else {
		items, _, err = h.items(ctx, name, records)
	}
	if err != nil {
		return err
	}
	if err := h.mayHave(ctx, name, items); err != nil {
		return err
	}
	done, refused, err := h.out.Deliver(ctx, outlet.Batch{Collection: part.Called, Round: h.at.Round, Items: items})
	if kept := h.keep(ctx, name, items[:done], refused, nil); kept != nil || err != nil {
		return errors.Join(kept, err)
	}
	// What does not belong to the feed and never arrived, or is in no history any more, is nothing to see to.
	sent := map[uuid.UUID]bool{}
	for _, item := range items {
		sent[item.Record] = true
	}
	var nothing []string
	for _, one := range aside {
		if !sent[one.Record] {
			nothing = append(nothing, one.Record.String())
		}
	}
	return h.db.Within(ctx, func(tx *postgres.Tx) error {
		_, err := tx.ExecContext(ctx, `DELETE FROM feed_aside WHERE feed = $1 AND collection = $2 AND record = ANY ($3::uuid[]) AND again`, h.name, name, nothing)
		return err
	})
}

// asTheyAre gives what was set aside as the feed's worker sees it now, with its revision where a change goes: what is not seen has left.
func (h *holding) asTheyAre(ctx context.Context, t pulls.Tables, c *definition.Collection, aside []Aside) ([]wire.Record, error) {
	ids := make([]uuid.UUID, len(aside))
	for n, one := range aside {
		ids[n] = one.Record
	}
	entries, err := t.Entries(ctx, c.Definition.Collection, ids)
	if err != nil {
		return nil, err
	}
	var records []wire.Record
	for _, one := range aside {
		e, there := entries[one.Record]
		seen := false
		if there {
			if seen, err = e.SeenBy(h.seer, c); err != nil {
				return nil, err
			}
		}
		switch {
		case !seen:
			records = append(records, wire.Record{ID: one.Record, Revision: e.Revision, Withdrawn: true})
		case h.feed.EachChange():
			records = append(records, wire.Record{ID: one.Record, Revision: one.Revision})
		default:
			records = append(records, e.Record())
		}
	}
	return records, nil
}
