package desk

import (
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/sight"
)

// Whoever changes a record must have been allowed to see it: as it is, or as it was at the revision that the change is
// based on, by what the workers of the device covered then. The latter lets in what was saved without signal while a
// record was covered, and comes after it was withdrawn.

// Former are the people that a device had until a moment, with the rights that they had.
type Former struct {
	People sight.Askers
	Until  time.Time
}

// Moment is what a record was from a revision on, under the names that fields had then.
type Moment struct {
	Revision    int64
	Fields      record.Fields
	Source      change.Source // of the change that made it so
	From, Until time.Time     // when it was that; Until is zero for what it is now
}

// Next gives the moments of a record with the one that a further version begins.
func Next(past []Moment, revision int64, source change.Source, received time.Time, delta record.Delta) []Moment {
	fields := record.Fields{}
	if n := len(past); n > 0 {
		fields, past[n-1].Until = past[n-1].Fields, received
	}
	return append(past, Moment{Revision: revision, Fields: fields.Apply(delta), Source: source, From: received})
}

// Formerly is a definition in one of its versions.
type Formerly struct {
	Collection *definition.Collection
	From       time.Time
}

// Pasts is what a desk needs to know of what was, to decide about records that the people of a device do not see now.
type Pasts struct {
	Former      []Former              // the latest last
	Moments     map[Key][]Moment      // by revision
	Definitions map[string][]Formerly // by version
}

// Unseen are those of the loaded records that items change, or hang others on, and that the people do not see now.
// What is written at central has no past: nobody there is without signal.
func (n Need) Unseen(from Origin, rows map[Key]*Row) []Key {
	var all []Key
	look := func(at Key) {
		row := rows[at]
		if row == nil || !row.Exists() || slices.Contains(all, at) {
			return
		}
		if !from.People.See(n.definitions[at.Collection], row.Territories, row.Fields) {
			all = append(all, at)
		}
	}
	for _, it := range n.items {
		c := n.definitions[it.Change.Collection]
		if it.Unreadable != nil || c == nil {
			continue
		}
		look(keyOf(it))
		if c.Parent == nil {
			continue
		}
		if id, err := uuid.Parse(definition.Plain(it.Change.Fields[c.Parent.Field].To)); err == nil {
			look(Key{c.Parent.Collection, id})
		}
	}
	return all
}

// touchable says whether the sender of a change that is based on a revision may change the record.
func (d *desk) touchable(at Key, base int64) bool {
	switch {
	case !d.unseen[at]:
		return true
	case base == 0:
		return d.added(at)
	}
	return slices.ContainsFunc(d.read.Pasts.Moments[at], func(m Moment) bool {
		return m.Revision == base && d.saw(at, m)
	})
}

// added says whether the sender's store added the record.
func (d *desk) added(at Key) bool {
	past := d.read.Pasts.Moments[at]
	return len(past) > 0 && d.mine(past[0])
}

// mine says whether a store of the sender's made a record what it was.
func (d *desk) mine(m Moment) bool { return slices.Contains(d.from.Stores, m.Source.Incarnation) }

// known says whether the sender may know that a record is there: its people see it, or have seen it.
func (d *desk) known(at Key) bool {
	return !d.unseen[at] || d.added(at) ||
		slices.ContainsFunc(d.read.Pasts.Moments[at], func(m Moment) bool { return d.saw(at, m) })
}

// takesOver says whether a change brings a record before the eyes of people who may not see it, with what others have
// put into it.
func (d *desk) takesOver(c *definition.Collection, at Key, fields record.Fields) bool {
	if !d.unseen[at] || d.added(at) && !slices.ContainsFunc(d.read.Pasts.Moments[at], func(m Moment) bool { return !d.mine(m) }) {
		return false
	}
	keys, err := c.TerritoriesOf(fields)
	return err == nil && d.from.People.See(c, keys, fields)
}

// holdBack leaves to a person who covers the record the fields by which a change would take it over.
func (d *desk) holdBack(c *definition.Collection, at Key, current *Row, edit merge.Edit, out *merge.Outcome) {
	if out.State.Removed || !d.takesOver(c, at, out.State.Fields) {
		return
	}
	all := out.Delta.Names()
	by := slices.DeleteFunc(slices.Clone(all), func(name string) bool {
		without := maps.Clone(out.State.Fields)
		if delete(without, name); current.Fields[name] != nil {
			without[name] = current.Fields[name]
		}
		return d.takesOver(c, at, without)
	})
	if len(by) == 0 {
		by = all // no single field does it
	}
	for _, name := range by {
		out.Hold(current.State, edit, name)
	}
}

// saw says whether the people whom the device had at some time saw what a record was at that time.
func (d *desk) saw(at Key, m Moment) bool {
	since := d.from.Since
	for _, former := range d.read.Pasts.Former {
		if d.sawAs(former.People, at, m, since, former.Until) {
			return true
		}
		since = former.Until
	}
	return d.sawAs(d.from.People, at, m, since, time.Time{})
}

func (d *desk) sawAs(people sight.Askers, at Key, m Moment, since, until time.Time) bool {
	if !meet(m.From, m.Until, since, until) {
		return false
	}
	from, until := later(m.From, since), earlier(m.Until, until)
	all := d.read.Pasts.Definitions[at.Collection]
	for n, one := range all {
		next := time.Time{}
		if n+1 < len(all) {
			next = all[n+1].From
		}
		if !meet(from, until, one.From, next) {
			continue
		}
		if keys, err := one.Collection.TerritoriesOf(m.Fields); err == nil && people.See(one.Collection, keys, m.Fields) {
			return true
		}
	}
	return false
}

// meet says whether two spans of time touch. The end of one that goes on is zero.
func meet(from, until, since, end time.Time) bool {
	return (end.IsZero() || !from.After(end)) && (until.IsZero() || !since.After(until))
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earlier(a, b time.Time) time.Time {
	if b.IsZero() || !a.IsZero() && a.Before(b) {
		return a
	}
	return b
}
