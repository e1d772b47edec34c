package finding

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/sight"
)

// Conflict is a field of a record that waits for a person.
type Conflict struct {
	Collection string          `json:"collection"`
	Record     uuid.UUID       `json:"record" format:"uuid"`
	Label      string          `json:"label" doc:"What the record is called."`
	Field      string          `json:"field"`
	Revision   int64           `json:"revision" doc:"The record's revision now; settling names it as its base."`
	OpenedAt   time.Time       `json:"opened_at"`
	Base       json.RawMessage `json:"base,omitempty" doc:"What the first disputing edit started from."`
	Values     []Contender     `json:"values" doc:"What central has first, then the others in the order in which they came."`
}

// Contender is one value of a conflict, with where it comes from.
type Contender struct {
	Value      json.RawMessage `json:"value,omitempty"`
	Revision   int64           `json:"revision"`
	Author     string          `json:"author"`
	Device     string          `json:"device,omitempty"`
	EditedAt   time.Time       `json:"edited_at" doc:"In central's time."`
	ReceivedAt time.Time       `json:"received_at"`
	UnsureMS   int64           `json:"uncertainty_ms,omitempty" doc:"How far edited_at may be off."`
}

// Disputed says which conflicts are asked for; the zero value stands for all.
type Disputed struct {
	Collection string
	Record     uuid.UUID
	Field      string
	Person     string    // who said one of the values
	Before     time.Time // opened before
	Limit      int       // at most so many, the oldest; 0 stands for all
}

// fits says whether a conflict is among those that are asked for.
func (d Disputed) fits(one Conflict) bool {
	return (d.Field == "" || one.Field == d.Field) && (d.Before.IsZero() || one.OpenedAt.Before(d.Before)) &&
		(d.Person == "" || slices.ContainsFunc(one.Values, func(v Contender) bool { return v.Author == d.Person }))
}

// CountConflicts is how many open conflicts somebody may see.
func (c *Finding) CountConflicts(ctx context.Context, asker fleet.Person) (count int, err error) {
	all, err := c.db.Definitions(ctx)
	if err != nil {
		return 0, err
	}
	for _, compiled := range all {
		if !sight.Alone(asker).ReadsAll(compiled) { // a rule decides, record by record
			conflicts, err := c.Conflicts(ctx, asker, Disputed{})
			return len(conflicts), err
		}
	}
	err = c.disputed(ctx, func(tx *postgres.Tx) error {
		return tx.GetContext(ctx, &count, `SELECT coalesce(sum((SELECT count(*) FROM json_object_keys(marks->'disputes'))), 0)
			FROM records WHERE (marks->'disputes') IS NOT NULL AND NOT removed AND `+postgres.Covered("$1"), asker.Territories)
	})
	return count, err
}

// disputed looks at the records that are in dispute, of which there are few.
func (c *Finding) disputed(ctx context.Context, look func(*postgres.Tx) error) error {
	return c.db.Snapshot(ctx, func(tx *postgres.Tx) error {
		if err := tx.GoByIndex(ctx); err != nil {
			return err
		}
		return look(tx)
	})
}

// Conflicts gives the open conflicts that somebody may see, the oldest first.
func (c *Finding) Conflicts(ctx context.Context, asker fleet.Person, which Disputed) ([]Conflict, error) {
	all, err := c.db.Definitions(ctx)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		Collection  string     `db:"collection"`
		ID          uuid.UUID  `db:"id"`
		Revision    int64      `db:"revision"`
		Fields      []byte     `db:"fields"`
		Computed    []byte     `db:"computed"`
		Marks       []byte     `db:"marks"`
		Territories fleet.Keys `db:"territories"`
	}
	if err := c.disputed(ctx, func(tx *postgres.Tx) error {
		return tx.SelectContext(ctx, &rows, `SELECT collection, id, revision, fields, computed, marks,
			array_to_json(territories) AS territories
			FROM records WHERE (marks->'disputes') IS NOT NULL AND NOT removed AND ($1 = '' OR collection = $1)
				AND ($2::uuid IS NULL OR id = $2)`,
			which.Collection, uuid.NullUUID{UUID: which.Record, Valid: which.Record != uuid.Nil})
	}); err != nil {
		return nil, err
	}
	conflicts, opened := []Conflict{}, []int64{}
	for _, r := range rows {
		compiled := all[r.Collection]
		seen, err := sees(sight.Alone(asker), compiled, r.Territories, r.Fields)
		if err != nil {
			return nil, err
		}
		if !seen {
			continue
		}
		var fields record.Fields
		var marks merge.Marks
		if err := errors.Join(json.Unmarshal(withComputed(r.Fields, r.Computed), &fields),
			json.Unmarshal(r.Marks, &marks)); err != nil {
			return nil, fmt.Errorf("stored record %s: %w", r.ID, err)
		}
		for _, name := range slices.Sorted(maps.Keys(marks.Disputes)) {
			open := marks.Disputes[name]
			one := Conflict{Collection: r.Collection, Record: r.ID, Label: compiled.LabelOf(fields), Field: name,
				Revision: r.Revision, Base: open.Base,
				Values: []Contender{{Value: centralValue(fields, name), Revision: marks.Standing(name).Revision}}}
			for _, other := range open.Others {
				one.Values = append(one.Values, Contender{Value: other.Value, Revision: other.Side.Revision})
			}
			conflicts, opened = append(conflicts, one), append(opened, open.Opened)
		}
	}
	if err := c.nameContenders(ctx, conflicts, opened); err != nil {
		return nil, err
	}
	conflicts = slices.DeleteFunc(conflicts, func(one Conflict) bool { return !which.fits(one) })
	slices.SortStableFunc(conflicts, func(a, b Conflict) int { return a.OpenedAt.Compare(b.OpenedAt) })
	if which.Limit > 0 && len(conflicts) > which.Limit {
		conflicts = conflicts[:which.Limit]
	}
	return conflicts, nil
}

// centralValue is what central has meanwhile of what is disputed.
func centralValue(fields record.Fields, name string) json.RawMessage {
	if name == merge.RecordRemoval {
		return json.RawMessage("false")
	}
	return fields.At(name)
}

// nameContenders finds in the history who made which value, and when each conflict was opened, given the revisions
// that opened them.
func (c *Finding) nameContenders(ctx context.Context, conflicts []Conflict, opened []int64) error {
	type at struct {
		collection string
		record     uuid.UUID
		revision   int64
	}
	var collections, records []string
	var revisions []int64
	want := func(one Conflict, revision int64) {
		collections, records, revisions = append(collections, one.Collection), append(records, one.Record.String()),
			append(revisions, revision)
	}
	for n, one := range conflicts {
		want(one, opened[n])
		for _, value := range one.Values {
			want(one, value.Revision)
		}
	}
	var versions []struct {
		Collection string    `db:"collection"`
		Record     uuid.UUID `db:"record"`
		Revision   int64     `db:"revision"`
		Author     string    `db:"author"`
		Device     string    `db:"device"`
		EditedAt   time.Time `db:"edited_at"`
		ReceivedAt time.Time `db:"received_at"`
		UnsureMS   int64     `db:"uncertainty_ms"`
	}
	if err := c.db.SelectContext(ctx, &versions, `SELECT v.collection, v.record, v.revision, v.author, v.device, v.edited_at, v.received_at,
			v.uncertainty_ms
		FROM unnest($1::text[], $2::uuid[], $3::bigint[]) AS w (collection, record, revision)
			CROSS JOIN LATERAL (SELECT * FROM versions v
				WHERE v.collection = w.collection AND v.record = w.record AND v.revision = w.revision) v`,
		collections, records, revisions); err != nil {
		return err
	}
	found := map[at]Contender{}
	for _, v := range versions {
		found[at{v.Collection, v.Record, v.Revision}] = Contender{Author: v.Author, Device: v.Device,
			EditedAt: v.EditedAt.UTC(), ReceivedAt: v.ReceivedAt.UTC(), UnsureMS: v.UnsureMS}
	}
	for n := range conflicts {
		one := &conflicts[n]
		one.OpenedAt = found[at{one.Collection, one.Record, opened[n]}].ReceivedAt
		for m, value := range one.Values {
			by := found[at{one.Collection, one.Record, value.Revision}]
			by.Value, by.Revision = value.Value, value.Revision
			one.Values[m] = by
		}
	}
	return nil
}
