package hold

import (
	"context"
	"encoding/json"
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
	var changes []file.Entry
	if err := tx.SelectContext(ctx, &changes, `SELECT * FROM outbox WHERE collection = ? AND record = ? ORDER BY number`,
		row.Collection, row.ID); err != nil {
		return err
	}
	if row.Lost != "" && (len(changes) > 0 || row.Withdrawn == 0) {
		// What central has is not known, and the view says already what the changes say.
		_, err := tx.ExecContext(ctx, `UPDATE records SET pending = ?, withdrawn = ? WHERE collection = ? AND id = ?`,
			len(changes), row.Withdrawn, row.Collection, row.ID)
		return err
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
	row.UnderFields.Valid = len(changes) > 0 && under.Exists()
	row.UnderFields.String, row.UnderRemoved = "", false
	if row.UnderFields.Valid {
		row.UnderFields.String, row.UnderRemoved = string(under.Fields.JSON()), under.Removed
	}
	view, _, err := s.Overlay(ctx, tx, c, under, changes)
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
		stamp := offset.Turned(s.Turned(q, offset)).Correct(ch.Stamp, s.Now().Add(offset.By))
		next, decisions := Lay(
			c.Rules(),
			view,
			merge.Edit{Kind: ch.Kind, Base: ch.Base, Fields: c.CurrentNames(ch.Fields), Stamp: stamp,
				Source: change.Source{Incarnation: q.Source(incarnation), Number: ch.Number}},
		)
		view, met = next, append(met, decisions...)
	}
	return view, met, nil
}
