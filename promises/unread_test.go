package promises_test

import (
	"fmt"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/core/change"
	"homing/core/record"
	"homing/core/rights"
	"homing/device"
	"homing/internal/testbed"
)

const guarded = testbed.Trails + `  secret: {type: boolean}
access:
  read: worker.role == "lead" || after.secret != true
`

// atCentralWith writes trails at central, by their names and whether only leads may read them.
func atCentralWith(t *testing.T, bed *testbed.Bed, count int, secret func(n int) bool) {
	t.Helper()
	const atOnce = 1000
	for first := 0; first < count; first += atOnce {
		var rows []changes.TableRow
		for n := first; n < min(first+atOnce, count); n++ {
			rows = append(
				rows,
				changes.TableRow{"name": record.Fields{}.JSON(), "secret": []byte(fmt.Sprint(secret(n)))},
			)
			rows[len(rows)-1]["name"] = []byte(fmt.Sprintf(`"trail %05d"`, n))
		}
		outcomes, err := bed.Central.PutRows(ctx, central.Everything("admin"), "trails", "", rows)
		testbed.Must(t, err)
		for _, outcome := range outcomes {
			if outcome.Outcome != changes.RowAdded {
				t.Fatalf("%+v", outcome)
			}
		}
	}
}

// P3: a first load of several pages under a reading rule leaves nothing out behind the cursor.
func TestP3UnreadableRecordsMakeNoHole(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(guarded)
	const count = 5000
	atCentralWith(t, bed, count, func(n int) bool { return n%1250 == 17 })
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	if got := len(all(t, store)); got != count-4 {
		t.Errorf("the device holds %d of %d trails", got, count-4)
	}
	if page := newRaw(t, bed, "worker").pull(0); page.Total != 0 {
		t.Errorf("the page tells of %d records, some of which its reader may not see", page.Total)
	}
}

// all are the ids of the trails on a device.
func all(t *testing.T, store *device.Store) map[uuid.UUID]bool {
	t.Helper()
	ids := map[uuid.UUID]bool{}
	for offset := 0; ; offset += 1000 {
		found, err := store.Find(ctx, "trails", device.Ask{Limit: 1000, Offset: offset})
		testbed.Must(t, err)
		for _, r := range found.Records {
			ids[r.ID] = true
		}
		if len(found.Records) < 1000 {
			return ids
		}
	}
}

// P3, P11: a device loads and drops what its people may read when a role changes, and when somebody joins it or leaves.
func TestP3WhoReadsMayChange(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(guarded)
	atCentralWith(t, bed, 20, func(n int) bool { return n < 5 })
	testbed.Must(t, bed.Central.AddWorker(ctx, "rook", rights.Worker, ""))
	store := bed.Device("rook", "tablet", device.Options{})
	wants := func(when string, count int) {
		t.Helper()
		testbed.Exchange(t, store)
		if got := len(all(t, store)); got != count {
			t.Errorf("%s, the device holds %d trails and not %d", when, got, count)
		}
	}
	wants("of a worker", 15)
	testbed.Must(t, bed.Central.SetRole(ctx, "rook", rights.Lead))
	wants("of a lead", 20)
	testbed.Must(t, bed.Central.SetRole(ctx, "rook", rights.Worker))
	wants("of a worker again", 15)
	testbed.Must(t, store.SetSecret(ctx, "", "4321"))
	if _, err := store.Join(ctx, bed.Code("lead"), "1234"); err != nil {
		t.Fatal(err)
	}
	wants("joined by a lead", 20)
	devices, err := bed.Central.Devices(ctx, "rook")
	testbed.Must(t, err)
	testbed.Must(t, store.SignIn(ctx, "rook", "4321"))
	testbed.Must(t, bed.Central.Leave(ctx, devices[0].ID, "lead"))
	wants("left by the lead", 15)
	if summary := testbed.Exchange(t, store); summary.Received+summary.Withdrawn > 0 {
		t.Errorf("though nothing changed, it loaded again: %+v", summary)
	}
}

// P2, P11: an answer that comes again says of the record what is so now, not what was when it was first given.
func TestP2AnAnswerComesAgainAfterTerritoriesMoved(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(territorial)
	hold(t, bed, "worker", "kell")
	hand := newRaw(t, bed, "worker")
	id := newID()
	batch := hand.batch(hand.change(1, change.Add, id, 0, map[string]string{"name": `"Ridge"`, "district": `"ostra"`}))
	if first := hand.push(batch)[0]; first.Record == nil || !first.Record.Withdrawn {
		t.Fatalf("outside of what the worker covers: %+v", first)
	}
	hold(t, bed, "worker", "kell", "ostra")
	if again := hand.push(batch)[0]; again.Record == nil || again.Record.Withdrawn || again.Revision != 1 ||
		len(again.Record.Fields) == 0 {
		t.Errorf("covered by now: %+v", again.Record)
	}
	hold(t, bed, "worker", "kell")
	if again := hand.push(batch)[0]; again.Record == nil || !again.Record.Withdrawn {
		t.Errorf("no longer covered: %+v", again.Record)
	}
}

// P4: what a new definition lets everybody see again comes back, also to the device that wrote it last.
func TestP4ANewDefinitionShowsMore(t *testing.T) {
	for what, before := range map[string]string{"a territory": testbed.Trails + "  secret: {type: boolean}\nsync: {territory: \"record.secret ? 'north' : 'south'\"}\n",
		"a reading rule": guarded} {
		t.Run(what, func(t *testing.T) {
			bed := testbed.Start(t)
			bed.Define(before)
			hold(t, bed, "worker", "south")
			store := bed.Device("worker", "tablet", device.Options{})
			testbed.Exchange(t, store)
			add(t, store, "trails", device.Fields{"name": "Ridge", "secret": true})
			testbed.Exchange(t, store, store)
			if len(all(t, store)) != 0 {
				t.Fatal("the device shows what its worker may not see")
			}
			bed.Define(testbed.Trails + "  secret: {type: boolean}\n")
			testbed.Exchange(t, store)
			if len(all(t, store)) != 1 {
				t.Error("the device lacks what everybody may see now")
			}
		})
	}
}
