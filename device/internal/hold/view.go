package hold

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/device/internal/file"
)

// Lay lays one unsent change over a state, by the same merge as central's. What central would refuse is shown all the
// same: it is what the worker wrote, and it is marked.
func Lay(rules merge.Rules, state merge.State, edit merge.Edit) (merge.State, []change.Decision) {
	out, err := merge.Merge(rules, state, edit)
	if err != nil && state.Removed && edit.Kind == change.Edit {
		// Its author has removed the record since. Sent again it brings the record back, with what others have said of it.
		state.Removed = false
		out, err = merge.Merge(rules, state, edit)
	}
	if err == nil && out.Verdict == change.Held {
		// Until central has answered, the worker sees what they wrote.
		shown := record.Delta{}
		for _, decision := range out.Decisions {
			if name, _, _ := strings.Cut(decision.Field, "/"); decision.Rule == string(merge.Ask) && name != "" {
				shown[name] = edit.Fields[name]
			}
		}
		out.State.Fields = out.State.Fields.Apply(shown)
		out.State.Removed = edit.Kind == change.Remove
	}
	if err == nil {
		return out.State, out.Decisions
	}
	state.Revision++
	state.Removed = edit.Kind == change.Remove
	state.Fields = state.Fields.Apply(edit.Fields)
	return state, nil
}

// Rebuild makes the view of a record anew: what central last said, and the unsent changes laid over it. A record of
// which nothing is left, or that is withdrawn, is dropped.
func (s *Shelf) Rebuild(ctx context.Context, tx *sqlx.Tx, row Stored, under merge.State) error {
	changes, err := unsentOf(ctx, tx, row)
	if err != nil {
		return err
	}
	if row.Lost != "" && (len(changes) > 0 || row.Withdrawn == 0) {
		// What central has is not known, and the view says already what the changes say.
		_, err = tx.ExecContext(ctx, `UPDATE records SET pending = ?, withdrawn = ? WHERE collection = ? AND id = ?`,
			len(changes), row.Withdrawn, row.Collection, row.ID)
		return err
	}
	return s.layOver(ctx, tx, row, under, changes)
}

// LayOver is [Shelf.Rebuild] for who sees other unsent changes than before: also where what central has is not known.
func (s *Shelf) LayOver(ctx context.Context, tx *sqlx.Tx, row Stored, under merge.State) error {
	changes, err := unsentOf(ctx, tx, row)
	if err != nil {
		return err
	}
	return s.layOver(ctx, tx, row, under, changes)
}

func unsentOf(ctx context.Context, tx *sqlx.Tx, row Stored) (changes []file.Entry, err error) {
	err = tx.SelectContext(ctx, &changes, `SELECT * FROM outbox WHERE collection = ? AND record = ? ORDER BY number`,
		row.Collection, row.ID)
	return changes, err
}

func (s *Shelf) layOver(ctx context.Context, tx *sqlx.Tx, row Stored, under merge.State, changes []file.Entry) error {
	unheard := changes
	if row.Lost != "" {
		// What a restored central has is not known. What it had is, and what is offered to it again is part of that.
		unheard = slices.DeleteFunc(slices.Clone(changes), func(q file.Entry) bool { return q.Boot == file.AnsweredBefore })
	}
	if row.Lost != "" && len(changes) > 0 && len(unheard) == 0 && !under.Exists() {
		row.Pending = len(changes)
		return s.WriteStored(ctx, tx, row) // it may be gone from here
	}
	c, err := s.Definition(ctx, tx, row.Collection)
	if err != nil {
		return err
	}
	if len(changes) == 0 && (!under.Exists() || under.Removed || row.Withdrawn > 0 || c.Sync.Keep == definition.Never) {
		if _, err := tx.ExecContext(ctx, `DELETE FROM records WHERE collection = ? AND id = ?`, row.Collection, row.ID); err != nil {
			return err
		}
		return s.Note(tx, row.Collection, row.ID, true)
	}
	row.Revision, row.Pending = under.Revision, len(changes)
	if under.Exists() {
		marks, err := json.Marshal(under.Marks)
		if err != nil {
			return err
		}
		row.Marks = string(marks)
	}
	if len(changes) == 0 {
		if err := row.showBy(); err != nil {
			return err
		}
	}
	row.UnderFields.Valid = len(changes) > 0 && under.Exists()
	row.UnderFields.String, row.UnderRemoved = "", false
	if row.UnderFields.Valid {
		row.UnderFields.String, row.UnderRemoved = string(under.Fields.JSON()), under.Removed
	}
	view, _, err := s.Overlay(ctx, tx, c, under, unheard)
	if err != nil {
		return err
	}
	if text := string(view.Fields.JSON()); text != row.Fields || view.Removed != row.Removed {
		row.Removed, row.Fields = view.Removed, text
		if err := s.Note(tx, row.Collection, row.ID, row.Removed); err != nil {
			return err
		}
	}
	if c.Sync.Keep == definition.OnDemand && row.ConfirmedAt == nil && under.Exists() {
		now := file.TimeText(s.Now())
		row.ConfirmedAt, row.UsedAt = &now, &now // it was made here, and counts as looked up
	}
	if row.Local == "" {
		row.Local = "{}"
	}
	return s.WriteStored(ctx, tx, row)
}

// Overlay lays unsent changes over what central last said, in their order, and says how contested values were decided.
func (s *Shelf) Overlay(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, under merge.State,
	changes []file.Entry) (view merge.State, met []change.Decision, err error) {
	offset, err := s.Offset(ctx, tx)
	if err != nil {
		return under, nil, err
	}
	incarnation, err := s.Incarnation(ctx, tx)
	if err != nil {
		return under, nil, err
	}
	view = under
	for _, q := range changes {
		ch, err := q.Change()
		if err != nil {
			return under, nil, err
		}
		source := change.Source{Incarnation: q.Source(incarnation), Number: ch.Number}
		if q.Boot == file.AnsweredBefore && under.Marks.Has(source) {
			continue // a restored central has it, and is only asked again: a counter would show it twice
		}
		stamp := offset.Turned(s.Turned(q, offset)).Correct(ch.Stamp, s.Now().Add(offset.By))
		next, decisions := Lay(
			c.Rules(),
			view,
			merge.Edit{Kind: ch.Kind, Base: ch.Base, Fields: c.CurrentNames(ch.Fields), Stamp: stamp,
				Source: source, Seen: ch.Seen},
		)
		view, met = next, append(met, decisions...)
	}
	return view, met, nil
}
