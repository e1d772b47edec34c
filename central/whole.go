package central

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/merge"
)

// Whole gives all records and all of their history, in the order of their positions: what a [Memory] tells of itself, so that a rehearsal can hold
// either against what was saved. It reads everything into memory.
func (c *Central) Whole(ctx context.Context) (records []Held, history []Accepted, err error) {
	var rows []struct {
		Collection  string    `db:"collection"`
		ID          uuid.UUID `db:"id"`
		Revision    int64     `db:"revision"`
		Removed     bool      `db:"removed"`
		Fields      []byte    `db:"fields"`
		Marks       []byte    `db:"marks"`
		Territories keys      `db:"territories"`
	}
	if err := c.db.SelectContext(ctx, &rows, `SELECT collection, id, revision, removed, fields, marks, array_to_json(territories) AS territories FROM records ORDER BY collection, id`); err != nil {
		return nil, nil, err
	}
	for _, r := range rows {
		one := Held{Collection: r.Collection, ID: r.ID, Territories: r.Territories, State: merge.State{Revision: r.Revision, Removed: r.Removed}}
		if err := readAll(fmt.Sprintf("record %s", r.ID), into{r.Fields, &one.Fields}, into{r.Marks, &one.Marks}); err != nil {
			return nil, nil, err
		}
		records = append(records, one)
	}
	var versions []storedVersion
	// The changes that one stands for are those that were answered with its answer.
	err = c.db.SelectContext(ctx, &versions, `
		WITH folded AS (SELECT incarnation, (answer->>'number')::bigint AS by, json_agg(number ORDER BY number) AS folds FROM answers WHERE digest = '' GROUP BY 1, 2)
		SELECT collection, record, revision, position, kind, base, delta, sent, decisions, v.incarnation, number, author, device, stamp, uncertainty_ms, folds
		FROM versions v LEFT JOIN folded f ON f.incarnation = v.incarnation AND f.by = v.number ORDER BY collection, position`)
	if err != nil {
		return nil, nil, err
	}
	for _, v := range versions {
		one := Accepted{Collection: v.Collection, Record: v.Record, Revision: v.Revision, Position: v.Position, Source: change.Source{Incarnation: v.Incarnation, Number: v.Number}, Device: v.Device,
			Change: change.Change{Number: v.Number, Collection: v.Collection, Record: v.Record, Kind: v.Kind, Base: v.Base, Author: v.Author}, Off: time.Duration(v.UncertaintyMS) * time.Millisecond}
		if one.Stamp, err = clock.Parse(v.Stamp); err != nil {
			return nil, nil, fmt.Errorf("revision %d of %s: %w", v.Revision, v.Record, err)
		}
		if v.Sent == nil {
			v.Sent = v.Delta
		}
		if err := readAll(fmt.Sprintf("revision %d of %s", v.Revision, v.Record), into{v.Delta, &one.Delta}, into{v.Sent, &one.Change.Fields}, into{v.Decisions, &one.Decisions}, into{v.Folds, &one.Change.Folds}); err != nil {
			return nil, nil, err
		}
		history = append(history, one)
	}
	return records, history, nil
}

// into is a stored text and where its value goes.
type into struct {
	text  []byte
	value any
}

func readAll(what string, all ...into) error {
	for _, one := range all {
		if one.text == nil {
			continue
		}
		if err := json.Unmarshal(one.text, one.value); err != nil {
			return fmt.Errorf("stored %s: %w", what, err)
		}
	}
	return nil
}
