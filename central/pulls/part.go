package pulls

import (
	"encoding/json"

	"homing/core/merge"
	"homing/core/record"
	"homing/wire"
)

// worthParting is how many bytes a part must save, before compression: less is not worth the device's work of laying
// it over what it has.
const worthParting = 200

// inPart leaves of a record what came after a revision, where that is much less.
func inPart(one *wire.Record, since int64, shown func([]byte) []byte) error {
	if len(one.Fields)+len(one.Marks) < worthParting {
		return nil
	}
	var fields record.Fields
	var marks merge.Marks
	if err := json.Unmarshal(one.Fields, &fields); err != nil {
		return err
	}
	if err := json.Unmarshal(one.Marks, &marks); err != nil {
		return err
	}
	part, ok := merge.After(since, fields, marks)
	if !ok {
		return nil
	}
	changed, err := json.Marshal(part.Fields)
	if err != nil {
		return err
	}
	marked, err := json.Marshal(part.Marks)
	if err != nil || len(changed)+len(marked)+worthParting > len(one.Fields)+len(one.Marks) {
		return err
	}
	if shown != nil {
		one.Marks = shown(one.Marks)
	}
	one.Since, one.Digest = since, merge.Digest(one.Fields, one.Marks)
	one.Fields, one.Marks = changed, marked
	return nil
}
