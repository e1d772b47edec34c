package web_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"homing/core/rights"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central/people"
	"homing/internal/testbed"
	"homing/service"
	"homing/wire"
)

const other = "quite-another-password"

func signIn(bed *testbed.Bed, worker, password string) (status int, token string) {
	status, text := bed.Call("POST", "/v1/session", "", map[string]string{"worker": worker, "password": password})
	var got struct{ Token string }
	_ = json.Unmarshal(text, &got) // a problem has no token
	return status, got.Token
}

func must(t *testing.T, bed *testbed.Bed, want int, method, path, token string, body any) []byte {
	t.Helper()
	status, text := bed.Call(method, path, token, body)
	if status != want {
		t.Errorf("%s %s: %d %s, want %d", method, path, status, text, want)
	}
	return text
}

// P11: the incarnation under which central itself writes is nobody's to enrol, to renew or to push under, and is shown
// nowhere. Neither is one of before a restore, under which answers are kept.
func TestP11CentralsOwnSourceIsNobodys(t *testing.T) {
	bed := testbed.Start(t)
	lead := bed.SignIn("lead")
	id := uuid.New()
	must(t, bed, 201, "POST", "/v1/records/trails", lead, map[string]any{"id": id, "fields": map[string]any{"name": "Ridge"}})
	source := bed.Central.Source()
	token, _ := enrol(t, bed)
	shown := ""
	for _, path := range []string{"/v1/history/trails/" + id.String(), "/v1/records/trails/" + id.String()} {
		shown += string(must(t, bed, 200, "GET", path, lead, nil))
	}
	shown += string(must(t, bed, 200, "GET", "/v1/changes/trails?cursor=0", token, nil))
	shown += string(must(t, bed, 200, "GET", "/v1/lookup/trails", token, nil))
	if strings.Contains(shown, source.String()) || !strings.Contains(shown, `"incarnation"`) {
		t.Errorf("central's own source is shown: %s", shown)
	}
	status, text := bed.Call("POST", "/v1/enrolments", "", wire.Enrolment{Code: bed.Code("worker"), Device: "thief", Incarnation: source})
	if status != http.StatusConflict {
		t.Errorf("it is enrolled: %d %s", status, text)
	}
	must(t, bed, 409, "PUT", "/v1/device/incarnation", token, map[string]any{"incarnation": source})
	must(t, bed, 409, "POST", "/v1/batches", token, batchText(source, `{"number":1}`))
	// Even where somebody has got a device by its name, nothing that central writes is answered from what they said.
	answers := must(t, bed, 200, "PUT", "/v1/rows/trails", lead, map[string]any{"rows": []any{map[string]any{"name": "Gully"}}})
	if !strings.Contains(string(answers), "added") {
		t.Errorf("%s", answers)
	}
}

// P11: a token that was revoked hands nothing over.
func TestP11ARevokedTokenGivesNothing(t *testing.T) {
	bed := testbed.Start(t)
	token, _ := enrol(t, bed)
	devices, err := bed.Central.Devices(t.Context(), "")
	testbed.Must(t, err)
	testbed.Must(t, bed.Central.Revoke(t.Context(), devices[0].ID, true, false))
	ask := wire.Enrolment{Code: bed.Code("reader"), Device: "thief", Incarnation: uuid.New(), Former: token}
	must(t, bed, 403, "POST", "/v1/enrolments", "", ask)
	testbed.Must(t, bed.Central.Revoke(t.Context(), devices[0].ID, false, false))
	must(t, bed, 200, "POST", "/v1/enrolments", "", ask) // the code was not used up, and what is readmitted goes over
}

// P11: passwords are changed by who knows them and set by admins; the sign-ins from before end, but for the one that
// changed it, and their live events with them.
func TestP11PasswordsEndSignIns(t *testing.T) {
	bed := testbed.Start(t)
	mine, elsewhere := bed.SignIn("worker"), bed.SignIn("worker")
	events := hearing(t, bed, elsewhere)
	must(t, bed, 403, "PUT", "/v1/session/password", mine, map[string]any{"present": "wrong", "next": other})
	for _, weak := range []string{"short", "worker-worker", "dragon12345", "aaaaaaaaaaaaaaa", "1234567890", "baseballbaseball", strings.Repeat("long", 60)} {
		must(t, bed, 422, "PUT", "/v1/session/password", mine, map[string]any{"present": testbed.Password, "next": weak})
	}
	must(t, bed, 204, "PUT", "/v1/session/password", mine, map[string]any{"present": testbed.Password, "next": other})
	must(t, bed, 200, "GET", "/v1/session", mine, nil)
	must(t, bed, 401, "GET", "/v1/session", elsewhere, nil)
	ends(t, events)
	if status, _ := signIn(bed, "worker", testbed.Password); status != 401 {
		t.Errorf("the former password signs in: %d", status)
	}
	admin := bed.SignIn("admin")
	must(t, bed, 204, "PUT", "/v1/workers/worker/password", admin, map[string]any{"password": testbed.Password})
	must(t, bed, 401, "GET", "/v1/session", mine, nil)
	must(t, bed, 204, "PUT", "/v1/workers/worker/password", admin, map[string]any{"password": ""})
	if status, _ := signIn(bed, "worker", ""); status != 422 {
		t.Errorf("without a password: %d", status)
	}
	must(t, bed, 409, "PUT", "/v1/workers/admin/password", admin, map[string]any{"password": ""})
}

// P11: whoever is disabled or removed is out, with their sign-ins, codes and devices; what these have queued is taken
// where that was allowed, and nothing of theirs is lost.
func TestP11SomebodyIsShutOut(t *testing.T) {
	bed := testbed.Start(t)
	admin := bed.SignIn("admin")
	for n, how := range []struct {
		method, path, back string
		deliver            bool
	}{{"POST", "/disabling", "enable", false}, {"POST", "/disabling?deliver=true", "enable", true}, {"DELETE", "?deliver=true", "", true}} {
		name := fmt.Sprint("mira", n)
		must(t, bed, 201, "POST", "/v1/workers", admin, map[string]any{"name": name, "role": "worker", "password": testbed.Password})
		session, incarnation := bed.SignIn(name), uuid.New()
		got, err := bed.Central.Enrol(t.Context(), wire.Enrolment{Code: bed.Code(name), Device: "hers", Incarnation: incarnation}, "")
		testbed.Must(t, err)
		tablet := uuid.New()
		shared, err := bed.Central.Enrol(t.Context(), wire.Enrolment{Code: bed.Code("worker"), Device: "shared", Incarnation: tablet}, "")
		testbed.Must(t, err)
		must(t, bed, 200, "POST", "/v1/device/people", shared.Token, map[string]any{"code": bed.Code(name)})
		code := bed.Code(name)
		push := func(token string, from uuid.UUID, number int, author string) (int, string) {
			status, text := bed.Call("POST", "/v1/batches", token, batchText(from, fmt.Sprintf(
				`{"number":%d,"collection":"trails","record":"%s","kind":"add","base":0,"author":"%s","fields":{"name":{"to":"Hers"}},"stamp":"0199d3a1c2b4-0003","edited_at":"2026-11-01T10:00:00Z"}`,
				number, uuid.New(), author)))
			return status, string(text)
		}
		if status, text := push(got.Token, incarnation, 1, name); status != 200 || !strings.Contains(text, "applied") {
			t.Fatalf("%d %s", status, text)
		}
		must(t, bed, 204, how.method, "/v1/workers/"+name+how.path, admin, nil)
		must(t, bed, 401, "GET", "/v1/session", session, nil)
		if status, _ := signIn(bed, name, testbed.Password); status != 401 {
			t.Errorf("%s signs in: %d", name, status)
		}
		must(t, bed, 401, "POST", "/v1/enrolments", "", wire.Enrolment{Code: code, Device: "x", Incarnation: uuid.New()})
		must(t, bed, 403, "GET", "/v1/changes/trails", got.Token, nil)
		status, text := push(got.Token, incarnation, 2, name)
		if how.deliver != (status == 200 && strings.Contains(text, "applied")) {
			t.Errorf("%s: what her device has queued: %d %s", how.path, status, text)
		}
		// The shared device goes on for the other, and takes hers where that is allowed.
		must(t, bed, 200, "GET", "/v1/changes/trails", shared.Token, nil)
		if _, text := push(shared.Token, tablet, 1, name); how.deliver != strings.Contains(text, "applied") {
			t.Errorf("%s: what she has queued on a shared device: %s", how.path, text)
		}
		if how.back != "" {
			must(t, bed, 204, "DELETE", "/v1/workers/"+name+"/disabling", admin, nil)
			must(t, bed, 200, "GET", "/v1/changes/trails", got.Token, nil)
			continue
		}
		must(t, bed, 409, "POST", "/v1/workers", admin, map[string]any{"name": name, "role": "worker"})
		if list := must(t, bed, 200, "GET", "/v1/workers", admin, nil); strings.Contains(string(list), name) {
			t.Errorf("who was removed is listed: %s", list)
		}
	}
	must(t, bed, 409, "POST", "/v1/workers/admin/disabling", admin, nil)
	if records := must(t, bed, 200, "GET", "/v1/records/trails", admin, nil); strings.Count(string(records), "Hers") < 5 {
		t.Errorf("records have gone: %s", records)
	}
}

// P11: sign-ins and codes are listed and ended, one's own by everybody, others' by those who may; and each such thing
// stands in a list that nobody alters.
func TestP11TheAuditList(t *testing.T) {
	bed := testbed.Start(t)
	admin, lead, worker := bed.SignIn("admin"), bed.SignIn("lead"), bed.SignIn("worker")
	var held []people.SignedIn
	testbed.Must(t, json.Unmarshal(must(t, bed, 200, "GET", "/v1/sign-ins", worker, nil), &held))
	if len(held) != 1 || held[0].Worker != "worker" || !held[0].Own || held[0].Address != "127.0.0.1" {
		t.Errorf("a worker sees the sign-ins %+v", held)
	}
	testbed.Must(t, json.Unmarshal(must(t, bed, 200, "GET", "/v1/sign-ins", admin, nil), &held))
	if len(held) != 3 {
		t.Errorf("an admin sees %+v", held)
	}
	for _, one := range held {
		if one.Worker == "lead" {
			must(t, bed, 404, "DELETE", "/v1/sign-ins/"+one.ID.String(), worker, nil)
			must(t, bed, 204, "DELETE", "/v1/sign-ins/"+one.ID.String(), admin, nil)
		}
	}
	must(t, bed, 401, "GET", "/v1/session", lead, nil)
	lead = bed.SignIn("lead")
	for _, who := range []string{"worker", "lead"} {
		must(t, bed, 201, "POST", "/v1/codes", lead, map[string]any{"worker": who})
	}
	var codes []people.Code
	testbed.Must(t, json.Unmarshal(must(t, bed, 200, "GET", "/v1/codes", worker, nil), &codes))
	if len(codes) != 1 || codes[0].Worker != "worker" || codes[0].IssuedBy != "lead" {
		t.Fatalf("a worker sees the codes %+v", codes)
	}
	must(t, bed, 204, "DELETE", "/v1/codes/"+codes[0].ID.String(), worker, nil)
	must(t, bed, 404, "DELETE", "/v1/codes/"+codes[0].ID.String(), lead, nil)

	var done []people.Done
	testbed.Must(t, json.Unmarshal(must(t, bed, 200, "GET", "/v1/audit?limit=1000", admin, nil), &done))
	var lines []string
	for _, one := range done {
		lines = append(lines, fmt.Sprintf("%s %s %s %s", one.Worker, one.Address, one.Act, one.About))
	}
	all := strings.Join(lines, "\n")
	for _, want := range []string{"worker 127.0.0.1 signed in worker", "admin 127.0.0.1 sign-in ended lead", "lead 127.0.0.1 code issued worker",
		"worker 127.0.0.1 code voided worker", "  worker added lead"} {
		if !strings.Contains(all, want) {
			t.Errorf("the audit list does not say %q:\n%s", want, all)
		}
	}
	for _, statement := range []string{"UPDATE audit SET worker = 'x'", "DELETE FROM audit", "TRUNCATE audit"} {
		if _, err := testbed.SQL(t, bed.Database).Exec(statement); err == nil || !strings.Contains(err.Error(), "not altered") {
			t.Errorf("%s: %v", statement, err)
		}
	}
}

// P11: what was made while central was open to everybody opens nothing once it is closed, unless an admin says so; and
// while it is open, it answers under the names of its own machine alone and changes nothing that opens later.
func TestP11WhatWasMadeWhileOpen(t *testing.T) {
	database := testbed.Database(t)
	bed := testbed.Start(t, func(o *service.Options) { o.Database, o.Open = database, true })
	for host, want := range map[string]int{"localhost:8400": 200, "127.0.0.1": 200, "[::1]:8400": 200, "central.example": 403, "127.0.0.1.example": 403} {
		for _, header := range []string{"Host", "Origin"} {
			r := httptest.NewRequest("GET", "http://localhost/v1/collections", nil)
			if r.RemoteAddr = "127.0.0.1:1"; header == "Host" {
				r.Host = host
			} else {
				r.Header.Set("Origin", "http://"+host)
			}
			got := httptest.NewRecorder()
			if bed.Server().ServeHTTP(got, r); got.Code != want {
				t.Errorf("%s %s: %d", header, host, got.Code)
			}
		}
	}
	must(t, bed, 201, "POST", "/v1/workers", "", map[string]any{"name": "guest", "role": "admin", "password": testbed.Password})
	must(t, bed, 403, "PUT", "/v1/workers/admin/password", "", map[string]any{"password": other})
	must(t, bed, 403, "PUT", "/v1/workers/worker/role", "", map[string]any{"role": "admin"})
	var codes [2]struct{ Code string }
	for n := range codes {
		testbed.Must(t, json.Unmarshal(must(t, bed, 201, "POST", "/v1/codes", "", map[string]any{"worker": "worker"}), &codes[n]))
	}
	var made, anybodys wire.Enrolled
	testbed.Must(t, json.Unmarshal(must(t, bed, 200, "POST", "/v1/enrolments", "",
		wire.Enrolment{Code: codes[0].Code, Device: "made", Incarnation: uuid.New()}), &made))
	testbed.Must(t, json.Unmarshal(must(t, bed, 200, "POST", "/v1/enrolments", "", wire.Enrolment{Device: "anybody's", Incarnation: uuid.New()}), &anybodys))
	must(t, bed, 200, "GET", "/v1/changes/trails", made.Token, nil)
	bed.Stop()

	bed = testbed.Start(t, func(o *service.Options) { o.Database = database })
	if status, _ := signIn(bed, "guest", testbed.Password); status != 401 {
		t.Errorf("who was added while central was open signs in: %d", status)
	}
	must(t, bed, 401, "GET", "/v1/changes/trails", made.Token, nil)
	must(t, bed, 401, "GET", "/v1/changes/trails", anybodys.Token, nil)
	must(t, bed, 401, "POST", "/v1/enrolments", "", wire.Enrolment{Code: codes[1].Code, Device: "late", Incarnation: uuid.New()})
	admin := bed.SignIn("admin")
	for _, path := range []string{"/v1/workers", "/v1/devices", "/v1/codes"} {
		if text := must(t, bed, 200, "GET", path, admin, nil); !strings.Contains(string(text), `"while_open":true`) {
			t.Errorf("%s does not say what was made while central was open: %s", path, text)
		}
	}
	must(t, bed, 204, "POST", "/v1/workers/guest/admission", admin, nil)
	must(t, bed, 204, "POST", "/v1/devices/"+made.Device.String()+"/admission", admin, nil)
	must(t, bed, 204, "POST", "/v1/devices/"+anybodys.Device.String()+"/admission", admin, nil)
	must(t, bed, 403, "POST", "/v1/workers/open/admission", admin, nil)
	bed.SignIn("guest")
	must(t, bed, 200, "GET", "/v1/changes/trails", made.Token, nil)
	if status, text := bed.Call("GET", "/v1/changes/trails", anybodys.Token, nil); status < 401 || status > 403 {
		t.Errorf("a device of everybody's is let in: %d %s", status, text)
	}
}

// hearing opens a stream of events and waits for its beginning.
func hearing(t *testing.T, bed *testbed.Bed, token string) *bufio.Reader {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	t.Cleanup(cancel)
	r, err := http.NewRequestWithContext(ctx, "GET", bed.URL()+"/v1/events", nil)
	testbed.Must(t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	got, err := http.DefaultClient.Do(r)
	testbed.Must(t, err)
	t.Cleanup(func() { got.Body.Close() })
	if got.StatusCode != http.StatusOK {
		t.Fatalf("listening: %d", got.StatusCode)
	}
	in := bufio.NewReader(got.Body)
	_, err = in.ReadString('\n')
	testbed.Must(t, err)
	return in
}

func ends(t *testing.T, in *bufio.Reader) {
	t.Helper()
	for {
		if _, err := in.ReadString('\n'); err != nil {
			if err.Error() != "EOF" && !strings.Contains(err.Error(), "unexpected EOF") {
				t.Errorf("the stream did not end: %v", err)
			}
			return
		}
	}
}

// P11: live events end with the device, and nobody holds any number of them.
func TestP11LiveEventsEndWithTheirDevice(t *testing.T) {
	bed := testbed.Start(t)
	token, _ := enrol(t, bed)
	events := hearing(t, bed, token)
	devices, err := bed.Central.Devices(t.Context(), "")
	testbed.Must(t, err)
	testbed.Must(t, bed.Central.Revoke(t.Context(), devices[0].ID, true, false))
	ends(t, events)
	session := bed.SignIn("reader")
	for range 20 {
		hearing(t, bed, session)
	}
	must(t, bed, 429, "GET", "/v1/events", session, nil)
	must(t, bed, 200, "GET", "/v1/records/trails", session, nil)
}

// P11: refusing a sign-in takes the work of a password's hash whether there is such a worker, with a password or not, so that
// nothing tells who is there. The hash takes 19 MiB, which shows without a clock.
func TestP11RefusingTakesTheSameWork(t *testing.T) {
	bed := testbed.Start(t)
	testbed.Must(t, bed.Central.AddWorker(t.Context(), "silent", rights.Worker, ""))
	for _, worker := range []string{"lead", "silent", "nobody-of-that-name"} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		status, _ := bed.Call("POST", "/v1/session", "", map[string]string{"worker": worker, "password": "not the password"})
		runtime.ReadMemStats(&after)
		if took := (after.TotalAlloc - before.TotalAlloc) >> 20; status != http.StatusUnauthorized || took < 18 || took > 40 {
			t.Errorf("%s is refused with %d after %d MiB", worker, status, took)
		}
	}
}

// dated is a link that notes until when an answer may be written to it.
type dated struct {
	*httptest.ResponseRecorder
	until time.Time
}

func (d *dated) SetWriteDeadline(at time.Time) error {
	d.until = at
	return nil
}

// P11: whoever reads slowly is cut off: every answer has a moment until which it must have been taken.
func TestP11SlowReadersAreCut(t *testing.T) {
	bed := testbed.Start(t)
	for _, path := range []string{"/v1/hello", "/v1/definitions", "/", "/v1/nothing"} {
		link := &dated{ResponseRecorder: httptest.NewRecorder()}
		bed.Server().ServeHTTP(link, httptest.NewRequest("GET", path, nil))
		if left := time.Until(link.until); left <= 0 || left > 3*time.Minute {
			t.Errorf("%s may be read for %s", path, left)
		}
	}
}
