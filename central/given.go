package central

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
)

// settable leaves out of a change what nobody but central sets, and what stays on devices: a device with an older definition may still
// send it. Dropped says whether something was left out that the device now shows and central does not have.
func (d *desk) settable(c *definition.Collection, delta record.Delta) (left record.Delta, dropped bool) {
	for name := range delta {
		field, known := c.Field(name)
		if !known {
			continue
		}
		if may, _ := field.Settable(); may && !field.Local || field.Series != "" && d.imported {
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

// fillIn puts into an accepted record what central gives: numbers of series, and filled fields. It says whether there was anything to give.
func (d *desk) fillIn(c *definition.Collection, at key, who Person, out *merge.Outcome) (bool, error) {
	filled, err := c.Fill(out.State.Fields, definition.Accepting{Who: who, Device: d.device, Received: d.received.Format(time.RFC3339Nano)})
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
		number, err := record.CanonicalField(name, marshal(d.assign(at, name)))
		if err != nil {
			return false, err
		}
		filled[name] = number
	}
	given := false
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
		edit := out.Delta[name]
		out.Delta[name] = record.Edit{From: firstValue(edit.From, from), To: value}
		if delete(out.State.Fields, name); value != nil {
			out.State.Fields[name] = value
		}
	}
	return given, nil
}

// assign gives a record the next of the numbers that were drawn; the same one when the record is looked at again.
func (d *desk) assign(at key, field string) string {
	series, one := seriesKey(at.collection, field), field+" "+at.id.String()
	if _, known := d.assigned[one]; !known {
		d.assigned[one] = d.numbers[series][0] // drawNumbers has counted this record
		d.numbers[series] = d.numbers[series][1:]
	}
	return d.assigned[one]
}

func firstValue(a, b []byte) []byte {
	if a != nil {
		return a
	}
	return b
}

func seriesKey(collection, field string) string { return collection + "." + field }

// sequence is the name of the sequence of a series. A sequence never gives a number twice, whatever becomes of the transaction, and nobody
// waits for anybody; so numbers have gaps.
func sequence(collection, field string) string {
	sum := sha256.Sum256([]byte(collection + " " + field))
	return "series_" + hex.EncodeToString(sum[:12])
}

// makeSeries makes the sequences of a definition.
func makeSeries(ctx context.Context, tx *sqlx.Tx, c *definition.Collection) error {
	all := c.SeriesFields()
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if _, err := tx.ExecContext(ctx, fmt.Sprintf(`CREATE SEQUENCE IF NOT EXISTS %s START WITH %d`, sequence(c.Definition.Collection, name), all[name].First)); err != nil {
			return err
		}
	}
	return nil
}

// needNumbers counts the numbers of each series that the records of a batch may need.
func (d *desk) needNumbers(items []item) map[string]int {
	need := map[string]map[key]bool{}
	for _, it := range items {
		c := d.definitions[it.change.Collection]
		if _, known := d.known[it.change.Number]; it.unreadable != nil || c == nil || known || it.change.Kind == change.Remove {
			continue
		}
		at := key{it.change.Collection, it.change.Record}
		for name := range c.SeriesFields() {
			if r := d.rows[at]; r != nil && r.Fields[name] != nil || d.imported && it.change.Fields[name].To != nil {
				continue
			}
			if need[seriesKey(at.collection, name)] == nil {
				need[seriesKey(at.collection, name)] = map[key]bool{}
			}
			need[seriesKey(at.collection, name)][at] = true
		}
	}
	counts := map[string]int{}
	for series, records := range need {
		counts[series] = len(records)
	}
	return counts
}

// drawNumbers draws as many numbers as the records of a batch may need.
func (d *desk) drawNumbers(ctx context.Context, tx *sqlx.Tx, items []item) error {
	need := d.needNumbers(items)
	d.numbers, d.assigned = map[string][]string{}, map[string]string{}
	for name, c := range d.definitions {
		for field, looks := range c.SeriesFields() {
			if d.imported {
				if err := d.moveSeries(ctx, tx, items, name, field, looks); err != nil {
					return err
				}
			}
			count := need[seriesKey(name, field)]
			if count == 0 {
				continue
			}
			var numbers []int64
			if err := tx.SelectContext(ctx, &numbers, fmt.Sprintf(`SELECT nextval('%s') FROM generate_series(1, $1)`, sequence(name, field)), count); err != nil {
				return err
			}
			slices.Sort(numbers)
			for _, n := range numbers {
				d.numbers[seriesKey(name, field)] = append(d.numbers[seriesKey(name, field)], looks.Format(n))
			}
		}
	}
	return nil
}

// moveSeries lets a series go on behind the numbers that imported rows bring.
func (d *desk) moveSeries(ctx context.Context, tx *sqlx.Tx, items []item, collection, field string, looks definition.Series) error {
	highest := int64(0)
	for _, it := range items {
		if it.unreadable == nil && it.change.Collection == collection {
			if n, fits := looks.Number(definition.Plain(it.change.Fields[field].To)); fits {
				highest = max(highest, n)
			}
		}
	}
	if highest == 0 {
		return nil
	}
	name := sequence(collection, field)
	_, err := tx.ExecContext(ctx, fmt.Sprintf(`SELECT setval('%[1]s', $1::bigint) FROM %[1]s WHERE last_value < $1 OR (last_value = $1 AND NOT is_called)`, name), highest)
	return err
}
