package changes

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/expression"
	"homing/core/record"
	"homing/core/rights"
)

// Plan is what defining a collection would do.
type Plan struct {
	Collection  string                  `json:"collection"`
	Version     int                     `json:"version" doc:"The version that it would be."`
	Outcome     string                  `json:"outcome" enum:"created,changed,unchanged"`
	Differences []definition.Difference `json:"differences,omitempty"`
	Records     int                     `json:"records" doc:"Records that there are."`
	Carried     int                     `json:"carried" doc:"Records whose values would be carried over, each as a change of its own."`
	Broken      []Breakage              `json:"broken,omitempty" doc:"What would no longer fit; as long as there is any, the definition is refused."`
	FollowUps   []WouldTouch            `json:"follow_ups,omitempty" doc:"What new follow-ups would have done if the records of today had been added under them. Defining does none of it."`
	Devices     int                     `json:"devices" doc:"Devices that would get the definition with their next exchange."`
}

// Breakage is what would no longer fit in some records.
type Breakage struct {
	Field   string    `json:"field"`
	Message string    `json:"message"`
	Records int       `json:"records"`
	Example uuid.UUID `json:"example" format:"uuid"`
}

// WouldTouch is how many of the records of today a new follow-up would have followed.
type WouldTouch struct {
	Rule    string    `json:"rule"`
	Records int       `json:"records"`
	Example uuid.UUID `json:"example" format:"uuid"`
	Wrong   string    `json:"wrong,omitempty" doc:"Why it could not have been worked out for some of them."`
}

// Preview says what defining would do, and changes nothing.
func (c *Changes) Preview(ctx context.Context, definitions []definition.Definition) ([]Plan, error) {
	plans := make([]Plan, len(definitions))
	err := c.ground.Look(ctx, func(t Tables) error {
		all, err := t.Definitions(ctx)
		if err != nil {
			return err
		}
		after := maps.Clone(all)
		for n, d := range definitions {
			compiled, err := d.Compile()
			if err != nil {
				return fault.Fail(fault.Invalid, "the definition of %s: %v", d.Collection, err)
			}
			if plans[n], err = planOf(ctx, t, all[d.Collection], compiled); err != nil {
				return err
			}
			after[d.Collection] = compiled
		}
		if err := definition.CheckTogether(after); err != nil {
			return fault.Fail(fault.Invalid, "%v", err)
		}
		return inspect(after, definitions)
	})
	return plans, err
}

// inspect finds what would stop work later in new definitions, among all that there would be.
func inspect(all map[string]*definition.Collection, fresh []definition.Definition) error {
	for _, d := range fresh {
		var children []definition.Definition
		for _, name := range slices.Sorted(maps.Keys(all)) {
			if c := all[name]; c.Parent != nil && c.Parent.Collection == d.Collection {
				children = append(children, c.Definition)
			}
		}
		if err := d.Inspect(children...); err != nil {
			return fault.Fail(fault.Invalid, "the definition of %s: %v", d.Collection, err)
		}
	}
	return nil
}

// planOf looks at all records, as the new version would have them. Old is nil for a new collection.
func planOf(ctx context.Context, t Tables, old, next *definition.Collection) (Plan, error) {
	p := Plan{Collection: next.Definition.Collection, Version: 1, Outcome: "created"}
	var err error
	if p.Devices, err = t.Devices(ctx); err != nil || old == nil {
		return p, err
	}
	if old.SameAs(next.Definition) {
		p.Outcome, p.Version, p.Devices = unchanged, old.Version, 0
		return p, nil
	}
	p.Outcome, p.Version, p.Differences = "changed", old.Version+1, definition.Differences(old.Definition, next.Definition)
	broken, first := map[string]*Breakage{}, map[string]uuid.UUID{}
	touched := newFollowUps(old.Definition, next)
	err = carried(ctx, t, old.Definition, next, false, func(id uuid.UUID, row *desk.Row, now record.Fields, wrong error) error {
		p.Records++
		reasons := newReasons(old, next, row.Fields, now, wrong)
		if text := next.OneText(now); text != "" {
			if other, taken := first[text]; taken {
				one := change.Reason{Field: next.Key, Code: change.CodeKeyTaken,
					Message: fmt.Sprintf("unique does not allow two records with one key, such as %s, which %s has, too", text, other)}
				if next.Coverage != nil {
					one.Field, one.Message = next.Coverage.Period, fmt.Sprintf("coverage does not allow two records for one place and period, such as %s, which %s is for, too", text, other)
				}
				reasons = append(reasons, one)
			} else {
				first[text] = id
			}
		}
		if len(reasons) == 0 && len(record.Diff(row.Fields, now)) > 0 {
			p.Carried++
		}
		if err := touched.note(next, id, now); err != nil {
			return err
		}
		for _, reason := range reasons {
			key := reason.Field + " " + reason.Code
			if broken[key] == nil {
				broken[key] = &Breakage{Field: reason.Field, Message: reason.Message, Example: id}
			}
			broken[key].Records++
		}
		return nil
	})
	p.FollowUps = touched
	for _, key := range slices.Sorted(maps.Keys(broken)) {
		p.Broken = append(p.Broken, *broken[key])
	}
	return p, err
}

type touches []WouldTouch

// newFollowUps are those that a definition has not had before in this form.
func newFollowUps(old definition.Definition, next *definition.Collection) (all touches) {
	for _, one := range next.FollowUps {
		if !slices.ContainsFunc(old.FollowUps, func(was definition.FollowUp) bool { return reflect.DeepEqual(was, one) }) {
			all = append(all, WouldTouch{Rule: one.Name})
		}
	}
	return all
}

// note counts what would have followed the add of a record.
func (all touches) note(c *definition.Collection, id uuid.UUID, fields record.Fields) error {
	if len(all) == 0 {
		return nil
	}
	follows, err := c.Follows(definition.Cause{ID: id.String(), After: fields, Kind: change.Add,
		Who: rights.Person{Role: rights.Worker, Territories: []string{rights.All}}})
	for _, one := range follows {
		at := slices.IndexFunc(all, func(w WouldTouch) bool { return w.Rule == one.Rule.Name })
		if at < 0 {
			continue
		}
		if all[at].Records++; all[at].Records == 1 {
			all[at].Example = id
		}
		if one.Wrong != nil {
			all[at].Wrong = one.Wrong.Error()
		}
	}
	return err
}

// newReasons are what is wrong with a record under the new version and was not under the old one.
func newReasons(before, next *definition.Collection, was, now record.Fields, wrong error) []change.Reason {
	if wrong != nil {
		return []change.Reason{{Code: change.CodeInvalidValue, Message: wrong.Error()}}
	}
	known := map[string]bool{}
	for _, reason := range before.Validate(was) {
		known[reason.Field+" "+reason.Code] = true
	}
	if reasons := tooDear(next, now); reasons != nil {
		return reasons
	}
	return slices.DeleteFunc(next.Validate(now), func(r change.Reason) bool { return known[r.Field+" "+r.Code] })
}

// tooDear are the computed fields of a record that run too long to be worked out.
func tooDear(next *definition.Collection, fields record.Fields) (reasons []change.Reason) {
	if next.HasTotals() {
		return nil // how dear a total is depends on the children
	}
	_, wrong := next.Compute(fields, nil)
	for _, name := range slices.Sorted(maps.Keys(wrong)) {
		if errors.Is(wrong[name], expression.ErrTooDear) {
			reasons = append(reasons, change.Reason{Field: name, Code: change.CodeInvalidValue, Message: wrong[name].Error()})
		}
	}
	return reasons
}

// carried goes through the records of a collection, with those that were removed if asked, and gives each as it is and
// as the new version has it.
func carried(ctx context.Context, t Tables, old definition.Definition, next *definition.Collection, removed bool,
	take func(id uuid.UUID, row *desk.Row, now record.Fields, wrong error) error) error {
	return t.Each(ctx, old.Collection, removed, func(id uuid.UUID, row *desk.Row) error {
		now, wrong := next.CarryOver(old, row.Fields)
		return take(id, row, now, wrong)
	})
}

// refuse says why a definition is not taken.
func (p Plan) refuse() error {
	reasons := make([]change.Reason, len(p.Broken))
	for n, b := range p.Broken {
		reasons[n] = change.Reason{Field: b.Field, Code: change.CodeInvalidValue,
			Message: fmt.Sprintf("%s, in %d of %d records, such as %s", b.Message, b.Records, p.Records, b.Example)}
	}
	return &fault.Error{Kind: fault.Clash, Reasons: reasons, Message: fmt.Sprintf(
		"the new definition of %s does not fit records that are there; say under carry how their values go over "+
			"(rename, default, convert, drop)", p.Collection)}
}
