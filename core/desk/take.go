package desk

import (
	"errors"
	"maps"
	"time"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/rights"
)

// take checks and merges one new change. If it is accepted, its answer and version are noted.
func (d *desk) take(n int, it Item) (change.Verdict, []change.Reason) {
	ch, at := it.Change, keyOf(it)
	collection, who, verdict, reasons := d.admit(ch)
	if verdict != "" {
		return verdict, reasons
	}
	current := d.read.Rows[at]
	if current != nil && !d.touchable(at, d.rebase(ch.Base, current)) {
		if ch.Kind == change.Add {
			return change.Refused, reason(change.CodeNotAllowed, "the id %s cannot be used; save it as another record", at.ID)
		}
		current = nil // for who may not see it, it is not there
	}
	if current == nil {
		// After a restore, whoever added the record offers it again.
		hangs := d.failedAdds[at] || ch.Base == 0 || d.from.Restores > 0
		if hangs && ch.Kind != change.Add {
			return change.Waiting, reason(change.CodeHangsOnRefused,
				"the record's add was refused or has not come; mend it, and this change goes in")
		}
		current = &Row{}
	}
	ch.Base = d.rebase(ch.Base, current)
	var dropped bool
	ch.Fields, dropped = d.settable(collection, ch.Fields)
	if ch.Kind == change.Add && current.Removed && collection.Coverage != nil {
		ch.Fields, ch.Base = startOver(current.Fields, ch.Fields), current.Revision
	}
	edit := merge.Edit{Kind: ch.Kind, Base: ch.Base, Fields: ch.Fields, Stamp: d.dated(ch),
		Source: change.Source{Incarnation: d.from.Incarnation, Number: ch.Number}, Seen: ch.Seen, Direct: d.from.direct() || d.out.Torn}
	out, err := merge.Merge(collection.Rules(), current.State, edit)
	if err != nil {
		var refused *merge.Refusal
		if errors.As(err, &refused) {
			return change.Refused, []change.Reason{refused.Reason}
		}
		return change.Refused, reason(change.CodeMalformed, "%v", err)
	}
	if d.from.Finish != nil {
		d.from.Finish(current.State, edit, &out)
	}
	if closed := d.closed(collection, current, edit, out.State.Fields); closed != nil {
		return change.Refused, closed
	}
	d.holdBack(collection, at, current, edit, &out)
	if verdict, reasons := d.family(collection, at, current, &out); verdict != "" {
		return verdict, reasons
	}
	given := false
	if !out.State.Removed {
		if given, err = d.fillIn(collection, at, who, edit, &out); err != nil {
			return change.Refused, reason(change.CodeInvalidValue, "%v", err)
		}
		if wrong := collection.NewlyWrong(current.Fields, out.State.Fields); len(wrong) > 0 {
			return change.Refused, wrong
		}
	}
	if taken := d.keyTaken(collection, at, current, out.State); taken != nil {
		return change.Refused, taken
	}
	if err := allowed(collection, who, ch.Kind, current, out.State); err != nil {
		return change.Refused, reason(change.CodeNotAllowed, "%v", err)
	}
	next := *current
	if err := next.Move(collection, out.State); err != nil {
		return change.Refused, reason(change.CodeInvalidValue, "%v", err)
	}
	if d.takesOver(collection, at, out.State.Fields) {
		return change.Refused, reason(change.CodeNotAllowed, "the record is not covered any more, and others have worked on it; "+
			"let somebody who covers it bring it back")
	}
	if dropped && out.Verdict == change.Applied {
		out.Verdict = change.Merged
	}
	// What its workers did not see before, the device does not know whole, nor what was removed and is brought back: a
	// tombstone comes without fields.
	unknown := !d.from.direct() && current.Exists() && (current.Removed || !d.seen(at, current))
	next.State = out.State
	d.note(n, at, &next, ch, out, edit.Stamp, given || it.renamed || it.Sealed || unknown)
	return out.Verdict, nil
}

// startOver is an add of the record for a place and period that was removed: it stands as if its author knew of all that it said, and nothing of that comes
// back by itself.
func startOver(gone record.Fields, delta record.Delta) record.Delta {
	whole := maps.Clone(delta)
	if whole == nil {
		whole = record.Delta{}
	}
	for name, value := range gone {
		if _, sets := whole[name]; !sets {
			whole[name] = record.Edit{From: value}
		}
	}
	return whole
}

// closed refuses an edit, or a removal, of a record by who knows that it was marked complete.
func (d *desk) closed(c *definition.Collection, current *Row, edit merge.Edit, after record.Fields) []change.Reason {
	if !c.Completes() || current.Removed || d.from.Follows || d.from.Finish != nil || !edit.Knows(current.State, c.Coverage.Complete) {
		return nil
	}
	return c.Closed(edit.Kind, current.Fields, after, definition.Settles(current.Marks.Disputes, edit.Fields))
}

// admit says which collection a change is of and who made it, or why it is not looked at any further.
func (d *desk) admit(ch change.Change) (c *definition.Collection, who rights.Person, verdict change.Verdict,
	why []change.Reason) {
	c = d.read.Definitions[ch.Collection]
	if c == nil && d.from.Restores > 0 {
		return nil, who, change.Waiting, reason(change.CodeUnknownCollection,
			"central was restored from before %q was defined; when it is defined again, this goes in", ch.Collection)
	}
	if c == nil {
		return nil, who, change.Refused, reason(change.CodeUnknownCollection, "central has no collection %q", ch.Collection)
	}
	who, known := d.from.author(ch)
	if !known && d.from.Restores > 0 {
		return nil, who, change.Waiting, reason(change.CodeUnknownAuthor, "central was restored from before %s joined this device; "+
			"when they join it again, this goes in", ch.Author)
	}
	if !known {
		return nil, who, change.Refused, reason(change.CodeNotAllowed,
			"the change was made by %s, who is not a worker of this device; it belongs to %s", ch.Author, d.from.People[0].Name)
	}
	if !who.Role.May(rights.ChangeRecords) {
		return nil, who, change.Refused, reason(change.CodeNotAllowed, "the role %s may not change records", who.Role)
	}
	if !d.from.direct() && !c.Sync.Direction.Pushes() {
		return nil, who, change.Refused, reason(change.CodeNotAllowed,
			"%s only go from central to devices; change them at central", c.Title)
	}
	for number := range d.waits[Key{ch.Collection, ch.Record}] {
		if number < ch.Number && ch.Kind != change.Add { // an add may be what the others wait for
			return nil, who, change.Waiting, reason(change.CodeHangsOnEarlier,
				"it comes after change %d of the same record, which waits", number)
		}
	}
	return c, who, "", nil
}

// rebase gives the revision of this database that the author of a change knew for certain. What an earlier one had
// beyond the backup that it was restored from is gone, and its revisions say something else now.
func (d *desk) rebase(base int64, current *Row) int64 {
	switch d.from.Restores {
	case 0:
		return base
	case 1:
		return min(base, current.Restored)
	}
	return 0
}

// dated is the stamp of a change in central's time.
func (d *desk) dated(ch change.Change) clock.Stamp {
	return d.from.Offset.Turned(turned(ch)).Correct(ch.Stamp, d.from.Received)
}

// allowed asks the collection's own rules. What they judge is the record as it was at central and as it would be there.
func allowed(c *definition.Collection, who rights.Person, kind change.Kind, current *Row, next merge.State) error {
	switch {
	case kind == change.Remove:
		return c.MayRemove(who, current.Fields)
	case !current.Exists() || current.Removed:
		return c.MayAdd(who, next.Fields)
	}
	return c.MayEdit(who, current.Fields, next.Fields)
}

// note keeps an accepted change. Brings says that the device does not have all of what came out.
func (d *desk) note(n int, at Key, next *Row, ch change.Change, out merge.Outcome, stamp clock.Stamp, brings bool) {
	delete(d.failedAdds, at)
	edited := ch.EditedAt.Add(d.from.Offset.By)
	if ch.TurnedMS != 0 {
		edited = stamp.Time()
	}
	if edited.After(d.from.Received) {
		edited = d.from.Received
	}
	v := &Version{Key: at, Change: ch, Revision: out.State.Revision, Removed: out.State.Removed, Delta: out.Delta,
		Decisions: out.Decisions, Stamp: stamp, EditedAt: edited,
		Off: d.from.Offset.Error + time.Duration(ch.UnsureMS)*time.Millisecond, Author: d.from.People[0].Name}
	if ch.Author != "" {
		v.Author = ch.Author
	}
	if before := d.read.Rows[at]; before != nil && before.Exists() && !before.Removed {
		v.Before = before.Fields
	}
	if !out.State.Removed {
		v.After = out.State.Fields
	}
	d.out.Versions = append(d.out.Versions, v)
	next.last = v
	next.Last = LastChange{Author: v.Author, Device: d.from.Device, EditedAt: edited, ReceivedAt: d.from.Received}
	d.put(at, next)
	answer := Answer{Number: ch.Number, Answer: out.Verdict, Revision: out.State.Revision, Stamp: stamp}
	brings = brings || out.Verdict != change.Applied || d.from.Restores > 0
	if brings || !d.from.direct() {
		// What the workers do not cover now, the device is not to keep, even where it is as the device has it.
		answer.Record = d.shown(at, next, brings)
	}
	d.out.Answers[n] = answer
}

func turned(ch change.Change) time.Duration { return time.Duration(ch.TurnedMS) * time.Millisecond }
