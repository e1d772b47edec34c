package promises_test

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/central/fault"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
	"homing/device"
	"homing/internal/testbed"
	"homing/wire"
)

const uniquely = `
collection: trails
title: Trails
label: "{number} {name}"
key: number
unique: true
fields:
  number: {type: string, maxLength: 20}
  name: {type: string, maxLength: 80}
  zone: {type: string}
`

// P7: of two records that were made with one key without signal, the second to arrive is refused, and its author is told
// which record has it; mended, it goes in. A device that knows of the first says so at once. A key is free again when its record
// is removed, and what comes back then must take another.
func TestP7AKeyThatIsUnique(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(uniquely)
	one, other := bed.Device("worker", "one", device.Options{}), bed.Device("worker", "other", device.Options{})
	testbed.Exchange(t, one, other)
	first := add(t, one, "trails", device.Fields{"number": "KL-01", "name": "Ridge"})
	second := add(t, other, "trails", device.Fields{"number": "KL-01", "name": "Gorge"})
	testbed.Exchange(t, one)
	if summary := testbed.Exchange(t, other); summary.Refused != 1 {
		t.Fatalf("%+v", summary)
	}
	queue, err := other.Review(ctx)
	testbed.Must(t, err)
	if why := queue[0].Reasons[0]; why.Code != change.CodeKeyTaken || why.Field != "number" ||
		!strings.Contains(why.Message, "KL-01 Ridge ("+first.String()+") has the Number KL-01 already") {
		t.Errorf("it was refused with %+v", why)
	}
	var invalid *device.InvalidError
	if _, err := one.Add(ctx, "trails", device.Fields{"number": "KL-01"}); !errors.As(err, &invalid) || invalid.Reasons[0].Code != change.CodeKeyTaken {
		t.Errorf("the device saves a second: %v", err)
	}
	_, err = other.Edit(ctx, "trails", second, device.Fields{"number": "KL-02"})
	testbed.Must(t, err)
	if summary := testbed.Exchange(t, other); summary.Applied != 1 {
		t.Errorf("%+v", summary)
	}
	// At central, by an edit, by rows, and by what comes back.
	write := func(kind change.Kind, id [16]byte, number string) error {
		w := changes.Write{Collection: "trails", Record: id, Kind: kind, Base: -1}
		if kind != change.Remove {
			w.Fields = record.Delta{"number": {To: json.RawMessage(strconv.Quote(number))}}
		}
		answer, err := bed.Central.Direct(ctx, central.Everything("admin"), w)
		if err == nil && !answer.Answer.Accepted() {
			err = errors.New(answer.Reasons[0].Code)
		}
		return err
	}
	taken := func(what string, err error) {
		t.Helper()
		var known *fault.Error
		if err == nil || !(strings.Contains(err.Error(), change.CodeKeyTaken) || errors.As(err, &known) && known.Reasons[0].Code == change.CodeKeyTaken) {
			t.Errorf("%s: %v", what, err)
		}
	}
	taken("an edit", write(change.Edit, second, "KL-01"))
	rows, err := bed.Central.PutRows(ctx, central.Everything("admin"), "trails", "", []changes.TableRow{
		{"number": json.RawMessage(`"KL-03"`)}, {"number": json.RawMessage(`"KL-03"`)}, {"number": json.RawMessage(`"KL-02"`)}})
	if err != nil || rows[0].Outcome != changes.RowAdded || rows[1].Outcome != changes.RowRefused || rows[2].Outcome != changes.RowRefused {
		t.Errorf("rows: %+v, %v", rows, err)
	}
	testbed.Must(t, write(change.Remove, first, ""))
	testbed.Must(t, write(change.Edit, second, "KL-01"))
	taken("what comes back", write(change.Add, first, "KL-01"))
	testbed.Must(t, write(change.Add, first, "KL-09"))
	testbed.Exchange(t, one, other)
	bed.Same(one, other)
	// A definition that says so over records that do not.
	bed.Define(strings.Replace(uniquely, "unique: true\n", "", 1))
	testbed.Must(t, write(change.Edit, first, "KL-01"))
	d, err := definition.ReadSource("trails.yaml", []byte(uniquely))
	testbed.Must(t, err)
	status, text := bed.Call("PUT", "/v1/definitions", bed.SignIn("admin"), wire.Definitions{Definitions: []definition.Definition{d}})
	if status != 409 || !strings.Contains(string(text), "unique does not allow two records with one key") {
		t.Errorf("%d %s", status, text)
	}
}

// P7: whoever comes at the same time, one alone gets the key.
func TestP7AKeyIsGivenOnceAtATime(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(uniquely)
	const devices, keys = 6, 20
	var all sync.WaitGroup
	accepted := make(chan int64, devices*keys)
	for range devices {
		hand := newRaw(t, bed, "worker")
		all.Go(func() {
			for n := range int64(keys) {
				ch := hand.change(n+1, change.Add, newID(), 0, map[string]string{"number": strconv.Quote("KL-" + strconv.Itoa(int(n)))})
				if hand.push(hand.batch(ch))[0].Answer.Accepted() {
					accepted <- n
				}
			}
		})
	}
	all.Wait()
	close(accepted)
	times := map[int64]int{}
	for n := range accepted {
		times[n]++
	}
	for n := range int64(keys) {
		if times[n] != 1 {
			t.Errorf("the key %d was given %d times", n, times[n])
		}
	}
}

// P11: that a key is taken is told; by what, only to who may see it.
func TestP11AKeyDoesNotTellWhoHasIt(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(uniquely + "sync: {territory: record.zone}\n")
	hold(t, bed, "worker", "kell")
	_, err := bed.Central.PutRows(ctx, central.Everything("admin"), "trails", "number", []changes.TableRow{
		{"number": json.RawMessage(`"KL-01"`), "name": json.RawMessage(`"Hidden"`), "zone": json.RawMessage(`"ostra"`)}})
	testbed.Must(t, err)
	store := bed.Device("worker", "phone", device.Options{})
	testbed.Exchange(t, store)
	add(t, store, "trails", device.Fields{"number": "KL-01", "zone": "kell"})
	testbed.Exchange(t, store)
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	if why := queue[0].Reasons[0]; why.Message != "another record has the Number KL-01 already; take another" {
		t.Errorf("it says %s", why.Message)
	}
}

// An import names a key that several records have, and rows of one call with the same key, as wrong; a key may be several
// fields together; a preview says what would be overwritten, and what is there already.
func TestP2RowsFindTheirRecords(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strings.Replace(uniquely, "unique: true\n", "", 1))
	admin := central.Everything("admin")
	row := func(number, name, zone string) changes.TableRow {
		return changes.TableRow{"number": json.RawMessage(strconv.Quote(number)), "name": json.RawMessage(strconv.Quote(name)),
			"zone": json.RawMessage(strconv.Quote(zone))}
	}
	outcomes := func(rows []changes.Row, err error) string {
		t.Helper()
		testbed.Must(t, err)
		var all []string
		for _, one := range rows {
			text := one.Outcome
			if len(one.Reasons) > 0 {
				text += " " + one.Reasons[0].Code
			}
			all = append(all, text)
		}
		return strings.Join(all, ", ")
	}
	for _, step := range []struct {
		what, key string
		preview   bool
		rows      []changes.TableRow
		want      string
	}{
		{"two of one key in a call", "number", false, []changes.TableRow{row("A", "x", "n"), row("A", "y", "n")}, "added, refused ambiguous-key"},
		{"without a key", "", false, []changes.TableRow{row("A", "z", "s")}, "added"},
		{"a key that two have", "number", false, []changes.TableRow{row("A", "w", "n"), row("B", "w", "n")}, "refused ambiguous-key, added"},
		{"two fields", "number,zone", false, []changes.TableRow{row("A", "v", "n"), row("A", "z", "s"), row("A", "new", "w")}, "updated, unchanged, added"},
		{"before, by key", "number,zone", true, []changes.TableRow{row("A", "u", "n"), row("C", "u", "n")}, "updated, added"},
		{"before, by content", "", true, []changes.TableRow{row("A", "v", "n"), row("A", "u", "n"), row("D", "u", "n")}, "there, added, added"},
		{"nothing was changed", "number,zone", true, []changes.TableRow{row("A", "v", "n"), row("C", "u", "n")}, "unchanged, added"},
	} {
		put := bed.Central.PutRows
		if step.preview {
			put = bed.Central.PreviewRows
		}
		if got := outcomes(put(ctx, admin, "trails", step.key, step.rows)); got != step.want {
			t.Errorf("%s: %s, want %s", step.what, got, step.want)
		}
	}
	if _, err := bed.Central.PutRows(ctx, admin, "trails", "number,nowhere", nil); err == nil || !strings.Contains(err.Error(), `no field "nowhere"`) {
		t.Errorf("a key that is no field: %v", err)
	}
}

const markers = `
collection: markers
label: "{text}"
parent: {collection: trails, field: trail}
fields:
  text: {type: string}
  trail: {type: string, format: uuid}
`

// P1, P2: what was made twice becomes one. What central has refused goes into the record that has the key: what that lacks is
// filled in, what both say stays as it is there unless one's own is taken, what belongs to it goes over, and all of it is
// written down.
func TestP1TwoOfOneKeyAreUnited(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(uniquely+"  note: {type: string}\n  depth: {type: number}\n", markers)
	one, other := bed.Device("worker", "one", device.Options{}), bed.Device("lead", "other", device.Options{})
	testbed.Exchange(t, one, other)
	first := add(t, one, "trails", device.Fields{"number": "KL-01", "name": "Ridge", "depth": 1})
	second := add(t, other, "trails", device.Fields{"number": "KL-01", "name": "Gorge", "depth": 2, "note": "seen from below"})
	early := add(t, other, "markers", device.Fields{"text": "with it", "trail": second.String()})
	testbed.Exchange(t, one, other)
	queue, err := other.Review(ctx)
	if err != nil || len(queue) != 2 || queue[0].Record != second || queue[1].Verdict != change.Waiting {
		t.Fatalf("%+v, %v", queue, err)
	}
	late := add(t, other, "markers", device.Fields{"text": "after it", "trail": second.String()})
	refused, there, err := other.Twins(ctx, queue[0].Number)
	if err != nil || refused.ID != second || there.ID != first {
		t.Fatalf("twins are %s and %s, %v", refused.ID, there.ID, err)
	}
	backup := filepath.Join(t.TempDir(), "given-up.ndjson")
	for what, try := range map[string]func() error{
		"a change that was not refused": func() error { _, err := other.Unite(ctx, queue[1].Number+1, nil, backup); return err },
		"what has no twin":              func() error { _, err := other.Unite(ctx, queue[1].Number, nil, backup); return err },
		"a field without a value":       func() error { _, err := other.Unite(ctx, queue[0].Number, []string{"zone"}, backup); return err },
		"no room for what is given up":  func() error { _, err := other.Unite(ctx, queue[0].Number, nil, t.TempDir()); return err },
	} {
		if err := try(); err == nil {
			t.Errorf("%s was united", what)
		}
	}
	if _, err := other.Get(ctx, "trails", second); err != nil {
		t.Errorf("what could not be united is gone: %v", err)
	}
	united, err := other.Unite(ctx, queue[0].Number, []string{"depth"}, backup)
	if err != nil || united.ID != first {
		t.Fatalf("%+v, %v", united, err)
	}
	text, err := os.ReadFile(backup)
	if err != nil || !strings.Contains(string(text), "Gorge") {
		t.Errorf("written down is %s, %v", text, err)
	}
	if _, err := other.Get(ctx, "trails", second); !errors.Is(err, device.ErrNoRecord) {
		t.Errorf("the second is still there: %v", err)
	}
	if summary := testbed.Exchange(t, other); summary.Applied != 3 || summary.Refused+summary.Waiting > 0 {
		t.Errorf("%+v", summary)
	}
	testbed.Exchange(t, one)
	for field, want := range map[string]string{"name": "Ridge", "depth": "2", "note": "seen from below"} {
		if got := shown(t, one, "trails", first, field); got != want {
			t.Errorf("%s is %s, want %s", field, got, want)
		}
	}
	for _, id := range []uuid.UUID{early, late} {
		if got := shown(t, one, "markers", id, "trail"); got != first.String() {
			t.Errorf("a marker belongs to %s", got)
		}
	}
	bed.Same(one, other)
}
