package promises_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/core/query"
	"homing/core/rights"
	"homing/device"
	"homing/internal/testbed"
)

// shared is a device that two workers use.
func shared(t *testing.T, bed *testbed.Bed, clock *watch) *device.Store {
	t.Helper()
	testbed.Must(t, bed.Central.AddWorker(ctx, "second", rights.Worker, "", "ostra"))
	testbed.Must(t, bed.Central.HoldTerritories(ctx, "worker", []string{"kell"}))
	store := bed.Device("worker", "shared", device.Options{Now: clock.now})
	testbed.Exchange(t, store)
	testbed.Must(t, store.SetSecret(ctx, "", "1234"))
	_, err := store.Join(ctx, bed.Code("second"), "5678")
	testbed.Must(t, err)
	return store
}

// P11: a shared device gets what any of its workers covers; each change carries its author, and is judged by the
// author's rights.
func TestP11SharedDevice(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(territorial + "access:\n  remove: worker.name == \"second\"\n")
	office := bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, office)
	kell, ostra := addIn(t, office, "in kell", "kell"), addIn(t, office, "in ostra", "ostra")
	addIn(t, office, "in tamrin", "tamrin")
	testbed.Exchange(t, office)
	store := shared(t, bed, &watch{})
	testbed.Exchange(t, store)
	if got := len(holds(t, store)); got != 2 {
		t.Errorf("the device holds %d trails", got)
	}
	if err := store.Remove(ctx, "trails", kell); err != nil { // by second
		t.Error(err)
	}
	testbed.Must(t, store.SignIn(ctx, "worker", "1234"))
	if err := store.Remove(ctx, "trails", ostra); !errors.Is(err, device.ErrNotAllowed) {
		t.Errorf("worker removed a trail: %v", err)
	}
	_, err := store.Edit(ctx, "trails", ostra, device.Fields{"state": "open"})
	testbed.Must(t, err)
	if summary := testbed.Exchange(t, store); summary.Applied != 2 {
		t.Errorf("%+v", summary)
	}
	for id, author := range map[uuid.UUID]string{kell: "second", ostra: "worker"} {
		listing, err := bed.Central.History(ctx, central.Everything("admin"), "trails", id)
		testbed.Must(t, err)
		if listing[0].Author != author || listing[0].Device != "shared" {
			t.Errorf("the last change of %s is by %s on %s", id, listing[0].Author, listing[0].Device)
		}
	}
	// Central takes the second worker off the device: what that one covered is withdrawn.
	devices, err := bed.Central.Devices(ctx, "worker")
	testbed.Must(t, err)
	testbed.Must(t, bed.Central.Leave(ctx, devices[0].ID, "second"))
	testbed.Exchange(t, store)
	if got := len(holds(t, store)); got != 0 { // the one in kell is removed
		t.Errorf("the device holds %d trails", got)
	}
	if err := store.SignIn(ctx, "second", "5678"); !errors.Is(err, device.ErrNobody) {
		t.Errorf("second signs in: %v", err)
	}
}

// P1, P9: signing out and in works without signal; what is unsent stays, sealed for its author, and still reaches
// central.
func TestP1SignOutKeepsWhatIsUnsent(t *testing.T) {
	bed := testbed.Start(t)
	clock := &watch{}
	store := shared(t, bed, clock)
	addTrail(t, store, "by second")
	testbed.Must(t, store.MoveCentral(ctx, "http://127.0.0.1:1")) // no signal from here on
	unsent, err := store.SignOut(ctx)
	if err != nil || unsent != 1 {
		t.Errorf("signed out with %d unsent, %v", unsent, err)
	}
	if _, err := store.Find(ctx, "trails", query.Ask{}); !errors.Is(err, device.ErrSignedOut) {
		t.Errorf("read while nobody is signed in: %v", err)
	}
	for what, read := range map[string]func() error{
		"what exchanges carried":  func() error { _, err := store.Carried(ctx, newID()); return err },
		"what central lost":       func() error { _, err := store.LostRecords(ctx); return err },
		"differences":             func() error { _, err := store.Verify(ctx, true, false); return err },
		"the review":              func() error { _, err := store.Review(ctx); return err },
		"all of it, by detaching": func() error { _, err := store.Detach(ctx); return err },
	} {
		if err := read(); !errors.Is(err, device.ErrSignedOut) {
			t.Errorf("%s is shown while nobody is signed in: %v", what, err)
		}
	}
	if _, err := store.Add(ctx, "trails", device.Fields{"name": "x"}); !errors.Is(err, device.ErrSignedOut) {
		t.Errorf("saved while nobody is signed in: %v", err)
	}
	testbed.Must(t, store.SignIn(ctx, "worker", "1234"))
	if queue, err := store.Review(ctx); err != nil || len(queue) != 0 {
		t.Errorf("worker reviews %+v, %v", queue, err)
	}
	people, err := store.People(ctx)
	if err != nil || len(people) != 2 || people[1].Unsent != 1 || !people[0].SignedIn {
		t.Errorf("%+v, %v", people, err)
	}
	testbed.Must(t, store.MoveCentral(ctx, bed.URL()))
	if summary := testbed.Exchange(t, store); summary.Applied != 1 {
		t.Errorf("%+v", summary)
	}
}

// Wrong tries are slowed down, more each time; neither opening the store anew nor turning the clock back helps.
func TestWrongTriesAreSlowedDown(t *testing.T) {
	bed := testbed.Start(t)
	clock := &watch{}
	store := shared(t, bed, clock)
	for range 3 {
		if err := store.SignIn(ctx, "worker", "0000"); !errors.Is(err, device.ErrSecret) {
			t.Fatal(err)
		}
	}
	again, err := device.Open(ctx, store.Path(), device.Options{Now: clock.now})
	testbed.Must(t, err)
	defer again.Close()
	for _, ahead := range []time.Duration{0, -time.Hour} {
		clock.ahead = ahead
		if err := again.SignIn(ctx, "worker", "1234"); !errors.Is(err, device.ErrSlowDown) {
			t.Errorf("with the clock at %s: %v", ahead, err)
		}
	}
	clock.ahead = 20 * time.Second
	if err := again.SignIn(ctx, "worker", "0000"); !errors.Is(err, device.ErrSecret) {
		t.Error(err)
	}
	clock.ahead = 40 * time.Second // longer than the first wait, shorter than the second
	if err := again.SignIn(ctx, "worker", "1234"); !errors.Is(err, device.ErrSlowDown) {
		t.Error(err)
	}
	clock.ahead = time.Minute
	testbed.Must(t, again.SignIn(ctx, "worker", "1234"))
	testbed.Must(t, again.SetSecret(ctx, "1234", "a longer password"))
	if err := again.SetSecret(ctx, "1234", "other"); !errors.Is(err, device.ErrSecret) {
		t.Error(err)
	}
	text, err := os.ReadFile(store.Path())
	testbed.Must(t, err)
	wal, err := os.ReadFile(store.Path() + "-wal")
	testbed.Must(t, err)
	if strings.Contains(string(text)+string(wal), "a longer password") {
		t.Error("the password stands in the file")
	}
}

// P1: erasing refuses while anything is unsent; when that is discarded, a backup is written first, and opens with all
// of it.
func TestP1EraseWritesABackup(t *testing.T) {
	bed := testbed.Start(t)
	for _, passphrase := range []string{"", "under the third stone"} {
		store := bed.Device("worker", "tablet"+passphrase, device.Options{Passphrase: passphrase})
		testbed.Exchange(t, store)
		addTrail(t, store, "Ridge")
		backup := filepath.Join(t.TempDir(), "kept.db")
		if err := store.Erase(ctx, false, ""); !errors.Is(err, device.ErrUnsent) {
			t.Fatalf("it said %v", err)
		}
		if err := store.Erase(ctx, true, "/dev/null/kept.db"); err == nil {
			t.Fatal("erased without a backup")
		}
		if queue, err := store.Review(ctx); err != nil || len(queue) != 1 {
			t.Fatalf("after two refusals %d are unsent, %v", len(queue), err)
		}
		testbed.Must(t, store.Erase(ctx, true, backup))
		left, err := filepath.Glob(store.Path() + "*")
		if err != nil || len(left) != 0 {
			t.Errorf("left are %v, %v", left, err)
		}
		kept, err := device.Open(ctx, backup, device.Options{Passphrase: passphrase})
		testbed.Must(t, err)
		queue, err := kept.Review(ctx)
		if err != nil || len(queue) != 1 || queue[0].Label != "Ridge" {
			t.Errorf("the backup holds %+v, %v", queue, err)
		}
		if passphrase != "" {
			if _, err := device.Open(ctx, backup, device.Options{}); !errors.Is(err, device.ErrSealed) {
				t.Errorf("the backup opens without the passphrase: %v", err)
			}
		}
		testbed.Must(t, kept.Close())
	}
}

// P11: a revoked device that may deliver sends what it has queued, and gets nothing.
func TestP11RevokedDeviceDelivers(t *testing.T) {
	bed := testbed.Start(t)
	store, other := bed.Device("worker", "lost", device.Options{}), bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, store, other)
	trail := addTrail(t, store, "Ridge")
	testbed.Exchange(t, store, other)
	addTrail(t, store, "Valley")
	_, err := store.Edit(ctx, "trails", trail.ID, device.Fields{"state": "closed"})
	testbed.Must(t, err)
	addTrail(t, other, "Secret")
	_, err = other.Edit(ctx, "trails", trail.ID, device.Fields{"name": "Ridge, renamed"})
	testbed.Must(t, err)
	testbed.Exchange(t, other)
	devices, err := bed.Central.Devices(ctx, "worker")
	testbed.Must(t, err)
	testbed.Must(t, bed.Central.Revoke(ctx, devices[0].ID, true, true))
	if _, err := store.Exchange(ctx, nil); !errors.Is(err, device.ErrRevoked) {
		t.Fatalf("the exchange said %v", err)
	}
	status, err := store.Status(ctx)
	testbed.Must(t, err)
	found, err := store.Find(ctx, "trails", query.Ask{Sort: "name"})
	testbed.Must(t, err)
	text := ""
	for _, r := range found.Records {
		text += r.Label + "; "
	}
	if status.Unsent != 0 || strings.Contains(text, "Secret") || strings.Contains(text, "renamed") {
		t.Errorf("unsent %d; it holds %s", status.Unsent, text)
	}
	testbed.Exchange(t, other)
	if got := holds(t, other); len(got) != 3 {
		t.Errorf("the other device holds %d trails", len(got))
	}
}

// Timed exchanges are held back while the link is metered, and only these.
func TestMeteredLink(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Must(t, store.SetMetered(ctx, true))
	done, stop := context.WithCancel(ctx)
	defer stop()
	heard := make(chan error, 100)
	go store.Repeat(done, 5*time.Millisecond, true, func(_ device.Summary, err error) { heard <- err })
	if err := <-heard; !errors.Is(err, device.ErrMetered) {
		t.Errorf("it said %v", err)
	}
	testbed.Must(t, store.SetMetered(ctx, false))
	testbed.Wait(t, "an exchange", func() bool { return <-heard == nil })
}

// Listeners hear of each change once, whether it was saved here or came from central.
func TestListening(t *testing.T) {
	bed := testbed.Start(t)
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	changes, stop := a.Listen()
	trail := addTrail(t, a, "Ridge")
	testbed.Exchange(t, a, b)
	_, err := b.Edit(ctx, "trails", trail.ID, device.Fields{"state": "open"})
	testbed.Must(t, err)
	testbed.Exchange(t, b, a, a)
	stop()
	var got []device.Changed
	for c := range changes {
		got = append(got, c)
	}
	want := []device.Changed{{Collection: "trails", ID: trail.ID}, {Collection: "trails", ID: trail.ID, Central: true}}
	if len(got) != 2 || got[0] != want[0] || got[1] != want[1] {
		t.Errorf("heard %+v", got)
	}
}
