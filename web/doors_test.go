package web_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/core/change"
	"homing/core/clock"
	"homing/core/record"
	"homing/core/rights"
	"homing/internal/testbed"
	"homing/wire"
)

// door is who may ask for an operation at all: people from a role on, devices, or anyone. What they then see and do is
// another question.
type door struct {
	anyone  bool
	least   rights.Role // of people; empty keeps all of them out
	device  bool
	deliver bool // also a revoked device that may deliver
}

var (
	forAnyone  = door{anyone: true}
	forReaders = door{least: rights.Reader}
	forWorkers = door{least: rights.Worker}
	forLeads   = door{least: rights.Lead}
	forAdmins  = door{least: rights.Admin}
	forBoth    = door{least: rights.Reader, device: true}
	forDevice  = door{device: true}
	forDeliver = door{device: true, deliver: true}
)

// doors are all operations. One that has no row here fails the test.
var doors = map[string]door{
	"hello": forAnyone, "enrol": forAnyone, "sign-in": forAnyone,
	"definitions": forBoth, "events": forBoth,
	"push": forDeliver, "trip": forDeliver, "renew-incarnation": forDeliver, "report": forDeliver,
	"pull": forDevice, "look-up": forDevice, "refresh": forDevice, "fingerprints": forDevice, "join-device": forDevice,
	"collections": forReaders, "list-records": forReaders, "show-record": forReaders, "history": forReaders,
	"fingerprint": forReaders, "conflicts": forReaders, "devices": forReaders, "exchanges": forReaders, "exchange": forReaders,
	"accepted": forReaders, "count-accepted": forReaders, "count-conflicts": forReaders, "device": forReaders,
	"session": forReaders, "sign-out": forReaders, "change-password": forReaders, "sign-ins": forReaders, "end-sign-in": forReaders,
	"add-record": forWorkers, "edit-record": forWorkers, "remove-record": forWorkers, "bring-back": forWorkers, "put-rows": forWorkers, "read-table": forWorkers,
	"settle": forWorkers, "reopen": forWorkers, "settle-by-rule": forWorkers, "issue-code": forWorkers, "codes": forWorkers,
	"void-code":     forWorkers,
	"revoke-device": forLeads, "readmit-device": forLeads, "leave-device": forLeads, "rename-device": forLeads, "ask-device": forLeads, "stop-asking-device": forLeads,
	"define": forAdmins, "preview-definitions": forAdmins, "workers": forAdmins, "add-worker": forAdmins, "set-role": forAdmins,
	"set-password": forAdmins, "disable-worker": forAdmins, "enable-worker": forAdmins, "remove-worker": forAdmins,
	"admit-worker": forAdmins, "admit-device": forAdmins, "audit": forAdmins, "features": forReaders, "features-api": forReaders, "features-conformance": forReaders, "feature-collections": forReaders,
	"feature-collection": forReaders, "features-items": forReaders, "feature": forReaders,
	"feeds": forAdmins, "define-feeds": forAdmins, "remove-feed": forAdmins, "act-on-feed": forAdmins, "feed-aside": forAdmins, "resend-feed-aside": forAdmins, "feed-secrets": forAdmins, "set-feed-secret": forAdmins, "remove-feed-secret": forAdmins,
	"settings": forLeads, "set-setting": forLeads, "remove-setting": forLeads, "put-in-teams": forLeads, "coverage": forReaders, "complete-record": forWorkers, "open-record": forWorkers, "follow-ups": forAdmins, "follow-up-counts": forAdmins, "territories": forAdmins, "hold-territories": forAdmins,
	"reach": forAdmins, "rehearse": forAdmins, "try-merge": forAdmins, "health": forAdmins, "definition-file": forReaders, "export": forReaders, "read-definition-file": forAdmins,
}

// knock is somebody who asks.
type knock struct {
	name  string
	token string
	role  rights.Role // of a person; empty for others
	state string      // device, revoked, deliver, shut
}

// P11: every operation of the description, for every kind of caller: who may not ask is turned away before anything
// else is looked at, and everybody else is not.
func TestP11EveryOperationForEveryCaller(t *testing.T) {
	bed := testbed.Start(t)
	operations, _ := everyOperation(t)
	for name := range doors {
		if operations[name] == nil {
			t.Errorf("there is no operation %s any more", name)
		}
	}
	callers := everyCaller(t, bed)
	tried := 0
	for _, name := range slices.Sorted(maps.Keys(operations)) {
		op, at := operations[name], doors[name]
		if at == (door{}) {
			t.Errorf("the operation %s has no row: say who may ask for it", name)
			continue
		}
		for _, caller := range callers {
			if name == "sign-out" && caller.role != "" {
				caller.token = bed.SignIn(string(caller.role)) // it ends
			}
			want := at.opens(caller)
			if name == "events" && want == 0 {
				continue // it has no end; another test listens
			}
			tried++
			status, text := callFrom(bed, fmt.Sprintf("10.0.%d.%d", tried/250, tried%250), op, caller.token)
			turned := status == http.StatusUnauthorized || status == http.StatusForbidden
			if want != 0 && status != want || want == 0 && turned && !(name == "enrol" || name == "sign-in" || name == "change-password") {
				t.Errorf("%s by %s: %d %s, want %d", name, caller.name, status, text, want)
			}
		}
	}
	t.Logf("%d operations by %d kinds of callers: %d calls", len(operations), len(callers), tried)
}

// opens is 0 where somebody may ask, or the status with which they are turned away.
func (d door) opens(who knock) int {
	switch {
	case d.anyone:
		return 0
	case who.role == "" && who.state == "":
		return http.StatusUnauthorized
	case who.state == "shut" || who.state == "revoked":
		return http.StatusForbidden
	case who.state == "deliver" && !d.deliver:
		return http.StatusForbidden
	case who.state != "" && !d.device:
		return http.StatusForbidden
	case who.state == "" && (d.least == "" || d.least.Above(who.role)):
		return http.StatusForbidden
	}
	return 0
}

func everyCaller(t *testing.T, bed *testbed.Bed) []knock {
	t.Helper()
	ctx := t.Context()
	callers := []knock{{name: "nobody"}, {name: "a made-up session", token: "ses_x"}, {name: "a made-up device", token: "dev_x"},
		{name: "something else", token: "x"}}
	for _, role := range rights.Roles {
		callers = append(callers, knock{name: "a " + string(role), token: bed.SignIn(string(role)), role: role})
	}
	ended := bed.SignIn("lead")
	testbed.Must(t, bed.Central.SignOut(ctx, ended))
	callers = append(callers, knock{name: "an ended sign-in", token: ended})
	for _, one := range []string{"out", "removed", "demoted"} {
		testbed.Must(t, bed.Central.AddWorker(ctx, one, rights.Admin, testbed.Password))
	}
	out, removed, demoted := bed.SignIn("out"), bed.SignIn("removed"), bed.SignIn("demoted")
	shut := deviceOf(t, bed, "out")
	delivers := deviceOf(t, bed, "removed")
	testbed.Must(t, bed.Central.Disable(ctx, "out", false))
	testbed.Must(t, bed.Central.Remove(ctx, "removed", true))
	testbed.Must(t, bed.Central.SetRole(ctx, "demoted", rights.Reader))
	callers = append(callers, knock{name: "somebody disabled", token: out}, knock{name: "somebody removed", token: removed},
		knock{name: "somebody demoted", token: demoted, role: rights.Reader},
		knock{name: "a device of somebody disabled", token: shut, state: "shut"},
		knock{name: "a device of somebody removed, who may deliver", token: delivers, state: "deliver"})
	for _, role := range rights.Roles {
		callers = append(callers, knock{name: "a device of a " + string(role), token: deviceOf(t, bed, string(role)), state: "device"})
	}
	for _, deliver := range []bool{false, true} {
		token := deviceOf(t, bed, "admin")
		devices, err := bed.Central.Devices(ctx, "admin")
		testbed.Must(t, err)
		newest := slices.MaxFunc(devices, func(a, b central.Device) int { return a.EnrolledAt.Compare(b.EnrolledAt) })
		testbed.Must(t, bed.Central.Revoke(ctx, newest.ID, true, deliver))
		callers = append(callers, knock{name: fmt.Sprint("a revoked device, deliver ", deliver), token: token,
			state: map[bool]string{false: "revoked", true: "deliver"}[deliver]})
	}
	return callers
}

func deviceOf(t *testing.T, bed *testbed.Bed, worker string) string {
	t.Helper()
	got, err := bed.Central.Enrol(t.Context(), wire.Enrolment{Code: bed.Code(worker), Device: worker + "'s",
		Incarnation: uuid.Must(uuid.NewV7())}, "")
	testbed.Must(t, err)
	return got.Token
}

// plainPath names things that are not there, so that nothing is changed.
func plainPath(op *describedOperation) string {
	path := op.path
	for _, p := range op.Parameters {
		if p.In != "path" {
			continue
		}
		value := uuid.NewString()
		if p.Schema.Format != "uuid" {
			value = "nowhere"
		}
		path = strings.Replace(path, "{"+p.Name+"}", value, 1)
	}
	return path
}

// callFrom asks from an address of its own, so that made-up tokens do not count against each other.
func callFrom(bed *testbed.Bed, address string, op *describedOperation, token string) (status int, text string) {
	r := httptest.NewRequest(op.method, plainPath(op), strings.NewReader("{}"))
	r.RemoteAddr = address + ":1"
	r.Header.Set("Content-Type", "application/json")
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	got := httptest.NewRecorder()
	bed.Server().ServeHTTP(got, r)
	return got.Code, got.Body.String()
}

const secretNotes = `collection: notes
key: name
fields:
  name: {type: string}
  zone: {type: string}
  text: {type: string}
  hidden: {type: boolean}
  place: {$ref: "urn:homing:point"}
  up: {type: string, format: uuid, reference: notes}
sync: {territory: record.zone, rules: {text: ask}}
access: {read: 'before.hidden != true || worker.role == "admin"'}
`

// ask is one request that means a record.
type ask struct {
	method, path string
	body         any
}

// Operations that mean a record, and how they are asked about one. In the others a record cannot be meant, or what
// they give is listed below.
var asksOfARecord = map[string]func(id uuid.UUID, d *holder) []ask{
	"show-record": func(id uuid.UUID, _ *holder) []ask {
		at := "/v1/records/notes/" + id.String()
		return []ask{{"GET", at, nil}, {"GET", at + "?revision=1", nil}, {"GET", at + "?as_of=2026-01-01T00:00:00Z", nil}}
	},
	"feature": func(id uuid.UUID, _ *holder) []ask {
		return []ask{{"GET", "/features/collections/notes/items/" + id.String(), nil}}
	},
	"history": func(id uuid.UUID, _ *holder) []ask { return []ask{{"GET", "/v1/history/notes/" + id.String(), nil}} },
	"edit-record": func(id uuid.UUID, _ *holder) []ask {
		at := "/v1/records/notes/" + id.String()
		return []ask{{"PATCH", at, map[string]any{"fields": map[string]any{"zone": "north", "hidden": nil}}},
			{"PATCH", at, map[string]any{"base": 1, "fields": map[string]any{"text": "mine"}}}}
	},
	"complete-record": func(id uuid.UUID, _ *holder) []ask {
		return []ask{{"PUT", "/v1/complete/notes/" + id.String(), nil}}
	},
	"open-record": func(id uuid.UUID, _ *holder) []ask {
		return []ask{{"DELETE", "/v1/complete/notes/" + id.String(), nil}}
	},
	"remove-record": func(id uuid.UUID, _ *holder) []ask {
		return []ask{{"DELETE", "/v1/records/notes/" + id.String(), nil}, {"DELETE", "/v1/records/notes/" + id.String() + "?base=1&with_children=true", nil}}
	},
	"bring-back": func(id uuid.UUID, _ *holder) []ask {
		return []ask{{"POST", "/v1/bring-back/notes/" + id.String(), map[string]any{"revision": 1}}}
	},
	"settle": func(id uuid.UUID, _ *holder) []ask {
		return []ask{{"POST", "/v1/conflicts/settlements", map[string]any{"collection": "notes", "record": id, "field": "text", "base": 1, "value": "x"}}}
	},
	"reopen": func(id uuid.UUID, _ *holder) []ask {
		return []ask{{"POST", "/v1/conflicts/reopenings", map[string]any{"collection": "notes", "record": id, "field": "text"}}}
	},
	"add-record": func(id uuid.UUID, _ *holder) []ask { // a reference to it
		return []ask{{"POST", "/v1/records/notes", map[string]any{"fields": map[string]any{"name": "x", "zone": "north", "up": id}}}}
	},
	"conflicts": func(id uuid.UUID, _ *holder) []ask { return []ask{{"GET", "/v1/conflicts?record=" + id.String(), nil}} },
	"refresh": func(id uuid.UUID, _ *holder) []ask { // that there is one is said to a device that looked it up; see below
		return nil
	},
	"push": func(id uuid.UUID, d *holder) []ask {
		var asks []ask
		for _, one := range []change.Change{{Kind: change.Edit, Base: 1, Fields: record.Delta{"zone": {To: []byte(`"north"`)}}},
			{Kind: change.Edit, Base: 0, Fields: record.Delta{"text": {To: []byte(`"mine"`)}}}, {Kind: change.Remove, Base: 1}} {
			asks = append(asks, ask{"POST", "/v1/batches", d.batch(id, one)})
		}
		return asks
	},
	"trip": func(id uuid.UUID, d *holder) []ask {
		batch := d.batch(id, change.Change{Kind: change.Edit, Base: 1, Fields: record.Delta{"zone": {To: []byte(`"north"`)}}})
		trip := wire.Trip{Generation: d.generation, Definitions: d.digest, Cursors: map[string]int64{"notes": 0}}
		with := trip
		with.Batch = &batch
		return []ask{{"POST", "/v1/trips", trip}, {"POST", "/v1/trips", with}}
	},
}

// Operations that give records without one being meant: none of them shows what its reader may not see.
var givesRecords = map[string][]ask{
	"list-records": {{"GET", "/v1/records/notes", nil}, {"GET", "/v1/records/notes?search=SECRET", nil}, {"GET", "/v1/records/notes?where=text~SECRET", nil},
		{"GET", "/v1/records/notes?sort=text", nil}, {"GET", "/v1/records/notes?removed=true", nil}, {"GET", "/v1/records/notes?by=admin", nil},
		{"GET", "/v1/records/notes?as=admin", nil}},
	"features-items": {{"GET", "/features/collections/notes/items", nil}, {"GET", "/features/collections/notes/items?zone=south", nil},
		{"GET", "/features/collections/notes/items?bbox=-180,-90,180,90", nil}},
	"feature-collections": {{"GET", "/features/collections", nil}}, "feature-collection": {{"GET", "/features/collections/notes", nil}},
	"export":   {{"GET", "/v1/export/notes", nil}, {"GET", "/v1/export/notes?format=ndjson&removed=true", nil}, {"GET", "/v1/export/notes?where=text~SECRET", nil}},
	"accepted": {{"GET", "/v1/accepted", nil}, {"GET", "/v1/accepted?collection=notes&by=admin", nil}},
	"device":   nil, // as exchange
	"pull":     {{"GET", "/v1/changes/notes?cursor=0", nil}}, "look-up": {{"GET", "/v1/lookup/notes?search=SECRET", nil}},
	"fingerprints": {{"GET", "/v1/fingerprints/notes", nil}}, "fingerprint": {{"GET", "/v1/fingerprint/notes", nil}},
	"coverage":    {{"GET", "/v1/coverage/notes", nil}, {"GET", "/v1/coverage/notes?worker=admin", nil}}, // and see TestP11TheGrid
	"collections": {{"GET", "/v1/collections", nil}}, "exchanges": {{"GET", "/v1/exchanges", nil}},
	"settle-by-rule": {{"POST", "/v1/conflicts/settlements-by-rule", map[string]any{"rule": "newest", "collection": "notes"}}},
	"put-rows":       {{"PUT", "/v1/rows/notes", map[string]any{"key": "name", "rows": []any{map[string]any{"name": "SECRET south", "zone": "north"}}}}},
	"exchange":       nil, // of which there must be one: see exchangesTellNothing
}

// Operations in which no record is meant or given.
var tellsNothing = []string{"hello", "enrol", "sign-in", "definitions", "events", "renew-incarnation", "report", "join-device", "devices",
	"session", "sign-out", "change-password", "sign-ins", "end-sign-in", "issue-code", "codes", "void-code", "revoke-device", "readmit-device",
	"leave-device", "define", "preview-definitions", "workers", "add-worker", "set-role", "set-password", "disable-worker", "enable-worker",
	"remove-worker", "admit-worker", "admit-device", "audit", "follow-ups", "follow-up-counts", "territories", "hold-territories", "health", "rename-device",
	"ask-device", "stop-asking-device", "settings", "set-setting", "remove-setting", "put-in-teams", "try-merge", "rehearse",
	"definition-file", "read-definition-file", "read-table", "features", "features-api", "features-conformance",
	"feeds", "define-feeds", "remove-feed", "act-on-feed", "feed-aside", "resend-feed-aside", "feed-secrets", "set-feed-secret", "remove-feed-secret",
	// They give numbers alone; what they count has tests of its own.
	"count-conflicts", "count-accepted", "reach"}

// holder is who asks, with the device that they have.
type holder struct {
	name, token string
	device      bool
	generation  uuid.UUID
	incarnation uuid.UUID
	number      int64
	digest      string // of the definitions as they are told to it
}

func (h *holder) batch(id uuid.UUID, c change.Change) wire.Batch {
	h.number++
	c.Number, c.Collection, c.Record, c.EditedAt = h.number, "notes", id, time.Now()
	c.Stamp = clock.At(c.EditedAt)
	text, _ := json.Marshal(c) // always marshals
	return wire.Batch{ID: uuid.New(), Exchange: uuid.New(), Incarnation: h.incarnation, Generation: h.generation,
		Clock: wire.Clock{SentAt: time.Now()}, Changes: []json.RawMessage{text}}
}

// P11: of a record that somebody may not see, each operation says what it says of one that is not there, word for
// word: records of another territory, hidden by a reading rule, removed there, and once covered. None is changed.
func TestP11NoOperationTellsOfWhatMayNotBeSeen(t *testing.T) {
	bed := testbed.Start(t)
	ctx := t.Context()
	bed.Define(secretNotes)
	operations, _ := everyOperation(t)
	for name := range operations {
		_, means := asksOfARecord[name]
		_, gives := givesRecords[name]
		if !means && !gives && !slices.Contains(tellsNothing, name) {
			t.Errorf("the operation %s has no row: say whether a record can be meant in it, or is given by it", name)
		}
	}
	for _, role := range rights.Roles[:3] {
		testbed.Must(t, bed.Central.HoldTerritories(ctx, string(role), []string{"north"}))
	}
	admin := central.Everything("admin")
	add := func(text string, fields ...string) uuid.UUID {
		id := uuid.Must(uuid.NewV7())
		delta := record.Delta{"text": {To: []byte(`"` + text + `"`)}, "name": {To: []byte(`"` + text + `"`)},
			"place": {To: []byte(`{"type":"Point","coordinates":[66.5,6.5]}`)}}
		for n := 0; n < len(fields); n += 2 {
			delta[fields[n]] = record.Edit{To: []byte(fields[n+1])}
		}
		_, err := bed.Central.Direct(ctx, admin, changes.Write{Collection: "notes", Record: id, Kind: change.Add, Base: -1, Fields: delta})
		testbed.Must(t, err)
		return id
	}
	write := func(id uuid.UUID, kind change.Kind, delta record.Delta) {
		_, err := bed.Central.Direct(ctx, admin, changes.Write{Collection: "notes", Record: id, Kind: kind, Base: -1, Fields: delta})
		testbed.Must(t, err)
	}
	moved := add("SECRET moved", "zone", `"north"`)
	write(moved, change.Edit, record.Delta{"zone": {To: []byte(`"south"`)}, "text": {To: []byte(`"SECRET since"`)}})
	removed := add("SECRET removed", "zone", `"south"`)
	write(removed, change.Remove, nil)
	secrets := map[string]uuid.UUID{"of another territory": add("SECRET south", "zone", `"south"`), "removed there": removed,
		"hidden by a rule": add("SECRET hidden", "zone", `"north"`, "hidden", "true"), "of no territory": add("SECRET nowhere"),
		"moved away": moved}
	before := whole(t, bed)
	plain := add("plain", "zone", `"north"`)

	var holders []*holder
	for _, role := range rights.Roles[:3] {
		incarnation := uuid.Must(uuid.NewV7())
		got, err := bed.Central.Enrol(ctx, wire.Enrolment{Code: bed.Code(string(role)), Device: "d", Incarnation: incarnation}, "")
		testbed.Must(t, err)
		holders = append(holders, &holder{name: string(role), token: bed.SignIn(string(role))},
			&holder{name: string(role) + "'s device", token: got.Token, device: true, incarnation: incarnation, generation: bed.Central.Generation()})
	}
	asked := 0
	for _, h := range holders { // what they may see is there: otherwise everything below would say nothing
		var told wire.Definitions
		if _, text := bed.Call("GET", "/v1/definitions", h.token, nil); json.Unmarshal(text, &told) == nil {
			h.digest = told.Digest
		}
		if trip := asksOfARecord["trip"](plain, h)[0]; h.device {
			if status, text := bed.Call(trip.method, trip.path, h.token, trip.body); status != http.StatusOK || !strings.Contains(string(text), plain.String()) {
				t.Errorf("%s does not see on a trip what they may: %d %s", h.name, status, text)
			}
		}
		path := map[bool]string{false: "/v1/records/notes", true: "/v1/changes/notes?cursor=0"}[h.device]
		if status, text := bed.Call("GET", path, h.token, nil); status != http.StatusOK || !strings.Contains(string(text), plain.String()) {
			t.Errorf("%s does not see what they may: %d %s", h.name, status, text)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(operations)) {
		for _, h := range holders {
			if doors[name].device != h.device && !doors[name].anyone {
				continue
			}
			for what, id := range secrets {
				if asks := asksOfARecord[name]; asks != nil {
					nowhere := uuid.New()
					there, absent := asks(id, h), asks(nowhere, h)
					for n := range there {
						asked++
						a, b := answerTo(bed, h, there[n], id), answerTo(bed, h, absent[n], nowhere)
						if a != b || strings.Contains(strings.ReplaceAll(a, "SECRET south", ""), "SECRET") || strings.Contains(a, id.String()) {
							t.Errorf("%s by %s of a record %s:\n%s\nand of one that is not there:\n%s", name, h.name, what, a, b)
						}
					}
				}
			}
			for _, one := range givesRecords[name] {
				asked++
				answer := answerTo(bed, h, one, uuid.Nil)
				for what, id := range secrets {
					if strings.Contains(strings.ReplaceAll(answer, "SECRET south", ""), "SECRET") || strings.Contains(answer, id.String()) {
						t.Errorf("%s by %s tells of a record %s: %s", name, h.name, what, answer)
					}
				}
			}
		}
	}
	exchangesTellNothing(t, bed, holders)
	for id, was := range before {
		if now := whole(t, bed)[id]; now != was {
			t.Errorf("%s was\n%s\nand is\n%s", id, was, now)
		}
	}
	t.Logf("%d requests", asked)
}

// exchangesTellNothing looks at what an admin's device has sent and got, as leads may who watch the fleet: of what
// they do not cover it says only that it travelled.
func exchangesTellNothing(t *testing.T, bed *testbed.Bed, holders []*holder) {
	t.Helper()
	admins := &holder{incarnation: uuid.Must(uuid.NewV7()), generation: bed.Central.Generation()}
	got, err := bed.Central.Enrol(t.Context(), wire.Enrolment{Code: bed.Code("admin"), Device: "d", Incarnation: admins.incarnation}, "")
	testbed.Must(t, err)
	batch := admins.batch(uuid.New(), change.Change{Kind: change.Add,
		Fields: record.Delta{"text": {To: []byte(`"SECRET sent"`)}, "zone": {To: []byte(`"south"`)}}})
	must(t, bed, 200, "POST", "/v1/batches", got.Token, batch)
	refused := admins.batch(uuid.New(), change.Change{Kind: change.Add,
		Fields: record.Delta{"text": {To: []byte(`{"SECRET": 1}`)}, "zone": {To: []byte(`"south"`)}}})
	refused.Exchange = batch.Exchange
	must(t, bed, 200, "POST", "/v1/batches", got.Token, refused)
	unknown := admins.batch(uuid.New(), change.Change{Kind: change.Add, Fields: record.Delta{"text": {To: []byte(`"SECRET unknown"`)}}})
	unknown.Exchange = batch.Exchange
	unknown.Changes[0] = json.RawMessage(strings.Replace(string(unknown.Changes[0]), `"notes"`, `"nowhere"`, 1))
	must(t, bed, 200, "POST", "/v1/batches", got.Token, unknown)
	if status, text := bed.Call("GET", "/v1/changes/notes?cursor=1", got.Token, nil, wire.HeaderExchange, batch.Exchange.String()); status != 200 {
		t.Fatalf("%d %s", status, text)
	}
	path := "/v1/exchanges/" + batch.Exchange.String()
	for _, h := range append(holders, &holder{name: "admin", token: bed.SignIn("admin")}) {
		status, text := bed.Call("GET", path, h.token, nil)
		switch {
		case h.name == "admin" && (status != 200 || strings.Count(string(text), "SECRET") < 4):
			t.Errorf("an admin is told %d %s", status, text)
		case h.name == "lead" && status != 200, h.name != "admin" && strings.Contains(strings.ReplaceAll(string(text), "SECRET south", ""), "SECRET"):
			t.Errorf("%s is told %d %s", h.name, status, text)
		}
	}
}

var varies = regexp.MustCompile(`"request":"[^"]*"|"number":\d+|"stamp":"[^"]*"|"batch":"[^"]*"|"seals":\[[^\]]*\]|"(received|answered)_at":"[^"]*"|"seal":"[^"]*"`)

// answerTo is what is said, without what differs from call to call anyhow.
func answerTo(bed *testbed.Bed, h *holder, a ask, id uuid.UUID) string {
	status, text := bed.Call(a.method, a.path, h.token, a.body)
	said := varies.ReplaceAllString(string(text), "")
	if id != uuid.Nil {
		said = strings.ReplaceAll(said, id.String(), "ID")
	}
	return fmt.Sprint(status, " ", said)
}

func whole(t *testing.T, bed *testbed.Bed) map[uuid.UUID]string {
	t.Helper()
	records, _, err := bed.Central.Whole(t.Context())
	testbed.Must(t, err)
	all := map[uuid.UUID]string{}
	for _, r := range records {
		text, err := json.Marshal(r.State)
		testbed.Must(t, err)
		if strings.Contains(string(text), "SECRET") {
			all[r.ID] = string(text)
		}
	}
	return all
}
