package file

import (
	"encoding/json"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
)

// state is what has become of a change in the outbox so far. What central has accepted is no longer there.
type state string

const (
	IsNew     state = "new"     // it has never left, so nobody but this store knows of it
	IsSent    state = "sent"    // it has left at least once, and central may have it: it stays as it is until an answer comes
	IsRefused state = "refused" // central will not take it as it is
	IsWaiting state = "waiting" // it hangs on another; the next exchange sends it again
)

// Answered says whether central has given its word on the change.
func (s state) Answered() bool { return s == IsRefused || s == IsWaiting }

// queued is a row of the table outbox.
type Entry struct {
	Number     int64   `db:"number"`
	Collection string  `db:"collection"`
	Record     string  `db:"record"`
	Kind       string  `db:"kind"`
	Base       int64   `db:"base"`
	Fields     string  `db:"fields"`
	Stamp      string  `db:"stamp"`
	EditedAt   string  `db:"edited_at"`
	Author     string  `db:"author"`
	Origin     string  `db:"origin"`
	Generation string  `db:"generation"`
	Group      string  `db:"grp"`
	GroupOf    int     `db:"grp_of"`
	Mended     bool    `db:"mended"`
	Seen       string  `db:"seen"`
	Folds      string  `db:"folds"`
	Digests    string  `db:"digests"`
	Parts      string  `db:"parts"`
	Place      *int64  `db:"place"`
	Boot       string  `db:"boot"`
	Line       int64   `db:"line"`
	Unsure     int64   `db:"unsure"`
	State      state   `db:"state"`
	Batch      *string `db:"batch"`
	Reasons    *string `db:"reasons"`
	Kept       []byte  `db:"kept"`
	Sealed     []byte  `db:"sealed"`
	Told       []byte  `db:"told"`
}

// Blob is how bytes that may be missing are written: without it, none would become an empty value.
func Blob(value []byte) any {
	if value == nil {
		return nil
	}
	return value
}

// Aside says whether the change was put aside, so that only its author and central can read it.
func (q Entry) Aside() bool { return q.Kept != nil }

// Source is the incarnation that numbered the change: the store's, or an earlier one.
func (q Entry) Source(now uuid.UUID) uuid.UUID {
	if earlier, err := uuid.Parse(q.Origin); err == nil {
		return earlier
	}
	return now
}

// Change reads what is stored of a change.
func (q Entry) Change() (change.Change, error) {
	c := change.Change{Number: q.Number, Collection: q.Collection, Kind: change.Kind(q.Kind), Base: q.Base,
		EditedAt: ParseTime(q.EditedAt), Author: q.Author}
	var err error
	if c.Record, err = uuid.Parse(q.Record); err != nil {
		return c, fmt.Errorf("%w: change %d", ErrDamaged, q.Number)
	}
	if c.Stamp, err = clock.Parse(q.Stamp); err != nil {
		return c, fmt.Errorf("%w: change %d", ErrDamaged, q.Number)
	}
	if err := errors.Join(json.Unmarshal([]byte(q.Fields), &c.Fields), json.Unmarshal([]byte(q.Seen), &c.Seen),
		json.Unmarshal([]byte(q.Folds), &c.Folds),
		json.Unmarshal([]byte(q.Digests), &c.FoldDigests)); err != nil {
		return c, fmt.Errorf("%w: change %d", ErrDamaged, q.Number)
	}
	if q.Group != "" {
		c.Group = &change.Group{Of: q.GroupOf}
		if c.Group.ID, err = uuid.Parse(q.Group); err != nil {
			return c, fmt.Errorf("%w: change %d", ErrDamaged, q.Number)
		}
	}
	return c, nil
}

// AnsweredBefore stands for the run of the machine in which a change was stamped, where central has once said how it
// dates the change: the line is then that date, in milliseconds.
const AnsweredBefore = "answered before"
