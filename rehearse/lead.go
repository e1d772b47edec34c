package rehearse

import (
	"encoding/json"
	"maps"
	"slices"

	"github.com/google/uuid"

	"homing/central/changes"
	"homing/central/fault"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/merge"
	"homing/core/record"
)

// opened is a record as somebody has it open at central, perhaps for long.
type opened struct {
	collection string
	id         uuid.UUID
	revision   int64
	fields     record.Fields
}

// saveAtCentral lets the lead, or one of several who sign in as that, write at central itself: on what is there now,
// or on what they have had open for a while. What was removed may be brought back.
func (w *world) saveAtCentral() error {
	if w.chance(10) {
		return w.redefine()
	}
	def := w.options.Definitions[w.random.IntN(len(w.options.Definitions))]
	all, _, err := w.side.whole()
	if err != nil {
		return err
	}
	var records []desk.Held
	var parents []uuid.UUID
	for _, r := range all {
		if r.Collection == def.Collection {
			records = append(records, r)
		}
		if def.Parent != nil && r.Collection == def.Parent.Collection && !r.Removed {
			parents = append(parents, r.ID)
		}
	}
	if w.chance(15) {
		return w.importRows(def, records, parents)
	}
	roll := w.random.IntN(100)
	if len(records) == 0 || roll < 15 {
		fields, notes := w.values(atCentral, def, nil, true, parents)
		write := changes.Write{Collection: def.Collection, Record: w.newID(), Kind: change.Add, Base: -1,
			Fields: delta(fields)}
		return w.write(def, write, notes, "adds", fields)
	}
	r := records[w.random.IntN(len(records))]
	if w.chance(50) {
		r = records[w.random.IntN(min(3, len(records)))] // some records are everybody's concern
	}
	if !r.Removed && w.chance(40) {
		w.opened = append(w.opened, opened{r.Collection, r.ID, r.Revision, r.Fields})
	}
	write := changes.Write{Collection: def.Collection, Record: r.ID, Kind: change.Edit, Base: r.Revision}
	old := r.Fields
	if r.Removed {
		write.Kind = change.Add
		fields, notes := w.values(atCentral, def, old, false, parents)
		write.Fields = delta(fields)
		return w.write(def, write, notes, "brings back", fields)
	}
	if at := slices.IndexFunc(w.opened, func(o opened) bool { return o.collection == def.Collection }); at >= 0 &&
		w.chance(60) {
		was := w.opened[at]
		w.opened = slices.Delete(w.opened, at, at+1)
		write.Record, write.Base, old = was.id, was.revision, was.fields
	}
	switch {
	case len(r.Marks.Disputes) > 0 && write.Record == r.ID && roll < 50:
		return w.settleAtCentral(def, r)
	case roll < 30:
		write.Kind, write.WithChildren = change.Remove, w.chance(70)
		return w.write(def, write, nil, "removes", nil)
	}
	fields, notes := w.values(atCentral, def, old, false, parents)
	if len(fields) == 0 {
		return nil
	}
	write.Fields = delta(fields)
	return w.write(def, write, notes, "edits", fields)
}

func (w *world) settleAtCentral(def definition.Definition, r desk.Held) error {
	names := slices.Sorted(maps.Keys(r.Marks.Disputes))
	field := names[w.random.IntN(len(names))]
	others := r.Marks.Disputes[field].Others
	write := changes.Write{Collection: def.Collection, Record: r.ID, Kind: change.Edit, Base: r.Revision,
		Settles: &changes.Settlement{Field: field, Value: others[w.random.IntN(len(others))].Value}}
	if field == merge.RecordRemoval {
		if w.chance(50) {
			write.Kind, write.WithChildren = change.Remove, true
		}
	} else if w.chance(40) {
		write.Settles.Value = r.Fields.At(field)
	}
	w.ledger.settled[touched{atCentral, r.ID}] = true
	return w.write(def, write, nil, "settles "+field+" of", nil)
}

// write takes what the lead may be told as it is.
func (w *world) write(def definition.Definition, write changes.Write, notes []*save, does string,
	fields map[string]any) error {
	_, err := w.side.direct(write)
	if known := fault.Explain(err); known != nil {
		w.tell("%s %s %s at central, and is told: %v", lead, does, name(def.Collection, write.Record), known)
		return nil
	}
	if err != nil {
		return err
	}
	w.tell("%s %s %s at central, having seen revision %d: %s", lead, does, name(def.Collection, write.Record),
		write.Base, describe(fields))
	w.enter(atCentral, lead, def, write.Record, notes)
	return nil
}

// delta is what a form sends.
func delta(fields map[string]any) record.Delta {
	all := record.Delta{}
	for name, value := range fields {
		text, err := json.Marshal(value)
		if err == nil {
			all[name] = record.Edit{To: text}
		}
	}
	return all
}
