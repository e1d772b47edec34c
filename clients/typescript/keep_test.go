package typescript_test

import (
	"encoding/json"
	"errors"
	"testing"
	"time"

	"homing/conformance/driver"
	"homing/device"
	"homing/internal/testbed"
)

// What is kept on demand comes when it is looked up, stays, and follows what others do; what is never kept is shown and
// gone; what is kept for a time goes when that is over, but for what is unsent; what is too old takes no edits.
func TestKeeping(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(trails, "collection: plans\nlabel: \"{name}\"\nfields: {name: {type: string}}\nsync: {keep: on demand}\n",
		"collection: notices\nlabel: \"{name}\"\nfields: {name: {type: string}}\nsync: {keep: never}\n",
		"collection: rounds\nlabel: \"{name}\"\nfields: {name: {type: string}}\nsync: {keep: 2 days}\n",
		"collection: checks\nlabel: \"{name}\"\nfields: {name: {type: string}}\nsync: {max_age: {warn: 1 day, block: 3 days}}\n")
	lead := bed.SignIn("lead")
	made := map[string]string{}
	for _, collection := range []string{"plans", "notices", "rounds", "checks"} {
		made[collection] = add(t, bed, lead, collection, "Ridge")
	}
	store, turn := enrolled(t, bed)
	exchange := func() {
		t.Helper()
		_, err := store.Exchange(t.Context(), nil)
		testbed.Must(t, err)
	}
	has := func(collection, name string, want int) {
		t.Helper()
		found, err := store.Find(t.Context(), collection, driver.Find{Search: name})
		if err != nil || len(found.Records) != want {
			t.Errorf("%s has %d of %s, want %d (%v)", collection, len(found.Records), name, want, err)
		}
	}
	exchange()
	for _, collection := range []string{"plans", "notices"} {
		has(collection, "ridge", 0)
		if found, err := store.LookUp(t.Context(), collection, driver.Find{Search: "ridge"}); err != nil || len(found.Records) != 1 {
			t.Fatalf("%s: looked up %v, %v", collection, found.Records, err)
		}
	}
	has("plans", "ridge", 1)
	has("notices", "ridge", 0)
	if _, err := store.LookUp(t.Context(), "trails", driver.Find{}); err == nil {
		t.Error("what is here is looked up at central")
	}
	if status, text := bed.Call("PATCH", "/v1/records/plans/"+made["plans"], lead, map[string]any{"fields": map[string]any{"name": "Saddle"}}); status != 200 {
		t.Fatalf("%d %s", status, text)
	}
	exchange()
	has("plans", "saddle", 1)
	own, err := store.Add(t.Context(), "notices", device.Fields{"name": "Own"})
	testbed.Must(t, err)
	has("notices", "own", 1) // until central has it
	exchange()
	has("notices", "own", 0)
	if status, _ := bed.Call("GET", "/v1/records/notices/"+own.ID.String(), lead, nil); status != 200 {
		t.Errorf("central has it not: %d", status)
	}

	has("rounds", "ridge", 1)
	_, err = store.Add(t.Context(), "rounds", device.Fields{"name": "Unsent"})
	testbed.Must(t, err)
	turn(50 * time.Hour)
	has("rounds", "ridge", 0)
	has("rounds", "unsent", 1)
	_, err = store.Add(t.Context(), "checks", device.Fields{"name": "Old, and taken"})
	testbed.Must(t, err)
	turn(40 * time.Hour)
	if _, err := store.Add(t.Context(), "checks", device.Fields{"name": "Too late"}); !errors.Is(err, device.ErrTooOld) {
		t.Errorf("an edit of what is too old: %v", err)
	}
	exchange()
	has("rounds", "", 2)
	_, err = store.Add(t.Context(), "checks", device.Fields{"name": "Fresh again"})
	testbed.Must(t, err)
}

// A device that has got out of step says in what, and is brought in line, with what is unsent left as it is.
func TestVerify(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(trails)
	lead := bed.SignIn("lead")
	id := add(t, bed, lead, "trails", "Ridge")
	store, _ := enrolled(t, bed)
	_, err := store.Exchange(t.Context(), nil)
	testbed.Must(t, err)
	// Central is changed past itself, as by hand in its database: no position moves.
	testbed.SQL(t, bed.Database).MustExec(`UPDATE records SET fields = '{"name": "Saddle"}' WHERE id = $1`, id)
	for _, mend := range []bool{false, true} {
		all, err := store.Verify(t.Context(), mend)
		testbed.Must(t, err)
		var differ, mended int
		for _, one := range all {
			differ, mended = differ+len(one.Differences), mended+one.Mended
		}
		if differ != 1 || mended != map[bool]int{true: 1}[mend] {
			t.Errorf("mend %t: %d differ, %d mended: %+v", mend, differ, mended, all)
		}
	}
	found, err := store.Find(t.Context(), "trails", driver.Find{})
	if err != nil || len(found.Records) != 1 || found.Records[0].Label != "Saddle" {
		t.Errorf("the device has %+v, %v", found.Records, err)
	}
}

// Whoever tries PINs waits longer each time, and a store that was opened anew still knows.
func TestWrongPINs(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(trails)
	store, turn := enrolled(t, bed)
	_, err := store.Exchange(t.Context(), nil)
	testbed.Must(t, err)
	if _, err := store.SignOut(t.Context()); err == nil {
		t.Error("signed out without a PIN, so that anybody could sign in")
	}
	if err := store.SetSecret(t.Context(), "", "12"); err == nil {
		t.Error("a PIN of two digits is taken")
	}
	testbed.Must(t, store.SetSecret(t.Context(), "", "2468"))
	made, err := store.Add(t.Context(), "trails", device.Fields{"name": "Kept to oneself"})
	testbed.Must(t, err)
	if unsent, err := store.SignOut(t.Context()); err != nil || unsent != 1 {
		t.Fatalf("signed out with %d, %v", unsent, err)
	}
	if _, err := store.Get(t.Context(), "trails", made.ID); !errors.Is(err, device.ErrSignedOut) {
		t.Errorf("read by nobody: %v", err)
	}
	for range 3 {
		if err := store.SignIn(t.Context(), "worker", "1357"); !errors.Is(err, device.ErrSecret) {
			t.Fatalf("a wrong PIN: %v", err)
		}
	}
	if err := store.SignIn(t.Context(), "worker", "2468"); !errors.Is(err, device.ErrSlowDown) {
		t.Fatalf("at once after three wrong ones: %v", err)
	}
	turn(20 * time.Second)
	testbed.Must(t, store.SignIn(t.Context(), "worker", "2468"))
	if r, err := store.Get(t.Context(), "trails", made.ID); err != nil || r.Pending != 1 {
		t.Errorf("signed in again: %+v, %v", r, err)
	}
}

func add(t *testing.T, bed *testbed.Bed, token, collection, name string) (id string) {
	t.Helper()
	status, text := bed.Call("POST", "/v1/records/"+collection, token, map[string]any{"fields": map[string]any{"name": name}})
	var got struct {
		Record struct{ ID string }
		ID     string
	}
	if status != 201 {
		t.Fatalf("%d %s", status, text)
	}
	testbed.Must(t, json.Unmarshal(text, &got))
	return got.ID + got.Record.ID
}
