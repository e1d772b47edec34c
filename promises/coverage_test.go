package promises_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/fault"
	"homing/core/change"
	"homing/core/coverage"
	"homing/core/definition"
	"homing/core/period"
	"homing/core/record"
	"homing/device"
	"homing/internal/testbed"
	"homing/wire"
)

const visitedHuts = `
collection: huts
label: "{name}"
key: name
fields:
  name: {type: string}
  crew: {type: string}
  shut_since: {type: string, format: date}
sync: {territory: record.crew}
`

const visits = `
collection: visits
label: "{week}"
required: [hut, week, water]
fields:
  hut: {type: string, format: uuid, reference: huts}
  week: {type: string, period: week}
  water: {enum: [runs, dry]}
  guests: {type: integer}
  faults: {type: array, items: {type: string}, uniqueItems: true}
  remarks: {type: string}
  done_by: {type: string}
coverage:
  place: hut
  period: week
  expected: {where: record.shut_since == null || period.first < record.shut_since, due: 3 days}
  complete: done_by
sync: {rules: {guests: max, remarks: append}}
`

// hutAt adds a hut at central, of the crew that is north or south.
func hutAt(t *testing.T, bed *testbed.Bed, name, crew string) uuid.UUID {
	t.Helper()
	id := newID()
	rows, err := bed.Central.PutRows(ctx, central.Everything("admin"), "huts", "", []map[string]json.RawMessage{{"homing_id": text(id.String()), "name": text(name), "crew": text(crew)}})
	testbed.Must(t, err)
	if rows[0].Outcome != "added" {
		t.Fatalf("%s: %+v", name, rows[0])
	}
	return id
}

func text(value string) json.RawMessage { return json.RawMessage(fmt.Sprintf("%q", value)) }

// weekOf is the week so many before or after the one that is now.
func weekOf(n int) string { return period.Of(period.Week, time.Now()).Plus(n).String() }

// visitsAt are central's records of visits, by id.
func visitsAt(t *testing.T, bed *testbed.Bed) map[uuid.UUID]map[string]any {
	t.Helper()
	token := bed.SignIn("admin")
	status, body := bed.Call("GET", "/v1/records/visits?limit=1000", token, nil)
	var listing struct {
		Records []struct {
			ID     uuid.UUID
			Fields map[string]any
		}
	}
	if err := json.Unmarshal(body, &listing); err != nil || status != http.StatusOK {
		t.Fatalf("visits: %d %s", status, body)
	}
	all := map[uuid.UUID]map[string]any{}
	for _, r := range listing.Records {
		all[r.ID] = r.Fields
	}
	return all
}

// P2, P4, P5: two crews add the same hut and week without signal. They have added one record, through lost and doubled answers; what both said
// follows the rules, and what lost is in the history.
func TestP2OneForEachPlaceAndPeriod(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(visitedHuts, visits)
	gale := hutAt(t, bed, "Gale Hut", "north")
	proxy := testbed.NewProxy(t, bed.URL(), testbed.InTurn(testbed.CutAfter, testbed.Twice, testbed.CutHalfway, testbed.CutBefore))
	a, b := bed.Device("worker", "tablet", device.Options{}, proxy.URL), bed.Device("lead", "phone", device.Options{}, proxy.URL)
	for _, store := range []*device.Store{a, b} {
		testbed.Exchange(t, store)
	}
	week := weekOf(0)
	mine := add(t, a, "visits", device.Fields{"hut": gale.String(), "week": week, "water": "runs", "guests": 7, "faults": []string{"stove"}, "remarks": "By a. "})
	time.Sleep(300 * time.Millisecond) // what clocks cannot tell apart may come out either way
	theirs := add(t, b, "visits", device.Fields{"hut": gale.String(), "week": week, "water": "dry", "guests": 4, "faults": []string{"roof"}, "remarks": "By b. "})
	if mine != theirs || mine.Version() != 5 {
		t.Fatalf("the two are %s and %s", mine, theirs)
	}
	_, err := a.Add(ctx, "visits", device.Fields{"hut": gale.String(), "week": week})
	var invalid *device.InvalidError
	if !errors.As(err, &invalid) || invalid.Reasons[0].Code != change.CodeKeyTaken || !strings.Contains(invalid.Reasons[0].Message, mine.String()) {
		t.Errorf("a second one on the same device: %v", err)
	}
	for range 6 {
		_, errA := a.Exchange(ctx, nil)
		_, errB := b.Exchange(ctx, nil)
		if errA == nil && errB == nil {
			break
		}
	}
	testbed.Exchange(t, a, b, a)
	bed.Same(a, b)
	all := visitsAt(t, bed)
	got, err := json.Marshal(all[mine])
	testbed.Must(t, err)
	want := fmt.Sprintf(`{"faults":["roof","stove"],"guests":7,"hut":%q,"remarks":"By a. By b. ","water":"dry","week":%q}`, gale, week)
	if len(all) != 1 || string(got) != want {
		t.Errorf("central has %d, the one is %s, want %s", len(all), got, want)
	}
	history, err := bed.Central.History(ctx, central.Everything("admin"), "visits", mine)
	testbed.Must(t, err)
	whole, err := json.Marshal(history)
	testbed.Must(t, err)
	if len(history) != 2 || !strings.Contains(string(whole), `"field":"water","rule":"newest","kept":"change"`) {
		t.Errorf("the history has %d versions: %s", len(history), whole)
	}
}

// P1, P5: what somebody's add says of nothing takes nothing from what another has said of it, in an add or in an edit of that, whichever was made later and
// whichever comes first.
func TestP1AnAddTakesNothingThatItLeavesOut(t *testing.T) {
	for _, first := range []int{0, 1} {
		bed := testbed.Start(t)
		bed.Define(visitedHuts, visits)
		gale := hutAt(t, bed, "Gale Hut", "north")
		a, b := bed.Device("worker", "tablet", device.Options{}), bed.Device("lead", "phone", device.Options{})
		testbed.Exchange(t, a, b)
		at := device.Fields{"hut": gale.String(), "week": weekOf(0), "water": "dry"}
		id := add(t, a, "visits", at)
		_, err := a.Edit(ctx, "visits", id, device.Fields{"guests": 7})
		testbed.Must(t, err)
		_, err = a.Edit(ctx, "visits", id, device.Fields{"faults": []string{"stove"}, "water": "runs"})
		testbed.Must(t, err)
		_, err = a.Complete(ctx, "visits", id)
		testbed.Must(t, err)
		add(t, b, "visits", device.Fields{"hut": gale.String(), "week": weekOf(0), "remarks": "Later. "})
		stores := []*device.Store{a, b}
		testbed.Exchange(t, stores[first], stores[1-first], stores[first])
		bed.Same(a, b)
		got, err := json.Marshal(visitsAt(t, bed)[id])
		testbed.Must(t, err)
		want := fmt.Sprintf(`{"done_by":"worker","faults":["stove"],"guests":7,"hut":%q,"remarks":"Later. ","water":"runs","week":%q}`, gale, weekOf(0))
		if string(got) != want {
			t.Errorf("with %d first the record is %s, want %s", first, got, want)
		}
	}
}

// P2, P4: many devices that add the same at once, and more than once, make one each.
func TestP2ManyAddTheSameAtOnce(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(visitedHuts, visits)
	huts := []uuid.UUID{hutAt(t, bed, "Gale Hut", "north"), hutAt(t, bed, "Arn Hut", "south")}
	var stores []*device.Store
	for n := range 6 {
		stores = append(stores, bed.Device("lead", fmt.Sprint("phone ", n), device.Options{}))
		testbed.Exchange(t, stores[n])
	}
	var wait sync.WaitGroup
	for n, store := range stores {
		for _, hut := range huts {
			for back := range 3 {
				add(t, store, "visits", device.Fields{"hut": hut.String(), "week": weekOf(-back), "guests": n, "water": "runs"})
			}
		}
		wait.Go(func() {
			if _, err := store.Exchange(ctx, nil); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	testbed.Exchange(t, stores...)
	testbed.Exchange(t, stores...)
	bed.Same(stores...)
	if log := bed.Log.String(); strings.Contains(log, "not stored at once") {
		t.Error("that others add the same is taken for a fault")
	}
	all := visitsAt(t, bed)
	if len(all) != 6 {
		t.Errorf("central has %d visits, want one for each of 2 huts and 3 weeks", len(all))
	}
	for id, fields := range all {
		if fields["guests"] != 5.0 {
			t.Errorf("%s counts %v guests, want the most that anybody saw", id, fields["guests"])
		}
	}
}

// A record that was removed is begun anew by who adds it again: nothing of what it said comes back by itself, wherever the removal is by then.
func TestRemovedAndAddedAgain(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(visitedHuts, visits)
	gale := hutAt(t, bed, "Gale Hut", "north")
	a, b := bed.Device("worker", "tablet", device.Options{}), bed.Device("lead", "phone", device.Options{})
	testbed.Exchange(t, a, b)
	first := device.Fields{"hut": gale.String(), "week": weekOf(0), "remarks": "Wrong hut. ", "guests": 90}
	again := device.Fields{"hut": gale.String(), "week": weekOf(0), "water": "runs"}
	id := add(t, a, "visits", first)
	testbed.Exchange(t, a, b)
	testbed.Must(t, a.Remove(ctx, "visits", id))
	if back := add(t, a, "visits", again); back != id { // before central hears of the removal
		t.Errorf("it comes back as %s, want %s", back, id)
	}
	check := func(how string) {
		t.Helper()
		testbed.Exchange(t, a, b)
		testbed.Exchange(t, a, b)
		bed.Same(a, b)
		if fields := visitsAt(t, bed)[id]; fields["remarks"] != nil || fields["guests"] != nil || fields["water"] != "runs" {
			t.Errorf("%s: it says %v", how, fields)
		}
	}
	check("added again before the removal was sent")
	testbed.Must(t, b.Remove(ctx, "visits", id))
	testbed.Exchange(t, b, a)
	if all := visitsAt(t, bed); len(all) != 0 {
		t.Fatalf("it is still there: %v", all)
	}
	add(t, a, "visits", again)
	check("added again after everybody heard of the removal")
	_, err := b.Edit(ctx, "visits", id, device.Fields{"guests": 3, "remarks": "Before it went. "})
	testbed.Must(t, err)
	testbed.Exchange(t, b, a)
	testbed.Must(t, a.Remove(ctx, "visits", id))
	testbed.Exchange(t, a) // and b, who does not know, has it still
	c := bed.Device("lead", "second phone", device.Options{})
	testbed.Exchange(t, c)
	add(t, c, "visits", again)
	testbed.Exchange(t, c)
	check("added again by somebody who never saw it")
}

// What is required is asked for when a record is marked complete, and not before. Who knows that it is complete opens it again first, if they may; who
// does not know loses nothing.
func TestARecordIsMarkedComplete(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(visitedHuts, visits)
	gale := hutAt(t, bed, "Gale Hut", "north")
	testbed.Must(t, bed.Central.AddWorker(ctx, "second", "worker", testbed.Password, "*"))
	a, b := bed.Device("worker", "tablet", device.Options{}), bed.Device("second", "phone", device.Options{})
	testbed.Exchange(t, a, b)
	id := add(t, a, "visits", device.Fields{"hut": gale.String(), "week": weekOf(0)})
	testbed.Exchange(t, a, b)
	reasons := func(err error) string {
		var invalid *device.InvalidError
		if errors.As(err, &invalid) {
			return invalid.Reasons[0].Field + " " + invalid.Reasons[0].Code
		}
		return fmt.Sprint(err)
	}
	if _, err := a.Complete(ctx, "visits", id); reasons(err) != "water missing" {
		t.Errorf("complete without water: %v", err)
	}
	if _, err := a.Edit(ctx, "visits", id, device.Fields{"done_by": "worker"}); reasons(err) != "done_by read-only" {
		t.Errorf("the mark set as a field: %v", err)
	}
	if _, err := a.Edit(ctx, "visits", id, device.Fields{"week": weekOf(-1)}); reasons(err) != "week read-only" {
		t.Errorf("another week: %v", err)
	}
	_, err := a.Edit(ctx, "visits", id, device.Fields{"water": "runs"})
	testbed.Must(t, err)
	_, err = a.Complete(ctx, "visits", id)
	testbed.Must(t, err)
	if _, err := a.Edit(ctx, "visits", id, device.Fields{"guests": 1}); reasons(err) != " complete" {
		t.Errorf("an edit of a complete record: %v", err)
	}
	if err := a.Remove(ctx, "visits", id); reasons(err) != " complete" {
		t.Errorf("a removal of a complete record: %v", err)
	}
	_, err = b.Edit(ctx, "visits", id, device.Fields{"guests": 12}) // it is not complete there
	testbed.Must(t, err)
	testbed.Exchange(t, a, b, a)
	bed.Same(a, b)
	if fields := visitsAt(t, bed)[id]; fields["guests"] != 12.0 || fields["done_by"] != "worker" {
		t.Errorf("an edit by who did not know is lost, or the mark is: %v", fields)
	}
	if _, err := b.Reopen(ctx, "visits", id); !errors.Is(err, device.ErrNotAllowed) {
		t.Errorf("another worker opens it again: %v", err)
	}
	// Whoever sends what no device of ours would is refused at central, by the same rules.
	r := newRaw(t, bed, "second")
	now, err := bed.Central.Record(ctx, central.Everything("admin"), "visits", id)
	testbed.Must(t, err)
	number := int64(0)
	push := func(kind change.Kind, at uuid.UUID, base int64, values map[string]string) wire.Answer {
		t.Helper()
		number++
		ch := r.change(number, kind, at, base, values)
		ch.Collection = "visits"
		return r.push(r.batch(ch))[0]
	}
	refused := func(what, code string, answer wire.Answer) {
		t.Helper()
		if answer.Answer != change.Refused || answer.Reasons[0].Code != code {
			t.Errorf("%s: %+v", what, answer)
		}
	}
	refused("an edit of a complete record", change.CodeComplete, push(change.Edit, id, now.Revision, map[string]string{"guests": `99`}))
	refused("a removal of a complete record", change.CodeComplete, push(change.Remove, id, now.Revision, nil))
	refused("opened by who may not", change.CodeNotAllowed, push(change.Edit, id, now.Revision, map[string]string{"done_by": `null`}))
	c, err := bed.Central.Collection(ctx, "visits")
	testbed.Must(t, err)
	second, _ := c.OneID(record.Fields{"hut": text(gale.String()), "week": text(weekOf(-1))})
	at := map[string]string{"hut": `"` + gale.String() + `"`, "week": `"` + weekOf(-1) + `"`}
	forged := map[string]string{"hut": at["hut"], "week": at["week"], "water": `"dry"`, "done_by": `"worker"`}
	refused("a mark in the name of somebody else", change.CodeNotAllowed, push(change.Add, second, 0, forged))
	refused("a mark of what lacks something", change.CodeMissing, push(change.Add, second, 0, map[string]string{"hut": at["hut"], "week": at["week"], "done_by": `"second"`}))
	refused("no week", change.CodeInvalidValue, push(change.Add, newID(), 0, map[string]string{"hut": at["hut"], "week": `"2026-W54"`}))
	_, err = a.Reopen(ctx, "visits", id)
	testbed.Must(t, err)
	_, err = a.Edit(ctx, "visits", id, device.Fields{"guests": 13})
	testbed.Must(t, err)
	testbed.Exchange(t, a, b)
	if fields := visitsAt(t, bed)[id]; fields["guests"] != 13.0 || fields["done_by"] != nil {
		t.Errorf("after it was opened again: %v", fields)
	}
	lead := bed.SignIn("lead")
	for _, one := range []struct {
		method string
		status int
	}{{"PUT", 200}, {"DELETE", 200}} {
		if status, body := bed.Call(one.method, "/v1/complete/visits/"+id.String(), lead, nil); status != one.status {
			t.Errorf("%s by a lead at central: %d %s", one.method, status, body)
		}
	}
	if status, body := bed.Call("PUT", "/v1/complete/huts/"+gale.String(), lead, nil); status != 400 && status != 422 || !strings.Contains(string(body), "not marked complete") {
		t.Errorf("a hut marked complete: %d %s", status, body)
	}
}

// P2: an id that does not follow from place and period, as a device with an older definition makes one, stands for the place and period as
// well; there is never a second.
func TestP2OtherIDsForThePlaceAndPeriod(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(visitedHuts, visits)
	gale := hutAt(t, bed, "Gale Hut", "north")
	a := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, a)
	id := add(t, a, "visits", device.Fields{"hut": gale.String(), "week": weekOf(0), "guests": 3})
	r := newRaw(t, bed, "lead")
	stray := func(number int64, week string) change.Change {
		ch := r.change(number, change.Add, newID(), 0, map[string]string{"hut": `"` + gale.String() + `"`, "week": `"` + week + `"`, "guests": `5`})
		ch.Collection = "visits"
		return ch
	}
	ch := stray(1, weekOf(0))
	if answer := r.push(r.batch(ch))[0]; answer.Answer != change.Applied {
		t.Fatalf("the first: %+v", answer)
	}
	testbed.Exchange(t, a)
	queue, err := a.Review(ctx)
	testbed.Must(t, err)
	if len(queue) != 1 || queue[0].Reasons[0].Code != change.CodeKeyTaken {
		t.Fatalf("the second is %+v", queue)
	}
	united, err := a.Unite(ctx, queue[0].Number, []string{"guests"}, t.TempDir()+"/given-up")
	testbed.Must(t, err)
	testbed.Exchange(t, a)
	bed.Same(a)
	if all := visitsAt(t, bed); len(all) != 1 || united.ID != ch.Record || all[ch.Record]["guests"] != 5.0 && all[ch.Record]["guests"] != 3.0 {
		t.Errorf("united they are %v, not %s and not %s", all, ch.Record, id)
	}
	// At once: whichever of the two comes first, the other is refused.
	for n := range 5 {
		week := weekOf(-1 - n)
		add(t, a, "visits", device.Fields{"hut": gale.String(), "week": week})
		batch := r.batch(stray(int64(2+n), week))
		var wait sync.WaitGroup
		wait.Go(func() { r.push(batch) })
		wait.Go(func() {
			if _, err := a.Exchange(ctx, nil); err != nil {
				t.Error(err)
			}
		})
		wait.Wait()
	}
	cells := map[any]int{}
	for _, fields := range visitsAt(t, bed) {
		cells[fields["week"]]++
	}
	for week, n := range cells {
		if n != 1 {
			t.Errorf("%v has %d records", week, n)
		}
	}
	if len(cells) != 6 {
		t.Errorf("there are %v", cells)
	}
}

// P10, P2: central is restored to before a record was added. Both who added it offer it again, and it is one.
func TestP10OneForEachAfterARestore(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(visitedHuts, visits)
	gale := hutAt(t, bed, "Gale Hut", "north")
	a, b := bed.Device("worker", "tablet", device.Options{}), bed.Device("lead", "phone", device.Options{})
	testbed.Exchange(t, a, b)
	backup := backUp(t, bed)
	id := add(t, a, "visits", device.Fields{"hut": gale.String(), "week": weekOf(0), "water": "runs", "remarks": "By a. "})
	time.Sleep(300 * time.Millisecond) // what clocks cannot tell apart may come out either way
	add(t, b, "visits", device.Fields{"hut": gale.String(), "week": weekOf(0), "remarks": "By b. "})
	testbed.Exchange(t, a, b, a)
	_, err := a.Complete(ctx, "visits", id)
	testbed.Must(t, err)
	testbed.Exchange(t, a, b)
	bed = putBack(t, bed, backup, a, b)
	testbed.Exchange(t, b, a)
	testbed.Exchange(t, b, a)
	bed.Same(a, b)
	all := visitsAt(t, bed)
	if len(all) != 1 || all[id]["done_by"] != "worker" || all[id]["remarks"] != "By a. By b. " {
		t.Errorf("after the restore: %v", all)
	}
}

// coverageOf asks central for a grid.
func coverageOf(t *testing.T, bed *testbed.Bed, worker, ask string) (grid coverage.Grid) {
	t.Helper()
	status, body := bed.Call("GET", "/v1/coverage/visits?"+ask, bed.SignIn(worker), nil)
	if err := json.Unmarshal(body, &grid); err != nil || status != http.StatusOK {
		t.Fatalf("coverage for %s, %s: %d %s", worker, ask, status, body)
	}
	return grid
}

// P11: the grid says who has reported and who has not, what is late and by whom, to who may see it; a device says the same of what its worker
// covers, without signal.
func TestP11TheGrid(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(visitedHuts, visits)
	arn, gale, south := hutAt(t, bed, "Arn Hut", "north"), hutAt(t, bed, "Gale Hut", "north"), hutAt(t, bed, "SECRET Hut", "south")
	testbed.Must(t, bed.Central.HoldTerritories(ctx, "worker", []string{"north"}))
	testbed.Must(t, bed.Central.HoldTerritories(ctx, "reader", []string{"north"}))
	store, lead := bed.Device("worker", "tablet", device.Options{}), bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, store, lead)
	_, err := lead.Edit(ctx, "huts", arn, device.Fields{"shut_since": period.Of(period.Week, time.Now()).First().Format(time.DateOnly)})
	testbed.Must(t, err)
	begun := add(t, store, "visits", device.Fields{"hut": gale.String(), "week": weekOf(-3)})
	done := add(t, store, "visits", device.Fields{"hut": gale.String(), "week": weekOf(0), "water": "runs"})
	late := add(t, store, "visits", device.Fields{"hut": arn.String(), "week": weekOf(-3), "water": "runs"})
	other := add(t, lead, "visits", device.Fields{"hut": south.String(), "week": weekOf(0), "water": "dry"})
	for _, id := range []uuid.UUID{done, late} {
		_, err := store.Complete(ctx, "visits", id)
		testbed.Must(t, err)
	}
	_, err = lead.Complete(ctx, "visits", other)
	testbed.Must(t, err)
	testbed.Exchange(t, store, lead, store)
	ask := "from=" + weekOf(-3) + "&until=" + weekOf(0)
	grid := coverageOf(t, bed, "lead", ask)
	row := func(g coverage.Grid, label string) string {
		for _, one := range g.Places {
			if one.Label == label {
				var cells []string
				for _, cell := range one.Cells {
					switch {
					case cell == nil:
						cells = append(cells, "-")
					case cell.Late:
						cells = append(cells, string(cell.State)+"!")
					default:
						cells = append(cells, string(cell.State))
					}
				}
				return strings.Join(cells, " ")
			}
		}
		return "not there"
	}
	// Monday to Wednesday, the week before can still come in time.
	last := "missing!"
	if !time.Now().After(period.Of(period.Week, time.Now()).First().AddDate(0, 0, 3)) {
		last = "missing"
	}
	for label, want := range map[string]string{"Arn Hut": "complete! missing! " + last + " -", "Gale Hut": "begun! missing! " + last + " complete",
		"SECRET Hut": "missing! missing! " + last + " complete"} {
		if got := row(grid, label); got != want {
			t.Errorf("%s: %s, want %s", label, got, want)
		}
	}
	if cell := grid.Places[1].Cells[3]; cell.By != "worker" || *cell.Record != done || time.Since(cell.At) > time.Minute {
		t.Errorf("who completed it and when: %+v", cell)
	}
	if s := grid.Sums; s.Expected != 11 || s.Complete != 3 || s.Begun != 1 || s.Missing != 7 || s.CompletedLate != 1 {
		t.Errorf("the sums are %+v", s)
	}
	if s := grid.Periods[0]; s.Expected != 3 || s.Begun != 1 || s.CompletedLate != 1 || s.Late != 2 {
		t.Errorf("the first week is %+v", s)
	}
	if grid.Territories["north"].Expected != 7 || grid.Territories["south"].Complete != 1 || grid.Workers["worker"].Expected != 7 || grid.Workers["worker"].Marked != 2 {
		t.Errorf("by territory %+v, by worker %+v", grid.Territories, grid.Workers)
	}
	if only := coverageOf(t, bed, "lead", ask+"&worker=worker&state=begun"); only.Total != 1 || only.Sums.Expected != 7 || only.Places[0].Label != "Gale Hut" {
		t.Errorf("what the worker covers and is begun: %+v", only)
	}
	if only := coverageOf(t, bed, "lead", ask+"&territory=south"); only.Total != 1 || only.Sums.Expected != 4 {
		t.Errorf("of the south: %+v", only)
	}
	if only := coverageOf(t, bed, "lead", ask+"&search=gale&limit=1"); only.Total != 1 || row(only, "Gale Hut") == "not there" {
		t.Errorf("what is called Gale: %+v", only)
	}
	for _, who := range []string{"worker", "reader"} {
		mine := coverageOf(t, bed, who, ask)
		whole, err := json.Marshal(mine)
		testbed.Must(t, err)
		if strings.Contains(string(whole), "SECRET") || strings.Contains(string(whole), south.String()) || mine.Sums.Expected != 7 || mine.Territories["south"].Expected != 0 {
			t.Errorf("%s is told %s", who, whole)
		}
		if len(mine.Workers) != 1 || mine.Workers[who].Expected != 7 {
			t.Errorf("%s is told of %v", who, mine.Workers)
		}
		if status, _ := bed.Call("GET", "/v1/coverage/visits?worker=lead", bed.SignIn(who), nil); status != http.StatusForbidden {
			t.Errorf("%s asks how far the lead is: %d", who, status)
		}
	}
	here, err := store.Coverage(ctx, "visits", device.CoverageAsk{From: weekOf(-3), Until: weekOf(0), Ask: coverage.Ask{Limit: 10}})
	testbed.Must(t, err)
	there := coverageOf(t, bed, "worker", ask)
	there.Workers = nil
	for n := range there.Places { // an edit that was corrected by no more than a moment
		for k := range there.Places[n].Cells {
			if cell := there.Places[n].Cells[k]; cell != nil && !cell.At.IsZero() {
				here.Places[n].Cells[k].At = cell.At
			}
		}
	}
	a, err := json.Marshal(here)
	testbed.Must(t, err)
	b, err := json.Marshal(there)
	testbed.Must(t, err)
	if string(a) != string(b) {
		t.Errorf("the device says\n%s\nand central\n%s", a, b)
	}
	_ = begun
	for ask, want := range map[string]string{"from=2026-W54": "2026 has 53 weeks", "from=" + weekOf(0) + "&until=" + weekOf(-1): "no period lies between", "from=1990-W01": "more than 400 periods",
		"worker=nobody": "no worker nobody", "state=odd": ""} {
		status, body := bed.Call("GET", "/v1/coverage/visits?"+ask, bed.SignIn("lead"), nil)
		if status < 400 || status >= 500 || !strings.Contains(string(body), want) {
			t.Errorf("%s: %d %s", ask, status, body)
		}
	}
	if status, body := bed.Call("GET", "/v1/coverage/huts", bed.SignIn("lead"), nil); status != http.StatusNotFound || !strings.Contains(string(body), "has no coverage") {
		t.Errorf("of huts: %d %s", status, body)
	}
}

// Rows of a table find the record of their place and period, and never make a second; names of huts stand for them.
func TestRowsForPlacesAndPeriods(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(visitedHuts, visits)
	hutAt(t, bed, "Gale Hut", "north")
	rows := []map[string]json.RawMessage{{"hut": text("Gale Hut"), "week": text(weekOf(0)), "guests": json.RawMessage(`4`)},
		{"hut": text("Gale Hut"), "week": text("2026-W54")}, {"hut": text("Nowhere"), "week": text(weekOf(0))}, {"hut": text("Gale Hut"), "week": text(weekOf(0))}}
	for n, want := range []string{"added refused refused refused", "unchanged refused refused refused"} {
		outcomes, err := bed.Central.PutRows(ctx, central.Everything("lead"), "visits", "", rows)
		testbed.Must(t, err)
		var got []string
		for _, one := range outcomes {
			got = append(got, string(one.Outcome))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("time %d: %s, want %s: %+v", n+1, got, want, outcomes)
		}
	}
	token := bed.SignIn("worker")
	body := map[string]any{"fields": map[string]any{"hut": visitsHut(t, bed), "week": weekOf(0)}}
	if status, text := bed.Call("POST", "/v1/records/visits", token, body); status != http.StatusConflict || !strings.Contains(string(text), "already") {
		t.Errorf("a second one at central: %d %s", status, text)
	}
	body["fields"].(map[string]any)["week"] = weekOf(-1)
	if status, text := bed.Call("POST", "/v1/records/visits", token, body); status != http.StatusCreated {
		t.Errorf("another week at central: %d %s", status, text)
	}
	// A definition that asks for one of each is refused where there are two.
	bed.Define(strings.ReplaceAll(strings.ReplaceAll(visits, "collection: visits", "collection: loose"), "coverage:\n  place: hut\n  period: week\n  expected: {where: record.shut_since == null || period.first < record.shut_since, due: 3 days}\n  complete: done_by\n", ""))
	hut := visitsHut(t, bed)
	for range 2 {
		if status, text := bed.Call("POST", "/v1/records/loose", token, map[string]any{"fields": map[string]any{"hut": hut, "week": weekOf(0), "water": "runs"}}); status != http.StatusCreated {
			t.Fatalf("loose: %d %s", status, text)
		}
	}
	_, err := bed.Central.Define(ctx, "admin", []definition.Definition{read(t, strings.ReplaceAll(visits, "collection: visits", "collection: loose"))})
	var refused *fault.Error
	if !errors.As(err, &refused) || !strings.Contains(fmt.Sprint(refused.Reasons), "two records for one place and period") {
		t.Errorf("coverage over two of one kind: %v", err)
	}
}

func visitsHut(t *testing.T, bed *testbed.Bed) string {
	t.Helper()
	for _, fields := range visitsAt(t, bed) {
		return fields["hut"].(string)
	}
	t.Fatal("there are no visits")
	return ""
}
