package hold

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/core/record"
	"homing/device/internal/file"
)

// noteComputes finds out whether any definition has computed fields, so that stores without any pay nothing for them.
func (s *Shelf) noteComputes(ctx context.Context, r file.Runner) error {
	var any bool
	if err := r.GetContext(ctx, &any,
		`SELECT EXISTS (SELECT 1 FROM collections WHERE doc LIKE '%"computed":%')`); err != nil {
		return file.StoreError(err)
	}
	s.computes.Store(any)
	return nil
}

// watchFamilies sets up, after definitions have changed, the indexes by which children are found, and the triggers
// that note whose computed values must be worked out anew whenever a record changes, by whatever way. Names hold only
// small letters, digits and _.
func (s *Shelf) watchFamilies(ctx context.Context, tx *sqlx.Tx) error {
	all, err := s.All(ctx, tx)
	if err != nil {
		return err
	}
	var old []string
	if err := tx.SelectContext(ctx, &old, `SELECT name FROM sqlite_schema
			WHERE type = 'trigger' AND name LIKE 'compute\_%' ESCAPE '\'`); err != nil {
		return err
	}
	for _, name := range old {
		if _, err := tx.ExecContext(ctx, fmt.Sprintf(`DROP TRIGGER %q`, name)); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		c := all[name]
		if c.Parent != nil {
			if _, err := tx.ExecContext(ctx,
				fmt.Sprintf(`CREATE INDEX IF NOT EXISTS records_parent_%[1]s_%[2]s ON records (fields->>'$.%[2]s')
					WHERE collection = '%[1]s'`, name, c.Parent.Field)); err != nil {
				return err
			}
		}
		if err := watch(ctx, tx, all, c); err != nil {
			return err
		}
		if c.Computes() {
			if _, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO uncomputed SELECT collection, id
					FROM records WHERE collection = ?`, name); err != nil {
				return err
			}
		}
	}
	return nil
}

func watch(ctx context.Context, tx *sqlx.Tx, all map[string]*definition.Collection, c *definition.Collection) error {
	name := c.Definition.Collection
	// NOT EXISTS and not OR IGNORE: within a trigger, the conflict clause of the outer statement would hold.
	const statement = `INSERT INTO uncomputed SELECT '%[1]s', %[2]s
			WHERE %[2]s IS NOT NULL AND NOT EXISTS (SELECT 1 FROM uncomputed WHERE collection = '%[1]s' AND id = %[2]s);`
	note := func(row string) string {
		text := ""
		if c.Computes() && row == "NEW" {
			text += fmt.Sprintf(statement, name, "NEW.id")
		}
		if c.Parent != nil && all[c.Parent.Collection] != nil && all[c.Parent.Collection].Totals(name) {
			text += fmt.Sprintf(statement, c.Parent.Collection, fmt.Sprintf("%s.fields->>'$.%s'", row, c.Parent.Field))
		}
		return text
	}
	for when, body := range map[string]string{"INSERT": note("NEW"), "UPDATE OF fields, removed": note("NEW") +
		note("OLD"), "DELETE": note("OLD")} {
		if body == "" {
			continue
		}
		row := "NEW"
		if when == "DELETE" {
			row = "OLD"
		}
		if _, err := tx.ExecContext(ctx,
			fmt.Sprintf(`CREATE TRIGGER compute_%s_%s AFTER %s ON records WHEN %s.collection = '%[1]s' BEGIN %[5]s END`, name,
				when[:6], when, row, body)); err != nil {
			return err
		}
	}
	return nil
}

// WorkOut gives a record that was saved its computed values, before the transaction ends.
func (s *Shelf) WorkOut(ctx context.Context, tx *sqlx.Tx, row *Stored) error {
	if !s.computes.Load() {
		return nil
	}
	if err := s.ComputeMarked(ctx, tx); err != nil {
		return err
	}
	return tx.GetContext(ctx, &row.Computed, `SELECT coalesce((SELECT computed
			FROM records WHERE collection = ? AND id = ?), '{}')`, row.Collection, row.ID)
}

// ComputeMarked works out the computed values of all records that triggers have noted, children before their parents.
func (s *Shelf) ComputeMarked(ctx context.Context, tx *sqlx.Tx) error {
	if !s.computes.Load() {
		return nil
	}
	var any bool
	if err := tx.GetContext(ctx, &any, `SELECT EXISTS (SELECT 1 FROM uncomputed)`); err != nil || !any {
		return err
	}
	all, err := s.All(ctx, tx)
	if err != nil {
		return err
	}
	for _, name := range definition.LeavesFirst(all) {
		if err := s.computeCollection(ctx, tx, all, all[name]); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM uncomputed WHERE collection = ?`, name); err != nil {
			return err
		}
	}
	return nil
}

func (s *Shelf) computeCollection(ctx context.Context, tx *sqlx.Tx, all map[string]*definition.Collection,
	c *definition.Collection) error {
	name := c.Definition.Collection
	var rows []struct {
		ID      string `db:"id"`
		Fields  string `db:"fields"`
		Before  string `db:"computed"`
		Removed bool   `db:"removed"`
	}
	if err := tx.SelectContext(ctx, &rows, `SELECT r.id, r.fields, r.computed, r.removed
			FROM uncomputed u JOIN records r ON r.collection = u.collection AND r.id = u.id
				WHERE u.collection = ?`, name); err != nil || len(rows) == 0 {
		return err
	}
	broods, err := loadBroods(ctx, tx, all, c)
	if err != nil {
		return err
	}
	put, err := tx.PrepareContext(ctx, `UPDATE records SET computed = ? WHERE collection = ? AND id = ?`)
	if err != nil {
		return err
	}
	defer put.Close()
	for _, row := range rows {
		var fields record.Fields
		if err := json.Unmarshal([]byte(row.Fields), &fields); err != nil {
			return fmt.Errorf("%w: record %s", file.ErrDamaged, row.ID)
		}
		// What cannot be worked out has no value; the record is none the worse for it.
		computed, _ := c.Compute(fields, broods[row.ID])
		text := string(computed.JSON())
		if text == row.Before {
			continue
		}
		if _, err := put.ExecContext(ctx, text, name, row.ID); err != nil {
			return err
		}
		if err := s.Note(tx, name, row.ID, row.Removed); err != nil {
			return err
		}
		if parent, names := c.ParentOf(fields); names && all[c.Parent.Collection] != nil &&
			all[c.Parent.Collection].Totals(name) {
			if _, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO uncomputed VALUES (?, ?)`, c.Parent.Collection,
				parent.String()); err != nil {
				return err
			}
		}
	}
	return nil
}

// loadBroods gives the children that the totals of the noted records of a collection need, by the record's id and
// then by collection: those that this device holds.
func loadBroods(ctx context.Context, tx *sqlx.Tx, all map[string]*definition.Collection,
	c *definition.Collection) (map[string]map[string]definition.Brood, error) {
	broods := map[string]map[string]definition.Brood{}
	for _, child := range definition.ChildrenOf(c.Definition.Collection, all) {
		name := child.Definition.Collection
		if !c.Totals(name) {
			continue
		}
		var rows []struct{ Parent, Fields, Computed string }
		// CROSS JOIN keeps SQLite from going through all children first; the + takes the column's affinity away, which
		// would keep it from the index.
		if err := tx.SelectContext(ctx, &rows, fmt.Sprintf(`SELECT u.id AS parent, r.fields, r.computed FROM uncomputed u CROSS JOIN records r
			WHERE u.collection = ? AND r.collection = '%s' AND r.fields->>'$.%s' = +u.id AND NOT r.removed
				ORDER BY r.id`, name, child.Parent.Field), c.Definition.Collection); err != nil {
			return nil, err
		}
		for _, row := range rows {
			var fields, computed record.Fields
			if err := errors.Join(json.Unmarshal([]byte(row.Fields), &fields),
				json.Unmarshal([]byte(row.Computed), &computed)); err != nil {
				return nil, fmt.Errorf("%w: a record of %s", file.ErrDamaged, name)
			}
			maps.Copy(fields, computed)
			if broods[row.Parent] == nil {
				broods[row.Parent] = map[string]definition.Brood{}
			}
			brood := broods[row.Parent][name]
			brood.Collection = child
			brood.Records = append(brood.Records, fields)
			broods[row.Parent][name] = brood
		}
	}
	return broods, nil
}

// ChildrenQuery finds the children of the record whose id is the argument, by the index on the parent's field.
func ChildrenQuery(columns string, child definition.Definition) string {
	return fmt.Sprintf(
		`SELECT %s FROM records WHERE collection = '%s' AND fields->>'$.%s' = ? AND NOT removed`,
		columns,
		child.Collection,
		child.Parent.Field,
	)
}
