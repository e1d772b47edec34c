package desk

import (
	"slices"

	"github.com/google/uuid"

	"homing/core/change"
)

// Unit is what is accepted or not as a whole: one change, or a group of them. Its members are indices among the
// items, in order.
type Unit struct {
	Members []int
	group   uuid.UUID // nil for a change on its own
	of      int
	uneven  bool // its members do not agree on how many there are
}

// Units puts the items into the order in which they are worked on: a group comes where its last member stands.
func Units(items []Item) []*Unit {
	var all []*Unit
	groups := map[uuid.UUID]*Unit{}
	for n, it := range items {
		g := it.Change.Group
		if it.Unreadable != nil || g == nil {
			all = append(all, &Unit{Members: []int{n}})
			continue
		}
		u := groups[g.ID]
		if u == nil {
			u = &Unit{group: g.ID, of: g.Of}
			groups[g.ID] = u
			all = append(all, u)
		}
		u.uneven = u.uneven || u.of != g.Of
		u.Members = append(u.Members, n)
	}
	slices.SortFunc(all, func(a, b *Unit) int { return a.last() - b.last() })
	return all
}

func (u *Unit) last() int { return u.Members[len(u.Members)-1] }

// workAll works through the items, and looks again at what waited for something that stands further down, until nothing
// moves any more.
func (d *desk) workAll(items []Item) {
	open := Units(items)
	for moved := true; moved; {
		moved = false
		var waiting []*Unit
		for _, u := range open {
			d.workUnit(u, items)
			d.noteWaits(u, items)
			if slices.ContainsFunc(u.Members, d.waiting) {
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

func (d *desk) waiting(n int) bool { return d.out.Answers[n].Answer == change.Waiting }
func (d *desk) refused(n int) bool { return d.out.Answers[n].Answer == change.Refused }

// noteWaits keeps later changes of a record behind one that waits.
func (d *desk) noteWaits(u *Unit, items []Item) {
	for _, n := range u.Members {
		ch, at := items[n].Change, keyOf(items[n])
		if !d.waiting(n) {
			delete(d.waits[at], ch.Number)
			continue
		}
		if d.waits[at] == nil {
			d.waits[at] = map[int64]bool{}
		}
		d.waits[at][ch.Number] = true
	}
}

// workUnit takes a change, or all changes of a group or none. Of a group whose members were answered before, these
// have their answers.
func (d *desk) workUnit(u *Unit, items []Item) {
	if u.group == uuid.Nil {
		d.work(u.Members[0], items[u.Members[0]])
		return
	}
	numbers := map[int64]bool{}
	var fresh, again []int
	for _, n := range u.Members {
		number := items[n].Change.Number
		if d.answered(number) || numbers[number] {
			again = append(again, n)
		} else {
			fresh = append(fresh, n)
		}
		numbers[number] = true
	}
	for _, n := range again {
		if !d.answered(items[n].Change.Number) {
			continue
		}
		if d.work(n, items[n]); d.refused(n) {
			// A copy of the store has used its number, or the group was refused before without the others.
			d.refuseWith(n, fresh, items)
			fresh = nil
			break
		}
	}
	if len(fresh) > 0 {
		d.workGroup(u, fresh, len(numbers), items)
	}
	for _, n := range again { // repetitions get the answer that the group came to
		number := items[n].Change.Number
		switch {
		case d.out.Answers[n].Answer != "":
		case d.answered(number):
			d.work(n, items[n])
		default:
			d.out.Answers[n] = Answer{Number: number, Answer: change.Waiting,
				Reasons: reason(change.CodeHangsOnGroup, "its group waits")}
		}
	}
}

// refuseWith refuses changes for good since one of their group is refused.
func (d *desk) refuseWith(culprit int, members []int, items []Item) {
	for _, n := range members {
		d.conclude(n, items[n], Answer{Number: items[n].Change.Number, Answer: change.Refused, Reasons: reason(change.CodeHangsOnGroup,
			"it stands or falls with change %d, which is refused", items[culprit].Change.Number)})
		if items[n].Change.Kind == change.Add {
			d.failedAdds[keyOf(items[n])] = true
		}
	}
}

func (d *desk) workGroup(u *Unit, fresh []int, present int, items []Item) {
	switch {
	case u.uneven:
		for _, n := range fresh {
			d.conclude(n, items[n], refusal(items[n].Change.Number, change.CodeMalformed,
				"the changes of this group do not agree on how many they are"))
		}
		return
	case present < u.of:
		for _, n := range fresh {
			d.out.Answers[n] = Answer{Number: items[n].Change.Number, Answer: change.Waiting,
				Reasons: reason(change.CodeGroupIncomplete,
					"its group has %d changes, and %d of them came in this batch; send the group whole", u.of, present)}
		}
		return
	}
	before := d.remember(fresh, items)
	d.workMembers(fresh, items)
	bad := slices.IndexFunc(fresh, d.refused)
	if bad < 0 {
		bad = slices.IndexFunc(fresh, d.waiting)
	}
	if bad < 0 {
		return
	}
	d.goBack(before)
	culprit, verdict := fresh[bad], d.out.Answers[fresh[bad]].Answer
	for _, n := range fresh {
		if d.out.Answers[n].Answer != verdict {
			d.out.Answers[n] = Answer{Number: items[n].Change.Number, Answer: verdict, Reasons: reason(change.CodeHangsOnGroup,
				"it stands or falls with change %d, which is %s", items[culprit].Change.Number, verdict)}
		}
		if verdict == change.Refused {
			d.conclude(n, items[n], d.out.Answers[n])
			if items[n].Change.Kind == change.Add {
				d.failedAdds[keyOf(items[n])] = true
			}
		}
	}
}

// workMembers works through the changes of a group, which may hang on each other in any order.
func (d *desk) workMembers(members []int, items []Item) {
	for _, n := range members {
		d.work(n, items[n])
	}
	for moved := true; moved; {
		moved = false
		for _, n := range members {
			if d.waiting(n) {
				d.work(n, items[n])
				moved = moved || !d.waiting(n)
			}
		}
	}
}
