package central

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/rights"
	"homing/wire"
)

// origin is where changes come from.
type origin struct {
	incarnation uuid.UUID
	device      string // name; empty for changes made at central itself
	batch       *uuid.UUID
	who         Person
	others      map[string]Person // more people whose changes the device may bring, by name
	offset      clock.Offset
	blind       bool              // whoever sent them gets nothing but answers: the device was revoked
	reopen      *reopening        // a conflict that the one change opens again
	restores    int               // how often the database was restored since the bases of these changes
	imported    bool              // rows of a table: numbers of a series that they bring are kept
	carry       map[string]string // old names and new, while values are carried over to a new definition; nil otherwise
	received    time.Time
}

// item is one change of a batch, or the answer to what could not be read as one.
type item struct {
	change     change.Change
	digest     []byte
	unreadable *wire.Answer
}

// MaxFolds is how many unsent changes one may stand for.
const MaxFolds = 10_000

const maxTurned = 100 * 366 * 24 * 3600 * 1000 // milliseconds

// read makes an item of one change as it came. A change that cannot be read harms no other.
func read(raw []byte) item {
	var c change.Change
	if err := wire.Read(raw, &c); err != nil {
		// The number is read on its own, so that the answer can name it if it can be read at all.
		var numbered struct {
			Number int64 `json:"number"`
		}
		_ = json.Unmarshal(raw, &numbered) // an unreadable number stays 0
		return unreadable(numbered.Number, "", fmt.Sprintf("the change cannot be read: %v", err))
	}
	fields, err := c.Fields.Canonical()
	if err != nil {
		var wrong *record.FieldError
		field := ""
		if errors.As(err, &wrong) {
			field, err = wrong.Field, wrong.Err
		}
		return unreadable(c.Number, field, err.Error())
	}
	c.Fields = fields
	if c.Collection != "" && !definition.Name.MatchString(c.Collection) {
		return item{unreadable: &wire.Answer{Number: c.Number, Answer: change.Refused, Reasons: reason(change.CodeUnknownCollection, "%q cannot name a collection", c.Collection)}}
	}
	c.EditedAt = c.EditedAt.UTC()
	problem := ""
	switch {
	case c.Number < 1:
		problem = "a change has a number of 1 or more"
	case c.Record == uuid.Nil:
		problem = "a change names the record by its id"
	case c.Kind != change.Add && c.Kind != change.Edit && c.Kind != change.Remove:
		problem = fmt.Sprintf("the kind %q is not add, edit or remove", c.Kind)
	case c.Base < 0:
		problem = "the base revision is 0 or more"
	case c.Stamp.IsZero():
		problem = "a change carries the device's stamp"
	case c.EditedAt.Year() < 1970:
		problem = "edited_at is missing or before 1970; set the device's clock and save the record again"
	case c.Kind == change.Remove && len(c.Fields) > 0:
		problem = "a removal carries no fields"
	case c.Group != nil && (c.Group.ID == uuid.Nil || c.Group.Of < 1 || c.Group.Of > wire.MaxBatchChanges):
		problem = fmt.Sprintf("a group has an id and 1 to %d changes", wire.MaxBatchChanges)
	case len(c.Folds) > MaxFolds || slices.ContainsFunc(c.Folds, func(n int64) bool { return n < 1 || n >= c.Number }):
		problem = fmt.Sprintf("a change folds at most %d others, all with lower numbers", MaxFolds)
	case c.TurnedMS > maxTurned || c.TurnedMS < -maxTurned:
		problem = "no clock is turned by more than a century"
	}
	if problem != "" {
		return unreadable(c.Number, "", problem)
	}
	return item{change: c, digest: c.Digest()}
}

func unreadable(number int64, field, message string) item {
	return item{unreadable: &wire.Answer{Number: number, Answer: change.Refused,
		Reasons: []change.Reason{{Field: field, Code: change.CodeMalformed, Message: message}}}}
}

// key names a record.
type key struct {
	collection string
	id         uuid.UUID
}

// row is a record while a batch is worked on.
type row struct {
	merge.State
	restored    int64 // revision at the last restore of the database
	computed    record.Fields
	territories []string // keys that it falls into
	left        []string // keys that it fell into earlier and not now
	stored      bool     // the record was there before
	touched     bool     // the batch has altered it
	last        *version
}

// version is one accepted change on its way into the history.
type version struct {
	key
	change    change.Change
	revision  int64
	position  int64
	delta     record.Delta
	decisions []change.Decision
	stamp     clock.Stamp
	editedAt  time.Time
	author    string
	answer    int // index among the answers
}

// desk holds all that is read and decided while the changes of one origin are worked on in one transaction.
type desk struct {
	origin
	definitions map[string]*definition.Collection
	known       map[int64]storedAnswer
	fresh       map[int64]settledAnswer // by number
	rows        map[key]*row
	children    map[key][]key       // those that the database has of records that are to be removed
	numbers     map[string][]string // of series, by collection and field, for records to come
	assigned    map[string]string   // of these, by field and record
	failedAdds  map[key]bool
	waits       map[key]map[int64]bool // the numbers of changes that wait
	versions    []*version
	answers     []wire.Answer
	settled     []settledAnswer // answers to be kept
	repeated    int
}

type storedAnswer struct {
	Number int64  `db:"number"`
	Digest []byte `db:"digest"`
	Answer []byte `db:"answer"`
}

type settledAnswer struct {
	number int64
	digest []byte // empty for a change that was folded into another: nobody knows what it said
	answer int    // index among the answers
}

// accept works through changes in their order: each is answered from memory if central has answered it before, otherwise
// checked, merged and written. One bad change does not stop the next. Everything is written in the given transaction, with
// few statements however many changes there are.
//
// Locks are taken in one order everywhere: the device, then records by collection and id, then collections by name. The
// collection's row is locked last and until the commit, which makes positions visible in the order in which they were
// handed out.
func (c *Central) accept(ctx context.Context, tx *sqlx.Tx, from origin, items []item) (*desk, error) {
	d := &desk{origin: from, fresh: map[int64]settledAnswer{}, failedAdds: map[key]bool{}, answers: make([]wire.Answer, len(items))}
	var err error
	if d.definitions, err = c.definitions(ctx, tx); err != nil {
		return nil, err
	}
	if d.known, err = loadAnswers(ctx, tx, from.incarnation, items); err != nil {
		return nil, err
	}
	if err := d.loadFamily(ctx, tx, items); err != nil {
		return nil, err
	}
	if err := d.drawNumbers(ctx, tx, items); err != nil {
		return nil, err
	}
	d.workAll(items)
	if err := d.handOutPositions(ctx, tx); err != nil {
		return nil, err
	}
	if err := d.write(ctx, tx); err != nil {
		return nil, err
	}
	return d, d.computeTouched(ctx, tx)
}

func (d *desk) work(n int, it item) {
	if it.unreadable != nil {
		d.answers[n] = *it.unreadable
		return
	}
	ch := it.change
	if stored, known := d.known[ch.Number]; known {
		d.repeat(n, it, stored)
		return
	}
	if same, twice := d.fresh[ch.Number]; twice { // the batch itself holds it twice
		d.repeat(n, it, storedAnswer{Number: ch.Number, Digest: same.digest, Answer: marshal(d.answers[same.answer])})
		return
	}
	for _, number := range ch.Folds {
		_, before := d.known[number]
		if _, now := d.fresh[number]; before || now {
			d.settle(n, it, refusal(ch.Number, change.CodeNumberReused,
				"change %d says again what change %d said, and central has that already; a copied or restored local store must be given a new incarnation", ch.Number, number))
			return
		}
	}
	verdict, reasons := d.take(n, ch)
	if !verdict.Accepted() {
		d.answers[n] = wire.Answer{Number: ch.Number, Answer: verdict, Reasons: reasons}
		if ch.Kind == change.Add {
			d.failedAdds[key{ch.Collection, ch.Record}] = true
		}
	}
	if verdict == change.Waiting {
		return // what waits is looked at afresh when it is sent again
	}
	d.settle(n, it, d.answers[n])
}

// settle keeps an answer for good, even a refusal: a late copy of the batch must not get another answer than the device had. The answer goes
// for the changes that this one folds, too, should a copy of the device's store send one of them.
func (d *desk) settle(n int, it item, answer wire.Answer) {
	d.answers[n] = answer
	kept := settledAnswer{number: it.change.Number, digest: it.digest, answer: n}
	d.settled = append(d.settled, kept)
	d.fresh[kept.number] = kept
	for _, number := range it.change.Folds {
		_, before := d.known[number]
		if _, now := d.fresh[number]; before || now {
			continue // it came on its own, and keeps the answer that it had
		}
		folded := settledAnswer{number: number, answer: n}
		d.settled = append(d.settled, folded)
		d.fresh[number] = folded
	}
}

// repeat answers a change that was answered before.
func (d *desk) repeat(n int, it item, stored storedAnswer) {
	d.repeated++
	number := it.change.Number
	if len(stored.Digest) > 0 && !bytes.Equal(stored.Digest, it.digest) {
		d.answers[n] = refusal(number, change.CodeNumberReused,
			"change %d was sent before with other content; a copied or restored local store must be given a new incarnation", number)
		return
	}
	if err := json.Unmarshal(stored.Answer, &d.answers[n]); err != nil {
		d.answers[n] = refusal(number, change.CodeMalformed, "the stored answer to change %d cannot be read", number)
		return
	}
	if whole := d.answers[n]; len(stored.Digest) == 0 && whole.Answer.Accepted() {
		// Central has what it says, and more: without a revision the device takes nothing over, but pulls.
		d.answers[n] = wire.Answer{Number: number, Answer: change.Merged, Reasons: reason(change.CodeNumberReused, "change %d came as part of change %d", number, whole.Number)}
	} else {
		d.answers[n].Number = number
	}
	// What its workers covered when it was first answered, they may not cover now; a pull need not say so to whoever had dropped it meanwhile.
	at := key{it.change.Collection, it.change.Record}
	if current := d.rows[at]; d.batch != nil && d.answers[n].Answer.Accepted() && current != nil && !d.seen(at, current) {
		d.answers[n].Record = &wire.Record{ID: at.id, Revision: current.Revision, Withdrawn: true}
	}
}

func refusal(number int64, code, format string, args ...any) wire.Answer {
	return wire.Answer{Number: number, Answer: change.Refused, Reasons: []change.Reason{{Code: code, Message: fmt.Sprintf(format, args...)}}}
}

// take checks and merges one new change. If it is accepted, its answer and version are noted.
func (d *desk) take(n int, ch change.Change) (change.Verdict, []change.Reason) {
	collection := d.definitions[ch.Collection]
	if collection == nil && d.restores > 0 {
		return change.Waiting, reason(change.CodeUnknownCollection, "central was restored from before %q was defined; when it is defined again, this goes in", ch.Collection)
	}
	if collection == nil {
		return change.Refused, reason(change.CodeUnknownCollection, "central has no collection %q", ch.Collection)
	}
	who, known := d.author(ch)
	if !known {
		return change.Refused, reason(change.CodeNotAllowed, "the change was made by %s, who is not a worker of this device; it belongs to %s", ch.Author, d.who.Name)
	}
	if !who.Role.May(rights.ChangeRecords) {
		return change.Refused, reason(change.CodeNotAllowed, "the role %s may not change records", who.Role)
	}
	if d.batch != nil && !collection.Sync.Direction.Pushes() {
		return change.Refused, reason(change.CodeNotAllowed, "%s only go from central to devices; change them at central", collection.Title)
	}
	at := key{ch.Collection, ch.Record}
	for number := range d.waits[at] {
		if number < ch.Number && ch.Kind != change.Add { // an add may be what the others wait for
			return change.Waiting, reason(change.CodeHangsOnEarlier, "it comes after change %d of the same record, which waits", number)
		}
	}
	current := d.rows[at]
	if current == nil {
		// After a restore, whoever added the record offers it again.
		if d.failedAdds[at] || (ch.Kind != change.Add && (ch.Base == 0 || d.restores > 0)) {
			if ch.Kind != change.Add {
				return change.Waiting, reason(change.CodeHangsOnRefused, "the record's add was refused or has not come; mend it, and this change goes in")
			}
		}
		current = &row{}
	}
	ch.Base = d.rebase(ch.Base, current)
	var dropped bool
	ch.Fields, dropped = d.settable(collection, collection.CurrentNames(ch.Fields))
	edit := merge.Edit{Kind: ch.Kind, Base: ch.Base, Fields: ch.Fields,
		Stamp: d.offset.Turned(turned(ch)).Correct(ch.Stamp, d.received), Source: change.Source{Incarnation: d.incarnation, Number: ch.Number}, Direct: d.batch == nil}
	out, err := merge.Merge(collection.Rules(), current.State, edit)
	if err != nil {
		var refused *merge.Refusal
		if errors.As(err, &refused) {
			return change.Refused, []change.Reason{refused.Reason}
		}
		return change.Refused, reason(change.CodeMalformed, "%v", err)
	}
	if d.carry != nil {
		out.State.Marks = current.Marks.CarriedOver(d.carry, merge.Mark{Revision: out.State.Revision, Source: edit.Source, Stamp: edit.Stamp})
	}
	if d.reopen != nil {
		out.State.Marks = out.State.Marks.Reopened(d.reopen.field, d.reopen.dispute, out.State.Revision)
		name := d.reopen.field
		if name == merge.RecordRemoval {
			name = ""
		}
		mark := markOf(current.Marks, d.reopen.field)
		out.Decisions = append(out.Decisions, change.Decision{Field: name, Rule: merge.Reopened, Kept: change.KeptCentral, Other: change.Side{Revision: mark.Revision, Source: mark.Source, Stamp: mark.Stamp}})
	}
	if verdict, reasons := d.family(collection, at, current, &out); verdict != "" {
		return verdict, reasons
	}
	given := false
	if !out.State.Removed {
		if given, err = d.fillIn(collection, at, who, &out); err != nil {
			return change.Refused, reason(change.CodeInvalidValue, "%v", err)
		}
		if wrong := collection.NewlyWrong(current.Fields, out.State.Fields); len(wrong) > 0 {
			return change.Refused, wrong
		}
	}
	if err := allowed(collection, who, ch.Kind, current, out.State); err != nil {
		return change.Refused, reason(change.CodeNotAllowed, "%v", err)
	}
	before := d.batch != nil && current.Exists() && d.seen(at, current)
	if err := current.move(collection, out.State); err != nil {
		return change.Refused, reason(change.CodeInvalidValue, "%v", err)
	}
	if dropped && out.Verdict == change.Applied {
		out.Verdict = change.Merged
	}
	d.note(n, at, current, ch, out, edit.Stamp, given, before)
	return out.Verdict, nil
}

// rebase gives the revision of this database that the author of a change knew for certain. What an earlier one had beyond the backup that it was
// restored from is gone, and its revisions say something else now.
func (d *desk) rebase(base int64, current *row) int64 {
	switch d.restores {
	case 0:
		return base
	case 1:
		return min(base, current.restored)
	}
	return 0
}

// author is who made a change: a worker of the device, or whoever writes at central.
func (d *desk) author(ch change.Change) (Person, bool) {
	if ch.Author == "" || ch.Author == d.who.Name {
		return d.who, true
	}
	who, known := d.others[ch.Author]
	return who, known
}

// allowed asks the collection's own rules. What they judge is the record as it was at central and as it would be there.
func allowed(collection *definition.Collection, who Person, kind change.Kind, current *row, next merge.State) error {
	switch {
	case kind == change.Remove:
		return collection.MayRemove(who, current.Fields)
	case !current.Exists() || current.Removed:
		return collection.MayAdd(who, next.Fields)
	}
	return collection.MayEdit(who, current.Fields, next.Fields)
}

// move notes the territories that the record falls into now, and those that it has left. A removed record stays where it was,
// so that whoever had it hears of the removal.
func (r *row) move(collection *definition.Collection, next merge.State) error {
	if next.Removed {
		return nil
	}
	now, err := collection.TerritoriesOf(next.Fields)
	if err != nil {
		return err
	}
	for _, key := range r.territories {
		if !slices.Contains(r.left, key) {
			r.left = append(slices.Clone(r.left), key)
		}
	}
	r.left = slices.DeleteFunc(slices.Clone(r.left), func(key string) bool { return slices.Contains(now, key) })
	r.territories = now
	return nil
}

func reason(code, format string, args ...any) []change.Reason {
	return []change.Reason{{Code: code, Message: fmt.Sprintf(format, args...)}}
}

// note keeps an accepted change. Given says that central put values in that the device does not have, before that the device's workers could see the
// record before the change.
func (d *desk) note(n int, at key, current *row, ch change.Change, out merge.Outcome, stamp clock.Stamp, given, before bool) {
	delete(d.failedAdds, at)
	edited := ch.EditedAt.Add(d.offset.By)
	if ch.TurnedMS != 0 {
		edited = stamp.Time()
	}
	if edited.After(d.received) {
		edited = d.received
	}
	v := &version{key: at, change: ch, revision: out.State.Revision, delta: out.Delta, decisions: out.Decisions,
		stamp: stamp, editedAt: edited, author: d.who.Name, answer: n}
	if ch.Author != "" {
		v.author = ch.Author
	}
	d.versions = append(d.versions, v)
	// What its workers did not cover before, the device does not know whole, nor what was removed and is brought back: a tombstone comes without fields.
	// What they do not cover now, it is not to keep, even where it is as the device has it.
	unknown := d.batch != nil && current.Exists() && (!before || current.Removed)
	current.State, current.touched, current.last = out.State, true, v
	d.rows[at] = current
	answer := wire.Answer{Number: ch.Number, Answer: out.Verdict, Revision: out.State.Revision, Stamp: stamp}
	if out.Verdict != change.Applied || given || d.restores > 0 || unknown || d.batch != nil && !d.seen(at, current) {
		answer.Record = d.wireRecord(at, current, v)
	}
	d.answers[n] = answer
}

// wireRecord is a record for the answer to whoever changed it. Of one that they may not see, it says no more than a withdrawal.
func (d *desk) wireRecord(at key, now *row, v *version) *wire.Record {
	if !d.seen(at, now) {
		return &wire.Record{ID: at.id, Revision: now.Revision, Withdrawn: true}
	}
	r := &wire.Record{ID: at.id, Revision: now.Revision, Removed: now.Removed, EditedAt: v.editedAt, ReceivedAt: d.received, Author: v.author, Device: d.device}
	if !now.Removed {
		r.Fields, r.Marks = now.Fields.JSON(), marshal(now.Marks)
	}
	return r
}

// seen says whether any worker of the device may see a record.
func (d *desk) seen(at key, now *row) bool {
	if d.blind {
		return false
	}
	asking := alone(d.who)
	for _, who := range d.others {
		asking = append(asking, who)
	}
	return asking.see(d.definitions[at.collection], now.territories, now.Fields)
}

func turned(ch change.Change) time.Duration { return time.Duration(ch.TurnedMS) * time.Millisecond }

// marshal writes what is known to be writable.
func marshal(value any) json.RawMessage {
	text, err := json.Marshal(value)
	if err != nil {
		panic(fmt.Sprintf("%T does not marshal: %v", value, err))
	}
	return text
}
