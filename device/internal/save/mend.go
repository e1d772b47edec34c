package save

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
	"homing/device/internal/file"
	"homing/device/internal/hold"
)

// mendable says whether an edit of a record mends what is unsent of it: central has refused something, or what was
// refused is about to go again as a group. All must be by the same author, since changes of others are sealed for
// them, and none may be on its way, since central may have taken it already. So may another store have sent what was mended
// under an earlier source, where this one is a copy.
func mendable(ctx context.Context, tx *sqlx.Tx, row hold.Stored, author string) (bool, error) {
	var is bool
	err := tx.GetContext(
		ctx,
		&is,
		`SELECT coalesce(sum(state = ? OR mended AND origin = '') > 0 AND sum(author <> ?) = 0 AND sum(state = 'sent') = 0, 0)
		FROM outbox WHERE collection = ? AND record = ?`,
		file.IsRefused,
		author,
		row.Collection,
		row.ID,
	)
	return is, err
}

// ownAndHere says whether all unsent changes of a record are by one author, and none is on its way.
func ownAndHere(ctx context.Context, tx *sqlx.Tx, row hold.Stored, author string) (bool, error) {
	var is bool
	err := tx.GetContext(ctx, &is, `SELECT coalesce(sum(author <> ?) = 0 AND sum(state = 'sent') = 0, 0)
		FROM outbox WHERE collection = ? AND record = ?`, author, row.Collection, row.ID)
	return is, err
}

// mend takes the place of what central has refused of a record, and of what hangs on it: one change that leads from
// what central has to what the worker wants now. Central's word on a number is final, so the mended change has a new
// one.
func (s *Desk) mend(
	ctx context.Context,
	tx *sqlx.Tx,
	row hold.Stored,
	after record.Fields,
) (hold.Stored, mended, error) {
	under, err := row.Under()
	if err != nil {
		return row, mended{}, err
	}
	c, err := s.Definition(ctx, tx, row.Collection)
	if err != nil {
		return row, mended{}, err
	}
	// What of it has given way to others already is no part of the mended change, so it is told here or nowhere.
	var changes []file.Entry
	if err := tx.SelectContext(ctx, &changes, `SELECT * FROM outbox WHERE collection = ? AND record = ? ORDER BY number`,
		row.Collection, row.ID); err != nil {
		return row, mended{}, err
	}
	if _, row.Decisions, err = s.Overlay(ctx, tx, c, under, changes); err != nil {
		return row, mended{}, err
	}
	if leaves, err := leavesOut(c, changes); err != nil {
		return row, mended{}, err
	} else if leaves {
		// Of a group, the first has made it: nobody else reads what this transaction has done so far.
		if _, err := s.BackupBefore(ctx, "values-left-out"); err != nil && !errors.Is(err, file.ErrExists) {
			return row, mended{}, err
		}
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE collection = ? AND record = ?`, row.Collection,
		row.ID); err != nil {
		return row, mended{}, err
	}
	row.Pending = 0
	m := mended{kind: change.Edit, base: row.Revision, delta: c.CurrentNames(record.Diff(under.Fields, after))}
	if row.Revision == 0 || under.Removed {
		m.kind = change.Add
	}
	if row.Withdrawn > row.Revision {
		// What central has is not here, and may be more than what this store has sent of it.
		for _, q := range changes {
			m.base = min(m.base, q.Base)
		}
	}
	if row.Lost != "" {
		if m, err = sentBefore(c, changes, m, after); err != nil {
			return row, m, err
		}
	}
	if row.Revision > 0 {
		row.Fields, row.Removed = string(under.Fields.JSON()), under.Removed
		row.UnderFields.Valid = false
	}
	// A field that the definition no longer has would be refused again. What was sent of it stands in the log, and in the
	// backup.
	maps.DeleteFunc(m.delta, func(name string, _ record.Edit) bool {
		_, known := c.Field(name)
		return !known
	})
	return row, m, nil
}

// leavesOut says whether changes give values to fields that the definition does not have.
func leavesOut(c *definition.Collection, changes []file.Entry) (bool, error) {
	for _, q := range changes {
		ch, err := q.Change()
		if err != nil {
			return false, err
		}
		for name, edit := range c.CurrentNames(ch.Fields) {
			if _, known := c.Field(name); !known && edit.To != nil {
				return true, nil
			}
		}
	}
	return false, nil
}

// mended is a change that takes the place of others.
type mended struct {
	kind  change.Kind
	base  int64
	delta record.Delta
}

// sentBefore is a mended change of a record that a restored central has lost: what it had of the record is no longer
// what the change starts from, so all that the changes said is said again.
func sentBefore(c *definition.Collection, changes []file.Entry, m mended, after record.Fields) (mended, error) {
	said := mended{kind: change.Edit, base: m.base, delta: record.Delta{}}
	for _, q := range changes {
		ch, err := q.Change()
		if err != nil {
			return said, err
		}
		if ch.Kind == change.Add {
			said.kind = change.Add
		}
		said.base = min(said.base, ch.Base)
		for name, edit := range c.CurrentNames(ch.Fields) {
			if before, twice := said.delta[name]; twice {
				edit.From = before.From
			}
			said.delta[name] = edit
		}
	}
	for name, edit := range m.delta {
		if _, twice := said.delta[name]; !twice {
			said.delta[name] = edit
		}
	}
	for name, edit := range said.delta {
		edit.To = after[name]
		said.delta[name] = edit
	}
	return said, nil
}

// SendAgain is [device.Store.SendAgain].
func (s *Desk) SendAgain(ctx context.Context, number int64) (hold.Record, error) {
	var saved hold.Record
	err := s.Within(ctx, func(tx *sqlx.Tx) error {
		row, known, err := s.refused(ctx, tx, number)
		if err != nil {
			return err
		}
		c, err := s.Definition(ctx, tx, row.Collection)
		if err != nil {
			return err
		}
		row, err = s.mendTogether(ctx, tx, row, known, func(row hold.Stored) (hold.Stored,
			error) {
			return s.again(ctx, tx, row, known)
		})
		if err != nil {
			return err
		}
		saved, err = row.Record(c)
		return err
	})
	return saved, err
}

// again puts what is unsent of a record into the outbox anew, as one change; a removal follows what was edited before it,
// which counts where somebody else's edit keeps the record.
func (s *Desk) again(ctx context.Context, tx *sqlx.Tx, row hold.Stored, known map[string]string) (hold.Stored, error) {
	var after record.Fields
	if err := json.Unmarshal([]byte(row.Fields), &after); err != nil {
		return row, fmt.Errorf("%w: record %s", file.ErrDamaged, row.ID)
	}
	removal := row.Removed
	row, m, err := s.mend(ctx, tx, row, after)
	if err != nil {
		return row, err
	}
	if !removal {
		return s.putMended(ctx, tx, row, m, known)
	}
	if m.kind == change.Edit && len(m.delta) > 0 {
		if row, err = s.putMended(ctx, tx, row, m, known); err != nil {
			return row, err
		}
	}
	m.kind, m.delta = change.Remove, record.Delta{}
	return s.putMended(ctx, tx, row, m, known)
}

// putMended puts a change into the outbox that leads from what central has to what the worker wants.
func (s *Desk) putMended(ctx context.Context, tx *sqlx.Tx, row hold.Stored, m mended,
	known map[string]string) (hold.Stored, error) {
	under, err := row.Under()
	if err != nil {
		return row, err
	}
	return s.Put(ctx, tx, row, m.base, m.kind, m.delta, under.Fields.Apply(m.delta), known)
}

// mendTogether mends a record, and sends again what was refused as one group with it: the new changes are a group as
// well.
func (s *Desk) mendTogether(ctx context.Context, tx *sqlx.Tx, row hold.Stored, known map[string]string,
	mend func(hold.Stored) (hold.Stored, error)) (hold.Stored, error) {
	others, err := groupedWith(ctx, tx, row)
	if err != nil {
		return row, err
	}
	last, err := LastNumber(ctx, tx)
	if err != nil {
		return row, err
	}
	if row, err = mend(row); err != nil || len(others) == 0 {
		return row, err
	}
	for _, other := range others {
		free, err := ownAndHere(ctx, tx, other, known[file.FactWorker])
		if err != nil {
			return row, err
		}
		if !free {
			return row, fmt.Errorf(
				"%w: it was refused together with a change of %s in %s, of which other changes are by "+
					"somebody else, or on their way to central; exchange first",
				file.ErrNotAllowed,
				other.ID,
				other.Collection,
			)
		}
		if other, err = hold.LoadStored(ctx, tx, other.Collection, other.ID); err != nil { // it may have been mended with it
			return row, err
		}
		if _, err := s.again(ctx, tx, other, known); err != nil {
			return row, err
		}
	}
	if err := s.bind(ctx, tx, last); err != nil {
		return row, err
	}
	_, err = tx.ExecContext(ctx, `UPDATE outbox SET mended = 1 WHERE number > ?`, last)
	return row, err
}

// groupedWith are the other records whose changes stand or fall with those of a record.
func groupedWith(ctx context.Context, tx *sqlx.Tx, row hold.Stored) ([]hold.Stored, error) {
	var keys []struct{ Collection, Record string }
	if err := tx.SelectContext(ctx, &keys, `SELECT collection, record FROM outbox WHERE grp IN (SELECT grp FROM outbox
		WHERE collection = ?1 AND record = ?2 AND grp <> '')
		AND NOT (collection = ?1 AND record = ?2) GROUP BY collection, record
			ORDER BY min(number)`, row.Collection, row.ID); err != nil {
		return nil, err
	}
	all := make([]hold.Stored, len(keys))
	for n, at := range keys {
		var err error
		if all[n], err = hold.LoadStored(ctx, tx, at.Collection, at.Record); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// refused finds the record of a refused change of whoever is signed in.
func (s *Desk) refused(ctx context.Context, tx *sqlx.Tx, number int64) (hold.Stored, map[string]string, error) {
	known, err := file.Facts(ctx, tx)
	if err != nil {
		return hold.Stored{}, nil, err
	}
	var queue []file.Entry
	if err := tx.SelectContext(ctx, &queue, `SELECT * FROM outbox WHERE number = ? AND author = ?`, number,
		known[file.FactWorker]); err != nil {
		return hold.Stored{}, nil, err
	}
	switch {
	case len(queue) == 0:
		return hold.Stored{}, nil, fmt.Errorf("%w: %d", file.ErrNoChange, number)
	case !queue[0].State.Answered():
		return hold.Stored{}, nil, fmt.Errorf("%w: change %d has not been refused; it goes with the next exchange",
			file.ErrNotAllowed, number)
	}
	var apart int
	if err := tx.GetContext(ctx, &apart, `SELECT count(*) FROM outbox
			WHERE collection = ? AND record = ? AND (author <> ? OR state = 'sent')`,
		queue[0].Collection, queue[0].Record, known[file.FactWorker]); err != nil {
		return hold.Stored{}, nil, err
	}
	if apart > 0 {
		return hold.Stored{}, nil, fmt.Errorf(
			"%w: other changes of this record are by somebody else, or on their way to "+
				"central; exchange first",
			file.ErrNotAllowed,
		)
	}
	row, err := hold.LoadStored(ctx, tx, queue[0].Collection, queue[0].Record)
	return row, known, err
}

// Discard is [device.Store.Discard].
func (s *Desk) Discard(ctx context.Context, number int64, backup string) error {
	return s.Within(ctx, func(tx *sqlx.Tx) (err error) {
		row, known, err := s.refused(ctx, tx, number)
		if err != nil {
			return err
		}
		gone, err := groupedWith(ctx, tx, row)
		if err != nil {
			return err
		}
		for _, other := range gone {
			if free, err := ownAndHere(ctx, tx, other, known[file.FactWorker]); err != nil || !free {
				return errors.Join(
					err,
					fmt.Errorf("%w: it stands or falls with a change of %s in %s, which cannot be given "+
						"up now", file.ErrNotAllowed, other.ID, other.Collection),
				)
			}
		}
		gone = append(gone, row)
		for _, one := range gone {
			if err := s.discardRecord(ctx, tx, one, backup); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *Desk) discardRecord(ctx context.Context, tx *sqlx.Tx, row hold.Stored, backup string) error {
	var queue []file.Entry
	if err := tx.SelectContext(ctx, &queue, `SELECT * FROM outbox WHERE collection = ? AND record = ? ORDER BY number`,
		row.Collection, row.ID); err != nil {
		return err
	}
	if err := s.writeDiscarded(backup, s.Now(), queue); err != nil {
		return err
	}
	under, err := row.Under()
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE collection = ? AND record = ?`, row.Collection,
		row.ID); err != nil {
		return err
	}
	return s.Rebuild(ctx, tx, row, under)
}

// writeDiscarded has reached the disk when it returns.
func (s *Desk) writeDiscarded(path string, now time.Time, queue []file.Entry) error {
	lines := make([][]byte, len(queue))
	for n, q := range queue {
		ch, err := q.Change()
		if err != nil {
			return err
		}
		var reasons json.RawMessage
		if q.Reasons != nil {
			reasons = json.RawMessage(*q.Reasons)
		}
		lines[n], err = json.Marshal(struct {
			change.Change
			DiscardedAt time.Time       `json:"discarded_at"`
			Reasons     json.RawMessage `json:"reasons,omitempty"`
		}{ch, now.UTC(), reasons})
		if err != nil {
			return err
		}
	}
	return s.AppendLines(path, lines)
}
