package desk

import (
	"fmt"
	"maps"
	"time"

	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/rights"
)

// settable leaves out of a change what nobody but central sets, and what stays on devices: a device with an older
// definition may still send it. Dropped says whether something was left out that the device now shows and central
// does not have.
func (d *desk) settable(c *definition.Collection, delta record.Delta) (left record.Delta, dropped bool) {
	for name, edit := range delta {
		field, known := c.Field(name)
		if !known {
			continue
		}
		may, _ := field.Settable()
		brings := field.Series != "" && d.from.KeepsNumbers && edit.To != nil // an empty cell takes no number away
		if (may || field.Marks) && !field.Local || brings {
			continue
		}
		if left == nil {
			left = maps.Clone(delta)
		}
		delete(left, name)
		dropped = dropped || !field.Local
	}
	if left == nil {
		return delta, false
	}
	return left, dropped
}

// fillIn puts into an accepted record what central gives: numbers of series, and filled fields. It says whether there
// was anything to give.
func (d *desk) fillIn(c *definition.Collection, at Key, who rights.Person, edit merge.Edit, out *merge.Outcome) (bool, error) {
	by := definition.Accepting{Who: who, Device: d.from.Device, Received: d.from.Received.Format(time.RFC3339Nano)}
	filled, err := c.Fill(out.State.Fields, by)
	if err != nil {
		return false, err
	}
	if filled == nil {
		filled = record.Fields{}
	}
	for name := range c.SeriesFields() {
		if _, has := out.State.Fields[name]; has {
			continue
		}
		number, err := d.assign(at, name)
		if err != nil {
			return false, err
		}
		if filled[name], err = record.CanonicalField(name, marshal(number)); err != nil {
			return false, err
		}
	}
	given := false
	var names []string
	for name, value := range filled {
		from := out.State.Fields[name]
		if string(from) == string(value) {
			continue
		}
		if !given {
			out.State.Fields, out.Delta, given = maps.Clone(out.State.Fields), maps.Clone(out.Delta), true
		}
		if out.Delta == nil {
			out.Delta = record.Delta{}
		}
		if before := out.Delta[name].From; before != nil {
			from = before
		}
		out.Delta[name] = record.Edit{From: from, To: value}
		names = append(names, name)
		if delete(out.State.Fields, name); value != nil {
			out.State.Fields[name] = value
		}
	}
	out.Given(edit, names)
	return given, nil
}

// assignment is a field of a record that has a number of a series.
type assignment struct {
	at    Key
	field string
}

// assign gives a record the next of the numbers that were drawn; the same one when the record is looked at again.
func (d *desk) assign(at Key, field string) (string, error) {
	one := assignment{at, field}
	if number, known := d.assigned[one]; known {
		return number, nil
	}
	series := Series{at.Collection, field}
	drawn := d.read.Numbers[series]
	if len(drawn) == 0 {
		return "", fmt.Errorf("central has drawn no number of the series %s for it; send it again", field)
	}
	d.assigned[one], d.read.Numbers[series] = drawn[0], drawn[1:]
	return drawn[0], nil
}
