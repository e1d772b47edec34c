package changes_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/central/fault"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
	"homing/core/sight"
)

// hold gives the worker of a device other territories, as central does.
func (d *desk) hold(device *central.Device, territories ...string) {
	d.m.NotePeople(device.ID, device.People)
	device.People = sight.Askers{{Name: device.Worker, Role: device.Role, Territories: territories}}
	device.Territories = territories
	d.m.NotePeople(device.ID, device.People)
	d.now = d.now.Add(time.Minute)
}

// Who knows the id of a record that they never covered can do nothing with it, and is told what they would be told of
// one that is not there.
func TestP11WhoMayNotSeeARecordDoesNotChangeIt(t *testing.T) {
	d := newDesk(t, ways, posts)
	south, north := d.device("sam", "south"), d.device("nora", "north")
	way := uuid.New()
	d.push(south, d.change(1, change.Add, "ways", way, 0, "name", `"Gully"`, "zone", `"south"`))
	nowhere := uuid.New()
	for n, id := range []uuid.UUID{nowhere, way} {
		number := int64(10 * (n + 1))
		got := d.push(north,
			d.change(number, change.Edit, "ways", id, 1, "zone", `"north"`),
			d.change(number+1, change.Edit, "ways", id, 1, "name", `"Mine"`),
			d.change(number+2, change.Edit, "ways", id, 0, "name", `"Mine"`),
			d.change(number+3, change.Remove, "ways", id, 1),
			d.change(number+4, change.Add, "posts", uuid.New(), 0, "name", `"P"`, "way", `"`+id.String()+`"`))
		want := "[refused unknown-record refused unknown-record waiting hangs-on-refused waiting hangs-on-earlier waiting hangs-on-parent]"
		if verdicts(got) != want {
			t.Errorf("of %s: %s", map[uuid.UUID]string{nowhere: "a record that is not there", way: "one of others"}[id], verdicts(got))
		}
		for _, a := range got {
			if a.Record != nil {
				t.Errorf("change %d brought the record %+v", a.Number, a.Record)
			}
		}
	}
	got := d.push(north, d.change(30, change.Add, "ways", way, 0, "name", `"Mine"`, "zone", `"north"`),
		d.change(31, change.Add, "ways", way, 1, "name", `"Mine"`, "zone", `"north"`))
	if verdicts(got) != "[refused not-allowed refused not-allowed]" {
		t.Errorf("adds over it are %s", verdicts(got))
	}
	who := central.Person{Name: "nora", Role: rights.Lead, Territories: []string{"north"}}
	rows, err := d.c.PutRows(t.Context(), who, "ways", "",
		[]changes.TableRow{{changes.RowID: []byte(`"` + way.String() + `"`), "name": []byte(`"Mine"`), "zone": []byte(`"north"`)}})
	if err != nil || rows[0].Outcome != changes.RowRefused {
		t.Errorf("a row with its id: %+v, %v", rows, err)
	}
	_, err = d.c.Direct(t.Context(), who, changes.Write{Collection: "posts", Record: uuid.New(), Kind: change.Add, Base: -1,
		Fields: record.Delta{"way": {To: []byte(`"` + way.String() + `"`)}}})
	if known := fault.Explain(err); known == nil || len(known.Reasons) != 1 || known.Reasons[0].Field != "way" {
		t.Errorf("a reference to it: %v", err)
	}
	if records := d.m.Records(); len(records) != 1 || string(records[0].Fields["name"]) != `"Gully"` || records[0].Revision != 1 {
		t.Errorf("central has %+v", records)
	}
}

// What was changed while it was covered goes in after it was withdrawn, and brings nothing back; it does not bring
// the record before the eyes of who lost it, once others have worked on it.
func TestP11UnsentEditsOfWithdrawnRecordsGoIn(t *testing.T) {
	d := newDesk(t, ways)
	nora, lead := d.device("nora", "north"), d.device("lead", rights.All)
	way, own := uuid.New(), uuid.New()
	d.push(lead, d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`, "zone", `"north"`))
	d.hold(&nora, "west")
	got := d.push(nora, d.change(1, change.Edit, "ways", way, 1, "visits", `3`))
	if verdicts(got) != "[applied]" || got[0].Record == nil || !got[0].Record.Withdrawn {
		t.Errorf("an edit of what she saw is %s with %+v", verdicts(got), got[0].Record)
	}
	// She has never seen revision 2, which came after she lost it.
	got = d.push(nora, d.change(2, change.Edit, "ways", way, 3, "visits", `4`),
		d.change(3, change.Edit, "ways", way, 1, "zone", `"west"`))
	if verdicts(got) != "[refused unknown-record held]" || !got[1].Record.Withdrawn {
		t.Errorf("what she has not seen, and what takes it over, are %s, %+v", verdicts(got), got[1].Record)
	}
	if r := d.m.Records()[0]; string(r.Fields["zone"]) != `"north"` || string(r.Fields["visits"]) != "3" ||
		string(r.Marks.Disputes["zone"].Others[0].Value) != `"west"` {
		t.Errorf("central has %+v", r.State)
	}
	// Her own record, which nobody else has worked on, she may put right.
	got = d.push(nora, d.change(4, change.Add, "ways", own, 0, "name", `"Spur"`, "zone", `"noth"`),
		d.change(5, change.Edit, "ways", own, 0, "zone", `"west"`))
	if verdicts(got) != "[applied applied]" {
		t.Errorf("her own: %s", verdicts(got))
	}
	other := d.device("nell", "west")
	if got := d.push(other, d.change(1, change.Edit, "ways", way, 1, "visits", `9`)); verdicts(got) != "[refused unknown-record]" {
		t.Errorf("from somebody who never covered it: %s", verdicts(got))
	}
}

// A removal neither names nor takes with it what whoever removes may not see.
func TestP11RemovalsDoNotTellOfChildren(t *testing.T) {
	const stops = "collection: stops\nfields:\n  name: {type: string}\n  zone: {type: string}\n" +
		"  way: {type: string, format: uuid, reference: ways}\nsync: {territory: record.zone}\n"
	for removal, want := range map[string]string{"restrict": string(fault.Clash), "remove": string(fault.NotAllowed)} {
		d := newDesk(t, ways, stops+"parent: {collection: ways, field: way, removal: "+removal+"}\n")
		lead := d.device("lead", rights.All)
		way, stop := uuid.New(), uuid.New()
		d.push(lead, d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`, "zone", `"north"`),
			d.change(2, change.Add, "stops", stop, 0, "name", `"secret"`, "zone", `"south"`, "way", `"`+way.String()+`"`))
		who := central.Person{Name: "nora", Role: rights.Lead, Territories: []string{"north"}}
		_, err := d.c.Direct(t.Context(), who, changes.Write{Collection: "ways", Record: way, Kind: change.Remove, Base: 1,
			WithChildren: true})
		known := fault.Explain(err)
		if known == nil || string(known.Kind) != want {
			t.Fatalf("%s: %v", removal, err)
		}
		if text := string(encode(t, known)); strings.Contains(text, stop.String()) || strings.Contains(text, "secret") {
			t.Errorf("%s tells of the child: %s", removal, text)
		}
		nora := d.device("nora", "north")
		got := d.push(nora, d.change(1, change.Remove, "ways", way, 1))
		if text := string(encode(t, got)); strings.Contains(text, stop.String()) {
			t.Errorf("%s tells a device of the child: %s", removal, text)
		}
		for _, r := range d.m.Records() {
			if r.Removed {
				t.Errorf("%s removed %s of %s", removal, r.ID, r.Collection)
			}
		}
	}
}

// A copy of a store that gives one of its numbers to another change is noticed, even where the first still waits.
func TestP10ANumberThatWaitsIsTaken(t *testing.T) {
	d := newDesk(t, ways, posts)
	from := d.device("sam", rights.All)
	late := d.change(2, change.Edit, "ways", uuid.New(), 0, "name", `"Late"`)
	if got := verdicts(d.push(from, late)); got != "[waiting hangs-on-refused]" {
		t.Fatal(got)
	}
	if got := verdicts(d.push(from, late)); got != "[waiting hangs-on-refused]" {
		t.Fatal("sent again: ", got)
	}
	other := d.change(2, change.Add, "ways", uuid.New(), 0, "name", `"Other"`)
	if got := verdicts(d.push(from, other)); got != "[refused number-reused]" {
		t.Errorf("another change under its number is %s", got)
	}
	add := d.change(1, change.Add, "ways", late.Record, 0, "name", `"Early"`)
	if got := verdicts(d.push(from, add, late)); got != "[applied merged]" {
		t.Errorf("once it can go in, it is %s", got)
	}
}

// What was removed is carried over with the rest, so that an edit that outlives the removal finds its values under
// the names that they have now.
func TestP12RemovedRecordsAreCarriedOver(t *testing.T) {
	d := newDesk(t, "collection: ways\nfields: {name: {type: string}, visits: {type: integer}}\nsync: {rules: {visits: sum}}\n")
	from, other := d.device("sam", rights.All), d.device("nora", rights.All)
	way := uuid.New()
	d.push(from, d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`, "visits", `4`))
	d.push(from, d.change(2, change.Remove, "ways", way, 1))
	d.define("collection: ways\nfields: {name: {type: string}, seen: {type: integer}}\n" +
		"sync: {rules: {seen: sum}}\ncarry: {rename: {visits: seen}}\n")
	if r := d.m.Records()[0]; !r.Removed || string(r.Fields["seen"]) != "4" {
		t.Fatalf("carried over, it is %+v", r.State)
	}
	d.push(other, d.change(1, change.Edit, "ways", way, 1, "visits", `6`))
	if r := d.m.Records()[0]; r.Removed || string(r.Fields["name"]) != `"Ridge"` || string(r.Fields["seen"]) != "10" {
		t.Errorf("an edit that outlived the removal left %+v", r.State)
	}
}

func encode(t *testing.T, value any) []byte {
	t.Helper()
	text, err := json.Marshal(value)
	if err != nil {
		t.Fatal(err)
	}
	return text
}

func (d *desk) define(source string) {
	d.t.Helper()
	one, err := definition.ReadSource("test.yaml", []byte(source))
	if err != nil {
		d.t.Fatal(err)
	}
	if _, err := d.c.Define(d.t.Context(), "lead", []definition.Definition{one}); err != nil {
		d.t.Fatal(err)
	}
	d.now = d.now.Add(time.Minute)
}
