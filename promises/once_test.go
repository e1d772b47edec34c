package promises_test

import (
	"context"
	"encoding/json"
	"net/http"
	"reflect"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/core/change"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
	"homing/service"
	"homing/wire"
)

// P2: a batch sent again, in whole, in part, at the same time or under another id, has its effect once and gets the
// same answers.
func TestP2ABatchCountsOnce(t *testing.T) {
	bed := testbed.Start(t)
	r := newRaw(t, bed, "worker")
	id, bad := newID(), newID()
	batch := r.batch(
		r.change(1, change.Add, id, 0, map[string]string{"name": `"Ridge"`}),
		r.change(2, change.Edit, id, 0, map[string]string{"state": `"closed"`}),
		r.change(3, change.Add, bad, 0, map[string]string{"name": `7`}),
	)
	first := r.push(batch)
	if got := verdicts(first); !reflect.DeepEqual(got, []change.Verdict{change.Applied, change.Applied, change.Refused}) {
		t.Fatalf("answers %v", got)
	}
	var wait sync.WaitGroup
	for range 6 {
		wait.Go(func() {
			if again := r.push(batch); !reflect.DeepEqual(first, again) {
				t.Errorf("the same batch got other answers:\n%+v\n%+v", first, again)
			}
		})
	}
	wait.Wait()
	part := batch
	part.ID, part.Changes = newID(), batch.Changes[1:]
	if again := r.push(part); !reflect.DeepEqual(first[1:], again) {
		t.Errorf("a part of the batch got other answers:\n%+v\n%+v", first[1:], again)
	}
	if n := versions(t, bed, "trails", id); n != 2 {
		t.Errorf("%d revisions, want 2", n)
	}
}

// P2: the same batch from several connections at once, before central has ever seen it.
func TestP2SameBatchAtOnce(t *testing.T) {
	bed := testbed.Start(t)
	r := newRaw(t, bed, "worker")
	for round := range 10 {
		id := newID()
		batch := r.batch(r.change(int64(round+1), change.Add, id, 0, map[string]string{"name": `"Ridge"`}))
		answers := make([][]wire.Answer, 8)
		var wait sync.WaitGroup
		for n := range answers {
			wait.Go(func() { answers[n] = r.push(batch) })
		}
		wait.Wait()
		for _, got := range answers {
			if !reflect.DeepEqual(got, answers[0]) {
				t.Fatalf("answers differ: %+v and %+v", got, answers[0])
			}
		}
		if n := versions(t, bed, "trails", id); n != 1 {
			t.Fatalf("%d revisions, want 1", n)
		}
	}
}

// P2: requests that arrive twice on the way do no harm to a device that does not know of it.
func TestP2RequestsThatArriveTwice(t *testing.T) {
	bed := testbed.Start(t)
	proxy := testbed.NewProxy(t, bed.URL(), func(*http.Request) testbed.Fault { return testbed.Twice })
	store := bed.Device("worker", "tablet", device.Options{}, bed.URL())
	testbed.Must(t, store.MoveCentral(ctx, proxy.URL))
	testbed.Exchange(t, store)
	trail := addTrail(t, store, "Ridge")
	testbed.Exchange(t, store)
	editTrail(t, store, trail.ID, device.Fields{"state": "open"})
	testbed.Exchange(t, store)
	if n := versions(t, bed, "trails", trail.ID); n != 2 {
		t.Errorf("%d revisions, want 2", n)
	}
	bed.Same(store)
}

// P2, P10: a number that comes again with other content, as from a copied store, is refused and changes nothing.
func TestP10AReusedNumberIsRefused(t *testing.T) {
	bed := testbed.Start(t)
	r := newRaw(t, bed, "worker")
	id := newID()
	r.push(r.batch(r.change(1, change.Add, id, 0, map[string]string{"name": `"Ridge"`})))
	answers := r.push(r.batch(r.change(1, change.Edit, id, 1, map[string]string{"name": `"Other"`})))
	if answers[0].Answer != change.Refused || answers[0].Reasons[0].Code != change.CodeNumberReused {
		t.Errorf("answered %+v", answers[0])
	}
	if got := value(t, bed, id, "name"); got != `"Ridge"` {
		t.Errorf("the name is %s", got)
	}
}

// P10: a central whose database is another one is recognised before anything is sent.
func TestP10AnotherCentralIsRecognised(t *testing.T) {
	bed, other := testbed.Start(t), testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	addTrail(t, store, "Ridge")
	testbed.Must(t, store.MoveCentral(ctx, other.URL()))
	if _, err := store.Exchange(ctx, nil); !isGeneration(err) {
		t.Fatalf("the exchange said %v", err)
	}
	if status, err := store.Status(ctx); err != nil || status.Unsent != 1 {
		t.Errorf("status %+v, %v", status, err)
	}
}

// P3: a slow transaction holds back its commit while others go on. Nobody who pulls meanwhile gets past what is not
// visible yet. With numbers from a bare sequence this fails: the later number would be visible first.
func TestP3ADelayedCommitMakesNoHole(t *testing.T) {
	bed := testbed.Start(t)
	slow, quick, puller := newRaw(t, bed, "worker"), newRaw(t, bed, "lead"), newRaw(t, bed, "worker")
	db := database(t, bed)
	// A trigger that runs at commit waits for a lock that the test holds.
	db.MustExec(`CREATE FUNCTION dawdle() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
		IF NEW.author = 'worker' THEN PERFORM pg_advisory_xact_lock(42); END IF; RETURN NULL; END $$;
		CREATE CONSTRAINT TRIGGER dawdles AFTER INSERT ON versions DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION dawdle()`)
	holder, err := db.Connx(ctx)
	testbed.Must(t, err)
	defer holder.Close()
	if _, err := holder.ExecContext(ctx, `SELECT pg_advisory_lock(42)`); err != nil {
		t.Fatal(err)
	}
	first, second := newID(), newID()
	var wait sync.WaitGroup
	wait.Go(func() {
		slow.push(slow.batch(slow.change(1, change.Add, first, 0, map[string]string{"name": `"slow"`})))
	})
	testbed.Wait(t, "the slow push waits at its commit", func() bool {
		var n int
		return db.Get(&n, `SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND NOT granted`) == nil && n == 1
	})
	wait.Go(func() {
		quick.push(quick.batch(quick.change(1, change.Add, second, 0, map[string]string{"name": `"quick"`})))
	})
	cursor, seen := int64(0), map[uuid.UUID]bool{}
	look := func() {
		page := puller.pull(cursor)
		cursor = page.Cursor
		for _, r := range page.Records {
			seen[r.ID] = true
		}
	}
	for range 20 {
		look()
		time.Sleep(10 * time.Millisecond)
	}
	if _, err := holder.ExecContext(ctx, `SELECT pg_advisory_unlock(42)`); err != nil {
		t.Fatal(err)
	}
	wait.Wait()
	look()
	if !seen[first] || !seen[second] {
		t.Errorf("pulled to the head %d, but saw slow %v, quick %v", cursor, seen[first], seen[second])
	}
}

// P3: several devices push through two instances of the service on one database, while another pulls all the time. In
// the end it holds exactly what central holds.
func TestP3TwoInstancesOneDatabase(t *testing.T) {
	one := testbed.Start(t)
	two := testbed.Start(t, func(o *service.Options) { o.Database = one.Database })
	pushers := []*raw{newRaw(t, one, "worker"), newRaw(t, two, "worker"), newRaw(t, one, "lead"), newRaw(t, two, "lead")}
	puller := newRaw(t, two, "worker")
	done, cancel := context.WithCancel(ctx)
	var wait sync.WaitGroup
	shared := newID()
	for _, p := range pushers {
		wait.Go(func() {
			for n := int64(1); n <= 40; n++ {
				p.push(p.batch(p.change(2*n-1, change.Add, newID(), 0, map[string]string{"name": `"a trail"`}),
					p.change(2*n, change.Add, shared, 0, map[string]string{"name": `"shared"`,
						"length_km": json.Number(string(rune('0' + n%10))).String()})))
			}
		})
	}
	go func() { wait.Wait(); cancel() }()
	cursor, held := int64(0), map[uuid.UUID]int64{}
	pull := func() {
		page := puller.pull(cursor)
		for _, r := range page.Records {
			if r.Position <= cursor {
				t.Errorf("position %d came behind the cursor %d", r.Position, cursor)
			}
			held[r.ID] = r.Revision
		}
		cursor = page.Cursor
	}
	for done.Err() == nil {
		pull()
	}
	pull()
	if len(held) != 161 || held[shared] != 160 {
		t.Errorf("the puller holds %d records, the shared one at revision %d; want 161 and 160", len(held), held[shared])
	}
	listing, err := one.Central.List(ctx, central.Everything("admin"), "trails", query.Ask{Limit: 1})
	testbed.Must(t, err)
	if listing.Total != 161 {
		t.Errorf("central holds %d", listing.Total)
	}
}

// P3: page and cursor go together. The connection breaks at every page in turn; the load resumes and repeats nothing.
func TestP3ACutLoadResumes(t *testing.T) {
	bed := testbed.Start(t)
	filler := bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, filler)
	for range 30 {
		addTrail(t, filler, "Ridge")
	}
	testbed.Exchange(t, filler)
	pages := 0
	proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		if r.URL.Path != "/v1/changes/trails" {
			return testbed.Pass
		}
		pages++
		return []testbed.Fault{testbed.CutBefore, testbed.CutAfter, testbed.CutHalfway, testbed.Unavailable,
			testbed.Pass}[pages%5]
	})
	store := bed.Device("worker", "tablet", device.Options{}, bed.URL())
	testbed.Must(t, store.MoveCentral(ctx, proxy.URL))
	received := 0
	for try := 0; ; try++ {
		summary, err := store.Exchange(ctx, nil)
		received += summary.Received
		if err == nil {
			break
		}
		if try > 20 {
			t.Fatal(err)
		}
	}
	if received != 30 {
		t.Errorf("received %d records, want 30: none missing, none twice", received)
	}
	bed.Same(store, filler)
}
