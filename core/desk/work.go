package desk

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/rights"
	"homing/core/sight"
)

// Origin is where changes come from.
type Origin struct {
	Incarnation uuid.UUID
	Stores      []uuid.UUID  // all incarnations that the device has had; nil for changes made at central itself
	ID          uuid.UUID    // the device's
	Since       time.Time    // before which it had no store
	Device      string       // name; empty for changes made at central itself
	Batch       *uuid.UUID   // nil for changes made at central itself
	People      sight.Askers // who may have made them: whoever enrolled the device first, or the one who writes at central
	Deliverers  sight.Askers // who is shut out, and whose changes are taken all the same
	Offset      clock.Offset
	Received    time.Time
	Restores    int  // how often the database was restored since the bases of these changes
	Blind       bool // whoever sent them gets nothing but answers: the device was revoked
	// KeepsNumbers says that these are rows of a table: numbers of a series that they bring are kept.
	KeepsNumbers bool
	// Follows says that these are follow-ups: rules set what they set, also where people are done with a record.
	Follows bool
	// Finish is what central does to the outcome of a change of its own beyond what the change says; nil does nothing.
	Finish func(before merge.State, edit merge.Edit, out *merge.Outcome)
}

// direct says whether the changes were made at central, where many people write from one source.
func (o Origin) direct() bool { return o.Batch == nil }

// author is who made a change: a worker of the device, or whoever writes at central.
func (o Origin) author(ch change.Change) (rights.Person, bool) {
	if ch.Author == "" {
		return o.People[0], true
	}
	for _, who := range slices.Concat(o.People, o.Deliverers) {
		if who.Name == ch.Author {
			return who, true
		}
	}
	return rights.Person{}, false
}

// Decided is what came out, to be written in one transaction.
type Decided struct {
	Origin      Origin
	Items       []Item       // in their present form
	Answers     []Answer     // one for each item
	Conclusions []Conclusion // answers to be kept
	Versions    []*Version
	Rows        map[Key]*Row
	Computed    map[Key]bool // rows whose computed values have changed
	Repeated    int          // items that were answered from memory
	Torn        bool         // two stores have used the numbers of this incarnation
	Followed    []*Decided   // what central did after it, in the same transaction

	definitions map[string]*definition.Collection
}

// Conclusion is an answer that is kept.
type Conclusion struct {
	Number int64
	Digest []byte // empty for a change that was folded into another and is not known
	At     int    // index among the answers
	Waits  bool   // the answer is not for good: the change waits
}

// Changed says whether a version is the last of its record in this batch, so that the record is written as it left it.
func (d *Decided) Changed(v *Version) bool { return d.Rows[v.Key].last == v }

// Tally counts the answers by verdict.
func (d *Decided) Tally() map[change.Verdict]int {
	counts := map[change.Verdict]int{}
	for _, answer := range d.Answers {
		counts[answer.Answer]++
	}
	return counts
}

// Heads are the collections whose head has moved, and where it is, once positions were handed out.
func (d *Decided) Heads() map[string]int64 {
	heads := map[string]int64{}
	for _, v := range d.Versions {
		heads[v.Collection] = max(heads[v.Collection], v.Position)
	}
	for _, one := range d.Followed {
		for name, head := range one.Heads() {
			heads[name] = max(heads[name], head)
		}
	}
	return heads
}

// Cause is an accepted change as what may follow it sees it.
func (d *Decided) Cause(v *Version) definition.Cause {
	who, _ := d.Origin.author(v.Change)
	return definition.Cause{ID: v.ID.String(), Before: v.Before, After: v.After, Who: who, Kind: v.Change.Kind,
		Device: d.Origin.Device, Received: d.Origin.Received.Format(time.RFC3339Nano)}
}

// Shown is a record as the batch left it, for whoever made the changes.
func (d *Decided) Shown(at Key) *Record {
	work := desk{from: d.Origin, read: Loaded{Definitions: d.definitions}}
	return work.shown(at, d.Rows[at], true)
}

// desk is the work on one batch.
type desk struct {
	from Origin
	read Loaded
	out  *Decided

	fresh      map[int64]Conclusion     // answers of this batch, by number
	unseen     map[Key]bool             // records that the sender did not see when the batch came
	failedAdds map[Key]bool             // records whose adds this batch refused
	waits      map[Key]map[int64]bool   // the numbers of changes that wait
	assigned   map[assignment]string    // numbers of series that were given to records
	below      map[Key]map[Key]struct{} // living children among the rows, by parent
	hangs      map[Key]Key              // the parent under which each stands in below
}

// Work decides about items, in the form in which a [Need] gives them.
func Work(from Origin, items []Item, read Loaded) *Decided {
	d := &desk{from: from, read: read, fresh: map[int64]Conclusion{}, failedAdds: map[Key]bool{},
		waits: map[Key]map[int64]bool{}, unseen: map[Key]bool{},
		assigned: map[assignment]string{}, below: map[Key]map[Key]struct{}{}, hangs: map[Key]Key{}}
	if d.read.Rows == nil {
		d.read.Rows = map[Key]*Row{}
	}
	if d.read.Holders == nil {
		d.read.Holders = map[string]map[string]Holder{}
	}
	d.out = &Decided{Origin: from, Items: items, Answers: make([]Answer, len(items)), Rows: d.read.Rows,
		Computed: map[Key]bool{},
		Torn:     read.Torn, definitions: read.Definitions}
	for _, at := range read.Unseen {
		d.unseen[at] = true
	}
	for at, row := range d.read.Rows {
		d.hang(at, row)
	}
	d.workAll(items)
	d.noteWaiting(items)
	for n, it := range items {
		if d.out.Answers[n].Collection = ""; it.Sealed && d.out.Answers[n].Answer.Accepted() {
			d.out.Answers[n].Collection = it.Change.Collection
		}
	}
	d.computeTouched()
	return d.out
}

// work answers one item, from memory or by taking it.
func (d *desk) work(n int, it Item) {
	if it.Unreadable != nil {
		d.out.Answers[n] = *it.Unreadable
		return
	}
	ch := it.Change
	if kept, known := d.read.Known[ch.Number]; known {
		d.repeat(n, it, kept)
		return
	}
	if kept, waited := d.read.Waited[ch.Number]; waited && !bytes.Equal(kept.Digest, it.Digest) {
		d.out.Torn = true
		d.out.Answers[n] = reused(ch.Number)
		return
	}
	if same, twice := d.fresh[ch.Number]; twice { // the batch itself holds it twice
		d.repeat(n, it, Kept{Number: ch.Number, Digest: same.Digest, Answer: marshal(d.out.Answers[same.At])})
		return
	}
	for _, number := range ch.Folds {
		if d.answered(number) {
			d.out.Torn = true
			d.conclude(n, it, refusal(ch.Number, change.CodeNumberReused,
				"change %d says again what change %d said, and central has "+
					"that already; a copied or restored local store must be given a new incarnation", ch.Number, number))
			return
		}
	}
	verdict, reasons := d.take(n, it)
	if !verdict.Accepted() {
		d.out.Answers[n] = Answer{Number: ch.Number, Answer: verdict, Reasons: reasons}
		if ch.Kind == change.Add {
			d.failedAdds[keyOf(it)] = true
		}
	}
	if verdict == change.Waiting {
		return // what waits is looked at afresh when it is sent again
	}
	d.conclude(n, it, d.out.Answers[n])
}

func (d *desk) answered(number int64) bool {
	_, before := d.read.Known[number]
	_, now := d.fresh[number]
	return before || now
}

// conclude keeps an answer for good, even a refusal: a late copy of the batch must not get another answer than the
// device had. The answer goes for the changes that this one folds, too, should a copy of the device's store send one
// of them.
func (d *desk) conclude(n int, it Item, answer Answer) {
	d.out.Answers[n] = answer
	d.hold(Conclusion{Number: it.Change.Number, Digest: it.Digest, At: n})
	for at, number := range it.Change.Folds {
		if !d.answered(number) { // otherwise it came on its own, and keeps the answer that it had
			d.hold(Conclusion{Number: number, Digest: it.Change.FoldDigest(at), At: n})
		}
	}
}

func (d *desk) hold(one Conclusion) {
	d.out.Conclusions = append(d.out.Conclusions, one)
	d.fresh[one.Number] = one
}

// repeat answers a change that was answered before. What came of the change is said again; of the record it says how
// it is now, since what the workers cover, and the record itself, may be other than they were then.
func (d *desk) repeat(n int, it Item, kept Kept) {
	d.out.Repeated++
	number := it.Change.Number
	if len(kept.Digest) > 0 && !bytes.Equal(kept.Digest, it.Digest) {
		d.out.Torn = true
		d.out.Answers[n] = reused(number)
		return
	}
	var answer Answer
	if err := json.Unmarshal(kept.Answer, &answer); err != nil {
		d.out.Answers[n] = refusal(number, change.CodeMalformed, "the stored answer to change %d cannot be read", number)
		return
	}
	if whole := answer.Number; whole != number && answer.Answer.Accepted() {
		// Central has what it says, and more: without a revision the device takes nothing over, but pulls.
		answer = Answer{Number: number, Answer: change.Merged,
			Reasons: reason(change.CodeNumberReused, "change %d came as part of change %d", number, whole)}
	}
	answer.Number = number
	at := keyOf(it)
	if now := d.read.Rows[at]; answer.Answer.Accepted() && now != nil && !d.from.direct() {
		answer.Record = d.shown(at, now, answer.Record != nil || it.Sealed)
	}
	d.out.Answers[n] = answer
}

func reused(number int64) Answer {
	return refusal(number, change.CodeNumberReused,
		"change %d was sent before with other content; a copied or restored local store must be given a new incarnation", number)
}

// noteWaiting keeps what the changes say that still wait, so that a copy of the store cannot say something else under
// their numbers.
func (d *desk) noteWaiting(items []Item) {
	for n, it := range items {
		_, known := d.read.Waited[it.Change.Number]
		if it.Unreadable == nil && d.waiting(n) && !known && !d.answered(it.Change.Number) {
			d.hold(Conclusion{Number: it.Change.Number, Digest: it.Digest, At: n, Waits: true})
		}
	}
}

// shown is a record for the answer to whoever changed it, where it brings anything; of one that they may not see, it
// says no more than a withdrawal.
func (d *desk) shown(at Key, now *Row, brings bool) *Record {
	if !d.seen(at, now) {
		gone := Withdrawal(at.ID, now.Revision, 0)
		return &gone
	}
	if !brings {
		return nil
	}
	sent := now.record(at.ID)
	return &sent
}

// seen says whether any worker of the device may see a record.
func (d *desk) seen(at Key, now *Row) bool {
	if d.from.Blind {
		return false
	}
	return d.from.People.See(d.read.Definitions[at.Collection], now.Territories, now.Fields)
}

// before is what the desk knew before a group.
type before struct {
	rows           map[Key]*Row
	versions, keep int
	fresh          map[int64]Conclusion
	failedAdds     map[Key]bool
}

func (d *desk) remember(members []int, items []Item) before {
	b := before{rows: map[Key]*Row{}, versions: len(d.out.Versions), keep: len(d.out.Conclusions),
		fresh: maps.Clone(d.fresh), failedAdds: maps.Clone(d.failedAdds)}
	for _, n := range members {
		at := keyOf(items[n])
		b.rows[at] = nil
		if row := d.read.Rows[at]; row != nil {
			was := *row
			b.rows[at] = &was
		}
	}
	return b
}

func (d *desk) goBack(b before) {
	for at, was := range b.rows {
		d.put(at, was)
	}
	d.out.Versions, d.out.Conclusions = d.out.Versions[:b.versions], d.out.Conclusions[:b.keep]
	d.fresh, d.failedAdds = b.fresh, b.failedAdds
}

// put gives a record a new state; nil takes it away.
func (d *desk) put(at Key, row *Row) {
	d.holdKey(at, row)
	if row == nil {
		delete(d.read.Rows, at)
	} else {
		d.read.Rows[at] = row
	}
	d.hang(at, row)
}
