package central

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/core/record"
)

// computeTouched works out the computed values of the records that were written, and from there up those of every parent whose totals
// count them. All of these are locked already.
func (d *desk) computeTouched(ctx context.Context, tx *sqlx.Tx) error {
	dirty := map[string]map[uuid.UUID]bool{}
	for _, v := range d.versions {
		c := d.definitions[v.collection]
		if c.Computes() {
			mark(dirty, v.key)
		}
		if c.Parent == nil || !d.definitions[c.Parent.Collection].Totals(v.collection) {
			continue
		}
		// Where the record hung before counts as well as where it hangs now.
		parents := []key{}
		if up, names := d.parentOf(v.key, d.rows[v.key]); names {
			parents = append(parents, up)
		}
		if from := v.delta[c.Parent.Field].From; from != nil {
			if id, err := uuid.Parse(definition.Plain(from)); err == nil {
				parents = append(parents, key{c.Parent.Collection, id})
			}
		}
		for _, up := range parents {
			mark(dirty, up)
		}
	}
	return compute(ctx, tx, d.definitions, dirty)
}

func mark(dirty map[string]map[uuid.UUID]bool, at key) {
	if dirty[at.collection] == nil {
		dirty[at.collection] = map[uuid.UUID]bool{}
	}
	dirty[at.collection][at.id] = true
}

// compute works out the computed values of records and, when they have changed, of the parents that use them.
func compute(ctx context.Context, tx *sqlx.Tx, definitions map[string]*definition.Collection, dirty map[string]map[uuid.UUID]bool) error {
	if len(dirty) == 0 {
		return nil
	}
	const chunk = 1000
	for _, name := range definition.LeavesFirst(definitions) {
		c := definitions[name]
		ids := slices.SortedFunc(maps.Keys(dirty[name]), func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
		for some := range slices.Chunk(ids, chunk) {
			changed, err := computeSome(ctx, tx, definitions, c, some)
			if err != nil {
				return err
			}
			if c.Parent == nil || !definitions[c.Parent.Collection].Totals(name) {
				continue
			}
			for _, fields := range changed {
				if id, names := c.ParentOf(fields); names {
					mark(dirty, key{c.Parent.Collection, id})
				}
			}
		}
	}
	return nil
}

// computeSome gives the fields of those records whose computed values have changed.
func computeSome(ctx context.Context, tx *sqlx.Tx, definitions map[string]*definition.Collection, c *definition.Collection, ids []uuid.UUID) (changed []record.Fields, err error) {
	var rows []struct {
		ID       uuid.UUID `db:"id"`
		Fields   []byte    `db:"fields"`
		Computed []byte    `db:"computed"`
	}
	if err := tx.SelectContext(ctx, &rows, `SELECT id, fields, computed FROM records WHERE collection = $1 AND id = ANY($2::uuid[]) AND NOT removed ORDER BY id`,
		c.Definition.Collection, texts(ids)); err != nil {
		return nil, err
	}
	broods, err := loadBroods(ctx, tx, definitions, c, ids)
	if err != nil {
		return nil, err
	}
	var moved, values []string
	for _, r := range rows {
		var fields record.Fields
		if err := json.Unmarshal(r.Fields, &fields); err != nil {
			return nil, fmt.Errorf("stored record %s: %w", r.ID, err)
		}
		// What cannot be worked out has no value; the change is none the worse for it.
		computed, _ := c.Compute(fields, broods[r.ID])
		if text := string(computed.JSON()); text != string(r.Computed) {
			moved, values, changed = append(moved, r.ID.String()), append(values, text), append(changed, fields)
		}
	}
	if len(moved) == 0 {
		return nil, nil
	}
	_, err = tx.ExecContext(ctx, `UPDATE records r SET computed = u.computed::json FROM unnest($2::uuid[], $3::text[]) AS u (id, computed)
		WHERE r.collection = $1 AND r.id = u.id`, c.Definition.Collection, moved, values)
	return changed, err
}

// loadBroods gives the children that the totals of some records need, by the record's id and then by collection.
func loadBroods(ctx context.Context, tx *sqlx.Tx, definitions map[string]*definition.Collection, c *definition.Collection, ids []uuid.UUID) (map[uuid.UUID]map[string]definition.Brood, error) {
	all := map[uuid.UUID]map[string]definition.Brood{}
	for _, child := range definition.ChildrenOf(c.Definition.Collection, definitions) {
		if !c.Totals(child.Definition.Collection) {
			continue
		}
		var rows []struct {
			Parent   uuid.UUID `db:"parent"`
			Fields   []byte    `db:"fields"`
			Computed []byte    `db:"computed"`
		}
		err := tx.SelectContext(ctx, &rows, `SELECT k.value AS parent, r.fields, r.computed FROM `+byValue(child.Parent.Field, child.Definition.Collection, "$1", "id, fields, computed")+` ORDER BY r.id`, texts(ids))
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			var fields, computed record.Fields
			if err := errors.Join(json.Unmarshal(r.Fields, &fields), json.Unmarshal(r.Computed, &computed)); err != nil {
				return nil, err
			}
			maps.Copy(fields, computed)
			if all[r.Parent] == nil {
				all[r.Parent] = map[string]definition.Brood{}
			}
			brood := all[r.Parent][child.Definition.Collection]
			brood.Collection = child
			brood.Records = append(brood.Records, fields)
			all[r.Parent][child.Definition.Collection] = brood
		}
	}
	return all, nil
}

// computeAll works out everything anew, after definitions have changed.
func computeAll(ctx context.Context, tx *sqlx.Tx, definitions map[string]*definition.Collection) error {
	const chunk = 1000
	for _, name := range definition.LeavesFirst(definitions) {
		c := definitions[name]
		if !c.Computes() {
			// Values that are no longer worked out go.
			if _, err := tx.ExecContext(ctx, `UPDATE records SET computed = '{}' WHERE collection = $1 AND computed::text <> '{}'`, name); err != nil {
				return err
			}
			continue
		}
		after := uuid.Nil
		for {
			var ids []uuid.UUID
			if err := tx.SelectContext(ctx, &ids, `SELECT id FROM records WHERE collection = $1 AND NOT removed AND id > $2 ORDER BY id LIMIT $3 FOR UPDATE`, name, after, chunk); err != nil {
				return err
			}
			if len(ids) == 0 {
				break
			}
			after = ids[len(ids)-1]
			if _, err := computeSome(ctx, tx, definitions, c, ids); err != nil {
				return err
			}
		}
	}
	return nil
}
