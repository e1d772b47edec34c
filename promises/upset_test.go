package promises_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"homing/central"
	"homing/central/changes"
	"homing/core/change"
	"homing/core/definition"
	"homing/device"
	"homing/internal/testbed"
	"homing/link"
)

// P7: a series that is added to a collection later numbers also the records that an edit or a child lets outlive
// their removal, and what comes in the same outbox goes in.
func TestP7ASeriesAddedLater(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: ways\nfields:\n  name: {type: string}\n",
		"collection: posts\nfields:\n  way: {type: string, format: uuid}\nparent: {collection: ways, field: way, "+
			"removal: remove}\n")
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	edited, parent := add(t, a, "ways", device.Fields{"name": "edited"}),
		add(t, a, "ways", device.Fields{"name": "parent"})
	testbed.Exchange(t, a, b)
	bed.Define("collection: ways\nfields:\n  name: {type: string}\n  number: {type: string, series: W-01}\n")
	_, err := b.Edit(ctx, "ways", edited, device.Fields{"name": "edited again"})
	testbed.Must(t, err)
	add(t, b, "posts", device.Fields{"way": parent.String()})
	testbed.Exchange(t, b)
	testbed.Must(t, a.Remove(ctx, "ways", edited))
	testbed.Must(t, a.Remove(ctx, "ways", parent))
	after := add(t, a, "ways", device.Fields{"name": "after"})
	if summary := testbed.Exchange(t, a); summary.Merged < 2 || summary.Refused > 0 {
		t.Errorf("%+v", summary)
	}
	testbed.Exchange(t, b, a)
	bed.Same(a, b)
	numbers := map[string]bool{}
	for _, id := range []any{valueAt(t, bed, "ways", edited, "number"), valueAt(t, bed, "ways", parent, "number"),
		valueAt(t, bed, "ways", after, "number")} {
		numbers[id.(string)] = true
	}
	if len(numbers) != 3 || numbers[""] || numbers["null"] {
		t.Errorf("the numbers are %v", numbers)
	}
}

// An empty cell takes no number away: a spreadsheet whose column of numbers is empty comes in, and each record keeps
// its own.
func TestP2AnEmptyCellTakesNoNumber(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: ways\nkey: name\nfields:\n  name: {type: string}\n  note: {type: string}\n  number: " +
		"{type: string, series: W-01}\n")
	put := func(row string) changes.Row {
		t.Helper()
		var one changes.TableRow
		testbed.Must(t, json.Unmarshal([]byte(row), &one))
		got, err := bed.Central.PutRows(ctx, central.Everything("admin"), "ways", "name", []changes.TableRow{one})
		testbed.Must(t, err)
		return got[0]
	}
	first := put(`{"name":"Ridge"}`)
	number := valueAt(t, bed, "ways", first.Record, "number")
	if again := put(`{"name":"Ridge","note":"wet","number":null}`); again.Outcome != changes.RowUpdated ||
		len(again.Reasons) > 0 {
		t.Errorf("%+v", again)
	}
	if again := put(`{"name":"Ridge","number":null}`); again.Outcome != changes.RowUnchanged {
		t.Errorf("%+v", again)
	}
	if got := valueAt(t, bed, "ways", first.Record, "number"); got != number || number == "" {
		t.Errorf("the number %q became %q", number, got)
	}
}

// P2: imports of the same keys at the same time bring each record in once, and set no series back.
func TestP2ImportsAtTheSameTime(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(
		"collection: ways\nkey: name\nfields:\n  name: {type: string}\n  number: {type: string, series: W-0001}\n",
	)
	var all sync.WaitGroup
	for n := range 4 {
		all.Go(func() {
			var rows []changes.TableRow
			for at := range 200 {
				rows = append(rows, changes.TableRow{"name": json.RawMessage(fmt.Sprintf(`"way %d"`, at)),
					"number": json.RawMessage(fmt.Sprintf(`"W-%04d"`, 100*(n+1)+at))})
			}
			if _, err := bed.Central.PutRows(ctx, central.Everything("admin"), "ways", "name", rows); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	listing, err := bed.Central.List(ctx, central.Everything("admin"), "ways", device.Ask{Limit: 1})
	testbed.Must(t, err)
	if listing.Total != 200 {
		t.Errorf("four imports of 200 ways made %d", listing.Total)
	}
	next, err := bed.Central.Direct(ctx, central.Everything("admin"),
		changes.Write{Collection: "ways", Record: newID(), Kind: change.Add, Base: -1, Fields: to("name", `"new"`)})
	testbed.Must(t, err)
	var fields map[string]string
	testbed.Must(t, json.Unmarshal(next.Record.Fields, &fields))
	if fields["number"] != "W-0600" {
		t.Errorf("behind W-0599 comes %s", fields["number"])
	}
	for range 2 { // a text that reads null is a key like any other
		rows, err := bed.Central.PutRows(ctx, central.Everything("admin"), "ways", "name",
			[]changes.TableRow{{"name": json.RawMessage(`"null"`)}})
		testbed.Must(t, err)
		if listing, err = bed.Central.List(ctx, central.Everything("admin"), "ways",
			device.Ask{Where: []string{"name=null"}}); err != nil || listing.Total != 1 {
			t.Errorf("%+v: there are %d ways called null, %v", rows, listing.Total, err)
		}
	}
}

// P12: a rename reaches what is unsent: a child finds its parent by the field's old name, the value shows under the
// new name at once, and devices agree.
func TestP12RenamedWhileUnsent(t *testing.T) {
	bed := testbed.Start(t)
	const ways = "collection: ways\nfields:\n  name: {type: string}\n"
	posts := func(field, note, carry string) string {
		return "collection: posts\nfields:\n  " + field + ": {type: string, format: uuid}\n  " + note +
			": {type: string}\nparent: {collection: ways, field: " + field + ", removal: keep}\n" + carry
	}
	bed.Define(ways, posts("way", "note", ""))
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	way := add(t, a, "ways", device.Fields{"name": "Ridge"})
	post := add(t, a, "posts", device.Fields{"way": way.String(), "note": "first"})
	testbed.Exchange(t, a, b)
	child := add(t, a, "posts", device.Fields{"way": way.String(), "note": "unsent"})
	_, err := a.Edit(ctx, "posts", post, device.Fields{"note": "second"})
	testbed.Must(t, err)
	bed.Define(posts("path", "remark", "carry: {rename: {way: path, note: remark}}\n"))
	if _, err := a.Pull(ctx, nil); err != nil { // the definition comes, and nothing is sent
		t.Fatal(err)
	}
	if got := shown(t, a, "posts", child, "remark"); got != "unsent" {
		t.Errorf("under the new name, it shows %q", got)
	}
	if summary := testbed.Exchange(t, a); summary.Waiting+summary.Refused > 0 || summary.Sent != 2 {
		t.Errorf("%+v", summary)
	}
	testbed.Exchange(t, b, a)
	bed.Same(a, b)
	if got := valueAt(t, bed, "posts", post, "remark") + valueAt(t, bed, "posts", child,
		"path"); got != "second"+way.String() {
		t.Errorf("central has %s", got)
	}
}

// cut is a network over which one request gets through, and no more.
type cut struct{ asked bool }

func (c *cut) RoundTrip(r *http.Request) (*http.Response, error) {
	if c.asked {
		return nil, errors.New("no signal")
	}
	c.asked = true
	return http.DefaultTransport.RoundTrip(r)
}

// P12, P5: an exchange brings the definition and breaks off. What is here already shows under the new name, so that
// nobody takes a field for empty that is only called otherwise.
func TestP12RenamedAndBrokenOff(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: ways\nfields:\n  note: {type: string}\n  memo: {type: string, local: true}\n")
	path := filepath.Join(t.TempDir(), "store.db")
	store, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	testbed.Must(t, store.Enrol(ctx, bed.URL(), bed.Code("worker"), "tablet"))
	testbed.Exchange(t, store)
	way := add(t, store, "ways", device.Fields{"note": "first", "memo": "mine"})
	testbed.Exchange(t, store)
	testbed.Must(t, store.Close())
	bed.Define("collection: ways\nfields:\n  remark: {type: string}\n  own: {type: string, local: true}\n" +
		"carry: {rename: {note: remark, memo: own}}\n")
	store, err = device.Open(ctx, path, device.Options{Transport: &cut{}})
	testbed.Must(t, err)
	if _, err := store.Exchange(ctx, nil); !errors.Is(err, link.ErrUnreachable) {
		t.Fatalf("the exchange says %v", err)
	}
	if remark, own := shown(t, store, "ways", way, "remark"), shown(t, store, "ways", way, "own"); remark != "first" ||
		own != "mine" {
		t.Errorf("it shows %v and %v", remark, own)
	}
	_, err = store.Edit(ctx, "ways", way, device.Fields{"remark": "second"})
	testbed.Must(t, err)
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	if len(queue) != 1 || string(queue[0].Fields["remark"].From) != `"first"` {
		t.Errorf("what is unsent: %+v", queue)
	}
	testbed.Must(t, store.Close())
	store, err = device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	defer store.Close()
	testbed.Exchange(t, store)
	bed.Same(store)
	if got := valueAt(t, bed, "ways", way, "remark"); got != "second" {
		t.Errorf("central has %s", got)
	}
}

// P7, P12: what was refused since the definition has changed can be mended: the good fields get in, though the others
// are gone.
func TestP7MendedAfterTheDefinitionChanged(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: ways\nfields:\n  name: {type: string}\n  old: {type: string}\n  length: {type: string}\n")
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	id := add(t, store, "ways", device.Fields{"name": "Ridge", "old": "gone soon", "length": "long"})
	bed.Define("collection: ways\nfields:\n  name: {type: string}\n  length: {type: number}\n")
	if summary := testbed.Exchange(t, store); summary.Refused != 1 {
		t.Fatalf("%+v", summary)
	}
	if _, err := store.Edit(ctx, "ways", id, device.Fields{"length": 4.5}); err != nil {
		t.Fatal(err)
	}
	if summary := testbed.Exchange(t, store); summary.Applied != 1 {
		queue, _ := store.Review(ctx)
		t.Fatalf("%+v, %+v", summary, queue)
	}
	if got := valueAt(t, bed, "ways", id, "name") + valueAt(t, bed, "ways", id, "length"); got != "Ridge4.5" {
		t.Errorf("central has %s", got)
	}
	bed.Same(store)
}

// P7: a group with two bad members is mended one after the other, goes again as one, and leaves nothing behind.
func TestP7AGroupWithTwoBadMembers(t *testing.T) {
	bed := testbed.Start(t)
	const ways = "collection: ways\nfields:\n  name: {type: string}\n  length: {type: number}\n"
	bed.Define(ways)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	var members []device.Record
	testbed.Must(t, store.Group(ctx, func(g *device.Group) error {
		for _, name := range []string{"one", "two", "three"} {
			r, err := g.Add("ways", device.Fields{"name": name, "length": 5})
			if err != nil {
				return err
			}
			members = append(members, r)
		}
		return nil
	}))
	bed.Define("collection: ways\naccess: {add: after.length < 5.0 || after.name == \"three\"}\nfields:\n  name: " +
		"{type: string}\n  length: {type: number}\n")
	if _, err := store.Push(ctx, nil); err != nil {
		t.Fatal(err)
	}
	for _, r := range members[:2] {
		if _, err := store.Edit(ctx, "ways", r.ID, device.Fields{"length": 4}); err != nil {
			t.Fatal(err)
		}
	}
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	if len(queue) != 3 {
		t.Errorf("%d changes are queued: %+v", len(queue), queue)
	}
	if summary := testbed.Exchange(t, store); summary.Applied != 3 || summary.Refused+summary.Waiting > 0 {
		t.Errorf("%+v", summary)
	}
	bed.Same(store)
}

// P1: a record that is edited more often than one change may stand for goes in all the same.
func TestP1ManyEditsOfOneRecord(t *testing.T) {
	bed := testbed.Start(t)
	hand := newRaw(t, bed, "worker")
	id := newID()
	folds := make([]int64, change.MaxFolds+1)
	for n := range folds {
		folds[n] = int64(n + 1)
	}
	one := hand.change(int64(len(folds)+1), change.Add, id, 0, map[string]string{"name": `"Ridge"`})
	one.Folds = folds
	if got := hand.push(hand.batch(one))[0]; got.Answer != change.Refused {
		t.Errorf("more folds than there may be: %+v", got)
	}
	one.Folds = folds[1:]
	if got := hand.push(hand.batch(one))[0]; got.Answer != change.Applied {
		t.Errorf("as many folds as there may be: %+v", got)
	}
}

// P1, P7: people define while devices push, and neither waits for the other in a circle: all goes in, and quickly.
func TestP7DefiningWhilePushing(t *testing.T) {
	bed := testbed.Start(t)
	source := func(n int) definition.Definition {
		return read(t, testbed.Trails+fmt.Sprintf("  extra: {type: string, title: \"%d\"}\ncarry: {default: {extra: "+
			"\"%d\"}}\n", n, n))
	}
	const devices, rounds = 3, 12
	stores := make([]*device.Store, devices)
	for n := range stores {
		stores[n] = bed.Device("worker", fmt.Sprintf("tablet %d", n), device.Options{})
		testbed.Exchange(t, stores[n])
		for at := range 20 {
			addTrail(t, stores[n], fmt.Sprintf("trail %d of %d", at, n))
		}
		testbed.Exchange(t, stores[n])
	}
	testbed.Exchange(t, stores...)
	began := time.Now()
	var all sync.WaitGroup
	for n, store := range stores {
		all.Go(func() {
			for round := range rounds {
				found, err := store.Find(ctx, "trails", device.Ask{Limit: 60})
				if err != nil {
					t.Error(err)
					return
				}
				for _, r := range found.Records {
					if _, err := store.Edit(ctx, "trails", r.ID, device.Fields{"note": fmt.Sprintf("%d in round %d", n,
						round)}); err != nil {
						t.Error(err)
						return
					}
				}
				if _, err := store.Exchange(ctx, nil); err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	all.Go(func() {
		for n := range rounds {
			if _, err := bed.Central.Define(ctx, "admin", []definition.Definition{source(n)}); err != nil {
				t.Error(err)
			}
		}
	})
	all.Wait()
	db := database(t, bed)
	var deadlocks int
	testbed.Must(t, db.Get(&deadlocks, `SELECT deadlocks FROM pg_stat_database WHERE datname = current_database()`))
	if deadlocks > 0 {
		t.Errorf("%d deadlocks in %s", deadlocks, time.Since(began))
	}
	testbed.Exchange(t, stores...)
	testbed.Exchange(t, stores...)
	bed.Same(stores...)
}
