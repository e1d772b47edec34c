package generate

import (
	"fmt"
	"go/format"
	"maps"
	"slices"
	"strings"

	"homing/core/definition"
)

// goStart is what stands before the types: how fields are set and cleared, and numbers kept exact.
const goStart = `
// Package records holds the records of the collections as Go types.
package records

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"strings"
)

// Number is a number with all of its digits.
type Number = json.Number

// Point is a GeoJSON point: longitude, latitude and perhaps height.
type Point struct {
	Type string ` + "`json:\"type\"`" + `
	Coordinates []Number ` + "`json:\"coordinates\"`" + `
}

// Line is a GeoJSON line of positions.
type Line struct {
	Type string ` + "`json:\"type\"`" + `
	Coordinates [][]Number ` + "`json:\"coordinates\"`" + `
}

// Set is what a change does to a field. The zero value leaves it as it is.
type Set[T any] struct {
	value T
	does  does
}

type does int

const (
	nothing does = iota
	sets
	clears
)

// To sets a field.
func To[T any](value T) Set[T] { return Set[T]{value, sets} }

// Clear leaves a field without a value.
func Clear[T any]() Set[T] { return Set[T]{does: clears} }

func (s Set[T]) into(fields map[string]any, name string) {
	switch s.does {
	case sets:
		fields[name] = s.value
	case clears:
		fields[name] = nil
	}
}

// read fills a record from the fields of a store's.
func read(fields map[string]json.RawMessage, into any) error {
	text, err := json.Marshal(fields)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

func idText(id [16]byte) []byte {
	text := hex.EncodeToString(id[:])
	return []byte(text[:8] + "-" + text[8:12] + "-" + text[12:16] + "-" + text[16:20] + "-" + text[20:])
}

func readID(text []byte) (id [16]byte, err error) {
	plain := strings.ReplaceAll(string(text), "-", "")
	if n, err := hex.Decode(id[:], []byte(plain)); err != nil || n != len(id) || len(text) != 36 {
		return id, errors.New("not the id of a record: " + string(text))
	}
	return id, nil
}
`

// goFile is what is being written.
type goFile struct {
	definitions []definition.Definition
	types       strings.Builder // of nested values, behind the collection that they are of
}

func writeGo(definitions []definition.Definition) ([]byte, error) {
	var out strings.Builder
	fmt.Fprintf(&out, "// %s\n%s", header, goStart)
	g := &goFile{definitions: definitions}
	for _, d := range definitions {
		g.types.Reset()
		g.collection(&out, d)
		out.WriteString(g.types.String())
	}
	text, err := format.Source([]byte(out.String()))
	if err != nil {
		return nil, fmt.Errorf("what was written for Go does not parse: %w", err)
	}
	return text, nil
}

func (g *goFile) collection(out *strings.Builder, d definition.Definition) {
	name := typeName(d.Collection)
	fmt.Fprintf(out, "\n// %sCollection is the name of the collection.\nconst %[1]sCollection = %[2]q\n", name, d.Collection)
	fmt.Fprintf(out, "\n// %sID is the id of a record of the collection %s; it converts from and to a uuid.UUID.\ntype %[1]sID [16]byte\n\n", name,
		d.Collection)
	fmt.Fprintf(out, "// MarshalText writes the id as a UUID.\nfunc (id %[1]sID) MarshalText() ([]byte, error) { return idText(id), nil }\n\n", name)
	fmt.Fprintf(out, "// UnmarshalText reads a UUID.\nfunc (id *%[1]sID) UnmarshalText(text []byte) (err error) {\n\t*id, err = readID(text)\n\treturn err\n}\n\n",
		name)
	fmt.Fprintf(out, "// %s is a record of the collection %s, version %d, as it is read.\ntype %[1]s struct {\n", name, d.Collection, d.Version)
	for _, field := range d.Fields {
		kind, tag := g.kind(name, field), field.Name
		if !field.Required {
			tag += ",omitempty"
			kind = optional(kind)
		}
		fmt.Fprintf(out, "\t%s %s `json:\"%s\"`%s\n", typeName(field.Name), kind, tag, remark(field))
	}
	out.WriteString("}\n\n")
	fmt.Fprintf(out, "// Read%s gives the fields of a record as a store or central has them.\nfunc Read%[1]s(fields map[string]json.RawMessage) (r %[1]s, err error) {\n"+
		"\treturn r, read(fields, &r)\n}\n\n", name)
	fmt.Fprintf(out, "// %sChange is what an add or an edit sets of a record of %s: nothing but what people set.\ntype %[1]sChange struct {\n", name,
		d.Collection)
	for _, field := range d.Fields {
		if settable(field) {
			fmt.Fprintf(out, "\t%s Set[%s]%s\n", memberName(field.Name), g.kind(name, field), remark(field))
		}
	}
	out.WriteString("}\n\n// Fields gives the change as a store takes it.\n")
	fmt.Fprintf(out, "func (c %sChange) Fields() map[string]any {\n\tfields := map[string]any{}\n", name)
	for _, field := range d.Fields {
		if settable(field) {
			fmt.Fprintf(out, "\tc.%s.into(fields, %q)\n", memberName(field.Name), field.Name)
		}
	}
	out.WriteString("\treturn fields\n}\n")
}

// memberName is the name of a field in a change, which has a method Fields.
func memberName(field string) string {
	if name := typeName(field); name != "Fields" {
		return name
	}
	return "FieldsValue"
}

func optional(kind string) string {
	if strings.HasPrefix(kind, "[]") || kind == "any" {
		return kind
	}
	return "*" + kind
}

// remark says of a field what its type does not: the choices, and who gives it.
func remark(field definition.Field) string {
	var all []string
	if choices := field.Shape().Choices(); len(choices) > 0 {
		all = append(all, strings.Join(choices, ", "))
	}
	if _, why := field.Settable(); why != "" {
		all = append(all, why)
	}
	if len(all) == 0 {
		return ""
	}
	return " // " + oneLine(strings.Join(all, "; "))
}

// kind is the Go type of a field; within is the type that nested ones are called after.
func (g *goFile) kind(within string, field definition.Field) string {
	if field.Reference != "" && refersTo(field, g.definitions) {
		return typeName(field.Reference) + "ID"
	}
	s := field.Shape()
	switch {
	case s.Ref == definition.PointURL:
		return "Point"
	case s.Ref == definition.LineURL:
		return "Line"
	case s.Type == "string" || s.Choices() != nil:
		return "string"
	case s.Type == "integer":
		return "int64"
	case s.Type == "number":
		return "Number"
	case s.Type == "boolean":
		return "bool"
	case s.Type == "array" && len(s.Items) > 0:
		return "[]" + g.kind(within, definition.Field{Name: field.Name, Schema: s.Items})
	case s.Type == "array":
		return "[]any"
	case s.Type == "object" && len(s.Properties) > 0:
		return g.nested(within+typeName(field.Name), field)
	}
	return "any"
}

// nested writes the type of an object with known parts, once.
func (g *goFile) nested(name string, field definition.Field) string {
	mark := "\ntype " + name + " struct {"
	if strings.Contains(g.types.String(), mark) {
		return name
	}
	properties := field.Shape().Properties
	var members strings.Builder
	for _, part := range slices.Sorted(maps.Keys(properties)) {
		kind := optional(g.kind(name, definition.Field{Name: part, Schema: properties[part]}))
		if typeName(part) == "" || typeName(part)[0] < 'A' {
			continue // no name that Go takes
		}
		fmt.Fprintf(&members, "\t%s %s `json:\"%s,omitempty\"`\n", typeName(part), kind, part)
	}
	fmt.Fprintf(&g.types, "\n// %s is a value of the field %s.%s\n%s}\n", name, field.Name, mark, members.String())
	return name
}
