package device

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
)

// queued is a row of the table outbox.
type queued struct {
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
	Folds      string  `db:"folds"`
	Place      *int64  `db:"place"`
	Boot       string  `db:"boot"`
	Line       int64   `db:"line"`
	Batch      *string `db:"batch"`
	Verdict    *string `db:"verdict"`
	Reasons    *string `db:"reasons"`
}

// source is the incarnation that numbered the change: the store's, or an earlier one.
func (q queued) source(now uuid.UUID) uuid.UUID {
	if earlier, err := uuid.Parse(q.Origin); err == nil {
		return earlier
	}
	return now
}

func (q queued) change() (change.Change, error) {
	c := change.Change{Number: q.Number, Collection: q.Collection, Kind: change.Kind(q.Kind), Base: q.Base, EditedAt: parseTime(q.EditedAt), Author: q.Author}
	var err error
	if c.Record, err = uuid.Parse(q.Record); err != nil {
		return c, fmt.Errorf("%w: change %d", ErrDamaged, q.Number)
	}
	if c.Stamp, err = clock.Parse(q.Stamp); err != nil {
		return c, fmt.Errorf("%w: change %d", ErrDamaged, q.Number)
	}
	if err := errors.Join(json.Unmarshal([]byte(q.Fields), &c.Fields), json.Unmarshal([]byte(q.Folds), &c.Folds)); err != nil {
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

// lay lays one unsent change over a state, by the same merge as central's. What central would refuse is shown all the same:
// it is what the worker wrote, and it is marked.
func lay(rules merge.Rules, state merge.State, edit merge.Edit) merge.State {
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
		return out.State
	}
	state.Revision++
	state.Removed = edit.Kind == change.Remove
	state.Fields = state.Fields.Apply(edit.Fields)
	return state
}

// rebuild makes the view of a record anew: what central last said, and the unsent changes laid over it. A record of which
// nothing is left, or that is withdrawn, is dropped.
func (s *Store) rebuild(ctx context.Context, tx *sqlx.Tx, row stored, under merge.State) error {
	var changes []queued
	if err := tx.SelectContext(ctx, &changes, `SELECT * FROM outbox WHERE collection = ? AND record = ? ORDER BY number`, row.Collection, row.ID); err != nil {
		return err
	}
	if row.Lost != "" && (len(changes) > 0 || row.Withdrawn == 0) {
		// What central has is not known, and the view says already what the changes say.
		_, err := tx.ExecContext(ctx, `UPDATE records SET pending = ?, withdrawn = ? WHERE collection = ? AND id = ?`, len(changes), row.Withdrawn, row.Collection, row.ID)
		return err
	}
	c, err := s.collection(ctx, tx, row.Collection)
	if err != nil {
		return err
	}
	if len(changes) == 0 && (!under.Exists() || under.Removed || row.Withdrawn > 0 || c.Sync.Keep == definition.Never) {
		_, err := tx.ExecContext(ctx, `DELETE FROM records WHERE collection = ? AND id = ?`, row.Collection, row.ID)
		return err
	}
	offset, err := s.offset(ctx, tx)
	if err != nil {
		return err
	}
	incarnation, err := s.incarnation(ctx, tx)
	if err != nil {
		return err
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
	view := under
	for _, q := range changes {
		ch, err := q.change()
		if err != nil {
			return err
		}
		view = lay(c.Rules(), view, merge.Edit{Kind: ch.Kind, Base: ch.Base, Fields: ch.Fields, Stamp: offset.Turned(s.turned(q, offset)).Correct(ch.Stamp, s.now().Add(offset.By)),
			Source: change.Source{Incarnation: q.source(incarnation), Number: ch.Number}})
	}
	row.Removed, row.Fields = view.Removed, string(view.Fields.JSON())
	if c.Sync.Keep == definition.OnDemand && row.ConfirmedAt == nil && under.Exists() {
		now := timeText(s.now())
		row.ConfirmedAt, row.UsedAt = &now, &now // it was made here, and counts as looked up
	}
	if row.Local == "" {
		row.Local = "{}"
	}
	return s.writeStored(ctx, tx, row)
}
