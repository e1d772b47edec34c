package promises_test

import (
	"bytes"
	"encoding/json"
	"os"
	"reflect"
	"testing"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/merge"
	"homing/core/record"
	"homing/internal/testbed"
)

// One of the lives of a record in the vectors, as far as central shows it.
type vectorLife struct {
	Given struct {
		Rules struct {
			Fields  map[string]merge.Rule
			Removal merge.Removal
		}
		Edits []struct {
			Kind   change.Kind
			Base   int64
			Fields record.Delta
			Stamp  clock.Stamp
			Source change.Source
		}
	}
	Wanted struct {
		Steps []struct {
			Refused string
			Answer  change.Verdict
			After   struct {
				Revision int64
				Removed  bool
				Fields   record.Fields
				Marks    json.RawMessage
			}
		}
	}
}

// The merge of the vectors is central's: lives of records are lived through its door, by devices that number their changes as the
// vectors do, and after each change central answers, and has, what the vectors say.
func TestVectorsHoldAtCentral(t *testing.T) {
	text, err := os.ReadFile("../conformance/vectors/merge.json")
	testbed.Must(t, err)
	var all struct{ Cases []vectorLife }
	testbed.Must(t, json.Unmarshal(text, &all))
	bed := testbed.Start(t)
	steps := 0
	for n, life := range all.Cases {
		if n >= 12 {
			break
		}
		rules, err := json.Marshal(life.Given.Rules.Fields)
		testbed.Must(t, err)
		bed.Define("collection: trails\nlabel: \"{plain}\"\nfields: {plain: {type: string}, asked: {type: string}, first: {type: string}, count: {type: number}, least: {type: number}, " +
			"most: {type: number}, tags: {type: array, items: {type: string}}, log: {type: string}, parts: {type: object, properties: {said: {type: string}, tally: {type: number}}}, name: {type: string}, state: {type: string}, " +
			"length_km: {type: number}, note: {type: string}}\nsync: {removal: " + string(life.Given.Rules.Removal) + ", rules: " + string(rules) + "}\n")
		id, stores := newID(), map[uuid.UUID]*raw{}
		for at, step := range life.Wanted.Steps {
			e := life.Given.Edits[at]
			r := stores[e.Source.Incarnation]
			if r == nil {
				r = newRaw(t, bed, "worker", e.Source.Incarnation)
				stores[e.Source.Incarnation] = r
			}
			c := change.Change{Number: e.Source.Number, Collection: "trails", Record: id, Kind: e.Kind, Base: e.Base, Fields: e.Fields, Stamp: e.Stamp, EditedAt: e.Stamp.Time()}
			answer := r.push(r.batch(c))[0]
			steps++
			if step.Refused != "" {
				if answer.Answer != change.Refused || answer.Reasons[0].Code != step.Refused {
					t.Fatalf("life %d, step %d: central says %s %v, the vectors refused %s", n, at, answer.Answer, answer.Reasons, step.Refused)
				}
				break // where the numbers that central has seen are others than the vectors'
			}
			if answer.Answer != step.Answer || answer.Revision != step.After.Revision {
				t.Fatalf("life %d, step %d: central says %s, revision %d; the vectors %s, %d", n, at, answer.Answer, answer.Revision, step.Answer, step.After.Revision)
			}
			var row struct {
				Fields, Marks []byte
				Removed       bool
			}
			testbed.Must(t, database(t, bed).Get(&row, `SELECT fields, marks, removed FROM records WHERE id = $1`, id.String()))
			want, err := json.Marshal(step.After.Fields)
			testbed.Must(t, err)
			if row.Removed != step.After.Removed || !sameJSON(t, row.Fields, want) || !sameJSON(t, row.Marks, step.After.Marks) {
				t.Fatalf("life %d, step %d: central has %v\n%s\n%s\nthe vectors %v\n%s\n%s", n, at, row.Removed, row.Fields, row.Marks, step.After.Removed, want, step.After.Marks)
			}
		}
	}
	t.Logf("%d steps", steps)
}

func sameJSON(t *testing.T, a, b []byte) bool {
	t.Helper()
	var values [2]any
	for n, text := range [][]byte{a, b} {
		decoder := json.NewDecoder(bytes.NewReader(text))
		decoder.UseNumber()
		testbed.Must(t, decoder.Decode(&values[n]))
	}
	return reflect.DeepEqual(values[0], values[1])
}
