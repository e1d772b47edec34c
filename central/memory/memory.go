// Package memory is central's tables in memory, for rehearsals. It keeps and finds, as package postgres does, and has
// no rules of its own: what becomes of changes and what devices are sent is decided by the packages that stand on
// either.
package memory

import (
	"context"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/central/changes"
	"homing/central/fleet"
	"homing/central/pulls"
	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/record"
	"homing/core/rights"
	"homing/core/sight"
	"homing/wire"
)

// Tables are all tables. They are good for one goroutine at a time, and a transaction is a call: what is written
// stays written, so whoever works on them checks before they write.
type Tables struct {
	Generation uuid.UUID
	Earlier    []uuid.UUID
	// Faults are mistakes made on purpose, to see that a rehearsal notices them.
	Faults Faults
	// Heard is told what would go to listeners; nil hears nothing.
	Heard func(fleet.Event)

	now         func() time.Time
	newID       func() uuid.UUID
	source      uuid.UUID // incarnation of what is written at central itself
	directs     int64     // numbers of these changes that were taken
	definitions map[string]*definition.Collection
	heads       map[string]int64
	left        map[string][]left // when a head was moved on, and from where
	rows        map[desk.Key]*row
	history     []desk.Accepted
	answers     map[uuid.UUID]map[int64]desk.Kept
	torn        map[uuid.UUID]bool
	series      map[desk.Series]int64 // the last number that was given
	formerly    map[string][]desk.Formerly
	people      map[uuid.UUID]sight.Askers // of each device
	former      map[uuid.UUID][]desk.Former
	followed    []changes.Followed
}

// Faults are mistakes that a central might make.
type Faults struct {
	ForgetsAnswers bool // a change that comes again is taken again
	LateCommits    bool // a batch's records show only after the next pull has gone past them
	LooseKeys      bool // nobody is found by a key
	QuietMoves     bool // what a new definition lets others see is not told to who wrote it last
}

// left says when a head was moved on from where it was.
type left struct {
	at   time.Time
	head int64
}

// row is a record with its place among the changes of its collection.
type row struct {
	desk.Row
	position int64
	source   change.Source
	again    bool // a new definition gave it its position, rather than its last change
	late     bool // not visible yet
}

// New makes empty tables, whose time and ids are given.
func New(now func() time.Time, newID func() uuid.UUID) *Tables {
	return &Tables{Generation: newID(), now: now, newID: newID, source: newID(), definitions: map[string]*definition.Collection{},
		heads: map[string]int64{}, left: map[string][]left{}, rows: map[desk.Key]*row{}, answers: map[uuid.UUID]map[int64]desk.Kept{},
		torn: map[uuid.UUID]bool{}, series: map[desk.Series]int64{}, formerly: map[string][]desk.Formerly{},
		people: map[uuid.UUID]sight.Askers{}, former: map[uuid.UUID][]desk.Former{}}
}

// Change is [changes.Ground.Change].
func (m *Tables) Change(_ context.Context, work func(changes.Tables) error) error { return work(m) }

// Define is [changes.Ground.Define].
func (m *Tables) Define(_ context.Context, work func(changes.Tables) error) error {
	before := m.Backup() // a definition that is refused may have been written in part
	err := work(m)
	if err != nil {
		m.backTo(before)
	}
	return err
}

// Look is [changes.Ground.Look].
func (m *Tables) Look(_ context.Context, work func(changes.Tables) error) error { return work(m) }

// Deliver is [pulls.Ground.Deliver].
func (m *Tables) Deliver(_ context.Context, work func(pulls.Tables) error) error { return work(m) }

// NotePull is [pulls.Ground.NotePull].
func (m *Tables) NotePull(_ context.Context, _ uuid.UUID, _ pulls.Request, page wire.Page, _ int) error {
	for at, r := range m.rows {
		if r.late && at.Collection == page.Collection && r.position <= page.Cursor {
			r.late = false
		}
	}
	return nil
}

// Announce is [changes.Ground.Announce].
func (m *Tables) Announce(_ context.Context, event fleet.Event) {
	if m.Heard != nil {
		m.Heard(event)
	}
}

// Now is [changes.Ground.Now].
func (m *Tables) Now() time.Time { return m.now() }

// NewID is [changes.Ground.NewID].
func (m *Tables) NewID() uuid.UUID { return m.newID() }

// Source is [changes.Ground.Source].
func (m *Tables) Source() uuid.UUID { return m.source }

// Generations is [changes.Ground.Generations].
func (m *Tables) Generations() (now uuid.UUID, earlier []uuid.UUID) { return m.Generation, m.Earlier }

// Definitions is [changes.Loading.Definitions].
func (m *Tables) Definitions(context.Context) (map[string]*definition.Collection, error) {
	return maps.Clone(m.definitions), nil
}

// Answers is [changes.Loading.Answers].
func (m *Tables) Answers(_ context.Context, incarnation uuid.UUID, numbers []int64) (map[int64]desk.Kept, bool, error) {
	known := map[int64]desk.Kept{}
	for _, n := range numbers {
		if kept, is := m.answers[incarnation][n]; is && !m.Faults.ForgetsAnswers {
			known[n] = kept
		}
	}
	return known, m.torn[incarnation], nil
}

// Lock is [changes.Loading.Lock].
func (m *Tables) Lock(ctx context.Context, wanted []desk.Key) (map[desk.Key]*desk.Row, error) {
	return m.Rows(ctx, wanted)
}

// Rows is [changes.Finding.Rows].
func (m *Tables) Rows(_ context.Context, wanted []desk.Key) (map[desk.Key]*desk.Row, error) {
	found := map[desk.Key]*desk.Row{}
	for _, at := range wanted {
		if r := m.rows[at]; r != nil {
			copied := r.Row
			found[at] = &copied
		}
	}
	return found, nil
}

// ParentsOf is [changes.Loading.ParentsOf].
func (m *Tables) ParentsOf(_ context.Context, c *definition.Collection,
	ids []uuid.UUID) (parents []uuid.UUID, err error) {
	for _, id := range ids {
		if r := m.rows[desk.Key{Collection: c.Definition.Collection, ID: id}]; r != nil {
			if up, names := c.ParentOf(r.Fields); names && !slices.Contains(parents, up) {
				parents = append(parents, up)
			}
		}
	}
	return parents, nil
}

// ChildrenOf is [changes.Loading.ChildrenOf].
func (m *Tables) ChildrenOf(ctx context.Context, child *definition.Collection,
	parents []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error) {
	counted, err := m.Counted(ctx, child, parents)
	found := map[uuid.UUID][]uuid.UUID{}
	for up, children := range counted {
		for _, one := range children {
			found[up] = append(found[up], one.ID)
		}
	}
	return found, err
}

// Counted is [changes.Loading.Counted].
func (m *Tables) Counted(_ context.Context, child *definition.Collection,
	parents []uuid.UUID) (map[uuid.UUID][]desk.Child, error) {
	found := map[uuid.UUID][]desk.Child{}
	for _, at := range m.keys(child.Definition.Collection) {
		r := m.rows[at]
		if up, names := child.ParentOf(r.Fields); names && !r.Removed && slices.Contains(parents, up) {
			found[up] = append(found[up], desk.Child{Key: at, Fields: r.Fields, Computed: r.Computed})
		}
	}
	return found, nil
}

// keys are those of a collection's records, by id.
func (m *Tables) keys(collection string) (all []desk.Key) {
	for at := range m.rows {
		if at.Collection == collection {
			all = append(all, at)
		}
	}
	slices.SortFunc(all, func(a, b desk.Key) int { return slices.Compare(a.ID[:], b.ID[:]) })
	return all
}

// Draw is [changes.Loading.Draw].
func (m *Tables) Draw(_ context.Context, series desk.Series, count int) (numbers []int64, err error) {
	for range count {
		m.series[series]++
		numbers = append(numbers, m.series[series])
	}
	return numbers, nil
}

// Advance is [changes.Loading.Advance].
func (m *Tables) Advance(_ context.Context, series desk.Series, behind int64) error {
	m.series[series] = max(m.series[series], behind)
	return nil
}

// NotePeople says whom a device has from now on.
func (m *Tables) NotePeople(device uuid.UUID, people sight.Askers) {
	if before := m.people[device]; before != nil && before.Digest() != people.Digest() {
		m.former[device] = append(slices.Clip(m.former[device]), desk.Former{People: before, Until: m.now()})
	}
	m.people[device] = slices.Clone(people)
}

// Former is [changes.Loading.Former].
func (m *Tables) Former(_ context.Context, device uuid.UUID) ([]desk.Former, error) {
	return m.former[device], nil
}

// Moments is [changes.Loading.Moments].
func (m *Tables) Moments(_ context.Context, of []desk.Key) (map[desk.Key][]desk.Moment, error) {
	all := map[desk.Key][]desk.Moment{}
	for _, v := range m.history {
		if slices.Contains(of, v.Key) {
			all[v.Key] = desk.Next(all[v.Key], v.Revision, v.Source, v.ReceivedAt, v.Delta)
		}
	}
	return all, nil
}

// Formerly is [changes.Loading.Formerly].
func (m *Tables) Formerly(_ context.Context, collection string) ([]desk.Formerly, error) {
	return m.formerly[collection], nil
}

// DirectNumbers is [changes.Loading.DirectNumbers].
func (m *Tables) DirectNumbers(_ context.Context, count int) (first int64, err error) {
	m.directs += int64(count)
	return m.directs - int64(count) + 1, nil
}

// HandOut is [changes.Writing.HandOut].
func (m *Tables) HandOut(_ context.Context, collection string, count int) (head int64, err error) {
	m.left[collection] = append(slices.Clip(m.left[collection]), left{m.now(), m.heads[collection]})
	m.heads[collection] += int64(count)
	return m.heads[collection], nil
}

// Write is [changes.Writing.Write].
func (m *Tables) Write(_ context.Context, d *desk.Decided) error {
	for _, v := range d.Versions {
		source := change.Source{Incarnation: d.Origin.Incarnation, Number: v.Change.Number}
		m.history = append(m.history, desk.Accepted{Version: *v, Source: source, Device: d.Origin.Device,
			ReceivedAt: d.Origin.Received})
		if d.Changed(v) {
			kept := *d.Rows[v.Key]
			kept.Stored = true
			m.rows[v.Key] = &row{Row: kept, position: v.Position, source: source, late: m.Faults.LateCommits &&
				d.Origin.Batch != nil}
		}
	}
	for at := range d.Computed {
		m.rows[at].Computed = d.Rows[at].Computed
	}
	if m.answers[d.Origin.Incarnation] == nil {
		m.answers[d.Origin.Incarnation] = map[int64]desk.Kept{}
	}
	for _, one := range d.Conclusions {
		m.answers[d.Origin.Incarnation][one.Number] = desk.Kept{Number: one.Number, Digest: one.Digest,
			Answer: marshal(d.Answers[one.At]), Waits: one.Waits}
	}
	m.torn[d.Origin.Incarnation] = m.torn[d.Origin.Incarnation] || d.Torn
	return nil
}

// NoteDirect is [changes.Writing.NoteDirect].
func (m *Tables) NoteDirect(_ context.Context, source uuid.UUID, digest []byte, answer wire.Answer) error {
	m.answers[source] = map[int64]desk.Kept{1: {Number: 1, Digest: digest, Answer: marshal(answer)}}
	return nil
}

// Meet is [changes.Writing.Meet].
func (m *Tables) Meet(context.Context, uuid.UUID, time.Time, clock.Offset) error { return nil }

// NoteFollowed is [changes.Writing.NoteFollowed].
func (m *Tables) NoteFollowed(_ context.Context, log []changes.Followed) error {
	m.followed = append(slices.Clip(m.followed), log...)
	return nil
}

// NotePush is [changes.Writing.NotePush].
func (m *Tables) NotePush(context.Context, uuid.UUID, uuid.UUID, *desk.Decided, int) error {
	return nil
}

// FieldsAt is [changes.Finding.FieldsAt].
func (m *Tables) FieldsAt(_ context.Context, at desk.Key, revision int64) (record.Fields, error) {
	fields := record.Fields{}
	for _, v := range m.history {
		if v.Key == at && v.Revision <= revision {
			fields = fields.Apply(v.Delta)
		}
	}
	return fields, nil
}

// ByValue is [changes.Finding.ByValue].
func (m *Tables) ByValue(_ context.Context, c *definition.Collection, field string, texts []string) ([]changes.Found, error) {
	return m.byText(c, texts, func(fields record.Fields) string {
		if fields[field] == nil {
			return ""
		}
		return definition.Plain(fields[field])
	})
}

// ByOne is [changes.Finding.ByOne].
func (m *Tables) ByOne(_ context.Context, c *definition.Collection, texts []string) ([]changes.Found, error) {
	return m.byText(c, texts, c.OneText)
}

func (m *Tables) byText(c *definition.Collection, texts []string, of func(record.Fields) string) (found []changes.Found, err error) {
	if m.Faults.LooseKeys {
		return nil, nil
	}
	for _, at := range m.keys(c.Definition.Collection) {
		r := m.rows[at]
		if text := of(r.Fields); !r.Removed && text != "" && slices.Contains(texts, text) {
			copied := r.Row
			found = append(found, changes.Found{Text: text, ID: at.ID, Row: &copied})
		}
	}
	slices.SortStableFunc(found, func(a, b changes.Found) int {
		return int(m.rows[desk.Key{Collection: c.Definition.Collection,
			ID: b.ID}].position - m.rows[desk.Key{Collection: c.Definition.Collection, ID: a.ID}].position)
	})
	return found, nil
}

// LockKey is [changes.Finding.LockKey].
func (m *Tables) LockKey(context.Context, string, string, bool) error { return nil }

// Disputed is [changes.Finding.Disputed].
func (m *Tables) Disputed(_ context.Context, at desk.Key) (past []desk.Accepted, err error) {
	for _, v := range slices.Backward(m.history) {
		if v.Key == at && len(v.Decisions) > 0 {
			past = append(past, v)
		}
	}
	return past, nil
}

// PutDefinition is [changes.Defining.PutDefinition].
func (m *Tables) PutDefinition(_ context.Context, _ string, c *definition.Collection, _ bool) error {
	name := c.Definition.Collection
	m.definitions[name] = c
	m.formerly[name] = append(slices.Clip(m.formerly[name]), desk.Formerly{Collection: c, From: m.now()})
	m.heads[name] += 0
	for field, looks := range c.SeriesFields() {
		series := desk.Series{Collection: name, Field: field}
		if _, begun := m.series[series]; !begun {
			m.series[series] = looks.First - 1
		}
	}
	return nil
}

// Each is [changes.Defining.Each].
func (m *Tables) Each(_ context.Context, collection string, removed bool,
	take func(id uuid.UUID, row *desk.Row) error) error {
	for _, at := range m.keys(collection) {
		if r := m.rows[at]; removed || !r.Removed {
			copied := r.Row
			if err := take(at.ID, &copied); err != nil {
				return err
			}
		}
	}
	return nil
}

// Retag is [changes.Defining.Retag].
func (m *Tables) Retag(_ context.Context, collection string, moved map[uuid.UUID]*desk.Row) error {
	for _, at := range m.keys(collection) {
		if now := moved[at.ID]; now != nil {
			m.heads[collection]++
			kept := *m.rows[at]
			kept.Territories, kept.Left, kept.position, kept.again = now.Territories, now.Left, m.heads[collection],
				!m.Faults.QuietMoves
			m.rows[at] = &kept
		}
	}
	return nil
}

// TellAgain is [changes.Defining.TellAgain].
func (m *Tables) TellAgain(_ context.Context, collection string) error {
	all := m.keys(collection)
	slices.SortFunc(all, func(a, b desk.Key) int { return int(m.rows[a].position - m.rows[b].position) })
	for _, at := range all {
		m.heads[collection]++
		kept := *m.rows[at]
		kept.position, kept.again = m.heads[collection], !m.Faults.QuietMoves
		m.rows[at] = &kept
	}
	return nil
}

// PutComputed is [changes.Defining.PutComputed].
func (m *Tables) PutComputed(_ context.Context, collection string, computed map[uuid.UUID]record.Fields) error {
	for id, fields := range computed {
		at := desk.Key{Collection: collection, ID: id}
		kept := *m.rows[at]
		kept.Computed = fields
		m.rows[at] = &kept
	}
	return nil
}

// Devices is [changes.Defining.Devices].
func (m *Tables) Devices(context.Context) (int, error) { return 0, nil }

// Head is [pulls.Tables.Head].
func (m *Tables) Head(_ context.Context, collection string) (int64, error) {
	return m.heads[collection], nil
}

// Heads is [pulls.Tables.Heads].
func (m *Tables) Heads(context.Context) (map[string]int64, error) { return maps.Clone(m.heads), nil }

// LeftAfter is [pulls.Tables.LeftAfter].
func (m *Tables) LeftAfter(_ context.Context, at time.Time) (map[string]int64, error) {
	all := map[string]int64{}
	for name, moves := range m.left {
		if n := slices.IndexFunc(moves, func(one left) bool { return one.at.After(at) }); n >= 0 {
			all[name] = moves[n].head
		}
	}
	return all, nil
}

// Secret is [pulls.Ground.Secret].
func (m *Tables) Secret() []byte { return []byte("rehearsal") }

// Restored is [changes.Defining.Restored].
func (m *Tables) Restored(ctx context.Context, since time.Time, generation, source uuid.UUID) error {
	for at, r := range m.rows {
		kept := *r
		kept.Restored, kept.late = 0, false
		for _, v := range m.history {
			if v.Key == at && !v.ReceivedAt.After(since) {
				kept.Restored = max(kept.Restored, v.Revision)
			}
		}
		m.rows[at] = &kept
	}
	for series := range m.series {
		m.series[series] += changes.SeriesGap
	}
	m.Earlier = append(slices.Clone(m.Earlier), m.Generation)
	m.Generation, m.source = generation, source
	return nil
}

// Count is [pulls.Tables.Count].
func (m *Tables) Count(_ context.Context, collection string, covers []string) (n int64, err error) {
	for at, r := range m.rows {
		if at.Collection == collection && !r.Removed && rights.Covers(covers, r.Territories) {
			n++
		}
	}
	return n, nil
}

// Changed is [pulls.Tables.Changed].
func (m *Tables) Changed(_ context.Context, wanted pulls.Wanted, limit int,
	take func(pulls.Entry) (bool, error)) error {
	var found []desk.Key
	for at, r := range m.rows {
		if at.Collection == wanted.Collection && r.position > wanted.After && !r.late {
			found = append(found, at)
		}
	}
	slices.SortFunc(found, func(a, b desk.Key) int { return int(m.rows[a].position - m.rows[b].position) })
	for _, at := range found[:min(limit, len(found))] {
		e := m.rows[at].entry(at.ID)
		e.Since = m.revisionAt(at, wanted.Parts)
		if more, err := take(e); err != nil || !more {
			return err
		}
	}
	return nil
}

// revisionAt is the revision that a record had at a position; 0 when it was not there, or has moved since.
func (m *Tables) revisionAt(at desk.Key, position int64) (revision int64) {
	if len(m.rows[at].Left) > 0 {
		return 0
	}
	for _, v := range m.history {
		if v.Key == at && v.Position <= position {
			revision = v.Revision
		}
	}
	return revision
}

// Entries is [pulls.Tables.Entries].
func (m *Tables) Entries(_ context.Context, collection string, ids []uuid.UUID) (map[uuid.UUID]pulls.Entry, error) {
	found := map[uuid.UUID]pulls.Entry{}
	for _, id := range ids {
		if r := m.rows[desk.Key{Collection: collection, ID: id}]; r != nil {
			found[id] = r.entry(id)
		}
	}
	return found, nil
}

func (r *row) entry(id uuid.UUID) pulls.Entry {
	return pulls.Entry{ID: id, Revision: r.Revision, Position: r.position, Removed: r.Removed, Fields: r.Fields.JSON(),
		Marks:       marshal(r.Marks),
		Territories: r.Territories, Left: r.Left, Source: r.source, Again: r.again, Last: r.Last}
}
