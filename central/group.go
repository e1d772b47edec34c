package central

import (
	"maps"
	"slices"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/wire"
)

// unit is what is accepted or not as a whole: one change, or a group of them. Its members are indices among the items, in order.
type unit struct {
	group   uuid.UUID // nil for a change on its own
	of      int
	members []int
	uneven  bool // its members do not agree on how many there are
}

// units puts the items into the order in which they are worked on: a group comes where its last member stands.
func units(items []item) []*unit {
	var all []*unit
	groups := map[uuid.UUID]*unit{}
	for n, it := range items {
		g := it.change.Group
		if it.unreadable != nil || g == nil {
			all = append(all, &unit{members: []int{n}})
			continue
		}
		u := groups[g.ID]
		if u == nil {
			u = &unit{group: g.ID, of: g.Of}
			groups[g.ID] = u
			all = append(all, u)
		}
		u.uneven = u.uneven || u.of != g.Of
		u.members = append(u.members, n)
	}
	slices.SortFunc(all, func(a, b *unit) int { return a.last() - b.last() })
	return all
}

func (u *unit) last() int { return u.members[len(u.members)-1] }

// workAll works through the items, and looks again at what waited for something that stands further down, until nothing moves any more.
func (d *desk) workAll(items []item) {
	open := units(items)
	for moved := true; moved; {
		moved = false
		var waiting []*unit
		for _, u := range open {
			d.workUnit(u, items)
			d.noteWaits(u, items)
			if slices.ContainsFunc(u.members, func(n int) bool { return d.answers[n].Answer == change.Waiting }) {
				waiting = append(waiting, u)
				continue
			}
			moved = true
		}
		if open = waiting; len(open) == 0 {
			return
		}
	}
}

// noteWaits keeps later changes of a record behind one that waits.
func (d *desk) noteWaits(u *unit, items []item) {
	for _, n := range u.members {
		ch := items[n].change
		at := key{ch.Collection, ch.Record}
		if d.answers[n].Answer != change.Waiting {
			delete(d.waits[at], ch.Number)
			continue
		}
		if d.waits == nil {
			d.waits = map[key]map[int64]bool{}
		}
		if d.waits[at] == nil {
			d.waits[at] = map[int64]bool{}
		}
		d.waits[at][ch.Number] = true
	}
}

// workUnit takes a change, or all changes of a group or none. Of a group whose members were answered before, these have their answers.
func (d *desk) workUnit(u *unit, items []item) {
	if u.group == uuid.Nil {
		d.work(u.members[0], items[u.members[0]])
		return
	}
	numbers := map[int64]bool{}
	var fresh, again []int
	for _, n := range u.members {
		number := items[n].change.Number
		_, known := d.known[number]
		_, now := d.fresh[number]
		if known || now || numbers[number] {
			again = append(again, n)
		} else {
			fresh = append(fresh, n)
		}
		numbers[number] = true
	}
	d.workGroup(u, fresh, len(numbers), items)
	for _, n := range again { // repetitions get the answer that the group came to
		number := items[n].change.Number
		_, known := d.known[number]
		if _, now := d.fresh[number]; known || now {
			d.work(n, items[n])
		} else {
			d.answers[n] = wire.Answer{Number: number, Answer: change.Waiting, Reasons: reason(change.CodeHangsOnGroup, "its group waits")}
		}
	}
}

func (d *desk) workGroup(u *unit, fresh []int, present int, items []item) {
	switch {
	case u.uneven:
		for _, n := range fresh {
			d.settle(n, items[n], refusal(items[n].change.Number, change.CodeMalformed, "the changes of this group do not agree on how many they are"))
		}
		return
	case present < u.of:
		for _, n := range fresh {
			d.answers[n] = wire.Answer{Number: items[n].change.Number, Answer: change.Waiting, Reasons: reason(change.CodeGroupIncomplete,
				"its group has %d changes, and %d of them came in this batch; send the group whole", u.of, present)}
		}
		return
	}
	before := d.keep(fresh, items)
	d.workMembers(fresh, items)
	bad := slices.IndexFunc(fresh, func(n int) bool { return d.answers[n].Answer == change.Refused })
	if bad < 0 {
		bad = slices.IndexFunc(fresh, func(n int) bool { return d.answers[n].Answer == change.Waiting })
	}
	if bad < 0 {
		return
	}
	d.restore(before)
	culprit, verdict := fresh[bad], d.answers[fresh[bad]].Answer
	for _, n := range fresh {
		if d.answers[n].Answer != verdict {
			d.answers[n] = wire.Answer{Number: items[n].change.Number, Answer: verdict, Reasons: reason(change.CodeHangsOnGroup,
				"it stands or falls with change %d, which is %s", items[culprit].change.Number, verdict)}
		}
		if verdict == change.Refused {
			d.settle(n, items[n], d.answers[n])
			if items[n].change.Kind == change.Add {
				d.failedAdds[key{items[n].change.Collection, items[n].change.Record}] = true
			}
		}
	}
}

// workMembers works through the changes of a group, which may hang on each other in any order.
func (d *desk) workMembers(members []int, items []item) {
	for _, n := range members {
		d.work(n, items[n])
	}
	for moved := true; moved; {
		moved = false
		for _, n := range members {
			if d.answers[n].Answer == change.Waiting {
				d.work(n, items[n])
				moved = moved || d.answers[n].Answer != change.Waiting
			}
		}
	}
}

// kept is what the desk knew before a group.
type kept struct {
	rows              map[key]*row
	versions, settled int
	fresh             map[int64]settledAnswer
	failedAdds        map[key]bool
}

func (d *desk) keep(members []int, items []item) kept {
	k := kept{rows: map[key]*row{}, versions: len(d.versions), settled: len(d.settled), fresh: maps.Clone(d.fresh), failedAdds: maps.Clone(d.failedAdds)}
	for _, n := range members {
		at := key{items[n].change.Collection, items[n].change.Record}
		k.rows[at] = nil
		if r := d.rows[at]; r != nil {
			was := *r
			k.rows[at] = &was
		}
	}
	return k
}

func (d *desk) restore(k kept) {
	for at, was := range k.rows {
		if was == nil {
			delete(d.rows, at)
		} else {
			d.rows[at] = was
		}
	}
	d.versions, d.settled, d.fresh, d.failedAdds = d.versions[:k.versions], d.settled[:k.settled], k.fresh, k.failedAdds
}
