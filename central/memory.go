package central

import (
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/rights"
	"homing/wire"
)

// Memory is a central without a database, for rehearsals. It accepts changes at the very desk at which a [Central] does: checks, rights, merge,
// groups, families and answers are the same code. What PostgreSQL does otherwise, it does with maps: it keeps rows, hands out positions and
// selects what a device pulls. It is good for one goroutine at a time.
type Memory struct {
	Generation uuid.UUID
	Earlier    []uuid.UUID
	Now        func() time.Time
	// Faults are mistakes made on purpose, to see that a rehearsal notices them.
	Faults Faults

	definitions map[string]*definition.Collection
	heads       map[string]int64
	rows        map[key]*memoryRow
	history     []Accepted
	answers     map[uuid.UUID]map[int64]storedAnswer
	series      map[string]int64
	direct      uuid.UUID // incarnation of what is written at central itself
	directs     int64     // of these changes
}

// Faults are mistakes that a central might make.
type Faults struct {
	ForgetsAnswers bool // a change that comes again is taken again
	LateCommits    int  // of so many pushes one shows its records only after the next pull has gone past them
	TrustsClocks   bool // edits are dated by the device's clock, uncorrected
}

type memoryRow struct {
	row
	position   int64
	source     change.Source
	author     string
	device     string
	editedAt   time.Time
	receivedAt time.Time
	late       bool // not visible yet
}

// Accepted is a version of a record in the history of a [Memory].
type Accepted struct {
	Collection string
	Record     uuid.UUID
	Revision   int64
	Position   int64
	Change     change.Change
	Source     change.Source
	Device     string
	Delta      record.Delta // what really changed
	Decisions  []change.Decision
	Stamp      clock.Stamp   // in central's time
	Off        time.Duration // how far the stamp may be off
}

// NewMemory makes an empty central with definitions, which must fit together. Direct is the incarnation of what is written at central itself.
func NewMemory(now func() time.Time, generation, direct uuid.UUID, definitions []definition.Definition) (*Memory, error) {
	m := &Memory{Generation: generation, Now: now, direct: direct, definitions: map[string]*definition.Collection{}, heads: map[string]int64{}, rows: map[key]*memoryRow{},
		answers: map[uuid.UUID]map[int64]storedAnswer{}, series: map[string]int64{}}
	for _, d := range definitions {
		compiled, err := d.Compile()
		if err != nil {
			return nil, fail(Invalid, "the definition of %s: %v", d.Collection, err)
		}
		m.definitions[d.Collection] = compiled
	}
	if err := definition.CheckTogether(m.definitions); err != nil {
		return nil, fail(Invalid, "%v", err)
	}
	return m, nil
}

// Define takes a collection's new definition, which must fit all that is there: one with more fields.
func (m *Memory) Define(d definition.Definition) error {
	old := m.definitions[d.Collection]
	if old != nil && old.Definition.SameAs(d) {
		return nil
	}
	if d.Version = 1; old != nil {
		d.Version = old.Version + 1
	}
	compiled, err := d.Compile()
	if err != nil {
		return fail(Invalid, "the definition of %s: %v", d.Collection, err)
	}
	all := maps.Clone(m.definitions) // a backup has the others
	all[d.Collection] = compiled
	if err := definition.CheckTogether(all); err != nil {
		return fail(Invalid, "%v", err)
	}
	m.definitions = all
	return nil
}

// Push is [Central.Push].
func (m *Memory) Push(from Device, batch wire.Batch) (wire.Answers, error) {
	restores, err := restoresSince(batch.Generation, m.Generation, m.Earlier)
	if err != nil {
		return wire.Answers{}, err
	}
	if !slices.Contains(from.Past, batch.Incarnation) {
		return wire.Answers{}, fail(Clash, "the batch comes from the local store %s, which is not this device's", batch.Incarnation)
	}
	received := m.Now()
	offset := batch.Clock.Offset().Believe(batch.Clock.SentAt, received, believeWithin)
	if m.Faults.TrustsClocks {
		offset = clock.Offset{By: 10 * 365 * 24 * time.Hour} // so far ahead that no edit is held against its receipt
		received = received.Add(20 * 365 * 24 * time.Hour)
	}
	items := make([]item, len(batch.Changes))
	for n, raw := range batch.Changes {
		items[n] = read(raw)
	}
	d := m.accept(origin{incarnation: batch.Incarnation, device: from.Name, batch: &batch.ID, who: from.Person(), others: from.others(), restores: restores, offset: offset, received: received}, items)
	m.store(d)
	return wire.Answers{Batch: batch.ID, Answers: d.answers}, nil
}

// accept is [Central.accept], but for what is written.
func (m *Memory) accept(from origin, items []item) *desk {
	d := &desk{origin: from, definitions: m.definitions, known: map[int64]storedAnswer{}, fresh: map[int64]settledAnswer{}, failedAdds: map[key]bool{},
		answers: make([]wire.Answer, len(items)), rows: map[key]*row{}, children: map[key][]key{}, numbers: map[string][]string{}, assigned: map[string]string{}}
	if !m.Faults.ForgetsAnswers {
		maps.Copy(d.known, m.answers[from.incarnation])
	}
	for at, stored := range m.rows { // all of them: a rehearsal is small
		copied := stored.row
		d.rows[at] = &copied
	}
	need := d.needNumbers(items)
	for name, c := range m.definitions {
		for field, looks := range c.SeriesFields() {
			series := seriesKey(name, field)
			for range need[series] {
				d.numbers[series] = append(d.numbers[series], looks.Format(looks.First+m.series[series]))
				m.series[series]++
			}
		}
	}
	d.workAll(items)
	return d
}

// Direct is [Central.Direct].
func (m *Memory) Direct(who Person, write Write) (wire.Answer, error) {
	at, received := key{write.Collection, write.Record}, m.Now()
	var current *row
	if stored := m.rows[at]; stored != nil {
		copied := stored.row
		current = &copied
	}
	seen := record.Fields{}
	for _, v := range m.history {
		if v.Collection == at.collection && v.Record == at.id && v.Revision <= write.Base {
			seen = seen.Apply(v.Delta)
		}
	}
	ch, err := write.shape(who, m.definitions[write.Collection], current, seen)
	if err != nil {
		return wire.Answer{}, err
	}
	number := func() (int64, error) { m.directs++; return m.directs, nil }
	ch.Number, _ = number()
	ch.Stamp, ch.EditedAt = clock.At(received), received
	if err := directFields(m.definitions[write.Collection], ch.Fields, m.there); err != nil {
		return wire.Answer{}, err
	}
	changes := []change.Change{ch}
	if write.Kind == change.Remove {
		order, err := descend(m.definitions, at, m.childrenOf)
		if err != nil {
			return wire.Answer{}, err
		}
		rows := map[key]*row{}
		for _, one := range order {
			rows[one] = &m.rows[one].row
		}
		if changes, err = removals(ch, order, rows, write.WithChildren, number); err != nil {
			return wire.Answer{}, err
		}
	}
	d := m.accept(origin{incarnation: m.direct, who: who, received: received}, itemsOf(changes))
	for _, answer := range d.answers {
		if !answer.Answer.Accepted() {
			return wire.Answer{}, refused(answer.Reasons)
		}
	}
	if err := goneTogether(changes, d.rows[at]); err != nil {
		return wire.Answer{}, err
	}
	m.store(d)
	return d.answers[len(d.answers)-1], nil
}

func (m *Memory) there(collection, id string) (bool, error) {
	for at, r := range m.rows {
		if at.collection == collection && at.id.String() == id && !r.Removed {
			return true, nil
		}
	}
	return false, nil
}

func (m *Memory) childrenOf(child definition.Definition, parents []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error) {
	found := map[uuid.UUID][]uuid.UUID{}
	for at, r := range m.rows {
		if at.collection != child.Collection || r.Removed {
			continue
		}
		if up, names := m.definitions[child.Collection].ParentOf(r.Fields); names && slices.Contains(parents, up) {
			found[up] = append(found[up], at.id)
		}
	}
	for _, ids := range found {
		slices.SortFunc(ids, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	}
	return found, nil
}

func (m *Memory) store(d *desk) {
	late := m.Faults.LateCommits > 0 && len(d.versions) > 0 && d.versions[0].change.Number%int64(m.Faults.LateCommits) == 0
	for _, v := range d.versions {
		m.heads[v.collection]++
		v.position = m.heads[v.collection]
		kept := *d.rows[v.key]
		if kept.last == v {
			kept.last, kept.touched, kept.stored = nil, false, true
			m.rows[v.key] = &memoryRow{row: kept, position: v.position, source: change.Source{Incarnation: d.incarnation, Number: v.change.Number}, author: v.author,
				device: d.device, editedAt: v.editedAt, receivedAt: d.received, late: late}
		}
		m.history = append(m.history, Accepted{Collection: v.collection, Record: v.id, Revision: v.revision, Position: v.position, Change: v.change, Device: d.device,
			Source: change.Source{Incarnation: d.incarnation, Number: v.change.Number}, Delta: v.delta, Decisions: v.decisions, Stamp: v.stamp, Off: d.offset.Error})
	}
	if m.answers[d.incarnation] == nil {
		m.answers[d.incarnation] = map[int64]storedAnswer{}
	}
	for _, s := range d.settled {
		m.answers[d.incarnation][s.number] = storedAnswer{Number: s.number, Digest: s.digest, Answer: marshal(d.answers[s.answer])}
	}
}

// Pull is [Central.Pull].
func (m *Memory) Pull(from Device, ask PullRequest) (wire.Page, error) {
	c := m.definitions[ask.Collection]
	if c == nil {
		return wire.Page{}, fail(NotFound, "there is no collection %q", ask.Collection)
	}
	if ask.Covers == nil {
		ask.Covers = from.Territories
	}
	for _, key := range ask.Covers {
		if !slices.Contains(from.Territories, key) && !slices.Contains(from.Territories, rights.All) {
			return wire.Page{}, fail(Coverage, "the worker %s does not hold the territory %q now; ask for the definitions again", from.Worker, key)
		}
	}
	head := m.heads[ask.Collection]
	if ask.Cursor < 0 || ask.Cursor > head {
		return wire.Page{}, fail(Clash, "the cursor %d is not within 0 to %d, the head of %s; forget the cursor and load the collection again", ask.Cursor, head, ask.Collection)
	}
	page := wire.Page{Collection: ask.Collection, Records: []wire.Record{}, Cursor: head, Head: head}
	load := ask.Load
	var found []key
	for at, r := range m.rows {
		if at.collection == ask.Collection && r.position > ask.Cursor && !r.late {
			found = append(found, at)
		}
	}
	slices.SortFunc(found, func(a, b key) int { return int(m.rows[a].position - m.rows[b].position) })
	readsAll := from.People.readsAll(c)
	for _, at := range found {
		r := m.rows[at]
		covered := rights.Covers(ask.Covers, r.territories)
		if covered && !readsAll {
			covered = from.People.see(c, r.territories, r.Fields)
		}
		left := slices.Contains(r.left, rights.All) || slices.ContainsFunc(r.left, func(key string) bool { return slices.Contains(ask.Covers, key) }) ||
			slices.Contains(from.Past, r.source.Incarnation)
		switch {
		case covered && readsAll && r.source.Incarnation == from.Incarnation && r.source.Number <= ask.Answered, load && (r.Removed || !covered), !covered && !left:
			continue
		}
		if len(page.Records) == ask.Limit {
			page.Cursor, page.More = page.Records[ask.Limit-1].Position, true
			break
		}
		page.Records = append(page.Records, m.record(at, r, covered))
	}
	for _, r := range m.rows {
		if r.late && r.position <= page.Cursor {
			r.late = false
		}
	}
	return page, nil
}

func (m *Memory) record(at key, r *memoryRow, covered bool) wire.Record {
	if !covered {
		return wire.Record{ID: at.id, Revision: r.Revision, Position: r.position, Withdrawn: true}
	}
	one := wire.Record{ID: at.id, Revision: r.Revision, Position: r.position, Removed: r.Removed, Author: r.author, Device: r.device, EditedAt: r.editedAt, ReceivedAt: r.receivedAt}
	if !r.Removed {
		one.Fields, one.Marks = r.Fields.JSON(), marshal(r.Marks)
	}
	return one
}

// Refresh is [Central.Refresh].
func (m *Memory) Refresh(from Device, collection string, held []wire.HeldRecord) []wire.Record {
	changed := []wire.Record{}
	for _, h := range held {
		at := key{collection, h.ID}
		r := m.rows[at]
		switch {
		case r == nil:
			changed = append(changed, wire.Record{ID: h.ID, Withdrawn: true})
		case !from.People.see(m.definitions[collection], r.territories, r.Fields):
			changed = append(changed, wire.Record{ID: h.ID, Revision: r.Revision, Withdrawn: true})
		case r.Revision != h.Revision:
			changed = append(changed, m.record(at, r, true))
		}
	}
	return changed
}

// Held is a record as a [Memory] holds it.
type Held struct {
	Collection  string
	ID          uuid.UUID
	Territories []string
	merge.State
}

// Records are all records, the removed among them, by collection and id.
func (m *Memory) Records() []Held {
	var all []Held
	for at, r := range m.rows {
		all = append(all, Held{Collection: at.collection, ID: at.id, Territories: r.territories, State: r.State})
	}
	slices.SortFunc(all, func(a, b Held) int {
		if a.Collection != b.Collection {
			return slices.Compare([]byte(a.Collection), []byte(b.Collection))
		}
		return slices.Compare(a.ID[:], b.ID[:])
	})
	return all
}

// History is every accepted change, in the order in which they were accepted.
func (m *Memory) History() []Accepted { return m.history }

// Backup gives all that this central holds, for [Memory.Restore].
func (m *Memory) Backup() *Memory {
	copied := *m
	copied.heads, copied.series, copied.history = maps.Clone(m.heads), maps.Clone(m.series), slices.Clone(m.history)
	copied.rows, copied.answers = map[key]*memoryRow{}, map[uuid.UUID]map[int64]storedAnswer{}
	for at, r := range m.rows {
		kept := *r
		copied.rows[at] = &kept
	}
	for incarnation, answers := range m.answers {
		copied.answers[incarnation] = maps.Clone(answers)
	}
	return &copied
}

// Restore goes back to a backup, under a new generation and a new incarnation of what is written at central itself.
func (m *Memory) Restore(backup *Memory, generation, direct uuid.UUID) {
	// Last comes the one that the backup is of: only its revisions mean the same.
	earlier := slices.DeleteFunc(append(slices.Clone(m.Earlier), m.Generation), func(one uuid.UUID) bool { return one == backup.Generation })
	earlier = append(earlier, backup.Generation)
	*m = *backup.Backup()
	m.Generation, m.Earlier, m.direct = generation, earlier, direct
	for _, r := range m.rows {
		r.restored, r.late = r.Revision, false
	}
	for series := range m.series {
		m.series[series] += seriesGap
	}
}

// Definitions are those that this central has.
func (m *Memory) Definitions() []definition.Definition {
	var all []definition.Definition
	for _, name := range slices.Sorted(maps.Keys(m.definitions)) {
		all = append(all, m.definitions[name].Definition)
	}
	return all
}
