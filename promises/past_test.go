package promises_test

import (
	"fmt"
	"testing"
	"time"

	"homing/central"
	"homing/central/fault"
	"homing/central/past"
	"homing/core/change"
	"homing/core/record"
	"homing/device"
	"homing/internal/testbed"
)

// P6: a record can be seen as it was at any revision and at any time, and an old state comes back as a new change.
func TestP6AsItWasAndBack(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(numbered)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	id := add(t, store, "jobs", device.Fields{"what": "one"})
	testbed.Exchange(t, store)
	var times []time.Time
	for _, what := range []string{"two", "three"} {
		times = append(times, bed.Central.Now())
		_, err := store.Edit(ctx, "jobs", id, device.Fields{"what": what})
		testbed.Must(t, err)
		testbed.Exchange(t, store)
	}
	times = append(times, bed.Central.Now())
	testbed.Must(t, store.Remove(ctx, "jobs", id))
	testbed.Exchange(t, store)
	admin := central.Everything("admin")
	at := func(when past.Moment) string {
		t.Helper()
		r, err := bed.Central.RecordAt(ctx, admin, "jobs", id, when)
		if err != nil {
			return "not there"
		}
		fields, err := record.Parse(r.Fields)
		testbed.Must(t, err)
		return fmt.Sprintf("%s %v", fields["what"], r.Removed)
	}
	for n, want := range []string{`"one" false`, `"two" false`, `"three" false`} {
		if got := at(past.Moment{AsOf: times[n]}); got != want {
			t.Errorf("at time %d it was %s, want %s", n, got, want)
		}
		if got := at(past.Moment{Revision: int64(n + 1)}); got != want {
			t.Errorf("at revision %d it was %s, want %s", n+1, got, want)
		}
	}
	if got := at(past.Moment{Revision: 4}); got != `"three" true` {
		t.Errorf("at the end it is %s", got)
	}
	if at(past.Moment{AsOf: times[0].Add(-time.Hour)}) != "not there" || at(past.Moment{Revision: 9}) != "not there" {
		t.Error("it was there before it was added, or after all that was done")
	}
	number := valueAt(t, bed, "jobs", id, "number")
	if _, err := bed.Central.BringBack(ctx, admin, "jobs", id, 2); err != nil {
		t.Fatal(err)
	}
	testbed.Exchange(t, store)
	bed.Same(store)
	if shown(t, store, "jobs", id, "what") != "two" || shown(t, store, "jobs", id, "number") != number ||
		versions(t, bed, "jobs", id) != 5 {
		t.Errorf("it came back as %q, number %q", shown(t, store, "jobs", id, "what"), shown(t, store, "jobs", id, "number"))
	}
	_, err := bed.Central.BringBack(ctx, admin, "jobs", id, 2)
	if known := fault.Explain(err); known == nil || known.Kind != fault.Clash {
		t.Errorf("brought back again: %v", err)
	}
	history, err := bed.Central.History(ctx, admin, "jobs", id)
	if err != nil || history[0].Kind != change.Add || history[0].Author != "admin" {
		t.Errorf("the history ends with %+v, %v", history[0], err)
	}
}
