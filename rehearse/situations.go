package rehearse

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"homing/central/changes"
	"homing/central/fleet"
	"homing/conformance/driver"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/rights"
	"homing/device"
	"homing/wire"
)

// trails and huts are what is collected in situations.
const (
	trails = `
collection: trails
label: "{name}"
key: code
unique: true
fields:
  name: {type: string, maxLength: 40}
  code: {type: string}
  zone: {type: string}
  state: {enum: [open, closed]}
  warden: {type: string}
  walked: {type: integer}
  length: {type: number}
  seen: {type: array, items: {type: string}, uniqueItems: true}
  total: {computed: "sum(children.huts.map(h, h.beds))", type: number}
sync:
  territory: 'record.zone != null ? [record.zone] : ["valley"]'
  rules: {warden: ask, walked: sum}
`
	huts = `
collection: huts
label: "{name}"
fields:
  name: {type: string}
  beds: {type: integer, minimum: 0}
  trail: {reference: trails}
parent: {collection: trails, field: trail, removal: restrict}
`
)

// Situation is something that happens to a device, as the protocol describes it.
type Situation struct {
	Name string
	play func(s *scene)
}

// scene is a small fleet in one situation: a is the device that is looked at, b another. The first thing that goes
// wrong ends it.
type scene struct {
	ctx  context.Context
	w    *world
	a, b *unit
}

// ended is the panic by which a scene ends.
type ended struct{ err error }

func (s *scene) must(err error) {
	if err != nil {
		panic(ended{err})
	}
}

func (s *scene) wrong(format string, args ...any) {
	s.w.wrong(format, args...)
	panic(ended{})
}

// Situate plays one situation, with the first device driven where the options name a driver.
func Situate(ctx context.Context, situation Situation, o Options) (report Report, err error) {
	for _, text := range []string{trails, huts} {
		def, err := definition.ReadSource("situation.yaml", []byte(text))
		if err != nil {
			return report, err
		}
		o.Definitions = append(o.Definitions, def)
	}
	o.Devices, o.Calm, o.Seed = 2, true, 1
	if o.Driven == nil {
		o.Driven = func(n int) bool { return n == 0 }
	}
	folder, err := os.MkdirTemp(scratch(o.Folder), "homing-situation-")
	if err != nil {
		return report, err
	}
	defer os.RemoveAll(folder)
	w, err := newWorld(o, folder)
	if err != nil {
		return report, err
	}
	w.quiet, w.batch = true, wire.MaxBatchChanges
	defer func() { err = errors.Join(err, w.close()); report = w.report }()
	defer func() {
		if broken, is := recover().(ended); is {
			err = broken.err
		}
	}()
	s := &scene{ctx: ctx, w: w}
	for n := range 2 {
		d := &unit{w: w, n: n, path: filepath.Join(folder, fmt.Sprintf("%d.db", n)), enrolled: &enrolled{
			name: fmt.Sprintf("device %c", 'A'+n), worker: fmt.Sprintf("worker-%c", 'a'+n), id: w.newID(),
			held: []string{rights.All}, role: rights.Worker}, booted: w.now.Add(-time.Hour)}
		s.must(w.open(ctx, d))
		w.devices = append(w.devices, d)
		code, err := w.side.join(d)
		s.must(err)
		s.must(d.store.Enrol(ctx, "https://central.invalid", code, d.name))
		s.exchange(d)
		_, err = w.who(ctx, d)
		s.must(err)
	}
	s.a, s.b = w.devices[0], w.devices[1]
	situation.play(s)
	return
}

// exchange lets a device exchange, and wants that to work.
func (s *scene) exchange(all ...*unit) (sum device.Summary) {
	for _, d := range all {
		sum = s.tries(d)
		s.w.now = s.w.now.Add(time.Second)
	}
	return sum
}

func (s *scene) tries(d *unit) device.Summary {
	sum, err := d.store.Exchange(s.ctx, nil)
	if err != nil {
		s.wrong("%s cannot exchange: %v", d.name, err)
	}
	s.w.tell("%s exchanges: %d sent, %d received", d.name, sum.Sent, sum.Received)
	return sum
}

// fails lets a device exchange while something happens to its next request on a path, and wants it to break off.
func (s *scene) fails(d *unit, what mishap, path string) {
	d.mishap, d.on = what, path
	if sum, err := d.store.Exchange(s.ctx, nil); err == nil {
		s.wrong("an exchange that was cut at %s ends as if nothing were: %+v", path, sum)
	} else if d.mishap != noMishap {
		s.wrong("%s does not ask %s: %v", d.name, path, err)
	}
	if d.dead {
		d.dead = false
		s.must(d.store.Kill())
		s.must(s.w.open(s.ctx, d))
	}
}

func (s *scene) add(d *unit, collection string, fields device.Fields) device.Record {
	r, err := d.store.Add(s.ctx, collection, fields)
	s.must(err)
	s.w.tell("%s adds %s: %s", d.at, name(collection, r.ID), describe(fields))
	s.w.now = s.w.now.Add(time.Second)
	return r
}

func (s *scene) edit(d *unit, r device.Record, fields device.Fields) device.Record {
	now, err := d.store.Edit(s.ctx, r.Collection, r.ID, fields, nil)
	s.must(err)
	s.w.tell("%s edits %s: %s", d.at, name(r.Collection, r.ID), describe(fields))
	s.w.now = s.w.now.Add(time.Second)
	return now
}

func (s *scene) get(d *unit, r device.Record) device.Record {
	now, err := d.store.Get(s.ctx, r.Collection, r.ID)
	if err != nil {
		s.wrong("%s does not have %s: %v", d.name, name(r.Collection, r.ID), err)
	}
	return now
}

// shows wants a device to show a value, given as JSON; an empty text stands for none.
func (s *scene) shows(d *unit, r device.Record, field, value string) {
	if got := string(s.get(d, r).Fields[field]); got != value {
		s.wrong("%s shows %s as %q, which should be %q", d.name, field, got, value)
	}
}

func (s *scene) showsNot(d *unit, r device.Record) {
	if got, err := d.store.Get(s.ctx, r.Collection, r.ID); !errors.Is(err, device.ErrNoRecord) {
		s.wrong("%s shows %s, which should be gone: %s, %v", d.name, name(r.Collection, r.ID), got.Fields.JSON(), err)
	}
}

// has wants central to have a value, and to have accepted so many changes of the record.
func (s *scene) has(r device.Record, field, value string, accepted int) {
	records, history, err := s.w.side.whole()
	s.must(err)
	times := 0
	for _, v := range history {
		if v.ID == r.ID {
			times++
		}
	}
	at := -1
	for n, held := range records {
		if held.ID == r.ID && !held.Removed {
			at = n
		}
	}
	switch {
	case at < 0:
		s.wrong("central does not have %s", name(r.Collection, r.ID))
	case string(records[at].Fields[field]) != value:
		s.wrong("central has %s as %q, which should be %q", field, records[at].Fields[field], value)
	case accepted > 0 && times != accepted:
		s.wrong("central has accepted %d changes of %s, which should be %d", times, name(r.Collection, r.ID), accepted)
	}
}

// queue wants so many changes in a device's outbox, and gives them.
func (s *scene) queue(d *unit, wanted int) []device.Queued {
	queue, err := d.store.Review(s.ctx)
	s.must(err)
	if len(queue) != wanted {
		s.wrong("%s has %d changes in its outbox, which should be %d", d.name, len(queue), wanted)
	}
	return queue
}

// agree wants both devices to hold what central has.
func (s *scene) agree() {
	s.exchange(s.a, s.b, s.a)
	for _, collection := range []string{"trails", "huts"} {
		a, err := s.a.store.Fingerprint(s.ctx, collection)
		s.must(err)
		b, err := s.b.store.Fingerprint(s.ctx, collection)
		s.must(err)
		if a != b {
			s.wrong("in the end the devices hold other %s: %v and %v", collection, a, b)
		}
	}
}

// direct lets the lead write at central itself.
func (s *scene) direct(r device.Record, kind change.Kind, fields device.Fields) {
	_, err := s.w.side.direct(changes.Write{Collection: r.Collection, Record: r.ID, Kind: kind, Base: -1, Fields: delta(fields)})
	s.must(err)
	s.w.tell("the lead: %s of %s, %s", kind, name(r.Collection, r.ID), describe(fields))
	s.w.now = s.w.now.Add(time.Second)
}

// Situations are all of them, in the order of the protocol's page.
var Situations = []Situation{
	{"values keep all their digits", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"walked": json.Number("9007199254740993"), "length": json.Number("0.12345678901234567891")})
		s.exchange(s.a, s.b)
		s.has(r, "walked", "9007199254740993", 1)
		s.shows(s.b, r, "length", "0.12345678901234567891")
		s.edit(s.b, r, device.Fields{"walked": json.Number("9007199254740995")})
		s.exchange(s.b, s.a)
		s.shows(s.a, r, "walked", "9007199254740995")
		s.agree()
	}},
	{"a first load in several pages", func(s *scene) {
		for n := range 4 * mostInPage {
			s.add(s.b, "trails", device.Fields{"name": fmt.Sprintf("Trail %d", n)})
		}
		s.exchange(s.b, s.a)
		found, err := s.a.store.Find(s.ctx, "trails", driver.Find{Limit: 100})
		s.must(err)
		if len(found.Records) != 4*mostInPage {
			s.wrong("%d of %d records came", len(found.Records), 4*mostInPage)
		}
		s.agree()
	}},
	{"killed in the middle of a load", func(s *scene) {
		for n := range 4 * mostInPage {
			s.add(s.b, "trails", device.Fields{"name": fmt.Sprintf("Trail %d", n)})
		}
		s.exchange(s.b)
		s.fails(s.a, killed, "/changes/trails")
		s.agree()
	}},
	{"a request that is lost", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"name": "Ridge", "walked": 3})
		s.fails(s.a, lost, "")
		s.queue(s.a, 1)
		s.exchange(s.a)
		s.queue(s.a, 0)
		s.has(r, "walked", "3", 1)
	}},
	{"an answer that is lost", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"name": "Ridge", "walked": 3})
		s.exchange(s.a)
		s.edit(s.a, r, device.Fields{"walked": 5})
		s.fails(s.a, unanswered, "")
		s.queue(s.a, 1)
		s.exchange(s.a)
		s.has(r, "walked", "5", 2)
		s.agree()
	}},
	{"an edit after an answer that is lost", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"name": "Ridge", "walked": 3})
		s.fails(s.a, unanswered, "")
		s.edit(s.a, r, device.Fields{"walked": 4, "name": "Ridge Path"})
		s.exchange(s.a)
		s.has(r, "walked", "4", 2) // what may have arrived is sent again as it was
		s.agree()
	}},
	{"a batch that arrives twice", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"walked": 3})
		s.a.mishap, s.a.on = twice, ""
		s.exchange(s.a)
		s.has(r, "walked", "3", 1)
		s.agree()
	}},
	{"killed before the answer", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"walked": 3})
		s.exchange(s.a)
		s.edit(s.a, r, device.Fields{"walked": 5})
		s.fails(s.a, killed, "")
		s.exchange(s.a)
		s.has(r, "walked", "5", 2)
		s.agree()
	}},
	{"several edits of an unsent record", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"name": "Ridge", "walked": 1})
		s.edit(s.a, r, device.Fields{"walked": 2})
		s.edit(s.a, r, device.Fields{"walked": 3, "name": nil})
		s.exchange(s.a, s.b)
		s.has(r, "walked", "3", 0)
		s.shows(s.b, r, "name", "")
		s.agree()
	}},
	{"a fast clock does not win", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"name": "Ridge"})
		s.exchange(s.b, s.a)
		s.a.skew = 2 * time.Hour
		s.edit(s.a, r, device.Fields{"name": "by the fast clock"})
		s.w.now = s.w.now.Add(time.Minute)
		s.edit(s.b, r, device.Fields{"name": "truly later"})
		s.exchange(s.a, s.b, s.a)
		s.has(r, "name", `"truly later"`, 3)
		s.shows(s.a, r, "name", `"truly later"`)
		s.agree()
	}},
	{"a clock that is turned between a save and its exchange", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"name": "Ridge"})
		s.exchange(s.b, s.a)
		s.edit(s.a, r, device.Fields{"name": "earlier"})
		s.a.skew = -3 * time.Hour // what was stamped before seems three hours later now
		s.w.now = s.w.now.Add(time.Minute)
		s.edit(s.b, r, device.Fields{"name": "truly later"})
		s.exchange(s.b, s.a)
		s.has(r, "name", `"truly later"`, 3)
		s.agree()
	}},
	{"edits of different fields", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"name": "Ridge", "state": "open"})
		s.exchange(s.b, s.a)
		s.edit(s.a, r, device.Fields{"state": "closed"})
		s.edit(s.b, r, device.Fields{"name": "Ridge Path"})
		s.exchange(s.b, s.a)
		s.shows(s.a, r, "name", `"Ridge Path"`)
		s.has(r, "state", `"closed"`, 3)
		s.agree()
	}},
	{"unsent changes on top of what comes", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"name": "Ridge", "walked": 10, "seen": []string{"x"}})
		s.exchange(s.b, s.a)
		s.edit(s.b, r, device.Fields{"walked": 15, "name": "by b", "seen": []string{"x", "b"}})
		s.exchange(s.b)
		s.edit(s.a, r, device.Fields{"walked": 12, "state": "closed", "seen": []string{"x", "a"}})
		s.fails(s.a, lost, "") // nothing has left; what is shown is as before
		s.shows(s.a, r, "walked", "12")
		s.exchange(s.a)
		s.shows(s.a, r, "walked", "17")
		s.shows(s.a, r, "seen", `["a","b","x"]`)
		s.has(r, "walked", "17", 3)
		s.agree()
	}},
	{"a form that was open over a pull", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"name": "Ridge", "state": "open", "walked": 10})
		s.exchange(s.b, s.a)
		form := s.get(s.a, r)
		s.edit(s.b, r, device.Fields{"name": "by b", "walked": 12})
		s.exchange(s.b, s.a)
		now, err := s.a.store.Edit(s.ctx, "trails", r.ID, device.Fields{"name": "Ridge", "state": "closed", "walked": 11}, &form)
		s.must(err)
		if got := string(now.Fields["name"]); got != `"by b"` {
			s.wrong("a form that did not change the name sets it back to %s", got)
		}
		s.exchange(s.a)
		s.has(r, "walked", "13", 3)
		s.has(r, "name", `"by b"`, 3)
		s.agree()
	}},
	{"a dispute that is settled", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"warden": "nobody"})
		s.exchange(s.b, s.a)
		s.edit(s.b, r, device.Fields{"warden": "the one"})
		s.edit(s.a, r, device.Fields{"warden": "the other"})
		s.exchange(s.b)
		if sum := s.exchange(s.a); sum.Held != 1 {
			s.wrong("nothing is said to be held: %+v", sum)
		}
		if _, open := s.get(s.a, r).Disputes["warden"]; !open {
			s.wrong("no dispute is shown")
		}
		s.shows(s.a, r, "warden", `"the one"`)
		_, err := s.a.store.Settle(s.ctx, "trails", r.ID, "warden", "the other")
		s.must(err)
		s.exchange(s.a, s.b)
		s.shows(s.b, r, "warden", `"the other"`)
		if len(s.get(s.b, r).Disputes) > 0 {
			s.wrong("the dispute is open still")
		}
		s.agree()
	}},
	{"a change that is refused, and mended", func(s *scene) {
		s.add(s.b, "trails", device.Fields{"code": "T-1"})
		s.exchange(s.b)
		r, err := s.a.store.Add(s.ctx, "trails", device.Fields{"code": "T-1", "name": "Second"})
		s.must(err)
		other := s.add(s.a, "trails", device.Fields{"name": "not harmed"})
		s.exchange(s.a)
		s.has(other, "name", `"not harmed"`, 1)
		if q := s.queue(s.a, 1)[0]; q.Verdict != change.Refused || len(q.Reasons) == 0 || q.Reasons[0].Code != change.CodeKeyTaken {
			s.wrong("the change is %s for %v", q.Verdict, q.Reasons)
		}
		s.edit(s.a, r, device.Fields{"code": "T-2"})
		s.exchange(s.a)
		s.queue(s.a, 0)
		s.has(r, "code", `"T-2"`, 1)
		s.agree()
	}},
	{"a change that is refused, and given up", func(s *scene) {
		s.add(s.b, "trails", device.Fields{"code": "T-1"})
		s.exchange(s.b)
		r := s.add(s.a, "trails", device.Fields{"code": "T-1", "name": "Second"})
		s.exchange(s.a)
		kept := filepath.Join(s.w.folder, "given-up.jsonl")
		s.must(s.a.store.Discard(s.ctx, s.queue(s.a, 1)[0].Number, kept))
		if text, err := os.ReadFile(kept); err != nil || !strings.Contains(string(text), "Second") {
			s.wrong("what was given up is not in the file: %q, %v", text, err)
		}
		s.showsNot(s.a, r)
		s.queue(s.a, 0)
		s.agree()
	}},
	{"records that stand or fall together", func(s *scene) {
		s.add(s.b, "trails", device.Fields{"code": "T-1"})
		s.exchange(s.b)
		made, err := s.a.store.Together(s.ctx, []driver.Step{{Collection: "trails", Fields: device.Fields{"code": "T-1"}},
			{Collection: "huts", Fields: device.Fields{"name": "Gale", "beds": 4}, Refers: map[string]int{"trail": 0}},
			{Collection: "huts", Fields: device.Fields{"name": "Loose"}}})
		s.must(err)
		s.shows(s.a, made[0], "total", "4")
		s.exchange(s.a)
		s.queue(s.a, 3)
		if records, _, err := s.w.side.whole(); err != nil || slices.ContainsFunc(records, func(r desk.Held) bool { return r.ID == made[1].ID || r.ID == made[2].ID }) {
			s.wrong("a half of what stands or falls together was taken: %v", err)
		}
		s.edit(s.a, made[0], device.Fields{"code": "T-2"})
		s.exchange(s.a)
		s.queue(s.a, 0)
		s.has(made[1], "beds", "4", 1)
		s.has(made[2], "name", `"Loose"`, 1)
		s.agree()
	}},
	{"a removal that meets an edit", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"name": "Ridge"})
		s.exchange(s.b, s.a)
		s.must(s.b.store.Remove(s.ctx, "trails", r.ID, nil))
		s.edit(s.a, r, device.Fields{"name": "still walked"})
		s.exchange(s.b, s.a)
		s.has(r, "name", `"still walked"`, 3)
		s.exchange(s.b)
		s.shows(s.b, r, "name", `"still walked"`)
		s.agree()
	}},
	{"a removal that comes", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"name": "Ridge"})
		s.exchange(s.b, s.a)
		s.must(s.b.store.Remove(s.ctx, "trails", r.ID, nil))
		s.exchange(s.b, s.a)
		s.showsNot(s.a, r)
		s.agree()
	}},
	{"a parent with children stays", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"name": "Ridge"})
		s.add(s.a, "huts", device.Fields{"name": "Gale", "beds": 4, "trail": r.ID.String()})
		if err := s.a.store.Remove(s.ctx, "trails", r.ID, nil); !errors.Is(err, device.ErrHasChildren) {
			s.wrong("a trail with a hut is removed: %v", err)
		}
		s.exchange(s.a)
		s.agree()
	}},
	{"totals follow the children", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"name": "Ridge"})
		hut := s.add(s.b, "huts", device.Fields{"beds": 4, "trail": r.ID.String()})
		s.exchange(s.b, s.a)
		s.shows(s.a, r, "total", "4")
		s.edit(s.a, hut, device.Fields{"beds": 7})
		s.shows(s.a, r, "total", "7")
		s.add(s.a, "huts", device.Fields{"beds": 2, "trail": r.ID.String()})
		s.shows(s.a, r, "total", "9")
		s.agree()
		s.shows(s.b, r, "total", "9")
	}},
	{"a territory that is lost, and gained again", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"name": "Ridge", "zone": "north"})
		s.exchange(s.b, s.a)
		s.a.held = []string{"south"}
		s.must(s.w.side.hold(s.a))
		s.exchange(s.a)
		s.showsNot(s.a, r)
		s.a.held = []string{"north", "south"}
		s.must(s.w.side.hold(s.a))
		s.exchange(s.a)
		s.shows(s.a, r, "name", `"Ridge"`)
	}},
	{"a record that is withdrawn", func(s *scene) {
		s.a.held = []string{"north"}
		s.must(s.w.side.hold(s.a))
		r := s.add(s.b, "trails", device.Fields{"name": "Ridge", "zone": "north"})
		s.exchange(s.b, s.a)
		s.shows(s.a, r, "name", `"Ridge"`)
		s.edit(s.b, r, device.Fields{"zone": "south"})
		s.exchange(s.b, s.a)
		s.showsNot(s.a, r)
	}},
	{"a field that is called otherwise", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"warden": "nobody", "name": "Ridge"})
		s.exchange(s.b, s.a)
		s.edit(s.a, r, device.Fields{"name": "Ridge Path"})
		def := s.w.options.Definitions[0]
		def.Fields = slices.Clone(def.Fields)
		def.Fields[0].Name = "called"
		def.Label = "{called}"
		def.Carry = definition.Carry{Rename: map[string]string{"name": "called"}}
		s.must(s.w.side.define(def))
		s.exchange(s.a)
		s.has(r, "called", `"Ridge Path"`, 0)
		s.shows(s.a, r, "called", `"Ridge Path"`)
		s.exchange(s.b)
		s.shows(s.b, r, "called", `"Ridge Path"`)
	}},
	{"a change made at central", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"name": "Ridge"})
		s.exchange(s.a)
		s.direct(r, change.Edit, device.Fields{"state": "closed"})
		s.exchange(s.a)
		s.shows(s.a, r, "state", `"closed"`)
		s.agree()
	}},
	{"restored from a backup", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"walked": 1})
		s.exchange(s.a)
		made := filepath.Join(s.w.folder, "backup.db")
		unsent := s.add(s.a, "trails", device.Fields{"name": "unsent in the backup"})
		s.must(s.a.store.Backup(s.ctx, made))
		s.edit(s.a, r, device.Fields{"walked": 4})
		s.exchange(s.a) // sends what is unsent in the backup, too
		s.must(s.a.store.Close())
		s.a.path = filepath.Join(s.w.folder, "restored.db")
		s.must(s.w.restoreStore(s.ctx, s.a, made, s.a.path))
		s.must(s.w.open(s.ctx, s.a))
		s.edit(s.a, r, device.Fields{"walked": 3}) // of the 1 that it knows
		s.exchange(s.a)
		s.has(unsent, "name", `"unsent in the backup"`, 1)
		s.has(r, "walked", "6", 3)
		s.agree()
	}},
	{"central is restored", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"walked": 1})
		s.exchange(s.a, s.b)
		s.must(s.w.side.backUp())
		s.edit(s.a, r, device.Fields{"walked": 4})
		later := s.add(s.a, "trails", device.Fields{"name": "after the backup"})
		s.exchange(s.a)
		s.edit(s.a, r, device.Fields{"walked": 5})
		_, err := s.w.side.restore()
		s.must(err)
		s.must(s.w.side.hold(s.a))
		s.must(s.w.side.hold(s.b))
		s.exchange(s.b, s.a, s.b, s.a)
		s.has(r, "walked", "5", 0)
		s.has(later, "name", `"after the backup"`, 1)
		s.agree()
	}},
	{"several workers on one device", func(s *scene) {
		s.must(s.a.store.SetSecret(s.ctx, "", pin))
		guest := rights.Person{Name: "guest-a", Role: rights.Worker, Territories: []string{rights.All}}
		s.a.guests = append(s.a.guests, guest)
		s.must(s.w.side.invite(s.a, guest))
		code, err := s.w.side.code(guest.Name)
		s.must(err)
		_, err = s.a.store.Join(s.ctx, code, pin)
		s.must(err)
		_, err = s.w.who(s.ctx, s.a)
		s.must(err)
		s.must(s.a.store.SignIn(s.ctx, s.a.worker, pin))
		r := s.add(s.a, "trails", device.Fields{"name": "not shown to others"})
		s.must(s.a.store.SignIn(s.ctx, guest.Name, pin))
		s.showsNot(s.a, r)
		s.queue(s.a, 0)
		if err := s.a.store.SignIn(s.ctx, s.a.worker, "0000"); !errors.Is(err, device.ErrSecret) {
			s.wrong("a wrong PIN is taken: %v", err)
		}
		s.exchange(s.a) // sends it all the same
		s.has(r, "name", `"not shown to others"`, 1)
		s.shows(s.a, r, "name", `"not shown to others"`)
		s.agree()
	}},
	{"asked to erase", func(s *scene) {
		r := s.add(s.a, "trails", device.Fields{"name": "Ridge"})
		s.a.errands = s.a.errands.With(fleet.AskedErrand{Errand: wire.Errand{ID: s.w.newID(), What: wire.ErrandErase}, AskedAt: s.w.now, By: lead})
		for range 4 { // whether the store goes with the exchange that sends it or with a later one is free
			if _, err := s.a.store.Exchange(s.ctx, nil); errors.Is(err, device.ErrErased) {
				s.has(r, "name", `"Ridge"`, 1)
				s.must(s.a.store.Kill())
				s.a.store = s.b.store // nothing is left to close
				return
			}
		}
		s.wrong("the store is here still")
	}},
	{"what does not fit is not saved", func(s *scene) {
		_, err := s.a.store.Add(s.ctx, "trails", device.Fields{"state": "flooded", "walked": "many"})
		var invalid *device.InvalidError
		if !errors.As(err, &invalid) || len(invalid.Reasons) != 2 {
			s.wrong("a record that does not fit: %v", err)
		}
		s.queue(s.a, 0)
		if _, err := s.a.store.Edit(s.ctx, "trails", uuid.Max, device.Fields{}, nil); !errors.Is(err, device.ErrNoRecord) {
			s.wrong("an edit of nothing: %v", err)
		}
	}},
	{"an app hears of changes", func(s *scene) {
		r := s.add(s.b, "trails", device.Fields{"name": "Ridge"})
		s.exchange(s.b, s.a)
		s.must(s.w.hear(s.ctx, s.a))
		if s.a.screen.shows[shown{"trails", r.ID}] == "" {
			s.wrong("it was not told of a record that came")
		}
		s.edit(s.a, r, device.Fields{"name": "Ridge Path"})
		s.must(s.w.hear(s.ctx, s.a))
		if text := s.a.screen.shows[shown{"trails", r.ID}]; !strings.Contains(text, "Ridge Path") {
			s.wrong("it shows %s", text)
		}
	}},
	{"finding and sorting", func(s *scene) {
		for n, one := range []string{"Long Ridge", "gale path", "Ärenweg", "Short Ridge"} {
			s.add(s.a, "trails", device.Fields{"name": one, "walked": n, "state": []string{"open", "closed"}[n%2]})
		}
		for ask, wanted := range map[string]struct {
			find  driver.Find
			names []string
		}{
			"words":      {driver.Find{Search: "RIDGE"}, []string{"Long Ridge", "Short Ridge"}},
			"a value":    {driver.Find{Where: []string{"state=closed"}, Sort: "walked"}, []string{"gale path", "Short Ridge"}},
			"more than":  {driver.Find{Where: []string{"walked>1"}, Sort: "-walked"}, []string{"Short Ridge", "Ärenweg"}},
			"any of two": {driver.Find{Where: []string{"walked=0", "walked=3"}, Sort: "walked"}, []string{"Long Ridge", "Short Ridge"}},
			"none":       {driver.Find{Where: []string{"warden="}, Sort: "walked", Limit: 2, Offset: 1}, []string{"gale path", "Ärenweg"}},
		} {
			found, err := s.a.store.Find(s.ctx, "trails", wanted.find)
			if err != nil {
				s.wrong("%s: %v", ask, err)
			}
			var names []string
			for _, r := range found.Records {
				var text string
				json.Unmarshal(r.Fields["name"], &text) // empty where there is none
				names = append(names, text)
			}
			if wanted.find.Sort == "" {
				slices.Sort(names)
			}
			if !slices.Equal(names, wanted.names) {
				s.wrong("%s finds %v, which should be %v", ask, names, wanted.names)
			}
		}
	}},
}
