package promises_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"homing/central"
	"homing/central/changes"
	"homing/core/change"
	"homing/core/record"
	"homing/core/rights"
	"homing/device"
	"homing/internal/testbed"
)

// refusedOn is a device whose way central has refused, since its definition has changed meanwhile; a post and a visit
// wait for it.
func refusedOn(t *testing.T) (*testbed.Bed, *device.Store, device.Record) {
	t.Helper()
	bed := testbed.Start(t)
	bed.Define(family("restrict")...)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	way := add(t, store, "ways", device.Fields{"name": "Ridge of many words"})
	post := add(t, store, "posts", device.Fields{"way": way, "name": "first"})
	add(t, store, "visits", device.Fields{"post": post, "hours": 1})
	bed.Define(strings.Replace(family("restrict")[0], "name: {type: string}", "name: {type: string, maxLength: 8}", 1))
	summary, err := store.Exchange(ctx, nil)
	testbed.Must(t, err)
	if summary.Refused != 1 || summary.Waiting != 2 {
		t.Fatalf("%+v", summary)
	}
	r, err := store.Get(ctx, "ways", way)
	testbed.Must(t, err)
	return bed, store, r
}

// P7: a refused parent keeps its children waiting; once it is mended, all of them go in.
func TestP7MendingLetsEverythingIn(t *testing.T) {
	bed, store, way := refusedOn(t)
	_, err := store.Edit(ctx, "ways", way.ID, device.Fields{"name": "Ridge"})
	testbed.Must(t, err)
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	last := queue[len(queue)-1]
	if len(queue) != 3 || last.Kind != change.Add || string(last.Fields["name"].To) != `"Ridge"` || last.Verdict != "" {
		t.Errorf("the outbox is %+v", queue)
	}
	if summary := testbed.Exchange(t, store); summary.Applied != 3 {
		t.Errorf("%+v", summary)
	}
	bed.Same(store)
	if got := shown(t, store, "ways", way.ID, "posts"); got != "1" {
		t.Errorf("the way counts %s posts", got)
	}
}

// P1: what was refused leaves the device only by an explicit discard, and is written down first.
func TestP1DiscardIsWrittenDownFirst(t *testing.T) {
	bed, store, way := refusedOn(t)
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	number := queue[0].Number
	if err := store.Discard(ctx, number, filepath.Join(t.TempDir(), "nowhere", "x")); err == nil {
		t.Error("discarded without a backup")
	}
	if err := store.Discard(ctx, 9999, "x"); !errors.Is(err, device.ErrNoChange) {
		t.Errorf("an unknown number: %v", err)
	}
	backup := filepath.Join(t.TempDir(), "discarded.ndjson")
	testbed.Must(t, store.Discard(ctx, number, backup))
	text, err := os.ReadFile(backup)
	if err != nil || !strings.Contains(string(text), "Ridge of many words") || !strings.Contains(string(text), "reasons") {
		t.Errorf("written down is %s, %v", text, err)
	}
	if _, err := store.Get(ctx, "ways", way.ID); !errors.Is(err, device.ErrNoRecord) {
		t.Errorf("the way: %v", err)
	}
	for { // the children wait for ever now, so they go the same way
		queue, err := store.Review(ctx)
		testbed.Must(t, err)
		if len(queue) == 0 {
			break
		}
		testbed.Must(t, store.Discard(ctx, queue[0].Number, backup))
	}
	testbed.Exchange(t, store)
	bed.Same(store)
}

// What was refused for a reason that is gone can be sent again as it is; a refused removal and a refused edit as well
// as an add.
func TestSendingAgain(t *testing.T) {
	bed, store, way := refusedOn(t)
	bed.Define(family("restrict")[0])
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	if _, err := store.SendAgain(ctx, queue[0].Number); err != nil {
		t.Fatal(err)
	}
	if summary := testbed.Exchange(t, store); summary.Applied != 3 {
		t.Errorf("%+v", summary)
	}
	_, err = store.Edit(ctx, "ways", way.ID, device.Fields{"name": "Other"})
	testbed.Must(t, err)
	bed.Define(family("restrict")[0] + "access:\n  edit: \"false\"\n")
	if summary, err := store.Exchange(ctx, nil); err != nil || summary.Refused != 1 {
		t.Fatalf("%+v, %v", summary, err)
	}
	bed.Define(family("restrict")[0])
	queue, err = store.Review(ctx)
	testbed.Must(t, err)
	if _, err := store.SendAgain(ctx, queue[0].Number); err != nil {
		t.Fatal(err)
	}
	if _, err := store.SendAgain(ctx, queue[0].Number); !errors.Is(err, device.ErrNoChange) {
		t.Errorf("the old number: %v", err)
	}
	if summary := testbed.Exchange(t, store); summary.Applied != 1 {
		t.Errorf("%+v", summary)
	}
	bed.Same(store)
	if got := shown(t, store, "ways", way.ID, "name"); got != "Other" {
		t.Errorf("the way is called %s", got)
	}
}

// P1, P6: what somebody on the same device has written and central has refused stays theirs: nobody else sees it, mends
// it or discards it.
func TestP1OthersChangesAreNotMended(t *testing.T) {
	bed, store, way := refusedOn(t)
	testbed.Must(t, bed.Central.AddWorker(ctx, "second", rights.Worker, ""))
	testbed.Must(t, store.SetSecret(ctx, "", "1234"))
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	_, err = store.Join(ctx, bed.Code("second"), "5678")
	testbed.Must(t, err)
	if _, err = store.Edit(ctx, "ways", way.ID, device.Fields{"name": "Other"}); !errors.Is(err, device.ErrNoRecord) {
		t.Errorf("second edits what worker has added and central has not taken: %v", err)
	}
	backup := filepath.Join(t.TempDir(), "x")
	if err := store.Discard(ctx, queue[0].Number, backup); !errors.Is(err, device.ErrNoChange) {
		t.Errorf("second discards what is not theirs: %v", err)
	}
	testbed.Must(t, store.SignIn(ctx, "worker", "1234"))
	after, err := store.Review(ctx)
	if err != nil || len(after) != 3 || after[0].Number != queue[0].Number || after[0].Reasons[0] != queue[0].Reasons[0] {
		t.Errorf("of worker's changes are left %+v, %v", after, err)
	}
	testbed.Must(t, store.Discard(ctx, queue[0].Number, backup))
}

// P2: an edit that was refused, and sent again after its author removed the record, brings the record back with what
// others have counted meanwhile.
func TestP2SentAgainAfterARemoval(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(asking)
	store := bed.Device("worker", "a", device.Options{})
	testbed.Exchange(t, store)
	id := add(t, store, "trails", device.Fields{"name": "Ridge", "seen": 8})
	testbed.Exchange(t, store)
	edit(t, store, "trails", id, device.Fields{"seen": 17})
	bed.Define(asking + "access: {edit: \"false\"}\n")
	testbed.Exchange(t, store)
	bed.Define(asking)
	_, err := bed.Central.Direct(ctx, central.Everything("admin"), changes.Write{Collection: "trails", Record: id, Kind: change.Edit,
		Base: 1, Fields: record.Delta{"seen": {To: json.RawMessage("12")}}})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	testbed.Must(t, store.Remove(ctx, "trails", id))
	testbed.Exchange(t, store)
	queue, err := store.Review(ctx)
	if err != nil || len(queue) != 1 || queue[0].Verdict != change.Refused {
		t.Fatalf("%+v, %v", queue, err)
	}
	_, err = store.SendAgain(ctx, queue[0].Number)
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	if got := valueAt(t, bed, "trails", id, "seen"); got != "21" {
		t.Errorf("central counts %s", got)
	}
	bed.Same(store)
}

// P1: an edit that was refused, and a removal after it that waits, go again as both: where somebody else's edit keeps the
// record, the edit counts.
func TestP1AnEditBeforeARemovalIsSentAgain(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(asking)
	store, other := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, store, other)
	id := add(t, store, "trails", device.Fields{"name": "Ridge", "seen": 8})
	testbed.Exchange(t, store, other)
	edit(t, store, "trails", id, device.Fields{"seen": 17})
	bed.Define(asking + "access: {edit: \"false\"}\n")
	testbed.Exchange(t, store)
	bed.Define(asking)
	testbed.Exchange(t, store, other)
	testbed.Must(t, store.Remove(ctx, "trails", id))
	queue, err := store.Review(ctx)
	if err != nil || len(queue) != 2 || queue[0].Verdict != change.Refused {
		t.Fatalf("%+v, %v", queue, err)
	}
	_, err = store.SendAgain(ctx, queue[0].Number)
	testbed.Must(t, err)
	if _, err := store.Get(ctx, "trails", id); !errors.Is(err, device.ErrNoRecord) {
		t.Errorf("its author has removed it, and sees %v", err)
	}
	edit(t, other, "trails", id, device.Fields{"note": "kept by b"})
	testbed.Exchange(t, other, store, other)
	if got := valueAt(t, bed, "trails", id, "seen") + valueAt(t, bed, "trails", id, "note"); got != "17kept by b" {
		t.Errorf("central has %s", got)
	}
	bed.Same(store, other)
}

// P1: who sends again what was refused for a field that central does not have gives up its value. The store writes a
// backup first, as for any discard.
func TestP1AValueLeftOutIsInABackup(t *testing.T) {
	bed := testbed.Start(t)
	const huts = "collection: huts\nfields:\n  name: {type: string}\n"
	bed.Define(huts + "  stove: {type: string}\n")
	var stopped time.Time
	store := bed.Device("worker", "a", device.Options{Now: func() time.Time {
		if stopped.IsZero() {
			return time.Now()
		}
		return stopped
	}})
	testbed.Exchange(t, store)
	hut, other := add(t, store, "huts", device.Fields{"name": "Gale"}), add(t, store, "huts", device.Fields{"name": "Arn"})
	testbed.Exchange(t, store)
	edit(t, store, "huts", hut, device.Fields{"name": "Fosk", "stove": "of iron, with two rings"})
	edit(t, store, "huts", other, device.Fields{"stove": "of clay"})
	bed.Define(huts + "carry: {drop: [stove]}\n")
	if summary := testbed.Exchange(t, store); summary.Refused != 2 {
		t.Fatalf("%+v", summary)
	}
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	stopped = time.Now() // both at one moment
	for _, q := range queue {
		_, err = store.SendAgain(ctx, q.Number)
		testbed.Must(t, err)
	}
	stopped = time.Time{}
	testbed.Exchange(t, store)
	if got := valueAt(t, bed, "huts", hut, "name"); got != "Fosk" {
		t.Errorf("central calls it %s", got)
	}
	kept, err := filepath.Glob(store.Path() + ".before-values-left-out-*.db")
	if err != nil || len(kept) != 1 {
		t.Fatalf("the backups are %v, %v", kept, err)
	}
	if text, err := os.ReadFile(kept[0]); err != nil || !bytes.Contains(text, []byte("with two rings")) || !bytes.Contains(text, []byte("of clay")) {
		t.Errorf("the backup does not have the value, %v", err)
	}
}

// P1: of several changes that wait for one that was refused, none is left on its way when the device sends fewer at once: they are
// given up together, with a backup, or mended.
func TestP1WhatHangsIsNotLeftOnItsWay(t *testing.T) {
	bed := testbed.Start(t)
	const ways = "collection: ways\nlabel: \"{name}\"\nfields: {name: {type: string, maxLength: 20}, note: {type: string}}\nsync: {steps: every}\n"
	bed.Define(ways)
	store := bed.Device("worker", "phone", device.Options{})
	testbed.Exchange(t, store)
	way, err := store.Add(ctx, "ways", device.Fields{"name": "Saved without signal"})
	testbed.Must(t, err)
	for _, note := range []string{"one", "two", "three"} {
		_, err := store.Edit(ctx, "ways", way.ID, device.Fields{"note": note})
		testbed.Must(t, err)
	}
	bed.Define(strings.Replace(ways, "20", "10", 1))
	if summary := testbed.Exchange(t, store); summary.Refused != 1 || summary.Waiting != 3 {
		t.Fatalf("%+v", summary)
	}
	// As after a link on which only small batches come through.
	if _, err := open(t, store).Exec(`INSERT INTO facts (name, value) VALUES ('batch', '1') ON CONFLICT (name) DO UPDATE SET value = '1'`); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		testbed.Exchange(t, store)
		queue, err := store.Review(ctx)
		testbed.Must(t, err)
		for _, q := range queue {
			if q.Verdict == "" || q.Sent || len(q.Reasons) == 0 {
				t.Errorf("change %d is said to be on its way: %+v", q.Number, q)
			}
		}
		if len(queue) != 4 {
			t.Errorf("%d changes are left", len(queue))
		}
	}
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	testbed.Must(t, store.Discard(ctx, queue[1].Number, filepath.Join(t.TempDir(), "given-up.jsonl")))
}
