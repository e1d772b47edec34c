package definition

import (
	"fmt"
	"slices"
	"strings"

	"homing/core/expression"
	"homing/core/record"
)

// Attention is a condition that marks a record for the eye, such as overdue.
type Attention struct {
	When  string `json:"when" doc:"CEL expression over record and today (a date as a text), true where the record wants attention. One that cannot be worked out, since a value is missing, counts as false."`
	Say   string `json:"say" doc:"What is said of such a record, in a word or two."`
	Grade Grade  `json:"grade" enum:"urgent,soon,note" doc:"How much it matters."`
}

// Grade is how much attention a record wants.
type Grade string

// The grades, the gravest first.
const (
	Urgent Grade = "urgent"
	Soon   Grade = "soon"
	Note   Grade = "note"
)

// Grades are all of them, the gravest first.
var Grades = []Grade{Urgent, Soon, Note}

// MostAttention bounds the conditions of a definition: each is looked at for every record.
const MostAttention = 8

const mostSaid = 40 // bytes

func (d Definition) checkAttention() error {
	if len(d.Attention) > MostAttention {
		return &ruleError{[]string{"attention"}, fmt.Errorf("there are %d conditions: take at most %d", len(d.Attention), MostAttention)}
	}
	for n, one := range d.Attention {
		at := []string{"attention", fmt.Sprint(n)}
		switch {
		case strings.TrimSpace(one.Say) == "" || len(one.Say) > mostSaid:
			return &ruleError{append(at, "say"), fmt.Errorf("take a word or two, of at most %d bytes", mostSaid)}
		case !slices.Contains(Grades, one.Grade):
			return &ruleError{append(at, "grade"), fmt.Errorf("%q is not a grade: take urgent, soon or note", one.Grade)}
		case one.When == "":
			return &ruleError{append(at, "when"), fmt.Errorf("a condition is missing, such as record.due < today")}
		}
	}
	return nil
}

// Attends says whether the definition has conditions that mark records.
func (c *Collection) Attends() bool { return len(c.guard.attention) > 0 }

// Attention gives the first of the definition's conditions that holds for a record, in the order in which they stand there.
// Fields are those of the record with what is worked out; today is a date (RFC 3339) where whoever looks is.
func (c *Collection) Attention(fields record.Fields, today string) (Attention, bool) {
	if !c.Attends() {
		return Attention{}, false
	}
	values, err := expression.Values(fields, c.guard.names)
	if err != nil {
		return Attention{}, false
	}
	for n, program := range c.guard.attention {
		if holds, err := program.Bool(map[string]any{"record": values, "today": today}); err == nil && holds {
			return c.Definition.Attention[n], true
		}
	}
	return Attention{}, false
}

// unasked are the fields that the definition does not ask for of a record, by what stands in others.
func (c *Collection) unasked(fields record.Fields) map[string]bool {
	if len(c.guard.when) == 0 {
		return nil
	}
	values, err := expression.Values(fields, c.guard.names)
	if err != nil {
		return nil // the schema says what is wrong
	}
	not := map[string]bool{}
	for name, program := range c.guard.when {
		if asked, err := program.Bool(map[string]any{"record": values}); err != nil || !asked {
			not[name] = true
		}
	}
	return not
}
