package finding

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/definition"
	"homing/core/fingerprint"
	"homing/core/query"
	"homing/core/rights"
	"homing/core/sight"
	"homing/wire"
)

// found is a record as people ask for it.
type found struct {
	ID          uuid.UUID  `db:"id"`
	Revision    int64      `db:"revision"`
	Position    int64      `db:"position"`
	Removed     bool       `db:"removed"`
	Fields      []byte     `db:"fields"`
	Computed    []byte     `db:"computed"`
	Marks       []byte     `db:"marks"`
	Author      string     `db:"author"`
	Device      string     `db:"device"`
	EditedAt    time.Time  `db:"edited_at"`
	ReceivedAt  time.Time  `db:"received_at"`
	Territories fleet.Keys `db:"territories"`
}

// record is the record with what a device needs for its merges.
func (f found) record() wire.Record {
	r := wire.Record{ID: f.ID, Revision: f.Revision, Position: f.Position, Removed: f.Removed, Author: f.Author,
		Device:   f.Device,
		EditedAt: f.EditedAt.UTC(), ReceivedAt: f.ReceivedAt.UTC()}
	if !f.Removed {
		r.Fields, r.Marks = f.Fields, f.Marks
	}
	return r
}

const recordColumns = `id, revision, position, removed, fields, computed, marks, author, device, edited_at, received_at,
	array_to_json(territories) AS territories`

// Listing is a page of records.
type Listing struct {
	Records []wire.Record `json:"records"`
	Total   int64         `json:"total" doc:"Records that fit the query on all pages, as far as they are counted; with after, those that follow."`
	More    bool          `json:"more,omitempty" doc:"There are more than total."`
	Limit   int           `json:"limit"`
	Offset  int           `json:"offset"`
}

// List gives a page of the records of a collection that are not removed and that somebody may see.
func (c *Finding) List(ctx context.Context, asker fleet.Person, collection string, ask query.Ask) (Listing, error) {
	return c.list(ctx, sight.Askers{asker}, collection, ask, found.shown)
}

// LookUp is List for a device that asks for records which it does not keep: with the marks that its merges need.
func (c *Finding) LookUp(ctx context.Context, from fleet.Device, collection string, ask query.Ask) (Listing, error) {
	compiled, err := c.db.Collection(ctx, collection)
	if err != nil {
		return Listing{}, err
	}
	if !compiled.Sync.Direction.Pulls() {
		return Listing{}, fault.Fail(fault.NotAllowed, "records of %s only go up to central", collection)
	}
	return c.list(ctx, from.People, collection, ask, found.record)
}

func (c *Finding) list(ctx context.Context, askers sight.Askers, collection string, ask query.Ask,
	show func(found) wire.Record) (Listing, error) {
	compiled, err := c.db.Collection(ctx, collection)
	if err != nil {
		return Listing{}, err
	}
	q, err := query.Parse(compiled.Definition, ask)
	if err != nil {
		return Listing{}, fault.Fail(fault.Invalid, "%v", err)
	}
	condition, args, order := q.SQL(compiled.Definition, query.PostgreSQL)
	listing := Listing{Records: []wire.Record{}, Limit: q.Limit, Offset: q.Offset}
	// The collection stands in the statement as it does in the partial indexes: names hold only small letters, digits and _.
	table, where := fmt.Sprintf(`FROM records WHERE collection = '%s' AND NOT removed`, collection), sqlx.Rebind(sqlx.DOLLAR, condition)
	if postgres.Keyed(compiled.Definition, q) {
		where += " AND " + postgres.PartOf(collection)
	}
	if territories := askers.Territories(); !slices.Contains(territories, rights.All) {
		args = append(args, territories)
		where += " AND " + postgres.Covered(fmt.Sprintf("$%d", len(args)))
	}
	from := table + " AND " + where
	if !askers.ReadsAll(compiled) {
		return c.listByRule(ctx, compiled, askers, q, `SELECT `+recordColumns+` `+from+` ORDER BY `+order, args, show)
	}
	err = c.db.Snapshot(ctx, func(tx *postgres.Tx) error {
		if q.Search != "" {
			if err := preferOrder(ctx, tx, table, where, args); err != nil {
				return err
			}
		}
		most := int64(q.Counted())
		if err := tx.QueryRowxContext(ctx, fmt.Sprintf(`SELECT count(*) FROM (SELECT 1 %s LIMIT %d) c`, from, most+1),
			args...).Scan(&listing.Total); err != nil {
			return err
		}
		if listing.More = listing.Total > most; listing.More {
			listing.Total = most
			if err := tx.GoInOrder(ctx); err != nil { // a page of so many is full soon
				return err
			}
		}
		var rows []found
		statement := fmt.Sprintf(`SELECT %s %s ORDER BY %s LIMIT %d OFFSET %d`, recordColumns, from, order, q.Limit, q.Offset)
		if key, is := q.Backwards(compiled.Definition, query.PostgreSQL); is {
			// PostgreSQL's indexes have those without a value at the other end, so they are read for themselves.
			statement = fmt.Sprintf(`(SELECT %[1]s %[2]s AND %[3]s IS NOT NULL ORDER BY %[3]s DESC, id DESC LIMIT %[4]d)
				UNION ALL (SELECT %[1]s %[2]s AND %[3]s IS NULL ORDER BY id DESC LIMIT %[4]d) LIMIT %[5]d OFFSET %[6]d`,
				recordColumns, from, key, q.Limit+q.Offset, q.Limit, q.Offset)
		}
		if err := tx.SelectContext(ctx, &rows, statement, args...); err != nil {
			return err
		}
		listing.Records = listing.Records[:0]
		for _, row := range rows {
			listing.Records = append(listing.Records, show(row))
		}
		return nil
	})
	return listing, err
}

// preferOrder lets a search go through the records in their order where many of the first have what it looks for.
// PostgreSQL, which takes it for rare, would gather all of them by their trigrams before it gives any.
func preferOrder(ctx context.Context, tx *postgres.Tx, table, where string, args []any) error {
	const first, many = 1000, 100
	var found int
	err := tx.GetContext(ctx, &found, fmt.Sprintf(`SELECT count(*) FROM (SELECT * %s ORDER BY id LIMIT %d) records WHERE %s`,
		table, first, where), args...)
	if err != nil || found < many {
		return err
	}
	return tx.GoInOrder(ctx)
}

// shown is the record as people see it: the merge needs the marks, they do not.
func (p found) shown() wire.Record {
	r := p.record()
	r.Marks = nil
	r.Fields = withComputed(r.Fields, p.Computed)
	return r
}

// withComputed adds the computed values to the fields, both JSON objects. No name is in both.
func withComputed(fields, computed []byte) []byte {
	switch {
	case len(computed) <= len("{}") || len(fields) == 0:
		return fields
	case len(fields) <= len("{}"):
		return computed
	}
	both := append(bytes.Clone(fields[:len(fields)-1]), ',')
	return append(both, computed[1:]...)
}

// listByRule lists a collection whose definition says by an expression who may read a record. The database cannot
// evaluate it, so every record that fits is looked at.
func (c *Finding) listByRule(ctx context.Context, collection *definition.Collection, askers sight.Askers,
	q query.Query, statement string, args []any, show func(found) wire.Record) (Listing, error) {
	listing := Listing{Records: []wire.Record{}, Limit: q.Limit, Offset: q.Offset}
	rows, err := c.db.QueryxContext(ctx, statement, args...)
	if err != nil {
		return listing, err
	}
	defer rows.Close()
	for rows.Next() {
		var p found
		if err := rows.StructScan(&p); err != nil {
			return listing, err
		}
		seen, err := sees(askers, collection, p.Territories, p.Fields)
		if err != nil {
			return listing, err
		}
		if !seen {
			continue
		}
		if listing.Total >= int64(q.Offset) && len(listing.Records) < q.Limit {
			listing.Records = append(listing.Records, show(p))
		}
		listing.Total++
	}
	return listing, rows.Err()
}

// Record gives one record, removed or not, if somebody may see it.
func (c *Finding) Record(ctx context.Context, asker fleet.Person, collection string,
	id uuid.UUID) (wire.Record, error) {
	compiled, err := c.db.Collection(ctx, collection)
	if err != nil {
		return wire.Record{}, err
	}
	var row found
	missing := fault.Fail(fault.NotFound, "there is no record %s in %s", id, collection)
	err = sqlx.GetContext(ctx, c.db, &row, `SELECT `+recordColumns+` FROM records WHERE collection = $1 AND id = $2`,
		collection, id)
	if errors.Is(err, sql.ErrNoRows) {
		return wire.Record{}, missing
	}
	if err != nil {
		return wire.Record{}, err
	}
	if seen, err := sees(sight.Alone(asker), compiled, row.Territories, row.Fields); err != nil || !seen {
		return wire.Record{}, errors.Join(missing, err)
	}
	r := row.shown()
	r.Fields = withComputed(row.Fields, row.Computed) // what a removed record last said is of interest here
	return r, nil
}

// Fingerprint is that of all records of a collection that are not removed and that somebody may see.
func (c *Finding) Fingerprint(ctx context.Context, asker fleet.Person, collection string) (fingerprint.Set, error) {
	var set fingerprint.Set
	compiled, err := c.db.Collection(ctx, collection)
	if err != nil {
		return set, err
	}
	rows, err := c.db.QueryxContext(ctx,
		`SELECT id, fields FROM records WHERE collection = $1 AND NOT removed AND `+postgres.Covered("$2"), collection,
		asker.Territories)
	if err != nil {
		return set, err
	}
	defer rows.Close()
	for rows.Next() {
		var id uuid.UUID
		var fields []byte
		if err := rows.Scan(&id, &fields); err != nil {
			return set, err
		}
		if seen, err := sees(sight.Alone(asker), compiled, []string{rights.All}, fields); err != nil || !seen {
			if err != nil {
				return set, err
			}
			continue
		}
		set.Add(id, fields)
	}
	return set, rows.Err()
}
