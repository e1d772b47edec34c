package device

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
)

// saveOnOlder saves what somebody wants of a record that they saw in an earlier state than it has here now. What they
// saw is where the change starts from; what others have done since meets it by the collection's rules, here as at
// central.
func (s *Store) saveOnOlder(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, row stored, w wish,
	known map[string]string) (stored, error) {
	under, err := row.under()
	if err != nil {
		return row, err
	}
	var before record.Fields
	if err := json.Unmarshal([]byte(row.Fields), &before); err != nil {
		return row, fmt.Errorf("%w: record %s", ErrDamaged, row.ID)
	}
	delta := deltaOf(w.saw.Fields, w.set, w.cleared)
	if w.kind == change.Edit && len(delta) == 0 {
		return row, s.writeStored(ctx, tx, row) // local values only
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
			return row, &InvalidError{row.Collection, wrong}
		}
		if err := s.linked(ctx, tx, c, delta); err != nil {
			return row, err
		}
	} else if err := s.removeChildren(ctx, tx, c, row.ID, known); err != nil {
		return row, err
	}
	if row, err = s.put(ctx, tx, row, w.saw.Revision, w.kind, delta, out.State.Fields, known); err != nil {
		return row, err
	}
	// The view is what the rules make of it, which a put on its own does not know.
	if err := s.rebuild(ctx, tx, row, under); err != nil {
		return row, err
	}
	row, err = loadStored(ctx, tx, row.Collection, row.ID)
	row.decisions = out.Decisions
	return row, err
}

// meeting is what becomes of an edit here, on top of what is unsent already.
func (s *Store) meeting(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, row stored, under merge.State,
	edit merge.Edit) (merge.Outcome, error) {
	var changes []queued
	if err := tx.SelectContext(ctx, &changes, `SELECT * FROM outbox WHERE collection = ? AND record = ? ORDER BY number`,
		row.Collection, row.ID); err != nil {
		return merge.Outcome{}, err
	}
	view, _, err := s.overlay(ctx, tx, c, under, changes)
	if err != nil {
		return merge.Outcome{}, err
	}
	offset, err := s.offset(ctx, tx)
	if err != nil {
		return merge.Outcome{}, err
	}
	if edit.Source.Incarnation, err = s.incarnation(ctx, tx); err != nil {
		return merge.Outcome{}, err
	}
	last, err := lastNumber(ctx, tx)
	if err != nil {
		return merge.Outcome{}, err
	}
	edit.Source.Number, edit.Stamp = last+1, clock.At(s.now().Add(offset.By))
	out, err := merge.Merge(c.Rules(), view, edit)
	var refused *merge.Refusal
	if errors.As(err, &refused) {
		return out, &InvalidError{row.Collection, []change.Reason{refused.Reason}}
	}
	return out, err
}
