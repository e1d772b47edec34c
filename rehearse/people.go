package rehearse

import (
	"context"
	"fmt"
	"slices"

	"homing/core/rights"
)

// changePeople changes who may have what on a device: what its worker holds, the worker's role, and who else uses it.
func (w *world) changePeople(ctx context.Context, d *unit) error {
	switch roll := w.random.IntN(100); {
	case roll < 50:
		d.held = w.someZones()
		w.tell("%s holds %v now", d.worker, d.held)
		return w.side.hold(d)
	case roll < 75:
		d.role = []rights.Role{rights.Worker, rights.Lead}[w.random.IntN(2)]
		w.tell("%s is a %s now", d.worker, d.role)
		return w.side.promote(d)
	case w.options.Plain:
		return nil
	case len(d.guests) == 0:
		guest := rights.Person{Name: fmt.Sprintf("guest-%c", 'a'+d.n),
			Role: []rights.Role{rights.Worker, rights.Lead}[w.random.IntN(2)], Territories: w.someZones()}
		d.guests = append(d.guests, guest)
		w.tell("%s, a %s who holds %v, joins %s", guest.Name, guest.Role, guest.Territories, d.name)
		if err := w.side.invite(d, guest); err != nil {
			return err
		}
		return w.join(ctx, d, guest.Name)
	default:
		guest := d.guests[0]
		d.guests = slices.Delete(d.guests, 0, 1)
		d.left = append(d.left, guest)
		w.tell("%s leaves %s", guest.Name, d.name)
		return w.side.dismiss(d, guest.Name)
	}
}
