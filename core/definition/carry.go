package definition

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"

	"homing/core/expression"
	"homing/core/record"
)

// Carry says how the values of records are carried over from the version before. Each part does its work once, when
// the field that it names changes; in later versions it may stay in the file and does nothing more.
type Carry struct {
	Rename  map[string]string          `json:"rename,omitempty" doc:"What a field was called, and what it is called now."`
	Default map[string]json.RawMessage `json:"default,omitempty" doc:"The value of a field where a record has none."`
	Convert map[string]string          `json:"convert,omitempty" doc:"A CEL expression over record, as it was, that gives the field's new value."`
	Drop    []string                   `json:"drop,omitempty" doc:"Fields whose values may go; the history keeps them."`
}

// problems are what is wrong with the carry of a definition, in words.
func (c Carry) problems(d Definition) []string {
	var wrong []string
	for _, name := range slices.Sorted(maps.Keys(c.Rename)) {
		if _, known := d.Field(c.Rename[name]); !known {
			wrong = append(wrong, fmt.Sprintf("rename names the field %q, which is not defined", c.Rename[name]))
		}
	}
	for what, names := range map[string][]string{"default": slices.Sorted(maps.Keys(c.Default)),
		"convert": slices.Sorted(maps.Keys(c.Convert))} {
		for _, name := range names {
			if _, known := d.Field(name); !known {
				wrong = append(wrong, fmt.Sprintf("%s names the field %q, which is not defined", what, name))
			}
		}
	}
	for _, name := range c.Drop {
		if _, known := d.Field(name); known {
			wrong = append(wrong, fmt.Sprintf("drop names the field %q, which is defined", name))
		}
	}
	slices.Sort(wrong)
	return wrong
}

// changed says whether a field is new or other than it was.
func changed(before Definition, now Field) bool {
	was, had := before.Field(now.Name)
	return !had || was.Required != now.Required || !bytes.Equal(was.Schema, now.Schema)
}

// CarryOver gives the fields of a record of the version before as the new version has them.
func (c *Collection) CarryOver(before Definition, fields record.Fields) (record.Fields, error) {
	after := maps.Clone(fields)
	for _, old := range slices.Sorted(maps.Keys(c.Carry.Rename)) {
		_, was := before.Field(old)
		_, still := c.Field(old)
		value, has := after[old]
		if !was || still || !has {
			continue
		}
		if _, taken := after[c.Carry.Rename[old]]; !taken {
			after[c.Carry.Rename[old]] = value
		}
		delete(after, old)
	}
	for _, field := range c.Fields {
		program := c.guard.convert[field.Name]
		if program == nil || !changed(before, field) {
			continue
		}
		values, err := expression.Values(fields, fieldNames(before, c.Definition))
		if err != nil {
			return nil, err
		}
		raw, err := program.JSON(map[string]any{"record": values})
		if err != nil {
			return nil, fmt.Errorf("convert %s: %w", field.Name, err)
		}
		value, err := record.CanonicalField(field.Name, raw)
		if err != nil {
			return nil, err
		}
		if delete(after, field.Name); value != nil {
			after[field.Name] = value
		}
	}
	for _, field := range c.Fields {
		raw, given := c.Carry.Default[field.Name]
		if _, has := after[field.Name]; !given || has || !changed(before, field) {
			continue
		}
		value, err := record.CanonicalField(field.Name, raw)
		if err != nil {
			return nil, err
		}
		if value != nil {
			after[field.Name] = value
		}
	}
	for _, name := range c.Carry.Drop {
		delete(after, name)
	}
	return after, nil
}

func fieldNames(definitions ...Definition) (names []string) {
	for _, d := range definitions {
		for _, field := range d.Fields {
			names = append(names, field.Name)
		}
	}
	return names
}

// RenamedSince are the names that fields had in earlier versions, with what they are called in d, given what was
// known of the version before.
func (d Definition) RenamedSince(before Definition) map[string]string {
	all := map[string]string{}
	for old, now := range before.Renamed {
		if next, again := d.Carry.Rename[now]; again {
			now = next
		}
		all[old] = now
	}
	maps.Copy(all, d.Carry.Rename)
	for old, now := range all {
		_, taken := d.Field(old)
		if _, there := d.Field(now); taken || !there {
			delete(all, old)
		}
	}
	return all
}

// CurrentNames gives a delta with the names that its fields have now: a device with an older definition may still use
// old ones.
func (d Definition) CurrentNames(delta record.Delta) record.Delta {
	return underNames(d.Renamed, delta)
}

// CurrentFields gives a record, as it was under an earlier version, with the names that its fields have now.
func (d Definition) CurrentFields(fields record.Fields) record.Fields {
	return underNames(d.Renamed, fields)
}

// underNames gives values by field under the names that the fields have now, and the map itself when none has another.
func underNames[M ~map[string]V, V any](renamed map[string]string, values M) M {
	var out M
	for old, now := range renamed {
		value, has := values[old]
		if _, both := values[now]; !has || both {
			continue
		}
		if out == nil {
			out = maps.Clone(values)
		}
		delete(out, old)
		out[now] = value
	}
	if out == nil {
		return values
	}
	return out
}

// Difference is one thing that differs between two versions, in words.
type Difference struct {
	Field string `json:"field,omitempty"`
	What  string `json:"what"`
}

// equal compares what two pointers point to.
func equal[T comparable](a, b *T) bool { return a == b || a != nil && b != nil && *a == *b }

// Differences are what a new version changes.
func Differences(before, now Definition) []Difference {
	var all []Difference
	note := func(field, what string) { all = append(all, Difference{field, what}) }
	for _, field := range now.Fields {
		was, had := before.Field(field.Name)
		switch {
		case !had:
			what := "is new"
			for old, name := range now.Carry.Rename {
				if _, known := before.Field(old); known && name == field.Name {
					what = "was " + old
				}
			}
			note(field.Name, what)
			continue
		case field.Required && !was.Required:
			note(field.Name, "becomes required")
		case !field.Required && was.Required:
			note(field.Name, "is no longer required")
		}
		if !bytes.Equal(was.Schema, field.Schema) {
			note(field.Name, fmt.Sprintf("%s becomes %s", was.Schema, field.Schema))
		}
	}
	for _, field := range before.Fields {
		_, kept := now.Field(field.Name)
		if _, renamed := now.Carry.Rename[field.Name]; !kept && !renamed {
			note(field.Name, "goes")
		}
	}
	for what, differ := range map[string]bool{"title": before.Title != now.Title, "label": before.Label != now.Label,
		"key": before.Key != now.Key, "uniqueness of the key": before.Unique != now.Unique,
		"access": before.Access != now.Access, "territory": before.Sync.Territory != now.Sync.Territory,
		"rules":                            !maps.Equal(before.Sync.Rules, now.Sync.Rules),
		"keeping of an index for searches": before.Searched != now.Searched,
		"choice of what lists are quick to sort by": !slices.Equal(before.Lists, now.Lists),
		"parent": !equal(before.Parent, now.Parent), "direction": before.Sync.Direction != now.Sync.Direction,
		"keep":                            before.Sync.Keep != now.Sync.Keep,
		"maximum age":                     !equal(before.Sync.MaxAge, now.Sync.MaxAge),
		"way of removals that meet edits": before.Rules().Removal != now.Rules().Removal,
		"follow-ups":                      !reflect.DeepEqual(before.FollowUps, now.FollowUps),
		"attention":                       !slices.Equal(before.Attention, now.Attention),
		"wording in other languages":      !reflect.DeepEqual(before.Languages, now.Languages),
		"keeping of every step":           (before.Sync.Steps == Every) != (now.Sync.Steps == Every)} {
		if differ {
			note("", "the "+what+" changes")
		}
	}
	slices.SortStableFunc(all[:], func(a, b Difference) int {
		return bytes.Compare([]byte(a.Field+a.What),
			[]byte(b.Field+b.What))
	})
	return all
}
