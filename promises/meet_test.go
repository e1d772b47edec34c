package promises_test

import (
	"errors"
	"math/rand/v2"
	"reflect"
	"strconv"
	"testing"
	"time"

	"homing/central"
	"homing/core/change"
	"homing/core/query"
	"homing/core/record"
	"homing/device"
	"homing/internal/testbed"
)

func isGeneration(err error) bool { return errors.Is(err, device.ErrGeneration) }

// P4: devices edit, add and remove at random and exchange at random. When the edits stop and everyone has exchanged,
// all hold the same.
func TestP4AllConverge(t *testing.T) {
	for seed := range uint64(6) {
		t.Run(strconv.FormatUint(seed, 10), func(t *testing.T) {
			bed := testbed.Start(t)
			random := rand.New(rand.NewPCG(seed, 4))
			stores := make([]*device.Store, 4)
			for n := range stores {
				skew := time.Duration(random.IntN(7200)-3600) * time.Second
				stores[n] = bed.Device("worker", "tablet", device.Options{Now: behind(skew)})
				testbed.Exchange(t, stores[n])
			}
			for range 150 {
				store := stores[random.IntN(len(stores))]
				act(t, random, store)
				if random.IntN(5) == 0 {
					testbed.Exchange(t, store)
				}
			}
			testbed.Exchange(t, stores...)
			testbed.Exchange(t, stores...)
			bed.Same(stores...)
			for n, store := range stores {
				if status, err := store.Status(ctx); err != nil || status.Unsent+status.Refused+status.Waiting > 0 {
					t.Errorf("device %d still owes: %+v, %v", n, status, err)
				}
			}
		})
	}
}

// act does something with a record of the store, or adds one.
func act(t *testing.T, random *rand.Rand, store *device.Store) {
	t.Helper()
	found, err := store.Find(ctx, "trails", query.Ask{Limit: 100})
	testbed.Must(t, err)
	if len(found.Records) < 3 || random.IntN(6) == 0 {
		addTrail(t, store, "trail "+strconv.Itoa(random.IntN(1000)))
		return
	}
	r := found.Records[random.IntN(len(found.Records))]
	switch random.IntN(6) {
	case 0:
		testbed.Must(t, store.Remove(ctx, "trails", r.ID))
	case 1:
		editTrail(t, store, r.ID, device.Fields{"note": nil, "state": "open"})
	default:
		editTrail(t, store, r.ID, device.Fields{"note": "note " + strconv.Itoa(random.IntN(1000)),
			"length_km": random.IntN(50)})
	}
}

// P4: unsent changes are laid over what a pull brings, and a pull does not overwrite them.
func TestP4UnsentChangesStayOnTop(t *testing.T) {
	bed := testbed.Start(t)
	one, two := bed.Device("worker", "one", device.Options{}), bed.Device("lead", "two", device.Options{})
	testbed.Exchange(t, one)
	trail := addTrail(t, one, "Ridge")
	testbed.Exchange(t, one, two)
	editTrail(t, two, trail.ID, device.Fields{"state": "closed", "note": "from two"})
	testbed.Exchange(t, two)
	editTrail(t, one, trail.ID, device.Fields{"note": "from one"})
	if _, err := one.Pull(ctx, nil); err != nil {
		t.Fatal(err)
	}
	got, err := one.Get(ctx, "trails", trail.ID)
	testbed.Must(t, err)
	if string(got.Fields["note"]) != `"from one"` || string(got.Fields["state"]) != `"closed"` || got.Pending != 1 {
		t.Errorf("the device shows %s with %d pending", got.Fields.JSON(), got.Pending)
	}
	testbed.Exchange(t, one, two)
	bed.Same(one, two)
	if got := value(t, bed, trail.ID, "note"); got != `"from one"` {
		t.Errorf("the later note lost: %s", got)
	}
}

// P5, P6: of two edits of one field the later stays, and the history keeps the other with who, when, where from and
// the rule.
func TestP5TheLosingValueIsKept(t *testing.T) {
	bed := testbed.Start(t)
	one, two := bed.Device("worker", "one", device.Options{}), bed.Device("lead", "two", device.Options{})
	testbed.Exchange(t, one)
	trail := addTrail(t, one, "Ridge")
	testbed.Exchange(t, one, two)
	editTrail(t, one, trail.ID, device.Fields{"note": "earlier", "state": "open"})
	time.Sleep(20 * time.Millisecond) // by real clocks, which are measured over real requests
	editTrail(t, two, trail.ID, device.Fields{"note": "later"})
	if got := testbed.Exchange(t, two); got.Applied != 1 {
		t.Errorf("the first to come: %+v", got)
	}
	if got := testbed.Exchange(t, one); got.Merged != 1 {
		t.Errorf("the second to come: %+v", got)
	}
	testbed.Exchange(t, two)
	bed.Same(one, two)
	history, err := bed.Central.History(ctx, central.Everything("admin"), "trails", trail.ID)
	testbed.Must(t, err)
	h := history[0]
	if h.Author != "worker" || h.Device != "one" || h.Batch == nil || h.Source.Number != 2 || h.Kind != change.Edit ||
		h.Base != 1 {
		t.Errorf("the history says %+v", h)
	}
	if len(h.Decisions) != 1 || h.Decisions[0].Field != "note" || h.Decisions[0].Rule != "newest" ||
		h.Decisions[0].Kept != "central" || h.Decisions[0].Other.Revision != 2 {
		t.Errorf("decided %+v", h.Decisions)
	}
	sent, err := record.Parse(h.Sent)
	testbed.Must(t, err)
	if string(sent["note"]) != `{"to":"earlier"}` {
		t.Errorf("the lost value is kept as %s", h.Sent)
	}
	if h.EditedDevice.IsZero() || h.EditedAt.IsZero() || h.ReceivedAt.Before(h.EditedAt) {
		t.Errorf("times %v %v %v", h.EditedDevice, h.EditedAt, h.ReceivedAt)
	}
	if got := value(t, bed, trail.ID, "note"); got != `"later"` {
		t.Errorf("the note is %s", got)
	}
}

// A removal reaches everybody, and takes nobody's later edit with it.
func TestP5ARemovalTakesNoEditWithIt(t *testing.T) {
	bed := testbed.Start(t)
	one, two := bed.Device("worker", "one", device.Options{}), bed.Device("lead", "two", device.Options{})
	testbed.Exchange(t, one)
	keep, drop := addTrail(t, one, "keep"), addTrail(t, one, "drop")
	testbed.Exchange(t, one, two)
	testbed.Must(t, one.Remove(ctx, "trails", keep.ID))
	testbed.Must(t, one.Remove(ctx, "trails", drop.ID))
	editTrail(t, two, keep.ID, device.Fields{"note": "still needed"})
	testbed.Exchange(t, one, two, one)
	bed.Same(one, two)
	if got, err := one.Get(ctx, "trails", keep.ID); err != nil || string(got.Fields["note"]) != `"still needed"` ||
		string(got.Fields["name"]) != `"keep"` {
		t.Errorf("the edited record is %s, %v", got.Fields.JSON(), err)
	}
	if _, err := two.Get(ctx, "trails", drop.ID); !errors.Is(err, device.ErrNoRecord) {
		t.Errorf("the removed record is still there: %v", err)
	}
}

// P7: a bad change harms only itself and what hangs on it; the good ones around it go in.
func TestP7ABadChangeHarmsOnlyItself(t *testing.T) {
	bed := testbed.Start(t)
	r := newRaw(t, bed, "worker")
	good, bad, other := newID(), newID(), newID()
	batch := r.batch(
		r.change(1, change.Add, good, 0, map[string]string{"name": `"good"`}),
		r.change(2, change.Add, bad, 0, map[string]string{"length_km": `-1`}),
		r.change(3, change.Edit, bad, 0, map[string]string{"name": `"hangs on it"`}),
		r.change(4, change.Edit, good, 9, map[string]string{"note": `"impossible base"`}),
		r.change(5, change.Add, other, 0, map[string]string{"name": `"also good"`}),
	)
	batch.Changes = append(batch.Changes, []byte(`{"number":"six"}`),
		[]byte(`{"number":7,"collection":"trails","record":"x"}`))
	answers := r.push(batch)
	want := []change.Verdict{change.Applied, change.Refused, change.Waiting, change.Refused, change.Applied,
		change.Refused, change.Refused}
	if got := verdicts(answers); !reflect.DeepEqual(got, want) {
		t.Errorf("answers %v, want %v", got, want)
	}
	if reasons := answers[1].Reasons; len(reasons) != 2 {
		t.Errorf("a missing name and a wrong length: %+v", reasons)
	}
	if answers[3].Reasons[0].Code != change.CodeUnknownBase || answers[6].Number != 7 {
		t.Errorf("%+v", answers)
	}
}

// P7: what was refused stays on the device with its reasons, marked, and the rest of the outbox goes on.
func TestP7RefusedChangesStayWithTheirReasons(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	addTrail(t, store, "a name that will be too long")
	addTrail(t, store, "short")
	bed.Define("collection: trails\nlabel: \"{name}\"\nrequired: [name]\nfields:\n  name: {type: string, maxLength: " +
		"9}\n  state: {enum: [open, closed]}\n  length_km: {type: number}\n  note: {type: string}\n")
	if got := testbed.Exchange(t, store); got.Applied != 1 || got.Refused != 1 {
		t.Errorf("the exchange did %+v", got)
	}
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	if len(queue) != 1 || queue[0].Verdict != change.Refused || queue[0].Reasons[0].Field != "name" {
		t.Errorf("the outbox holds %+v", queue)
	}
	found, err := store.Find(ctx, "trails", query.Ask{Sort: "name", Limit: 10})
	testbed.Must(t, err)
	if found.Records[0].Refused != 1 || found.Records[1].Pending != 0 {
		t.Errorf("marks: %+v", found.Records)
	}
}

// P8: a device whose clock is hours ahead does not win against a later edit, nor one that is behind lose against an
// earlier.
func TestP8AWrongClockDoesNotDecide(t *testing.T) {
	for name, skew := range map[string]time.Duration{"two hours ahead": -2 * time.Hour,
		"two hours behind": 2 * time.Hour, "years behind": 5 * 365 * 24 * time.Hour} {
		t.Run(name, func(t *testing.T) {
			bed := testbed.Start(t)
			wrong, right := bed.Device("worker", "wrong", device.Options{Now: behind(skew)}),
				bed.Device("lead", "right", device.Options{})
			testbed.Exchange(t, wrong)
			trail := addTrail(t, wrong, "Ridge")
			testbed.Exchange(t, wrong, right)
			// The wrong clock edits note first and state last.
			editTrail(t, wrong, trail.ID, device.Fields{"note": "wrong, earlier"})
			// By real clocks: these are measured over real requests, and told apart by more than a slow one takes.
			time.Sleep(300 * time.Millisecond)
			editTrail(t, right, trail.ID, device.Fields{"note": "right, later", "state": "open"})
			time.Sleep(300 * time.Millisecond)
			editTrail(t, wrong, trail.ID, device.Fields{"state": "closed"})
			testbed.Exchange(t, wrong, right, wrong)
			bed.Same(wrong, right)
			if note, state := value(t, bed, trail.ID, "note"), value(t, bed, trail.ID, "state"); note != `"right, later"` ||
				state != `"closed"` {
				t.Errorf("note %s and state %s stayed", note, state)
			}
			devices, err := bed.Central.Devices(ctx, "worker")
			testbed.Must(t, err)
			if off := time.Duration(*devices[0].OffsetMS)*time.Millisecond - skew; off.Abs() > 5*time.Second {
				t.Errorf("the skew is shown as %d ms, want %s", *devices[0].OffsetMS, skew)
			}
		})
	}
}

// P9: everything but the exchange works while central is away.
func TestP9WithoutSignal(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{}, bed.URL())
	testbed.Exchange(t, store)
	trail := addTrail(t, store, "Ridge")
	testbed.Exchange(t, store)
	testbed.Must(t, store.MoveCentral(ctx, "http://127.0.0.1:1"))
	path := store.Path()
	testbed.Must(t, store.Close())
	store, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	defer store.Close()
	editTrail(t, store, trail.ID, device.Fields{"state": "closed"})
	second := addTrail(t, store, "Valley")
	testbed.Must(t, store.Remove(ctx, "trails", second.ID))
	if found, err := store.Find(ctx, "trails", query.Ask{Where: []string{"state=closed"}, Search: "ridge", Sort: "name",
		Limit: 10}); err != nil || found.Total != 1 {
		t.Errorf("found %+v, %v", found, err)
	}
	if queue, err := store.Review(ctx); err != nil || len(queue) != 3 {
		t.Errorf("the review shows %+v, %v", queue, err)
	}
	if _, err := store.Exchange(ctx, nil); err == nil {
		t.Error("an exchange without signal says that it worked")
	}
	testbed.Must(t, store.MoveCentral(ctx, bed.URL()))
	if got := testbed.Exchange(t, store); got.Applied != 3 {
		t.Errorf("back in signal: %+v", got)
	}
	bed.Same(store)
}

// P12: a device with an older definition keeps working, and fields that it does not know survive its edits.
func TestP12UnknownFieldsSurvive(t *testing.T) {
	bed := testbed.Start(t)
	old, fresh := bed.Device("worker", "old", device.Options{}), bed.Device("lead", "new", device.Options{})
	testbed.Exchange(t, old)
	trail := addTrail(t, old, "Ridge")
	testbed.Exchange(t, old)
	bed.Define(testbed.Trails + "  grade: {enum: [easy, hard]}\n")
	testbed.Exchange(t, fresh)
	editTrail(t, fresh, trail.ID, device.Fields{"grade": "hard"})
	testbed.Exchange(t, fresh)
	editTrail(t, old, trail.ID, device.Fields{"note": "from the old one"}) // it has not heard of grade yet
	testbed.Exchange(t, old, fresh)
	if grade, note := value(t, bed, trail.ID, "grade"), value(t, bed, trail.ID, "note"); grade != `"hard"` ||
		note != `"from the old one"` {
		t.Errorf("grade %s, note %s", grade, note)
	}
	bed.Same(old, fresh)
}

// A clock that was never set is named at once, when it can still be mended; nothing is saved with it.
func TestAClockThatWasNeverSet(t *testing.T) {
	bed := testbed.Start(t)
	clock := &watch{}
	store := bed.Device("worker", "tablet", device.Options{Now: clock.now})
	testbed.Exchange(t, store)
	clock.ahead = -20 * 365 * 24 * time.Hour
	if _, err := store.Add(ctx, "trails", device.Fields{"name": "Ridge"}); !errors.Is(err, device.ErrClock) {
		t.Errorf("the save said %v", err)
	}
	clock.ahead = 0
	addTrail(t, store, "Ridge")
	if queue, err := store.Review(ctx); err != nil || len(queue) != 1 {
		t.Errorf("%d changes, %v", len(queue), err)
	}
	testbed.Exchange(t, store)
	bed.Same(store)
}
