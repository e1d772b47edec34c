package definition

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"homing/core/merge"
)

// MostLists bounds the fields by which lists are quick.
const MostLists = 8

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
		case field.When != "" && !settable:
			return &ruleError{append(at, "when"), fmt.Errorf("the field %s, so nobody is asked for it", why)}
		case field.When != "" && d.Key == field.Name:
			return &ruleError{[]string{"key"}, fmt.Errorf("the key %s is not asked for of every record; take one that is", d.Key)}
		case field.Again && !settable:
			return &ruleError{append(at, "again"), fmt.Errorf("the field %s, so no form starts with it", why)}
		case field.Computed != "" && d.Key == field.Name:
			return &ruleError{[]string{"key"}, fmt.Errorf("the key %s is worked out; take a field that people set", d.Key)}
		case field.Local && d.Key == field.Name:
			return &ruleError{[]string{"key"}, fmt.Errorf("the key %s stays on the device; take a field that central sees",
				d.Key)}
		}
	}
	if err := d.checkAttention(); err != nil {
		return err
	}
	if err := d.checkCoverage(); err != nil {
		return err
	}
	if err := d.checkFollowUps(); err != nil {
		return err
	}
	if err := d.checkLanguages(); err != nil {
		return err
	}
	if len(d.Lists) > MostLists {
		return &ruleError{[]string{"lists"}, fmt.Errorf("there are %d fields: take at most %d, since each costs something with every save",
			len(d.Lists), MostLists)}
	}
	for n, name := range d.Lists {
		field, known := d.Field(name)
		shape := field.Shape()
		switch {
		case !known:
			return &ruleError{[]string{"lists"}, fmt.Errorf("%q is not a field of the collection%s", name, Nearest(name, fieldNames(d)))}
		case shape.Type == "array" || shape.Type == "object" || shape.Ref != "":
			return &ruleError{[]string{"lists"}, fmt.Errorf("%s has no single value that lists could be sorted by", name)}
		case slices.Contains(d.Lists[:n], name):
			return &ruleError{[]string{"lists"}, fmt.Errorf("%s stands there twice", name)}
		}
	}
	if d.Parent != nil {
		field, known := d.Field(d.Parent.Field)
		settable, why := field.Settable()
		switch {
		case !known:
			return &ruleError{[]string{"parent", "field"}, fmt.Errorf("%q is not a field of the collection", d.Parent.Field)}
		case field.Reference != "" && field.Reference != d.Parent.Collection:
			return &ruleError{[]string{"parent", "field"}, fmt.Errorf("%s refers to %s, not to the parent %s", field.Name,
				field.Reference, d.Parent.Collection)}
		case !settable || field.Local:
			return &ruleError{[]string{"parent", "field"}, fmt.Errorf("%s cannot link to the parent: it %s", field.Name,
				firstOf(why, "stays on the device"))}
		case !slices.Contains(parentRemovals, d.Parent.Removal):
			return &ruleError{[]string{"parent", "removal"}, fmt.Errorf("%q is not what a removal does: take restrict, "+
				"remove or keep", d.Parent.Removal)}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.Sync.Rules)) {
		if wrong := d.misfit(name, d.Sync.Rules[name]); wrong != "" {
			return &ruleError{[]string{"sync", "rules", name}, fmt.Errorf("the rule %s %s", d.Sync.Rules[name], wrong)}
		}
	}
	if !slices.Contains([]Direction{"", Both, Up, Down}, d.Sync.Direction) {
		return &ruleError{[]string{"sync", "direction"}, fmt.Errorf("%q is not a direction: take both, up or down",
			d.Sync.Direction)}
	}
	if !slices.Contains([]Steps{"", Folded, Every}, d.Sync.Steps) {
		return &ruleError{[]string{"sync", "steps"}, fmt.Errorf("%q does not say which steps are sent: take folded or "+
			"every", d.Sync.Steps)}
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

// misfit says why a merge rule does not suit a field.
func (d Definition) misfit(name string, rule merge.Rule) string {
	name, path, part := strings.Cut(name, "/")
	field, _ := d.Field(name)
	if may, why := field.Settable(); !may || field.Local {
		return "decides nothing: the field " + firstOf(why, "stays on the device")
	}
	if part && !field.nested() {
		return "names a part of the field " + name + ", which has no parts: an object with properties has"
	}
	described := field.Schema
	if part {
		var known bool
		if described, known = partSchema(field.Schema, path); !known {
			return "names the part " + path + ", which the field " + name + " does not have"
		}
	}
	shape := ShapeOf(described)
	number, text := shape.IsNumber(), shape.Type == "string"
	switch {
	case rule == merge.Sum && !number:
		return "adds numbers, and the field holds none: take type number or integer"
	case (rule == merge.Min || rule == merge.Max) && !number && !text:
		return "compares numbers, dates or texts, and the field holds none"
	case rule == merge.Union && shape.Type != "array":
		return "unites lists, and the field holds none: take type array"
	case rule == merge.Append && !text:
		return "adds to texts, and the field holds none: take type string"
	}
	return ""
}

// FieldAt is the field, or the part of a nested one, at a path.
func (d Definition) FieldAt(path string) (Field, bool) {
	name, rest, part := strings.Cut(path, "/")
	field, known := d.Field(name)
	if !known || !part {
		return field, known
	}
	field.Schema, known = partSchema(field.Schema, rest)
	field.Name, field.Title = path, field.Title+": "+rest
	return field, known
}

// partSchema is the schema of a part of a nested field, by its path.
func partSchema(schema json.RawMessage, path string) (json.RawMessage, bool) {
	for deeper := true; deeper; {
		var object struct {
			Properties map[string]json.RawMessage `json:"properties"`
		}
		var name string
		name, path, deeper = strings.Cut(path, "/")
		if json.Unmarshal(schema, &object) != nil || object.Properties[name] == nil {
			return nil, false
		}
		schema = object.Properties[name]
	}
	return schema, true
}

func firstOf(texts ...string) string {
	for _, text := range texts {
		if text != "" {
			return text
		}
	}
	return ""
}
