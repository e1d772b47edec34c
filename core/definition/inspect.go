package definition

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"homing/core/expression"
	"homing/core/record"
)

// Inspect finds what would stop work later, though the definition compiles: expressions that read what is not there or
// calculate with what does not go together, words that no schema knows, defaults that do not fit. It is asked of new
// definitions; those that are there already keep working. Children are the collections whose parent this one is.
func (d Definition) Inspect(children ...Definition) error {
	for _, field := range d.Fields {
		if err := d.inspectField(field, children); err != nil {
			return err
		}
	}
	worker := expression.Variable{Members: expression.Members{"name": expression.AlwaysText, "role": expression.AlwaysText,
		"territories": expression.AlwaysTextList}}
	seen := expression.Variable{Members: d.members(false)}
	for _, act := range []struct{ name, text string }{{actRead, d.Access.Read}, {actAdd, d.Access.Add}, {actEdit, d.Access.Edit},
		{actRemove, d.Access.Remove}} {
		if act.text == "" {
			continue
		}
		if err := expression.Check(act.text, map[string]expression.Variable{"worker": worker, "before": seen, "after": seen}, expression.Choice,
			Nearest); err != nil {
			return &ruleError{[]string{"access", act.name}, err}
		}
	}
	whole := map[string]expression.Variable{"record": {Members: d.members(true)}, "today": {Text: true}}
	for n, one := range d.Attention {
		if err := expression.Check(one.When, whole, expression.Choice, Nearest); err != nil {
			return &ruleError{[]string{"attention", strconv.Itoa(n), "when"}, err}
		}
	}
	if err := d.inspectCoverage(worker); err != nil {
		return err
	}
	if err := d.inspectFollowUps(worker); err != nil {
		return err
	}
	if d.Sync.Territory != "" {
		if err := expression.Check(d.Sync.Territory, map[string]expression.Variable{"record": seen}, expression.Keys, Nearest); err != nil {
			return &ruleError{[]string{"sync", "territory"}, err}
		}
	}
	return nil
}

// CheckCondition says what is wrong with a condition over a whole record, computed values among it.
func (d Definition) CheckCondition(text string) error {
	return expression.Check(text, map[string]expression.Variable{"record": {Members: d.members(true)}}, expression.Choice, Nearest)
}

func (d Definition) inspectField(field Field, children []Definition) error {
	at := []string{"fields", field.Name}
	if err := inspectSchema(field.Schema, append(at, "")[:2], true); err != nil {
		return err
	}
	whole := expression.Variable{Members: d.members(true)}
	if field.Computed != "" {
		lists := map[string]expression.Members{}
		for _, child := range children {
			lists[child.Collection] = child.members(true)
		}
		variables := map[string]expression.Variable{"record": whole, "children": {Lists: lists}}
		if len(children) == 0 { // which there are is not known yet
			variables["children"] = expression.Variable{Lists: d.namedChildren()}
		}
		if err := expression.Check(field.Computed, variables, expression.Value, Nearest); err != nil {
			return &ruleError{append(at, "computed"), err}
		}
	}
	if field.Filled != "" {
		variables := map[string]expression.Variable{"record": whole,
			"worker": {Members: expression.Members{"name": expression.AlwaysText, "role": expression.AlwaysText, "territories": expression.AlwaysTextList}},
			"change": {Members: expression.Members{"device": expression.AlwaysText, "received": expression.AlwaysText}}}
		if err := expression.Check(field.Filled, variables, expression.Value, Nearest); err != nil {
			return &ruleError{append(at, "filled"), err}
		}
	}
	if field.When != "" {
		seen := map[string]expression.Variable{"record": {Members: d.members(false)}}
		if err := expression.Check(field.When, seen, expression.Choice, Nearest); err != nil {
			return &ruleError{append(at, "when"), err}
		}
	}
	if start := field.Default(); start != nil {
		if may, why := field.Settable(); !may {
			return &ruleError{append(at, "default"), fmt.Errorf("the field %s, so it starts with nothing", why)}
		}
		alone := Definition{Collection: d.Collection, Version: 1, Title: d.Title, Label: "{" + field.Name + "}",
			Fields: []Field{{Name: field.Name, Title: field.Title, Schema: field.Schema, Reference: field.Reference}}}
		c, err := alone.Compile()
		if err != nil {
			return err
		}
		if wrong := c.Validate(map[string]json.RawMessage{field.Name: start}); len(wrong) > 0 {
			return &ruleError{append(at, "default"), fmt.Errorf("%s does not fit the field itself: %s", start, wrong[0].Message)}
		}
	}
	return nil
}

// namedChildren are the collections that expressions count, of which nothing more is known.
func (d Definition) namedChildren() map[string]expression.Members {
	lists := map[string]expression.Members{}
	if c, err := d.Compile(); err == nil {
		for _, name := range c.broods() {
			lists[name] = nil
		}
	}
	return lists
}

// members are the fields as expressions see them. What is computed is no part of what rights and territories see.
func (d Definition) members(computed bool) expression.Members {
	all := expression.Members{}
	for _, field := range d.Fields {
		if field.Computed != "" && !computed {
			all[field.Name] = expression.Any
			continue
		}
		all[field.Name] = kindOf(field)
	}
	return all
}

func kindOf(field Field) expression.Kind {
	s := field.Shape()
	switch {
	case s.Ref != "":
		return expression.Any
	case s.Type == "string" || s.Type == nil && s.Choices() != nil:
		return expression.Text
	case s.IsNumber():
		return expression.Number
	case s.Type == "boolean":
		return expression.YesNo
	}
	return expression.Any
}

// Default is the value that a new record starts with; nil for none.
func (f Field) Default() json.RawMessage {
	var said struct {
		Default json.RawMessage `json:"default"`
	}
	if json.Unmarshal(f.Schema, &said) != nil || string(said.Default) == "null" {
		return nil
	}
	return said.Default
}

// words are those of JSON Schema (2020-12), and those that definitions add to a field.
var words = strings.Fields(`$schema $id $ref $anchor $dynamicRef $dynamicAnchor $defs $comment $vocabulary type enum const multipleOf maximum
	exclusiveMaximum minimum exclusiveMinimum maxLength minLength pattern maxItems minItems uniqueItems maxContains minContains maxProperties
	minProperties required dependentRequired prefixItems items contains additionalProperties properties patternProperties
	dependentSchemas propertyNames if then else allOf anyOf oneOf not unevaluatedItems unevaluatedProperties title description default
	deprecated readOnly writeOnly examples format contentEncoding contentMediaType contentSchema definitions`)

var fieldWords = strings.Fields(`reference computed filled series local unit when again period`)

// formats are those that are checked, and that all devices judge alike.
var formats = strings.Fields(`date-time date time duration email hostname ipv4 ipv6 uri uri-reference uuid json-pointer relative-json-pointer`)

// plainPattern is a pattern that all regular expressions read alike. Those of values are RE2's on every device; those that
// choose properties by their names are not.
var plainPattern = regexp.MustCompile(`^[\^$A-Za-z0-9_\-.\[\]|+*,{}/ :]*$`)

func inspectSchema(schema json.RawMessage, at []string, field bool) error {
	var members map[string]json.RawMessage
	if json.Unmarshal(schema, &members) != nil {
		return nil // true, or no object: the compiler has looked at it
	}
	known := words
	if field {
		known = append(slices.Clone(words), fieldWords...)
	}
	for _, word := range slices.Sorted(maps.Keys(members)) {
		here := append(slices.Clone(at), word)
		if !slices.Contains(known, word) {
			return &ruleError{here, fmt.Errorf("the word %q is not known in a schema%s", word, Nearest(word, known))}
		}
		switch word {
		case "format":
			var format string
			if json.Unmarshal(members[word], &format) == nil && !slices.Contains(formats, format) {
				return &ruleError{here, fmt.Errorf("the format %q is not known%s", format, Nearest(format, formats))}
			}
		case "properties", "patternProperties", "$defs", "definitions", "dependentSchemas":
			var parts map[string]json.RawMessage
			if json.Unmarshal(members[word], &parts) != nil {
				continue
			}
			for _, part := range slices.Sorted(maps.Keys(parts)) {
				if word == "patternProperties" && !plainPattern.MatchString(part) {
					return &ruleError{here, fmt.Errorf("the pattern %q is not read alike on every device: take letters, digits, and any of ^$.*+|[]{}-_", part)}
				}
				if err := inspectSchema(parts[part], append(here, part), true); err != nil {
					return err
				}
			}
		case "items", "contains", "additionalProperties", "not", "if", "then", "else", "propertyNames", "unevaluatedItems", "unevaluatedProperties":
			if err := inspectSchema(members[word], here, false); err != nil {
				return err
			}
		case "prefixItems", "allOf", "anyOf", "oneOf":
			var parts []json.RawMessage
			if json.Unmarshal(members[word], &parts) != nil {
				continue
			}
			for _, part := range parts {
				if err := inspectSchema(part, here, false); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Nearest suggests which of several names was probably meant; empty when none is near.
func Nearest(wrong string, names []string) string {
	const most = 2 // letters that differ
	best, least := "", most+1
	for _, name := range names {
		if far := distance([]rune(strings.ToLower(wrong)), []rune(strings.ToLower(name))); far < least && far < len(name) {
			best, least = name, far
		}
	}
	if best == "" {
		for _, name := range names {
			if len(wrong) >= 3 && strings.HasPrefix(name, wrong) {
				best = name
				break
			}
		}
	}
	if best == "" {
		return ""
	}
	return "; probably " + best
}

// distance is how many letters must be put in, taken out or changed to make one text of another (Levenshtein, 1966).
func distance(a, b []rune) int {
	row := make([]int, len(b)+1)
	for n := range row {
		row[n] = n
	}
	for i := range a {
		before := row[0]
		row[0] = i + 1
		for j := range b {
			cost := before
			if a[i] != b[j] {
				cost++
			}
			before = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}

// starts are the defaults of the fields that people set.
func (d Definition) starts() record.Fields {
	all := record.Fields{}
	for _, field := range d.Fields {
		start := field.Default()
		if may, _ := field.Settable(); !may || start == nil {
			continue
		}
		if value, err := record.CanonicalField(field.Name, start); err == nil && value != nil {
			all[field.Name] = value
		}
	}
	return all
}

// StartWith puts the defaults into the fields of a new record that nobody has set or left empty on purpose.
func (c *Collection) StartWith(set record.Fields, cleared []string) {
	for name, value := range c.starts {
		if _, has := set[name]; !has && !slices.Contains(cleared, name) {
			set[name] = value
		}
	}
}
