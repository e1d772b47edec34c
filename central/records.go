package central

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/fingerprint"
	"homing/core/query"
	"homing/wire"
)

const recordColumns = `id, revision, position, removed, fields, marks, author, device, edited_at, received_at`

// Listing is a page of records.
type Listing struct {
	Records []wire.Record `json:"records"`
	Total   int64         `json:"total" doc:"Records that fit the query on all pages."`
	Limit   int           `json:"limit"`
	Offset  int           `json:"offset"`
}

// List gives a page of the records of a collection that are not removed.
func (c *Central) List(ctx context.Context, collection string, where []string, search, sort string, limit, offset int) (Listing, error) {
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
	from := c.db.Rebind(`FROM records WHERE collection = ? AND NOT removed AND ` + condition)
	args = append([]any{collection}, args...)
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
			r := row.record()
			r.Marks = nil // the merge needs them, people do not
			listing.Records = append(listing.Records, r)
		}
		return nil
	})
	return listing, err
}

// Record gives one record, removed or not.
func (c *Central) Record(ctx context.Context, collection string, id uuid.UUID) (wire.Record, error) {
	var row pulled
	err := sqlx.GetContext(ctx, c.db, &row, `SELECT `+recordColumns+` FROM records WHERE collection = $1 AND id = $2`, collection, id)
	if errors.Is(err, sql.ErrNoRows) {
		return wire.Record{}, fail(NotFound, "there is no record %s in %s", id, collection)
	}
	if err != nil {
		return wire.Record{}, err
	}
	r := row.record()
	r.Fields, r.Marks = row.Fields, nil // what a removed record last said is of interest here
	return r, nil
}

// History gives all versions of a record, the latest first.
func (c *Central) History(ctx context.Context, collection string, id uuid.UUID) ([]wire.HistoryEntry, error) {
	var rows []struct {
		Revision      int64         `db:"revision"`
		Position      int64         `db:"position"`
		Kind          change.Kind   `db:"kind"`
		Base          int64         `db:"base"`
		Delta         []byte        `db:"delta"`
		Sent          []byte        `db:"sent"`
		Decisions     []byte        `db:"decisions"`
		Incarnation   uuid.UUID     `db:"incarnation"`
		Number        int64         `db:"number"`
		Batch         uuid.NullUUID `db:"batch"`
		Author        string        `db:"author"`
		Device        string        `db:"device"`
		EditedDevice  time.Time     `db:"edited_device"`
		EditedAt      time.Time     `db:"edited_at"`
		UncertaintyMS int64         `db:"uncertainty_ms"`
		ReceivedAt    time.Time     `db:"received_at"`
	}
	err := c.db.SelectContext(ctx, &rows, `
		SELECT revision, position, kind, base, delta, sent, decisions, incarnation, number, batch, author, device, edited_device,
			edited_at, uncertainty_ms, received_at
		FROM versions WHERE collection = $1 AND record = $2 ORDER BY revision DESC`, collection, id)
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, fail(NotFound, "there is no record %s in %s", id, collection)
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

// Fingerprint is that of all records of a collection that are not removed.
func (c *Central) Fingerprint(ctx context.Context, collection string) (fingerprint.Set, error) {
	var set fingerprint.Set
	rows, err := c.db.QueryxContext(ctx, `SELECT id, fields FROM records WHERE collection = $1 AND NOT removed`, collection)
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
		set.Add(id, fields)
	}
	return set, rows.Err()
}
