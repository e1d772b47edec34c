package promises_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/central/finding"
	"homing/core/change"
	"homing/core/merge"
	"homing/core/record"
	"homing/device"
	"homing/internal/testbed"
	"homing/wire"
)

const posts = `collection: posts
required: [name]
fields:
  name: {type: string}
  visits: {type: integer}
  crews: {type: array, items: {type: string}, uniqueItems: true}
  log: {type: string}
  state: {type: string}
  note: {type: string}
sync:
  rules: {visits: sum, crews: union, log: append, state: ask}
`

// P5: several people have the same record open at central, and save one after the other. What each of them did
// counts, by the field's rule, and nobody's edit goes without a trace.
func TestP5EditsThatMeetAtCentral(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(posts)
	token := bed.SignIn("lead")
	id := addPost(t, bed, token,
		`{"name": "Post 1", "visits": 5, "crews": ["Gale"], "log": "built", "state": "good", "note": "old"}`)
	edit := func(fields string, wanted change.Verdict) {
		t.Helper()
		var answer wire.Answer
		status, text := bed.Call(http.MethodPatch, "/v1/records/posts/"+id.String(), token,
			`{"base": 1, "fields": `+fields+`}`)
		if json.Unmarshal(text, &answer) != nil || status != http.StatusOK || answer.Answer != wanted {
			t.Fatalf("%s: %d %s; wanted %s", fields, status, text, wanted)
		}
	}
	edit(`{"visits": 9, "crews": ["Gale", "Tarn"], "log": "built, cleaned", "note": "mine"}`, change.Applied)
	edit(`{"visits": 7, "crews": ["Fell", "Gale"], "log": "built, painted", "state": "poor"}`, change.Merged)
	edit(`{"state": "lost", "note": "theirs", "name": "Post 1"}`, change.Held)
	edit(`{"state": "gone", "note": "old"}`, change.Held) // of the note, the form sends back what it was given

	asker := central.Everything("lead")
	now, err := bed.Central.Record(t.Context(), asker, "posts", id)
	testbed.Must(t, err)
	var fields map[string]any
	testbed.Must(t, json.Unmarshal(now.Fields, &fields))
	for field, wanted := range map[string]any{"visits": 11, "crews": []any{"Fell", "Gale", "Tarn"},
		"log": "built, cleaned, painted", "state": "poor", "note": "theirs"} {
		if fmt.Sprint(fields[field]) != fmt.Sprint(wanted) {
			t.Errorf("%s is %v, not %v", field, fields[field], wanted)
		}
	}
	open, err := bed.Central.Conflicts(t.Context(), asker, finding.Disputed{})
	testbed.Must(t, err)
	var values []string
	for _, v := range open[0].Values {
		values = append(values, string(v.Value))
	}
	if slices.Sort(values); !slices.Equal(values, []string{`"gone"`, `"lost"`, `"poor"`}) {
		t.Errorf("in dispute are %v", values)
	}
	history, err := bed.Central.History(t.Context(), asker, "posts", id)
	testbed.Must(t, err)
	if !slices.ContainsFunc(history, func(v wire.HistoryEntry) bool {
		return slices.ContainsFunc(v.Decisions, func(d change.Decision) bool {
			return d.Field == "note" && d.Kept == change.KeptChange && d.Other.Revision == 2
		})
	}) {
		t.Errorf("the history does not say that a note was overwritten: %+v", history)
	}
}

// P5: whoever removes a record at central takes nobody's edit with it that they had not seen, even one made at central.
func TestP5ARemovalAtCentralTakesNoEditWithIt(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(posts)
	token := bed.SignIn("lead")
	id := addPost(t, bed, token, `{"name": "Post 2"}`)
	path := "/v1/records/posts/" + id.String()
	bed.Call(http.MethodPatch, path, token, `{"base": 1, "fields": {"note": "still there"}}`)
	bed.Call(http.MethodDelete, path+"?base=1", token, nil)
	r, err := bed.Central.Record(t.Context(), central.Everything("lead"), "posts", id)
	if err != nil || r.Removed {
		t.Errorf("the edit went with the removal: %+v, %v", r, err)
	}
	if status, text := bed.Call(http.MethodDelete, path+"?base=3", token, nil); status != http.StatusOK {
		t.Errorf("who has seen the edit cannot remove the record: %d %s", status, text)
	}
}

func addPost(t *testing.T, bed *testbed.Bed, token, fields string) uuid.UUID {
	t.Helper()
	var got wire.Answer
	status, text := bed.Call(http.MethodPost, "/v1/records/posts", token, `{"fields": `+fields+`}`)
	if json.Unmarshal(text, &got) != nil || status != http.StatusCreated || got.Record == nil {
		t.Fatalf("%d %s", status, text)
	}
	return got.Record.ID
}

// to is an edit of one field at central.
func to(field, value string) record.Delta {
	return record.Delta{field: record.Edit{To: json.RawMessage(value)}}
}

// P2, P5: many people count on one record at central at once, each on what they have just read. Every count counts
// once.
func TestP2CountersAtCentralAtOnce(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(posts)
	token := bed.SignIn("lead")
	id := addPost(t, bed, token, `{"name": "Post 3", "visits": 0, "crews": []}`)
	path := "/v1/records/posts/" + id.String()
	const people, each = 6, 8
	var all sync.WaitGroup
	for n := range people {
		all.Go(func() {
			for m := range each {
				var seen struct {
					Revision int64
					Fields   struct {
						Visits int
						Crews  []string
					}
				}
				status, text := bed.Call(http.MethodGet, path, token, nil)
				if json.Unmarshal(text, &seen) != nil || status != http.StatusOK {
					t.Errorf("reading: %d %s", status, text)
					return
				}
				crews, _ := json.Marshal(append(seen.Fields.Crews, fmt.Sprintf("crew %d.%d", n, m))) // a list of texts always marshals
				if status, text = bed.Call(http.MethodPatch, path, token,
					fmt.Sprintf(`{"base": %d, "fields": {"visits": %d, "crews": %s}}`, seen.Revision, seen.Fields.Visits+1,
						crews)); status != http.StatusOK {
					t.Errorf("counting: %d %s", status, text)
				}
			}
		})
	}
	all.Wait()
	if got := valueAt(t, bed, "posts", id, "visits"); got != strconv.Itoa(people*each) {
		t.Errorf("%d were counted, central says %s", people*each, got)
	}
	var crews []string
	testbed.Must(t, json.Unmarshal([]byte(valueAt(t, bed, "posts", id, "crews")), &crews))
	if len(crews) != people*each {
		t.Errorf("of %d crews there are %d", people*each, len(crews))
	}
}

// P4, P5: while a device holds unsent edits of a record, it is removed at central and brought back, or removed,
// brought back and removed once more. Under each way of removing, all agree in the end, and what was typed is in the
// history.
func TestP5BroughtBackUnderUnsentEdits(t *testing.T) {
	for _, removal := range merge.Removals {
		for _, again := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, removed again %v", removal, again), func(t *testing.T) {
				bed := testbed.Start(t)
				bed.Define(posts + "  removal: " + string(removal) + "\n")
				a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
				testbed.Exchange(t, a, b)
				id := add(t, a, "posts", device.Fields{"name": "Post", "visits": 3, "note": "old"})
				testbed.Exchange(t, a, b)
				_, err := a.Edit(ctx, "posts", id, device.Fields{"visits": 5, "note": "typed without signal"})
				testbed.Must(t, err)
				lead := central.Everything("lead")
				remove := func() {
					_, err := bed.Central.Direct(ctx, lead, changes.Write{Collection: "posts", Record: id, Kind: change.Remove,
						Base: -1})
					testbed.Must(t, err)
				}
				remove()
				_, err = bed.Central.BringBack(ctx, lead, "posts", id, 1)
				testbed.Must(t, err)
				_, err = bed.Central.Direct(ctx, lead, changes.Write{Collection: "posts", Record: id, Kind: change.Edit, Base: -1,
					Fields: to("visits", "4")})
				testbed.Must(t, err)
				if again {
					remove()
				}
				testbed.Exchange(t, a, b, a)
				bed.Same(a, b)
				r, err := bed.Central.Record(ctx, lead, "posts", id)
				testbed.Must(t, err)
				gone := again && removal == merge.RemovalStays
				if r.Removed != gone {
					t.Errorf("it is removed: %v", r.Removed)
				}
				if !gone && (valueAt(t, bed, "posts", id, "visits") != "6" ||
					valueAt(t, bed, "posts", id, "note") != "typed without signal") {
					t.Errorf("central has %s", r.Fields)
				}
				history, err := bed.Central.History(ctx, lead, "posts", id)
				testbed.Must(t, err)
				if !slices.ContainsFunc(history, func(h wire.HistoryEntry) bool {
					return h.Device == "a" && strings.Contains(string(h.Fields)+string(h.Sent), "typed without signal")
				}) {
					t.Error("what was typed is not in the history")
				}
				if open := conflicts(t, bed); len(open) != map[bool]int{true: 1}[again && removal == merge.AskRemoval] {
					t.Errorf("in dispute are %+v", open)
				}
			})
		}
	}
}
