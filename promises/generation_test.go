package promises_test

import (
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/core/change"
	"homing/device"
	"homing/internal/testbed"
	"homing/service"
)

// putBack stops a central, restores it from a backup, and starts it again. Devices are told where it is now.
func putBack(t *testing.T, bed *testbed.Bed, backup string, stores ...*device.Store) *testbed.Bed {
	t.Helper()
	bed.Stop()
	before := filepath.Join(t.TempDir(), "before.dump")
	_, err := service.Restore(ctx, bed.Database, "", backup, before)
	testbed.Must(t, err)
	if info, err := os.Stat(before); err != nil || info.Size() == 0 || info.Mode().Perm() != 0o600 {
		t.Errorf("what was replaced is kept as %v, %v", info, err)
	}
	again := testbed.Start(t, func(o *service.Options) { o.Database = bed.Database })
	for _, store := range stores {
		testbed.Must(t, store.MoveCentral(ctx, again.URL()))
	}
	return again
}

func backUp(t *testing.T, bed *testbed.Bed) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "central.dump")
	testbed.Must(t, service.Backup(ctx, bed.Database, "", path))
	return path
}

const lateHuts = "collection: huts\nlabel: \"{name}\"\nfields:\n  name: {type: string}\n  number: {type: string, " +
	"series: H-1}\n"

// P10, P1, P2: central is restored from last night's backup. Devices notice, offer again what it lost, and nothing
// counts twice.
func TestP10CentralRestored(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(asking)
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	id := add(t, a, "trails", device.Fields{"name": "Ridge", "seen": 10})
	gone := add(t, a, "trails", device.Fields{"name": "Removed later"})
	testbed.Exchange(t, a, b)
	backup := backUp(t, bed)
	count := func(store *device.Store, seen int) {
		_, err := store.Edit(ctx, "trails", id, device.Fields{"seen": seen})
		testbed.Must(t, err)
	}
	// What is defined after the backup hangs on tables that the restore replaces.
	bed.Define(lateHuts)
	count(a, 13) // three more
	testbed.Exchange(t, a)
	hut := add(t, a, "huts", device.Fields{"name": "Gale"})
	later := add(t, a, "trails", device.Fields{"name": "After the backup"})
	testbed.Must(t, a.Remove(ctx, "trails", gone))
	testbed.Exchange(t, a, b)
	count(b, 14)
	_, err := b.Edit(ctx, "trails", later, device.Fields{"note": "by the other"})
	testbed.Must(t, err)
	testbed.Exchange(t, b, a)
	time.Sleep(time.Second) // the edits are further apart than the clocks of both are measured wrong on a busy machine
	count(a, 16)            // unsent
	bed = putBack(t, bed, backup, a, b)
	if r, err := bed.Central.Record(ctx, central.Everything("admin"), "trails", later); err == nil {
		t.Fatalf("the restored central has what came after the backup: %+v", r)
	}
	// The other comes first: its edit hangs on a record that central does not have again yet.
	summary := testbed.Exchange(t, b)
	if summary.Waiting != 1 || shown(t, b, "trails", later, "name") != "After the backup" {
		t.Errorf("the other's exchange: %+v", summary)
	}
	if summary := testbed.Exchange(t, a); summary.Waiting != 1 || shown(t, a, "huts", hut, "name") != "Gale" {
		t.Errorf("a collection that central lost: %+v", summary)
	}
	bed.Define(lateHuts)
	testbed.Exchange(t, a, b, a, b)
	bed.Same(a, b)
	if got := valueAt(t, bed, "huts", hut, "number"); got != "H-2" { // H-1 was handed out before
		t.Errorf("the hut's number is %s", got)
	}
	if got := valueAt(t, bed, "trails", id, "seen"); got != "16" {
		t.Errorf("central counts %s", got)
	}
	if got := valueAt(t, bed, "trails", later, "note"); got != "by the other" {
		t.Errorf("the note is %q", got)
	}
	if _, err := a.Get(ctx, "trails", gone); !errors.Is(err, device.ErrNoRecord) {
		t.Errorf("what was removed after the backup is back: %v", err)
	}
	for _, store := range []*device.Store{a, b} {
		if lost, err := store.LostRecords(ctx); err != nil || len(lost) != 0 {
			t.Errorf("still lost: %+v, %v", lost, err)
		}
		kept, err := filepath.Glob(store.Path() + ".before-central-restored-*.db")
		if err != nil || len(kept) != 1 {
			t.Errorf("backups before reconciling: %v, %v", kept, err)
		}
	}
	// A second time, and once more from the same backup.
	bed = putBack(t, bed, backup, a, b)
	bed = putBack(t, bed, backup, a, b)
	count(b, 20)
	testbed.Exchange(t, b, a, b, a)
	bed.Same(a, b)
	if got := valueAt(t, bed, "trails", id, "seen"); got != "20" {
		t.Errorf("in the end central counts %s", got)
	}
}

// P2: two copies of a store both have an add and an edit that were never sent, and one of them has sent them as one.
// Offered again to a central that was restored, by both, they count once.
func TestP2ACopyOffersAgainWhatItFolded(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(
		"collection: huts\nfields:\n  name: {type: string}\n  seen: {type: integer}\nsync:\n  rules: {seen: sum}\n",
	)
	store := bed.Device("worker", "a", device.Options{})
	testbed.Exchange(t, store)
	backup := backUp(t, bed)
	hut := add(t, store, "huts", device.Fields{"name": "Gale", "seen": 6})
	_, err := store.Edit(ctx, "huts", hut, device.Fields{"seen": 9})
	testbed.Must(t, err)
	path := filepath.Join(t.TempDir(), "copy.db")
	testbed.Must(t, store.Backup(ctx, path))
	twin, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	defer twin.Close()
	other := add(t, store, "huts", device.Fields{"name": "Fosk", "seen": 1})
	testbed.Exchange(t, twin, store, twin, store)
	if got := valueAt(t, bed, "huts", hut, "seen"); got != "9" {
		t.Fatalf("before the restore, central counts %s", got)
	}
	bed = putBack(t, bed, backup, store, twin)
	testbed.Exchange(t, store, twin, store, twin)
	bed.Same(store, twin)
	if got := valueAt(t, bed, "huts", hut, "seen") + " " + valueAt(t, bed, "huts", other, "seen"); got != "9 1" {
		t.Errorf("central counts %s", got)
	}
}

// P1: a restored central, whose definition has changed since, refuses what it once had. Sent again, all of it comes
// that still fits, and not only what central's last state lacked.
func TestP1SendingAgainWhatCentralLost(t *testing.T) {
	bed := testbed.Start(t)
	const huts = "collection: huts\nfields:\n  name: {type: string}\n  beds: {type: integer}\n"
	bed.Define(huts + "  stove: {type: string}\n")
	store := bed.Device("worker", "a", device.Options{})
	testbed.Exchange(t, store)
	backup := backUp(t, bed)
	hut := add(t, store, "huts", device.Fields{"name": "Gale", "beds": 6, "stove": "iron"})
	testbed.Exchange(t, store)
	_, err := store.Edit(ctx, "huts", hut, device.Fields{"beds": 8})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	bed = putBack(t, bed, backup, store)
	bed.Define(huts + "carry: {drop: [stove]}\n")
	if summary := testbed.Exchange(t, store); summary.Refused == 0 {
		t.Fatalf("central takes a field that is gone: %+v", summary)
	}
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	_, err = store.SendAgain(ctx, queue[0].Number)
	testbed.Must(t, err)
	testbed.Exchange(t, store, store)
	bed.Same(store)
	if name, beds := valueAt(t, bed, "huts", hut, "name"), valueAt(t, bed, "huts", hut, "beds"); name != "Gale" ||
		beds != "8" {
		t.Errorf("central has the name %q and %q beds", name, beds)
	}
}

// P1: what central has lost for good, since its device never comes back, stays on the devices that have it, and a
// person offers it.
func TestP1LostAtCentral(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(asking)
	lostPhone, other := bed.Device("worker", "lost", device.Options{}), bed.Device("lead", "other", device.Options{})
	testbed.Exchange(t, lostPhone, other)
	old := add(t, lostPhone, "trails", device.Fields{"name": "Old"})
	testbed.Exchange(t, lostPhone)
	backup := backUp(t, bed)
	id := add(t, lostPhone, "trails", device.Fields{"name": "Only by the lost phone"})
	dropped := add(t, lostPhone, "trails", device.Fields{"name": "Not wanted"})
	_, err := lostPhone.Edit(ctx, "trails", old, device.Fields{"note": "a word"})
	testbed.Must(t, err)
	testbed.Exchange(t, lostPhone, other)
	bed = putBack(t, bed, backup, other)
	testbed.Exchange(t, other)
	lost, err := other.LostRecords(ctx)
	testbed.Must(t, err)
	if len(lost) != 3 {
		t.Fatalf("lost are %+v", lost)
	}
	if shown(t, other, "trails", id, "name") != "Only by the lost phone" {
		t.Error("the device has dropped what central lost")
	}
	testbed.Must(t, other.OfferLost(ctx, "trails", id))
	testbed.Must(t, other.OfferLost(ctx, "trails", old))
	file := filepath.Join(t.TempDir(), "given-up.jsonl")
	testbed.Must(t, other.DropLost(ctx, "trails", dropped, file))
	if text, err := os.ReadFile(file); err != nil || !strings.Contains(string(text), "Not wanted") {
		t.Errorf("the written copy: %s %v", text, err)
	}
	testbed.Exchange(t, other)
	bed.Same(other)
	if got := valueAt(t, bed, "trails", old, "note"); got != "a word" {
		t.Errorf("the note is %q", got)
	}
	if err := other.OfferLost(ctx, "trails", id); !errors.Is(err, device.ErrNoRecord) {
		t.Errorf("offered twice: %v", err)
	}
}

// P1: a central that was emptied does not empty the devices. Attached to it, a device brings all that it has.
func TestP1EmptiedCentral(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	trail := addTrail(t, store, "Ridge")
	testbed.Exchange(t, store)
	_, err := store.Add(ctx, "structures", device.Fields{"name": "Long Bridge", "kind": "bridge", "trail": trail.ID})
	testbed.Must(t, err)
	empty := testbed.Start(t)
	testbed.Must(t, store.MoveCentral(ctx, empty.URL()))
	if _, err := store.Exchange(ctx, nil); !errors.Is(err, device.ErrGeneration) {
		t.Fatalf("an exchange with an emptied central: %v", err)
	}
	if shown(t, store, "trails", trail.ID, "name") != "Ridge" {
		t.Fatal("the device was emptied")
	}
	if _, err := store.Attach(ctx, empty.URL(), empty.Code("worker"), "tablet", false); !errors.Is(err,
		device.ErrEnrolled) {
		t.Errorf("attached while attached: %v", err)
	}
	backup, err := store.Detach(ctx)
	testbed.Must(t, err)
	if _, err := os.Stat(backup); err != nil {
		t.Error(err)
	}
	if _, err := store.Exchange(ctx, nil); !errors.Is(err, device.ErrNotEnrolled) {
		t.Errorf("an exchange of a detached store: %v", err)
	}
	if _, err := store.Attach(ctx, empty.URL(), "WRNG-CODE-XXXX-XXXX", "tablet", false); err == nil {
		t.Error("attached with a wrong code")
	}
	_, err = store.Attach(ctx, empty.URL(), empty.Code("worker"), "tablet", false)
	testbed.Must(t, err)
	if summary := testbed.Exchange(t, store); summary.Applied != 2 {
		t.Errorf("%+v", summary)
	}
	empty.Same(store)
	if got := valueAt(t, empty, "trails", trail.ID, "name"); got != "Ridge" {
		t.Errorf("central calls it %q", got)
	}
}

// P1, P2: a store that is detached and attached at the same central again goes on where it was, with what was unsent
// and what was under way.
func TestP1DetachedAndAttached(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(asking)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	id := add(t, store, "trails", device.Fields{"name": "Ridge", "seen": 1})
	testbed.Exchange(t, store)
	_, err := store.Edit(ctx, "trails", id, device.Fields{"seen": 4})
	testbed.Must(t, err)
	// The batch arrives, and its answer does not.
	once := testbed.CutAfter
	proxy := testbed.NewProxy(t, bed.URL(), batches(&once))
	testbed.Must(t, store.MoveCentral(ctx, proxy.URL))
	if _, err := store.Push(ctx, nil); err == nil {
		t.Fatal("the answer was not cut off")
	}
	_, err = store.Detach(ctx)
	testbed.Must(t, err)
	_, err = store.Attach(ctx, bed.URL(), bed.Code("lead"), "the lead's", false)
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	bed.Same(store)
	if got := valueAt(t, bed, "trails", id, "seen"); got != "4" {
		t.Errorf("central counts %s", got)
	}
	devices, err := bed.Central.Devices(ctx, "")
	testbed.Must(t, err)
	revoked := 0
	for _, d := range devices {
		if d.RevokedAt != nil {
			revoked++
		}
	}
	if revoked != 1 || len(devices) != 2 {
		t.Errorf("%d devices, %d revoked", len(devices), revoked)
	}
	// With discard, what it holds is given up, and comes again.
	unsent := add(t, store, "trails", device.Fields{"name": "Given up"})
	_, err = store.Detach(ctx)
	testbed.Must(t, err)
	backup, err := store.Attach(ctx, bed.URL(), bed.Code("worker"), "tablet", true)
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	bed.Same(store)
	if _, err := store.Get(ctx, "trails", unsent); !errors.Is(err, device.ErrNoRecord) {
		t.Errorf("what was discarded is there: %v", err)
	}
	copied, err := device.Open(ctx, backup, device.Options{})
	testbed.Must(t, err)
	defer copied.Close()
	if shown(t, copied, "trails", unsent, "name") != "Given up" {
		t.Error("the backup does not hold what was given up")
	}
}

// A restore that cannot be done changes nothing.
func TestRestoreRefused(t *testing.T) {
	bed := testbed.Start(t)
	backup := backUp(t, bed)
	if _, err := service.Restore(ctx, bed.Database, "", backup, filepath.Join(t.TempDir(), "x")); err == nil ||
		!strings.Contains(err.Error(), "stop it first") {
		t.Errorf("restored under a running central: %v", err)
	}
	generation := bed.Central.Generation()
	bed.Stop()
	junk := filepath.Join(t.TempDir(), "junk")
	testbed.Must(t, os.WriteFile(junk, []byte("no backup"), 0o600))
	if _, err := service.Restore(ctx, bed.Database, "", junk, filepath.Join(t.TempDir(), "y")); err == nil ||
		!strings.Contains(err.Error(), "is not a backup") {
		t.Errorf("restored from junk: %v", err)
	}
	again := testbed.Start(t, func(o *service.Options) { o.Database = bed.Database })
	if again.Central.Generation() != generation {
		t.Error("the generation has changed")
	}
	if err := service.Backup(ctx, "", filepath.Join(t.TempDir(), "none"), filepath.Join(t.TempDir(), "z")); err == nil ||
		!strings.Contains(err.Error(), "there is no PostgreSQL") {
		t.Errorf("backed up nothing: %v", err)
	}
}

// P3: a cursor that is turned back brings the same records again, none twice, and harms nothing unsent; verify finds
// and mends what is wrong.
func TestP3CursorsAndVerify(t *testing.T) {
	bed := testbed.Start(t)
	store, other := bed.Device("worker", "tablet", device.Options{}), bed.Device("lead", "other", device.Options{})
	testbed.Exchange(t, store, other)
	var ids []uuid.UUID
	for _, name := range []string{"One", "Two", "Three", "Four", "Five"} {
		ids = append(ids, addTrail(t, other, name).ID)
	}
	testbed.Exchange(t, other, store)
	editTrail(t, store, ids[0], device.Fields{"note": "unsent"})
	testbed.Must(t, store.TurnBack(ctx, "trails", 2))
	changes, stop := store.Listen()
	defer stop()
	summary, err := store.Pull(ctx, nil)
	testbed.Must(t, err)
	if summary.Received != 3 || len(changes) != 0 || shown(t, store, "trails", ids[0], "note") != "unsent" {
		t.Errorf("%+v, heard %d", summary, len(changes))
	}
	if err := store.TurnBack(ctx, "trails", 99); !errors.Is(err, device.ErrNotAllowed) {
		t.Errorf("turned forward: %v", err)
	}
	all, err := store.Verify(ctx, false, false)
	testbed.Must(t, err)
	for _, one := range all {
		if len(one.Differences) > 0 {
			t.Errorf("%+v", one)
		}
	}
	// Somebody meddles with the store's file.
	db := open(t, store)
	for _, statement := range []string{
		`DELETE FROM records WHERE id = '` + ids[1].String() + `'`,
		`UPDATE records SET fields = '{"name":"Not what central has"}' WHERE id = '` + ids[2].String() + `'`,
		`INSERT INTO records (collection, id, revision, removed, fields, marks, author, device, edited_at, received_at)
			SELECT collection, '0199d3a1-c2b4-7000-8000-00000000abcd', 1, 0, '{"name":"Out of nowhere"}', marks, '', '',
				edited_at, received_at FROM records WHERE id = '` + ids[3].String() + `'`,
	} {
		if _, err := db.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	if all, err = store.Verify(ctx, true, true); err != nil {
		t.Fatal(err)
	}
	what := map[string]int{}
	for _, one := range all {
		for _, d := range one.Differences {
			what[d.What]++
		}
	}
	if what[device.MissingHere] != 1 || what[device.OtherValues] != 1 || what[device.OnlyHere] != 1 {
		t.Errorf("found %v", what)
	}
	lost, err := store.LostRecords(ctx)
	testbed.Must(t, err)
	if len(lost) != 1 || lost[0].Label != "Out of nowhere" {
		t.Errorf("what only the device has: %+v", lost)
	}
	testbed.Must(t, store.DropLost(ctx, "trails", lost[0].ID, filepath.Join(t.TempDir(), "f")))
	if testbed.Exchange(t, store); valueAt(t, bed, "trails", ids[0], "note") != "unsent" {
		t.Error("the unsent edit has suffered")
	}
	testbed.Exchange(t, store)
	bed.Same(store)
}

// P7: a group goes in whole or not at all, also when its batch is cut, and mending one of it sends all of it again.
func TestP7Groups(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strings.Replace(asking, "name: {type: string, minLength: 1}",
		"name: {type: string, minLength: 1, maxLength: 40}", 1))
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	var first, second uuid.UUID
	testbed.Must(t, store.Group(ctx, func(g *device.Group) error {
		one, err := g.Add("trails", device.Fields{"name": "A name that will be too long", "length_km": 1})
		first = one.ID
		if err == nil {
			one, err = g.Add("trails", device.Fields{"name": "Short", "length_km": 2})
			second = one.ID
		}
		return err
	}))
	alone := add(t, store, "trails", device.Fields{"name": "Alone"})
	if err := store.Group(ctx, func(g *device.Group) error {
		_, err := g.Add("trails", device.Fields{"name": "Half"})
		testbed.Must(t, err)
		_, err = g.Add("trails", device.Fields{"name": ""})
		return err
	}); err == nil {
		t.Error("half of a group was saved")
	}
	bed.Define(strings.Replace(asking, "name: {type: string, minLength: 1}",
		"name: {type: string, minLength: 1, maxLength: 9}", 1))
	if summary := testbed.Exchange(t, store); summary.Applied != 1 || summary.Refused != 2 {
		t.Fatalf("%+v", summary)
	}
	if _, err := bed.Central.Record(ctx, central.Everything("admin"), "trails", second); err == nil {
		t.Error("half of the group is at central")
	}
	if got := valueAt(t, bed, "trails", alone, "name"); got != "Alone" {
		t.Errorf("what does not belong to the group is called %q", got)
	}
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	if len(queue) != 2 || queue[1].Reasons[0].Code != change.CodeHangsOnGroup {
		t.Errorf("%+v", queue)
	}
	once := testbed.CutAfter
	proxy := testbed.NewProxy(t, bed.URL(), batches(&once))
	testbed.Must(t, store.MoveCentral(ctx, proxy.URL))
	_, err = store.Edit(ctx, "trails", first, device.Fields{"name": "Mended"})
	testbed.Must(t, err)
	if _, err := store.Exchange(ctx, nil); err == nil {
		t.Fatal("the answer was not cut off")
	}
	testbed.Exchange(t, store)
	bed.Same(store)
	if versions(t, bed, "trails", first) != 1 || versions(t, bed, "trails", second) != 1 {
		t.Error("the mended group is at central other than once")
	}
}

// P2: an exchange with a restored central breaks off after it has shown what it has, and before it was asked again. What it has
// already is shown once, counters included, and an edit of what is shown counts from there.
func TestP2ACounterIsShownOnceAfterARestore(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(asking)
	store := bed.Device("worker", "a", device.Options{})
	testbed.Exchange(t, store)
	id := add(t, store, "trails", device.Fields{"name": "Ridge", "seen": 2})
	testbed.Exchange(t, store)
	backup := backUp(t, bed)
	bed = putBack(t, bed, backup, store)
	proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		if testbed.CarriesBatch(r) {
			return testbed.CutBefore
		}
		return testbed.Pass
	})
	testbed.Must(t, store.MoveCentral(ctx, proxy.URL))
	if _, err := store.Exchange(ctx, nil); err == nil {
		t.Fatal("the exchange did not break off")
	}
	if got := shown(t, store, "trails", id, "seen"); got != "2" {
		t.Errorf("the counter is shown as %s", got)
	}
	_, err := store.Edit(ctx, "trails", id, device.Fields{"seen": 6})
	testbed.Must(t, err)
	testbed.Must(t, store.MoveCentral(ctx, bed.URL()))
	testbed.Exchange(t, store)
	if got := valueAt(t, bed, "trails", id, "seen"); got != "6" {
		t.Errorf("central counts %s", got)
	}
	bed.Same(store)
}

// P2: what a restored central has lost is offered by who still has it, while the device that made it sends it again: a
// count counts once.
func TestP2OfferedWhileItComesByItself(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: huts\nfields:\n  name: {type: string}\n  seen: {type: integer}\nsync:\n  rules: {seen: sum}\n")
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	backup := backUp(t, bed)
	hut := add(t, a, "huts", device.Fields{"name": "Gale", "seen": 4})
	testbed.Exchange(t, a, b)
	bed = putBack(t, bed, backup, a, b)
	testbed.Exchange(t, b)
	testbed.Must(t, b.OfferLost(ctx, "huts", hut))
	testbed.Exchange(t, a, b, a)
	bed.Same(a, b)
	if got := valueAt(t, bed, "huts", hut, "seen"); got != "4" {
		t.Errorf("central counts %s", got)
	}
}
