package promises_test

import (
	"context"
	"encoding/json"
	"net/http"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/fault"
	"homing/central/past"
	"homing/core/change"
	"homing/core/merge"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
)

// P5: a removal that meets an edit is held where the definition asks, and settled either way, on a device without
// signal, too.
func TestP5RemovalThatAsks(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(asking + "  removal: ask\n")
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	for _, removed := range []bool{true, false} {
		id := add(t, a, "trails", device.Fields{"name": "Ridge"})
		testbed.Exchange(t, a, b)
		testbed.Must(t, a.Remove(ctx, "trails", id))
		_, err := b.Edit(ctx, "trails", id, device.Fields{"note": "Still walked"})
		testbed.Must(t, err)
		if removed {
			testbed.Exchange(t, a) // the removal comes first
		} else {
			testbed.Exchange(t, b)
			testbed.Exchange(t, a)
		}
		testbed.Exchange(t, b, a)
		open := conflicts(t, bed)
		if len(open) != 1 || open[0].Field != merge.RecordRemoval || string(open[0].Values[1].Value) != "true" ||
			open[0].Values[1].Author != "worker" {
			t.Fatalf("open are %+v", open)
		}
		if got := shown(t, a, "trails", id, "note"); got != "Still walked" {
			t.Errorf("while it is disputed, the remover sees the note %q", got)
		}
		_, err = b.Settle(ctx, "trails", id, merge.RecordRemoval, removed)
		testbed.Must(t, err)
		testbed.Exchange(t, b, a)
		bed.Same(a, b)
		r, err := bed.Central.Record(ctx, central.Everything("admin"), "trails", id)
		if gone := err != nil || r.Removed; gone != removed || len(conflicts(t, bed)) != 0 {
			t.Errorf("settled as removed %v, it is %v; open are %v", removed, gone, conflicts(t, bed))
		}
	}
}

// P5: a lead settles many conflicts by a rule, and opens one again with the values that were in dispute.
func TestP5SettleByRuleAndReopen(t *testing.T) {
	bed, a, b, id := disputed(t)
	lead := bed.SignIn("lead")
	rule := func(preview bool) (all []central.SettledOne) {
		status, text := bed.Call("POST", "/v1/conflicts/settlements-by-rule", lead,
			map[string]any{"rule": "newest", "collection": "trails", "preview": preview})
		if err := json.Unmarshal(text, &all); err != nil || status != http.StatusOK {
			t.Fatalf("%d %s", status, text)
		}
		return all
	}
	if plan := rule(true); len(plan) != 1 || string(plan[0].Value) != `"closed"` || len(conflicts(t, bed)) != 1 {
		t.Fatalf("the preview says %+v", plan)
	}
	rule(false)
	if left := conflicts(t, bed); len(left) != 0 || valueAt(t, bed, "trails", id, "state") != "closed" {
		t.Fatalf("left are %+v", left)
	}
	testbed.Exchange(t, a, b)
	bed.Same(a, b)
	status, text := bed.Call("POST", "/v1/conflicts/reopenings", lead,
		map[string]any{"collection": "trails", "record": id, "field": "state"})
	if status != http.StatusOK {
		t.Fatalf("%d %s", status, text)
	}
	open := conflicts(t, bed)
	if len(open) != 1 || string(open[0].Values[0].Value) != `"closed"` || len(open[0].Values) != 2 ||
		string(open[0].Values[1].Value) != `"open"` {
		t.Fatalf("open again are %+v", open)
	}
	testbed.Exchange(t, a)
	if _, err := a.Settle(ctx, "trails", id, "state", "open"); err != nil {
		t.Fatal(err)
	}
	testbed.Exchange(t, a, b)
	bed.Same(a, b)
	if got := valueAt(t, bed, "trails", id, "state"); got != "open" {
		t.Errorf("settled again, it is %q", got)
	}
	for _, wrong := range []map[string]any{{"collection": "trails", "record": id, "field": "name"},
		{"collection": "trails", "record": newID(), "field": "state"}} {
		if status, text := bed.Call("POST", "/v1/conflicts/reopenings", lead, wrong); status != http.StatusConflict &&
			status != http.StatusNotFound {
			t.Errorf("%v: %d %s", wrong, status, text)
		}
	}
}

// P5: the parts of a nested field are merged one by one, each by its rule.
func TestP5NestedFields(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(`collection: huts
label: "{name}"
fields:
  name: {type: string}
  keeper: {type: object, properties: {name: {type: string}, phone: {type: string}, beds: {type: integer}, address: {type: object, properties: {place: {type: string}, path: {type: string}}}}}
sync:
  rules: {keeper/beds: sum, keeper/phone: ask}
`)
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	keeper := func(name, phone string, beds int, place string) map[string]any {
		return map[string]any{"name": name, "phone": phone, "beds": beds,
			"address": map[string]any{"place": place, "path": "north"}}
	}
	id := add(t, a, "huts", device.Fields{"name": "Gale Hut", "keeper": keeper("Ann", "1", 10, "Kell")})
	testbed.Exchange(t, a, b)
	_, err := a.Edit(ctx, "huts", id, device.Fields{"keeper": keeper("Bea", "2", 12, "Kell")})
	testbed.Must(t, err)
	_, err = b.Edit(ctx, "huts", id, device.Fields{"keeper": keeper("Ann", "3", 11, "Ostra")})
	testbed.Must(t, err)
	testbed.Exchange(t, a, b, a)
	bed.Same(a, b)
	r, err := bed.Central.Record(ctx, central.Everything("admin"), "huts", id)
	testbed.Must(t, err)
	if want := `"keeper":{"address":{"path":"north","place":"Ostra"},"beds":13,"name":"Bea","phone":"2"}`; !strings.Contains(string(r.Fields), want) {
		t.Errorf("central has %s", r.Fields)
	}
	open := conflicts(t, bed)
	if len(open) != 1 || open[0].Field != "keeper/phone" || string(open[0].Values[1].Value) != `"3"` {
		t.Fatalf("open are %+v", open)
	}
	_, err = b.Settle(ctx, "huts", id, "keeper/phone", "3")
	testbed.Must(t, err)
	testbed.Exchange(t, b, a)
	bed.Same(a, b)
	if r, err = bed.Central.Record(ctx, central.Everything("admin"), "huts", id); err != nil ||
		!strings.Contains(string(r.Fields), `"name":"Bea","phone":"3"`) {
		t.Errorf("settled, central has %s, %v", r.Fields, err)
	}
}

// P8: a clock that is turned between the edit and the exchange, or back and forth between edits, decides nothing.
func TestP8ClockTurnedAfterTheEdit(t *testing.T) {
	for name, turn := range map[string]time.Duration{"ahead": 3 * time.Hour, "back": -3 * time.Hour} {
		t.Run(name, func(t *testing.T) {
			bed := testbed.Start(t)
			var turned atomic.Int64
			began := time.Now()
			options := device.Options{Now: func() time.Time { return time.Now().Add(time.Duration(turned.Load())) },
				Tick: func() (string, time.Duration) { return "one run", time.Since(began) }}
			odd, right := bed.Device("worker", "odd", options), bed.Device("lead", "right", device.Options{})
			testbed.Exchange(t, odd)
			trail := addTrail(t, odd, "Ridge")
			testbed.Exchange(t, odd, right)
			editTrail(t, odd, trail.ID, device.Fields{"note": "earlier"})
			// By real clocks: these are measured over real requests, and told apart by more than a slow one takes.
			time.Sleep(300 * time.Millisecond)
			editTrail(t, right, trail.ID, device.Fields{"note": "later", "state": "open"})
			time.Sleep(300 * time.Millisecond)
			turned.Store(int64(turn))
			editTrail(t, odd, trail.ID, device.Fields{"state": "closed"})
			testbed.Exchange(t, right, odd, right)
			bed.Same(odd, right)
			if note, state := value(t, bed, trail.ID, "note"), value(t, bed, trail.ID, "state"); note != `"later"` ||
				state != `"closed"` {
				t.Errorf("note %s and state %s stayed", note, state)
			}
			history, err := bed.Central.History(ctx, central.Everything("admin"), "trails", trail.ID)
			testbed.Must(t, err)
			for _, h := range history {
				if off := h.ReceivedAt.Sub(h.EditedAt); off < 0 || off > 30*time.Second {
					t.Errorf("revision %d is dated %s before it was received", h.Revision, off)
				}
			}
		})
	}
}

// P2: a batch that is not answered in time is halved until it goes through, grows again, and counts once whatever
// became of the larger ones.
func TestP2SlowLink(t *testing.T) {
	bed := testbed.Start(t)
	var smallest atomic.Int64
	smallest.Store(1 << 30)
	var longest atomic.Int64
	longest.Store(4_000) // bytes that get through in time
	proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		if testbed.CarriesBatch(r) {
			smallest.Store(min(smallest.Load(), r.ContentLength))
			if r.ContentLength > longest.Load() {
				return testbed.Hold // worked on, and answered to nobody
			}
		}
		return testbed.Pass
	})
	store := bed.Device("worker", "tablet", device.Options{Patience: 400 * time.Millisecond}, bed.URL())
	testbed.Exchange(t, store)
	testbed.Must(t, store.MoveCentral(ctx, proxy.URL))
	for n := range 100 {
		addTrail(t, store, strings.Repeat(string(rune('a'+n%26)), 1+n%20)+uuid.NewString())
	}
	go func() {
		for range proxy.Held {
		}
	}()
	if summary := testbed.Exchange(t, store); summary.Applied != 100 {
		t.Fatalf("%+v", summary)
	}
	bed.Same(store)
	found, err := store.Find(ctx, "trails", query.Ask{Limit: 1})
	testbed.Must(t, err)
	if total := found.Total; total != 100 || smallest.Load() > 4_000 {
		t.Errorf("%d trails; the smallest batch had %d bytes", total, smallest.Load())
	}
}

// A device that listens has within moments what others did; what it sent itself is no news, and nothing depends on
// the listening.
func TestFollow(t *testing.T) {
	bed := testbed.Start(t)
	store, other := bed.Device("worker", "tablet", device.Options{}), bed.Device("lead", "other", device.Options{})
	testbed.Exchange(t, store, other)
	heard := make(chan device.Summary, 100)
	follow, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- store.Follow(follow, func(s device.Summary, err error) { heard <- s }) }()
	addTrail(t, other, "From afar")
	testbed.Exchange(t, other)
	select {
	case s := <-heard:
		if s.Received != 1 || s.Started != "listener" {
			t.Errorf("%+v", s)
		}
	case <-time.After(10 * time.Second):
		t.Fatal("nothing was heard")
	}
	// News that never cease do not keep it from pulling.
	steady := time.Now().Add(2 * time.Second)
	for time.Now().Before(steady) && len(heard) == 0 {
		addTrail(t, other, "One of many")
		_, err := other.Push(ctx, nil)
		testbed.Must(t, err)
	}
	if len(heard) == 0 {
		t.Error("while news came without pause, nothing was pulled")
	}
	testbed.Wait(t, "all is pulled", func() bool {
		found, err := store.Find(ctx, "trails", query.Ask{Limit: 1})
		mine, err2 := other.Find(ctx, "trails", query.Ask{Limit: 1})
		return err == nil && err2 == nil && found.Total == mine.Total
	})
	time.Sleep(time.Second) // the service runs by real time, and an exchange that should not be takes less
	for len(heard) > 0 {
		<-heard
	}
	addTrail(t, store, "Own")
	before := hits(t, bed)
	testbed.Exchange(t, store)
	time.Sleep(time.Second)
	if after := hits(t, bed); after != before+1 || len(heard) != 0 {
		t.Errorf("its own change made %d exchanges, and was told %d times", after-before, len(heard))
	}
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	bed.Same(store)
}

// P6: both sides say of an exchange what it carried, change by change and record by record.
func TestP6ExchangesAreTold(t *testing.T) {
	bed := testbed.Start(t)
	store, other := bed.Device("worker", "tablet", device.Options{}), bed.Device("lead", "other", device.Options{})
	testbed.Exchange(t, store, other)
	trail := addTrail(t, store, "Ridge")
	first := testbed.Exchange(t, store)
	testbed.Exchange(t, other)
	editTrail(t, other, trail.ID, device.Fields{"note": "seen"})
	addTrail(t, other, "too long a name for what is to come")
	bed.Define(strings.Replace(testbed.Trails, "name: {type: string", "name: {maxLength: 9, type: string", 1))
	second := testbed.Exchange(t, other)
	third := testbed.Exchange(t, store)
	detail := func(exchange uuid.UUID) past.ExchangeDetail {
		d, err := bed.Central.ExchangeDetail(ctx, central.Everything("admin"), "", exchange.String(), 100)
		testbed.Must(t, err)
		return d
	}
	if d := detail(first.Exchange); len(d.Carried) == 0 || !d.Carried[0].Up || d.Carried[0].What != "applied" ||
		!strings.Contains(string(d.Carried[0].Fields), `"Ridge"`) {
		t.Errorf("the first: %+v", d)
	}
	d := detail(second.Exchange)
	refusals := 0
	for _, one := range d.Carried {
		if one.What == string(change.Refused) && one.Label == "too long a name for what is to come" &&
			len(one.Reasons) > 0 && strings.Contains(string(one.Fields), "too long") {
			refusals++
		}
	}
	if refusals != 1 || len(d.Carried) < 2 {
		t.Errorf("the second: %+v", d)
	}
	if d := detail(third.Exchange); len(d.Carried) != 1 || d.Carried[0].Up ||
		!strings.Contains(string(d.Carried[0].Fields), `"seen"`) || d.Carried[0].Label != "Ridge" {
		t.Errorf("the third: %+v", d)
	}
	here, err := store.Carried(ctx, third.Exchange)
	testbed.Must(t, err)
	if len(here) != 1 || here[0].Up || here[0].Record != trail.ID || here[0].Label != "Ridge" ||
		!strings.Contains(string(here[0].Fields), `"seen"`) {
		t.Errorf("the device says %+v", here)
	}
	if there, err := store.Carried(ctx, first.Exchange); err != nil || len(there) != 1 || !there[0].Up ||
		there[0].Answer != change.Applied {
		t.Errorf("the device says %+v, %v", there, err)
	}
	testbed.Must(t, bed.Central.ForgetExchanges(ctx, time.Now().Add(time.Hour), 10))
	if _, err := bed.Central.ExchangeDetail(ctx, central.Everything("admin"), "", first.Exchange.String(), 10); fault.Explain(err) == nil {
		t.Errorf("a log that is over is still told: %v", err)
	}
}

// P5: several unsent edits of the same field travel as one, unless the definition asks for every step.
func TestFolding(t *testing.T) {
	for steps, want := range map[string]int{"folded": 2, "every": 4} {
		bed := testbed.Start(t)
		bed.Define(asking + "  steps: " + steps + "\n")
		store := bed.Device("worker", "tablet", device.Options{})
		testbed.Exchange(t, store)
		id := add(t, store, "trails", device.Fields{"name": "Ridge", "seen": 1})
		testbed.Exchange(t, store)
		for n := range 3 {
			_, err := store.Edit(ctx, "trails", id, device.Fields{"seen": 2 + n})
			testbed.Must(t, err)
		}
		testbed.Exchange(t, store)
		bed.Same(store)
		if got := versions(t, bed, "trails", id); got != want || valueAt(t, bed, "trails", id, "seen") != "4" {
			t.Errorf("%s: %d versions, counted %s", steps, got, valueAt(t, bed, "trails", id, "seen"))
		}
		if r, err := store.Get(ctx, "trails", id); err != nil || r.Pending != 0 {
			t.Errorf("%s: %d pending, %v", steps, r.Pending, err)
		}
	}
}

// A backup of a store that is made while the store is in use is whole.
func TestBackupWhileInUse(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	stop := make(chan struct{})
	var saved atomic.Int64
	done := make(chan error, 1)
	go func() {
		for {
			select {
			case <-stop:
				done <- nil
				return
			default:
			}
			if _, err := store.Add(ctx, "trails", device.Fields{"name": uuid.NewString()}); err != nil {
				done <- err
				return
			}
			saved.Add(1)
		}
	}()
	for n := range 5 {
		at := saved.Load()
		path := filepath.Join(t.TempDir(), "backup.db")
		testbed.Must(t, store.Backup(ctx, path))
		copied, err := device.Open(ctx, path, device.Options{})
		testbed.Must(t, err)
		queue, err := copied.Review(ctx)
		testbed.Must(t, err)
		found, err := copied.Find(ctx, "trails", query.Ask{Limit: 1})
		testbed.Must(t, err)
		if int64(len(queue)) < at || len(queue) != found.Total {
			t.Errorf("backup %d holds %d changes and %d records; %d were saved before it", n, len(queue), found.Total, at)
		}
		testbed.Must(t, copied.Close())
	}
	close(stop)
	testbed.Must(t, <-done)
}

// hits is how many exchanges a central has seen.
func hits(t *testing.T, bed *testbed.Bed) int {
	t.Helper()
	all, err := bed.Central.Exchanges(ctx, past.ExchangesOf{Limit: 500})
	testbed.Must(t, err)
	return len(all)
}
