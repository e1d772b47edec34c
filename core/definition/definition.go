// Package definition says what a collection consists of. A definition is written as a YAML file ([ReadSource]),
// travels to devices as JSON, and is compiled ([Definition.Compile]) into a [Collection], which validates records and
// labels them, with the same verdict and the same paths at central and on every device.
package definition

import (
	"encoding/json"
	"maps"
	"regexp"

	"homing/core/merge"
	"homing/core/record"
)

// Definition is one version of what a collection consists of.
type Definition struct {
	Collection  string  `json:"collection" doc:"The name by which everything refers to the collection."`
	Version     int     `json:"version" doc:"1, 2, 3 … one for each time the definition changed."`
	Title       string  `json:"title"`
	Description string  `json:"description,omitempty"`
	Label       string  `json:"label" doc:"How a record is called in lists, with fields in braces, such as {name} ({kind})."`
	Key         string  `json:"key,omitempty" doc:"The field by which people and imports know a record. Two records may come to share a value, since they are made without signal, unless unique says that central takes no second."`
	Unique      bool    `json:"unique,omitempty" doc:"Central takes no second record with the same key. Of two that were made without signal, the second to arrive is refused."`
	Fields      []Field `json:"fields" doc:"In the order of forms and tables."`
	// Lists cost something with each save.
	Lists []string `json:"lists,omitempty" maxItems:"8" doc:"The fields by which lists are quick to sort and to filter, however many records there are."`
	// A search index makes each push at central half as long again.
	Searched bool    `json:"searched,omitempty" doc:"Searches are quick however many records there are: central keeps an index for them, and devices the texts in memory once something was searched."`
	Parent   *Parent `json:"parent,omitempty" doc:"The collection whose records these belong to."`
	Access   Access  `json:"access,omitzero"`
	Sync     Sync    `json:"sync"`
	Carry    Carry   `json:"carry,omitzero"`
	// Attention is worked out where somebody looks: what is overdue changes with the day.
	Attention []Attention `json:"attention,omitempty" maxItems:"8" doc:"Conditions that mark records for the eye. Of several that hold, the first counts."`
	// Coverage makes the ids of records follow from place and period, so it is not taken out again lightly.
	Coverage *Coverage `json:"coverage,omitempty" doc:"There is one record for each place and period; which are expected, and when."`
	// FollowUps act at central alone: a device sees what they did with the next exchange.
	FollowUps []FollowUp         `json:"follow_ups,omitempty" maxItems:"16" doc:"What central does by itself after it has accepted a change."`
	Languages map[string]Wording `json:"languages,omitempty" doc:"What titles, helps and choices are called in other languages, by BCP 47 tag, such as de."`
	// Examples are records on which the rules of the definition can be tried.
	Examples []record.Fields `json:"examples,omitempty" doc:"Records to try the rules on; no part of what is collected."`
	// Renamed is kept by central over all versions.
	Renamed map[string]string `json:"renamed,omitempty" doc:"What fields were called in earlier versions, and what they are called now. Changes that still use an old name are taken under the new one."`
}

// Field is one field of a definition.
type Field struct {
	Name      string          `json:"name"`
	Title     string          `json:"title"`
	Required  bool            `json:"required,omitempty"`
	Reference string          `json:"reference,omitempty" doc:"The collection whose records this field names by id."`
	Computed  string          `json:"computed,omitempty" doc:"CEL expression over record and children that gives the value, on devices and at central alike. Nobody sets it."`
	Filled    string          `json:"filled,omitempty" doc:"CEL expression over record, worker and change that gives the value when central accepts a change. Nobody else sets it."`
	Series    string          `json:"series,omitempty" doc:"The first number of a series, such as REP-00001. Central gives each record the next one when it first accepts it."`
	Local     bool            `json:"local,omitempty" doc:"The value stays on the device and is never sent."`
	When      string          `json:"when,omitempty" doc:"CEL expression over record: the field is asked for only where it holds, required only there, and empty elsewhere. One that cannot be worked out, since a value is missing, counts as false."`
	Again     bool            `json:"again,omitempty" doc:"In a form for many alike, the next record starts with the value of the last one."`
	Period    string          `json:"period,omitempty" enum:"day,week,month,quarter,year" doc:"The value is a period of this length, such as 2026-10-24, 2026-W43, 2026-10, 2026-Q4 or 2026."`
	Marks     bool            `json:"marks,omitempty" doc:"The value is the name of whoever marked the record complete; nobody sets it otherwise."`
	Schema    json.RawMessage `json:"schema" doc:"JSON Schema 2020-12 of the value."`
}

// Sync says how edits of a collection travel and meet.
type Sync struct {
	Rules   map[string]merge.Rule `json:"rules,omitempty" doc:"The merge rule of each field that does not have the default, newest."`
	Removal merge.Removal         `json:"removal" doc:"What a removal that meets an edit does."`
	Steps   Steps                 `json:"steps,omitempty" enum:"folded,every" doc:"Whether several unsent edits of one record are sent as one (folded, or left out) or every one of them."`
	// Territory is a CEL expression over record.
	Territory string    `json:"territory,omitempty" doc:"CEL expression over record that gives the keys of the territories it falls into: a text or a list of texts. Left out, everybody covers all records."`
	Direction Direction `json:"direction,omitempty" enum:"both,up,down" doc:"Which way records travel: both (or left out), up to central only, or down to devices only."`
	Keep      Keep      `json:"keep,omitempty" doc:"How long devices keep records that central has: always (or left out), on demand, never, or a time such as 7 days after central last confirmed them."`
	MaxAge    *MaxAge   `json:"max_age,omitempty" doc:"How old what a device holds may get."`
}

// Name is what collections and fields may be called: they stand in paths, columns and command lines.
var Name = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)

// Rules are what the merge needs to know: what the definition says, and what suits the field's type where it says
// nothing.
func (d Definition) Rules() merge.Rules {
	rules := merge.Rules{Fields: map[string]merge.Rule{}, Nested: map[string]bool{}, Removal: d.Sync.Removal}
	for _, field := range d.Fields {
		if field.nested() {
			rules.Nested[field.Name] = true
		}
		if rule := field.suits(); rule != merge.Newest {
			rules.Fields[field.Name] = rule
		}
	}
	maps.Copy(rules.Fields, d.Sync.Rules)
	return rules
}

// MergeRules gives the rule that holds for each field that people set, and for each part of one that has a rule of
// its own.
func (d Definition) MergeRules() map[string]merge.Rule {
	var fields []string
	for _, field := range d.Fields {
		if field.Computed == "" && !field.Local {
			fields = append(fields, field.Name)
		}
	}
	return d.Rules().Named(fields)
}

// suits is the rule that a field has when its definition says none: a list without repetitions is a set, and keeps
// what both put in or took out; anything else keeps the later edit.
func (f Field) suits() merge.Rule {
	if shape := f.Shape(); shape.Type == "array" && shape.Unique {
		return merge.Union
	}
	return merge.Newest
}

// nested says whether a field is an object whose parts are merged one by one. A geometry is none: its members mean
// nothing without each other.
func (f Field) nested() bool {
	shape := f.Shape()
	return shape.Type == "object" && len(shape.Properties) > 0
}

// Field finds a field by name.
func (d Definition) Field(name string) (Field, bool) {
	for _, field := range d.Fields {
		if field.Name == name {
			return field, true
		}
	}
	return Field{}, false
}

// Settable says whether whoever edits a record sets the field; if not, why.
func (f Field) Settable() (bool, string) {
	switch {
	case f.Computed != "":
		return false, "is worked out from other values and cannot be set"
	case f.Filled != "":
		return false, "is filled in by central and cannot be set"
	case f.Series != "":
		return false, "is a number that central hands out and cannot be set"
	case f.Marks:
		return false, "says who marked the record complete: mark it, or open it again, in place of setting it"
	}
	return true, ""
}

// SameAs says whether two definitions mean the same, whatever their versions are.
func (d Definition) SameAs(other Definition) bool {
	d.Version, other.Version = 0, 0
	d.Renamed, other.Renamed = nil, nil
	d.Examples, other.Examples = nil, nil
	a, errA := json.Marshal(d)
	b, errB := json.Marshal(other)
	return errA == nil && errB == nil && string(a) == string(b)
}
