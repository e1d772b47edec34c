package rehearse

import (
	"context"
	"errors"

	"github.com/google/uuid"

	"homing/conformance/driver"
	"homing/device"
)

// screen is what an app on a device shows: it reads everything once, and from then on only what it is told has changed.
type screen struct {
	changes <-chan device.Changed
	stop    func()
	shows   map[shown]string
}

type shown struct {
	collection string
	id         uuid.UUID
}

// look lets the app on a device start.
func (w *world) look(ctx context.Context, d *unit) error {
	if people, err := d.store.People(ctx); err == nil && len(people) > 0 {
		if _, err := w.who(ctx, d); err != nil {
			return err
		}
	}
	d.screen.shows = map[shown]string{}
	d.screen.changes, d.screen.stop = d.store.Listen()
	all, err := w.whole(ctx, d)
	d.screen.shows = all
	return err
}

// whole is everything that a store holds, as an app would show it.
func (w *world) whole(ctx context.Context, d *unit) (map[shown]string, error) {
	all := map[shown]string{}
	collections, err := d.store.Collections(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range collections {
		if !c.Loads() {
			continue
		}
		found, err := d.store.Find(ctx, c.Name, driver.Find{Limit: 1000})
		if err != nil {
			return nil, err
		}
		for _, r := range found.Records {
			all[shown{c.Name, r.ID}] = string(r.Fields.JSON())
		}
	}
	return all, nil
}

// hear lets the app read again what it was told of.
func (w *world) hear(ctx context.Context, d *unit) error {
	for {
		select {
		case told := <-d.screen.changes:
			if told.Missed {
				all, err := w.whole(ctx, d)
				if err != nil && !errors.Is(err, device.ErrSignedOut) { // an app shows nothing then
					return err
				}
				d.screen.shows = all
			}
			if told.Collection == "" {
				continue
			}
			at := shown{told.Collection, told.ID}
			r, err := d.store.Get(ctx, told.Collection, told.ID)
			if err != nil {
				delete(d.screen.shows, at)
			} else {
				d.screen.shows[at] = string(r.Fields.JSON())
			}
		default:
			return nil
		}
	}
}

// checkScreens holds what the apps show against what their stores hold.
func (w *world) checkScreens(ctx context.Context) error {
	for _, d := range w.devices {
		all, err := w.whole(ctx, d)
		if err != nil {
			return err
		}
		for at, text := range all {
			if d.screen.shows[at] != text {
				w.wrong(
					"P3: an app on %s shows %s as %q, which is %s",
					d.name,
					name(at.collection, at.id),
					d.screen.shows[at],
					text,
				)
			}
			delete(d.screen.shows, at)
		}
		for at, text := range d.screen.shows {
			w.wrong("P3: an app on %s shows %s as %s, which is gone", d.name, name(at.collection, at.id), text)
		}
	}
	return nil
}
