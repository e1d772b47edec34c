package promises_test

import (
	"os/exec"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/cluster"
	"homing/core/change"
	"homing/device"
	"homing/internal/testbed"
	"homing/service"
)

// putBackByHand puts a database back with PostgreSQL's own tools, so that nothing tells central of it.
func putBackByHand(t *testing.T, bed *testbed.Bed, backup string, now func() time.Time,
	stores ...*device.Store) *testbed.Bed {
	t.Helper()
	bed.Stop()
	for _, args := range [][]string{
		{"psql", "--quiet", "--command", "DROP SCHEMA IF EXISTS data CASCADE", bed.Database},
		{"pg_restore", "--clean", "--if-exists", "--no-owner", "--dbname", bed.Database, backup},
	} {
		program, err := cluster.Program(args[0])
		testbed.Must(t, err)
		if said, err := exec.Command(program, args[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", args[0], err, said)
		}
	}
	again := testbed.Start(t, func(o *service.Options) { o.Database, o.Now = bed.Database, now })
	for _, store := range stores {
		testbed.Must(t, store.MoveCentral(ctx, again.URL()))
	}
	return again
}

// P10, P1, P2: a database that was put back with plain PostgreSQL tools is recognised by what devices show, whether
// or not others have written since, and everything goes the way of a proper restore: nothing is lost, nothing
// doubled.
func TestP10CentralPutBackByHand(t *testing.T) {
	for name, others := range map[string]int{"at once": 0, "after others have written past the cursors": 40} {
		t.Run(name, func(t *testing.T) {
			clock := &watch{}
			bed := testbed.Start(t, func(o *service.Options) { o.Now = clock.now })
			bed.Define(asking)
			a, b := bed.Device("worker", "a", device.Options{Now: clock.now}),
				bed.Device("lead", "b", device.Options{Now: clock.now})
			testbed.Exchange(t, a, b)
			id := add(t, a, "trails", device.Fields{"name": "Ridge", "seen": 10})
			testbed.Exchange(t, a, b)
			backup := backUp(t, bed)
			clock.ahead = time.Hour
			_, err := a.Edit(ctx, "trails", id, device.Fields{"seen": 13})
			testbed.Must(t, err)
			later := add(t, a, "trails", device.Fields{"name": "After the backup"})
			testbed.Exchange(t, a, b)
			_, err = b.Edit(ctx, "trails", id, device.Fields{"seen": 14})
			testbed.Must(t, err)
			testbed.Exchange(t, b, a)
			clock.ahead = 2 * time.Hour
			bed = putBackByHand(t, bed, backup, clock.now, a, b)
			before := bed.Central.Generation()
			hand := newRaw(t, bed, "worker")
			hand.now = clock.now()
			for n := range others {
				hand.push(hand.batch(hand.change(int64(n+1), change.Add, newID(), 0, map[string]string{"name": `"By others"`})))
			}
			_, err = a.Edit(ctx, "trails", later, device.Fields{"note": "unsent when it was put back"})
			testbed.Must(t, err)
			testbed.Exchange(t, a, b, a, b)
			if bed.Central.Generation() == before {
				t.Error("central did not notice")
			}
			bed.Same(a, b)
			if got := valueAt(t, bed, "trails", id, "seen"); got != "14" {
				t.Errorf("central counts %s", got)
			}
			if got := valueAt(t, bed, "trails", later, "note"); got != "unsent when it was put back" {
				t.Errorf("the note is %q", got)
			}
			for _, store := range []*device.Store{a, b} {
				if lost, err := store.LostRecords(ctx); err != nil || len(lost) != 0 {
					t.Errorf("still lost: %+v, %v", lost, err)
				}
			}
			generation := bed.Central.Generation()
			testbed.Exchange(t, a, b)
			if bed.Central.Generation() != generation {
				t.Error("it moves on again and again")
			}
			if page := newRaw(t, bed, "lead").pull(0); page.Seal == "" {
				t.Error("pages carry no seal")
			}
		})
	}
}

// P10: every cursor that a trip has moved has central's word on it, also where the trip could not bring everything: a
// database that was put back to between two collections is recognised by the one that has less.
func TestP10PutBackToBetweenTwoCollections(t *testing.T) {
	clock := &watch{}
	bed := testbed.Start(t, func(o *service.Options) { o.Now = clock.now })
	bed.Define(asking, "collection: works\nfields:\n  text: {type: string}\n")
	began := time.Now()
	steady := device.Options{Now: clock.now, Tick: func() (string, time.Duration) { return "a run", time.Since(began) + clock.ahead }}
	a, b := bed.Device("worker", "a", steady), bed.Device("lead", "b", steady)
	testbed.Exchange(t, a, b)
	for range 1_100 { // more than one page
		add(t, a, "works", device.Fields{"text": "More than a trip brings"})
	}
	testbed.Exchange(t, a)
	backup := backUp(t, bed)
	clock.ahead = time.Hour
	later := add(t, a, "trails", device.Fields{"name": "After the backup"})
	testbed.Exchange(t, a)
	own := add(t, b, "trails", device.Fields{"name": "After it, too"})
	if summary := testbed.Exchange(t, b); summary.Received != 1_101 || summary.Applied != 1 {
		t.Fatalf("%+v", summary)
	}
	clock.ahead = 2 * time.Hour
	bed = putBackByHand(t, bed, backup, clock.now, a, b)
	before := bed.Central.Generation()
	hand := newRaw(t, bed, "worker")
	hand.now = clock.now()
	for n := range 5 {
		hand.push(hand.batch(hand.change(int64(n+1), change.Add, newID(), 0, map[string]string{"name": `"By others"`})))
	}
	testbed.Exchange(t, b)
	if bed.Central.Generation() == before {
		t.Error("central did not notice")
	}
	testbed.Exchange(t, a, b, a)
	bed.Same(a, b)
	for id, name := range map[uuid.UUID]string{later: "After the backup", own: "After it, too"} {
		if got := valueAt(t, bed, "trails", id, "name"); got != name {
			t.Errorf("it is called %q, not %q", got, name)
		}
	}
}

// A seal that central did not make, or that was altered, moves nothing.
func TestP11ForgedSealsMoveNothing(t *testing.T) {
	bed := testbed.Start(t)
	hand := newRaw(t, bed, "worker")
	before := bed.Central.Generation()
	for _, seal := range []string{"trails.999.1.0000000000000000", "trails.999", "...", "trails.-1.1.x",
		"trails.1.1.1,trails.2.2.2,", hand.pull(0).Seal + "0"} {
		if status, text := bed.Call("GET", "/v1/definitions", hand.token, nil, "Homing-Seals", seal); status != 200 {
			t.Errorf("%q: %d %s", seal, status, text)
		}
	}
	if status, text := bed.Call("GET", "/v1/changes/trails?cursor=999", hand.token, nil); status != 409 {
		t.Errorf("a cursor beyond the head: %d %s", status, text)
	}
	if bed.Central.Generation() != before {
		t.Error("central has moved on")
	}
}
