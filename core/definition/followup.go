package definition

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"homing/core/change"
	"homing/core/expression"
	"homing/core/record"
	"homing/core/rights"
)

// FollowUp says what central does by itself after it has accepted a change of a record, in the same transaction.
//
// Its expressions see before (the record as it was; null for an add), after (as it is now; null for a removal), worker (name, role,
// territories of whoever made the change) and change (kind, device, received). What it does are changes like any other,
// and may be followed by others.
type FollowUp struct {
	Name string `json:"name" doc:"A small letter, then small letters, digits and _. Its changes carry it as their author."`
	When string `json:"when" doc:"CEL expression over before, after, worker and change, true where the follow-up is due. One that cannot be worked out, since a value is missing, counts as false."`
	// Set, SetParent and Add.Fields give values by field, each a CEL expression over what When sees.
	Set       map[string]string `json:"set,omitempty" doc:"Fields of the record itself, each with a CEL expression that gives the value; null takes it away."`
	SetParent map[string]string `json:"set_parent,omitempty" doc:"Fields of the record's parent, in the same way."`
	Add       *FollowAdd        `json:"add,omitempty" doc:"A record that is added."`
	Depth     int               `json:"depth,omitempty" minimum:"1" maximum:"8" doc:"How long a chain of follow-ups may get in which this one takes part: 1 follows only what people have done. 3 if left out."`
}

// FollowAdd is a record that a follow-up adds. Its id follows from what it is one of each for, so that there are never two.
type FollowAdd struct {
	Collection string            `json:"collection"`
	Each       Each              `json:"each,omitempty" enum:"record,change" doc:"What there is one for: each record whose change was followed (or left out), or each change of it."`
	Fields     map[string]string `json:"fields,omitempty" doc:"CEL expressions that give the values. id, the id of the record that was changed, can be used besides what when sees."`
}

// Each says what a follow-up adds one record for.
type Each string

// What there may be one for. A record that a device offers to a central that was restored comes as one change in place of those that made it: one for
// each record is the same one then, and one for each change may be another.
const (
	EachRecord Each = "record"
	EachChange Each = "change"
)

// Bounds on follow-ups.
const (
	MostFollowUps = 16
	MostDepth     = 8
	usualDepth    = 3
)

// Deep is how long a chain of follow-ups may get in which this one takes part.
func (f FollowUp) Deep() int {
	if f.Depth == 0 {
		return usualDepth
	}
	return f.Depth
}

// followUp is a compiled one. Values are by field.
type followUp struct {
	when                *expression.Program
	set, setParent, add map[string]*expression.Program
}

// followVariables are what the expressions of follow-ups see.
var followVariables = []string{"worker", "before", "after", "change", "id"}

func (f FollowUp) compile(at []string) (one followUp, err error) {
	if one.when, err = expression.Compile(f.When, followVariables...); err != nil {
		return one, &ruleError{append(at, "when"), err}
	}
	values := func(texts map[string]string, path ...string) (map[string]*expression.Program, error) {
		all := map[string]*expression.Program{}
		for _, field := range slices.Sorted(maps.Keys(texts)) {
			program, err := expression.Compile(texts[field], followVariables...)
			if err != nil {
				return nil, &ruleError{slices.Concat(at, path, []string{field}), err}
			}
			all[field] = program
		}
		return all, nil
	}
	if one.set, err = values(f.Set, "set"); err != nil {
		return one, err
	}
	if one.setParent, err = values(f.SetParent, "set_parent"); err != nil {
		return one, err
	}
	if f.Add != nil {
		one.add, err = values(f.Add.Fields, "add", "fields")
	}
	return one, err
}

// checkFollowUps finds what one definition alone shows to be wrong.
func (d Definition) checkFollowUps() error {
	if len(d.FollowUps) > MostFollowUps {
		return &ruleError{[]string{"follow_ups"}, fmt.Errorf("there are %d follow-ups: take at most %d", len(d.FollowUps), MostFollowUps)}
	}
	for n, one := range d.FollowUps {
		at := []string{"follow_ups", fmt.Sprint(n)}
		switch {
		case !Name.MatchString(one.Name):
			return &ruleError{append(at, "name"), fmt.Errorf("%q cannot name a follow-up: take a small letter, then small letters, digits and _, at most 40", one.Name)}
		case slices.ContainsFunc(d.FollowUps[:n], func(f FollowUp) bool { return f.Name == one.Name }):
			return &ruleError{append(at, "name"), fmt.Errorf("%s stands there twice", one.Name)}
		case one.When == "":
			return &ruleError{append(at, "when"), fmt.Errorf("a condition is missing, such as after.severity >= 4.0")}
		case len(one.Set) == 0 && len(one.SetParent) == 0 && one.Add == nil:
			return &ruleError{at, fmt.Errorf("%s does nothing: give it set, set_parent or add", one.Name)}
		case one.Depth < 0 || one.Depth > MostDepth:
			return &ruleError{append(at, "depth"), fmt.Errorf("take a depth of 1 to %d", MostDepth)}
		case len(one.SetParent) > 0 && d.Parent == nil:
			return &ruleError{append(at, "set_parent"), fmt.Errorf("the collection has no parent")}
		case one.Add != nil && one.Add.Each != "" && one.Add.Each != EachRecord && one.Add.Each != EachChange:
			return &ruleError{append(at, "add", "each"), fmt.Errorf("%q is not what there can be one for: take record or change", one.Add.Each)}
		case one.Add != nil && !Name.MatchString(one.Add.Collection):
			return &ruleError{append(at, "add"), fmt.Errorf("add names the collection in which a record is added")}
		}
		if err := d.followSets(one.Set, append(at, "set")); err != nil {
			return err
		}
		if err := d.followEnds(one, at); err != nil {
			return err
		}
	}
	return nil
}

// followSets says why a follow-up cannot set fields of the records of a definition.
func (d Definition) followSets(values map[string]string, at []string) error {
	for _, name := range slices.Sorted(maps.Keys(values)) {
		field, known := d.Field(name)
		settable, why := field.Settable()
		switch {
		case !known:
			return &ruleError{append(at, name), fmt.Errorf("%s has no field %q%s", d.Collection, name, Nearest(name, fieldNames(d)))}
		case !settable:
			return &ruleError{append(at, name), fmt.Errorf("the field %s", why)}
		case field.Local:
			return &ruleError{append(at, name), fmt.Errorf("the field stays on the device, and central never has it")}
		}
	}
	return nil
}

// followEnds refuses what would set a field from itself, again and again, whatever the change was.
func (d Definition) followEnds(one FollowUp, at []string) error {
	compiled, err := one.compile(at)
	if err != nil {
		return err
	}
	if compiled.when.Uses("before") || compiled.when.Uses("change") {
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(compiled.set)) {
		if slices.Contains(compiled.set[name].Members("after"), name) {
			return &ruleError{slices.Concat(at, []string{"set", name}), fmt.Errorf(
				"%s is worked out from itself, and what sets it would be followed again, without end; let the condition look at before or at change.kind, too", name)}
		}
	}
	return nil
}

// checkFollowing finds what follow-ups ask of other collections that is not there.
func checkFollowing(c *Collection, all map[string]*Collection) error {
	for n, one := range c.FollowUps {
		at := []string{"follow_ups", fmt.Sprint(n)}
		wrong := func(err error) error {
			return fmt.Errorf("the follow-up %s of %s: %w", one.Name, c.Definition.Collection, err)
		}
		if c.Parent != nil && all[c.Parent.Collection] != nil {
			if err := all[c.Parent.Collection].followSets(one.SetParent, append(at, "set_parent")); err != nil {
				return wrong(err)
			}
		}
		if one.Add == nil {
			continue
		}
		target := all[one.Add.Collection]
		if target == nil {
			return wrong(fmt.Errorf("it adds to the collection %s, which is not defined", one.Add.Collection))
		}
		if err := target.followSets(one.Add.Fields, append(at, "add", "fields")); err != nil {
			return wrong(err)
		}
		for _, field := range target.Fields {
			if field.Required && field.When == "" && one.Add.Fields[field.Name] == "" && field.Default() == nil {
				return wrong(fmt.Errorf("it gives %s no %s, which is required there", one.Add.Collection, field.Name))
			}
		}
	}
	return nil
}

// inspectFollowUps finds expressions that read what is not there.
func (d Definition) inspectFollowUps(worker expression.Variable) error {
	seen := expression.Variable{Members: d.members(false)}
	variables := map[string]expression.Variable{"worker": worker, "before": seen, "after": seen, "id": {Text: true},
		"change": {Members: expression.Members{"kind": expression.AlwaysText, "device": expression.AlwaysText, "received": expression.AlwaysText}}}
	check := func(text string, gives expression.Gives, at ...string) error {
		if err := expression.Check(text, variables, gives, Nearest); err != nil {
			return &ruleError{at, err}
		}
		return nil
	}
	for n, one := range d.FollowUps {
		at := []string{"follow_ups", fmt.Sprint(n)}
		if err := check(one.When, expression.Choice, append(at, "when")...); err != nil {
			return err
		}
		parts := map[string]map[string]string{"set": one.Set, "set_parent": one.SetParent}
		if one.Add != nil {
			parts["add"] = one.Add.Fields
		}
		for _, part := range slices.Sorted(maps.Keys(parts)) {
			for _, field := range slices.Sorted(maps.Keys(parts[part])) {
				if err := check(parts[part][field], expression.Value, append(at, part, field)...); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Cause is an accepted change that something may follow.
type Cause struct {
	ID            string // of the record
	Before, After record.Fields
	Who           rights.Person
	Kind          change.Kind
	Device        string
	Received      string // RFC 3339
}

// Following is what a follow-up comes to after a change.
type Following struct {
	Rule FollowUp
	// Set, SetParent and Add are values by field, null for one that is taken away. Those that the rule does not ask for are nil.
	Set, SetParent, Add record.Fields
	// Wrong says why it could not be worked out; nothing of it is done then.
	Wrong error
}

// Follows says what follows a change, in the order of the definition.
func (c *Collection) Follows(cause Cause) ([]Following, error) {
	if len(c.FollowUps) == 0 {
		return nil, nil
	}
	variables, err := c.seen(cause.Who, cause.Before, cause.After)
	if err != nil {
		return nil, err
	}
	variables["id"] = cause.ID
	variables["change"] = map[string]any{"kind": string(cause.Kind), "device": cause.Device, "received": cause.Received}
	var all []Following
	for n, compiled := range c.guard.followUps {
		rule := c.FollowUps[n]
		if due, err := compiled.when.Bool(variables); err != nil || !due {
			continue // what cannot be worked out, since a value is missing, is not due
		}
		one := Following{Rule: rule}
		give := func(programs map[string]*expression.Program) record.Fields {
			values := record.Fields{}
			for _, name := range slices.Sorted(maps.Keys(programs)) {
				raw, err := programs[name].JSON(variables)
				var value json.RawMessage
				if err == nil {
					value, err = record.CanonicalField(name, raw)
				}
				if err != nil && one.Wrong == nil {
					one.Wrong = fmt.Errorf("%s could not be worked out: %w", name, err)
				}
				values[name] = value
			}
			return values
		}
		if cause.After != nil && len(compiled.set) > 0 {
			one.Set = give(compiled.set)
		}
		if len(compiled.setParent) > 0 {
			one.SetParent = give(compiled.setParent)
		}
		if rule.Add != nil {
			one.Add = give(compiled.add)
		}
		all = append(all, one)
	}
	return all, nil
}

// workerSeen is a person as expressions see one.
func workerSeen(who rights.Person) map[string]any {
	held := make([]any, len(who.Territories))
	for n, key := range who.Territories {
		held[n] = key
	}
	return map[string]any{"name": who.Name, "role": string(who.Role), "territories": held}
}
