package definition

import (
	"fmt"
	"maps"
	"slices"

	"homing/core/expression"
	"homing/core/record"
	"homing/core/rights"
)

// Brood are the children of one record in one collection that are not removed, each with its computed values, in the
// order of their ids.
type Brood struct {
	Collection *Collection
	Records    []record.Fields
}

// broods are the child collections that the computed fields use.
func (c *Collection) broods() []string {
	var names []string
	for _, program := range c.guard.computed {
		names = append(names, program.Members("children")...)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Computes says whether any field of the collection is worked out.
func (c *Collection) Computes() bool { return len(c.guard.computed) > 0 }

// Totals says whether a computed field uses the children of a collection.
func (c *Collection) Totals(child string) bool { return slices.Contains(c.broods(), child) }

// HasTotals says whether a computed field uses children at all.
func (c *Collection) HasTotals() bool { return len(c.broods()) > 0 }

// Counting are the computed fields that use children, by themselves or by another such field.
func (c *Collection) Counting() map[string]bool {
	all := map[string]bool{}
	for _, field := range c.Fields {
		program := c.guard.computed[field.Name]
		if program == nil {
			continue
		}
		if program.Uses("children") || slices.ContainsFunc(program.Members("record"), func(name string) bool { return all[name] }) {
			all[field.Name] = true
		}
	}
	return all
}

// Compute gives the values of the computed fields. They are worked out in the order of the definition, each over the
// record with those worked out before it. An expression that cannot be worked out, since a value that it needs is
// missing or it is too dear, gives no value; wrong says why for each.
func (c *Collection) Compute(fields record.Fields,
	broods map[string]Brood) (computed record.Fields, wrong map[string]error) {
	computed, wrong = record.Fields{}, map[string]error{}
	if !c.Computes() {
		return computed, wrong
	}
	values, err := expression.Values(fields, c.guard.names)
	if err != nil {
		return computed, map[string]error{"": err}
	}
	children := map[string]any{}
	for _, name := range c.broods() {
		brood := broods[name]
		list := make([]any, len(brood.Records))
		for n, child := range brood.Records {
			if list[n], err = expression.Values(child, brood.Collection.guard.names); err != nil {
				return computed, map[string]error{"": err}
			}
		}
		children[name] = list
	}
	for _, field := range c.Fields {
		program := c.guard.computed[field.Name]
		if program == nil {
			continue
		}
		raw, err := program.JSON(map[string]any{"record": values, "children": children})
		if err != nil {
			wrong[field.Name] = err
			continue
		}
		value, err := record.CanonicalField(field.Name, raw)
		if err != nil {
			wrong[field.Name] = err
			continue
		}
		if value == nil {
			continue
		}
		computed[field.Name] = value
		one, err := expression.Values(record.Fields{field.Name: value}, nil)
		if err != nil {
			wrong[field.Name] = err
			continue
		}
		maps.Copy(values, one)
	}
	return computed, wrong
}

// Accepting is what the expressions of filled fields see of the change that is being accepted.
type Accepting struct {
	Who      rights.Person
	Device   string
	Received string // RFC 3339
}

// Fill gives the values of the fields that central fills in. One without a value is nil.
func (c *Collection) Fill(fields record.Fields, by Accepting) (record.Fields, error) {
	if len(c.guard.filled) == 0 {
		return nil, nil
	}
	values, err := expression.Values(fields, c.guard.names)
	if err != nil {
		return nil, err
	}
	variables := map[string]any{"record": values, "worker": workerSeen(by.Who),
		"change": map[string]any{"device": by.Device, "received": by.Received}}
	filled := record.Fields{}
	for _, field := range c.Fields {
		program := c.guard.filled[field.Name]
		if program == nil {
			continue
		}
		raw, err := program.JSON(variables)
		if err != nil {
			return nil, fmt.Errorf("%s cannot be filled in: %w", field.Name, err)
		}
		if filled[field.Name], err = record.CanonicalField(field.Name, raw); err != nil {
			return nil, err
		}
	}
	return filled, nil
}

// SeriesFields are the fields to which central gives numbers, with how the numbers look.
func (c *Collection) SeriesFields() map[string]Series { return c.guard.series }
