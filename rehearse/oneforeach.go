package rehearse

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"homing/conformance/driver"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
	"homing/device"
)

// sharing says that of so many seeds one has records of which there is one for each place and period, whoever adds them.
const sharing = 4

// share adds a collection in which everybody works on the records of a few places and weeks.
func (w *world) share() {
	text := func(name string, required bool, more string) definition.Field {
		return definition.Field{Name: name, Title: name, Required: required, Schema: json.RawMessage(`{"type":"string"` + more + `}`)}
	}
	spot, week, by := text("spot", true, ""), text("week", true, `,"period":"week"`), text("done_by", false, "")
	spot.Reference, week.Period, by.Marks = "spots", "week", true
	w.rounds = []definition.Definition{{Collection: "rounds", Version: 1, Title: "rounds", Label: "{week}",
		Fields:   []definition.Field{spot, week, text("note", false, ""), {Name: "seen", Title: "seen", Schema: json.RawMessage(`{"type":"array","items":{"type":"string"},"uniqueItems":true}`)}, by},
		Sync:     definition.Sync{Removal: merge.EditStays},
		Coverage: &definition.Coverage{Place: "spot", Period: "week", Complete: "done_by"}},
		// No device has the places themselves, so none of them says that there are none.
		{Collection: "spots", Version: 1, Title: "spots", Label: "{name}", Fields: []definition.Field{text("name", false, "")}, Sync: definition.Sync{Removal: merge.EditStays, Keep: definition.OnDemand}}}
	if w.options.Bug == TwoForOne {
		w.rounds[0].Coverage, w.rounds[0].Fields[4].Marks = nil, false
	}
	for range 2 {
		w.spots = append(w.spots, w.newID())
	}
}

// saveShared lets a worker do something about the record of a place and a week: add it, whether others have or not; edit it, mark it complete or
// open it again, remove it.
func (w *world) saveShared(ctx context.Context, d *unit) error {
	def := w.rounds[0]
	spot, week := w.spots[w.random.IntN(len(w.spots))], fmt.Sprintf("2026-W%d", 40+w.random.IntN(4))
	found, err := d.store.Find(ctx, def.Collection, driver.Find{Where: []string{"spot=" + spot.String(), "week=" + week}, Limit: 10})
	if err != nil {
		return w.saved(d, err)
	}
	w.ledger.made++
	made := func(field string, kind kind) *save {
		return &save{field: field, kind: kind, token: fmt.Sprintf("%c%d.", 'b'+d.n, w.ledger.made)}
	}
	notes := []*save{made("note", token)}
	fields := device.Fields{"note": notes[0].token}
	if len(found.Records) == 0 && w.chance(60) { // somebody begins a record, and says more later
		notes, fields = nil, device.Fields{}
	}
	if w.chance(50) {
		w.ledger.made++
		one := made("seen", tags)
		notes = append(notes, one)
		fields["seen"] = []any{one.token}
	}
	if len(found.Records) == 0 {
		fields["spot"], fields["week"] = spot.String(), week
		r, err := d.store.Add(ctx, def.Collection, fields)
		if err == nil {
			w.tell("%s adds %s for %s of the spot %s: %s", d.at, name(def.Collection, r.ID), week, spot.String()[32:], describe(fields))
		}
		if err := w.keep(d, def, r.ID, notes, err); err != nil || r.ID == uuid.Nil || fields["note"] != nil || w.chance(50) {
			return err
		}
		w.ledger.made++
		notes = []*save{made("note", token)}
		fields = device.Fields{"note": notes[0].token}
		w.tell("%s edits %s: %s", d.at, name(def.Collection, r.ID), describe(fields))
		_, err = d.store.Edit(ctx, def.Collection, r.ID, fields, nil)
		return w.keep(d, def, r.ID, notes, err)
	}
	r := found.Records[0]
	switch roll := w.random.IntN(10); {
	case roll == 0:
		w.tell("%s removes %s", d.at, name(r.Collection, r.ID))
		return w.saved(d, d.store.Remove(ctx, def.Collection, r.ID, nil))
	case roll < 3 && def.Coverage != nil:
		mark, what := d.store.Complete, "marks %s complete"
		if r.Fields["done_by"] != nil {
			mark, what = d.store.Reopen, "opens %s again"
		}
		w.tell("%s "+what, d.at, name(r.Collection, r.ID))
		_, err := mark(ctx, def.Collection, r.ID)
		return w.saved(d, err)
	}
	if fields["seen"] != nil {
		var before []any
		if raw := r.Fields["seen"]; raw != nil && json.Unmarshal(raw, &before) != nil {
			return errors.New("seen is no list")
		}
		fields["seen"] = append(slices.Clone(before), fields["seen"].([]any)...)
	}
	w.tell("%s edits %s: %s", d.at, name(def.Collection, r.ID), describe(fields))
	queue, err := d.store.Review(ctx)
	if err != nil {
		return err
	}
	now, err := d.store.Edit(ctx, def.Collection, r.ID, fields, nil)
	if r.Refused > 0 && err == nil {
		w.ledger.noteMended(touched{d.n, r.ID})
		if err := w.noteMended(ctx, d, queue); err != nil {
			return err
		}
	}
	w.told(d, r.ID, now.Decisions)
	return w.keep(d, def, r.ID, notes, err)
}

// checkShared looks for a second record of a place and a week, and for one under an id that does not follow from them.
func (w *world) checkShared() {
	for _, def := range w.rounds[:min(1, len(w.rounds))] {
		has := map[string]uuid.UUID{}
		for _, r := range w.records {
			if r.Collection != def.Collection || r.Removed {
				continue
			}
			at := string(r.Fields["spot"]) + string(r.Fields["week"])
			if other, twice := has[at]; twice {
				w.wrong("P2: %s and %s are for one place and week", name(r.Collection, r.ID), name(r.Collection, other))
			}
			has[at] = r.ID
			if id, follows := def.OneID(r.Fields); follows && id != r.ID {
				w.wrong("P2: %s should be %s", name(r.Collection, r.ID), name(r.Collection, id))
			}
		}
	}
}

// checkLeftOut looks for a note that was taken and did not stand, though the record had none and nobody had taken one away: what an add leaves out takes
// nothing from what others say, before or later.
func (w *world) checkLeftOut() {
	if len(w.rounds) == 0 {
		return
	}
	noted := map[uuid.UUID]bool{} // somebody has said something of the note
	for _, v := range w.history {
		if v.Collection != w.rounds[0].Collection || v.Removed || noted[v.ID] {
			continue
		}
		_, stood := v.Delta["note"]
		if says := v.Change.Fields["note"].To; says != nil && !stood {
			w.wrong("P1: %s was noted of %s, which had no note, and does not stand", says, name(v.Collection, v.ID))
		}
		noted[v.ID] = stood
	}
}

// begunAgain says whether a record was added once more after it was removed: nothing of what it said counts any more.
func (w *world) begunAgain(collection string, id uuid.UUID) bool {
	removed := false
	for _, v := range w.history {
		if v.Collection != collection || v.ID != id {
			continue
		}
		if v.Change.Kind == change.Add && removed {
			return true
		}
		removed = v.Removed
	}
	return false
}
