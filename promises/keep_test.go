package promises_test

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/query"
	"homing/core/record"
	"homing/device"
	"homing/internal/testbed"
)

// keptIn is a collection whose records devices keep in some way.
func keptIn(sync string) string {
	return "collection: signs\nfields:\n  name: {type: string}\n  state: {type: string}\nsync:\n" + sync
}

// watch is a clock that a test turns.
type watch struct{ ahead time.Duration }

func (w *watch) now() time.Time { return time.Now().Add(w.ahead) }

// atCentral adds records at central itself.
func atCentral(t *testing.T, bed *testbed.Bed, names ...string) (ids []uuid.UUID) {
	t.Helper()
	for _, name := range names {
		id := uuid.Must(uuid.NewV7())
		_, err := bed.Central.Direct(ctx, central.Everything("admin"),
			changes.Write{Collection: "signs", Record: id, Kind: change.Add,
				Fields: record.Delta{"name": {To: []byte(fmt.Sprintf("%q", name))}}})
		testbed.Must(t, err)
		ids = append(ids, id)
	}
	return ids
}

func listed(t *testing.T, store *device.Store) string {
	t.Helper()
	found, err := store.Find(ctx, "signs", query.Ask{Sort: "name", Limit: 1000})
	testbed.Must(t, err)
	var names []string
	for _, r := range found.Records {
		names = append(names, r.Label)
	}
	return strings.Join(names, " ")
}

// P9: records kept on demand are looked up in signal and found without; what central changes comes with the next
// exchange, what it removes goes, and edits go up as always.
func TestP9OnDemand(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(keptIn("  keep: on demand\n"))
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	ids := atCentral(t, bed, "alder", "birch", "cedar", "dogwood")
	testbed.Exchange(t, store)
	if got := listed(t, store); got != "" {
		t.Errorf("before anything was looked up there are %s", got)
	}
	found, err := store.LookUp(ctx, "signs", query.Ask{Sort: "name", Limit: 3})
	testbed.Must(t, err)
	if found.Total != 4 || len(found.Records) != 3 || found.AsOf.IsZero() || listed(t, store) != "alder birch cedar" {
		t.Errorf("looked up %d of %d as of %s; here are %s", len(found.Records), found.Total, found.AsOf, listed(t, store))
	}
	_, err = bed.Central.Direct(ctx, central.Everything("admin"),
		changes.Write{Collection: "signs", Record: ids[0], Kind: change.Remove, Base: -1})
	testbed.Must(t, err)
	_, err = bed.Central.Direct(ctx, central.Everything("admin"),
		changes.Write{Collection: "signs", Record: ids[1], Kind: change.Edit, Base: -1,
			Fields: record.Delta{"name": {To: []byte(`"beech"`)}}})
	testbed.Must(t, err)
	_, err = store.Edit(ctx, "signs", ids[2], device.Fields{"state": "worn"})
	testbed.Must(t, err)
	own := add(t, store, "signs", device.Fields{"name": "elm"})
	summary := testbed.Exchange(t, store)
	if got := listed(t, store); got != "beech cedar elm" || summary.Applied != 2 || summary.Received != 2 {
		t.Errorf("here are %s after %+v", got, summary)
	}
	if r, err := bed.Central.Record(ctx, central.Everything("admin"), "signs", ids[2]); err != nil ||
		!strings.Contains(string(r.Fields), "worn") {
		t.Errorf("central has %s, %v", r.Fields, err)
	}
	// Away from signal, looking up says so, and what was looked up is here.
	bed.Stop()
	if _, err := store.LookUp(ctx, "signs", query.Ask{}); err == nil {
		t.Error("looked up without signal")
	}
	if _, err := store.Get(ctx, "signs", own); err != nil || listed(t, store) != "beech cedar elm" {
		t.Errorf("without signal there are %s, %v", listed(t, store), err)
	}
}

// P1: a storage budget lets go of what was used least lately, and never of anything unsent.
func TestP1StorageBudget(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(keptIn("  keep: on demand\n"))
	clock := &watch{}
	store := bed.Device("worker", "tablet", device.Options{Now: clock.now})
	testbed.Exchange(t, store)
	names := []string{"alder", "birch", "cedar", "dogwood", "elm", "fir", "gorse", "hazel"}
	ids := atCentral(t, bed, names...)
	for _, name := range names {
		clock.ahead += time.Minute
		_, err := store.LookUp(ctx, "signs", query.Ask{Where: []string{"name=" + name}})
		testbed.Must(t, err)
	}
	_, err := store.Edit(ctx, "signs", ids[1], device.Fields{"state": "worn"})
	testbed.Must(t, err)
	clock.ahead += time.Minute
	_, err = store.Get(ctx, "signs", ids[0]) // the oldest is used again
	testbed.Must(t, err)
	bytes, _, err := store.LookedUp(ctx)
	testbed.Must(t, err)
	testbed.Must(t, store.SetBudget(ctx, bytes/2))
	got := listed(t, store)
	if !strings.Contains(got, "alder") || !strings.Contains(got, "birch") || strings.Contains(got, "cedar") ||
		strings.Contains(got, "dogwood") || !strings.Contains(got, "hazel") {
		t.Errorf("left are %s", got)
	}
	left, budget, err := store.LookedUp(ctx)
	if err != nil || left > budget || budget != bytes/2 {
		t.Errorf("%d of %d bytes, %v", left, budget, err)
	}
	testbed.Must(t, store.SetBudget(ctx, 1))
	if got := listed(t, store); got != "birch" {
		t.Errorf("with no room at all, left are %s; the unsent one must stay", got)
	}
	if summary := testbed.Exchange(t, store); summary.Applied != 1 {
		t.Errorf("%+v", summary)
	}
}

// What is never kept is shown while there is signal and is gone after; what is made here stays until central has it.
func TestNeverKept(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(keptIn("  keep: never\n"))
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	atCentral(t, bed, "alder")
	found, err := store.LookUp(ctx, "signs", query.Ask{})
	testbed.Must(t, err)
	if len(found.Records) != 1 || found.Records[0].Label != "alder" || listed(t, store) != "" {
		t.Errorf("looked up %+v; here are %q", found, listed(t, store))
	}
	add(t, store, "signs", device.Fields{"name": "birch"})
	if got := listed(t, store); got != "birch" {
		t.Errorf("before the exchange there are %q", got)
	}
	testbed.Exchange(t, store)
	if got := listed(t, store); got != "" {
		t.Errorf("after the exchange there are %q", got)
	}
	if got, err := bed.Central.List(ctx, central.Everything("admin"), "signs", query.Ask{}); err != nil || got.Total != 2 {
		t.Errorf("central has %d, %v", got.Total, err)
	}
}

// sending is a way to central on which faults happen to the next requests that send something; the last of them to all that follow.
func sending(t *testing.T, bed *testbed.Bed, faults *[]testbed.Fault) string {
	return testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		if r.Method != http.MethodPost {
			return testbed.Pass
		}
		now := (*faults)[0]
		*faults = (*faults)[min(1, len(*faults)-1):]
		return now
	}).URL
}

// P1, P2: what is sent and not kept goes as soon as central has it, but not what was said of it since, whatever becomes of the answers.
func TestP1SentAndNotKept(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(keptIn("  keep: never\n  direction: up\n  steps: every\n"))
	faults := []testbed.Fault{testbed.Pass}
	store := bed.Device("worker", "box", device.Options{}, sending(t, bed, &faults))
	testbed.Exchange(t, store)
	add(t, store, "signs", device.Fields{"name": "alder"})
	birch := add(t, store, "signs", device.Fields{"name": "birch"})
	cedar := add(t, store, "signs", device.Fields{"name": "cedar"})
	faults = []testbed.Fault{testbed.CutAfter, testbed.CutBefore} // central takes them in, and the answers are lost
	if _, err := store.Exchange(ctx, nil); err == nil {
		t.Fatal("the answers were to be lost")
	}
	_, err := store.Edit(ctx, "signs", birch, device.Fields{"state": "leans"})
	testbed.Must(t, err)
	testbed.Must(t, store.Remove(ctx, "signs", cedar))
	if got := listed(t, store); got != "alder birch" {
		t.Errorf("without an answer there are %q", got)
	}
	changed, stop := store.Listen()
	defer stop()
	faults = []testbed.Fault{testbed.Pass, testbed.CutBefore} // now they come, and the batch with what was said since does not get through
	if _, err := store.Exchange(ctx, nil); err == nil {
		t.Fatal("the second batch was to be cut")
	}
	status, err := store.Status(ctx)
	testbed.Must(t, err)
	if got := listed(t, store); got != "birch" || status.Unsent != 2 {
		t.Errorf("of what is sent there are %q, and %d changes are unsent", got, status.Unsent)
	}
	if c := <-changed; c.Collection != "signs" || !c.Removed {
		t.Errorf("who listens hears %+v", c)
	}
	faults = []testbed.Fault{testbed.Pass}
	testbed.Exchange(t, store)
	status, err = store.Status(ctx)
	testbed.Must(t, err)
	if got := listed(t, store); got != "" || status.Unsent != 0 {
		t.Errorf("in the end there are %q, and %d changes are unsent", got, status.Unsent)
	}
	var all string
	testbed.Must(t, testbed.SQL(t, bed.Database).Get(&all, `SELECT string_agg(fields->>'name' || ' ' || coalesce(fields->>'state', '') || ' ' || revision, ', ' ORDER BY id)
		FROM records WHERE collection = 'signs' AND NOT removed`))
	if all != "alder  1, birch leans 2" {
		t.Errorf("central has %s", all)
	}
}

// The log of what has travelled keeps its bounds while links are so bad that no exchange comes to its end.
func TestTheLogOfBrokenExchanges(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(keptIn("  keep: never\n  direction: up\n"))
	faults := []testbed.Fault{testbed.Pass}
	clock := &watch{}
	store := bed.Device("worker", "box", device.Options{Now: clock.now}, sending(t, bed, &faults))
	testbed.Exchange(t, store)
	add(t, store, "signs", device.Fields{"name": "alder"})
	first := testbed.Exchange(t, store)
	carried := func() int {
		all, err := store.Carried(ctx, first.Exchange)
		testbed.Must(t, err)
		return len(all)
	}
	if n := carried(); n != 1 {
		t.Fatalf("the first exchange carried %d", n)
	}
	clock.ahead = 31 * 24 * time.Hour
	_, wrong, err := store.AddMany(ctx, "signs", slices.Repeat([]device.Fields{{"name": "birch"}}, 600))
	testbed.Must(t, err)
	faults = []testbed.Fault{testbed.Pass, testbed.Pass, testbed.CutBefore} // it measures its clock anew first
	summary, err := store.Exchange(ctx, nil)
	if err == nil || summary.Sent == 0 || len(wrong) > 0 {
		t.Fatalf("it sent %d, %v, %v", summary.Sent, err, wrong)
	}
	if n := carried(); n != 0 {
		t.Errorf("%d of what travelled a month ago are still in the log", n)
	}
}

// P8: what is kept for a stated time goes when that is over, also when the clock is turned back then; unsent changes
// stay.
func TestP8KeptForATime(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(keptIn("  keep: 2 days\n"))
	clock := &watch{}
	store := bed.Device("worker", "tablet", device.Options{Now: clock.now})
	atCentral(t, bed, "alder", "birch")
	testbed.Exchange(t, store)
	clock.ahead = 47 * time.Hour
	if got := listed(t, store); got != "alder birch" {
		t.Errorf("within the time there are %q", got)
	}
	clock.ahead = 49 * time.Hour
	add(t, store, "signs", device.Fields{"name": "cedar"})
	clock.ahead = time.Hour // turned back: the save above has shown how late it is
	if got := listed(t, store); got != "cedar" {
		t.Errorf("after the time there are %q", got)
	}
	clock.ahead = 49 * time.Hour
	testbed.Exchange(t, store)
	if got := listed(t, store); got != "alder birch cedar" {
		t.Errorf("after the next exchange there are %q", got)
	}
	bed.Same(store)
}

// Old data is marked, and too old data cannot be edited until an exchange.
func TestHowOldDataMayGet(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(keptIn("  max_age: {warn: 1 day, block: 3 days}\n"))
	clock := &watch{}
	store := bed.Device("worker", "tablet", device.Options{Now: clock.now})
	id := atCentral(t, bed, "alder")[0]
	testbed.Exchange(t, store)
	for _, step := range []struct {
		ahead time.Duration
		age   definition.Age
	}{{time.Hour, definition.Fresh}, {25 * time.Hour, definition.Old}, {73 * time.Hour, definition.TooOld}} {
		clock.ahead = step.ahead
		found, err := store.Find(ctx, "signs", query.Ask{})
		testbed.Must(t, err)
		r, err := store.Get(ctx, "signs", id)
		testbed.Must(t, err)
		if found.Age != step.age || r.Age != step.age || found.AsOf.IsZero() || !r.AsOf.Equal(found.AsOf) {
			t.Errorf("after %s it is %q and %q, as of %s", step.ahead, found.Age, r.Age, found.AsOf)
		}
		_, err = store.Edit(ctx, "signs", id, device.Fields{"state": step.ahead.String()})
		if errors.Is(err, device.ErrTooOld) != (step.age == definition.TooOld) {
			t.Errorf("after %s an edit: %v", step.ahead, err)
		}
	}
	testbed.Exchange(t, store)
	_, err := store.Edit(ctx, "signs", id, device.Fields{"state": "fresh again"})
	testbed.Must(t, err)
}

// P11: what only goes up does not come down, and what only comes down is not changed on devices, by whatever client.
func TestP11Directions(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(keptIn("  direction: up\n"))
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("worker", "b", device.Options{})
	testbed.Exchange(t, a, b)
	id := add(t, a, "signs", device.Fields{"name": "alder"})
	testbed.Exchange(t, a, b)
	if listed(t, a) != "alder" || listed(t, b) != "" {
		t.Errorf("it was sent up: here %q, there %q", listed(t, a), listed(t, b))
	}
	r := newRaw(t, bed, "worker")
	for _, path := range []string{"/v1/changes/signs?cursor=0", "/v1/lookup/signs"} {
		if status, text := r.Call("GET", path, r.token, nil); status != 403 {
			t.Errorf("%s: %d %s", path, status, text)
		}
	}
	bed.Define(keptIn("  direction: down\n"))
	testbed.Exchange(t, a, b)
	if listed(t, b) != "alder" {
		t.Errorf("it comes down: there is %q", listed(t, b))
	}
	if _, err := a.Edit(ctx, "signs", id, device.Fields{"state": "worn"}); !errors.Is(err, device.ErrNotAllowed) {
		t.Errorf("an edit: %v", err)
	}
	c := r.change(1, change.Edit, id, 1, map[string]string{"state": `"worn"`})
	c.Collection = "signs"
	if answer := r.push(r.batch(c))[0]; answer.Answer != change.Refused ||
		answer.Reasons[0].Code != change.CodeNotAllowed {
		t.Errorf("an edit by hand: %+v", answer)
	}
	// When records are kept whole again, nothing of them is missing.
	bed.Define(keptIn("  keep: on demand\n"))
	testbed.Exchange(t, a)
	atCentral(t, bed, "birch")
	testbed.Exchange(t, a)
	bed.Define(keptIn("  keep: always\n"))
	testbed.Exchange(t, a, b)
	bed.Same(a, b)
}
