package desk

import (
	"cmp"
	"maps"
	"slices"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
)

// Loaded is what a desk needs to decide about some items.
type Loaded struct {
	Definitions map[string]*definition.Collection
	// Known are the answers that central has given to these changes, or to changes that they fold, by number.
	Known map[int64]Kept
	// Waited are those of the changes that had to wait when they came before.
	Waited map[int64]Kept
	// Torn says that two stores have used the numbers of this incarnation.
	Torn bool
	// Rows are the records that the items touch, their parents as they are and as they would be, and whoever counts these
	// in totals.
	Rows map[Key]*Row
	// Children are those of the records that are to be removed.
	Children map[Key][]Key
	// Named are those of the children that keep their parent from being removed and that the sender may see.
	Named map[Key]bool
	// Counted are the children that the totals of loaded records count, by the parent.
	Counted map[Key][]Child
	// Pasts tell of the records that the sender does not see now.
	Pasts Pasts
	// Unseen are these records.
	Unseen []Key
	// Holders are the records that have the keys which items would give to others, where keys are unique, by collection
	// and the text of the key.
	Holders map[string]map[string]Holder
	// Numbers are drawn for each series, by collection and field.
	Numbers map[Series][]string
}

// Child is a record that is counted by its parent.
type Child struct {
	Key
	Fields   record.Fields
	Computed record.Fields
}

// Holder is a record that has a key.
type Holder struct {
	ID  uuid.UUID
	Row *Row
}

// Series names a field that central numbers.
type Series struct {
	Collection string
	Field      string
}

// Compare orders series, so that everybody takes them in the same order.
func (s Series) Compare(other Series) int {
	return cmp.Or(cmp.Compare(s.Collection, other.Collection), cmp.Compare(s.Field, other.Field))
}

// Need says what must be loaded for some items. It is asked step by step, since what is needed next follows from what
// came.
type Need struct {
	definitions map[string]*definition.Collection
	items       []Item
}

// NeedOf brings the items into their present form and says what must be loaded for them.
func NeedOf(definitions map[string]*definition.Collection, items []Item) Need {
	return Need{definitions, present(definitions, items)}
}

// Items are the items in their present form.
func (n Need) Items() []Item { return n.items }

// Numbers are those whose answers may be known.
func (n Need) Numbers() []int64 {
	numbers := make([]int64, 0, len(n.items))
	for _, it := range n.items {
		if it.Unreadable == nil {
			numbers = append(append(numbers, it.Change.Number), it.Change.Folds...)
		}
	}
	return numbers
}

// Keys are the records that the items touch.
func (n Need) Keys() []Key {
	var all []Key
	for _, it := range n.items {
		if it.Unreadable == nil {
			all = append(all, keyOf(it))
		}
	}
	return all
}

// GivesKeys are the collections in which items give what no two records may share. Alone says that nobody else may do so
// meanwhile: it is false where every id follows from that, so that two who give the same meet in one record.
func (n Need) GivesKeys() (names []string, alone map[string]bool) {
	alone = map[string]bool{}
	for _, it := range n.items {
		c := n.definitions[it.Change.Collection]
		if it.Unreadable != nil || c == nil {
			continue
		}
		for _, field := range c.OneFor() {
			if len(it.Change.Fields[field].To) == 0 {
				continue
			}
			id, follows := c.OneID(record.Fields{}.Apply(it.Change.Fields))
			alone[it.Change.Collection] = alone[it.Change.Collection] || !follows || id != it.Change.Record
		}
	}
	return slices.Sorted(maps.Keys(alone)), alone
}

// UniqueKeys are the texts of which records would have one by the items that no two may share, by collection.
func (n Need) UniqueKeys(rows map[Key]*Row) map[string][]string {
	texts := map[string][]string{}
	note := func(c *definition.Collection, fields record.Fields) {
		if text := c.OneText(fields); text != "" {
			texts[c.Definition.Collection] = append(texts[c.Definition.Collection], text)
		}
	}
	for _, it := range n.items {
		c := n.definitions[it.Change.Collection]
		if it.Unreadable != nil || c == nil || c.OneFor() == nil {
			continue
		}
		row := rows[keyOf(it)]
		gives := slices.ContainsFunc(c.OneFor(), func(name string) bool { return len(it.Change.Fields[name].To) > 0 })
		if row == nil {
			row = &Row{}
		}
		if gives {
			note(c, row.Fields.Apply(it.Change.Fields))
		}
		if row.Removed { // it may come back
			note(c, row.Fields)
		}
	}
	return texts
}

func keyOf(it Item) Key { return Key{it.Change.Collection, it.Change.Record} }

// Parents finds the parents of the records that items touch, as they are and as they would be, and further up whoever
// counts them in totals. StoredParents gives the parents that stored records of one collection name.
func (n Need) Parents(storedParents func(c *definition.Collection, ids []uuid.UUID) ([]uuid.UUID,
	error)) ([]Key, error) {
	level, above := map[string][]uuid.UUID{}, map[string][]uuid.UUID{}
	for _, it := range n.items {
		c := n.definitions[it.Change.Collection]
		if it.Unreadable != nil || c == nil || c.Parent == nil {
			continue
		}
		level[it.Change.Collection] = append(level[it.Change.Collection], it.Change.Record)
		if id, err := uuid.Parse(definition.Plain(it.Change.Fields[c.Parent.Field].To)); err == nil {
			above[c.Parent.Collection] = append(above[c.Parent.Collection], id)
		}
	}
	var all []Key
	for range len(n.definitions) { // no chain is longer
		for _, name := range slices.Sorted(maps.Keys(level)) {
			c := n.definitions[name]
			ids, err := storedParents(c, level[name])
			if err != nil {
				return nil, err
			}
			above[c.Parent.Collection] = append(above[c.Parent.Collection], ids...)
		}
		clear(level)
		for name, ids := range above {
			for _, id := range ids {
				all = append(all, Key{name, id})
			}
			c := n.definitions[name]
			if c != nil && c.Parent != nil && n.definitions[c.Parent.Collection].Totals(name) && len(ids) > 0 {
				level[name] = ids
			}
		}
		clear(above)
		if len(level) == 0 {
			break
		}
	}
	return all, nil
}

// Settled says whether the parents of the locked rows are among those that were found before the locks: otherwise
// somebody got in between.
func (n Need) Settled(rows map[Key]*Row, parents []Key) bool {
	found := make(map[Key]bool, len(parents))
	for _, parent := range parents {
		found[parent] = true
	}
	for _, at := range n.Keys() {
		if row := rows[at]; row != nil {
			if parent, names := parentOf(n.definitions, at, row.Fields); names && !found[parent] {
				return false
			}
		}
	}
	return true
}

// Removed are the records that items remove, by collection.
func (n Need) Removed() map[string][]uuid.UUID {
	removed := map[string][]uuid.UUID{}
	for _, it := range n.items {
		if it.Unreadable == nil && it.Change.Kind == change.Remove {
			removed[it.Change.Collection] = append(removed[it.Change.Collection], it.Change.Record)
		}
	}
	return removed
}

// Counting are the loaded rows whose totals count children of one collection, by that collection.
func (n Need) Counting(rows map[Key]*Row) map[string][]uuid.UUID {
	counting := map[string][]uuid.UUID{}
	for at, row := range rows {
		c := n.definitions[at.Collection]
		if c == nil || !c.HasTotals() || row.Removed {
			continue
		}
		for _, child := range definition.ChildrenOf(at.Collection, n.definitions) {
			if c.Totals(child.Definition.Collection) {
				name := child.Definition.Collection
				counting[name] = append(counting[name], at.ID)
			}
		}
	}
	for _, ids := range counting {
		slices.SortFunc(ids, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	}
	return counting
}

// Draws says how many numbers of each series the records may need at most, in a fixed order. Whatever a change does
// to a record, it may need a number afterwards: a series may have been added to the definition since the record was.
// Imported says that rows keep the numbers that they bring.
func (n Need) Draws(known map[int64]Kept, rows map[Key]*Row, imported bool) []Draw {
	need := map[Series]map[Key]bool{}
	for _, it := range n.items {
		c := n.definitions[it.Change.Collection]
		if _, answered := known[it.Change.Number]; it.Unreadable != nil || c == nil || answered {
			continue
		}
		at := keyOf(it)
		for field := range c.SeriesFields() {
			if row := rows[at]; row != nil && row.Fields[field] != nil || imported && it.Change.Fields[field].To != nil {
				continue
			}
			series := Series{at.Collection, field}
			if need[series] == nil {
				need[series] = map[Key]bool{}
			}
			need[series][at] = true
		}
	}
	all := make([]Draw, 0, len(need))
	for series, records := range need {
		looks := n.definitions[series.Collection].SeriesFields()[series.Field]
		all = append(all, Draw{series, len(records), looks})
	}
	slices.SortFunc(all, func(a, b Draw) int { return a.Series.Compare(b.Series) })
	return all
}

// Draw is how many numbers of a series are wanted, and how they look.
type Draw struct {
	Series Series
	Count  int
	Looks  definition.Series
}

// Brought gives the highest number that imported rows bring for each series, so that the series can go on behind it.
func (n Need) Brought() map[Series]int64 {
	highest := map[Series]int64{}
	for _, it := range n.items {
		c := n.definitions[it.Change.Collection]
		if it.Unreadable != nil || c == nil {
			continue
		}
		for field, looks := range c.SeriesFields() {
			if number, fits := looks.Number(definition.Plain(it.Change.Fields[field].To)); fits {
				series := Series{it.Change.Collection, field}
				highest[series] = max(highest[series], number)
			}
		}
	}
	return highest
}

// parentOf is the parent that a record names.
func parentOf(definitions map[string]*definition.Collection, at Key, fields record.Fields) (Key, bool) {
	c := definitions[at.Collection]
	if c == nil || c.Parent == nil {
		return Key{}, false
	}
	id, names := c.ParentOf(fields)
	return Key{c.Parent.Collection, id}, names
}
