package definition

import (
	"fmt"
	"maps"
	"slices"
	"strconv"

	"homing/core/expression"
	"homing/core/record"
	"homing/core/rights"
)

// Access are CEL expressions that say who may do what with a record, beyond what the role allows. They see worker
// (name, role, territories), before (the record as it was; null for an add) and after (as it would be; null for a
// removal). An expression that is left out allows. Admins are not bound by them, so that nobody can lock everybody
// out.
type Access struct {
	Read   string `json:"read,omitempty" doc:"Sees the record as before and as after."`
	Add    string `json:"add,omitempty"`
	Edit   string `json:"edit,omitempty"`
	Remove string `json:"remove,omitempty"`
}

// guard are the compiled expressions of a definition; nil ones allow.
type guard struct {
	rules     map[string]*expression.Program // by the name of the act
	territory *expression.Program
	convert   map[string]*expression.Program // by field
	computed  map[string]*expression.Program // by field
	filled    map[string]*expression.Program // by field
	series    map[string]Series              // by field
	when      map[string]*expression.Program // by field
	attention []*expression.Program          // in the order of the definition
	followUps []followUp                     // in the order of the definition
	coverage  coverage
	names     []string // of the fields
}

const (
	actRead   = "read"
	actAdd    = "add"
	actEdit   = "edit"
	actRemove = "remove"
)

// ruleError says which expression of a definition does not compile.
type ruleError struct {
	path []string // within the file
	err  error
}

func (e *ruleError) Error() string { return fmt.Sprintf("%s: %v", e.path[len(e.path)-1], e.err) }

func (d Definition) guard() (guard, error) {
	g := guard{rules: map[string]*expression.Program{}, convert: map[string]*expression.Program{},
		computed: map[string]*expression.Program{}, filled: map[string]*expression.Program{}, series: map[string]Series{},
		when: map[string]*expression.Program{}}
	for _, field := range d.Fields {
		g.names = append(g.names, field.Name)
		if err := g.given(field); err != nil {
			return g, err
		}
	}
	for act, text := range map[string]string{actRead: d.Access.Read, actAdd: d.Access.Add, actEdit: d.Access.Edit,
		actRemove: d.Access.Remove} {
		if text == "" {
			continue
		}
		program, err := expression.Compile(text, "worker", "before", "after")
		if err != nil {
			return g, &ruleError{[]string{"access", act}, err}
		}
		g.rules[act] = program
	}
	if d.Sync.Territory != "" {
		program, err := expression.Compile(d.Sync.Territory, "record")
		if err != nil {
			return g, &ruleError{[]string{"sync", "territory"}, err}
		}
		g.territory = program
	}
	for n, one := range d.Attention {
		program, err := expression.Compile(one.When, "record", "today")
		if err != nil {
			return g, &ruleError{[]string{"attention", strconv.Itoa(n), "when"}, err}
		}
		g.attention = append(g.attention, program)
	}
	for n, one := range d.FollowUps {
		compiled, err := one.compile([]string{"follow_ups", strconv.Itoa(n)})
		if err != nil {
			return g, err
		}
		g.followUps = append(g.followUps, compiled)
	}
	if d.Coverage != nil {
		compiled, err := d.Coverage.compile()
		if err != nil {
			return g, err
		}
		g.coverage = compiled
	}
	for _, field := range slices.Sorted(maps.Keys(d.Carry.Convert)) {
		program, err := expression.Compile(d.Carry.Convert[field], "record")
		if err != nil {
			return g, &ruleError{[]string{"carry", "convert", field}, err}
		}
		g.convert[field] = program
	}
	return g, nil
}

// given compiles what says how a field gets its value without anybody's help, and when it is to have one.
func (g guard) given(field Field) error {
	var err error
	if field.Computed != "" {
		if g.computed[field.Name], err = expression.Compile(field.Computed, "record", "children"); err != nil {
			return &ruleError{[]string{"fields", field.Name, "computed"}, err}
		}
	}
	if field.Filled != "" {
		if g.filled[field.Name], err = expression.Compile(field.Filled, "record", "worker", "change"); err != nil {
			return &ruleError{[]string{"fields", field.Name, "filled"}, err}
		}
	}
	if field.When != "" {
		if g.when[field.Name], err = expression.Compile(field.When, "record"); err != nil {
			return &ruleError{[]string{"fields", field.Name, "when"}, err}
		}
	}
	if field.Series != "" {
		if g.series[field.Name], err = ParseSeries(field.Series); err != nil {
			return &ruleError{[]string{"fields", field.Name, "series"}, err}
		}
	}
	return nil
}

// MayRead says whether somebody may see a record. Whoever asks also has to cover it.
func (c *Collection) MayRead(who rights.Person, fields record.Fields) bool {
	return c.allows(actRead, who, fields, fields) == nil
}

// ReadsAll says whether no expression keeps anything of the collection from somebody.
func (c *Collection) ReadsAll(who rights.Person) bool {
	return c.guard.rules[actRead] == nil || who.Role == rights.Admin
}

// MayAdd says why somebody may not add a record, or nil.
func (c *Collection) MayAdd(who rights.Person, after record.Fields) error {
	if err := c.MayMark(who, nil, after); err != nil {
		return err
	}
	return c.allows(actAdd, who, nil, after)
}

// MayEdit says why somebody may not edit a record, or nil.
func (c *Collection) MayEdit(who rights.Person, before, after record.Fields) error {
	if err := c.MayMark(who, before, after); err != nil {
		return err
	}
	return c.allows(actEdit, who, before, after)
}

// MayRemove says why somebody may not remove a record, or nil.
func (c *Collection) MayRemove(who rights.Person, before record.Fields) error {
	return c.allows(actRemove, who, before, nil)
}

func (c *Collection) allows(act string, who rights.Person, before, after record.Fields) error {
	rule := c.guard.rules[act]
	if rule == nil || who.Role == rights.Admin {
		return nil
	}
	variables, err := c.seen(who, before, after)
	if err != nil {
		return err
	}
	yes, err := rule.Bool(variables)
	switch {
	case err != nil:
		return fmt.Errorf("the rule for %s of %s could not decide: %w", act, c.Definition.Collection, err)
	case !yes:
		return fmt.Errorf("%s may not %s this record of %s: the rule is %s", who.Name, act, c.Definition.Collection, rule)
	}
	return nil
}

// seen are the variables of an expression about a change: who makes it, and the record before and after, null where there is none.
func (c *Collection) seen(who rights.Person, before, after record.Fields) (map[string]any, error) {
	variables := map[string]any{"worker": workerSeen(who), "before": nil, "after": nil}
	for name, fields := range map[string]record.Fields{"before": before, "after": after} {
		if fields == nil {
			continue
		}
		values, err := expression.Values(fields, c.guard.names)
		if err != nil {
			return nil, err
		}
		variables[name] = values
	}
	return variables, nil
}

// Territorial says whether records of the collection fall into territories; otherwise everybody covers all of them.
func (c *Collection) Territorial() bool { return c.guard.territory != nil }

// TerritoriesOf gives the keys that a record falls into, in order.
func (c *Collection) TerritoriesOf(fields record.Fields) ([]string, error) {
	if c.guard.territory == nil {
		return []string{rights.All}, nil
	}
	values, err := expression.Values(fields, c.guard.names)
	if err != nil {
		return nil, err
	}
	keys, err := c.guard.territory.Texts(map[string]any{"record": values})
	if err != nil {
		return nil, fmt.Errorf("the territory of the record cannot be told: %w", err)
	}
	slices.Sort(keys)
	return slices.Compact(keys), nil
}
