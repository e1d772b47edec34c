// Package past is what was at central: the history of records, records as they were, and what exchanges have carried.
package past

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/finding"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/change"
	"homing/core/record"
	"homing/wire"
)

// Past knows what was. It is safe for use by several goroutines.
type Past struct {
	db      *postgres.DB
	finding *finding.Finding
}

// New makes a Past on a database. What somebody may see of a record as it is now, they may see of its past.
func New(db *postgres.DB, finding *finding.Finding) *Past { return &Past{db, finding} }

// Moment says which past state of a record is meant: that of a revision, or that of a point in time by when central
// received it.
type Moment struct {
	Revision int64
	AsOf     time.Time
}

// storedVersion is a row of the history, or as much of it as a query asks for.
type storedVersion struct {
	Collection    string        `db:"collection"`
	Record        uuid.UUID     `db:"record"`
	Revision      int64         `db:"revision"`
	Position      int64         `db:"position"`
	Kind          change.Kind   `db:"kind"`
	Removed       bool          `db:"removed"` // whether the record is, after the version
	Base          int64         `db:"base"`
	Delta         []byte        `db:"delta"`
	Sent          []byte        `db:"sent"` // null when it is the delta
	Decisions     []byte        `db:"decisions"`
	Incarnation   uuid.UUID     `db:"incarnation"`
	Number        int64         `db:"number"`
	Batch         uuid.NullUUID `db:"batch"`
	Author        string        `db:"author"`
	Device        string        `db:"device"` // empty for what was written at central
	Stamp         string        `db:"stamp"`
	EditedDevice  time.Time     `db:"edited_device"`
	EditedAt      time.Time     `db:"edited_at"`
	UncertaintyMS int64         `db:"uncertainty_ms"`
	ReceivedAt    time.Time     `db:"received_at"`
	Folds         []byte        `db:"folds"` // from the answers
}

// RecordAt gives a record as it was, if somebody may see it as it is now.
func (c *Past) RecordAt(ctx context.Context, asker fleet.Person, collection string, id uuid.UUID,
	when Moment) (wire.Record, error) {
	if _, err := c.finding.Record(ctx, asker, collection, id); err != nil {
		return wire.Record{}, err
	}
	var versions []storedVersion
	err := c.db.SelectContext(ctx, &versions, `SELECT revision, position, removed, delta, author, device, edited_at, received_at FROM versions
		WHERE collection = $1 AND record = $2 AND ($3::bigint = 0 OR revision <= $3::bigint)
			AND ($4::timestamptz IS NULL OR received_at <= $4) ORDER BY revision`,
		collection, id, when.Revision, nullTime(when.AsOf))
	if err != nil {
		return wire.Record{}, err
	}
	if len(versions) == 0 || when.Revision > versions[len(versions)-1].Revision {
		return wire.Record{}, fault.Fail(fault.NotFound, "the record %s of %s has no such state: it was not there yet, "+
			"or the revision is still to come", id, collection)
	}
	fields, r := record.Fields{}, wire.Record{ID: id}
	for _, v := range versions {
		var delta record.Delta
		if err := json.Unmarshal(v.Delta, &delta); err != nil {
			return wire.Record{}, fmt.Errorf("version %d of %s: %w", v.Revision, id, err)
		}
		fields = fields.Apply(delta)
		r.Removed = v.Removed
		r.Revision, r.Position, r.Author, r.Device, r.EditedAt, r.ReceivedAt = v.Revision, v.Position, v.Author, v.Device,
			v.EditedAt.UTC(), v.ReceivedAt.UTC()
	}
	r.Fields = fields.JSON()
	return r, nil
}

func nullTime(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}
