package rehearse

import (
	"encoding/json"

	"github.com/google/uuid"

	"homing/central/changes"
	"homing/core/definition"
	"homing/core/desk"
)

// importRows brings a small table in at central: some rows are records that are there, by their id or by a key,
// others are new.
func (w *world) importRows(def definition.Definition, records []desk.Held, parents []uuid.UUID) error {
	key := ""
	if label, plain := plainLabel(def); plain && w.chance(50) {
		key = label
	}
	known := map[string]int{}
	for _, r := range records {
		known[string(r.Fields[key])]++
	}
	var rows []changes.TableRow
	var notes [][]*save
	used := map[uuid.UUID]bool{}
	for range 1 + w.random.IntN(6) {
		var fields map[string]any
		var noted []*save
		var at *desk.Held
		if len(records) > 0 && w.chance(60) {
			at = &records[w.random.IntN(len(records))]
		}
		switch {
		case at == nil:
			fields, noted = w.values(atCentral, def, nil, true, parents)
		case at.Removed || used[at.ID] || key != "" && (at.Fields[key] == nil || known[string(at.Fields[key])] > 1):
			continue
		default:
			used[at.ID] = true
			fields, noted = w.values(atCentral, w.without(def, key), at.Fields, false, parents)
		}
		row := changes.TableRow{}
		for name, edit := range delta(fields) {
			row[name] = edit.To
		}
		if at != nil && key != "" {
			row[key] = at.Fields[key]
		} else if at != nil {
			row[changes.RowID] = json.RawMessage(`"` + at.ID.String() + `"`)
		}
		rows, notes = append(rows, row), append(notes, noted)
	}
	if len(rows) == 0 {
		return nil
	}
	outcomes, err := w.side.rows(def.Collection, key, rows)
	if err != nil {
		return err
	}
	w.tell("%s imports %d rows into %s by %q", lead, len(rows), def.Collection, key)
	for n, outcome := range outcomes {
		text, _ := json.Marshal(rows[n]) // always marshals
		w.tell("   %s is %s: %s", name(def.Collection, outcome.Record), outcome.Outcome, text)
		if outcome.Outcome != changes.RowRefused {
			w.enter(atCentral, lead, def, outcome.Record, notes[n])
		}
	}
	return nil
}

// plainLabel is the field that a label consists of.
func plainLabel(def definition.Definition) (string, bool) {
	for _, f := range def.Fields {
		if made, _ := kindOf(def, f); def.Label == "{"+f.Name+"}" && made == token {
			return f.Name, true
		}
	}
	return "", false
}

// without is a definition without one field.
func (w *world) without(def definition.Definition, name string) definition.Definition {
	var fields []definition.Field
	for _, f := range def.Fields {
		if f.Name != name {
			fields = append(fields, f)
		}
	}
	def.Fields = fields
	return def
}
