// Package promises_test tries to break each of Homing's promises on the real thing: the service on loopback,
// PostgreSQL, local stores, killed processes and cut connections. docs/promises.md says which test stands for which
// promise.
package promises_test

import (
	"context"
	"encoding/json"
	"strconv"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/central"
	"homing/core/change"
	"homing/core/clock"
	"homing/core/record"
	"homing/device"
	"homing/internal/testbed"
	"homing/wire"
)

func TestMain(m *testing.M) { testbed.Main(m) }

var ctx = context.Background()

// raw is a device that speaks the protocol by hand, so that it can do what the client library would not.
type raw struct {
	*testbed.Bed
	t           *testing.T
	token       string
	incarnation uuid.UUID
	now         time.Time
}

// newRaw enrols one; incarnation, if given, is that of its store.
func newRaw(t *testing.T, bed *testbed.Bed, worker string, incarnation ...uuid.UUID) *raw {
	t.Helper()
	r := &raw{Bed: bed, t: t, incarnation: append(incarnation, uuid.Must(uuid.NewV7()))[0], now: time.Now()}
	var got wire.Enrolled
	status, text := bed.Call("POST", "/v1/enrolments", "",
		wire.Enrolment{Code: bed.Code(worker), Device: "by hand", Incarnation: r.incarnation})
	if err := json.Unmarshal(text, &got); err != nil || status != 200 {
		t.Fatalf("enrol: %d %s", status, text)
	}
	r.token = got.Token
	return r
}

// change makes a change; values are JSON texts.
func (r *raw) change(number int64, kind change.Kind, id uuid.UUID, base int64, values map[string]string) change.Change {
	delta := record.Delta{}
	for name, value := range values {
		delta[name] = record.Edit{To: json.RawMessage(value)}
	}
	return change.Change{Number: number, Collection: "trails", Record: id, Kind: kind, Base: base, Fields: delta,
		Stamp: clock.At(r.now.Add(time.Duration(number))), EditedAt: r.now}
}

func (r *raw) batch(changes ...change.Change) wire.Batch {
	b := wire.Batch{ID: uuid.Must(uuid.NewV7()), Exchange: uuid.Must(uuid.NewV7()), Incarnation: r.incarnation,
		Clock: wire.Clock{SentAt: r.now}}
	for _, c := range changes {
		text, err := json.Marshal(c)
		testbed.Must(r.t, err)
		b.Changes = append(b.Changes, text)
	}
	return b
}

func (r *raw) push(batch wire.Batch) []wire.Answer {
	r.t.Helper()
	status, text := r.Call("POST", "/v1/batches", r.token, batch)
	var answers wire.Answers
	if err := json.Unmarshal(text, &answers); err != nil || status != 200 {
		r.t.Fatalf("push: %d %s", status, text)
	}
	return answers.Answers
}

func (r *raw) pull(cursor int64) wire.Page {
	r.t.Helper()
	status, text := r.Call("GET", "/v1/changes/trails?cursor="+strconv.FormatInt(cursor, 10), r.token, nil)
	var page wire.Page
	if err := json.Unmarshal(text, &page); err != nil || status != 200 {
		r.t.Fatalf("pull: %d %s", status, text)
	}
	return page
}

func verdicts(answers []wire.Answer) (all []change.Verdict) {
	for _, a := range answers {
		all = append(all, a.Answer)
	}
	return all
}

func newID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// database opens central's database beside central.
func database(t *testing.T, bed *testbed.Bed) *sqlx.DB {
	t.Helper()
	db, err := sqlx.Open("pgx", bed.Database)
	testbed.Must(t, err)
	t.Cleanup(func() { db.Close() })
	return db
}

// versions is how many accepted changes a record has.
func versions(t *testing.T, bed *testbed.Bed, collection string, id uuid.UUID) int {
	t.Helper()
	history, err := bed.Central.History(ctx, central.Everything("admin"), collection, id)
	testbed.Must(t, err)
	return len(history)
}

// value is a field's JSON text as central has it.
func value(t *testing.T, bed *testbed.Bed, id uuid.UUID, field string) string {
	t.Helper()
	r, err := bed.Central.Record(ctx, central.Everything("admin"), "trails", id)
	testbed.Must(t, err)
	var fields record.Fields
	testbed.Must(t, json.Unmarshal(r.Fields, &fields))
	return string(fields[field])
}

func addTrail(t *testing.T, store *device.Store, name string) device.Record {
	t.Helper()
	r, err := store.Add(ctx, "trails", device.Fields{"name": name})
	testbed.Must(t, err)
	return r
}

func editTrail(t *testing.T, store *device.Store, id uuid.UUID, fields device.Fields) {
	t.Helper()
	_, err := store.Edit(ctx, "trails", id, fields)
	testbed.Must(t, err)
}

// behind is a clock that goes wrong by some time.
func behind(by time.Duration) func() time.Time {
	return func() time.Time { return time.Now().Add(-by) }
}

// deltaOf sets one field to a text.
func deltaOf(field, text string) record.Delta {
	return record.Delta{field: record.Edit{To: json.RawMessage(strconv.Quote(text))}}
}
