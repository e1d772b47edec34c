package desk

import (
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
)

// hang notes under which parent a living record stands now.
func (d *desk) hang(at Key, row *Row) {
	if was, hung := d.hangs[at]; hung {
		delete(d.below[was], at)
		delete(d.hangs, at)
	}
	if row == nil || !row.Exists() || row.Removed {
		return
	}
	if up, names := parentOf(d.read.Definitions, at, row.Fields); names {
		if d.below[up] == nil {
			d.below[up] = map[Key]struct{}{}
		}
		d.below[up][at] = struct{}{}
		d.hangs[at] = up
	}
}

// livingChildren are the children of a record in the state that the batch has brought them to so far.
func (d *desk) livingChildren(parent Key) []Key {
	living := slices.Collect(maps.Keys(d.below[parent]))
	for _, at := range d.read.Children[parent] {
		if d.read.Rows[at] == nil { // not touched by the batch
			living = append(living, at)
		}
	}
	slices.SortFunc(living, byID)
	return living
}

// family holds a merged change against the records above and below. A verdict that is not empty stands in the way of
// the change.
func (d *desk) family(c *definition.Collection, at Key, current *Row,
	out *merge.Outcome) (change.Verdict, []change.Reason) {
	if out.State.Removed {
		if current.Removed {
			return "", nil
		}
		return d.removeParent(at, current, out)
	}
	parent, names := parentOf(d.read.Definitions, at, out.State.Fields)
	if !names {
		if c.Parent != nil && out.State.Fields[c.Parent.Field] != nil {
			wrong := change.Reason{Field: c.Parent.Field, Code: change.CodeInvalidValue, Message: "is not the id of a record"}
			return change.Refused, []change.Reason{wrong}
		}
		return "", nil
	}
	before, had := parentOf(d.read.Definitions, at, current.Fields)
	if had && before == parent && current.Exists() && !current.Removed {
		return "", nil // it hangs where it hung
	}
	up := d.read.Rows[parent]
	waits := change.Reason{Field: c.Parent.Field, Code: change.CodeHangsOnParent}
	switch {
	case up == nil || !up.Exists() || !d.known(parent):
		waits.Message = fmt.Sprintf("central has no record %s in %s: it has not come yet, or it was refused; "+
			"when it is there, this goes in", parent.ID, parent.Collection)
	case up.Removed && c.Parent.Removal != definition.KeepChildren:
		waits.Message = fmt.Sprintf("the record %s in %s was removed; when it is brought back, or this is moved to another, "+
			"it goes in", parent.ID, parent.Collection)
	default:
		return "", nil
	}
	return change.Waiting, []change.Reason{waits}
}

// removeParent looks at the children of a record that is to be removed. Where they go with their parent, the device
// has removed those that it holds; any that is left is one that the remover did not know of, and an edit that the
// remover did not know of stays: so does its parent.
func (d *desk) removeParent(at Key, current *Row, out *merge.Outcome) (change.Verdict, []change.Reason) {
	for _, child := range d.livingChildren(at) {
		c := d.read.Definitions[child.Collection]
		switch c.Parent.Removal {
		case definition.RestrictRemoval:
			such := ""
			if d.read.Named[child] {
				such = fmt.Sprintf(", such as %s", child.ID)
			}
			return change.Refused, reason(change.CodeHasChildren,
				"records of %s still belong to this one%s; remove them first, or move them to another", c.Title, such)
		case definition.RemoveChildren:
			out.State.Removed, out.State.Marks = false, current.Marks
			out.Verdict = change.Merged
			decision := change.Decision{Rule: string(merge.EditStays), Kept: change.KeptCentral}
			if row := d.read.Rows[child]; row != nil && row.last != nil {
				source := change.Source{Incarnation: d.from.Incarnation, Number: row.last.Change.Number}
				decision.Other = change.Side{Revision: row.Revision, Source: source, Stamp: row.last.Stamp}
			}
			out.Decisions = append(out.Decisions, decision)
			return "", nil
		}
	}
	return "", nil
}

// MaxCascade is how many records the removal of one may take with it at once.
const MaxCascade = 5000

// ErrCascade says that too many records would go with one.
var ErrCascade = fmt.Errorf("more than %d records would go with this one; remove its children first", MaxCascade)

// Descend gives the records that go when a record is removed at central, children before their parents, the record
// itself last. Children finds those in one collection, by parent.
func Descend(definitions map[string]*definition.Collection, top Key,
	children func(child *definition.Collection, parents []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error)) ([]Key, error) {
	order := []Key{top}
	level := []Key{top}
	for len(level) > 0 {
		byCollection := map[string][]uuid.UUID{}
		for _, at := range level {
			byCollection[at.Collection] = append(byCollection[at.Collection], at.ID)
		}
		level = nil
		for _, name := range slices.Sorted(maps.Keys(byCollection)) {
			for _, child := range definition.ChildrenOf(name, definitions) {
				if child.Parent.Removal != definition.RemoveChildren {
					continue
				}
				found, err := children(child, byCollection[name])
				if err != nil {
					return nil, err
				}
				for _, parent := range byCollection[name] {
					for _, id := range found[parent] {
						level = append(level, Key{child.Definition.Collection, id})
					}
				}
			}
		}
		if order = append(order, level...); len(order) > MaxCascade {
			return nil, ErrCascade
		}
	}
	slices.Reverse(order)
	return order, nil
}
