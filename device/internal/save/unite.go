package save

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
	"homing/device/internal/file"
	"homing/device/internal/hold"
)

// twins are a record that central has refused because another has its key, and that other.
type twins struct {
	c       *definition.Collection
	refused hold.Stored
	first   hold.Record
	known   map[string]string // the facts
}

func (s *Desk) twins(ctx context.Context, tx *sqlx.Tx, number int64) (t twins, err error) {
	if t.refused, t.known, err = s.refused(ctx, tx, number); err != nil {
		return t, err
	}
	if t.c, err = s.Definition(ctx, tx, t.refused.Collection); err != nil {
		return t, err
	}
	if t.refused.Revision > 0 {
		return t, fmt.Errorf("%w: central has the record of change %d; only one that it has refused to add becomes part of another",
			file.ErrNotAllowed, number)
	}
	var fields record.Fields
	if err := json.Unmarshal([]byte(t.refused.Fields), &fields); err != nil {
		return t, fmt.Errorf("%w: record %s", file.ErrDamaged, t.refused.ID)
	}
	text := t.c.OneText(fields)
	if text == "" {
		return t, fmt.Errorf("%w: change %d was not refused for its key", file.ErrNotAllowed, number)
	}
	first, err := s.HolderOf(ctx, tx, t.c, text, t.refused.ID)
	if err != nil {
		return t, err
	}
	if first == nil {
		return t, fmt.Errorf("%w: this device holds no other record with the key %s; take another key, or exchange first", file.ErrNoRecord, text)
	}
	t.first = *first
	return t, nil
}

// Twins is [device.Store.Twins].
func (s *Desk) Twins(ctx context.Context, number int64) (refused, first hold.Record, err error) {
	err = s.Within(ctx, func(tx *sqlx.Tx) error {
		t, err := s.twins(ctx, tx, number)
		if err != nil {
			return err
		}
		first = t.first
		refused, err = t.refused.Record(t.c)
		return err
	})
	return refused, first, err
}

// Unite is [device.Store.Unite].
func (s *Desk) Unite(ctx context.Context, number int64, take []string, backup string) (hold.Record, error) {
	var united hold.Record
	err := s.Within(ctx, func(tx *sqlx.Tx) error {
		t, err := s.twins(ctx, tx, number)
		if err != nil {
			return err
		}
		if err := s.maySave(ctx, tx, t.c, t.known); err != nil {
			return err
		}
		var row hold.Stored
		if _, err := s.mendTogether(ctx, tx, t.refused, t.known, func(hold.Stored) (_ hold.Stored, err error) {
			row, err = s.unite(ctx, tx, t, take, backup)
			return row, err
		}); err != nil {
			return err
		}
		united, err = row.Record(t.c)
		return err
	})
	return united, err
}

func (s *Desk) unite(ctx context.Context, tx *sqlx.Tx, t twins, take []string, backup string) (hold.Stored, error) {
	refused, err := t.refused.Record(t.c)
	if err != nil {
		return hold.Stored{}, err
	}
	set := record.Fields{}
	for name, value := range refused.Fields {
		field, is := t.c.Field(name)
		if settable, _ := field.Settable(); is && settable && (t.first.Fields[name] == nil || slices.Contains(take, name)) {
			set[name] = value
		}
	}
	for _, name := range take {
		if set[name] == nil {
			return hold.Stored{}, &file.InvalidError{Collection: t.refused.Collection, Reasons: []change.Reason{{Field: name,
				Code: change.CodeUnknownField, Message: "the refused record has no value of that field that could be taken"}}}
		}
	}
	if err := s.discardRecord(ctx, tx, t.refused, backup); err != nil {
		return hold.Stored{}, err
	}
	row, err := s.saveIn(ctx, tx, t.c, t.first.ID, wish{kind: change.Edit, set: set}, t.known)
	if err != nil {
		return row, err
	}
	return row, s.referAnew(ctx, tx, t)
}

// referAnew makes what refers to the refused record refer to the other. None of it can be at central, or central has it
// without what it refers to.
func (s *Desk) referAnew(ctx context.Context, tx *sqlx.Tx, t twins) error {
	all, err := s.All(ctx, tx)
	if err != nil {
		return err
	}
	to, err := json.Marshal(t.first.ID)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		c := all[name]
		for _, field := range c.Fields {
			if field.Reference != t.refused.Collection {
				continue
			}
			var ids []string
			if err := tx.SelectContext(ctx, &ids, fmt.Sprintf(`SELECT id FROM records WHERE collection = ? AND fields->>'$.%s' = ?
				AND NOT removed ORDER BY id`, field.Name), name, t.refused.ID); err != nil {
				return err
			}
			for _, id := range ids {
				if err := s.set(ctx, tx, c, id, record.Fields{field.Name: to}, t.known); err != nil {
					return fmt.Errorf("make %s of %s refer to %s: %w", id, c.Title, t.first.Label, err)
				}
			}
		}
	}
	return nil
}

// set sets fields of a record in what waits of it, so that no earlier change goes out with what they were.
func (s *Desk) set(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, id string, set record.Fields,
	known map[string]string) error {
	row, err := hold.LoadStored(ctx, tx, c.Definition.Collection, id)
	if err != nil {
		return err
	}
	if row.Pending == 0 {
		one, err := uuid.Parse(id)
		if err != nil {
			return fmt.Errorf("%w: record %s", file.ErrDamaged, id)
		}
		_, err = s.saveIn(ctx, tx, c, one, wish{kind: change.Edit, set: set}, known)
		return err
	}
	free, err := ownAndHere(ctx, tx, row, known[file.FactWorker])
	if err != nil {
		return err
	}
	if !free {
		return fmt.Errorf("%w: other changes of it are by somebody else, or on their way to central; exchange first", file.ErrNotAllowed)
	}
	var after record.Fields
	if err := json.Unmarshal([]byte(row.Fields), &after); err != nil {
		return fmt.Errorf("%w: record %s", file.ErrDamaged, id)
	}
	maps.Copy(after, set)
	row, m, err := s.mend(ctx, tx, row, after)
	if err != nil {
		return err
	}
	_, err = s.putMended(ctx, tx, row, m, known)
	return err
}
