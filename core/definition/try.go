package definition

import (
	"fmt"
	"slices"
	"strings"

	"homing/core/record"
	"homing/core/rights"
)

// Trial is what the rules of a definition make of one record.
type Trial struct {
	Label       string            `json:"label"`
	Wrong       []string          `json:"wrong,omitempty"`       // what the schema does not let through
	Territories []string          `json:"territories,omitempty"` // that it falls into
	Computed    record.Fields     `json:"computed,omitempty"`
	May         map[string]string `json:"may,omitempty"` // by the rule: yes, no, or why it could not decide
}

// Try holds the examples of a definition against its rules, as a worker meets them who holds the territories that each falls
// into.
func (c *Collection) Try() []Trial {
	all := make([]Trial, len(c.Examples))
	for n, fields := range c.Examples {
		t := Trial{Label: c.LabelOf(fields), May: map[string]string{}}
		for _, reason := range c.Validate(fields) {
			t.Wrong = append(t.Wrong, strings.TrimPrefix(reason.Field+": "+reason.Message, ": "))
		}
		keys, err := c.TerritoriesOf(fields)
		if err != nil {
			t.Wrong = append(t.Wrong, err.Error())
		}
		t.Territories = keys
		var wrong map[string]error
		if t.Computed, wrong = c.Compute(fields, nil); len(wrong) > 0 {
			for _, field := range c.Fields {
				if wrong[field.Name] != nil && !c.HasTotals() {
					t.Wrong = append(t.Wrong, fmt.Sprintf("%s: %v", field.Name, wrong[field.Name]))
				}
			}
		}
		who := rights.Person{Name: "somebody", Role: rights.Worker, Territories: keys}
		for act, err := range map[string]error{actRead: c.allows(actRead, who, fields, fields), actAdd: c.MayAdd(who, fields),
			actEdit: c.MayEdit(who, fields, fields), actRemove: c.MayRemove(who, fields)} {
			switch {
			case c.guard.rules[act] == nil:
			case err == nil:
				t.May[act] = "yes"
			case strings.Contains(err.Error(), "could not decide"):
				t.May[act] = err.Error()
			default:
				t.May[act] = "no"
			}
		}
		all[n] = t
	}
	return all
}

// Acts are the acts that a definition has rules for, in the order of a record's life.
func (c *Collection) Acts() []string {
	return slices.DeleteFunc([]string{actRead, actAdd, actEdit, actRemove}, func(act string) bool { return c.guard.rules[act] == nil })
}
