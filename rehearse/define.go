package rehearse

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
)

// redefine gives a collection a new version. Devices go on with the old one until they exchange.
func (w *world) redefine() error {
	n := w.random.IntN(len(w.options.Definitions))
	def := w.options.Definitions[n]
	def.Fields = slices.Clone(def.Fields)
	def.Sync.Rules = maps.Clone(def.Sync.Rules)
	def.Carry = definition.Carry{Rename: maps.Clone(def.Carry.Rename), Drop: slices.Clone(def.Carry.Drop)}
	does := w.addField
	if w.invented {
		does = []func(*definition.Definition) string{w.addField, w.addField, w.renameField, w.renameField, w.dropField, w.addSeries,
			w.changeRule, w.changeWays, w.changeReading}[w.random.IntN(9)]
	}
	what := does(&def)
	if what == "" {
		return nil
	}
	w.options.Definitions[n] = def
	w.tell("%s defines %s anew: %s", lead, def.Collection, what)
	return w.side.define(def)
}

func (w *world) addField(def *definition.Definition) string {
	name := "more"
	for slices.ContainsFunc(def.Fields, func(f definition.Field) bool { return f.Name == name }) {
		name += "_more"
	}
	def.Fields = append(
		def.Fields,
		definition.Field{Name: name, Title: name, Schema: json.RawMessage(`{"type":"string"}`)},
	)
	return "the field " + name + " is new"
}

// someField chooses a field of those that can be called otherwise or go; nil where the choice fell on another.
func (w *world) someField(def *definition.Definition) *definition.Field {
	f := &def.Fields[w.random.IntN(len(def.Fields))]
	if may, _ := f.Settable(); !may || f.Local || def.Unique && f.Name == def.Key {
		return nil
	}
	return f
}

// renameField calls a field otherwise, in everything that names it, too.
func (w *world) renameField(def *definition.Definition) string {
	f := w.someField(def)
	if f == nil || len(f.Name) > 30 {
		return ""
	}
	old, now := f.Name, f.Name+"_b"
	f.Name, f.Title = now, now
	def.Label = strings.ReplaceAll(def.Label, "{"+old+"}", "{"+now+"}")
	def.Access.Read = strings.ReplaceAll(def.Access.Read, "after."+old+" ", "after."+now+" ")
	for n := range def.Fields {
		def.Fields[n].Computed = strings.ReplaceAll(def.Fields[n].Computed, "record."+old+" ", "record."+now+" ")
	}
	if def.Sync.Territory == "record."+old {
		def.Sync.Territory = "record." + now
	}
	if def.Parent != nil && def.Parent.Field == old {
		parent := *def.Parent
		parent.Field = now
		def.Parent = &parent
	}
	if rule, own := def.Sync.Rules[old]; own {
		delete(def.Sync.Rules, old)
		def.Sync.Rules[now] = rule
	}
	if def.Carry.Rename == nil {
		def.Carry.Rename = map[string]string{}
	}
	// A central that was restored may come to this version from any earlier one.
	for earlier, name := range def.Carry.Rename {
		if name == old {
			def.Carry.Rename[earlier] = now
		}
	}
	def.Carry.Rename[old] = now
	w.calls(def.Collection, old, now)
	return old + " is called " + now
}

// dropField takes a field away that nothing else names.
func (w *world) dropField(def *definition.Definition) string {
	f := w.someField(def)
	if f == nil || def.Label == "{"+f.Name+"}" || f.Reference != "" ||
		strings.Contains(def.Sync.Territory, "."+f.Name) ||
		strings.Contains(def.Access.Read, "."+f.Name) {
		return ""
	}
	name := f.Name
	def.Fields = slices.DeleteFunc(def.Fields, func(one definition.Field) bool { return one.Name == name })
	delete(def.Sync.Rules, name)
	def.Carry.Drop = append(def.Carry.Drop, name)
	for earlier, now := range def.Carry.Rename {
		if now == name {
			delete(def.Carry.Rename, earlier)
			def.Carry.Drop = append(def.Carry.Drop, earlier)
		}
	}
	slices.Sort(def.Carry.Drop)
	w.calls(def.Collection, name, "")
	return name + " goes"
}

func (w *world) addSeries(def *definition.Definition) string {
	if _, has := def.Field("number"); has {
		return ""
	}
	def.Fields = append(def.Fields, definition.Field{Name: "number", Title: "number", Series: "N-0001",
		Schema: json.RawMessage(`{"type":"string"}`)})
	return "records get numbers"
}

// changeRule lets another rule of the same kind decide about a field.
func (w *world) changeRule(def *definition.Definition) string {
	f := w.someField(def)
	if f == nil {
		return ""
	}
	kin := []merge.Rule{merge.Newest, merge.Ask, merge.First}
	if rule := def.Rules().Fields[f.Name]; rule == merge.Min || rule == merge.Max {
		kin = []merge.Rule{merge.Min, merge.Max}
	} else if made, _ := kindOf(*def, *f); made != token {
		return ""
	}
	rule := kin[w.random.IntN(len(kin))]
	if def.Sync.Rules == nil {
		def.Sync.Rules = map[string]merge.Rule{}
	}
	def.Sync.Rules[f.Name] = rule
	w.ruled[def.Collection+" "+f.Name] = true
	return string(rule) + " decides about " + f.Name
}

// changeWays changes what removals do, and whether every step is kept.
func (w *world) changeWays(def *definition.Definition) string {
	def.Sync.Removal = merge.Removals[w.random.IntN(len(merge.Removals))]
	if w.chance(30) {
		def.Sync.Steps = []definition.Steps{"", definition.Every}[w.random.IntN(2)]
	}
	if def.Parent != nil {
		parent := *def.Parent
		parent.Removal = removalsOfParents[w.random.IntN(len(removalsOfParents))]
		def.Parent = &parent
	}
	return "removals that meet edits: " + string(def.Sync.Removal)
}

// changeReading changes who may read what, or which territory a record falls into.
func (w *world) changeReading(def *definition.Definition) string {
	for _, f := range def.Fields {
		switch {
		case strings.HasPrefix(f.Name, "secret"):
			if def.Access.Read != "" {
				def.Access.Read = ""
				return "everybody reads all"
			}
			def.Access.Read = readingRule(f.Name)
			return "what is secret is for leads"
		case strings.HasPrefix(f.Name, "zone"):
			if def.Sync.Territory != "" {
				def.Sync.Territory = ""
				return "all records are everybody's"
			}
			def.Sync.Territory = "record." + f.Name
			return "records fall into territories"
		}
	}
	return ""
}

// calls notes what a field is called from now on; nothing when it is gone. The ledger follows.
func (w *world) calls(collection, old, now string) {
	names := w.names[collection]
	if names == nil {
		names = map[string]string{}
		w.names[collection] = names
	}
	for earlier, name := range names {
		if name == old {
			names[earlier] = now
		}
	}
	names[old] = now
	if key := collection + " " + old; w.ruled[key] {
		w.ruled[collection+" "+now] = true
	}
	for _, s := range w.ledger.saves {
		w.bringUp(s)
	}
}

// present is what a field is called now, and whether it is still there.
func (w *world) present(collection, field string) (string, bool) {
	name, part, nested := strings.Cut(field, "/")
	now, moved := w.names[collection][name]
	switch {
	case !moved:
		return field, true
	case nested:
		return now + "/" + part, now != ""
	}
	return now, now != ""
}

// bringUp has a save name its field as it is called now. What was saved in a field that goes may go with it.
func (w *world) bringUp(s *save) {
	now, there := w.present(s.collection, s.field)
	if !there {
		s.mayBeLost = true
		return
	}
	s.field = now
}

// presentDelta is what a change did, under the names that fields have now.
func (w *world) presentDelta(collection string, delta record.Delta) record.Delta {
	all := record.Delta{}
	for name, edit := range delta {
		now, there := w.present(collection, name)
		if _, both := delta[now]; there && (now == name || !both) {
			all[now] = edit
		}
	}
	return all
}

// defineAgain defines what a restored central does not know.
func (w *world) defineAgain() error {
	for _, def := range w.definitions() {
		if err := w.side.define(def); err != nil {
			return err
		}
	}
	return nil
}
