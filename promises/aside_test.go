package promises_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/core/change"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
	"homing/wire"
)

const withNotes = `
collection: trails
title: Trails
required: [name]
fields:
  name: {type: string, maxLength: 80}
  state: {type: string}
  notes: {type: string, local: true}
`

// pin is a secret long enough that no file of a store holds it by chance, as one of four digits may.
const pin = "lantern-under-the-stair"

// handed is a shared device on which worker has saved and second is signed in: an edit of ridge, and scree, which is new.
func handed(t *testing.T, bed *testbed.Bed, options device.Options) (store *device.Store, ridge, scree uuid.UUID) {
	t.Helper()
	bed.Define(withNotes)
	store = bed.Device("worker", "hut tablet", options)
	testbed.Exchange(t, store)
	ridge = add(t, store, "trails", device.Fields{"name": "Ridge", "state": "open"})
	testbed.Exchange(t, store)
	testbed.Must(t, store.SetSecret(ctx, "", pin))
	testbed.Must(t, bed.Central.AddWorker(ctx, "second", "worker", ""))
	_, err := store.Join(ctx, bed.Code("second"), "5678")
	testbed.Must(t, err)
	testbed.Must(t, store.SignIn(ctx, "worker", pin))
	_, err = store.Edit(ctx, "trails", ridge, device.Fields{"state": "washed-out-by-night"})
	testbed.Must(t, err)
	scree = add(t, store, "trails", device.Fields{"name": "Scree-unseen", "notes": "key-under-stone"})
	testbed.Must(t, store.SignIn(ctx, "second", "5678"))
	return store, ridge, scree
}

// inFiles says whether a text stands anywhere in the files of a store.
func inFiles(t *testing.T, store *device.Store, text string) bool {
	t.Helper()
	files, err := filepath.Glob(store.Path() + "*")
	testbed.Must(t, err)
	for _, name := range files {
		content, err := os.ReadFile(name)
		testbed.Must(t, err)
		if bytes.Contains(content, []byte(text)) {
			return true
		}
	}
	return false
}

// P1, P11: on a shared device nobody lists, edits, removes, reviews, discards or erases what somebody else has not sent,
// and neither the files of an unencrypted store nor a backup give it away.
func TestP11WhatIsNotSentIsSealedForOthers(t *testing.T) {
	bed := testbed.Start(t)
	store, ridge, scree := handed(t, bed, device.Options{})
	found, err := store.Find(ctx, "trails", query.Ask{})
	if err != nil || found.Total != 1 || string(found.Records[0].Fields["state"]) != `"open"` || found.Records[0].Pending != 0 {
		t.Errorf("second is shown %+v, %v", found, err)
	}
	for what, try := range map[string]func() error{
		"shown":   func() error { _, err := store.Get(ctx, "trails", scree); return err },
		"edited":  func() error { _, err := store.Edit(ctx, "trails", scree, device.Fields{"state": "x"}); return err },
		"removed": func() error { return store.Remove(ctx, "trails", scree) },
	} {
		if err := try(); !errors.Is(err, device.ErrNoRecord) {
			t.Errorf("what worker has added is %s: %v", what, err)
		}
	}
	if queue, err := store.Review(ctx); err != nil || len(queue) != 0 {
		t.Errorf("second reviews %+v, %v", queue, err)
	}
	for number := range int64(10) {
		if err := store.Discard(ctx, number, filepath.Join(t.TempDir(), "x")); !errors.Is(err, device.ErrNoChange) {
			t.Errorf("change %d is given up: %v", number, err)
		}
	}
	if err := store.Erase(ctx, true, filepath.Join(t.TempDir(), "x")); !errors.Is(err, device.ErrUnsent) ||
		!strings.Contains(err.Error(), "2 of worker") {
		t.Errorf("second erases: %v", err)
	}
	backup := filepath.Join(t.TempDir(), "backup.db")
	testbed.Must(t, store.Backup(ctx, backup))
	text, err := os.ReadFile(backup)
	testbed.Must(t, err)
	for _, word := range []string{"washed-out-by-night", "Scree-unseen", "key-under-stone", ridge.String() + "aside", pin} {
		if inFiles(t, store, word) || bytes.Contains(text, []byte(word)) {
			t.Errorf("%q stands in the files", word)
		}
	}
	if _, err := store.SignOut(ctx); err != nil {
		t.Fatal(err)
	}
	for what, try := range map[string]func() error{
		"backed up": func() error { return store.Backup(ctx, filepath.Join(t.TempDir(), "x")) },
		"erased":    func() error { return store.Erase(ctx, true, filepath.Join(t.TempDir(), "x")) },
	} {
		if err := try(); !errors.Is(err, device.ErrSignedOut) {
			t.Errorf("the store is %s while nobody is signed in: %v", what, err)
		}
	}
	// Without signal all of it is there again for who made it.
	testbed.Must(t, store.MoveCentral(ctx, "http://127.0.0.1:1"))
	testbed.Must(t, store.SignIn(ctx, "worker", pin))
	if got := shown(t, store, "trails", ridge, "state"); got != "washed-out-by-night" {
		t.Errorf("worker finds the state %s", got)
	}
	if got := shown(t, store, "trails", scree, "notes"); got != "key-under-stone" {
		t.Errorf("worker finds the notes %s", got)
	}
	// A restored backup opens for nobody without their secret.
	again := filepath.Join(t.TempDir(), "again.db")
	testbed.Must(t, device.Restore(ctx, backup, again, device.Options{}))
	restored, err := device.Open(ctx, again, device.Options{})
	testbed.Must(t, err)
	defer restored.Close()
	if _, err := restored.Find(ctx, "trails", query.Ask{}); !errors.Is(err, device.ErrSignedOut) {
		t.Errorf("what was restored is shown: %v", err)
	}
	testbed.Must(t, restored.SignIn(ctx, "worker", pin))
	if queue, err := restored.Review(ctx); err != nil || len(queue) != 2 {
		t.Errorf("of the restored changes there are %+v, %v", queue, err)
	}
}

// P1, P5, P11: anybody's exchange delivers it; an edit of the same field by who could not see it is another mind; and
// who made it finds it delivered, with what never leaves the device.
func TestP5WhatIsSealedIsDeliveredByAnybody(t *testing.T) {
	bed := testbed.Start(t)
	store, ridge, scree := handed(t, bed, device.Options{Passphrase: "under the third stone"})
	_, err := store.Edit(ctx, "trails", ridge, device.Fields{"state": "closed"})
	testbed.Must(t, err)
	summary := testbed.Exchange(t, store)
	if summary.Sent != 3 || summary.Refused+summary.Waiting > 0 {
		t.Fatalf("%+v", summary)
	}
	listing, err := bed.Central.History(ctx, central.Everything("admin"), "trails", ridge)
	testbed.Must(t, err)
	var who []string
	for _, entry := range listing {
		who = append(who, entry.Author)
		if entry.Revision == 3 && len(entry.Decisions) == 0 {
			t.Errorf("revision 3 overwrote what its author had not seen, and no decision says why: %+v", entry)
		}
	}
	if got := strings.Join(who, " "); got != "second worker worker" {
		t.Errorf("the trail was changed by %s", got)
	}
	if got := shown(t, store, "trails", scree, "name"); got != "Scree-unseen" { // now it is everybody's
		t.Errorf("second finds %s", got)
	}
	testbed.Must(t, store.SignIn(ctx, "worker", pin))
	if got := shown(t, store, "trails", scree, "notes"); got != "key-under-stone" {
		t.Errorf("worker finds the notes %s", got)
	}
	if people, err := store.People(ctx); err != nil || people[0].Unsent+people[1].Unsent != 0 {
		t.Errorf("%+v, %v", people, err)
	}
	bed.Same(store)
	if summary := testbed.Exchange(t, store); summary.Sent+summary.Received > 0 {
		t.Errorf("it came again: %+v", summary)
	}
}

// P2: a change that left in the open, and whose answer was lost, counts once when it goes again sealed, by somebody else.
func TestP2ASealedChangeCountsOnce(t *testing.T) {
	bed := testbed.Start(t)
	cut := false
	proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		if cut && testbed.CarriesBatch(r) {
			return testbed.CutAfter
		}
		return testbed.Pass
	})
	store, ridge, _ := handed(t, bed, device.Options{})
	testbed.Must(t, store.SignIn(ctx, "worker", pin))
	testbed.Must(t, store.MoveCentral(ctx, proxy.URL))
	cut = true
	if _, err := store.Exchange(ctx, nil); err == nil {
		t.Fatal("no answer was lost")
	}
	cut = false
	testbed.Must(t, store.SignIn(ctx, "second", "5678"))
	if summary := testbed.Exchange(t, store); summary.Sent != 2 || summary.Applied+summary.Merged != 2 {
		t.Errorf("%+v", summary)
	}
	listing, err := bed.Central.History(ctx, central.Everything("admin"), "trails", ridge)
	if err != nil || len(listing) != 2 {
		t.Errorf("%+v, %v", listing, err)
	}
	if got := shown(t, store, "trails", ridge, "state"); got != "washed-out-by-night" {
		t.Errorf("the state is %s", got)
	}
	bed.Same(store)
}

// P1, P11: what central refuses of it is told to its author alone, who mends it.
func TestP11ARefusalIsToldToItsAuthor(t *testing.T) {
	bed := testbed.Start(t)
	store, ridge, _ := handed(t, bed, device.Options{})
	bed.Define(withNotes + "access:\n  edit: size(after.state) < 12\n")
	summary := testbed.Exchange(t, store)
	if summary.Refused != 1 || summary.Applied != 1 {
		t.Fatalf("%+v", summary)
	}
	if queue, err := store.Review(ctx); err != nil || len(queue) != 0 {
		t.Errorf("second reviews %+v, %v", queue, err)
	}
	if inFiles(t, store, "washed-out-by-night") {
		t.Error("what was refused stands in the files")
	}
	exchanges, err := store.Log(ctx, 1)
	testbed.Must(t, err)
	carried, err := store.Carried(ctx, exchanges[0].Summary.Exchange)
	testbed.Must(t, err)
	for _, one := range carried {
		if one.Up && (one.Collection != "" || one.Record != uuid.Nil || string(one.Fields) != "{}") {
			t.Errorf("the log tells of %+v", one)
		}
	}
	testbed.Must(t, store.SignIn(ctx, "worker", pin))
	queue, err := store.Review(ctx)
	if err != nil || len(queue) != 1 || queue[0].Record != ridge || queue[0].Verdict != change.Refused ||
		queue[0].Reasons[0].Code != change.CodeNotAllowed {
		t.Fatalf("worker reviews %+v, %v", queue, err)
	}
	_, err = store.Edit(ctx, "trails", ridge, device.Fields{"state": "washed out"})
	testbed.Must(t, err)
	if summary := testbed.Exchange(t, store); summary.Applied != 1 {
		t.Errorf("%+v", summary)
	}
	bed.Same(store)
}

// P1: a new PIN opens what was sealed under the old one; one that was forgotten leaves it sealed, and it is delivered all
// the same.
func TestP1AForgottenPINLosesNothing(t *testing.T) {
	bed := testbed.Start(t)
	store, ridge, _ := handed(t, bed, device.Options{})
	testbed.Must(t, store.SignIn(ctx, "worker", pin))
	testbed.Must(t, store.SetSecret(ctx, pin, "sunrise-at-the-third-hut"))
	_, err := store.SignOut(ctx)
	testbed.Must(t, err)
	testbed.Must(t, store.SignIn(ctx, "worker", "sunrise-at-the-third-hut"))
	if queue, err := store.Review(ctx); err != nil || len(queue) != 2 {
		t.Errorf("under a new PIN there are %+v, %v", queue, err)
	}
	testbed.Must(t, store.SignIn(ctx, "second", "5678"))
	_, err = store.Join(ctx, bed.Code("worker"), "9999") // worker has forgotten it
	testbed.Must(t, err)
	if queue, err := store.Review(ctx); err != nil || len(queue) != 0 {
		t.Errorf("without the PIN, worker reviews %+v, %v", queue, err)
	}
	_, err = store.Edit(ctx, "trails", ridge, device.Fields{"name": "Long ridge"})
	testbed.Must(t, err)
	testbed.Must(t, store.SignIn(ctx, "second", "5678"))
	testbed.Must(t, store.SignIn(ctx, "worker", "9999"))
	if got := shown(t, store, "trails", ridge, "name"); got != "Long ridge" {
		t.Errorf("what was saved under the last PIN is %s", got)
	}
	if summary := testbed.Exchange(t, store); summary.Sent != 3 || summary.Refused+summary.Waiting > 0 {
		t.Errorf("%+v", summary)
	}
	if got := shown(t, store, "trails", ridge, "state"); got != "washed-out-by-night" {
		t.Errorf("the state is %s", got)
	}
	bed.Same(store)
}

// P1, P2: whatever else a sealed change is, it harms nothing: one for another key waits, one that cannot be read is
// refused, and each other change of the batch goes in.
func TestP7SealedChangesThatCannotBeRead(t *testing.T) {
	bed := testbed.Start(t)
	hand := newRaw(t, bed, "worker")
	seal := func(key []byte, text string) []byte {
		sealed, err := wire.SealChange(key, []byte(text))
		testbed.Must(t, err)
		return sealed
	}
	other, err := wire.NewSealingKey()
	testbed.Must(t, err)
	to := bed.Central.SealTo()
	batch := hand.batch()
	for _, one := range []any{
		wire.Sealed{Number: 1, Sealed: seal(other.PublicKey().Bytes(), `{}`)},
		wire.Sealed{Number: 2, Sealed: seal(to, `no JSON`)},
		wire.Sealed{Number: 3, Sealed: seal(to, `{"number":4}`)},
		wire.Sealed{Number: 5, Sealed: []byte("short")},
		hand.change(6, change.Add, newID(), 0, map[string]string{"name": `"Ridge"`}),
	} {
		text, err := json.Marshal(one)
		testbed.Must(t, err)
		batch.Changes = append(batch.Changes, text)
	}
	answers := hand.push(batch)
	for n, want := range []change.Verdict{change.Waiting, change.Refused, change.Refused, change.Waiting, change.Applied} {
		if answers[n].Answer != want {
			t.Errorf("change %d of the batch: %+v, and not %s", n+1, answers[n], want)
		}
	}
}

// P5: what somebody edits in a later turn has seen what they left unsent in an earlier one, though others saved in between: it
// neither disputes with it nor loses against it.
func TestP5OnesOwnEarlierTurn(t *testing.T) {
	bed := testbed.Start(t)
	store, ridge, scree := handed(t, bed, device.Options{})
	bed.Define(withNotes + "sync: {rules: {state: ask, name: first}}\n")
	add(t, store, "trails", device.Fields{"name": "by second"})
	testbed.Must(t, store.SignIn(ctx, "worker", pin))
	for _, edit := range []device.Fields{{"state": "closed", "name": "Ridge path"}, {"state": "shut", "name": "Long ridge"}} {
		_, err := store.Edit(ctx, "trails", ridge, edit)
		testbed.Must(t, err)
	}
	_, err := store.Edit(ctx, "trails", scree, device.Fields{"state": "new"})
	testbed.Must(t, err)
	summary := testbed.Exchange(t, store)
	if summary.Held+summary.Refused+summary.Waiting > 0 {
		t.Errorf("%+v", summary)
	}
	for field, want := range map[string]string{"state": "shut", "name": "Long ridge"} {
		if got := shown(t, store, "trails", ridge, field); got != want {
			t.Errorf("%s is %s, want %s", field, got, want)
		}
	}
	listing, err := bed.Central.History(ctx, central.Everything("admin"), "trails", ridge)
	testbed.Must(t, err)
	sources := map[uuid.UUID]bool{}
	for _, entry := range listing {
		sources[entry.Source.Incarnation] = true
		if len(entry.Decisions) > 0 {
			t.Errorf("revision %d disputes with its author's own: %+v", entry.Revision, entry.Decisions)
		}
	}
	if len(sources) != 3 { // of the add, before anybody else joined, too
		t.Errorf("the turns were numbered under %d sources", len(sources))
	}
	bed.Same(store)
}

// P1: central is restored to a time before somebody joined the device, and they have left it since. What they had sent
// waits, they are listed, and when they join again it goes in as theirs.
func TestP1WhoHadLeftBeforeARestore(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(withNotes)
	store := bed.Device("worker", "hut tablet", device.Options{})
	testbed.Exchange(t, store)
	ridge := add(t, store, "trails", device.Fields{"name": "Ridge", "state": "open"})
	testbed.Exchange(t, store)
	testbed.Must(t, store.SetSecret(ctx, "", pin))
	testbed.Must(t, bed.Central.AddWorker(ctx, "second", "worker", ""))
	backup := backUp(t, bed)
	_, err := store.Join(ctx, bed.Code("second"), "5678")
	testbed.Must(t, err)
	_, err = store.Edit(ctx, "trails", ridge, device.Fields{"state": "closed"})
	testbed.Must(t, err)
	gorge := add(t, store, "trails", device.Fields{"name": "Gorge"})
	testbed.Exchange(t, store)
	devices, err := bed.Central.Devices(ctx, "worker")
	testbed.Must(t, err)
	testbed.Must(t, bed.Central.Leave(ctx, devices[0].ID, "second"))
	testbed.Must(t, store.SignIn(ctx, "worker", pin))
	testbed.Exchange(t, store)
	if people, err := store.People(ctx); err != nil || len(people) != 1 {
		t.Fatalf("who has left is still listed: %+v, %v", people, err)
	}
	bed = putBack(t, bed, backup, store)
	if summary := testbed.Exchange(t, store); summary.Waiting != 2 || summary.Refused != 0 {
		t.Errorf("%+v", summary)
	}
	people, err := store.People(ctx)
	if err != nil || len(people) != 2 || people[1].Name != "second" || people[1].Unsent != 2 || people[1].Secret {
		t.Errorf("the device lists %+v, %v", people, err)
	}
	if err := store.SignIn(ctx, "second", ""); !errors.Is(err, device.ErrNobody) {
		t.Errorf("anybody signs in as second: %v", err)
	}
	if queue, err := store.Review(ctx); err != nil || len(queue) != 0 {
		t.Errorf("worker reviews %+v, %v", queue, err)
	}
	_, err = store.Join(ctx, bed.Code("second"), "5678")
	testbed.Must(t, err)
	queue, err := store.Review(ctx)
	if err != nil || len(queue) != 2 || len(queue[0].Reasons) != 1 || queue[0].Reasons[0].Code != change.CodeUnknownAuthor {
		t.Errorf("second reviews %+v, %v", queue, err)
	}
	if summary := testbed.Exchange(t, store); summary.Waiting+summary.Refused != 0 {
		t.Errorf("%+v", summary)
	}
	for id, revision := range map[uuid.UUID]int64{ridge: 2, gorge: 1} {
		listing, err := bed.Central.History(ctx, central.Everything("admin"), "trails", id)
		if err != nil || int64(len(listing)) != revision || listing[0].Author != "second" {
			t.Errorf("central's history: %+v, %v", listing, err)
		}
	}
	bed.Same(store)
}

// P7, P11: the exchange that hears that somebody has left the device is the one that carries what they had saved. It is refused,
// sealed for them with its reason, and goes in when they are back.
func TestP11ARefusalOfWhoHasLeft(t *testing.T) {
	bed := testbed.Start(t)
	store, ridge, _ := handed(t, bed, device.Options{})
	testbed.Exchange(t, store)
	_, err := store.Edit(ctx, "trails", ridge, device.Fields{"state": "gated-by-second"})
	testbed.Must(t, err)
	devices, err := bed.Central.Devices(ctx, "worker")
	testbed.Must(t, err)
	testbed.Must(t, bed.Central.Leave(ctx, devices[0].ID, "second"))
	if summary := testbed.Exchange(t, store); summary.Refused != 1 {
		t.Errorf("%+v", summary)
	}
	testbed.Must(t, store.SignIn(ctx, "worker", pin))
	if queue, err := store.Review(ctx); err != nil || len(queue) != 0 {
		t.Errorf("worker reviews %+v, %v", queue, err)
	}
	if got := shown(t, store, "trails", ridge, "state"); got == "gated-by-second" {
		t.Errorf("worker is shown what second has not sent")
	}
	_, err = store.Join(ctx, bed.Code("second"), "5678")
	testbed.Must(t, err)
	queue, err := store.Review(ctx)
	if err != nil || len(queue) != 1 || len(queue[0].Reasons) != 1 || queue[0].Reasons[0].Code != change.CodeNotAllowed {
		t.Fatalf("second reviews %+v, %v", queue, err)
	}
	_, err = store.SendAgain(ctx, queue[0].Number)
	testbed.Must(t, err)
	if summary := testbed.Exchange(t, store); summary.Applied+summary.Merged != 1 {
		t.Errorf("%+v", summary)
	}
	bed.Same(store)
}
