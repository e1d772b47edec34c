package rehearse

import (
	"context"
	"slices"

	"github.com/google/uuid"

	"homing/conformance/driver"
	"homing/core/definition"
	"homing/core/merge"
	"homing/device"
)

// counting says that of so many seeds one has devices that measure.
const counting = 4

// letCount adds a collection that devices only send, and let go of as soon as central has it.
func (w *world) letCount() {
	w.counts = []definition.Definition{{Collection: "counts", Version: 1, Title: "counts", Label: "{what}",
		Fields: []definition.Field{textField("what"), textField("more")},
		Sync:   definition.Sync{Removal: merge.EditStays, Direction: definition.Up, Keep: definition.Never}}}
	if w.chance(50) {
		w.counts[0].Sync.Steps = definition.Every
	}
}

// saveCounts lets a device measure a few times, or a worker say something else of a measurement that is still here.
func (w *world) saveCounts(ctx context.Context, d *unit) error {
	def := w.counts[0]
	found, err := d.store.Find(ctx, def.Collection, driver.Find{Limit: 1000})
	if err != nil {
		return w.saved(d, err)
	}
	if len(found.Records) > 0 && w.chance(40) {
		slices.SortFunc(found.Records, func(a, b device.Record) int { return slices.Compare(a.ID[:], b.ID[:]) })
		r := found.Records[w.random.IntN(len(found.Records))]
		if w.chance(20) {
			w.report.Saves++
			w.tell("%s removes %s", d.at, name(def.Collection, r.ID))
			return w.saved(d, d.store.Remove(ctx, def.Collection, r.ID, nil))
		}
		fields, notes := w.values(d.n, def, r.Fields, false, nil)
		if len(fields) == 0 {
			return nil
		}
		w.tell("%s edits %s: %s", d.at, name(def.Collection, r.ID), describe(fields))
		_, err := d.store.Edit(ctx, def.Collection, r.ID, fields, nil)
		return w.keep(d, def, r.ID, notes, err)
	}
	for range 1 + w.random.IntN(5) {
		fields, notes := w.values(d.n, def, nil, true, nil)
		r, err := d.store.Add(ctx, def.Collection, fields)
		if err == nil {
			w.tell("%s adds %s: %s", d.at, name(def.Collection, r.ID), describe(fields))
		}
		if err := w.keep(d, def, r.ID, notes, err); err != nil || r.ID == uuid.Nil {
			return err
		}
	}
	return nil
}

// checkLetGo looks for measurements that are still on a device, when all is sent.
func (w *world) checkLetGo(ctx context.Context) {
	for _, d := range w.devices {
		for _, def := range w.counts {
			if held, err := d.store.Fingerprint(ctx, def.Collection); err != nil || held.Count > 0 {
				w.wrong("P4: %s still holds %d %s, which it sends and does not keep: %v", d.name, held.Count, def.Collection, err)
			}
		}
	}
}
