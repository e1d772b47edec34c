package central

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/fingerprint"
	"homing/core/query"
	"homing/core/rights"
	"homing/wire"
)

const recordColumns = `id, revision, position, removed, fields, computed, marks, author, device, edited_at, received_at`

// Listing is a page of records.
type Listing struct {
	Records []wire.Record `json:"records"`
	Total   int64         `json:"total" doc:"Records that fit the query on all pages."`
	Limit   int           `json:"limit"`
	Offset  int           `json:"offset"`
}

// List gives a page of the records of a collection that are not removed and that somebody may see.
func (c *Central) List(ctx context.Context, asker Person, collection string, where []string, search, sort string, limit, offset int) (Listing, error) {
	return c.list(ctx, Askers{asker}, collection, where, search, sort, limit, offset, pulled.shown)
}

// LookUp is List for a device that asks for records which it does not keep: with the marks that its merges need.
func (c *Central) LookUp(ctx context.Context, from Device, collection string, where []string, search, sort string, limit, offset int) (Listing, error) {
	compiled, err := c.Collection(ctx, collection)
	if err != nil {
		return Listing{}, err
	}
	if !compiled.Sync.Direction.Pulls() {
		return Listing{}, fail(NotAllowed, "records of %s only go up to central", collection)
	}
	return c.list(ctx, from.People, collection, where, search, sort, limit, offset, pulled.record)
}

// Refresh gives those of the records that a device has looked up which are now other than it has them. What its workers may no longer
// see, or what was never there, comes as a withdrawal.
func (c *Central) Refresh(ctx context.Context, from Device, collection string, held []wire.HeldRecord) ([]wire.Record, error) {
	compiled, err := c.Collection(ctx, collection)
	if err != nil {
		return nil, err
	}
	ids := make([]uuid.UUID, len(held))
	for n, h := range held {
		ids[n] = h.ID
	}
	var rows []taggedRecord
	if err := c.db.SelectContext(ctx, &rows, `SELECT `+recordColumns+`, array_to_json(territories) AS territories FROM records WHERE collection = $1 AND id = ANY($2::uuid[])`,
		collection, texts(ids)); err != nil {
		return nil, err
	}
	now := map[uuid.UUID]taggedRecord{}
	for _, row := range rows {
		now[row.ID] = row
	}
	changed := []wire.Record{}
	for _, h := range held {
		row, there := now[h.ID]
		seen, err := from.People.seeStored(compiled, row.Territories, row.Fields)
		switch {
		case there && err != nil:
			return nil, err
		case !there || !seen: // with a revision only where there is a record: after a restore of central, a device must know what central has lost
			changed = append(changed, wire.Record{ID: h.ID, Revision: row.Revision, Withdrawn: true})
		case row.Revision != h.Revision:
			changed = append(changed, row.record())
		}
	}
	return changed, nil
}

func (c *Central) list(ctx context.Context, askers Askers, collection string, where []string, search, sort string, limit, offset int, show func(pulled) wire.Record) (Listing, error) {
	compiled, err := c.Collection(ctx, collection)
	if err != nil {
		return Listing{}, err
	}
	q, err := query.Parse(compiled.Definition, where, search, sort, limit, offset)
	if err != nil {
		return Listing{}, fail(Invalid, "%v", err)
	}
	condition, args, order := q.SQL(compiled.Definition, query.PostgreSQL)
	listing := Listing{Records: []wire.Record{}, Limit: q.Limit, Offset: q.Offset}
	from := sqlx.Rebind(sqlx.DOLLAR, `FROM records WHERE collection = ? AND NOT removed AND `+condition)
	args = append([]any{collection}, args...)
	args = append(args, askers.Territories())
	from += " AND " + covered(fmt.Sprintf("$%d", len(args)))
	if !askers.readsAll(compiled) {
		return c.listByRule(ctx, compiled, askers, q, `SELECT `+recordColumns+`, array_to_json(territories) AS territories `+from+` ORDER BY `+order, args, show)
	}
	err = c.within(ctx, snapshot, func(tx *sqlx.Tx) error {
		if err := tx.QueryRowxContext(ctx, `SELECT count(*) `+from, args...).Scan(&listing.Total); err != nil {
			return err
		}
		var rows []pulled
		page := fmt.Sprintf(` ORDER BY %s LIMIT %d OFFSET %d`, order, q.Limit, q.Offset)
		if err := tx.SelectContext(ctx, &rows, `SELECT `+recordColumns+` `+from+page, args...); err != nil {
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

// shown is the record as people see it: the merge needs the marks, they do not.
func (p pulled) shown() wire.Record {
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

// listByRule lists a collection whose definition says by an expression who may read a record. The database cannot evaluate it, so
// every record that fits is looked at.
func (c *Central) listByRule(ctx context.Context, collection *definition.Collection, askers Askers, q query.Query, statement string, args []any, show func(pulled) wire.Record) (Listing, error) {
	listing := Listing{Records: []wire.Record{}, Limit: q.Limit, Offset: q.Offset}
	rows, err := c.db.QueryxContext(ctx, statement, args...)
	if err != nil {
		return listing, err
	}
	defer rows.Close()
	for rows.Next() {
		var p taggedRecord
		if err := rows.StructScan(&p); err != nil {
			return listing, err
		}
		seen, err := askers.seeStored(collection, p.Territories, p.Fields)
		if err != nil {
			return listing, err
		}
		if !seen {
			continue
		}
		if listing.Total >= int64(q.Offset) && len(listing.Records) < q.Limit {
			listing.Records = append(listing.Records, show(p.pulled))
		}
		listing.Total++
	}
	return listing, rows.Err()
}

// Record gives one record, removed or not, if somebody may see it.
func (c *Central) Record(ctx context.Context, asker Person, collection string, id uuid.UUID) (wire.Record, error) {
	compiled, err := c.Collection(ctx, collection)
	if err != nil {
		return wire.Record{}, err
	}
	var row taggedRecord
	missing := fail(NotFound, "there is no record %s in %s", id, collection)
	err = sqlx.GetContext(ctx, c.db, &row, `SELECT `+recordColumns+`, array_to_json(territories) AS territories FROM records WHERE collection = $1 AND id = $2`, collection, id)
	if errors.Is(err, sql.ErrNoRows) {
		return wire.Record{}, missing
	}
	if err != nil {
		return wire.Record{}, err
	}
	if seen, err := alone(asker).seeStored(compiled, row.Territories, row.Fields); err != nil || !seen {
		return wire.Record{}, errors.Join(missing, err)
	}
	r := row.shown()
	r.Fields = withComputed(row.Fields, row.Computed) // what a removed record last said is of interest here
	return r, nil
}

// History gives all versions of a record, the latest first, if somebody may see the record.
func (c *Central) History(ctx context.Context, asker Person, collection string, id uuid.UUID) ([]wire.HistoryEntry, error) {
	if _, err := c.Record(ctx, asker, collection, id); err != nil {
		return nil, err
	}
	var rows []storedVersion
	err := c.db.SelectContext(ctx, &rows, `
		SELECT revision, position, kind, base, delta, sent, decisions, incarnation, number, batch, author, device, edited_device,
			edited_at, uncertainty_ms, received_at
		FROM versions WHERE collection = $1 AND record = $2 ORDER BY revision DESC`, collection, id)
	if err != nil {
		return nil, err
	}
	history := make([]wire.HistoryEntry, len(rows))
	for n, row := range rows {
		h := wire.HistoryEntry{Revision: row.Revision, Position: row.Position, Kind: row.Kind, Base: row.Base, Fields: row.Delta,
			Sent: row.Sent, Author: row.Author, Device: row.Device, Source: change.Source{Incarnation: row.Incarnation, Number: row.Number},
			EditedDevice: row.EditedDevice.UTC(), EditedAt: row.EditedAt.UTC(), UncertaintyMS: row.UncertaintyMS, ReceivedAt: row.ReceivedAt.UTC()}
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

// Fingerprint is that of all records of a collection that are not removed and that somebody may see.
func (c *Central) Fingerprint(ctx context.Context, asker Person, collection string) (fingerprint.Set, error) {
	var set fingerprint.Set
	compiled, err := c.Collection(ctx, collection)
	if err != nil {
		return set, err
	}
	rows, err := c.db.QueryxContext(ctx, `SELECT id, fields FROM records WHERE collection = $1 AND NOT removed AND `+covered("$2"), collection, asker.Territories)
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
		if seen, err := alone(asker).seeStored(compiled, []string{rights.All}, fields); err != nil || !seen {
			if err != nil {
				return set, err
			}
			continue
		}
		set.Add(id, fields)
	}
	return set, rows.Err()
}
