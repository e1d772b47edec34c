package promises_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/central/fault"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/query"
	"homing/core/record"
	"homing/device"
	"homing/internal/testbed"
)

const numbered = `collection: jobs
label: "{number} {what}"
key: number
fields:
  number: {type: string, series: REP-00041}
  what: {type: string}
  taken_by: {type: string, filled: 'worker.name + " on " + change.device'}
  taken_on: {type: string, format: date, filled: "change.received.substring(0, 10)"}
  memo: {type: string, local: true}
  after: {type: string, format: uuid, reference: jobs}
`

// P2: central numbers a record once, whatever is repeated; the number comes back with the answer; what refers to the
// record is not touched.
func TestP2NumbersFromCentral(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(numbered)
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	first, err := a.Add(ctx, "jobs", device.Fields{"what": "mend"})
	testbed.Must(t, err)
	if mark := first.Provisional["number"]; !strings.HasPrefix(mark, "REP-~") || first.Label != mark+" mend" {
		t.Errorf("until then it is called %q, with %v", first.Label, first.Provisional)
	}
	second := add(t, a, "jobs", device.Fields{"what": "paint", "after": first.ID})
	third := add(t, b, "jobs", device.Fields{"what": "dig"})
	testbed.Exchange(t, b, a, b)
	seen := map[string]bool{}
	for _, id := range []uuid.UUID{first.ID, second, third} {
		number := shown(t, a, "jobs", id, "number")
		n, fits := definition.Series{Prefix: "REP-", Digits: 5}.Number(number)
		if !fits || n < 41 || seen[number] || number != shown(t, b, "jobs", id, "number") {
			t.Errorf("the number is %q; given before: %v", number, seen)
		}
		seen[number] = true
	}
	if shown(t, b, "jobs", second, "after") != first.ID.String() {
		t.Error("the reference was rewritten")
	}
	if got := shown(t, b, "jobs", first.ID, "taken_by"); got != "worker on a" {
		t.Errorf("it was taken by %q", got)
	}
	if got := shown(t, a, "jobs", first.ID, "taken_on"); got != bed.Central.Now().Format("2006-01-02") {
		t.Errorf("it was taken on %q", got)
	}
	bed.Same(a, b)
	// By hand: a repeated batch, and a device that sets what nobody sets.
	r := newRaw(t, bed, "worker")
	c := r.change(1, change.Add, uuid.Must(uuid.NewV7()), 0,
		map[string]string{"what": `"x"`, "number": `"REP-00001"`, "memo": `"private"`})
	c.Collection = "jobs"
	batch := r.batch(c)
	answers, again := r.push(batch), r.push(batch)
	if answers[0].Answer != change.Merged || string(answers[0].Record.Fields) != string(again[0].Record.Fields) {
		t.Errorf("answered %+v, then %+v", answers[0], again[0])
	}
	text := string(answers[0].Record.Fields)
	if strings.Contains(text, "REP-00001") || strings.Contains(text, "private") || !strings.Contains(text, "REP-0004") {
		t.Errorf("central has %s", text)
	}
}

// An import keeps the numbers that it brings, and the series goes on behind them.
func TestImportedNumbers(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(numbered)
	admin := central.Everything("admin")
	put := func(rows ...string) []changes.Row {
		t.Helper()
		all := make([]map[string]json.RawMessage, len(rows))
		for n, row := range rows {
			testbed.Must(t, json.Unmarshal([]byte(row), &all[n]))
		}
		got, err := bed.Central.PutRows(ctx, admin, "jobs", "number", all)
		testbed.Must(t, err)
		return got
	}
	rows := put(`{"number":"REP-00990","what":"a"}`, `{"number":null,"what":"b"}`)
	if got := valueAt(t, bed, "jobs", rows[0].Record, "number"); got != "REP-00990" {
		t.Errorf("the imported number became %s", got)
	}
	if got := valueAt(t, bed, "jobs", rows[1].Record, "number"); got != "REP-00991" {
		t.Errorf("the next number is %s", got)
	}
	if again := put(`{"number":"REP-00990","what":"a"}`); again[0].Outcome != changes.RowUnchanged {
		t.Errorf("importing it again: %+v", again)
	}
	_, err := bed.Central.Direct(ctx, admin, changes.Write{Collection: "jobs", Record: rows[0].Record, Kind: change.Edit,
		Base: -1, Fields: record.Delta{"number": {To: json.RawMessage(`"REP-1"`)}}})
	if known := fault.Explain(err); known == nil || known.Reasons[0].Code != change.CodeReadOnly {
		t.Errorf("a number was set at central: %v", err)
	}
	_, err = bed.Central.Direct(ctx, admin, changes.Write{Collection: "jobs", Record: rows[0].Record, Kind: change.Edit,
		Base: -1, Fields: record.Delta{"after": {To: json.RawMessage(fmt.Sprintf("%q", uuid.New()))}}})
	if known := fault.Explain(err); known == nil || known.Reasons[0].Field != "after" {
		t.Errorf("a reference to nothing was taken at central: %v", err)
	}
}

// P11: a value that stays on the device is never sent, and survives whatever else happens to its record.
func TestP11LocalFieldsStayOnTheDevice(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(numbered)
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	id := add(t, a, "jobs", device.Fields{"what": "mend", "memo": "the key lies under the stone"})
	queue, err := a.Review(ctx)
	testbed.Must(t, err)
	if _, sent := queue[0].Fields["memo"]; sent {
		t.Error("the memo is about to be sent")
	}
	testbed.Exchange(t, a, b)
	_, err = b.Edit(ctx, "jobs", id, device.Fields{"what": "mend soon"})
	testbed.Must(t, err)
	_, err = a.Edit(ctx, "jobs", id, device.Fields{"memo": "it has moved"})
	testbed.Must(t, err)
	if queue, err = a.Review(ctx); err != nil || len(queue) != 0 {
		t.Errorf("a memo alone was queued: %+v, %v", queue, err)
	}
	testbed.Exchange(t, b, a)
	if shown(t, a, "jobs", id, "memo") != "it has moved" || shown(t, a, "jobs", id, "what") != "mend soon" ||
		shown(t, b, "jobs", id, "memo") != "" {
		t.Errorf("here %q %q, there %q", shown(t, a, "jobs", id, "memo"), shown(t, a, "jobs", id, "what"),
			shown(t, b, "jobs", id, "memo"))
	}
	found, err := a.Find(ctx, "jobs", query.Ask{Where: []string{"memo~moved"}, Sort: "memo"})
	if err != nil || found.Total != 1 {
		t.Errorf("found by its memo: %+v, %v", found, err)
	}
	if got := valueAt(t, bed, "jobs", id, "memo"); got != "" {
		t.Errorf("central has the memo %q", got)
	}
	bed.Same(a, b)
	if _, err := a.Edit(ctx, "jobs", id, device.Fields{"after": uuid.New()}); err == nil ||
		!strings.Contains(err.Error(), "there is no such record in jobs") {
		t.Errorf("a reference to nothing was saved: %v", err)
	}
}

// P4: central gives a number to a record as it takes an edit that loses. Whoever edits the record next, without having
// heard of it, has the number as well.
func TestP4GivenWithAnEditThatLost(t *testing.T) {
	bed := testbed.Start(t)
	const huts = "collection: huts\nfields:\n  name: {type: string}\n  note: {type: string}\n"
	bed.Define(huts)
	a, b := bed.Device("worker", "a", device.Options{}), bed.Device("lead", "b", device.Options{})
	testbed.Exchange(t, a, b)
	hut := add(t, a, "huts", device.Fields{"name": "Gale"})
	testbed.Exchange(t, a, b)
	_, err := a.Edit(ctx, "huts", hut, device.Fields{"name": "Gale Hut"})
	testbed.Must(t, err)
	time.Sleep(time.Second) // which edit is the later is known to within the time that the requests took
	_, err = b.Edit(ctx, "huts", hut, device.Fields{"name": "Gale Refuge"})
	testbed.Must(t, err)
	testbed.Exchange(t, b)
	bed.Define(huts + "  number: {type: string, series: H-1}\n")
	testbed.Exchange(t, a) // it loses, and the hut gets its number
	_, err = b.Edit(ctx, "huts", hut, device.Fields{"note": "a word"})
	testbed.Must(t, err)
	testbed.Exchange(t, b)
	if got := shown(t, b, "huts", hut, "number"); got != "H-1" {
		t.Errorf("the device shows the number %v", got)
	}
	testbed.Exchange(t, a, b)
	bed.Same(a, b)
}
