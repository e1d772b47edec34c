package promises_test

import (
	"net/http"
	"path/filepath"
	"testing"
	"time"

	"homing/central"
	"homing/core/change"
	"homing/device"
	"homing/internal/testbed"
)

// twins are two copies of one store with a trail that central has. The second is opened as it is, not restored.
func twins(t *testing.T, bed *testbed.Bed) (one, other *device.Store, trail device.Record) {
	t.Helper()
	one = bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, one)
	trail = addTrail(t, one, "Ridge")
	testbed.Exchange(t, one)
	path := filepath.Join(t.TempDir(), "copy.db")
	testbed.Must(t, one.Backup(ctx, path))
	other, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	t.Cleanup(func() { other.Close() })
	return one, other, trail
}

// P10: two copies of one store that are used side by side are noticed. Both go on under identities of their own, all
// that both have saved goes in once, and nobody has to do anything for it.
func TestP10TwoCopiesAreNoticed(t *testing.T) {
	bed := testbed.Start(t)
	one, other, _ := twins(t, bed)
	addTrail(t, one, "By the one")
	mine := addTrail(t, other, "By the other")
	testbed.Exchange(t, one)
	summary := testbed.Exchange(t, other)
	if !summary.Copied || summary.Refused != 0 || summary.Applied != 1 {
		t.Errorf("%+v", summary)
	}
	if queue, err := other.Review(ctx); err != nil || len(queue) != 0 {
		t.Errorf("%d changes are left, %v", len(queue), err)
	}
	if got := valueAt(t, bed, "trails", mine.ID, "name"); got != "By the other" {
		t.Errorf("the other's trail is called %q", got)
	}
	addTrail(t, one, "By the one again")
	if summary := testbed.Exchange(t, one); !summary.Copied || summary.Applied != 1 {
		t.Errorf("the first of them: %+v", summary)
	}
	testbed.Exchange(t, one, other, one)
	bed.Same(one, other)
	if summary := testbed.Exchange(t, one); summary.Copied {
		t.Error("it parts again")
	}
}

// P5, P10: what one copy saved is not overwritten by the other as if both were one mind, under any rule.
func TestP5ACopyIsNotTheSameMind(t *testing.T) {
	for rule, stays := range map[string]string{"ask": "first", "first": "first", "newest": "third"} {
		t.Run(rule, func(t *testing.T) {
			bed := testbed.Start(t)
			bed.Define(testbed.Trails + "sync: {rules: {note: " + rule + "}}\n")
			one, other, trail := twins(t, bed)
			editTrail(t, one, trail.ID, device.Fields{"note": "first"})
			editTrail(t, other, trail.ID, device.Fields{"state": "closed"}) // its number is that of the edit above
			testbed.Exchange(t, one)
			// The copy sends a number of its own besides, which nobody has used.
			editTrail(t, other, trail.ID, device.Fields{"note": "third"})
			testbed.Exchange(t, other)
			testbed.Exchange(t, one, other)
			if got := valueAt(t, bed, "trails", trail.ID, "note"); got != stays {
				t.Errorf("central has %q", got)
			}
			history, err := bed.Central.History(ctx, central.Everything("admin"), "trails", trail.ID)
			testbed.Must(t, err)
			decided := false
			for _, h := range history {
				for _, d := range h.Decisions {
					decided = decided || d.Field == "note" && d.Rule == rule
				}
			}
			if !decided {
				t.Errorf("no decision says why: %+v", history[0])
			}
			bed.Same(one, other)
		})
	}
}

// P2, P10: a change that a copy's had displaced from its number is known by the identity that it got then, also when
// its store has another again. Central is restored twice, and what it has is not taken again.
func TestP2DisplacedFromItsNumberItCountsOnce(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(testbed.Trails + "sync: {rules: {length_km: sum}}\n")
	one, other, trail := twins(t, bed)
	backup := backUp(t, bed)
	editTrail(t, one, trail.ID, device.Fields{"length_km": 3})
	addTrail(t, other, "By the copy, under the same number")
	testbed.Exchange(t, one)
	bed = putBack(t, bed, backup, one, other)
	testbed.Exchange(t, other, one, other, one)
	kept, path := filepath.Join(t.TempDir(), "kept.db"), filepath.Join(t.TempDir(), "restored.db")
	testbed.Must(t, one.Backup(ctx, kept))
	testbed.Must(t, device.Restore(ctx, kept, path, device.Options{}))
	one, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	defer one.Close()
	for range 2 {
		if got := valueAt(t, bed, "trails", trail.ID, "length_km"); got != "3" {
			t.Fatalf("central counts %s", got)
		}
		backup = backUp(t, bed)
		bed = putBack(t, bed, backup, one, other)
		testbed.Exchange(t, one, other, one, other)
	}
	bed.Same(one, other)
}

// P1, P10: what somebody has put aside, folded and sealed, may have been sent in part by a copy that has used its number.
// It waits for its author, who reads why, and goes in when they exchange.
func TestP1PutAsideWhileACopyUsesItsNumber(t *testing.T) {
	bed := testbed.Start(t)
	store, _, _ := handed(t, bed, device.Options{})
	testbed.Exchange(t, store)
	path := filepath.Join(t.TempDir(), "copy.db")
	testbed.Must(t, store.Backup(ctx, path))
	twin, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	defer twin.Close()
	testbed.Must(t, store.SignIn(ctx, "worker", pin))
	late := add(t, store, "trails", device.Fields{"name": "Moraine"})
	editTrail(t, store, late, device.Fields{"state": "open"})
	testbed.Must(t, store.MoveCentral(ctx, "http://127.0.0.1:1"))
	if _, err := store.Exchange(ctx, nil); err == nil { // it folds the two, and does not get through
		t.Fatal("central is reached where it is not")
	}
	testbed.Must(t, store.MoveCentral(ctx, bed.URL()))
	testbed.Must(t, store.SignIn(ctx, "second", "5678"))
	add(t, twin, "trails", device.Fields{"name": "By the copy"})
	add(t, twin, "trails", device.Fields{"name": "By the copy, again"})
	testbed.Exchange(t, twin)
	testbed.Exchange(t, store, store)
	testbed.Must(t, store.SignIn(ctx, "worker", pin))
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	if len(queue) != 1 || queue[0].Verdict != change.Waiting || len(queue[0].Reasons) != 1 ||
		queue[0].Reasons[0].Code != change.CodeNumberReused {
		t.Fatalf("what waits is %+v", queue)
	}
	testbed.Exchange(t, store, twin, store)
	if got := valueAt(t, bed, "trails", late, "name") + ", " + valueAt(t, bed, "trails", late, "state"); got != "Moraine, open" {
		t.Errorf("central has %s", got)
	}
	bed.Same(store, twin)
}

// P3, P10: of two copies, one is restored as the guide says. The other is sent all that the first does, though both
// belong to one device.
func TestP3ACopyIsSentWhatTheOtherDoes(t *testing.T) {
	bed := testbed.Start(t)
	one := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, one)
	addTrail(t, one, "Ridge")
	testbed.Exchange(t, one)
	backup, path := filepath.Join(t.TempDir(), "b.db"), filepath.Join(t.TempDir(), "own.db")
	testbed.Must(t, one.Backup(ctx, backup))
	testbed.Must(t, device.Restore(ctx, backup, path, device.Options{}))
	restored, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	defer restored.Close()
	testbed.Exchange(t, restored)
	for _, name := range []string{"a", "b", "c"} { // numbers of the lost store that turned up, and of the restored one
		addTrail(t, restored, "restored "+name)
		addTrail(t, one, "turned up "+name)
	}
	testbed.Exchange(t, restored, one, restored, one)
	bed.Same(one, restored)
}

// P2: a batch that was made smaller may have arrived whole. What is saved afterwards is not folded into what was sent.
func TestP2ASmallerBatchIsNotForgotten(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(testbed.Trails + "  seen: {type: integer}\nsync: {rules: {seen: sum}}\n")
	cut := 0
	proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		if testbed.CarriesBatch(r) && cut < 2 {
			if cut++; cut == 1 {
				return testbed.Hold // it arrives, and the device gives up on it
			}
			return testbed.CutBefore
		}
		return testbed.Pass
	})
	store := bed.Device("worker", "tablet", device.Options{Patience: time.Second}, proxy.URL)
	testbed.Exchange(t, store)
	one, other := addTrail(t, store, "Ridge"), addTrail(t, store, "Valley")
	store.Exchange(ctx, nil) // breaks off
	for n := range 3 {
		editTrail(t, store, one.ID, device.Fields{"seen": n + 1})
		editTrail(t, store, other.ID, device.Fields{"seen": n + 1})
		store.Exchange(ctx, nil) // may break off
	}
	testbed.Exchange(t, store)
	for _, id := range []device.Record{one, other} {
		if got := valueAt(t, bed, "trails", id.ID, "seen"); got != "3" {
			t.Errorf("central counts %s", got)
		}
	}
	if queue, err := store.Review(ctx); err != nil || len(queue) != 0 {
		t.Errorf("left are %+v, %v", queue, err)
	}
}

// P2: a store that was restored from a backup sends what it has sent before as part of another change, of a record that
// its worker no longer covers. A later edit that is refused counts once when it is mended, from what was sent.
func TestP2MendedOnWhatWasFolded(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: huts\nkey: code\nunique: true\nfields:\n  name: {type: string}\n  code: {type: string}\n" +
		"  seen: {type: integer}\n  zone: {type: string}\nsync:\n  territory: record.zone\n  rules: {seen: sum}\n")
	hold(t, bed, "worker", "kell")
	store, office := bed.Device("worker", "phone", device.Options{}), bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, store, office)
	hut := add(t, store, "huts", device.Fields{"name": "Gale", "seen": 5, "zone": "kell"})
	_, err := store.Edit(ctx, "huts", hut, device.Fields{"seen": 7})
	testbed.Must(t, err)
	path := filepath.Join(t.TempDir(), "copy.db")
	testbed.Must(t, store.Backup(ctx, path))
	add(t, office, "huts", device.Fields{"name": "Fosk", "code": "H-1", "zone": "ostra"})
	testbed.Exchange(t, store, office)
	hold(t, bed, "worker", "tamrin")
	restored, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	t.Cleanup(func() { restored.Close() })
	_, err = restored.Edit(ctx, "huts", hut, device.Fields{"seen": 8, "code": "H-1"})
	testbed.Must(t, err)
	if summary := testbed.Exchange(t, restored); summary.Refused != 1 {
		t.Fatalf("%+v", summary)
	}
	if name, zone := shown(t, restored, "huts", hut, "name"), shown(t, restored, "huts", hut, "zone"); name != "Gale" || zone != "kell" {
		t.Errorf("what was sent is gone from under the edit: the name %v, the zone %v", name, zone)
	}
	_, err = restored.Edit(ctx, "huts", hut, device.Fields{"code": "H-2"})
	testbed.Must(t, err)
	testbed.Exchange(t, restored, office)
	if seen, code := valueAt(t, bed, "huts", hut, "seen"), valueAt(t, bed, "huts", hut, "code"); seen != "8" || code != "H-2" {
		t.Errorf("central counts %s under %s", seen, code)
	}
}
