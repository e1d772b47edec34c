package past

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/change"
	"homing/core/clock"
	"homing/core/desk"
)

// Whole gives all records and all of their history, in the order of their positions: as the tables in memory tell of
// themselves, so that a rehearsal can hold either against what was saved. It reads everything into memory.
func (c *Past) Whole(ctx context.Context) (records []desk.Held, history []desk.Accepted, err error) {
	var rows []struct {
		Collection  string     `db:"collection"`
		ID          uuid.UUID  `db:"id"`
		Revision    int64      `db:"revision"`
		Removed     bool       `db:"removed"`
		Fields      []byte     `db:"fields"`
		Marks       []byte     `db:"marks"`
		Territories fleet.Keys `db:"territories"`
	}
	if err := c.db.SelectContext(ctx, &rows, `SELECT collection, id, revision, removed, fields, marks,
			array_to_json(territories) AS territories FROM records ORDER BY collection, id`); err != nil {
		return nil, nil, err
	}
	for _, r := range rows {
		one := desk.Held{Key: desk.Key{Collection: r.Collection, ID: r.ID}}
		one.Territories, one.Revision, one.Removed = r.Territories, r.Revision, r.Removed
		if err := postgres.ReadAll(fmt.Sprintf("record %s", r.ID), postgres.Into{Text: r.Fields, Value: &one.Fields},
			postgres.Into{Text: r.Marks, Value: &one.Marks}); err != nil {
			return nil, nil, err
		}
		records = append(records, one)
	}
	var versions []storedVersion
	// The changes that one stands for are those that were answered with its answer.
	err = c.db.SelectContext(ctx, &versions, `
		WITH folded AS (SELECT incarnation, (answer->>'number')::bigint AS by, json_agg(number
			ORDER BY number) AS folds FROM answers WHERE (answer->>'number')::bigint <> number GROUP BY 1, 2)
		SELECT collection, record, revision, position, kind, base, removed, delta, sent, decisions, v.incarnation, number,
			author, device, stamp, uncertainty_ms, received_at, folds
		FROM versions v LEFT JOIN folded f ON f.incarnation = v.incarnation AND f.by = v.number
			ORDER BY collection, position`)
	if err != nil {
		return nil, nil, err
	}
	for _, v := range versions {
		one := desk.Accepted{Source: change.Source{Incarnation: v.Incarnation, Number: v.Number}, Device: v.Device}
		one.ReceivedAt = v.ReceivedAt
		one.Off = time.Duration(v.UncertaintyMS) * time.Millisecond
		one.Key = desk.Key{Collection: v.Collection, ID: v.Record}
		one.Revision, one.Position, one.Removed, one.Author = v.Revision, v.Position, v.Removed, v.Author
		one.Change = change.Change{Number: v.Number, Collection: v.Collection, Record: v.Record, Kind: v.Kind, Base: v.Base,
			Author: v.Author}
		if one.Stamp, err = clock.Parse(v.Stamp); err != nil {
			return nil, nil, fmt.Errorf("revision %d of %s: %w", v.Revision, v.Record, err)
		}
		if v.Sent == nil {
			v.Sent = v.Delta
		}
		if err := postgres.ReadAll(fmt.Sprintf("revision %d of %s", v.Revision, v.Record),
			postgres.Into{Text: v.Delta, Value: &one.Delta}, postgres.Into{Text: v.Sent, Value: &one.Change.Fields},
			postgres.Into{Text: v.Decisions, Value: &one.Decisions},
			postgres.Into{Text: v.Folds, Value: &one.Change.Folds}); err != nil {
			return nil, nil, err
		}
		history = append(history, one)
	}
	return records, history, nil
}
