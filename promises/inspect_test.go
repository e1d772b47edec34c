package promises_test

import (
	"strings"
	"testing"

	"homing/core/definition"
	"homing/device"
	"homing/internal/testbed"
	"homing/wire"
)

// What would stop field work later is refused when it is defined, with the line and what was probably meant.
func TestDefinitionsAreInspected(t *testing.T) {
	start := "collection: posts\nkey: number\nfields:\n  number: {type: string}\n  height_m: {type: number}\n  sound: {type: boolean}\n  tags: {type: array, items: {type: string}}\n" +
		"  keeper: {type: object, properties: {name: {type: string}}}\n"
	for _, test := range []struct{ more, says string }{
		{"  x: {type: number, minimun: 0}\n", `line 9: minimun: the word "minimun" is not known in a schema; probably minimum`},
		{"  x: {type: string, format: dat}\n", `line 9: format: the format "dat" is not known; probably date`},
		{"  x: {type: object, properties: {a: {type: string, maxlength: 3}}}\n", `the word "maxlength" is not known in a schema; probably maxLength`},
		{"  x: {type: number, computed: record.heigth_m + 1.0}\n", `there is no field "heigth_m"; probably height_m`},
		{"  x: {type: number, computed: record.height_m * 2}\n", "numbers of records are doubles: write 2.0"},
		{"  x: {type: number, computed: \"record.number + 1.0\"}\n", "no matching overload"},
		{"  x: {type: string, filled: worker.nme}\n", `there is no field "nme"; probably name`},
		{"  x: {type: integer, default: many}\n", `"many" does not fit the field itself: must be integer`},
		{"  x: {type: integer, computed: \"1\", default: 3}\n", "so it starts with nothing"},
		{"access:\n  edit: before.nmber == worker.name\n", `there is no field "nmber"; probably number`},
		{"access:\n  edit: worker.name\n", "gives string, and must give true or false"},
		{"sync:\n  territory: record.zone\n", `there is no field "zone"`},
		{"sync:\n  territory: record.sound\n", "must give a text or a list of texts"},
		{"unique: perhaps\n", "unique is true or false"},
		{"examples:\n  - {nmber: x}\n", `an example has the field "nmber"`},
	} {
		_, err := definition.ReadSource("posts.yaml", []byte(start+test.more))
		if err == nil || !strings.Contains(strings.Replace(err.Error(), "posts.yaml:", "line ", 1), test.says) {
			t.Errorf("%s: %v, want %s", test.more, err, test.says)
		}
	}
	for _, good := range []string{
		"  x: {type: number, computed: \"record.height_m == null ? 0.0 : record.height_m * 2.0\"}\n",
		"  x: {type: boolean, computed: \"record.height_m > 2 && record.sound\"}\n",
		"  x: {type: integer, computed: \"size(record.tags)\"}\n",
		"  x: {type: string, computed: \"record.keeper.name + \\\"!\\\"\"}\n",
		"access:\n  add: \"before == null && (worker.role == \\\"lead\\\" || after.number.startsWith(\\\"K\\\"))\"\n  edit: \"\\\"north\\\" in worker.territories\"\n",
		"sync:\n  territory: \"record.sound == true ? [\\\"north\\\", record.number] : [\\\"south\\\"]\"\n",
		"  x: {type: integer, default: 3, unit: kg}\n",
	} {
		if _, err := definition.ReadSource("posts.yaml", []byte(start+good)); err != nil {
			t.Errorf("%s: %v", good, err)
		}
	}
	// Totals are held against the fields of the collections that they are over, at central, which has them.
	bed := testbed.Start(t)
	bed.Define("collection: walls\nfields:\n  name: {type: string}\n", "collection: cracks\nfields:\n  wall: {type: string, format: uuid}\n  width_mm: {type: number}\n"+
		"parent: {collection: walls, field: wall}\n")
	totalling := func(text string) string {
		t.Helper()
		d, err := definition.ReadSource("walls.yaml", []byte("collection: walls\nfields:\n  name: {type: string}\n  total: {type: number, computed: \""+text+"\"}\n"))
		testbed.Must(t, err)
		_, answer := bed.Call("PUT", "/v1/definitions", bed.SignIn("admin"), wire.Definitions{Definitions: []definition.Definition{d}})
		return string(answer)
	}
	if got := totalling("sum(children.cracks.map(c, c.width_m))"); !strings.Contains(got, `there is no field \"width_m\"; probably width_mm`) {
		t.Errorf("a total over what is not there: %s", got)
	}
	if got := totalling("sum(children.cracks.map(c, c.width_mm))"); !strings.Contains(got, `"outcome":"changed"`) {
		t.Errorf("a total: %s", got)
	}
}

// A new record starts with what its definition says, on a device and by the API's clients; a value that is cleared on purpose stays
// empty, and no edit brings it back.
func TestRecordsStartWithDefaults(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: posts\nfields:\n  name: {type: string}\n  state: {enum: [sound, damaged], default: sound}\n  beds: {type: integer, default: 2}\n")
	store := bed.Device("worker", "phone", device.Options{})
	testbed.Exchange(t, store)
	for _, test := range []struct {
		fields device.Fields
		want   string
	}{
		{device.Fields{"name": "a"}, `{"beds":2,"name":"a","state":"sound"}`},
		{device.Fields{"name": "b", "state": "damaged"}, `{"beds":2,"name":"b","state":"damaged"}`},
		{device.Fields{"name": "c", "state": nil, "beds": 0}, `{"beds":0,"name":"c"}`},
	} {
		r, err := store.Add(ctx, "posts", test.fields)
		if err != nil || string(r.Fields.JSON()) != test.want {
			t.Errorf("%v became %s, %v, want %s", test.fields, r.Fields.JSON(), err, test.want)
		}
		r, err = store.Edit(ctx, "posts", r.ID, device.Fields{"beds": nil})
		if _, back := r.Fields["beds"]; err != nil || back {
			t.Errorf("an edit brought it back: %s, %v", r.Fields.JSON(), err)
		}
	}
	testbed.Exchange(t, store)
	bed.Same(store)
}
