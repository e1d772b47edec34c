package save

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/device/internal/file"
	"homing/device/internal/hold"
)

// saveOnOlder saves what somebody wants of a record that they saw in an earlier state than it has here now. What they
// saw is where the change starts from; what others have done since meets it by the collection's rules, here as at
// central.
func (s *Desk) saveOnOlder(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, row hold.Stored, w wish,
	known map[string]string) (hold.Stored, error) {
	under, err := row.Under()
	if err != nil {
		return row, err
	}
	var before record.Fields
	if err := json.Unmarshal([]byte(row.Fields), &before); err != nil {
		return row, fmt.Errorf("%w: record %s", file.ErrDamaged, row.ID)
	}
	delta := deltaOf(w.saw.Fields, w.set, w.cleared)
	if w.kind == change.Edit && len(delta) == 0 {
		return row, s.WriteStored(ctx, tx, row) // local values only
	}
	if closed := c.Closed(w.kind, w.saw.Fields, record.Fields(w.saw.Fields).Apply(delta), false); closed != nil {
		return row, &file.InvalidError{Collection: row.Collection, Reasons: closed}
	}
	out, err := s.meeting(ctx, tx, c, row, under, merge.Edit{Kind: w.kind, Base: w.saw.Revision, Fields: delta})
	if err != nil {
		return row, err
	}
	if err := allowed(c, known, w.kind, before, out.State.Fields); err != nil {
		return row, err
	}
	if !out.State.Removed {
		if wrong := c.NewlyWrong(before, out.State.Fields); len(wrong) > 0 {
			return row, &file.InvalidError{Collection: row.Collection, Reasons: wrong}
		}
		if err := s.Linked(ctx, tx, c, delta); err != nil {
			return row, err
		}
	} else if err := s.removeChildren(ctx, tx, c, row.ID, known); err != nil {
		return row, err
	}
	if row, err = s.Put(ctx, tx, row, w.saw.Revision, w.kind, delta, out.State.Fields, known); err != nil {
		return row, err
	}
	// The view is what the rules make of it, which a put on its own does not know.
	if err := s.Rebuild(ctx, tx, row, under); err != nil {
		return row, err
	}
	row, err = hold.LoadStored(ctx, tx, row.Collection, row.ID)
	row.Decisions = out.Decisions
	return row, err
}

// meeting is what becomes of an edit here, on top of what is unsent already.
func (s *Desk) meeting(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, row hold.Stored, under merge.State,
	edit merge.Edit) (merge.Outcome, error) {
	var changes []file.Entry
	if err := tx.SelectContext(ctx, &changes, `SELECT * FROM outbox WHERE collection = ? AND record = ? ORDER BY number`,
		row.Collection, row.ID); err != nil {
		return merge.Outcome{}, err
	}
	view, _, err := s.Overlay(ctx, tx, c, under, changes)
	if err != nil {
		return merge.Outcome{}, err
	}
	offset, err := s.Offset(ctx, tx)
	if err != nil {
		return merge.Outcome{}, err
	}
	if edit.Source.Incarnation, err = s.Incarnation(ctx, tx); err != nil {
		return merge.Outcome{}, err
	}
	last, err := LastNumber(ctx, tx)
	if err != nil {
		return merge.Outcome{}, err
	}
	for _, q := range changes {
		if source, err := uuid.Parse(q.Origin); err == nil {
			edit.Seen = append(edit.Seen, change.Source{Incarnation: source, Number: q.Number})
		}
	}
	edit.Source.Number, edit.Stamp = last+1, clock.At(s.Now().Add(offset.By))
	out, err := merge.Merge(c.Rules(), view, edit)
	var refused *merge.Refusal
	if errors.As(err, &refused) {
		return out, &file.InvalidError{Collection: row.Collection, Reasons: []change.Reason{refused.Reason}}
	}
	return out, err
}
