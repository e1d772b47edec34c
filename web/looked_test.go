package web_test

import (
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/core/definition"
	"homing/device"
	"homing/internal/testbed"
)

// asked asks one thing and reads the answer.
func asked[T any](t *testing.T, bed *testbed.Bed, token, path string) (got T) {
	t.Helper()
	status, text := bed.Call("GET", path, token, nil)
	if status != 200 {
		t.Fatalf("%s: %d %s", path, status, text)
	}
	testbed.Must(t, json.Unmarshal(text, &got))
	return got
}

func defined(t *testing.T, source string) definition.Definition {
	t.Helper()
	d, err := definition.ReadSource("drawn.yaml", []byte(source))
	testbed.Must(t, err)
	return d
}

type looked struct {
	Records []struct {
		ID     string
		Fields struct{ Name string }
	}
	Total int
}

func (l looked) names() string {
	var all []string
	for _, r := range l.Records {
		all = append(all, r.Fields.Name)
	}
	slices.Sort(all)
	return strings.Join(all, " ")
}

const placed = `collection: huts
label: "{name}"
fields:
  name: {type: string}
  at: {$ref: "urn:homing:point"}
  zone: {type: string}
sync:
  territory: record.zone
`

// fleet is a central with huts in two zones, added by a lead at central, and edited and removed by a worker on a device.
func fleet(t *testing.T) (bed *testbed.Bed, store *device.Store, lead string, midway time.Time) {
	t.Helper()
	bed = testbed.Start(t)
	bed.Define(placed)
	lead = bed.SignIn("lead")
	testbed.Must(t, bed.Central.HoldTerritories(t.Context(), "worker", []string{"kell"}))
	for _, hut := range []string{"Gale -31.5 52 kell", "Fosk -31 52.5 ostra", "Rim 179.5 -10 kell", "Edge -179.5 -10 kell"} {
		var name, zone string
		var lon, lat float64
		_, err := fmt.Sscan(hut, &name, &lon, &lat, &zone)
		testbed.Must(t, err)
		status, text := bed.Call("POST", "/v1/records/huts", lead, map[string]any{"fields": map[string]any{"name": name, "zone": zone,
			"at": map[string]any{"type": "Point", "coordinates": []float64{lon, lat}}}})
		if status != 201 {
			t.Fatalf("%d %s", status, text)
		}
	}
	midway = time.Now()
	store = bed.Device("worker", "phone", device.Options{})
	testbed.Exchange(t, store)
	return bed, store, lead, midway
}

// Lists at central show what was removed, what lies in an area, and what somebody edited since a time; each only to who covers it.
func TestWhatListsLookFor(t *testing.T) {
	bed, store, lead, midway := fleet(t)
	worker := bed.SignIn("worker")
	rows := asked[looked](t, bed, lead, "/v1/records/huts?where=name%3DEdge")
	id := uuidOf(t, rows.Records[0].ID)
	_, err := store.Edit(t.Context(), "huts", id, device.Fields{"name": "Brink"})
	testbed.Must(t, err)
	testbed.Must(t, store.Remove(t.Context(), "huts", uuidOf(t, asked[looked](t, bed, lead, "/v1/records/huts?where=name%3DRim").Records[0].ID)))
	testbed.Exchange(t, store)
	since := url.QueryEscape(midway.UTC().Format(time.RFC3339Nano))
	for _, test := range []struct{ who, query, want string }{
		{lead, "", "Brink Fosk Gale"},
		{lead, "removed=true", "Rim"},
		{worker, "removed=true", "Rim"},
		{lead, "by=worker", "Brink"},
		{lead, "by=lead", "Fosk Gale"},
		{worker, "by=lead", "Gale"},
		{lead, "where=name%3DGale&where=name%3DFosk", "Fosk Gale"},
		{lead, "where=name%3DGale&where=name%3DFosk&where=zone%3Dkell", "Gale"},
		{lead, "where=name%3D&where=name%3DFosk", "Fosk"},
		{worker, "where=name%3DGale&where=name%3DFosk", "Gale"},
		{lead, "since=" + since, "Brink"},
		{lead, "until=" + since, "Fosk Gale"},
		{lead, "within=at:-32,51,-30.5,53", "Fosk Gale"},
		{worker, "within=at:-32,51,-30.5,53", "Gale"},
		{lead, "within=at:-31.2,51,-30.5,53", "Fosk"},
		{lead, "within=at:179,-11,-179,-9", "Brink"}, // over the antimeridian
		{lead, "within=at:-32,51,-30.5,53&search=gale&sort=-name&limit=1", "Gale"},
	} {
		if got := asked[looked](t, bed, test.who, "/v1/records/huts?"+test.query); got.names() != test.want || got.Total != len(got.Records) {
			t.Errorf("%s: %s of %d, want %s", test.query, got.names(), got.Total, test.want)
		}
	}
	here, err := store.Find(t.Context(), "huts", device.Ask{Where: []string{"name=Gale", "name=Brink", "zone=kell"}})
	testbed.Must(t, err)
	if len(here.Records) != 2 {
		t.Errorf("on the device: %d", len(here.Records))
	}
	for _, bad := range []string{"within=at", "within=at:1,2,3", "within=at:a,b,c,d", "within=name:1,2,3,4", "within=:1,2,3,4", "within=at:NaN,0,0,0", "since=noon"} {
		if status, text := bed.Call("GET", "/v1/records/huts?"+bad, lead, nil); status != 400 && status != 422 {
			t.Errorf("%s: %d %s", bad, status, text)
		}
	}
	if got := asked[struct{ Open int }](t, bed, lead, "/v1/conflicts/count"); got.Open != 0 {
		t.Errorf("%+v", got)
	}
}

// What a list shows is handed out as a file in each format, to who may see it; what cannot be one is said, and no file.
func TestExports(t *testing.T) {
	bed, _, lead, _ := fleet(t)
	for format, want := range map[string]string{"csv": "homing_id,name,at,zone\n", "ndjson": `"name":"Gale"`, "geojson": `"FeatureCollection"`, "xlsx": "PK"} {
		status, text := bed.Call("GET", "/v1/export/huts?format="+format, lead, nil)
		if status != 200 || !strings.Contains(string(text), want) {
			t.Errorf("%s: %d %.200s", format, status, text)
		}
	}
	_, text := bed.Call("GET", "/v1/export/huts?where=name!%3DGale&sort=-name", bed.SignIn("worker"), nil)
	if lines := strings.Split(strings.TrimSpace(string(text)), "\n"); len(lines) != 3 || strings.Contains(string(text), "Fosk") {
		t.Errorf("the worker gets\n%s", text)
	}
	bed.Define("collection: notes\nfields: {text: {type: string}}\n")
	if status, text := bed.Call("GET", "/v1/export/notes?format=geojson", lead, nil); status != 422 || !strings.Contains(string(text), "place") {
		t.Errorf("without a place: %d %s", status, text)
	}
	status, text := bed.Call("POST", "/v1/records/notes", lead, map[string]any{"fields": map[string]string{"text": strings.Repeat("long ", 8000)}})
	if status != 201 {
		t.Fatalf("%d %s", status, text)
	}
	if status, text := bed.Call("GET", "/v1/export/notes?format=xlsx", lead, nil); status != 422 {
		t.Errorf("a text that no workbook takes: %d %.200s", status, text)
	}
}

type acceptedPage struct {
	Changes []struct {
		Label, Author, Device, Kind string
		Revision                    int
	}
	Next string
}

// The changes of all records come in pages, the latest first, each once; of what somebody does not cover, none, nor are
// they counted.
func TestAcceptedChanges(t *testing.T) {
	bed, store, lead, _ := fleet(t)
	worker := bed.SignIn("worker")
	for n := range 9 {
		_, err := store.Add(t.Context(), "huts", device.Fields{"name": fmt.Sprintf("Hut %d", n), "zone": "kell"})
		testbed.Must(t, err)
	}
	testbed.Exchange(t, store)
	all := func(who, query string) (names []string) {
		before := ""
		for {
			page := asked[acceptedPage](t, bed, who, "/v1/accepted?limit=4&"+query+"&before="+url.QueryEscape(before))
			for _, one := range page.Changes {
				names = append(names, one.Label)
			}
			if before = page.Next; before == "" {
				return names
			}
		}
	}
	for query, want := range map[string]int{"": 13, "by=worker": 9, "device=phone": 9, "at_central=true": 4, "collection=huts": 13, "collection=trails": 0} {
		got := all(lead, query)
		if slices.Sort(got); len(got) != want || len(slices.Compact(got)) != want {
			t.Errorf("%s: %d, want %d: %s", query, len(got), want, got)
		}
	}
	if got := all(worker, ""); len(got) != 12 || slices.Contains(got, "Fosk") {
		t.Errorf("the worker sees %s", got)
	}
	since := url.QueryEscape(time.Now().Add(-time.Hour).UTC().Format(time.RFC3339))
	for who, want := range map[string]int{lead: 13, worker: 12} {
		total := 0
		for _, one := range asked[[]struct {
			Changes int
			From    time.Time
		}](t, bed, who, "/v1/accepted/counts?span=60&since="+since) {
			total += one.Changes
		}
		if total != want {
			t.Errorf("%d changes are counted, want %d", total, want)
		}
	}
	for _, bad := range []string{"/v1/accepted?before=yesterday", "/v1/accepted?collection=none", "/v1/accepted?limit=0", "/v1/accepted/counts",
		"/v1/accepted/counts?span=60&since=2001-01-01T00:00:00Z"} {
		if status, text := bed.Call("GET", bad, lead, nil); status < 400 || status >= 500 {
			t.Errorf("%s: %d %s", bad, status, text)
		}
	}
}

// P11: conflicts are counted for who covers their records. Who is added with no territory covers none of them.
func TestConflictsAreCountedForWhoCoversThem(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strings.Replace(placed, "sync:\n", "sync:\n  rules: {name: ask}\n", 1))
	lead, admin := bed.SignIn("lead"), bed.SignIn("admin")
	testbed.Must(t, bed.Central.HoldTerritories(t.Context(), "worker", []string{"kell"}))
	for _, zone := range []string{"kell", "ostra"} {
		status, text := bed.Call("POST", "/v1/records/huts", lead, map[string]any{"fields": map[string]any{"name": "Gale", "zone": zone}})
		if status != 201 {
			t.Fatalf("%d %s", status, text)
		}
		id := asked[looked](t, bed, lead, "/v1/records/huts?where=zone%3D"+zone).Records[0].ID
		for who, name := range map[string]string{lead: "Fosk", admin: "Arn"} {
			if status, text := bed.Call("PATCH", "/v1/records/huts/"+id, who, map[string]any{"base": 1, "fields": map[string]any{"name": name}}); status != 200 {
				t.Fatalf("%d %s", status, text)
			}
		}
	}
	if status, text := bed.Call("POST", "/v1/workers", admin, map[string]any{"name": "new", "role": "worker", "password": testbed.Password,
		"territories": []string{}}); status != 204 && status != 201 {
		t.Fatalf("%d %s", status, text)
	}
	for who, want := range map[string]int{lead: 2, bed.SignIn("worker"): 1, bed.SignIn("new"): 0} {
		if got := asked[struct{ Open int }](t, bed, who, "/v1/conflicts/count"); got.Open != want {
			t.Errorf("%d are counted, want %d", got.Open, want)
		}
		if got := asked[[]any](t, bed, who, "/v1/conflicts"); len(got) != want {
			t.Errorf("%d are listed, want %d", len(got), want)
		}
	}
}

// One device says how far it is and what central did not accept of it; a worker sees that of their own, and no values
// that they do not cover.
func TestOneDevice(t *testing.T) {
	bed, store, lead, _ := fleet(t)
	bed.Define(strings.Replace(placed, "name: {type: string}", "name: {type: string, maxLength: 10}", 1))
	_, err := store.Add(t.Context(), "huts", device.Fields{"name": "A name that is too long", "zone": "kell"})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	type one struct {
		ID, Name string
		Reached  []struct {
			Collection   string
			Cursor, Head int
		}
		Unaccepted []struct {
			What, Label string
			Fields      map[string]any
			Reasons     []struct{ Message string }
		}
	}
	devices := asked[[]one](t, bed, lead, "/v1/devices")
	got := asked[one](t, bed, lead, "/v1/devices/"+devices[0].ID)
	if got.Name != "phone" || len(got.Unaccepted) != 1 || got.Unaccepted[0].What != "refused" || len(got.Unaccepted[0].Reasons) == 0 ||
		got.Unaccepted[0].Fields["name"] == nil {
		t.Errorf("%+v", got)
	}
	for _, at := range got.Reached {
		if at.Collection == "huts" && (at.Cursor != at.Head || at.Head == 0) {
			t.Errorf("%+v", at)
		}
	}
	if status, _ := bed.Call("GET", "/v1/devices/"+devices[0].ID, bed.SignIn("reader"), nil); status != 404 {
		t.Errorf("somebody else's device: %d", status)
	}
	if got := asked[one](t, bed, bed.SignIn("worker"), "/v1/devices/"+devices[0].ID); len(got.Unaccepted) != 1 {
		t.Errorf("its worker sees %+v", got)
	}
	if status, text := bed.Call("PUT", "/v1/devices/"+devices[0].ID+"/name", lead, map[string]string{"name": "Valley phone"}); status != 204 {
		t.Errorf("%d %s", status, text)
	}
	for name, want := range map[string]int{"": 422, "a\nb": 422, " ": 422} {
		if status, text := bed.Call("PUT", "/v1/devices/"+devices[0].ID+"/name", lead, map[string]string{"name": name}); status != want && status != 400 {
			t.Errorf("%q: %d %s", name, status, text)
		}
	}
	if status, _ := bed.Call("PUT", "/v1/devices/"+devices[0].ID+"/name", bed.SignIn("worker"), map[string]string{"name": "mine"}); status != 403 {
		t.Errorf("a worker renames: %d", status)
	}
	if got := asked[[]one](t, bed, lead, "/v1/devices"); got[0].Name != "Valley phone" {
		t.Errorf("it is called %s", got[0].Name)
	}
	type exchange struct{ Device string }
	for query, want := range map[string]bool{"device=" + devices[0].ID: true, "refused=true": true, "worker=lead": false, "before=2001-01-01T00:00:00Z": false} {
		if got := asked[[]exchange](t, bed, lead, "/v1/exchanges?"+query); (len(got) > 0) != want {
			t.Errorf("%s: %d exchanges", query, len(got))
		}
	}
	if got := asked[[]exchange](t, bed, bed.SignIn("reader"), "/v1/exchanges?worker=worker"); len(got) != 0 {
		t.Errorf("somebody else's exchanges: %+v", got)
	}
}

// Admins see what a worker gets and may do, and look as the worker would; nobody else does.
func TestWhatAWorkerGetsAndMay(t *testing.T) {
	bed, _, lead, _ := fleet(t)
	bed.Define(placed + "access:\n  edit: before.name != \"Gale\"\n  remove: worker.role == \"lead\"\n")
	admin := bed.SignIn("admin")
	type reach struct {
		Name        string
		Territories []string
		Collections []struct {
			Collection  string
			Records, Of int
			Leaves      []struct{ Act, With, Rule string }
		}
	}
	got := asked[reach](t, bed, admin, "/v1/workers/worker/reach")
	at := slices.IndexFunc(got.Collections, func(c struct {
		Collection  string
		Records, Of int
		Leaves      []struct{ Act, With, Rule string }
	}) bool {
		return c.Collection == "huts"
	})
	if at < 0 || got.Collections[at].Records != 3 || got.Collections[at].Of != 4 || !slices.Equal(got.Territories, []string{"kell"}) {
		t.Fatalf("%+v", got)
	}
	var said []string
	for _, leave := range got.Collections[at].Leaves {
		said = append(said, leave.Act+" "+leave.With)
	}
	if strings.Join(said, ", ") != "read all, add all, edit some, remove none" {
		t.Errorf("%v", said)
	}
	if got := asked[struct{ Shut bool }](t, bed, admin, "/v1/workers/lead/reach"); got.Shut {
		t.Error("the lead is said to be shut out")
	}
	testbed.Must(t, bed.Central.Disable(t.Context(), "worker", false))
	if got := asked[struct{ Shut bool }](t, bed, admin, "/v1/workers/worker/reach"); !got.Shut {
		t.Error("a disabled worker is not said to be")
	}
	testbed.Must(t, bed.Central.Enable(t.Context(), "worker"))
	if rows := asked[looked](t, bed, admin, "/v1/records/huts?as=worker"); rows.names() != "Edge Gale Rim" || rows.Total != 3 {
		t.Errorf("as the worker: %s of %d", rows.names(), rows.Total)
	}
	for path, want := range map[string]int{"/v1/records/huts?as=worker": 403, "/v1/export/huts?as=worker": 403, "/v1/records/huts?as=lead": 200} {
		if status, text := bed.Call("GET", path, lead, nil); status != want {
			t.Errorf("%s by a lead: %d %s", path, status, text)
		}
	}
	for _, path := range []string{"/v1/workers/nobody/reach", "/v1/records/huts?as=nobody", "/v1/export/huts?as=nobody"} {
		if status, text := bed.Call("GET", path, admin, nil); status != 404 {
			t.Errorf("%s: %d %s", path, status, text)
		}
	}
	if status, text := bed.Call("GET", "/v1/export/huts?as=worker&format=csv", admin, nil); status != 200 || strings.Contains(string(text), "Fosk") ||
		!strings.Contains(string(text), "Gale") {
		t.Errorf("%d %s", status, text)
	}
}

// A definition that is being written is tried on two edits that meet, and nothing is stored.
func TestTryingAMerge(t *testing.T) {
	bed := testbed.Start(t)
	admin := bed.SignIn("admin")
	d := defined(t, "collection: huts\nrequired: [name]\nfields: {name: {type: string}, beds: {type: integer}}\nsync: {rules: {beds: ask}}\n")
	value := func(beds any) map[string]any { return map[string]any{"beds": beds} }
	status, text := bed.Call("POST", "/v1/definitions/meeting", admin, map[string]any{"definition": d, "base": value(4), "one": value(5), "other": value(6)})
	var met struct {
		One, Other string
		Record     map[string]int
		Disputes   map[string]any
	}
	testbed.Must(t, json.Unmarshal(text, &met))
	if status != 200 || met.One != "applied" || met.Other != "held" || met.Record["beds"] != 5 || met.Disputes["beds"] == nil {
		t.Errorf("%d %s", status, text)
	}
	for _, wrong := range []map[string]any{
		{"definition": d, "base": value(4), "one": value("many"), "other": value(6)},
		{"definition": map[string]any{"collection": "Huts!", "title": "", "label": "", "version": 1, "fields": []any{}, "sync": map[string]any{"removal": "ask"}}, "base": value(4), "one": value(5), "other": value(6)},
		{"definition": d, "base": map[string]any{"walls": 4}, "one": value(5), "other": value(6)},
	} {
		if status, text := bed.Call("POST", "/v1/definitions/meeting", admin, wrong); status != 422 && status != 400 {
			t.Errorf("%v: %d %s", wrong, status, text)
		}
	}
	if got := asked[[]any](t, bed, admin, "/v1/collections"); len(got) != 2 { // those of the test's central
		t.Errorf("something is defined: %v", got)
	}
}

// Admins see how central is; nobody else does.
func TestHealth(t *testing.T) {
	bed := testbed.Start(t)
	got := asked[struct {
		PostgreSQL string `json:"postgresql"`
		Bytes      int
		Tables     []struct{ Name string }
	}](t, bed, bed.SignIn("admin"), "/v1/health")
	if got.PostgreSQL == "" || got.Bytes == 0 || len(got.Tables) == 0 {
		t.Errorf("%+v", got)
	}
	if status, _ := bed.Call("GET", "/v1/health", bed.SignIn("lead"), nil); status != 403 {
		t.Errorf("a lead sees it: %d", status)
	}
}

func uuidOf(t *testing.T, text string) uuid.UUID {
	t.Helper()
	id, err := uuid.Parse(text)
	testbed.Must(t, err)
	return id
}

// An admin lets a simulated fleet work with the definitions, and with one that is being written; nobody else does, and nothing is stored.
func TestRehearsingAtCentral(t *testing.T) {
	bed := testbed.Start(t, testbed.Rehearses(t))
	admin := bed.SignIn("admin")
	type rehearsed struct {
		Seed, Saves, Exchanges int
		Answers                map[string]int
		Decisions              []struct{ Collection, Field, Rule string }
		Wrong                  []string
	}
	d := defined(t, "collection: visits\nlabel: \"{note}\"\nfields: {note: {type: string}, guests: {type: integer}}\nsync: {rules: {guests: sum}}\n")
	var first rehearsed
	for range 2 {
		var got rehearsed
		status, text := bed.Call("POST", "/v1/rehearsals", admin, map[string]any{"seed": 7, "definition": d})
		testbed.Must(t, json.Unmarshal(text, &got))
		if status != 200 || got.Seed != 7 || got.Saves == 0 || got.Exchanges == 0 || len(got.Wrong) != 0 {
			t.Fatalf("%d %s", status, text)
		}
		if first.Saves != 0 && (first.Saves != got.Saves || first.Answers["applied"] != got.Answers["applied"]) {
			t.Errorf("one seed gave %+v and %+v", first, got)
		}
		first = got
	}
	// One of which no values can be made up is a word about it, and no fault of central's.
	odd := defined(t, "collection: visits\nlabel: \"{note}\"\nrequired: [note]\nfields: {note: {type: string, pattern: \"^(?:a|b)\\\\B$\"}}\n")
	if status, text := bed.Call("POST", "/v1/rehearsals", admin, map[string]any{"seed": 7, "definition": odd}); status >= 500 {
		t.Errorf("an odd pattern: %d %s", status, text)
	}
	d.Label = "{nothing}"
	if status, text := bed.Call("POST", "/v1/rehearsals", admin, map[string]any{"seed": 7, "definition": d}); status != 400 && status != 422 {
		t.Errorf("a definition that is wrong: %d %s", status, text)
	}
	if got := asked[[]any](t, bed, admin, "/v1/collections"); len(got) != 2 {
		t.Errorf("%d collections are defined", len(got))
	}
}
