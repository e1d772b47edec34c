package save

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/device/internal/file"
	"homing/device/internal/hold"
)

// removeTogether removes a record and the children that go with it: all or none, unless they are too many for a group.
func (s *Desk) removeTogether(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, id uuid.UUID, w wish,
	known map[string]string) (hold.Stored, error) {
	last, err := LastNumber(ctx, tx)
	if err != nil {
		return hold.Stored{}, err
	}
	row, err := s.saveIn(ctx, tx, c, id, w, known)
	if err != nil {
		return row, err
	}
	if err := s.bind(ctx, tx, last); err != nil && !errors.Is(err, ErrGroupSize) {
		return row, err
	}
	return row, nil
}

// removeChildren does to the children of a record that is removed what their definitions say: each that goes with it
// gets a removal of its own, before its parent's, so that central sees what this device knew of.
func (s *Desk) removeChildren(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, id string,
	known map[string]string) error {
	all, err := s.All(ctx, tx)
	if err != nil {
		return err
	}
	for _, child := range definition.ChildrenOf(c.Definition.Collection, all) {
		if child.Parent.Removal == definition.KeepChildren {
			continue
		}
		var ids []string
		if err := tx.SelectContext(ctx, &ids, hold.ChildrenQuery(`id`, child.Definition)+` ORDER BY id`, id); err != nil {
			return err
		}
		if len(ids) > 0 && child.Parent.Removal == definition.RestrictRemoval {
			return fmt.Errorf(
				"%w: %d of %s, such as %s; remove them first, or move them to another",
				file.ErrHasChildren,
				len(ids),
				child.Title,
				ids[0],
			)
		}
		for _, one := range ids {
			one, err := uuid.Parse(one)
			if err != nil {
				return file.ErrDamaged
			}
			if _, err := s.saveIn(ctx, tx, child, one, wish{kind: change.Remove}, known); err != nil {
				return fmt.Errorf("remove %s of %s with it: %w", one, child.Title, err)
			}
		}
	}
	return nil
}
