package promises_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"homing/central/people"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
)

// said says a setting at central, as a lead does.
func said(t *testing.T, bed *testbed.Bed, ask, value string) {
	t.Helper()
	name, _, _ := strings.Cut(ask, "?")
	if status, text := bed.Call("PUT", "/v1/settings/"+ask, bed.SignIn("lead"), map[string]any{"value": json.RawMessage(value)}); status != http.StatusNoContent {
		t.Fatalf("%s = %s: %d %s", name, value, status, text)
	}
}

// goesBy are the settings of a device, as its own status says.
func goesBy(t *testing.T, store *device.Store) string {
	t.Helper()
	status, err := store.Status(ctx)
	testbed.Must(t, err)
	text, err := json.Marshal(status.Settings)
	testbed.Must(t, err)
	return string(text)
}

// What central says of all devices, of a team and of one reaches each with its next exchange, by a trip or the long way, the closest counts, and central
// sees who goes by it and since when. Nothing that is unsent is touched.
func TestDevicesAreSteered(t *testing.T) {
	bed := testbed.Start(t)
	a, b := bed.Device("worker", "tablet", device.Options{Agent: "trailnotes/1.3"}), bed.Device("lead", "phone", device.Options{})
	testbed.Exchange(t, a, b)
	id := deviceNamed(t, bed, "tablet").ID.String()
	if status, text := bed.Call("PUT", "/v1/devices/"+id+"/teams", bed.SignIn("lead"), map[string]any{"teams": []string{"kell crew", "valley", "valley"}}); status != http.StatusNoContent {
		t.Fatalf("teams: %d %s", status, text)
	}
	said(t, bed, "exchange_every", `"2 hours"`)
	said(t, bed, "note", `"Exchange before Friday."`)
	said(t, bed, "note?team=kell+crew", `"Ring before you go."`)
	said(t, bed, "page?device="+id, `50`)
	said(t, bed, "least_version", `"1.4"`)
	if d := deviceNamed(t, bed, "tablet"); !d.Differs || d.Applied != "" {
		t.Errorf("before the exchange central takes it for steered: %+v", d)
	}
	unsent := addTrail(t, a, "Ridge")
	testbed.Exchange(t, a)
	testbed.Exchange(t, b)
	if got := goesBy(t, a); got != `{"exchange_every":"2 hours","least_version":"1.4","note":"Ring before you go.","page":50}` {
		t.Errorf("the tablet goes by %s", got)
	}
	if got := goesBy(t, b); got != `{"exchange_every":"2 hours","least_version":"1.4","note":"Exchange before Friday."}` {
		t.Errorf("the phone goes by %s", got)
	}
	status, err := a.Status(ctx)
	testbed.Must(t, err)
	if status.Outdated != "1.4" || status.Note != "Ring before you go." || status.SettingsAt == nil {
		t.Errorf("the tablet says %+v", status)
	}
	for _, name := range []string{"tablet", "phone"} {
		d := deviceNamed(t, bed, name)
		if d.Differs || d.AppliedAt == nil || time.Since(*d.AppliedAt) > time.Minute || len(d.Unknown) > 0 {
			t.Errorf("central says of the %s: %+v", name, d)
		}
	}
	if value(t, bed, unsent.ID, "name") != `"Ridge"` {
		t.Error("what was unsent is lost")
	}
	var list struct{ Settings []people.Said }
	_, text := bed.Call("GET", "/v1/settings", bed.SignIn("lead"), nil)
	testbed.Must(t, json.Unmarshal(text, &list))
	got := ""
	for _, one := range list.Settings {
		got += fmt.Sprintf("%s%s %s %d of %d; ", one.Team, one.Name, one.Value, one.Applied, one.Devices)
	}
	if got != `exchange_every "2 hours" 2 of 2; least_version "1.4" 2 of 2; note "Exchange before Friday." 2 of 2; page 50 1 of 1; kell crewnote "Ring before you go." 1 of 1; ` {
		t.Errorf("central lists %s", got)
	}
	// Taken back, a device goes by what is said less closely.
	if status, text := bed.Call("DELETE", "/v1/settings/note?team=kell+crew", bed.SignIn("lead"), nil); status != http.StatusNoContent {
		t.Fatalf("taken back: %d %s", status, text)
	}
	testbed.Exchange(t, a)
	if got := goesBy(t, a); !strings.Contains(got, "Exchange before Friday.") {
		t.Errorf("after it was taken back the tablet goes by %s", got)
	}
	// Central hears of it once, and an exchange in which nothing happened says nothing of it again.
	testbed.SQL(t, bed.Database).MustExec(`UPDATE devices SET applied_at = NULL`)
	testbed.Exchange(t, a)
	if d := deviceNamed(t, bed, "tablet"); d.AppliedAt != nil {
		t.Errorf("the tablet says once more what it goes by: %+v", d)
	}
	bed.Same(a, b)
}

// A central that is put back to before it heard that devices go by their settings hears it once more, of those that it still says and of those that
// it says no more.
func TestSettingsAfterARestore(t *testing.T) {
	bed := testbed.Start(t)
	a, b := bed.Device("worker", "tablet", device.Options{}), bed.Device("lead", "phone", device.Options{})
	testbed.Exchange(t, a, b)
	said(t, bed, "page", `50`)
	backup := backUp(t, bed)
	testbed.Exchange(t, a, b)
	bed = putBack(t, bed, backup, a, b)
	testbed.Exchange(t, a, b)
	for _, name := range []string{"tablet", "phone"} {
		if d := deviceNamed(t, bed, name); d.Differs || d.AppliedAt == nil {
			t.Errorf("after a restore central says of the %s: %+v", name, d)
		}
	}
	backup = backUp(t, bed)
	if status, text := bed.Call("DELETE", "/v1/settings/page", bed.SignIn("lead"), nil); status != http.StatusNoContent {
		t.Fatalf("taken back: %d %s", status, text)
	}
	testbed.Exchange(t, a, b)
	bed = putBack(t, bed, backup, a, b)
	testbed.Exchange(t, a, b)
	for _, name := range []string{"tablet", "phone"} {
		if d := deviceNamed(t, bed, name); d.Differs || string(d.Settings["page"]) != "50" {
			t.Errorf("after the second restore central says of the %s: %+v", name, d)
		}
	}
	if got := goesBy(t, a); got != `{"page":50}` {
		t.Errorf("the tablet goes by %s", got)
	}
}

// A new setting goes to a share of the devices first, to more of them as the share grows, and the rest keep what they had.
func TestASettingGoesToSomeFirst(t *testing.T) {
	bed := testbed.Start(t)
	const many = 24
	var stores []*device.Store
	for n := range many {
		stores = append(stores, bed.Device("worker", fmt.Sprint("phone ", n), device.Options{}))
	}
	count := func(want string) (n int) {
		t.Helper()
		testbed.Exchange(t, stores...)
		for _, store := range stores {
			if goesBy(t, store) == want {
				n++
			}
		}
		return n
	}
	share := func(value string, percent int) {
		t.Helper()
		if status, text := bed.Call("PUT", "/v1/settings/page", bed.SignIn("lead"), map[string]any{"value": json.RawMessage(value), "share": percent}); status != http.StatusNoContent {
			t.Fatalf("page = %s to %d: %d %s", value, percent, status, text)
		}
	}
	share("100", 100)
	if n := count(`{"page":100}`); n != many {
		t.Fatalf("%d of %d have the first", n, many)
	}
	share("200", 30)
	some := count(`{"page":200}`)
	if before := count(`{"page":100}`); some == 0 || some+before != many {
		t.Errorf("%d have the second and %d the first", some, before)
	}
	share("200", 60)
	more := count(`{"page":200}`)
	if more < some || more == many {
		t.Errorf("at first %d, then %d", some, more)
	}
	share("200", 100)
	if n := count(`{"page":200}`); n != many {
		t.Errorf("in the end %d of %d", n, many)
	}
}

// What is no setting, no value, no device or no team is refused with a word; readers and workers steer nothing; a device leaves alone what it does
// not know and says so; and a budget never takes what is unsent.
func TestSettingsThatAreNone(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: archive\nlabel: \"{name}\"\nfields:\n  name: {type: string}\nsync: {keep: on demand}\n")
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	lead := bed.SignIn("lead")
	for ask, want := range map[string]struct {
		value  any
		status int
		says   string
	}{
		"exchange_evry":   {"1 hour", 422, "probably exchange_every"},
		"exchange_every":  {"1 second", 422, "is a time from 1 minutes to 7 days"},
		"page":            {5, 422, "from 20 to 1000"},
		"note?team=moths": {"Hello", 404, "no device is in the team moths"},
		"note?device=0199d3a1-c2b4-7000-8000-000000000001":        {"Hello", 404, "there is no device"},
		"note?team=a&device=0199d3a1-c2b4-7000-8000-000000000001": {"Hello", 422, "not of both"},
		"note?team=%3Cb%3E": {"Hello", 422, "cannot name a team"},
	} {
		status, text := bed.Call("PUT", "/v1/settings/"+ask, lead, map[string]any{"value": want.value})
		if status != want.status && !(want.status == 422 && status == 400) || !strings.Contains(string(text), want.says) {
			t.Errorf("%s: %d %s, want %d %s", ask, status, text, want.status, want.says)
		}
	}
	for _, who := range []string{"reader", "worker"} {
		if status, _ := bed.Call("PUT", "/v1/settings/note", bed.SignIn(who), map[string]any{"value": "Mine"}); status != http.StatusForbidden {
			t.Errorf("a %s steers devices: %d", who, status)
		}
	}
	if status, text := bed.Call("DELETE", "/v1/settings/note", lead, nil); status != http.StatusNotFound {
		t.Errorf("taken back what was never said: %d %s", status, text)
	}
	// A later central says what this program does not know.
	db := database(t, bed)
	_, err := db.ExecContext(ctx, `INSERT INTO settings (scope, name, value, set_by, set_at) VALUES ('all', 'wings', '2', 'lead', now()), ('all', 'budget', '1', 'lead', now())`)
	testbed.Must(t, err)
	unsent := add(t, store, "archive", device.Fields{"name": strings.Repeat("unsent ", 200)})
	_, err = store.Pull(ctx, nil)
	testbed.Must(t, err)
	if _, err := store.Get(ctx, "archive", unsent); err != nil {
		t.Errorf("a budget of one byte takes what is unsent: %v", err)
	}
	testbed.Exchange(t, store)
	if d := deviceNamed(t, bed, "tablet"); d.Differs || strings.Join(d.Unknown, " ") != "wings" {
		t.Errorf("central says of a setting that the device does not know: %+v", d)
	}
	found, err := store.LookUp(ctx, "archive", query.Ask{Limit: 5})
	testbed.Must(t, err)
	if found.Total != 1 {
		t.Errorf("central has %d of it", found.Total)
	}
}
