package central

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/merge"
	"homing/core/record"
	"homing/wire"
)

// Moment says which past state of a record is meant: that of a revision, or that of a point in time by when central received it.
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
func (c *Central) RecordAt(ctx context.Context, asker Person, collection string, id uuid.UUID, when Moment) (wire.Record, error) {
	if _, err := c.Record(ctx, asker, collection, id); err != nil {
		return wire.Record{}, err
	}
	var versions []storedVersion
	err := c.db.SelectContext(ctx, &versions, `SELECT revision, position, kind, delta, decisions, author, device, edited_at, received_at FROM versions
		WHERE collection = $1 AND record = $2 AND ($3 = 0 OR revision <= $3) AND ($4::timestamptz IS NULL OR received_at <= $4) ORDER BY revision`,
		collection, id, when.Revision, nullTime(when.AsOf))
	if err != nil {
		return wire.Record{}, err
	}
	if len(versions) == 0 || when.Revision > versions[len(versions)-1].Revision {
		return wire.Record{}, fail(NotFound, "the record %s of %s has no such state: it was not there yet, or the revision is still to come", id, collection)
	}
	fields, r := record.Fields{}, wire.Record{ID: id}
	for _, v := range versions {
		var delta record.Delta
		if err := json.Unmarshal(v.Delta, &delta); err != nil {
			return wire.Record{}, fmt.Errorf("version %d of %s: %w", v.Revision, id, err)
		}
		var decisions []change.Decision
		if v.Decisions != nil {
			if err := json.Unmarshal(v.Decisions, &decisions); err != nil {
				return wire.Record{}, fmt.Errorf("version %d of %s: %w", v.Revision, id, err)
			}
		}
		fields = fields.Apply(delta)
		r.Removed = removedBy(v.Kind, decisions, r.Removed)
		r.Revision, r.Position, r.Author, r.Device, r.EditedAt, r.ReceivedAt = v.Revision, v.Position, v.Author, v.Device, v.EditedAt.UTC(), v.ReceivedAt.UTC()
	}
	r.Fields = fields.JSON()
	return r, nil
}

// removedBy says whether a record was removed after a version, given whether it was before.
func removedBy(kind change.Kind, decisions []change.Decision, before bool) bool {
	for _, d := range decisions {
		if d.Field != "" {
			continue
		}
		switch {
		case d.Rule == string(merge.EditStays):
			return false
		case d.Rule == string(merge.RemovalStays):
			return true
		}
	}
	return kind == change.Remove
}

func nullTime(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// BringBack makes a record what it was at a revision, by a new change of whoever asks. What is worked out or given by central stays as it is,
// and so do fields that the definition no longer has.
func (c *Central) BringBack(ctx context.Context, who Person, collection string, id uuid.UUID, revision int64) (wire.Answer, error) {
	compiled, err := c.Collection(ctx, collection)
	if err != nil {
		return wire.Answer{}, err
	}
	now, err := c.Record(ctx, who, collection, id)
	if err != nil {
		return wire.Answer{}, err
	}
	then, err := c.RecordAt(ctx, who, collection, id, Moment{Revision: revision})
	if err != nil {
		return wire.Answer{}, err
	}
	if then.Removed && !now.Removed {
		return c.Direct(ctx, who, Write{Collection: collection, Record: id, Kind: change.Remove, Base: now.Revision})
	}
	var present, past record.Fields
	if err := json.Unmarshal(now.Fields, &present); err != nil {
		return wire.Answer{}, err
	}
	if err := json.Unmarshal(then.Fields, &past); err != nil {
		return wire.Answer{}, err
	}
	delta := record.Delta{}
	for name, edit := range compiled.CurrentNames(record.Diff(present, past)) {
		field, known := compiled.Field(name)
		if may, _ := field.Settable(); known && may && !field.Local {
			delta[name] = record.Edit{To: edit.To}
		}
	}
	kind := change.Edit
	if now.Removed {
		kind = change.Add
	} else if len(delta) == 0 {
		return wire.Answer{}, fail(Clash, "the record is as it was at revision %d already", revision)
	}
	return c.Direct(ctx, who, Write{Collection: collection, Record: id, Kind: kind, Base: now.Revision, Fields: delta})
}
