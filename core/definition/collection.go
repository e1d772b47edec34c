package definition

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"homing/core/change"
	"homing/core/merge"
	"homing/core/record"
)

const schemaURL = "urn:homing:record"

// Collection is a compiled definition. It is safe for use by several goroutines.
type Collection struct {
	Definition
	schema *jsonschema.Schema
	label  label
	guard  guard
	rules  merge.Rules
	starts record.Fields // what new records start with

	plain    map[string]plain // by field; those that only the schema knows are missing
	required []string
	periods  []string // the fields that hold periods
}

// Rules are those of the definition, worked out once.
func (c *Collection) Rules() merge.Rules { return c.rules }

// Compile checks the definition's schemas and label and makes it ready for use.
func (d Definition) Compile() (*Collection, error) {
	compiler := jsonschema.NewCompiler()
	compiler.DefaultDraft(jsonschema.Draft2020)
	compiler.AssertFormat()
	compiler.UseLoader(nothingOutside{})
	for url, text := range shapes {
		if err := addSchema(compiler, url, []byte(text)); err != nil {
			return nil, err
		}
	}
	if err := addSchema(compiler, schemaURL, d.Schema()); err != nil {
		return nil, err
	}
	schema, err := compiler.Compile(schemaURL)
	if err != nil {
		return nil, err
	}
	parsed, err := parseLabel(d.Label, d)
	if err != nil {
		return nil, err
	}
	if err := d.check(); err != nil {
		return nil, err
	}
	rules, err := d.guard()
	if err != nil {
		return nil, err
	}
	c := &Collection{Definition: d, schema: schema, label: parsed, guard: rules, rules: d.Rules(), starts: d.starts(), plain: map[string]plain{}}
	for _, field := range d.Fields {
		if valid := plainOf(field.Schema); valid != nil {
			c.plain[field.Name] = valid
		}
		if field.Required {
			c.required = append(c.required, field.Name)
		}
		if field.Period != "" {
			c.periods = append(c.periods, field.Name)
		}
	}
	return c, nil
}

func addSchema(compiler *jsonschema.Compiler, url string, text []byte) error {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		return err
	}
	return compiler.AddResource(url, doc)
}

// nothingOutside keeps schemas from reading files or hosts.
type nothingOutside struct{}

func (nothingOutside) Load(url string) (any, error) {
	return nil, fmt.Errorf("%q is not known here; schemas may only refer to %s and %s", url, PointURL, LineURL)
}

// Schema is the JSON Schema 2020-12 of a whole record.
func (d Definition) Schema() json.RawMessage {
	properties := map[string]json.RawMessage{}
	required := []string{}
	for _, field := range d.Fields {
		properties[field.Name] = field.Schema
		if field.Required {
			required = append(required, field.Name)
		}
	}
	text, err := json.Marshal(map[string]any{
		"$schema":              "https://json-schema.org/draft/2020-12/schema",
		"type":                 "object",
		"title":                d.Title,
		"properties":           properties,
		"required":             required,
		"additionalProperties": false,
	})
	if err != nil {
		panic(fmt.Sprintf("definition of %s: %v", d.Collection, err)) // the schemas were JSON when they were read
	}
	return text
}

// Validate says everything that is wrong with a record. None means that it is valid.
func (c *Collection) Validate(fields record.Fields) []change.Reason {
	not := c.unasked(fields)
	if len(not) == 0 && c.plainly(fields) {
		return nil
	}
	reasons := append(c.bySchema(fields), c.badPeriods(fields)...)
	if c.Completes() && c.CompletedBy(fields) == "" {
		reasons = slices.DeleteFunc(reasons, func(r change.Reason) bool {
			return r.Code == change.CodeMissing && slices.Contains(c.required, r.Field) && c.lax(r.Field, fields)
		})
	}
	for name := range not {
		reasons = slices.DeleteFunc(reasons, func(r change.Reason) bool { return r.Field == name && r.Code == change.CodeMissing })
		if fields[name] != nil {
			reasons = append(reasons, change.Reason{Field: name, Code: change.CodeNotAsked,
				Message: "is asked for only where " + c.guard.when[name].String() + "; take the value out"})
		}
	}
	return inOrder(reasons)
}

// bySchema is [Collection.Validate] for any schema.
func (c *Collection) bySchema(fields record.Fields) []change.Reason {
	values, err := fields.Value()
	if err != nil {
		return []change.Reason{{Code: change.CodeMalformed, Message: err.Error()}}
	}
	err = c.schema.Validate(values)
	if err == nil {
		return nil
	}
	var invalid *jsonschema.ValidationError
	if !errors.As(err, &invalid) {
		return []change.Reason{{Code: change.CodeMalformed, Message: err.Error()}}
	}
	var reasons []change.Reason
	collect(invalid, c.Definition, &reasons)
	return inOrder(reasons)
}

// inOrder gives the same record the same words every time, everywhere: the schema's own order is chance.
func inOrder(reasons []change.Reason) []change.Reason {
	slices.SortStableFunc(reasons, func(a, b change.Reason) int {
		return cmp.Or(strings.Compare(a.Field, b.Field), strings.Compare(a.Code, b.Code), strings.Compare(a.Message, b.Message))
	})
	return reasons
}

// NewlyWrong are the reasons against after that did not hold against before: what was wrong already is not held
// against an edit that does not touch it.
func (c *Collection) NewlyWrong(before, after record.Fields) []change.Reason {
	wrong := append(c.Validate(after), c.moved(before, after)...)
	if len(wrong) == 0 || len(before) == 0 {
		return wrong
	}
	old := map[change.Reason]bool{}
	for _, reason := range c.Validate(before) {
		old[reason] = true
	}
	var fresh []change.Reason
	for _, reason := range wrong {
		if !old[reason] {
			fresh = append(fresh, reason)
		}
	}
	return fresh
}

var english = message.NewPrinter(language.English)

func collect(invalid *jsonschema.ValidationError, d Definition, reasons *[]change.Reason) {
	path := strings.Join(invalid.InstanceLocation, "/")
	prefix := path
	if prefix != "" {
		prefix += "/"
	}
	switch what := invalid.ErrorKind.(type) {
	case *kind.Required:
		for _, name := range what.Missing {
			*reasons = append(*reasons, change.Reason{Field: prefix + name, Code: change.CodeMissing,
				Message: "a value is required"})
		}
		return
	case *kind.AdditionalProperties:
		for _, name := range what.Properties {
			*reasons = append(*reasons, change.Reason{Field: prefix + name, Code: change.CodeUnknownField,
				Message: fmt.Sprintf("version %d of %s has no such field", d.Version, d.Collection)})
		}
		return
	}
	_, any := invalid.ErrorKind.(*kind.AnyOf)
	_, one := invalid.ErrorKind.(*kind.OneOf)
	if any || one || len(invalid.Causes) == 0 {
		*reasons = append(*reasons, change.Reason{Field: path, Code: change.CodeInvalidValue,
			Message: sentence(invalid.ErrorKind)})
		return
	}
	for _, cause := range invalid.Causes {
		collect(cause, d, reasons)
	}
}

// sentence says in plain words what a value must be, for the keywords that people meet most.
func sentence(what jsonschema.ErrorKind) string {
	number := func(r *big.Rat) string {
		text, _ := r.Float64() // for people; the exact bound stands in the definition
		return strconv.FormatFloat(text, 'f', -1, 64)
	}
	switch k := what.(type) {
	case *kind.Minimum:
		return fmt.Sprintf("must be at least %s, is %s", number(k.Want), number(k.Got))
	case *kind.Maximum:
		return fmt.Sprintf("must be at most %s, is %s", number(k.Want), number(k.Got))
	case *kind.MinLength:
		if k.Want == 1 {
			return "must not be empty"
		}
		return fmt.Sprintf("must have at least %d characters, has %d", k.Want, k.Got)
	case *kind.MaxLength:
		return fmt.Sprintf("must have at most %d characters, has %d", k.Want, k.Got)
	case *kind.Type:
		return fmt.Sprintf("must be %s, is %s", strings.Join(k.Want, " or "), k.Got)
	case *kind.Pattern:
		return fmt.Sprintf("%q does not fit the pattern %s", k.Got, k.Want)
	case *kind.Format:
		return fmt.Sprintf("%v is not a valid %s", k.Got, k.Want)
	}
	return what.LocalizedString(english)
}
