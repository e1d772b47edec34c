package promises_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/device"
	"homing/internal/testbed"
)

// heard counts the requests of an exchange through a proxy, by what follows /v1/.
func heard(t *testing.T, store *device.Store, paths *[]string) (device.Summary, string) {
	t.Helper()
	*paths = nil
	summary := testbed.Exchange(t, store)
	return summary, strings.Join(*paths, " ")
}

// P2, P3, P4: an exchange in which nothing, or one edit, has happened is one request, however many collections there are; more
// follow where more has happened, and both sides hold the same in any case.
func TestP3ATripIsAnExchange(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(asking, "collection: empty\nfields:\n  text: {type: string}\n", "collection: other\nfields:\n  text: {type: string}\n")
	var paths []string
	proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		paths = append(paths, strings.TrimPrefix(r.URL.Path, "/v1/"))
		return testbed.Pass
	})
	store, other := bed.Device("worker", "tablet", device.Options{}, proxy.URL), bed.Device("lead", "other", device.Options{})
	testbed.Exchange(t, store, other)
	ridge := add(t, store, "trails", device.Fields{"name": "Ridge", "seen": 1})
	testbed.Exchange(t, store, other)
	for _, step := range []struct {
		what  string
		do    func()
		paths string
		sent  int
		got   int
	}{
		{"nothing has happened", func() {}, "trips", 0, 0},
		{"one edit", func() { edit(t, store, "trails", ridge, device.Fields{"note": "x"}) }, "trips", 1, 0},
		{"an edit that is refused", func() {
			bed.Define(asking + "access:\n  edit: \"false\"\n")
			testbed.Exchange(t, store)
			bed.Define(asking)
			testbed.Exchange(t, store)
			edit(t, store, "trails", ridge, device.Fields{"note": "y"})
			bed.Define(asking + "access:\n  edit: \"false\"\n")
		}, "trips trips", 1, 0}, // the definitions are news, and the pages come after them
		{"what was refused goes again", func() {
			bed.Define(asking)
			testbed.Exchange(t, store)
			queue, err := store.Review(ctx)
			testbed.Must(t, err)
			_, err = store.SendAgain(ctx, queue[0].Number)
			testbed.Must(t, err)
		}, "trips", 1, 0},
		{"others did something", func() {
			testbed.Exchange(t, other)
			edit(t, other, "trails", ridge, device.Fields{"note": "z"})
			add(t, other, "other", device.Fields{"text": "new"})
			testbed.Exchange(t, other)
		}, "trips report", 0, 2},
		{"both did", func() {
			edit(t, other, "trails", ridge, device.Fields{"seen": 5})
			testbed.Exchange(t, other)
			edit(t, store, "trails", ridge, device.Fields{"seen": 3})
		}, "trips", 1, 0}, // the answer brings the record
		{"more than goes into one", func() {
			for n := range 700 {
				add(t, other, "other", device.Fields{"text": strings.Repeat("long ", n%200)})
			}
			testbed.Exchange(t, other)
		}, "trips changes/other report", 0, 700},
		{"more to send than goes into one", func() {
			for range 1200 {
				add(t, store, "other", device.Fields{"text": "x"})
			}
		}, "trips batches batches trips", 1200, 0},
	} {
		step.do()
		summary, asked := heard(t, store, &paths)
		if asked != step.paths || summary.Sent != step.sent || summary.Received != step.got {
			t.Errorf("%s: it asks for %s, sends %d and gets %d; want %s, %d, %d", step.what, asked, summary.Sent, summary.Received,
				step.paths, step.sent, step.got)
		}
		devices, err := bed.Central.Devices(ctx, "worker")
		testbed.Must(t, err)
		if d := devices[0]; *d.Unsent+*d.Waiting != 0 || *d.Refused != map[bool]int64{true: 1}[step.what == "an edit that is refused"] {
			t.Errorf("%s: central knows of %d unsent, %d refused, %d waiting", step.what, *d.Unsent, *d.Refused, *d.Waiting)
		}
	}
	testbed.Exchange(t, other)
	bed.Same(store, other)
	if got := valueAt(t, bed, "trails", ridge, "seen"); got != "7" {
		t.Errorf("central counts %s", got)
	}
}

// P8: a trip dates what it carries before it has measured the clock. What was measured last counts while a clock that nobody
// turns runs on: turned by hours meanwhile, the device's own does no harm.
func TestP8ATripKnowsItsClock(t *testing.T) {
	bed := testbed.Start(t)
	skew, began, boot := 3*time.Hour, time.Now(), "one"
	store := bed.Device("worker", "tablet", device.Options{Now: func() time.Time { return time.Now().Add(skew) },
		Tick: func() (string, time.Duration) { return boot, time.Since(began) }})
	testbed.Exchange(t, store)
	id := add(t, store, "trails", device.Fields{"name": "Ridge"})
	testbed.Exchange(t, store)
	for _, step := range []struct {
		what string
		turn func()
	}{{"as before", func() {}}, {"turned back", func() { skew = -5 * time.Hour }}, {"turned forward", func() { skew = 26 * time.Hour }},
		{"started anew", func() { boot, skew = "other", time.Minute }}, {"and turned again", func() { skew = -time.Hour }}} {
		step.turn()
		what := step.what
		edit(t, store, "trails", id, device.Fields{"note": what})
		testbed.Exchange(t, store)
		listing, err := bed.Central.History(ctx, central.Everything("admin"), "trails", id)
		testbed.Must(t, err)
		if last := listing[0]; time.Since(last.EditedAt).Abs() > 20*time.Second || last.UncertaintyMS > 5000 {
			t.Errorf("%s: it was edited %v ago, give or take %d ms", what, time.Since(last.EditedAt), last.UncertaintyMS)
		}
	}
}

func edit(t *testing.T, store *device.Store, collection string, id uuid.UUID, fields device.Fields) {
	t.Helper()
	_, err := store.Edit(ctx, collection, id, fields)
	testbed.Must(t, err)
}
