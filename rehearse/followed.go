package rehearse

import (
	"encoding/json"
	"slices"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
)

// echoing says that of so many seeds one has follow-ups.
const echoing = 3

func textField(name string) definition.Field {
	return definition.Field{Name: name, Title: name, Schema: json.RawMessage(`{"type":"string"}`)}
}

// letFollow lets central add a record by itself for each add, and mark it in turn. Nobody else makes such records.
func (w *world) letFollow() {
	w.echoes = []definition.Definition{{Collection: "echoes", Version: 1, Title: "echoes", Label: "{echo_of}",
		Fields:    []definition.Field{textField("echo_of"), textField("from"), {Name: "marked", Title: "marked", Schema: json.RawMessage(`{"type":"boolean"}`)}},
		Sync:      definition.Sync{Removal: merge.EditStays},
		FollowUps: []definition.FollowUp{{Name: "mark", When: `change.kind == "add"`, Set: map[string]string{"marked": "true"}}}}}
	for n := range w.options.Definitions {
		def := &w.options.Definitions[n]
		def.FollowUps = []definition.FollowUp{{Name: "echo", When: `change.kind == "add"`,
			Add: &definition.FollowAdd{Collection: "echoes", Fields: map[string]string{"echo_of": "id", "from": "worker.name"}}}}
	}
}

// definitions are all that there are: those that people work with, and that of what central adds by itself.
func (w *world) definitions() []definition.Definition {
	return slices.Concat(w.echoes, w.rounds, w.counts, w.options.Definitions)
}

// checkFollowed looks for one record, marked, for each that was added: none was followed twice, and none was not.
func (w *world) checkFollowed() {
	if len(w.echoes) == 0 {
		return
	}
	added, found := map[string]bool{}, map[string]int{}
	for _, v := range w.history {
		// What a new definition moves is followed by nothing: it stays removed.
		if !slices.Contains([]string{"echoes", "rounds", "counts"}, v.Collection) && v.Change.Kind == change.Add && !v.Removed {
			added[v.ID.String()] = true
		}
	}
	for _, r := range w.records {
		if r.Collection != "echoes" {
			continue
		}
		of := definition.Plain(r.Fields["echo_of"])
		found[of]++
		if string(r.Fields["marked"]) != "true" {
			w.wrong("P2: the follow-up of %s was followed by nothing", name("echoes", r.ID))
		}
		if !added[of] && !w.wasOffered(r.ID) { // a device may have kept it, and offered it to a central that was restored
			w.wrong("P2: %s follows an add of %s that central does not have", name("echoes", r.ID), of)
		}
	}
	for of := range added {
		if found[of] != 1 {
			w.wrong("P2: the record %s was added, and that was followed %d times", of, found[of])
		}
	}
}
