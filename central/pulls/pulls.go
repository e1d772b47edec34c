// Package pulls is what a device is sent: what changed in a collection after a cursor, each record once and in its
// latest state, and those of the records that it has looked up which are now other than it has them.
//
// Who covers what, what a reading rule keeps from somebody, what a device has sent itself and how large a page gets
// is decided here, over the few tables of a [Ground].
package pulls

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/record"
	"homing/core/rights"
	"homing/core/sight"
	"homing/wire"
)

// Limits of a page of a pull.
const (
	DefaultPage = 500
	MaxPage     = 5000
)

// Ground is what pulls stand on: PostgreSQL, or tables in memory for rehearsals. It has no rules of its own.
type Ground interface {
	// Deliver runs work on one snapshot. Positions become visible in the order of their numbers, so nothing can turn up
	// later behind the head that it shows.
	Deliver(ctx context.Context, work func(Tables) error) error
	// Secret is what central signs its seals with. It is the database's own, and comes back with a backup of it.
	Secret() []byte
	// NotePull keeps how far a device has asked and what it was sent, for people to read.
	NotePull(ctx context.Context, device uuid.UUID, ask Request, page wire.Page, bytes int) error
}

// Tables are central's tables within one snapshot.
type Tables interface {
	// Definitions are the current ones, compiled, by name.
	Definitions(ctx context.Context) (map[string]*definition.Collection, error)
	// Head is the position of the last accepted change of a collection; 0 where there is no such collection.
	Head(ctx context.Context, collection string) (int64, error)
	// Heads are those of all collections.
	Heads(ctx context.Context) (map[string]int64, error)
	// LeftAfter is where the head of each collection was when it was first moved on after a moment: nothing beyond that
	// was there before. It names those in which anything was accepted after the moment, save what came within a second of
	// something else.
	LeftAfter(ctx context.Context, at time.Time) (map[string]int64, error)
	// Count is how many records that are not removed fall into one of the territories.
	Count(ctx context.Context, collection string, covers []string) (int64, error)
	// Changed gives at most limit records after a position, by position, as long as take says to go on. It may leave
	// out what does not concern the device by [Wanted], and need not.
	Changed(ctx context.Context, wanted Wanted, limit int, take func(Entry) (more bool, err error)) error
	// Entries gives those of the records that are there.
	Entries(ctx context.Context, collection string, ids []uuid.UUID) (map[uuid.UUID]Entry, error)
}

// Wanted is what concerns a device: records of a collection after a position that fall into territories or have left
// one, or that a store of the device has written last.
type Wanted struct {
	Collection string
	After      int64
	Covers     []string
	Stores     []uuid.UUID
	Load       bool  // only what is there and covered: nothing that is gone, or that others have
	Parts      int64 // the position as of which the revisions of records are wanted, too; 0 for none
}

// Entry is a record as the tables have it, with what says who sees it.
type Entry struct {
	ID          uuid.UUID
	Revision    int64
	Position    int64
	Removed     bool
	Fields      []byte
	Marks       []byte
	Territories []string
	Left        []string
	Source      change.Source // of the last change
	Again       bool          // whether a new definition gave it its position, rather than its last change
	Since       int64         // its revision at a position that was named; 0 when it is not known, or a part would not do
	Last        desk.LastChange
}

// Record is the record as it travels to somebody who may see it.
func (e Entry) Record() wire.Record {
	r := wire.Record{ID: e.ID, Revision: e.Revision, Position: e.Position, Removed: e.Removed, Author: e.Last.Author,
		Device:   e.Last.Device,
		EditedAt: e.Last.EditedAt, ReceivedAt: e.Last.ReceivedAt}
	if !e.Removed {
		r.Fields, r.Marks = e.Fields, e.Marks
	}
	return r
}

// SeenBy says whether askers may see the record.
func (e Entry) SeenBy(who sight.Askers, collection *definition.Collection) (bool, error) {
	if who.ReadsAll(collection) {
		return rights.Covers(who.Territories(), e.Territories), nil
	}
	var fields record.Fields
	if err := json.Unmarshal(e.Fields, &fields); err != nil {
		return false, err
	}
	return who.See(collection, e.Territories, fields), nil
}

// Request says what a device asks for.
type Request struct {
	Collection string
	Exchange   uuid.UUID
	Store      uuid.UUID // incarnation of the store that asks; nil when it does not say
	Cursor     int64
	Answered   int64 // highest number of that store's own changes up to which it has stored all answers
	Limit      int   // records; 0 means DefaultPage
	// Covers are the territories that the device has loaded; nil means all that its worker holds.
	Covers []string
	// Load leaves out removals and withdrawals: the device loads what it has not had before.
	Load bool
	// Parts is the position as of which the device has what it covers, so that records may come in parts against that; 0
	// for whole records. InParts stands for the cursor, where several collections are asked for at once.
	Parts   int64
	InParts bool
	// Shown gives marks as they leave central, which is what the digest of a part is of; nil where they leave as they are.
	Shown func(marks []byte) []byte
	At    time.Time // when central got the request
	// Anyway is for what is no device: collections that only go up are given, too.
	Anyway bool
}

// Pulls answers pulls. It is safe for use by several goroutines when its ground is.
type Pulls struct {
	ground Ground
	bytes  int // of one page, before compression
	now    func() time.Time
}

// New makes a Pulls that stands on ground. A page has about so many bytes at most, but at least one record.
func New(ground Ground, bytes int, now func() time.Time) *Pulls {
	return &Pulls{ground: ground, bytes: bytes, now: now}
}

// Pull gives what changed in a collection after a cursor, each record once and in its latest state. A page ends at a
// number of records or of bytes. What the asking store itself changed last is left out when it has stored the answer:
// it holds that already. A load by a device that holds nothing yet leaves out what is removed. A record that has left
// the device's territories since the cursor, or that its worker may no longer read, comes as a withdrawal.
func (p *Pulls) Pull(ctx context.Context, from fleet.Device, ask Request) (wire.Page, error) {
	ask.At = p.now()
	page, size, err := p.page(ctx, from, ask)
	if err != nil {
		return wire.Page{}, err
	}
	return page, p.ground.NotePull(ctx, from.ID, ask, page, size)
}

// Read is [Pulls.Pull] for somebody who is no device, and of whom nothing is noted: of collections that devices do not get, too.
func (p *Pulls) Read(ctx context.Context, who sight.Askers, ask Request) (wire.Page, error) {
	ask.At, ask.Anyway = p.now(), true
	page, _, err := p.page(ctx, fleet.Device{People: who, Territories: who.Territories()}, ask)
	return page, err
}

func (p *Pulls) page(ctx context.Context, from fleet.Device, ask Request) (page wire.Page, size int, err error) {
	if ask.Limit == 0 {
		ask.Limit = DefaultPage
	}
	if ask.Limit < 1 || ask.Limit > MaxPage {
		return wire.Page{}, 0, fault.Fail(fault.Invalid, "limit %d: take 1 to %d", ask.Limit, MaxPage)
	}
	if ask.Covers, err = Covers(from, ask.Covers); err != nil {
		return wire.Page{}, 0, err
	}
	err = p.ground.Deliver(ctx, func(t Tables) error {
		all, err := t.Definitions(ctx)
		if err != nil {
			return err
		}
		w := pull{tables: t, from: from, ask: ask, bytes: p.bytes, collection: all[ask.Collection]}
		if err := w.fill(ctx); err != nil {
			return err
		}
		page, size = w.page, w.size
		page.Seal = Seal(p.ground.Secret(), ask.Collection, page.Cursor, ask.At)
		return nil
	})
	return page, size, err
}

// Many is what a device gets at once of the collections that it names.
type Many struct {
	Pages []wire.Page      // the first of each collection that has something for the device
	Heads map[string]int64 // where the other cursors go, of those that go anywhere
	Left  []string         // collections for whose page there was no room
	Seal  string           // of all cursors as they are then
	Sizes []int            // of the pages, about, in bytes
}

// PullAll is [Pulls.Pull] for all collections that a device holds, by their cursors, within all that its workers cover.
// The pages have at most so many bytes together, if each can have one record.
func (p *Pulls) PullAll(ctx context.Context, from fleet.Device, ask Request, cursors map[string]int64, room int) (Many, error) {
	ask.Limit, ask.Covers, ask.At = DefaultPage, from.Territories, p.now()
	many := Many{Heads: map[string]int64{}}
	err := p.ground.Deliver(ctx, func(t Tables) error {
		many = Many{Heads: map[string]int64{}}
		all, err := t.Definitions(ctx)
		if err != nil {
			return err
		}
		heads, err := t.Heads(ctx)
		if err != nil {
			return err
		}
		left, then := room, maps.Clone(cursors)
		for _, name := range slices.Sorted(maps.Keys(cursors)) {
			one := ask
			one.Collection, one.Cursor = name, cursors[name]
			if ask.InParts {
				one.Parts = one.Cursor
			}
			switch {
			case all[name] != nil && one.Cursor == heads[name]:
				continue
			case left <= 0:
				many.Left = append(many.Left, name)
				continue
			}
			w := pull{tables: t, from: from, ask: one, bytes: min(left, p.bytes), collection: all[name]}
			if err := w.fill(ctx); err != nil {
				return err
			}
			then[name] = w.page.Cursor
			if len(w.page.Records) == 0 {
				many.Heads[name] = w.page.Cursor
				continue
			}
			left -= w.size
			many.Pages, many.Sizes = append(many.Pages, w.page), append(many.Sizes, w.size)
		}
		many.Seal = SealAll(p.ground.Secret(), then, ask.At)
		return nil
	})
	if err != nil {
		return Many{}, err
	}
	for n, page := range many.Pages {
		one := ask
		one.Collection, one.Cursor = page.Collection, cursors[page.Collection]
		if err := p.ground.NotePull(ctx, from.ID, one, page, many.Sizes[n]); err != nil {
			return Many{}, err
		}
	}
	return many, nil
}

// Covers gives the territories that a device asks for; nil stands for all that its workers hold. It is an error to
// ask for one that they do not hold now.
func Covers(from fleet.Device, asked []string) ([]string, error) {
	if asked == nil {
		return from.Territories, nil
	}
	for _, key := range asked {
		if !slices.Contains(from.Territories, key) && !slices.Contains(from.Territories, rights.All) {
			return nil, fault.Fail(fault.Coverage, "the worker %s does not hold the territory %q now; ask for the "+
				"definitions again", from.Worker, key)
		}
	}
	return asked, nil
}

// pull is the work on one page.
type pull struct {
	tables     Tables
	from       fleet.Device
	ask        Request
	bytes      int
	collection *definition.Collection

	page wire.Page
	size int
}

// atOnce is how many records are read at once: a page may be full of bytes long before it is full of records.
const atOnce = 1000

func (w *pull) fill(ctx context.Context) error {
	if w.collection == nil {
		return fault.Fail(fault.NotFound, "there is no collection %q", w.ask.Collection)
	}
	if !w.collection.Sync.Direction.Pulls() && !w.ask.Anyway {
		return fault.Fail(fault.NotAllowed, "records of %s only go up to central", w.ask.Collection)
	}
	head, err := w.tables.Head(ctx, w.ask.Collection)
	if err != nil {
		return err
	}
	if w.ask.Cursor < 0 || w.ask.Cursor > head {
		return fault.Fail(fault.Clash, "the cursor %d is beyond %d, the head of %s: central's database may have been "+
			"put back to an earlier state; "+
			"keep what the device holds, and let whoever runs central look at it", w.ask.Cursor, head, w.ask.Collection)
	}
	w.page = wire.Page{Collection: w.ask.Collection, Records: []wire.Record{}, Cursor: head, Head: head}
	if w.ask.Cursor == 0 && w.from.People.ReadsAll(w.collection) { // otherwise the number would tell of what they may not read
		if w.page.Total, err = w.tables.Count(ctx, w.ask.Collection, w.ask.Covers); err != nil {
			return err
		}
	}
	wanted := Wanted{Collection: w.ask.Collection, After: w.ask.Cursor, Covers: w.ask.Covers, Stores: w.from.Past, Load: w.ask.Load}
	if !w.ask.Load && w.from.People.ReadsAll(w.collection) { // under a reading rule, the device may not have had it then
		wanted.Parts = w.ask.Parts
	}
	for {
		// Records that the reading rule leaves out do not fill the page, so as many are read as it takes.
		read, limit := 0, min(w.ask.Limit+1, atOnce)
		err := w.tables.Changed(ctx, wanted, limit, func(e Entry) (bool, error) {
			read, wanted.After = read+1, e.Position
			return w.take(e)
		})
		if err != nil || read < limit || w.page.More {
			return err
		}
	}
}

// take puts a record on the page, unless it does not concern the device. It says false when the page is full.
func (w *pull) take(e Entry) (more bool, err error) {
	one, sends, err := w.sends(e)
	if err != nil || !sends {
		return err == nil, err
	}
	if e.Since > 0 && !one.Withdrawn && !one.Removed {
		if err := inPart(&one, e.Since, w.ask.Shown); err != nil {
			return false, err
		}
	}
	size := len(one.Fields) + len(one.Marks)
	if n := len(w.page.Records); n == w.ask.Limit || n > 0 && w.size+size > w.bytes {
		w.page.Cursor, w.page.More = w.page.Records[n-1].Position, true
		return false, nil
	}
	w.size += size
	w.page.Records = append(w.page.Records, one)
	return true, nil
}

// sends says what of a record goes to the device, if anything.
func (w *pull) sends(e Entry) (one wire.Record, sends bool, err error) {
	covered := rights.Covers(w.ask.Covers, e.Territories)
	seen, readsAll := covered, w.from.People.ReadsAll(w.collection)
	if covered && !readsAll {
		if seen, err = e.SeenBy(w.from.People, w.collection); err != nil {
			return one, false, err
		}
	}
	// What a new definition lets everybody see, the store that wrote it may have had to drop.
	own := e.Source.Incarnation == w.ask.Store && e.Source.Number <= w.ask.Answered && !e.Again
	switch {
	case seen && own && readsAll: // under a reading rule, what it changed last its worker may no longer read
		return one, false, nil
	case w.ask.Load && (e.Removed || !seen):
		return one, false, nil
	case seen:
		return e.Record(), true, nil
	case !w.from.Fresh.IsZero() && !e.Again && e.Last.ReceivedAt.Before(w.from.Fresh):
		return one, false, nil // the device cannot hold it, and need not hear that there is one
	case covered || w.had(e):
		return desk.Withdrawal(e.ID, e.Revision, e.Position), true, nil
	}
	return one, false, nil
}

// had says whether the device may hold a record that it does not cover now.
func (w *pull) had(e Entry) bool {
	return slices.Contains(e.Left, rights.All) || slices.Contains(w.from.Past, e.Source.Incarnation) ||
		slices.ContainsFunc(e.Left, func(key string) bool { return slices.Contains(w.ask.Covers, key) })
}

// Refresh gives those of the records that a device has looked up which are now other than it has them. What its
// workers may no longer see, or what was never there, comes as a withdrawal.
func (p *Pulls) Refresh(ctx context.Context, from fleet.Device, collection string,
	held []wire.HeldRecord) ([]wire.Record, error) {
	ids := make([]uuid.UUID, len(held))
	for n, h := range held {
		ids[n] = h.ID
	}
	changed := []wire.Record{}
	err := p.ground.Deliver(ctx, func(t Tables) error {
		changed = changed[:0]
		all, err := t.Definitions(ctx)
		if err != nil {
			return err
		}
		if all[collection] == nil {
			return fault.Fail(fault.NotFound, "there is no collection %s", collection)
		}
		entries, err := t.Entries(ctx, collection, ids)
		if err != nil {
			return err
		}
		for _, h := range held {
			e, there := entries[h.ID]
			seen := false
			if there {
				if seen, err = e.SeenBy(from.People, all[collection]); err != nil {
					return err
				}
			}
			switch {
			case !seen: // with a revision only where there is a record: after a restore of central, a device must know what it has lost
				changed = append(changed, desk.Withdrawal(h.ID, e.Revision, 0))
			case e.Revision != h.Revision:
				changed = append(changed, e.Record())
			}
		}
		return nil
	})
	return changed, err
}
