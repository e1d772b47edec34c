package desk

import (
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
)

// Key names a record.
type Key struct {
	Collection string
	ID         uuid.UUID
}

// Row is a record as central keeps it.
type Row struct {
	merge.State
	Restored    int64         // revision at the last restore of the database
	Computed    record.Fields // values that are worked out: no part of what people set
	Territories []string      // keys that it falls into
	Left        []string      // keys that it fell into earlier and not now
	Stored      bool          // it was there before the batch
	Last        LastChange
	last        *Version // of this batch; nil while the batch has not altered it
}

// LastChange is what is known of the change that last altered a record.
type LastChange struct {
	Author     string
	Device     string // name; empty for what was written at central
	EditedAt   time.Time
	ReceivedAt time.Time
}

// Version is one accepted change on its way into the history.
type Version struct {
	Key
	Change    change.Change
	Revision  int64
	Position  int64 // given when it is written
	Removed   bool  // whether the record is, after the change
	Delta     record.Delta
	Decisions []change.Decision
	Stamp     clock.Stamp
	EditedAt  time.Time
	Off       time.Duration // how far stamp and time may be off
	Author    string
	// Before and After are the record's fields, for what follows the change; nil where there was none, or is none any more.
	// They are known only while the change is on its way into the history.
	Before, After record.Fields
}

// Accepted is a version out of the history.
type Accepted struct {
	Version
	Source change.Source
	Device string // name; empty for what was written at central

	ReceivedAt time.Time
}

// Side is the version as decisions name it.
func (a Accepted) Side() change.Side {
	return change.Side{Revision: a.Revision, Source: a.Source, Stamp: a.Stamp}
}

// Held is a record with its key.
type Held struct {
	Key
	Row
}

// record is the row as it travels to somebody who may see it.
func (r *Row) record(id uuid.UUID) Record {
	sent := Record{ID: id, Revision: r.Revision, Removed: r.Removed, EditedAt: r.Last.EditedAt,
		ReceivedAt: r.Last.ReceivedAt,
		Author:     r.Last.Author, Device: r.Last.Device}
	if !r.Removed {
		sent.Fields, sent.Marks = r.Fields.JSON(), marshal(r.Marks)
	}
	return sent
}

// Move notes the territories that the record falls into now, and those that it has left. A removed record stays where
// it was, so that whoever had it hears of the removal.
func (r *Row) Move(collection *definition.Collection, next merge.State) error {
	if next.Removed {
		return nil
	}
	now, err := collection.TerritoriesOf(next.Fields)
	if err != nil {
		return err
	}
	for _, key := range r.Territories {
		if !slices.Contains(r.Left, key) {
			r.Left = append(slices.Clone(r.Left), key)
		}
	}
	r.Left = slices.DeleteFunc(slices.Clone(r.Left), func(key string) bool { return slices.Contains(now, key) })
	r.Territories = now
	return nil
}

func byID(a, b Key) int { return slices.Compare(a.ID[:], b.ID[:]) }
