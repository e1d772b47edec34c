package definition

import (
	"fmt"
	"slices"
)

// check finds what no schema says: settings of one definition that contradict each other.
func (d Definition) check() error {
	for _, field := range d.Fields {
		at := []string{"fields", field.Name}
		ways := 0
		for _, set := range []bool{field.Computed != "", field.Filled != "", field.Series != "", field.Local} {
			if set {
				ways++
			}
		}
		settable, why := field.Settable()
		switch {
		case ways > 1:
			return &ruleError{at, fmt.Errorf("a field is one of computed, filled, series and local, not several")}
		case field.Required && !settable:
			return &ruleError{at, fmt.Errorf("the field %s, so it cannot be required", why)}
		case field.Required && field.Local:
			return &ruleError{at, fmt.Errorf("a field that stays on the device cannot be required: central never sees it")}
		case field.Computed != "" && d.Key == field.Name:
			return &ruleError{[]string{"key"}, fmt.Errorf("the key %s is worked out; take a field that people set", d.Key)}
		case field.Local && d.Key == field.Name:
			return &ruleError{[]string{"key"}, fmt.Errorf("the key %s stays on the device; take a field that central sees", d.Key)}
		}
	}
	if d.Parent != nil {
		field, known := d.Field(d.Parent.Field)
		settable, why := field.Settable()
		switch {
		case !known:
			return &ruleError{[]string{"parent", "field"}, fmt.Errorf("%q is not a field of the collection", d.Parent.Field)}
		case field.Reference != "" && field.Reference != d.Parent.Collection:
			return &ruleError{[]string{"parent", "field"}, fmt.Errorf("%s refers to %s, not to the parent %s", field.Name, field.Reference, d.Parent.Collection)}
		case !settable || field.Local:
			return &ruleError{[]string{"parent", "field"}, fmt.Errorf("%s cannot link to the parent: it %s", field.Name, firstOf(why, "stays on the device"))}
		case !slices.Contains(parentRemovals, d.Parent.Removal):
			return &ruleError{[]string{"parent", "removal"}, fmt.Errorf("%q is not what a removal does: take restrict, remove or keep", d.Parent.Removal)}
		}
	}
	if !slices.Contains([]Direction{"", Both, Up, Down}, d.Sync.Direction) {
		return &ruleError{[]string{"sync", "direction"}, fmt.Errorf("%q is not a direction: take both, up or down", d.Sync.Direction)}
	}
	if err := d.Sync.Keep.check(); err != nil {
		return &ruleError{[]string{"sync", "keep"}, err}
	}
	if age := d.Sync.MaxAge; age != nil {
		for _, text := range []string{age.Warn, age.Block} {
			if _, err := ParseSpan(text); text != "" && err != nil {
				return &ruleError{[]string{"sync", "max_age"}, err}
			}
		}
	}
	return nil
}

func firstOf(texts ...string) string {
	for _, text := range texts {
		if text != "" {
			return text
		}
	}
	return ""
}
