package promises_test

import (
	"encoding/json"
	"errors"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/core/change"
	"homing/device"
	"homing/internal/testbed"
	"homing/wire"
)

// P4: a worker mends what was refused of a record that somebody else has edited and removed meanwhile, which brings
// it back. The device gets the edits that it never saw: the tombstone came without them.
func TestP4BroughtBackByMending(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(asking)
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	id := add(t, b, "trails", device.Fields{"name": "Ridge", "note": "old"})
	testbed.Exchange(t, b, a)
	_, err := a.Edit(ctx, "trails", id, device.Fields{"name": "Ridge of many words"})
	testbed.Must(t, err)
	bed.Define(strings.Replace(asking, "minLength: 1", "minLength: 1, maxLength: 8", 1))
	_, err = b.Edit(ctx, "trails", id, device.Fields{"note": "new"})
	testbed.Must(t, err)
	testbed.Exchange(t, b)
	testbed.Must(t, b.Remove(ctx, "trails", id))
	testbed.Exchange(t, b)
	if summary := testbed.Exchange(t, a); summary.Refused != 1 {
		t.Fatalf("%+v", summary)
	}
	_, err = a.Edit(ctx, "trails", id, device.Fields{"name": "Ridge 2"})
	testbed.Must(t, err)
	testbed.Exchange(t, a, b)
	bed.Same(a, b)
	if name, note := shown(t, a, "trails", id, "name"), shown(t, a, "trails", id, "note"); name != "Ridge 2" ||
		note != "new" {
		t.Errorf("the device shows %q, %q", name, note)
	}
}

// backedUpWithoutIt is a central with a trail that was removed, and brought back after a backup was made.
func backedUpWithoutIt(t *testing.T) (bed *testbed.Bed, store *device.Store, id uuid.UUID, backup string) {
	t.Helper()
	bed = testbed.Start(t)
	bed.Define(asking)
	store = bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	id = add(t, store, "trails", device.Fields{"name": "Ridge", "note": "old", "seen": 2})
	testbed.Exchange(t, store)
	lead := central.Everything("lead")
	_, err := bed.Central.Direct(ctx, lead, changes.Write{Collection: "trails", Record: id, Kind: change.Remove, Base: -1})
	testbed.Must(t, err)
	backup = backUp(t, bed)
	_, err = bed.Central.BringBack(ctx, lead, "trails", id, 1)
	testbed.Must(t, err)
	return bed, store, id, backup
}

// P1, P10: central is restored to a time when a record was removed that was brought back since. The device that has
// it lists what central lost of it; brought back at central once more, the rest can be offered.
func TestP10RestoredToBeforeARecordCameBack(t *testing.T) {
	bed, store, id, backup := backedUpWithoutIt(t)
	lead := central.Everything("lead")
	_, err := bed.Central.Direct(ctx, lead, changes.Write{Collection: "trails", Record: id, Kind: change.Edit, Base: -1,
		Fields: to("note", `"new"`)})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	bed = putBack(t, bed, backup, store)
	testbed.Exchange(t, store)
	lost, err := store.LostRecords(ctx)
	testbed.Must(t, err)
	if len(lost) != 1 || !lost[0].Removed || lost[0].Label != "Ridge" || string(lost[0].Fields["note"].To) != `"new"` {
		t.Fatalf("lost are %+v", lost)
	}
	if err := store.OfferLost(ctx, "trails", id); !errors.Is(err, device.ErrNotAllowed) ||
		!strings.Contains(err.Error(), "bring it back there") {
		t.Errorf("offered, it says %v", err)
	}
	_, err = bed.Central.BringBack(ctx, lead, "trails", id, 1)
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	testbed.Must(t, store.OfferLost(ctx, "trails", id))
	testbed.Exchange(t, store)
	bed.Same(store)
	if got := valueAt(t, bed, "trails", id, "note"); got != "new" {
		t.Errorf("the note is %q", got)
	}
	if lost, err := store.LostRecords(ctx); err != nil || len(lost) != 0 {
		t.Errorf("still lost: %+v, %v", lost, err)
	}

	// Or it is let go of, with a written copy.
	_, err = bed.Central.Direct(ctx, lead, changes.Write{Collection: "trails", Record: id, Kind: change.Remove, Base: -1})
	testbed.Must(t, err)
	backup = backUp(t, bed)
	_, err = bed.Central.BringBack(ctx, lead, "trails", id, 1)
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	putBack(t, bed, backup, store)
	testbed.Exchange(t, store)
	testbed.Must(t, store.DropLost(ctx, "trails", id, filepath.Join(t.TempDir(), "given-up.jsonl")))
	if lost, err := store.LostRecords(ctx); err != nil || len(lost) != 0 {
		t.Errorf("let go of, it is still listed: %+v, %v", lost, err)
	}
}

// P2, P10: the same, with an edit that was not sent when central was restored. It is refused, since the record is
// removed there; sent again, it brings the record back as central has it, and what was counted counts once.
func TestP10UnsentEditOfARecordThatARestoredCentralHasRemoved(t *testing.T) {
	bed, store, id, backup := backedUpWithoutIt(t)
	testbed.Exchange(t, store)
	_, err := store.Edit(ctx, "trails", id, device.Fields{"note": "typed meanwhile"})
	testbed.Must(t, err)
	bed = putBack(t, bed, backup, store)
	if summary := testbed.Exchange(t, store); summary.Refused != 1 {
		t.Fatalf("%+v", summary)
	}
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	_, err = store.SendAgain(ctx, queue[0].Number)
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	bed.Same(store)
	if seen, note := valueAt(t, bed, "trails", id, "seen"), valueAt(t, bed, "trails", id, "note"); seen != "2" ||
		note != "typed meanwhile" {
		t.Errorf("central has %s and %q", seen, note)
	}
	if lost, err := store.LostRecords(ctx); err != nil || len(lost) != 0 {
		t.Errorf("still lost: %+v, %v", lost, err)
	}
}

// P2, P10: what a restored central has, but not for this worker, is not lost, even where the device holds an unsent
// edit of it: offered as lost, its counts would count twice.
func TestP10NotLostButOfAnotherTerritory(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(asking + "  territory: record.note\n")
	hold(t, bed, "worker", "kell")
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	token := bed.SignIn("lead")
	status, text := bed.Call("POST", "/v1/records/trails", token,
		`{"fields": {"name": "Ridge", "seen": 2, "note": "ostra"}}`)
	var got wire.Answer
	if err := json.Unmarshal(text, &got); err != nil || got.Record == nil {
		t.Fatalf("%d %s", status, text)
	}
	id, lead := got.Record.ID, central.Everything("lead")
	_, err := bed.Central.Direct(ctx, lead, changes.Write{Collection: "trails", Record: id, Kind: change.Remove, Base: -1})
	testbed.Must(t, err)
	backup := backUp(t, bed)
	_, err = bed.Central.Direct(ctx, lead, changes.Write{Collection: "trails", Record: id, Kind: change.Add, Base: -1,
		Fields: to("note", `"kell"`)})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	_, err = store.Edit(ctx, "trails", id, device.Fields{"state": "open"})
	testbed.Must(t, err)
	putBack(t, bed, backup, store)
	if summary := testbed.Exchange(t, store); summary.Waiting != 1 { // what the worker may see again, the edit goes into
		t.Fatalf("%+v", summary)
	}
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	testbed.Must(t, store.Discard(ctx, queue[0].Number, filepath.Join(t.TempDir(), "given-up.jsonl")))
	if lost, err := store.LostRecords(ctx); err != nil || len(lost) != 0 {
		t.Errorf("lost are %+v, %v", lost, err)
	}
	testbed.Exchange(t, store)
	if _, err := store.Get(ctx, "trails", id); !errors.Is(err, device.ErrNoRecord) {
		t.Errorf("the device keeps what its worker does not cover: %v", err)
	}
}
