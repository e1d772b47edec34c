package desk

import (
	"maps"
	"slices"

	"github.com/google/uuid"

	"homing/core/definition"
	"homing/core/record"
)

// dirty are records whose computed values must be worked out, by collection.
type dirty map[string]map[uuid.UUID]bool

func (m dirty) mark(at Key) {
	if m[at.Collection] == nil {
		m[at.Collection] = map[uuid.UUID]bool{}
	}
	m[at.Collection][at.ID] = true
}

// computeTouched works out the computed values of the records that were changed, and from there up those of every
// parent whose totals count them.
func (d *desk) computeTouched() {
	todo := dirty{}
	for _, v := range d.out.Versions {
		c := d.read.Definitions[v.Collection]
		if c.Computes() {
			todo.mark(v.Key)
		}
		if c.Parent == nil || !d.read.Definitions[c.Parent.Collection].Totals(v.Collection) {
			continue
		}
		// Where the record hung before counts as well as where it hangs now.
		if up, names := parentOf(d.read.Definitions, v.Key, d.read.Rows[v.Key].Fields); names {
			todo.mark(up)
		}
		if id, err := uuid.Parse(definition.Plain(v.Delta[c.Parent.Field].From)); err == nil {
			todo.mark(Key{c.Parent.Collection, id})
		}
	}
	for _, name := range definition.LeavesFirst(d.read.Definitions) {
		ids := slices.SortedFunc(maps.Keys(todo[name]), func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
		for _, id := range ids {
			d.compute(d.read.Definitions[name], Key{name, id}, todo)
		}
	}
}

func (d *desk) compute(c *definition.Collection, at Key, todo dirty) {
	row := d.read.Rows[at]
	if row == nil || !row.Exists() || row.Removed {
		return
	}
	// What cannot be worked out has no value; the change is none the worse for it.
	computed, _ := c.Compute(row.Fields, Broods(d.read.Definitions, c, d.counted(at)))
	if string(computed.JSON()) == string(row.Computed.JSON()) {
		return
	}
	row.Computed = computed
	d.out.Computed[at] = true
	if up, names := parentOf(d.read.Definitions, at, row.Fields); names &&
		d.read.Definitions[up.Collection].Totals(at.Collection) {
		todo.mark(up)
	}
}

// counted are the children of a record as the batch left them.
func (d *desk) counted(at Key) []Child {
	var all []Child
	for _, child := range d.read.Counted[at] {
		if d.read.Rows[child.Key] == nil {
			all = append(all, child)
		}
	}
	for child := range d.below[at] {
		row := d.read.Rows[child]
		all = append(all, Child{child, row.Fields, row.Computed})
	}
	slices.SortFunc(all, func(a, b Child) int { return byID(a.Key, b.Key) })
	return all
}

// Broods sorts the children of a record by collection, as the totals of its definition take them.
func Broods(definitions map[string]*definition.Collection, c *definition.Collection,
	children []Child) map[string]definition.Brood {
	broods := map[string]definition.Brood{}
	for _, child := range children {
		if !c.Totals(child.Collection) {
			continue
		}
		whole := child.Fields
		if len(child.Computed) > 0 {
			whole = maps.Clone(child.Fields)
			if whole == nil {
				whole = record.Fields{}
			}
			maps.Copy(whole, child.Computed)
		}
		brood := broods[child.Collection]
		brood.Collection = definitions[child.Collection]
		brood.Records = append(brood.Records, whole)
		broods[child.Collection] = brood
	}
	for _, child := range definition.ChildrenOf(c.Definition.Collection, definitions) {
		name := child.Definition.Collection
		if _, any := broods[name]; !any && c.Totals(name) {
			broods[name] = definition.Brood{Collection: child}
		}
	}
	return broods
}
