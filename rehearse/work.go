package rehearse

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/uuid"

	"homing/conformance/driver"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/device"
)

// save lets a worker add, edit, remove or settle something.
func (w *world) save(ctx context.Context, d *unit) error {
	if len(d.guests)+len(d.left) > 0 && w.chance(20) {
		if err := w.handOver(ctx, d); err != nil {
			return err
		}
	}
	if len(w.rounds) > 0 && w.chance(30) {
		return w.saveShared(ctx, d)
	}
	if len(w.counts) > 0 && w.chance(30) {
		return w.saveCounts(ctx, d)
	}
	def := d.knows(ctx, w.options.Definitions[w.random.IntN(len(w.options.Definitions))])
	if !def.Sync.Direction.Pushes() {
		return nil
	}
	var found device.Found
	if def.Sync.Keep.Loads() && def.Sync.Direction.Pulls() {
		var err error
		if found, err = d.store.Find(ctx, def.Collection, driver.Find{Limit: 1000}); err != nil {
			return err
		}
	}
	slices.SortFunc(found.Records, func(a, b device.Record) int { return slices.Compare(a.ID[:], b.ID[:]) })
	roll := w.random.IntN(100)
	if len(found.Records) == 0 || roll < 20 {
		return w.add(ctx, d, def)
	}
	among := len(found.Records)
	if w.chance(50) {
		among = min(among, 3) // some records are everybody's concern
	}
	r := found.Records[w.random.IntN(among)]
	switch {
	case len(r.Disputes) > 0 && roll < 60:
		return w.settle(ctx, d, def, r)
	case roll < 28:
		w.report.Saves++
		w.tell("%s removes %s", d.at, name(r.Collection, r.ID))
		return w.saved(d, d.store.Remove(ctx, def.Collection, r.ID, nil))
	case roll < 36:
		return w.group(ctx, d)
	}
	fields, notes := w.values(d.n, def, r.Fields, false, w.parents(ctx, d, def))
	if len(fields) == 0 {
		return nil
	}
	w.tell("%s edits %s: %s", d.at, name(def.Collection, r.ID), describe(fields))
	queue, err := d.store.Review(ctx)
	if err != nil {
		return err
	}
	now, err := d.store.Edit(ctx, def.Collection, r.ID, fields, nil)
	if r.Refused > 0 { // it mends that, and what was refused as a group with it
		w.ledger.noteMended(touched{d.n, r.ID})
		if err := w.noteMended(ctx, d, queue); err != nil {
			return err
		}
	}
	w.told(d, r.ID, now.Decisions)
	return w.keep(d, def, r.ID, notes, err)
}

// told notes what a worker was told when they mended a record: which of their values had given way already.
func (w *world) told(d *unit, id uuid.UUID, decisions []change.Decision) {
	for _, one := range decisions {
		for _, s := range w.ledger.saves {
			if field, _ := w.present(s.collection, one.Field); one.Kept == change.KeptCentral && s.record == id &&
				s.field == field &&
				w.kin(s.unit, d.n) && s.who == d.at {
				s.givenUp = true
			}
		}
	}
}

// knows is the version of a definition that the device has.
func (d *unit) knows(ctx context.Context, def definition.Definition) definition.Definition {
	if c, err := d.store.Collection(ctx, def.Collection); err == nil {
		return c.Definition
	}
	return def
}

// saved takes what a worker may be told as it is, and anything else as the end of the rehearsal.
func (w *world) saved(d *unit, err error) error {
	var invalid *device.InvalidError
	if err == nil || errors.As(err, &invalid) || errors.Is(err, device.ErrHasChildren) ||
		errors.Is(err, device.ErrNoRecord) || errors.Is(err, device.ErrNotAllowed) {
		if err != nil {
			w.tell("   %s is told: %v", d.at, err)
		}
		return nil
	}
	return err
}

func (w *world) keep(d *unit, def definition.Definition, id uuid.UUID, notes []*save, err error) error {
	if err != nil {
		return w.saved(d, err)
	}
	w.enter(d.n, d.at, def, id, notes)
	return nil
}

func (w *world) enter(unit int, who string, def definition.Definition, id uuid.UUID, notes []*save) {
	w.report.Saves++
	for _, s := range notes {
		s.unit, s.who, s.collection, s.record, s.at = unit, who, def.Collection, id, w.now
		w.bringUp(s) // a device may not know yet what the field is called
		w.ledger.add(s)
	}
}

func (w *world) add(ctx context.Context, d *unit, def definition.Definition) error {
	fields, notes := w.values(d.n, def, nil, true, w.parents(ctx, d, def))
	if def.Parent != nil && fields[def.Parent.Field] == nil {
		// There is nothing yet that it could belong to, and it may have to.
		field, _ := def.Field(def.Parent.Field)
		at := slices.IndexFunc(w.options.Definitions,
			func(up definition.Definition) bool { return up.Collection == def.Parent.Collection })
		if field.Required && at >= 0 {
			return w.add(ctx, d, d.knows(ctx, w.options.Definitions[at]))
		}
	}
	r, err := d.store.Add(ctx, def.Collection, fields)
	if err == nil {
		w.tell("%s adds %s: %s", d.at, name(def.Collection, r.ID), describe(fields))
	}
	return w.keep(d, def, r.ID, notes, err)
}

// group adds a parent with a child, which stand or fall together.
func (w *world) group(ctx context.Context, d *unit) error {
	at := slices.IndexFunc(w.options.Definitions, func(def definition.Definition) bool { return def.Parent != nil })
	if at < 0 {
		return nil
	}
	below := w.options.Definitions[at]
	top := w.options.Definitions[slices.IndexFunc(w.options.Definitions,
		func(def definition.Definition) bool { return def.Collection == below.Parent.Collection })]
	if top.Parent != nil {
		return nil
	}
	top, below = d.knows(ctx, top), d.knows(ctx, below)
	fields, notes := w.values(d.n, top, nil, true, nil)
	inner, innerNotes := w.values(d.n, below, nil, true, nil)
	made, err := d.store.Together(ctx, []driver.Step{{Collection: top.Collection, Fields: fields},
		{Collection: below.Collection, Fields: inner, Refers: map[string]int{below.Parent.Field: 0}}})
	if err != nil {
		return w.saved(d, err)
	}
	parent, child := made[0], made[1]
	w.tell(
		"%s adds %s with %s, as a group",
		d.at,
		name(top.Collection, parent.ID),
		name(below.Collection, child.ID),
	)
	return errors.Join(w.keep(d, top, parent.ID, notes, nil), w.keep(d, below, child.ID, innerNotes, nil))
}

// parents are the records that one of a collection could belong to.
func (w *world) parents(ctx context.Context, d *unit, def definition.Definition) (ids []uuid.UUID) {
	if def.Parent == nil {
		return nil
	}
	up, err := d.store.Find(ctx, def.Parent.Collection, driver.Find{Limit: 1000})
	if err != nil {
		return nil
	}
	for _, r := range up.Records {
		ids = append(ids, r.ID)
	}
	slices.SortFunc(ids, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	return ids
}

// someKeys are so few that two make a record with the same one now and then.
const someKeys = 15

// values makes new values, and notes what of them can be found again.
func (w *world) values(unit int, def definition.Definition, old record.Fields, all bool,
	parents []uuid.UUID) (device.Fields, []*save) {
	fields, notes := device.Fields{}, []*save{}
	for _, f := range def.Fields {
		if may, _ := f.Settable(); !may || f.Local || !all && !w.chance(35) || all && !f.Required && w.chance(30) {
			continue
		}
		if def.Unique && f.Name == def.Key {
			if all || w.chance(20) {
				fields[f.Name] = fmt.Sprintf("C-%d", w.random.IntN(someKeys))
			}
			continue
		}
		made, s := kindOf(def, f)
		w.ledger.made++
		one := &save{
			field: f.Name,
			kind:  made,
			token: fmt.Sprintf("%c%d.", 'b'+unit, w.ledger.made),
		} // the point: no token is the beginning of another
		var before any
		if raw := old[f.Name]; raw != nil && json.Unmarshal(raw, &before) != nil {
			continue
		}
		switch made {
		case token:
			fields[f.Name] = one.token
		case log:
			text, _ := before.(string)
			fields[f.Name] = text + one.token
		case number:
			was, _ := before.(float64)
			one.token, one.added = "", int64(1+w.random.IntN(9))
			if fields[f.Name] = int64(was) + one.added; before != nil && w.chance(10) {
				fields[f.Name], one.added = nil, -int64(was) // no value counts as 0
			}
		case tags:
			list, _ := before.([]any)
			if len(list) > 0 && w.chance(30) {
				one.token = ""
				fields[f.Name] = slices.Delete(slices.Clone(list), 0, 1)
			} else {
				fields[f.Name] = append(slices.Clone(list), one.token)
			}
		case parts:
			object, _ := before.(map[string]any)
			next := map[string]any{}
			for key, value := range object {
				next[key] = value
			}
			keys := slices.Sorted(func(yield func(string) bool) {
				for key := range s.Properties {
					if !yield(key) {
						return
					}
				}
			})
			part := keys[w.random.IntN(len(keys))]
			next[part] = one.token
			one.field += "/" + part
			fields[f.Name] = next
		case parent:
			one.token = ""
			if len(parents) == 0 {
				continue
			}
			fields[f.Name] = parents[w.random.IntN(len(parents))].String()
		default:
			one.token = ""
			value := anyValue(w.random, s)
			if f.Reference != "" || value == nil {
				continue
			}
			fields[f.Name] = value
		}
		if one.token != "" || one.added != 0 || made == tags {
			notes = append(notes, one)
		}
	}
	return fields, notes
}

func (w *world) settle(ctx context.Context, d *unit, def definition.Definition, r device.Record) error {
	var names []string
	for field := range r.Disputes {
		names = append(names, field)
	}
	slices.Sort(names)
	field := names[w.random.IntN(len(names))]
	w.report.Saves++
	others := r.Disputes[field].Others
	value := any(others[w.random.IntN(len(others))].Value)
	if field == merge.RecordRemoval {
		value = w.chance(50)
	} else if w.chance(40) {
		value = r.Fields.At(field)
	}
	w.tell("%s settles %s of %s", d.at, field, name(def.Collection, r.ID))
	w.ledger.settled[touched{d.n, r.ID}] = true
	_, err := d.store.Settle(ctx, def.Collection, r.ID, field, value)
	return w.saved(d, err)
}

// mend does something about the first change that was refused.
func (w *world) mend(ctx context.Context, d *unit) error {
	queue, err := d.store.Review(ctx)
	if err != nil {
		return err
	}
	for _, q := range queue {
		if q.Verdict != "" && len(q.Reasons) == 0 {
			w.wrong("P11: change %d of %s is %s, and nothing says why", q.Number, d.at, q.Verdict)
			return nil
		}
		if q.Verdict == change.Waiting && q.Reasons[0].Code == change.CodeNumberReused {
			return w.exchange(ctx, d) // it says that they should
		}
		if q.Verdict != change.Refused {
			continue
		}
		w.tell(
			"%s sends again what was refused of %s: %s",
			d.at,
			name(q.Collection, q.Record),
			q.Reasons[0].Message,
		)
		again := func() (device.Record, error) { return d.store.SendAgain(ctx, q.Number) }
		if why := q.Reasons[0]; why.Code == change.CodeKeyTaken {
			w.ledger.made++
			other := fmt.Sprintf("D-%d", w.ledger.made)
			w.tell("   with %s", other)
			again = func() (device.Record, error) {
				return d.store.Edit(ctx, q.Collection, q.Record, device.Fields{why.Field: other}, nil)
			}
		}
		r, err := again()
		if err != nil {
			return w.saved(d, err)
		}
		w.told(d, q.Record, r.Decisions)
		return w.noteMended(ctx, d, queue)
	}
	return nil
}

// noteMended notes of which records the changes have other numbers now: what was refused as one group is mended as one.
func (w *world) noteMended(ctx context.Context, d *unit, before []device.Queued) error {
	after, err := d.store.Review(ctx)
	if err != nil {
		return err
	}
	for _, q := range before {
		if slices.ContainsFunc(after, func(one device.Queued) bool { return one.Number == q.Number }) {
			continue
		}
		w.ledger.noteMended(touched{d.n, q.Record})
		if err := w.noteLeftOut(ctx, d, q); err != nil {
			return err
		}
	}
	return nil
}

// noteLeftOut notes that who sends again what was refused gives up values for which central has no field; the store
// writes a backup first.
func (w *world) noteLeftOut(ctx context.Context, d *unit, q device.Queued) error {
	c, err := d.store.Collection(ctx, q.Collection)
	if err != nil {
		return err
	}
	for name := range q.Fields {
		now := c.CurrentNames(record.Delta{name: {}})
		if slices.ContainsFunc(now.Names(), func(name string) bool { _, known := c.Field(name); return known }) {
			continue
		}
		kept, err := d.store.Backups(ctx)
		if err != nil || !slices.ContainsFunc(kept, func(path string) bool { return strings.Contains(path, "values-left-out") }) {
			w.wrong("P1: %s of %s is left out, and nothing is kept of it: %v", name, q.Label, err)
		}
		for _, s := range w.ledger.saves {
			if w.kin(s.unit, d.n) && s.who == d.at && s.record == q.Record && strings.Split(s.field, "/")[0] == name {
				s.givenUp = true
			}
		}
	}
	return nil
}

// offer sends whole records that a restored central has lost, and that came from a device which was lost, too. People
// talk to each other: nobody offers what somebody else has just offered.
func (w *world) offer(ctx context.Context, d *unit, round int) error {
	lost, err := d.store.LostRecords(ctx)
	if err != nil {
		return err
	}
	for _, one := range lost {
		if by, offered := w.ledger.offered[one.ID]; !one.Whole && !one.Removed ||
			offered && by.unit != d.n && by.round >= round-1 || w.waitsElsewhere(ctx, d, one.ID) {
			continue
		}
		if one.Removed || !w.definitionOf(one.Collection).Sync.Direction.Pushes() {
			w.tell(
				"%s lets go of %s, which central has lost and takes from nobody",
				d.at,
				name(one.Collection, one.ID),
			)
			if err := d.store.DropLost(ctx, one.Collection, one.ID, filepath.Join(w.folder, "given-up.jsonl")); err != nil {
				return err
			}
			continue
		}
		w.ledger.offered[one.ID] = offer{d.n, round}
		w.tell("%s offers %s, which central has lost", d.at, name(one.Collection, one.ID))
		if err := w.saved(d, d.store.OfferLost(ctx, one.Collection, one.ID)); err != nil {
			return err
		}
	}
	return nil
}

// waitsElsewhere says whether somebody else still has a change of a record unsent: whoever offers the record then would offer
// what is in that change, too, and a counter would count it twice.
func (w *world) waitsElsewhere(ctx context.Context, d *unit, id uuid.UUID) bool {
	for _, other := range w.devices {
		queue, err := other.store.Review(ctx)
		if other != d && err == nil && slices.ContainsFunc(queue, func(q device.Queued) bool { return q.Record == id }) {
			return true
		}
	}
	return false
}

// giveUp discards what is refused or waits, at the very end.
func (w *world) giveUp(ctx context.Context, d *unit) error {
	for {
		queue, err := d.store.Review(ctx)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(queue, func(q device.Queued) bool { return q.Verdict != "" })
		if at < 0 {
			return nil
		}
		q := queue[at]
		w.tell("%s gives up a change of %s, which is %s: %s", d.at, name(q.Collection, q.Record), q.Verdict,
			q.Reasons[0].Message)
		gone := map[uuid.UUID]bool{q.Record: true}
		before := w.pendingOf(queue)
		if err := d.store.Discard(ctx, q.Number, filepath.Join(w.folder, "given-up.jsonl")); err != nil {
			return err
		}
		if queue, err = d.store.Review(ctx); err != nil {
			return err
		}
		after := w.pendingOf(queue)
		for id := range before {
			if !after[id] {
				gone[id] = true
			}
		}
		for _, s := range w.ledger.saves {
			if w.kin(s.unit, d.n) && s.who == d.at && gone[s.record] {
				s.givenUp = true
			}
		}
	}
}

func (w *world) pendingOf(queue []device.Queued) map[uuid.UUID]bool {
	all := map[uuid.UUID]bool{}
	for _, q := range queue {
		all[q.Record] = true
	}
	return all
}

func name(collection string, id uuid.UUID) string {
	text := id.String()
	return collection + " " + text[len(text)-4:]
}

func describe(fields device.Fields) string {
	text, err := json.Marshal(fields)
	if err != nil {
		return err.Error()
	}
	return strings.ReplaceAll(string(text), `"`, "")
}
