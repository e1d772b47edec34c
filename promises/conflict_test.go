package promises_test

import (
	"encoding/json"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/central/fault"
	"homing/central/finding"
	"homing/device"
	"homing/internal/testbed"
)

const asking = `collection: trails
label: "{name}"
required: [name]
fields:
  name: {type: string, minLength: 1}
  state: {enum: [open, closed, unknown]}
  length_km: {type: number, minimum: 0}
  note: {type: string}
  seen: {type: integer}
  tags: {type: array, items: {type: string}, uniqueItems: true}
sync:
  rules: {state: ask, seen: sum, note: append}
`

// disputed is a trail over whose state two devices have met: a has sent open, b closed.
func disputed(t *testing.T) (bed *testbed.Bed, a, b *device.Store, id uuid.UUID) {
	t.Helper()
	bed = testbed.Start(t)
	bed.Define(asking)
	a, b = bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	id = add(t, a, "trails", device.Fields{"name": "Ridge", "seen": 10, "note": "Seen.", "tags": []string{"steep"}})
	testbed.Exchange(t, a, b)
	_, err := a.Edit(ctx, "trails", id, device.Fields{"state": "open", "seen": 12, "note": "Seen. First.",
		"tags": []string{"steep", "wet"}})
	testbed.Must(t, err)
	// How far a device's clock is off is measured to some milliseconds: which edit came first must not hang on these.
	time.Sleep(300 * time.Millisecond)
	_, err = b.Edit(ctx, "trails", id, device.Fields{"state": "closed", "seen": 11, "note": "Seen. Second.",
		"tags": []string{"icy", "steep"}, "length_km": 4})
	testbed.Must(t, err)
	testbed.Exchange(t, a)
	summary, err := b.Exchange(ctx, nil)
	testbed.Must(t, err)
	if summary.Held != 1 {
		t.Errorf("the exchange: %+v", summary)
	}
	testbed.Exchange(t, a)
	bed.Same(a, b)
	return bed, a, b, id
}

func conflicts(t *testing.T, bed *testbed.Bed) []finding.Conflict {
	t.Helper()
	all, err := bed.Central.Conflicts(ctx, central.Everything("admin"), finding.Disputed{})
	testbed.Must(t, err)
	return all
}

// P5: where the rule is to ask, nothing is overwritten: the undisputed fields go in, the disputed one waits with both
// values, who and when, and every device knows of it.
func TestP5AskHoldsBoth(t *testing.T) {
	bed, a, b, id := disputed(t)
	r, err := a.Get(ctx, "trails", id)
	testbed.Must(t, err)
	if got := string(r.Fields.JSON()); got != `{"length_km":4,"name":"Ridge","note":"Seen. First. Second.","seen":13,"state":"open","tags":["icy","steep","wet"]}` {
		t.Errorf("the record is %s", got)
	}
	all := conflicts(t, bed)
	if len(all) != 1 || all[0].Field != "state" || len(all[0].Values) != 2 || all[0].OpenedAt.IsZero() {
		t.Fatalf("open are %+v", all)
	}
	for n, want := range []struct{ value, author, device string }{{`"open"`, "worker", "a"}, {`"closed"`, "lead", "b"}} {
		if v := all[0].Values[n]; string(v.Value) != want.value || v.Author != want.author || v.Device != want.device ||
			v.EditedAt.IsZero() {
			t.Errorf("value %d is %+v", n, v)
		}
	}
	for name, store := range map[string]*device.Store{"a": a, "b": b} {
		r, err := store.Get(ctx, "trails", id)
		if err != nil || len(r.Disputes) != 1 || string(r.Disputes["state"].Others[0].Value) != `"closed"` {
			t.Errorf("device %s knows of %+v, %v", name, r.Disputes, err)
		}
	}
	history, err := bed.Central.History(ctx, central.Everything("admin"), "trails", id)
	testbed.Must(t, err)
	kept := map[string]string{}
	for _, d := range history[0].Decisions {
		kept[d.Field] = d.Rule + " " + d.Kept
	}
	if kept["state"] != "ask central" || kept["seen"] != "sum both" || kept["note"] != "append both" ||
		kept["tags"] != "union both" || !strings.Contains(string(history[0].Sent), "closed") {
		t.Errorf("the history says %v, sent %s", kept, history[0].Sent)
	}
}

// Settling is a change with an author; it reaches every device, also when it is done without signal, and a settled
// conflict is gone.
func TestSettling(t *testing.T) {
	for name, settle := range map[string]func(bed *testbed.Bed, a *device.Store, id uuid.UUID, base int64) error{
		"at central": func(bed *testbed.Bed, _ *device.Store, id uuid.UUID, base int64) error {
			status, text := bed.Call("POST", "/v1/conflicts/settlements", bed.SignIn("lead"),
				map[string]any{"collection": "trails", "record": id, "field": "state", "base": base, "value": "closed"})
			if status != 200 {
				return errors.New(string(text))
			}
			return nil
		},
		"on a device": func(_ *testbed.Bed, a *device.Store, id uuid.UUID, _ int64) error {
			_, err := a.Settle(ctx, "trails", id, "state", "closed")
			return err
		},
		"by an edit": func(_ *testbed.Bed, a *device.Store, id uuid.UUID, _ int64) error {
			_, err := a.Edit(ctx, "trails", id, device.Fields{"state": "closed"})
			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			bed, a, b, id := disputed(t)
			testbed.Must(t, settle(bed, a, id, conflicts(t, bed)[0].Revision))
			testbed.Exchange(t, a, b)
			bed.Same(a, b)
			if all := conflicts(t, bed); len(all) != 0 {
				t.Errorf("still open are %+v", all)
			}
			for n, store := range []*device.Store{a, b} {
				r, err := store.Get(ctx, "trails", id)
				if err != nil || string(r.Fields["state"]) != `"closed"` || len(r.Disputes) != 0 {
					t.Errorf("device %d shows %s with %v, %v", n, r.Fields["state"], r.Disputes, err)
				}
			}
			history, err := bed.Central.History(ctx, central.Everything("admin"), "trails", id)
			testbed.Must(t, err)
			if d := history[0].Decisions; len(d) != 1 || d[0].Rule != "settled" || history[0].Author == "" {
				t.Errorf("the history ends with %+v", history[0])
			}
			if _, err := a.Settle(ctx, "trails", id, "state", "open"); !errors.Is(err, device.ErrNoDispute) {
				t.Errorf("settled again: %v", err)
			}
		})
	}
}

// Central's own value can be confirmed; of many who settle at once, one succeeds and the others are told.
func TestSettlingAtOnce(t *testing.T) {
	bed, a, b, id := disputed(t)
	base := conflicts(t, bed)[0].Revision
	var done sync.WaitGroup
	var mu sync.Mutex
	succeeded := 0
	for n := range 6 {
		done.Go(func() {
			value := []string{`"open"`, `"closed"`, `"unknown"`}[n%3]
			_, err := bed.Central.Settle(ctx, central.Everything("admin"), "trails", id, base,
				changes.Settlement{Field: "state", Value: json.RawMessage(value)})
			mu.Lock()
			defer mu.Unlock()
			if known := fault.Explain(err); err == nil {
				succeeded++
			} else if known == nil || known.Kind != fault.Clash || !strings.Contains(known.Message, "not in dispute") {
				t.Errorf("one was told %v", err)
			}
		})
	}
	done.Wait()
	if succeeded != 1 || len(conflicts(t, bed)) != 0 {
		t.Errorf("%d settled it, %d are open", succeeded, len(conflicts(t, bed)))
	}
	// Two devices that settle it differently without signal: theirs meet, and that is a conflict again.
	late := "unknown"
	if valueAt(t, bed, "trails", id, "state") == late {
		late = "open"
	}
	_, err := a.Settle(ctx, "trails", id, "state", late)
	testbed.Must(t, err)
	testbed.Exchange(t, a, b)
	bed.Same(a, b)
	if all := conflicts(t, bed); len(all) != 1 || len(all[0].Values) != 2 {
		t.Errorf("after a late settlement open are %+v", all)
	}
	_, err = b.Settle(ctx, "trails", id, "state", "open")
	testbed.Must(t, err)
	testbed.Exchange(t, b, a)
	bed.Same(a, b)
	if all := conflicts(t, bed); len(all) != 0 {
		t.Errorf("still open are %+v", all)
	}
}

// Until central has answered, the worker sees what they wrote, also when a pull has brought what it meets.
func TestWhatIsUnsentShowsOverADispute(t *testing.T) {
	bed, a, b, id := disputed(t)
	_, err := a.Settle(ctx, "trails", id, "state", "unknown")
	testbed.Must(t, err)
	_, err = b.Settle(ctx, "trails", id, "state", "closed")
	testbed.Must(t, err)
	testbed.Exchange(t, b)
	_, err = a.Pull(ctx, nil)
	testbed.Must(t, err)
	if got := shown(t, a, "trails", id, "state"); got != "unknown" {
		t.Errorf("before it was sent, it shows %s", got)
	}
	testbed.Exchange(t, a, b)
	bed.Same(a, b)
	if got := shown(t, a, "trails", id, "state"); got != "closed" {
		t.Errorf("after it was held, it shows %s", got)
	}
}
