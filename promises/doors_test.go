package promises_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/rights"
	"homing/device"
	"homing/internal/testbed"
	"homing/service"
	"homing/wire"
)

// P11: every role at every door. The same right is asked for wherever one comes in.
func TestP11EveryRoleAtEveryDoor(t *testing.T) {
	bed := testbed.Start(t)
	id := newID()
	admin := bed.SignIn("admin")
	if status, text := bed.Call("POST", "/v1/records/trails", admin,
		map[string]any{"id": id, "fields": map[string]any{"name": "Ridge"}}); status != 201 {
		t.Fatalf("%d %s", status, text)
	}
	record := "/v1/records/trails/" + id.String()
	doors := []struct {
		name, method, path string
		body               any
		least              rights.Role
		fine               int
	}{
		{"definitions", "GET", "/v1/definitions", nil, rights.Reader, 200},
		{"collections", "GET", "/v1/collections", nil, rights.Reader, 200},
		{"list", "GET", "/v1/records/trails", nil, rights.Reader, 200},
		{"show", "GET", record, nil, rights.Reader, 200},
		{"history", "GET", "/v1/history/trails/" + id.String(), nil, rights.Reader, 200},
		{"fingerprint", "GET", "/v1/fingerprint/trails", nil, rights.Reader, 200},
		{"add", "POST", "/v1/records/trails", map[string]any{"fields": map[string]any{"name": "Other"}}, rights.Worker, 201},
		{"edit", "PATCH", record, map[string]any{"fields": map[string]any{"state": "open"}}, rights.Worker, 200},
		{"as it was", "GET", record + "?revision=1", nil, rights.Reader, 200},
		{"bring back", "POST", "/v1/bring-back/trails/" + id.String(), map[string]any{"revision": 1}, rights.Worker, 200},
		{"conflicts", "GET", "/v1/conflicts", nil, rights.Reader, 200},
		{"settle", "POST", "/v1/conflicts/settlements", map[string]any{"collection": "trails", "record": newID(),
			"field": "state", "base": 1, "value": "open"}, rights.Worker, 404},
		{"own code", "POST", "/v1/codes", map[string]any{}, rights.Worker, 201},
		{"code for another", "POST", "/v1/codes", map[string]any{"worker": "worker"}, rights.Lead, 201},
		{"code for an admin", "POST", "/v1/codes", map[string]any{"worker": "admin"}, rights.Admin, 201},
		{"workers", "GET", "/v1/workers", nil, rights.Admin, 200},
		{"define", "PUT", "/v1/definitions", wire.Definitions{}, rights.Admin, 422},
		{"add worker", "POST", "/v1/workers", map[string]any{"name": "X", "role": "reader"}, rights.Admin, 422},
		{"rows", "PUT", "/v1/rows/trails", map[string]any{"rows": []any{}}, rights.Worker, 200},
		{"preview", "POST", "/v1/definitions/preview", wire.Definitions{Definitions: []definition.Definition{}},
			rights.Admin, 200},
		{"territories", "GET", "/v1/territories", nil, rights.Admin, 200},
		{"hold", "PUT", "/v1/workers/nobody/territories", map[string]any{"territories": []string{"kell"}}, rights.Admin, 404},
		{"set a role", "PUT", "/v1/workers/nobody/role", map[string]any{"role": "lead"}, rights.Admin, 404},
		{"take off a device", "DELETE", "/v1/devices/" + newID().String() + "/people/worker", nil, rights.Lead, 404},
		{"readmit", "DELETE", "/v1/devices/" + newID().String() + "/revocation", nil, rights.Lead, 404},
		{"revoke", "POST", "/v1/devices/" + newID().String() + "/revocation", nil, rights.Lead, 404},
	}
	order := map[rights.Role]int{rights.Reader: 0, rights.Worker: 1, rights.Lead: 2, rights.Admin: 3}
	for _, role := range rights.Roles {
		token := bed.SignIn(string(role))
		for _, door := range doors {
			status, text := bed.Call(door.method, door.path, token, door.body)
			allowed := order[role] >= order[door.least]
			if door.name == "code for another" && role == rights.Worker {
				allowed = true // it is their own
			}
			if allowed && status != door.fine || !allowed && status != http.StatusForbidden {
				t.Errorf("%s as %s: %d %s", door.name, role, status, text)
			}
		}
		// A session is no device.
		for _, door := range []struct {
			method, path string
			body         any
		}{{"GET", "/v1/changes/trails", nil}, {"GET", "/v1/lookup/trails", nil},
			{"POST", "/v1/refresh/trails", wire.Held{Records: []wire.HeldRecord{}}},
			{"POST", "/v1/device/people", map[string]string{"code": "x"}},
			{"PUT", "/v1/device/incarnation", map[string]any{"incarnation": newID()}},
			{"PUT", "/v1/report", wire.Report{Cursors: map[string]int64{}}}} {
			if status, text := bed.Call(door.method, door.path, token, door.body); status != http.StatusForbidden {
				t.Errorf("%s with the session of a %s: %d %s", door.path, role, status, text)
			}
		}
	}
	device := newRaw(t, bed, "admin").token
	for _, door := range doors {
		if status, _ := bed.Call(door.method, door.path, "", door.body); status != http.StatusUnauthorized {
			t.Errorf("%s without signing in: %d", door.name, status)
		}
		// The token of an admin's device is no admin.
		want := http.StatusForbidden
		if door.name == "definitions" {
			want = http.StatusOK
		}
		if status, text := bed.Call(door.method, door.path, device, door.body); status != want {
			t.Errorf("%s with a device's token: %d %s", door.name, status, text)
		}
	}
}

// P11: the devices of a reader may pull and not push, and what is refused at this door is not let in at another.
func TestP11AReadersDevice(t *testing.T) {
	bed := testbed.Start(t)
	reader := newRaw(t, bed, "reader")
	answers := reader.push(reader.batch(reader.change(1, change.Add, newID(), 0, map[string]string{"name": `"x"`})))
	if answers[0].Answer != change.Refused || answers[0].Reasons[0].Code != change.CodeNotAllowed {
		t.Errorf("a reader's push: %+v", answers[0])
	}
	reader.pull(0)
	store := bed.Device("reader", "tablet", device.Options{})
	testbed.Exchange(t, store)
	if _, err := store.Add(ctx, "trails", device.Fields{"name": "x"}); err == nil ||
		!strings.Contains(err.Error(), "may not change records") {
		t.Errorf("a reader's save: %v", err)
	}
	worker := newRaw(t, bed, "worker")
	forged := worker.change(1, change.Add, newID(), 0, map[string]string{"name": `"x"`})
	forged.Author = "admin"
	if got := worker.push(worker.batch(forged))[0]; got.Answer != change.Refused {
		t.Errorf("a change in the name of another: %+v", got)
	}
}

// P11: workers see their own devices only; leads see all.
func TestP11TheFleet(t *testing.T) {
	bed := testbed.Start(t)
	testbed.Exchange(t, bed.Device("worker", "mine", device.Options{}), bed.Device("lead", "theirs", device.Options{}))
	for role, want := range map[string]int{"reader": 0, "worker": 1, "lead": 2, "admin": 2} {
		for _, path := range []string{"/v1/devices", "/v1/exchanges"} {
			_, text := bed.Call("GET", path, bed.SignIn(role), nil)
			var all []json.RawMessage
			testbed.Must(t, json.Unmarshal(text, &all))
			if len(all) != want {
				t.Errorf("%s sees %d at %s, want %d", role, len(all), path, want)
			}
		}
	}
}

// P11: a revoked device gets nothing and brings nothing; what it has stays on it, and goes in when it is readmitted.
func TestP11Revocation(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	addTrail(t, store, "Ridge")
	devices, err := bed.Central.Devices(ctx, "")
	testbed.Must(t, err)
	testbed.Must(t, bed.Central.Revoke(ctx, devices[0].ID, true, false))
	if _, err := store.Exchange(ctx, nil); err == nil || !strings.Contains(err.Error(), "was revoked") {
		t.Errorf("the exchange said %v", err)
	}
	if status, err := store.Status(ctx); err != nil || status.Unsent != 1 {
		t.Errorf("status %+v, %v", status, err)
	}
	testbed.Must(t, bed.Central.Revoke(ctx, devices[0].ID, false, false))
	if got := testbed.Exchange(t, store); got.Applied != 1 {
		t.Errorf("after it was readmitted: %+v", got)
	}
}

// P11: passwords, tokens and codes are nowhere in the database as they are, and a code works once and in time.
func TestP11SecretsAndCodes(t *testing.T) {
	bed := testbed.Start(t)
	code := bed.Code("worker")
	ask := wire.Enrolment{Code: strings.ToLower(code), Device: "tablet", Incarnation: newID()}
	var got wire.Enrolled
	status, text := bed.Call("POST", "/v1/enrolments", "", ask)
	if err := json.Unmarshal(text, &got); err != nil || status != 200 {
		t.Fatalf("a code typed in small letters: %d %s", status, text)
	}
	session := bed.SignIn("lead")
	ask.Incarnation = newID()
	if status, text := bed.Call("POST", "/v1/enrolments", "", ask); status != 401 ||
		!strings.Contains(string(text), "was used on") {
		t.Errorf("a used code: %d %s", status, text)
	}
	late := bed.Code("worker")
	db := database(t, bed)
	db.MustExec(`UPDATE codes SET expires_at = now() - interval '1 minute' WHERE used_at IS NULL`)
	ask.Code = late
	if status, text := bed.Call("POST", "/v1/enrolments", "", ask); status != 401 ||
		!strings.Contains(string(text), "expired on") {
		t.Errorf("a late code: %d %s", status, text)
	}
	for _, table := range []string{"workers", "sessions", "codes", "devices"} {
		var dump string
		testbed.Must(t, db.Get(&dump, fmt.Sprintf(`SELECT coalesce(string_agg(encode(convert_to(x::text, 'UTF8'),
				'escape'), E'\n'), '') FROM %s x`, table)))
		for _, secret := range []string{testbed.Password, code, late, got.Token, session} {
			if strings.Contains(dump, secret) {
				t.Errorf("the table %s holds a secret as it is", table)
			}
		}
	}
	for _, password := range []string{"wrong", testbed.Password + " "} {
		if status, _ := bed.Call("POST", "/v1/session", "", map[string]string{"worker": "lead",
			"password": password}); status != 401 {
			t.Errorf("signed in with %q: %d", password, status)
		}
	}
	if status, _ := bed.Call("DELETE", "/v1/session", session, nil); status != 204 {
		t.Errorf("sign out: %d", status)
	}
	if status, _ := bed.Call("GET", "/v1/collections", session, nil); status != 401 {
		t.Errorf("a session that was signed out: %d", status)
	}
}

// P11: what was let in while central was open to everybody is shut out when it no longer is.
func TestP11OpenAndThenNot(t *testing.T) {
	open := testbed.Start(t, func(o *service.Options) { o.Open = true })
	store, err := device.Open(ctx, t.TempDir()+"/store.db", device.Options{})
	testbed.Must(t, err)
	defer store.Close()
	testbed.Must(t, store.Enrol(ctx, open.URL(), "", "tablet"))
	testbed.Exchange(t, store)
	if status, err := store.Status(ctx); err != nil || !status.Open {
		t.Errorf("the device does not know that central is open: %+v, %v", status, err)
	}
	if status, _ := open.Call("GET", "/v1/workers", "", nil); status != 200 {
		t.Errorf("open, and yet %d", status)
	}
	if !strings.Contains(open.Log.String(), "central is OPEN") {
		t.Error("the log does not say that central is open")
	}
	closed := testbed.Start(t, func(o *service.Options) { o.Database = open.Database })
	testbed.Must(t, store.MoveCentral(ctx, closed.URL()))
	if _, err := store.Exchange(ctx, nil); err == nil || !strings.Contains(err.Error(), "enrol it again") {
		t.Errorf("the exchange said %v", err)
	}
	if _, err := service.Start(ctx, service.Options{Listen: "0.0.0.0:0", Open: true}); err == nil ||
		!strings.Contains(err.Error(), "only listens on loopback") {
		t.Errorf("open to all the world: %v", err)
	}
}
