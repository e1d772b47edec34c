package change_test

import (
	"bytes"
	"encoding/json"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/record"
)

func example() change.Change {
	return change.Change{Number: 7, Collection: "trails", Record: uuid.UUID{1}, Kind: change.Edit, Base: 3,
		Stamp:    clock.Stamp{Millis: 9, Counter: 2},
		EditedAt: time.Unix(1_795_000_000, 5).UTC(), Author: "mira",
		Fields: record.Delta{"name": {From: json.RawMessage(`"a"`), To: json.RawMessage(`"b"`)},
			"note": {To: json.RawMessage(`"c"`)}}}
}

// The digest tells any two changes apart that say different things, and survives the way over the wire.
func TestDigest(t *testing.T) {
	first := example()
	text, err := json.Marshal(first)
	if err != nil {
		t.Fatal(err)
	}
	var back change.Change
	if err := json.Unmarshal(text, &back); err != nil || !bytes.Equal(first.Digest(), back.Digest()) {
		t.Errorf("over the wire the digest changes: %v\n%s", err, text)
	}
	for name, alter := range map[string]func(*change.Change){
		"number": func(c *change.Change) { c.Number++ }, "collection": func(c *change.Change) { c.Collection = "trail" },
		"record": func(c *change.Change) { c.Record[3]++ },
		"kind":   func(c *change.Change) { c.Kind = change.Add }, "base": func(c *change.Change) { c.Base++ },
		"stamp":        func(c *change.Change) { c.Stamp.Counter++ },
		"edited at":    func(c *change.Change) { c.EditedAt = c.EditedAt.Add(1) },
		"author":       func(c *change.Change) { c.Author = "tobin" },
		"a value":      func(c *change.Change) { c.Fields["note"] = record.Edit{To: json.RawMessage(`"d"`)} },
		"a side":       func(c *change.Change) { c.Fields["note"] = record.Edit{From: json.RawMessage(`"c"`)} },
		"a field more": func(c *change.Change) { c.Fields["x"] = record.Edit{} },
		"a field less": func(c *change.Change) { delete(c.Fields, "note") },
	} {
		other := example()
		alter(&other)
		if bytes.Equal(first.Digest(), other.Digest()) {
			t.Errorf("another %s has the same digest", name)
		}
	}
}

func TestVerdicts(t *testing.T) {
	for verdict, accepted := range map[change.Verdict]bool{change.Applied: true, change.Merged: true,
		change.Refused: false, change.Waiting: false, "new": false} {
		if verdict.Accepted() != accepted {
			t.Errorf("%s counts as accepted: %v", verdict, verdict.Accepted())
		}
	}
}
