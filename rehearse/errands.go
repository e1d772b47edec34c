package rehearse

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"net/url"
	"path/filepath"
	"slices"

	"github.com/google/uuid"

	"homing/central/fleet"
	"homing/core/fingerprint"
	"homing/core/rights"
	"homing/wire"
)

// assign lets central ask a device for something now and then. Who else is on a device, and what copies of it do, is not
// rehearsed together with a store that goes; nor is a central on PostgreSQL, where whoever enrols again is another device.
func (w *world) assign(d *unit) {
	if w.options.Plain || w.options.Database != "" || len(d.guests)+len(d.left) > 0 || w.hasCopies(d) {
		return
	}
	// Chance of its own: what else happens does not change by it.
	random := rand.New(rand.NewPCG(w.options.Seed, uint64(len(w.report.Story))))
	asked := fleet.AskedErrand{AskedAt: w.now, By: lead}
	switch roll := random.IntN(100); {
	case roll < 30:
		asked.What = wire.ErrandErase
	case roll < 60:
		asked.What = wire.ErrandVerify
	default:
		return
	}
	var id uuid.UUID
	binary.BigEndian.PutUint64(id[:8], random.Uint64())
	binary.BigEndian.PutUint64(id[8:], random.Uint64())
	asked.ID = id
	d.errands = d.errands.With(asked)
	w.tell("central asks %s to %s", d.name, asked.What)
}

// startAnew goes on with an empty store where the one before was erased.
func (w *world) startAnew(ctx context.Context, d *unit) error {
	w.report.Erased++
	w.tell("%s has erased its store, and enrols again", d.name)
	d.errands, d.backup, d.erased = nil, "", len(w.ledger.saves)
	d.requests, d.killAt, d.dead = 0, 0, false
	d.path = filepath.Join(w.folder, fmt.Sprintf("%d-anew-%d.db", d.n, w.report.Erased))
	if err := w.open(ctx, d); err != nil {
		return err
	}
	code, err := w.side.join(d)
	if err != nil {
		return err
	}
	before := w.quiet
	w.quiet = true
	defer func() { w.quiet = before }()
	if err := d.store.Enrol(ctx, "https://central.invalid", code, d.name); err != nil {
		return err
	}
	_, err = d.store.Exchange(ctx, nil)
	return err
}

// fingerprints are what a device should hold of a collection.
func (m *inMemory) fingerprints(d *unit, collection string, ask url.Values) (wire.Fingerprints, error) {
	from := d.device()
	covers := from.Territories
	if ask.Has("covers") {
		covers = slices.DeleteFunc(ask["covers"], func(key string) bool { return key == "" })
	}
	compiled, err := m.w.definitionOf(collection).Compile()
	if err != nil {
		return wire.Fingerprints{}, err
	}
	got := wire.Fingerprints{Collection: collection, Buckets: map[string]wire.Bucket{}}
	if got.Head, err = m.tables.Head(context.Background(), collection); err != nil {
		return got, err
	}
	sets := map[string]*fingerprint.Set{}
	for _, held := range m.tables.Records() {
		name := fingerprint.Bucket(held.ID)
		if held.Collection != collection || held.Removed || !rights.Covers(covers, held.Territories) ||
			!from.People.See(compiled, held.Territories, held.Fields) || ask.Get("bucket") != "" && ask.Get("bucket") != name {
			continue
		}
		if ask.Get("bucket") != "" {
			var one fingerprint.Set
			one.Add(held.ID, held.Fields.JSON())
			got.Records = append(got.Records, wire.Fingerprint{ID: held.ID, Revision: held.Revision, Fingerprint: one.String()})
		}
		if sets[name] == nil {
			sets[name] = &fingerprint.Set{}
		}
		sets[name].Add(held.ID, held.Fields.JSON())
	}
	for name, set := range sets {
		got.Buckets[name] = wire.Bucket{Count: set.Count(), Fingerprint: set.String()}
	}
	return got, nil
}
