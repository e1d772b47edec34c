package device_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"homing/central"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
)

func TestMain(m *testing.M) { testbed.Main(m) }

// An exchange tells how far it is.
func TestProgressOfAnExchange(t *testing.T) {
	bed := testbed.Start(t)
	ctx := t.Context()
	store := bed.Device("worker", "Valley tablet", device.Options{})
	testbed.Exchange(t, store)
	bridge, err := store.Add(ctx, "structures", device.Fields{"name": "Long Bridge", "kind": "bridge"})
	testbed.Must(t, err)
	_, err = store.Add(ctx, "structures", device.Fields{"name": "Gale Shelter", "kind": "shelter"})
	testbed.Must(t, err)
	var told []device.Progress
	summary, err := store.Exchange(ctx, func(p device.Progress) { told = append(told, p) })
	testbed.Must(t, err)
	if bridge.Label != "Long Bridge" || summary.Applied != 2 || len(told) == 0 || told[0].Done != 2 || told[0].Total != 2 {
		t.Errorf("%+v, %+v, %+v", bridge, summary, told)
	}
	bed.Same(store)
}

// Only one exchange runs on a store at a time, whoever starts it.
func TestOneExchangeAtATime(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	trail, err := store.Add(t.Context(), "trails", device.Fields{"name": "Ridge"})
	testbed.Must(t, err)
	db, unlock := bed.HoldCommits()
	defer db.Close()
	done := make(chan error)
	go func() {
		_, err := store.Exchange(context.Background(), nil)
		done <- err
	}()
	bed.WaitForHeldCommit()
	second, err := device.Open(t.Context(), store.Path(), device.Options{})
	testbed.Must(t, err)
	defer second.Close()
	if _, err := second.Exchange(t.Context(), nil); err == nil || err.Error() != device.ErrBusy.Error() {
		t.Errorf("the second exchange said %v", err)
	}
	// What is saved meanwhile is kept, and goes with the next exchange.
	_, err = second.Edit(t.Context(), "trails", trail.ID, device.Fields{"state": "open"})
	testbed.Must(t, err)
	unlock()
	testbed.Must(t, <-done)
	testbed.Exchange(t, second)
	bed.Same(store)
}

// A query gives the same records in the same order on a device and at central.
func TestQueriesAgree(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	for n, name := range []string{"Ridge Path", "ridge end", "100% Way", "Under_score", `Quote "it"`, "Ärm Path",
		"Valley", "Plain"} {
		fields := device.Fields{"name": name, "length_km": float64(n) * 1.5, "state": []string{"open", "closed"}[n%2]}
		if n == 6 {
			fields["length_km"], fields["state"] = nil, nil
		}
		_, err := store.Add(t.Context(), "trails", fields)
		testbed.Must(t, err)
	}
	testbed.Exchange(t, store)
	for _, q := range []struct {
		where        []string
		search, sort string
		limit, skip  int
	}{
		{nil, "", "", 0, 0}, {nil, "", "name", 3, 2}, {nil, "", "-length_km,name", 0, 0},
		{[]string{"length_km>3"}, "", "length_km", 0, 0},
		{[]string{"length_km>=3", "state=open"}, "", "name", 0, 0}, {[]string{"state!=open"}, "", "name", 0, 0},
		{[]string{"state="}, "", "name", 0, 0},
		{[]string{"name~ridge"}, "", "name", 0, 0}, {nil, "ridge", "name", 0, 0}, {nil, "path ridge", "name", 0, 0},
		{nil, "100%", "name", 0, 0},
		{nil, "under_", "name", 0, 0}, {nil, `"it"`, "name", 0, 0}, {nil, "name", "name", 0, 0},
		{nil, "", "revision,-name", 0, 0},
	} {
		found, err := store.Find(t.Context(), "trails", query.Ask{Where: q.where, Search: q.search, Sort: q.sort,
			Limit: q.limit, Offset: q.skip})
		testbed.Must(t, err)
		listing, err := bed.Central.List(t.Context(), central.Everything("admin"), "trails",
			query.Ask{Where: q.where, Search: q.search, Sort: q.sort, Limit: q.limit, Offset: q.skip})
		testbed.Must(t, err)
		here, there := fmt.Sprint(found.Total, ":"), fmt.Sprint(listing.Total, ":")
		for _, r := range found.Records {
			here += r.ID.String()[30:] + " "
		}
		for _, r := range listing.Records {
			there += r.ID.String()[30:] + " "
		}
		if here != there {
			t.Errorf("%+v: the device finds %s, central %s", q, here, there)
		}
	}
}

// A file that is no local store is refused, and left as it is.
func TestNotAStore(t *testing.T) {
	path := filepath.Join(t.TempDir(), "letter.db")
	text := "Dear Runa, the bridge at the fork has lost two boards. More on Sunday."
	testbed.Must(t, os.WriteFile(path, []byte(text), 0o600))
	if _, err := device.Open(t.Context(), path, device.Options{}); err == nil {
		t.Error("a letter was opened as a store")
	}
	if got, err := os.ReadFile(path); err != nil || string(got) != text {
		t.Errorf("the letter is now %q, %v", got, err)
	}
}
