package promises_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/past"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
)

// P1, P3: a first load of 100,000 records is killed ten times, each time somewhere else. It ends complete, and what
// had been stored is not loaded again.
func TestP3AKilledFirstLoadResumes(t *testing.T) {
	const records, kills = 100_000, 10
	bed := testbed.Start(t)
	fill(t, bed, records)
	path := filepath.Join(t.TempDir(), "store.db")
	runProgram(t, path, "local", "enrol", "--central", bed.URL(), "--code", bed.Code("worker"), "--name", "tablet")
	held := func() int {
		t.Helper()
		store, err := device.Open(ctx, path, device.Options{})
		testbed.Must(t, err)
		defer store.Close()
		collections, err := store.Collections(ctx)
		testbed.Must(t, err)
		for _, c := range collections {
			if c.Name == "trails" {
				return c.Records
			}
		}
		return 0
	}
	random := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	before, killed := 0, 0
	for killed < kills {
		load := program(t, path, "local", "exchange")
		testbed.Must(t, load.Start())
		// Somewhere on the way: after some more records are there, and then a little later.
		// Each step takes less than its share of what is left, so that there is something to kill every time.
		until := before + random.IntN(max(1, (records-before)/(3*(kills-killed))))
		testbed.Wait(t, "more records", func() bool { return held() >= until })
		time.Sleep(time.Duration(random.IntN(30)) * time.Millisecond)
		testbed.Must(t, load.Process.Kill())
		load.Wait()
		now := held()
		if now < before {
			t.Fatalf("after kill %d there are %d records, there had been %d", killed+1, now, before)
		}
		before = now
		killed++
	}
	out := runProgram(t, path, "local", "exchange")
	store, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	defer store.Close()
	if got := held(); got != records {
		t.Errorf("it holds %d records, and said:\n%s", got, out)
	}
	bed.Same(store)
	// What was under way at a kill comes once more; nothing else does.
	var delivered int64
	exchanges, err := bed.Central.Exchanges(ctx, past.ExchangesOf{Limit: 100})
	testbed.Must(t, err)
	for _, e := range exchanges {
		delivered += e.Delivered
	}
	const underWay = 4 * 2000 // pages between central and the store, and one that central makes before it knows
	if delivered > records+kills*underWay {
		t.Errorf("central delivered %d records", delivered)
	}
	t.Logf("killed %d times, the last time with %d records; central delivered %d", kills, before, delivered)
}

// fill adds trails at central, many at a time.
func fill(t *testing.T, bed *testbed.Bed, count int) {
	t.Helper()
	const atOnce = 1000
	for done := 0; done < count; done += atOnce {
		rows := make([]map[string]json.RawMessage, min(atOnce, count-done))
		for n := range rows {
			rows[n] = map[string]json.RawMessage{"name": json.RawMessage(fmt.Sprintf("%q", fmt.Sprint("Trail ", done+n)))}
		}
		_, err := bed.Central.PutRows(ctx, central.Everything("admin"), "trails", "", rows)
		testbed.Must(t, err)
	}
}

// P9: before the first load, and before enrolment, everything that needs records says plainly what to do.
func TestP9BeforeTheFirstLoad(t *testing.T) {
	bed := testbed.Start(t)
	path := filepath.Join(t.TempDir(), "store.db")
	fresh, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	if _, err := fresh.Find(ctx, "trails", query.Ask{}); err == nil ||
		!strings.Contains(err.Error(), "enrol it with an enrolment code") {
		t.Errorf("before enrolment: %v", err)
	}
	testbed.Must(t, fresh.Enrol(ctx, bed.URL(), bed.Code("worker"), "tablet"))
	if _, err := fresh.Find(ctx, "trails", query.Ask{}); err == nil ||
		!strings.Contains(err.Error(), "run an exchange while there is signal") {
		t.Errorf("before the first load: %v", err)
	}
	testbed.Must(t, fresh.MoveCentral(ctx, "http://127.0.0.1:1"))
	if _, err := fresh.Exchange(ctx, nil); err == nil {
		t.Error("an exchange without signal did not say so")
	}
	status, err := fresh.Status(ctx)
	if err != nil || len(status.Collections) != 0 || !status.Enrolled {
		t.Errorf("%+v, %v", status, err)
	}
	testbed.Must(t, fresh.MoveCentral(ctx, bed.URL()))
	testbed.Exchange(t, fresh)
	trail := addTrail(t, fresh, "Ridge")
	// Loading anew keeps what is unsent.
	testbed.Must(t, fresh.LoadAnew(ctx))
	if _, err := fresh.Get(ctx, "trails", trail.ID); err != nil {
		t.Error(err)
	}
	testbed.Exchange(t, fresh)
	bed.Same(fresh)
	testbed.Must(t, fresh.Close())
	if _, err := os.Stat(path); err != nil {
		t.Error(err)
	}
}

// A first load of several pages is not kept record by record in the device's log, even when it breaks off in between;
// what comes later is.
func TestAFirstLoadIsNotLoggedOneByOne(t *testing.T) {
	bed := testbed.Start(t)
	const records = 5000
	for from := 0; from < records; from += 1000 {
		rows := make([]map[string]json.RawMessage, 1000)
		for n := range rows {
			rows[n] = map[string]json.RawMessage{"name": json.RawMessage(strconv.Quote("trail " + strconv.Itoa(from+n)))}
		}
		_, err := bed.Central.PutRows(ctx, central.Everything("admin"), "trails", "", rows)
		testbed.Must(t, err)
	}
	store := bed.Device("worker", "tablet", device.Options{})
	stopped, stop := context.WithCancel(ctx)
	first, err := store.Exchange(stopped, func(p device.Progress) {
		if p.Done > 0 {
			stop() // after the first page
		}
	})
	if err == nil || first.Received >= records {
		t.Fatalf("the load did not break off: %d received, %v", first.Received, err)
	}
	second := testbed.Exchange(t, store)
	bed.Same(store)
	addTrail(t, store, "own")
	other := bed.Device("lead", "other", device.Options{})
	testbed.Exchange(t, other)
	addTrail(t, other, "of another")
	testbed.Exchange(t, other)
	third := testbed.Exchange(t, store)
	for exchange, wanted := range map[uuid.UUID]int{first.Exchange: 0, second.Exchange: 0, third.Exchange: 2} {
		if carried, err := store.Carried(ctx, exchange); err != nil || len(carried) != wanted {
			t.Errorf("of an exchange the log has %d, not %d: %v", len(carried), wanted, err)
		}
	}
}
