package rehearse

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"github.com/google/uuid"
)

// mostCopies is how many copies of stores there are at most.
const mostCopies = 2

// copy puts a copy of a store beside it, on another machine: as it is, so that both use the same numbers, or restored
// as the guide says. Both are used from then on.
func (w *world) copy(ctx context.Context, d *unit) error {
	if len(w.devices) >= w.options.Devices+mostCopies || w.options.Bug == ClonedNumbers || w.hasCopies(d) {
		return nil
	}
	n := len(w.devices)
	twin := &unit{
		w:        w,
		n:        n,
		enrolled: d.enrolled,
		skew:     d.skew,
		booted:   w.now,
		path:     filepath.Join(w.folder, fmt.Sprintf("%d.db", n)),
	}
	restored := w.chance(50)
	made := twin.path
	if restored {
		made += ".backup"
	}
	if err := d.store.Backup(ctx, made); err != nil {
		return err
	}
	if restored {
		if err := w.restoreStore(ctx, twin, made, twin.path); err != nil {
			return err
		}
		w.tell("a backup of %s is restored on another machine, and both are used", d.name)
	} else {
		w.tell("the store of %s is copied to another machine as it is, and both are used", d.name)
	}
	w.copies = true // also with one that was restored: what was unsent in the backup lies in both
	w.devices = append(w.devices, twin)
	return w.open(ctx, twin)
}

// hasCopies says whether a store was copied already. Of a copy's own unsent changes, a copy of that copy cannot be told
// apart once the first store has used their numbers.
func (w *world) hasCopies(d *unit) bool {
	return slices.ContainsFunc(w.devices, func(other *unit) bool { return other != d && other.enrolled == d.enrolled })
}

// kin says whether two units are of one device: one may send what was saved on the other.
func (w *world) kin(a, b int) bool {
	return a == b || a != atCentral && b != atCentral && w.devices[a].enrolled == w.devices[b].enrolled
}

// anyKin says whether something is noted of a record for a unit or one of its kin.
func (w *world) anyKin(noted map[touched]bool, s *save) bool {
	for at, is := range noted {
		if is && at.record == s.record && w.kin(at.unit, s.unit) {
			return true
		}
	}
	return false
}

// mendedTwice says whether two copies of a store both had a refused change of a record, and somebody mended it on
// each, or on one that was restored from before it was mended: these are two changes then, by two decisions.
func (w *world) mendedTwice(s *save) bool {
	times := 0
	for at, is := range w.ledger.mended {
		if is && at.record == s.record && w.kin(at.unit, s.unit) {
			times++
		}
	}
	return times > 1 || w.anyKin(w.ledger.twice, s) || times > 0 && w.sentByCopies(s)
}

// sentByCopies says whether a value came to central from two copies of a store: as it was saved from the one, where it
// was taken, and as somebody mended it on the other, where it was refused.
func (w *world) sentByCopies(s *save) bool {
	from := map[uuid.UUID]bool{}
	for _, v := range w.said()[s.token] {
		from[v.Source.Incarnation] = true
	}
	return len(from) > 1 && slices.ContainsFunc(w.devices, func(other *unit) bool { return other.n != s.unit && w.kin(other.n, s.unit) })
}
