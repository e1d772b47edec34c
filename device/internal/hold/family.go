package hold

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
	"homing/device/internal/file"
)

// Children is [device.Store.Children].
func (s *Shelf) Children(ctx context.Context, of Record, child, sort string, limit, offset int) (Found, error) {
	c, err := s.Collection(ctx, child)
	if err != nil {
		return Found{}, err
	}
	if c.Parent == nil || c.Parent.Collection != of.Collection {
		return Found{}, fmt.Errorf("%s is not a collection whose parent is %s", child, of.Collection)
	}
	return s.Find(ctx, child, Ask{Where: []string{c.Parent.Field + "=" + of.ID.String()}, Sort: sort, Limit: limit,
		Offset: offset})
}

// AllChildren is [device.Store.AllChildren].
func (s *Shelf) AllChildren(ctx context.Context, of Record) (map[string]Found, error) {
	all, err := s.All(ctx, s.DB)
	if err != nil {
		return nil, err
	}
	children := map[string]Found{}
	for _, child := range definition.ChildrenOf(of.Collection, all) {
		name := child.Definition.Collection
		if children[name], err = s.Children(ctx, of, name, "", 0, 0); err != nil {
			return nil, err
		}
	}
	return children, nil
}

// GoesWith is [device.Store.GoesWith].
func (s *Shelf) GoesWith(ctx context.Context, of Record) (int, error) {
	all, err := s.All(ctx, s.DB)
	if err != nil {
		return 0, err
	}
	return s.goesWith(ctx, all, of.Collection, of.ID.String())
}

func (s *Shelf) goesWith(ctx context.Context, all map[string]*definition.Collection, collection,
	id string) (int, error) {
	total := 0
	for _, child := range definition.ChildrenOf(collection, all) {
		if child.Parent.Removal != definition.RemoveChildren {
			continue
		}
		var ids []string
		if err := s.DB.SelectContext(ctx, &ids, ChildrenQuery(`id`, child.Definition), id); err != nil {
			return 0, file.StoreError(err)
		}
		total += len(ids)
		for _, one := range ids {
			below, err := s.goesWith(ctx, all, child.Definition.Collection, one)
			if err != nil {
				return 0, err
			}
			total += below
		}
	}
	return total, nil
}

// pendingBelow counts for the records of a collection how many records below each hold changes that central has not
// accepted. It starts from these, of which there are few, and goes up.
func (s *Shelf) pendingBelow(ctx context.Context, c *definition.Collection) (map[string]int, error) {
	all, err := s.All(ctx, s.DB)
	if err != nil {
		return nil, err
	}
	name := c.Definition.Collection
	if len(definition.ChildrenOf(name, all)) == 0 {
		return nil, nil
	}
	var rows []struct{ Collection, ID, Fields string }
	if err := s.DB.SelectContext(ctx, &rows, `SELECT collection, id, fields
			FROM records WHERE pending > 0 AND collection <> ?`, name); err != nil {
		return nil, file.StoreError(err)
	}
	below := map[string]int{}
	above := map[[2]string]string{} // fields of records that were read on the way up; many hang under few
	for _, row := range rows {
		collection, fields := row.Collection, row.Fields
		for all[collection] != nil && all[collection].Parent != nil {
			var parsed record.Fields
			if err := json.Unmarshal([]byte(fields), &parsed); err != nil {
				return nil, fmt.Errorf("%w: record %s", file.ErrDamaged, row.ID)
			}
			parent, names := all[collection].ParentOf(parsed)
			if collection = all[collection].Parent.Collection; !names {
				break
			}
			if collection == name {
				below[parent.String()]++
				break
			}
			at, read := [2]string{collection, parent.String()}, false
			if fields, read = above[at]; read {
				continue
			}
			err := s.DB.GetContext(
				ctx,
				&fields,
				`SELECT fields FROM records WHERE collection = ? AND id = ?`,
				collection,
				parent.String(),
			)
			if errors.Is(err, sql.ErrNoRows) {
				break
			}
			if err != nil {
				return nil, file.StoreError(err)
			}
			above[at] = fields
		}
	}
	return below, nil
}

// Linked checks what an edit newly refers to: a record that is not here can only be meant where this device holds all
// there are.
func (s *Shelf) Linked(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, delta record.Delta) error {
	var wrong []change.Reason
	for _, name := range delta.Names() {
		field, known := c.Field(name)
		if !known || field.Reference == "" || delta[name].To == nil {
			continue
		}
		target, err := s.Definition(ctx, tx, field.Reference)
		if errors.Is(err, file.ErrNoCollection) {
			continue
		}
		if err != nil {
			return err
		}
		row, err := LoadStored(ctx, tx, field.Reference, definition.Plain(delta[name].To))
		message := ""
		switch {
		case err == nil && row.Removed:
			message = fmt.Sprintf("refers to a record of %s that was removed", field.Reference)
		case errors.Is(err, file.ErrNoRecord):
			whole, err := holdsAll(ctx, tx, target)
			if err != nil {
				return err
			}
			if whole {
				message = fmt.Sprintf(
					"refers to %s, but there is no such record in %s",
					definition.Plain(delta[name].To),
					field.Reference,
				)
			}
		case err != nil:
			return err
		}
		if message != "" {
			wrong = append(wrong, change.Reason{Field: name, Code: change.CodeInvalidValue, Message: message})
		}
	}
	if wrong != nil {
		return &file.InvalidError{Collection: c.Definition.Collection, Reasons: wrong}
	}
	return nil
}

// holdsAll says whether the device holds all records of a collection that there are.
func holdsAll(ctx context.Context, tx *sqlx.Tx, c *definition.Collection) (bool, error) {
	if c.Territorial() || c.Access.Read != "" || !c.Sync.Keep.Loads() || !c.Sync.Direction.Pulls() {
		return false, nil
	}
	var loaded bool
	err := tx.GetContext(ctx, &loaded, `SELECT pulled_at IS NOT NULL AND cursor >= head AND NOT loading
			FROM collections WHERE name = ?`, c.Definition.Collection)
	return loaded, err
}
