package promises_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/core/change"
	"homing/core/record"
	"homing/device"
	"homing/internal/testbed"
)

// surveys have more to say than an edit changes.
func surveys() string {
	text := strings.Builder{}
	text.WriteString("collection: surveys\nrequired: [title]\nfields:\n  title: {type: string}\n  state: {enum: [open, closed]}\n  count: {type: integer}\n" +
		"  more: {type: object, properties: {a: {type: string}, b: {type: string}}}\n  district: {type: string}\n")
	for n := range 12 {
		fmt.Fprintf(&text, "  text_%d: {type: string}\n", n)
	}
	text.WriteString("sync:\n  rules: {state: ask, count: sum}\n  territory: \"[record.district].filter(d, d != null)\"\n")
	return text.String()
}

func survey(n int) device.Fields {
	fields := device.Fields{"title": fmt.Sprintf("Survey %d", n), "count": n, "state": "open", "district": "kell",
		"more": map[string]any{"a": "one", "b": "two"}}
	for k := range 12 {
		fields[fmt.Sprintf("text_%d", k)] = fmt.Sprintf("What was seen at place %d of survey %d, and what is to be done about it before the winter, "+
			"by %s", k, n, uuid.NewString())
	}
	return fields
}

// P4: of a record that a device has, what changed since travels, not the record. It comes out the same, by
// fingerprint, whatever has happened to it.
func TestP4RecordsComeInParts(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(surveys())
	hold(t, bed, "worker", "*")
	hold(t, bed, "lead", "*")
	a := bed.Device("worker", "a", device.Options{})
	var paths []string
	b := bed.Device("lead", "b", device.Options{}, testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		paths = append(paths, strings.TrimPrefix(r.URL.Path, "/v1/"))
		return testbed.Pass
	}).URL)
	testbed.Exchange(t, a, b)
	var ids []uuid.UUID
	for n := range 100 {
		ids = append(ids, add(t, a, "surveys", survey(n)))
	}
	testbed.Exchange(t, a)
	whole, _ := heard(t, b, &paths)
	for _, id := range ids {
		edit(t, a, "surveys", id, device.Fields{"text_3": "Seen to."})
	}
	testbed.Exchange(t, a)
	parts, asked := heard(t, b, &paths)
	bed.Same(a, b)
	if parts.Received != 100 || parts.BytesDown*4 > whole.BytesDown || asked != "trips report" {
		t.Errorf("%d records in parts came in %d bytes by %s; whole, they were %d", parts.Received, parts.BytesDown, asked, whole.BytesDown)
	}
	_, err := bed.Central.Direct(ctx, central.Everything("admin"), changes.Write{Collection: "surveys", Record: ids[9], Kind: change.Edit, Base: -1,
		Fields: record.Delta{"text_3": {To: json.RawMessage(`"Edited at central."`)}}})
	testbed.Must(t, err)
	if _, asked := heard(t, b, &paths); asked != "trips report" {
		t.Errorf("what was edited at central came by %s", asked)
	}
	testbed.Exchange(t, a)
	both := func() { testbed.Exchange(t, a, b, a, b) }
	for what, do := range map[string]func(){
		"a value goes": func() { edit(t, a, "surveys", ids[0], device.Fields{"text_1": nil, "more": nil}); both() },
		"a part of a value changes": func() {
			edit(t, a, "surveys", ids[1], device.Fields{"more": map[string]any{"a": "one", "b": "three"}})
			both()
		},
		"both edit, and one waits for a person": func() {
			edit(t, a, "surveys", ids[2], device.Fields{"state": "closed", "count": 7})
			edit(t, b, "surveys", ids[2], device.Fields{"state": nil, "count": 9, "text_2": "by b"})
			both()
			if all := conflicts(t, bed); len(all) != 1 {
				t.Fatalf("%+v", all)
			}
			both()
		},
		"what is unsent stays on top": func() {
			edit(t, b, "surveys", ids[3], device.Fields{"text_5": "unsent here"})
			edit(t, a, "surveys", ids[3], device.Fields{"text_6": "by a"})
			testbed.Exchange(t, a)
			_, err := b.Pull(ctx, nil)
			testbed.Must(t, err)
			if shown(t, b, "surveys", ids[3], "text_5") != "unsent here" || shown(t, b, "surveys", ids[3], "text_6") != "by a" {
				t.Error("what is shown is not both")
			}
			both()
		},
		"it goes and comes back": func() {
			testbed.Must(t, a.Remove(ctx, "surveys", ids[4]))
			both()
			r, err := bed.Central.Record(ctx, central.Everything("admin"), "surveys", ids[4])
			testbed.Must(t, err)
			_, err = bed.Central.BringBack(ctx, central.Everything("admin"), "surveys", ids[4], r.Revision)
			testbed.Must(t, err)
			edit(t, a, "surveys", ids[5], device.Fields{"count": 1})
			both()
		},
		"it moves to another territory and back": func() {
			hold(t, bed, "lead", "kell")
			both()
			edit(t, a, "surveys", ids[6], device.Fields{"district": "ostra"})
			both()
			edit(t, a, "surveys", ids[6], device.Fields{"district": "kell", "text_7": "back again"})
			both()
			hold(t, bed, "lead", "*")
			both()
		},
		"a new definition calls a field otherwise": func() {
			bed.Define(strings.Replace(surveys(), "text_11", "remark", 1) + "carry: {rename: {text_11: remark}}\n")
			testbed.Exchange(t, a)
			edit(t, a, "surveys", ids[7], device.Fields{"text_8": "after it"})
			both()
		},
		"an edit from far behind": func() {
			for n := range 5 {
				edit(t, a, "surveys", ids[8], device.Fields{fmt.Sprintf("text_%d", n): "again"})
				testbed.Exchange(t, a)
			}
			edit(t, b, "surveys", ids[8], device.Fields{"text_0": "by b, who has not seen it"})
			both()
		},
	} {
		t.Run(what, func(t *testing.T) {
			do()
			bed.Same(a, b)
		})
	}
}

// P3: where a part does not make the record that central has, since something is wrong with what is here, the device asks
// for it whole, in the same exchange.
func TestP3APartThatDoesNotFit(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(surveys())
	hold(t, bed, "worker", "*")
	hold(t, bed, "lead", "*")
	a := bed.Device("worker", "a", device.Options{})
	var paths []string
	b := bed.Device("lead", "b", device.Options{}, testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		paths = append(paths, strings.TrimPrefix(r.URL.Path, "/v1/"))
		return testbed.Pass
	}).URL)
	testbed.Exchange(t, a, b)
	fits, odd, lacks := add(t, a, "surveys", survey(1)), add(t, a, "surveys", survey(2)), add(t, a, "surveys", survey(3))
	testbed.Exchange(t, a, b)
	file := open(t, b)
	for statement, id := range map[string]uuid.UUID{
		`UPDATE records SET fields = json_set(fields, '$.text_4', 'as nobody wrote it') WHERE id = ?`: odd,
		`DELETE FROM records WHERE id = ?`: lacks,
	} {
		_, err := file.Exec(statement, id.String())
		testbed.Must(t, err)
	}
	for _, id := range []uuid.UUID{fits, odd, lacks} {
		edit(t, a, "surveys", id, device.Fields{"count": 50})
	}
	testbed.Exchange(t, a)
	if summary, asked := heard(t, b, &paths); summary.Received != 3 || asked != "trips refresh/surveys report" {
		t.Errorf("%d came by %s", summary.Received, asked)
	}
	bed.Same(a, b)
}
