package changes_test

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/central/fault"
	"homing/central/memory"
	"homing/central/pulls"
	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
	"homing/core/sight"
	"homing/wire"
)

// desk is a central in memory with two devices, whose clocks are right.
type desk struct {
	t   *testing.T
	m   *memory.Tables
	c   *changes.Changes
	p   *pulls.Pulls
	now time.Time
	ids uint16
}

const ways = `collection: ways
required: [name]
fields:
  name: {type: string, maxLength: 20}
  number: {type: string, series: W-1}
  visits: {type: integer}
  zone: {type: string}
sync:
  territory: record.zone
  rules: {visits: sum}
`

const posts = `collection: posts
fields:
  name: {type: string}
  way: {type: string, format: uuid, reference: ways}
parent: {collection: ways, field: way, removal: restrict}
`

func newDesk(t *testing.T, sources ...string) *desk {
	t.Helper()
	d := &desk{t: t, now: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	var definitions []definition.Definition
	for _, source := range sources {
		one, err := definition.ReadSource("test.yaml", []byte(source))
		if err != nil {
			t.Fatal(err)
		}
		definitions = append(definitions, one)
	}
	d.m = memory.New(func() time.Time { return d.now }, d.id)
	d.c = changes.New(d.m, wire.MaxBatchChanges, slog.New(slog.DiscardHandler))
	d.p = pulls.New(d.m, central.DefaultPageBytes, d.m.Now)
	if _, err := d.c.Define(t.Context(), "lead", definitions); err != nil {
		t.Fatal(err)
	}
	return d
}

func (d *desk) id() uuid.UUID {
	d.ids++
	return uuid.UUID{0: 1, 6: 0x70, 8: 0x80, 14: byte(d.ids >> 8), 15: byte(d.ids)}
}

func (d *desk) device(name string, territories ...string) central.Device {
	person := central.Person{Name: name, Role: rights.Worker, Territories: territories}
	incarnation := d.id()
	return central.Device{ID: d.id(), Name: name + "'s", Worker: name, Role: rights.Worker, Territories: territories,
		People: sight.Askers{person}, Incarnation: incarnation, Past: []uuid.UUID{incarnation}}
}

// change makes one; fields are pairs of a name and a JSON text.
func (d *desk) change(number int64, kind change.Kind, collection string, id uuid.UUID, base int64,
	fields ...string) change.Change {
	c := change.Change{Number: number, Collection: collection, Record: id, Kind: kind, Base: base,
		Fields: record.Delta{}, Stamp: clock.At(d.now), EditedAt: d.now}
	for pair := range slices.Chunk(fields, 2) {
		c.Fields[pair[0]] = record.Edit{To: json.RawMessage(pair[1])}
	}
	return c
}

func (d *desk) push(from central.Device, changes ...change.Change) []wire.Answer {
	d.t.Helper()
	batch := wire.Batch{ID: d.id(), Exchange: d.id(), Incarnation: from.Incarnation, Generation: d.m.Generation,
		Clock: wire.Clock{SentAt: d.now}}
	for _, c := range changes {
		text, err := json.Marshal(c)
		if err != nil {
			d.t.Fatal(err)
		}
		batch.Changes = append(batch.Changes, text)
	}
	got, err := d.c.Push(d.t.Context(), from, batch, 0)
	if err != nil {
		d.t.Fatal(err)
	}
	d.now = d.now.Add(time.Minute)
	return got.Answers
}

// verdicts puts what was answered on a line.
func verdicts(answers []wire.Answer) string {
	var all []string
	for _, a := range answers {
		text := string(a.Answer)
		if len(a.Reasons) > 0 {
			text += " " + a.Reasons[0].Code
		}
		all = append(all, text)
	}
	return fmt.Sprint(all)
}

// An answer brings the record whole just when the device cannot know it from what it sent: central gave values,
// others had edited it, its worker did not see it before, or it was removed; and says no more than that it is not to
// be kept where its worker does not see it now.
func TestAnswersBringWhatTheDeviceLacks(t *testing.T) {
	d := newDesk(t, ways)
	north, all := d.device("nora", "north"), d.device("lead", rights.All)
	brings := func(a wire.Answer) string {
		switch {
		case a.Record == nil:
			return "nothing"
		case a.Record.Withdrawn:
			return "withdrawal"
		}
		return "record"
	}
	way := d.id()
	for _, step := range []struct {
		what   string
		from   central.Device
		change change.Change
		brings string
	}{
		{"a number is given", north, d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`, "zone", `"north"`), "record"},
		{"nothing is new", north, d.change(2, change.Edit, "ways", way, 1, "name", `"Upper Ridge"`), "nothing"},
		{"it leaves what she covers", north, d.change(3, change.Edit, "ways", way, 2, "zone", `"south"`), "withdrawal"},
		{"it comes back by her own edit", north, d.change(4, change.Edit, "ways", way, 2, "zone", `"north"`), "record"},
		{"another removes it", all, d.change(1, change.Remove, "ways", way, 4), "nothing"},
		{"and brings it back", all, d.change(2, change.Add, "ways", way, 5, "name", `"Ridge again"`), "record"},
		{"she edits what she had", north, d.change(5, change.Edit, "ways", way, 4, "visits", `1`), "record"},
	} {
		answers := d.push(step.from, step.change)
		if !answers[0].Answer.Accepted() || brings(answers[0]) != step.brings {
			t.Errorf("%s: %s brings %s, not %s", step.what, verdicts(answers), brings(answers[0]), step.brings)
		}
	}
	// Sent again, a change has the same answer; but what is not for her now is not shown to her.
	again := d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`, "zone", `"north"`)
	again.Stamp, again.EditedAt = clock.At(d.now.Add(-7*time.Minute)), d.now.Add(-7*time.Minute)
	for zone, wanted := range map[string]string{`"north"`: "record", `"south"`: "withdrawal"} {
		if _, err := d.c.Direct(t.Context(), central.Everything("lead"),
			changes.Write{Collection: "ways", Record: way, Kind: change.Edit, Base: -1,
				Fields: record.Delta{"zone": {To: json.RawMessage(zone)}}}); err != nil {
			t.Fatal(err)
		}
		if answers := d.push(north, again); answers[0].Answer != change.Applied || answers[0].Revision != 1 ||
			brings(answers[0]) != wanted {
			t.Errorf(
				"with the record in %s, the repetition got %s with %s",
				zone,
				verdicts(answers),
				brings(answers[0]),
			)
		}
	}
}

// What hangs on something further down in the batch goes in with it; what hangs on what is not there waits, and
// everything else goes in.
func TestWhatHangsOnWhat(t *testing.T) {
	const long = `"a name of more than twenty characters"`
	way, post, lone := uuid.UUID{0: 9, 15: 1}, uuid.UUID{0: 9, 15: 2}, uuid.UUID{0: 9, 15: 3}
	for _, test := range []struct {
		name    string
		changes func(d *desk) []change.Change
		wanted  string
	}{
		{"a child before its parent", func(d *desk) []change.Change {
			return []change.Change{d.change(1, change.Add, "posts", post, 0, "way", `"`+way.String()+`"`),
				d.change(2, change.Add, "ways", way, 0, "name", `"Ridge"`)}
		}, "[applied applied]"},
		{"the child of a refused parent", func(d *desk) []change.Change {
			return []change.Change{d.change(1, change.Add, "ways", way, 0, "name", long),
				d.change(2, change.Add, "posts", post, 0, "way", `"`+way.String()+`"`),
				d.change(3, change.Add, "posts", lone, 0, "name", `"alone"`)}
		}, "[refused invalid-value waiting hangs-on-parent applied]"},
		{"an edit of a record whose add was refused", func(d *desk) []change.Change {
			return []change.Change{d.change(1, change.Add, "ways", way, 0, "name", long),
				d.change(2, change.Edit, "ways", way, 0, "visits", `1`)}
		}, "[refused invalid-value waiting hangs-on-refused]"},
		{"a group with a bad member", func(d *desk) []change.Change {
			one, two := d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`),
				d.change(2, change.Add, "ways", lone, 0, "name", long)
			one.Group, two.Group = &change.Group{ID: post, Of: 2}, &change.Group{ID: post, Of: 2}
			return []change.Change{one, two, d.change(3, change.Add, "posts", lone, 0)}
		}, "[refused hangs-on-group refused invalid-value applied]"},
		{"half a group", func(d *desk) []change.Change {
			one := d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`)
			one.Group = &change.Group{ID: post, Of: 2}
			return []change.Change{one, d.change(2, change.Add, "posts", post, 0, "way", `"`+way.String()+`"`)}
		}, "[waiting group-incomplete waiting hangs-on-parent]"},
		{"removing a parent that still has a child", func(d *desk) []change.Change {
			return []change.Change{d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`),
				d.change(2, change.Add, "posts", post, 0, "way", `"`+way.String()+`"`), d.change(3, change.Remove, "ways", way, 0)}
		}, "[applied applied refused has-children]"},
		{"the same number with other content", func(d *desk) []change.Change {
			return []change.Change{d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`),
				d.change(1, change.Add, "ways", lone, 0, "name", `"Valley"`),
				d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`)}
		}, "[applied refused number-reused applied]"},
		{"a change that folds one that came on its own", func(d *desk) []change.Change {
			folded := d.change(3, change.Edit, "ways", way, 0, "name", `"Upper Ridge"`)
			folded.Folds = []int64{2}
			return []change.Change{d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`),
				d.change(2, change.Edit, "ways", way, 0, "visits", `1`), folded}
		}, "[applied applied refused number-reused]"},
	} {
		t.Run(test.name, func(t *testing.T) {
			d := newDesk(t, ways, posts)
			from := d.device("lead", rights.All)
			changes := test.changes(d)
			first := d.push(from, changes...)
			if got := verdicts(first); got != test.wanted {
				t.Errorf("answered %s, not %s", got, test.wanted)
			}
			before := len(d.m.History())
			if again := d.push(from, changes...); verdicts(again) != test.wanted || len(d.m.History()) != before {
				t.Errorf(
					"sent again, it is answered %s, and the history grew by %d",
					verdicts(again),
					len(d.m.History())-before,
				)
			}
		})
	}
}

// After a restore, changes that are based on what is lost are taken for what the backup had; an unknown database is
// told so.
func TestRestoredMemory(t *testing.T) {
	d := newDesk(t, ways)
	from := d.device("lead", rights.All)
	way := d.id()
	add := d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`, "visits", `2`)
	edit := d.change(2, change.Edit, "ways", way, 1, "visits", `5`)
	edit.Fields["visits"] = record.Edit{From: json.RawMessage(`2`), To: json.RawMessage(`5`)}
	d.push(from, add)
	backup := d.m.Backup()
	d.push(from, edit)
	earlier := d.m.Generation
	d.m.Restore(backup, d.id(), d.id(), changes.SeriesGap)
	batch := wire.Batch{ID: d.id(), Exchange: d.id(), Incarnation: from.Incarnation, Generation: earlier,
		Clock: wire.Clock{SentAt: d.now}}
	for _, c := range []change.Change{add, edit, edit} {
		text, err := json.Marshal(c)
		if err != nil {
			t.Fatal(err)
		}
		batch.Changes = append(batch.Changes, text)
	}
	got, err := d.c.Push(d.t.Context(), from, batch, 0)
	if err != nil || verdicts(got.Answers) != "[applied applied applied]" || got.Answers[1].Record == nil {
		t.Errorf("%s, %v", verdicts(got.Answers), err)
	}
	if fields := d.m.Records()[0].Fields; string(fields["visits"]) != `5` {
		t.Errorf("central counts %s", fields["visits"])
	}
	batch.Generation = d.id()
	if _, err := d.c.Push(d.t.Context(), from, batch, 0); fault.Explain(err) == nil ||
		fault.Explain(err).Kind != fault.Clash {
		t.Errorf("changes of an unknown database: %v", err)
	}
}

// A group of which a copy of the store has used one number is refused whole, for good: what hangs on nothing else of
// it must not come in when the batch comes again.
func TestAGroupOfWhichANumberWasUsed(t *testing.T) {
	d := newDesk(t, ways, posts)
	nora := d.device("nora", rights.All)
	way, other, post := d.id(), d.id(), d.id()
	d.push(nora, d.change(1, change.Add, "ways", other, 0, "name", `"Gorge"`))
	group := &change.Group{ID: d.id(), Of: 2}
	parent, child := d.change(
		1,
		change.Add,
		"ways",
		way,
		0,
		"name",
		`"Ridge"`,
	), d.change(
		2,
		change.Add,
		"posts",
		post,
		0,
		"way",
		`"`+way.String()+`"`,
	)
	parent.Group, child.Group = group, group
	const refused = "[refused number-reused refused hangs-on-group]"
	if got := verdicts(d.push(nora, parent, child)); got != refused {
		t.Errorf("at first: %s", got)
	}
	d.push(nora, d.change(3, change.Add, "ways", way, 0, "name", `"Ridge"`))
	if got := verdicts(d.push(nora, parent, child)); got != refused {
		t.Errorf("when its parent is there: %s", got)
	}
}
