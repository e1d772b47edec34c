package central

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
)

// loadFamily reads and locks the records that the changes touch, their parents as they are and as they would be, and further up whoever
// counts them in totals. All are locked by one statement, so that everybody locks in the same order.
func (d *desk) loadFamily(ctx context.Context, tx *sqlx.Tx, items []item) error {
	wanted := keysOf(items)
	parents, err := d.parentsOf(ctx, tx, items)
	if err != nil {
		return err
	}
	if d.rows, err = loadRows(ctx, tx, append(wanted, parents...)); err != nil {
		return err
	}
	for _, at := range wanted { // the parents were read before the locks
		if was := d.rows[at]; was != nil {
			if parent, names := d.parentOf(at, was); names && !slices.Contains(parents, parent) {
				return errRaced
			}
		}
	}
	d.children, err = d.childrenOfRemoved(ctx, tx, items)
	return err
}

// parentOf is the parent that a record names.
func (d *desk) parentOf(at key, r *row) (key, bool) {
	c := d.definitions[at.collection]
	if c == nil || c.Parent == nil {
		return key{}, false
	}
	id, names := c.ParentOf(r.Fields)
	return key{c.Parent.Collection, id}, names
}

func (d *desk) parentsOf(ctx context.Context, tx *sqlx.Tx, items []item) ([]key, error) {
	level := map[string][]uuid.UUID{} // records whose parents are wanted
	var all []key
	above := map[string][]uuid.UUID{}
	for _, it := range items {
		c := d.definitions[it.change.Collection]
		if it.unreadable != nil || c == nil || c.Parent == nil {
			continue
		}
		level[it.change.Collection] = append(level[it.change.Collection], it.change.Record)
		if id, err := uuid.Parse(definition.Plain(it.change.Fields[c.Parent.Field].To)); err == nil {
			above[c.Parent.Collection] = append(above[c.Parent.Collection], id)
		}
	}
	for range len(d.definitions) { // no chain is longer
		for _, name := range slices.Sorted(maps.Keys(level)) {
			c := d.definitions[name]
			var ids []uuid.UUID
			err := tx.SelectContext(ctx, &ids, fmt.Sprintf(`
				SELECT DISTINCT (fields->>'%[1]s')::uuid FROM records WHERE collection = $1 AND id = ANY($2::uuid[])
					AND fields->>'%[1]s' ~* '^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$'`, c.Parent.Field), name, texts(level[name]))
			if err != nil {
				return nil, err
			}
			above[c.Parent.Collection] = append(above[c.Parent.Collection], ids...)
		}
		level = map[string][]uuid.UUID{}
		for name, ids := range above {
			for _, id := range ids {
				all = append(all, key{name, id})
			}
			if c := d.definitions[name]; c != nil && c.Parent != nil && d.definitions[c.Parent.Collection].Totals(name) && len(ids) > 0 {
				level[name] = ids
			}
		}
		above = map[string][]uuid.UUID{}
		if len(level) == 0 {
			break
		}
	}
	return all, nil
}

func texts(ids []uuid.UUID) []string {
	all := make([]string, len(ids))
	for n, id := range ids {
		all[n] = id.String()
	}
	return all
}

// childrenOfRemoved finds the children of the records that the changes remove.
func (d *desk) childrenOfRemoved(ctx context.Context, tx *sqlx.Tx, items []item) (map[key][]key, error) {
	removed := map[string][]uuid.UUID{}
	for _, it := range items {
		if it.unreadable == nil && it.change.Kind == change.Remove {
			removed[it.change.Collection] = append(removed[it.change.Collection], it.change.Record)
		}
	}
	children := map[key][]key{}
	for _, name := range slices.Sorted(maps.Keys(removed)) {
		for _, child := range definition.ChildrenOf(name, d.definitions) {
			found, err := childrenOf(ctx, tx, child.Definition, removed[name])
			if err != nil {
				return nil, err
			}
			for id, ids := range found {
				for _, one := range ids {
					children[key{name, id}] = append(children[key{name, id}], key{child.Definition.Collection, one})
				}
			}
		}
	}
	return children, nil
}

// childrenOf gives the ids of the children in one collection that are not removed, by parent, by the index that the parent's field has.
func childrenOf(ctx context.Context, tx *sqlx.Tx, child definition.Definition, parents []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error) {
	var rows []struct {
		Parent uuid.UUID `db:"parent"`
		ID     uuid.UUID `db:"id"`
	}
	err := tx.SelectContext(ctx, &rows, `SELECT k.value AS parent, r.id FROM `+byValue(child.Parent.Field, child.Collection, "$1", "id")+` ORDER BY r.id`, texts(parents))
	found := map[uuid.UUID][]uuid.UUID{}
	for _, r := range rows {
		found[r.Parent] = append(found[r.Parent], r.ID)
	}
	return found, err
}

// livingChildren are the children of a record in the state that the batch has brought them to so far.
func (d *desk) livingChildren(parent key) []key {
	var living []key
	for _, at := range d.children[parent] {
		if d.rows[at] == nil { // not touched by the batch
			living = append(living, at)
		}
	}
	for at, r := range d.rows {
		if up, names := d.parentOf(at, r); names && up == parent && r.Exists() && !r.Removed {
			living = append(living, at)
		}
	}
	slices.SortFunc(living, func(a, b key) int { return slices.Compare(a.id[:], b.id[:]) })
	return living
}

// family holds a merged change against the records above and below. A verdict that is not empty stands in the way of the change.
func (d *desk) family(c *definition.Collection, at key, current *row, out *merge.Outcome) (change.Verdict, []change.Reason) {
	if out.State.Removed {
		if current.Removed {
			return "", nil
		}
		return d.removeParent(at, current, out)
	}
	parent, names := d.parentOf(at, &row{State: out.State})
	if !names {
		if c.Parent != nil && out.State.Fields[c.Parent.Field] != nil {
			return change.Refused, []change.Reason{{Field: c.Parent.Field, Code: change.CodeInvalidValue, Message: "is not the id of a record"}}
		}
		return "", nil
	}
	before, had := d.parentOf(at, current)
	if had && before == parent && current.Exists() && !current.Removed {
		return "", nil // it hangs where it hung
	}
	up, field := d.rows[parent], c.Parent.Field
	switch {
	case up == nil || !up.Exists():
		return change.Waiting, []change.Reason{{Field: field, Code: change.CodeHangsOnParent,
			Message: fmt.Sprintf("central has no record %s in %s: it has not come yet, or it was refused; when it is there, this goes in", parent.id, parent.collection)}}
	case up.Removed && c.Parent.Removal != definition.KeepChildren:
		return change.Waiting, []change.Reason{{Field: field, Code: change.CodeHangsOnParent,
			Message: fmt.Sprintf("the record %s in %s was removed; when it is brought back, or this is moved to another, it goes in", parent.id, parent.collection)}}
	}
	return "", nil
}

// removeParent looks at the children of a record that is to be removed. Where they go with their parent, the device has removed those
// that it holds; any that is left is one that the remover did not know of, and an edit that the remover did not know of stays: so
// does its parent.
func (d *desk) removeParent(at key, current *row, out *merge.Outcome) (change.Verdict, []change.Reason) {
	for _, child := range d.livingChildren(at) {
		c := d.definitions[child.collection]
		switch c.Parent.Removal {
		case definition.RestrictRemoval:
			return change.Refused, reason(change.CodeHasChildren, "records of %s still belong to this one, such as %s; remove them first, or move them to another", c.Title, child.id)
		case definition.RemoveChildren:
			out.State.Removed, out.State.Marks = false, current.Marks
			out.Verdict = change.Merged
			decision := change.Decision{Rule: string(merge.EditStays), Kept: "central"}
			if r := d.rows[child]; r != nil && r.last != nil {
				decision.Other = change.Side{Revision: r.Revision, Source: change.Source{Incarnation: d.incarnation, Number: r.last.change.Number}, Stamp: r.last.stamp}
			}
			out.Decisions = append(out.Decisions, decision)
			return "", nil
		}
	}
	return "", nil
}

// indexParent makes the children of a record quick to find.
func indexParent(ctx context.Context, tx *sqlx.Tx, d definition.Definition) error {
	if d.Parent == nil {
		return nil
	}
	sum := sha256.Sum256([]byte(d.Collection + " " + d.Parent.Field)) // names of indexes are short
	_, err := tx.ExecContext(ctx, fmt.Sprintf(`CREATE INDEX IF NOT EXISTS records_parent_%s ON records ((fields->>'%s')) WHERE %s`,
		hex.EncodeToString(sum[:8]), d.Parent.Field, partOf(d.Collection)))
	return err
}

// MaxCascade is how many records the removal of one may take with it at once.
const MaxCascade = 5000

// descend gives the records that go when a record is removed at central, children before their parents, the record itself last. Children finds
// those in one collection, by parent.
func descend(definitions map[string]*definition.Collection, top key, children func(child definition.Definition, parents []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error)) ([]key, error) {
	order := []key{top}
	level := []key{top}
	for len(level) > 0 {
		byCollection := map[string][]uuid.UUID{}
		for _, at := range level {
			byCollection[at.collection] = append(byCollection[at.collection], at.id)
		}
		level = nil
		for _, name := range slices.Sorted(maps.Keys(byCollection)) {
			for _, child := range definition.ChildrenOf(name, definitions) {
				if child.Parent.Removal != definition.RemoveChildren {
					continue
				}
				found, err := children(child.Definition, byCollection[name])
				if err != nil {
					return nil, err
				}
				for _, parent := range byCollection[name] {
					for _, id := range found[parent] {
						level = append(level, key{child.Definition.Collection, id})
					}
				}
			}
		}
		if order = append(order, level...); len(order) > MaxCascade {
			return nil, fail(TooLarge, "more than %d records would go with this one; remove its children first", MaxCascade)
		}
	}
	slices.Reverse(order)
	return order, nil
}
