package definition_test

import (
	"errors"
	"strings"
	"testing"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
)

const good = `collection: huts
title: Huts
label: "{name} ({beds} beds)"
required: [name]
fields:
  name: {type: string, minLength: 1}
  beds: {type: integer, minimum: 0}
  opened: {type: string, format: date}
  at: {$ref: "urn:homing:point"}
  tags: {type: array, items: {type: string}}
sync:
  rules: {beds: newest}
`

func TestReadSource(t *testing.T) {
	d, err := definition.ReadSource("huts.yaml", []byte(good))
	if err != nil {
		t.Fatal(err)
	}
	if d.Collection != "huts" || len(d.Fields) != 5 || d.Fields[1].Name != "beds" || d.Fields[1].Title != "Beds" ||
		!d.Fields[0].Required {
		t.Errorf("read %+v", d)
	}
	if d.Sync.Removal != "edit-stays" {
		t.Errorf("removal is %q", d.Sync.Removal)
	}
}

// A wrong file is refused with its name, the line and the reason.
func TestReadSourceSaysWhereAndWhat(t *testing.T) {
	tests := []struct{ name, text, want string }{
		{"empty", "", "x.yaml: the file is empty"},
		{"not a mapping", "- a\n", "x.yaml:1: a definition is a mapping"},
		{"broken YAML", "collection: huts\nfields: [\n", "x.yaml:"},
		{"no fields", "collection: huts\n", `x.yaml:1: the key "fields" is missing`},
		{"bad name", "collection: My Huts\nfields: {a: {type: string}}\n", `x.yaml:1: "My Huts" cannot name a collection`},
		{"unknown key", "collection: huts\ncolour: red\nfields: {a: {type: string}}\n",
			`x.yaml:2: the key "colour" is not known here`},
		{"key twice", "collection: huts\nfields:\n  a: {type: string}\n  a: {type: number}\n",
			`x.yaml:4: the key "a" stands here a second time; the first is in line 3`},
		{"bad type", "collection: huts\nfields:\n  a: {type: string}\n  b: {type: strange}\n", "x.yaml:4:"},
		{"bad keyword value", "collection: huts\nfields:\n  a:\n    type: string\n    minLength: -1\n", "x.yaml:5:"},
		{"bad pattern", "collection: huts\nfields:\n  a: {type: string, pattern: \"[\"}\n", "x.yaml:3:"},
		{"required unknown", "collection: huts\nrequired: [b]\nfields: {a: {type: string}}\n",
			`x.yaml:2: required names the field "b"`},
		{"label unknown", "collection: huts\nlabel: \"{b}\"\nfields: {a: {type: string}}\n",
			`x.yaml:2: the label "{b}" names the field "b"`},
		{"label open", "collection: huts\nlabel: \"{a\"\nfields: {a: {type: string}}\n", "x.yaml:2: the label"},
		{"unknown rule", "collection: huts\nfields: {a: {type: string}}\nsync:\n  rules: {a: loudest}\n",
			`x.yaml:4: "loudest" is not a merge rule`},
		{"outside reference", "collection: huts\nfields:\n  a: {$ref: \"file:///etc/passwd\"}\n", "is not known here"},
		{"two documents", good + "---\ncollection: b\n", "x.yaml: the file holds more than one document"},
		{"alias", "collection: huts\nfields:\n  a: &x {type: string}\n  b: *x\n", "x.yaml:4: anchors and aliases"},
		{"not a schema", "collection: huts\nfields:\n  a: string\n", `x.yaml:3: the field "a" needs a JSON Schema`},
		{"no number", "collection: huts\nfields:\n  a: {type: number, minimum: .inf}\n", "x.yaml:3:"},
	}
	for _, test := range tests {
		_, err := definition.ReadSource("x.yaml", []byte(test.text))
		var wrong *definition.SourceError
		if !errors.As(err, &wrong) || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: got %v, want %q", test.name, err, test.want)
		}
	}
}

func compile(t *testing.T, text string) *definition.Collection {
	t.Helper()
	d, err := definition.ReadSource("x.yaml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	c, err := d.Compile()
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func fields(t *testing.T, text string) record.Fields {
	t.Helper()
	f, err := record.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func TestValidateNamesFieldAndReason(t *testing.T) {
	c := compile(t, good)
	for text, want := range map[string]string{
		`{"name":"A","beds":3,"opened":"2026-05-01","at":{"type":"Point","coordinates":[9.1,46.2]},"tags":["x"]}`: "",
		`{"beds":3}`:                        "name missing",
		`{"name":"","beds":-1}`:             "beds invalid-value, name invalid-value",
		`{"name":"A","opened":"yesterday"}`: "opened invalid-value",
		`{"name":"A","at":{"type":"Point","coordinates":[200,46]}}`: "at/coordinates/0 invalid-value",
		`{"name":"A","tags":["x",3]}`:                               "tags/1 invalid-value",
		`{"name":"A","colour":"red"}`:                               "colour unknown-field",
	} {
		got := map[string]bool{}
		for _, reason := range c.Validate(fields(t, text)) {
			got[reason.Field+" "+reason.Code] = true
			if reason.Message == "" {
				t.Errorf("%s: no message for %s", text, reason.Field)
			}
		}
		wanted := strings.Split(want, ", ")
		if want == "" {
			wanted = nil
		}
		if len(got) != len(wanted) {
			t.Errorf("%s: got %v, want %s", text, got, want)
		}
		for _, one := range wanted {
			if !got[one] {
				t.Errorf("%s: got %v, want %s", text, got, one)
			}
		}
	}
}

// What was wrong before an edit is not held against it.
func TestNewlyWrong(t *testing.T) {
	c := compile(t, good)
	before, after := fields(t, `{"beds":-1}`), fields(t, `{"beds":-1,"opened":"soon"}`)
	wrong := c.NewlyWrong(before, after)
	if len(wrong) != 1 || wrong[0].Field != "opened" || wrong[0].Code != change.CodeInvalidValue {
		t.Errorf("held against the edit: %v", wrong)
	}
}

func TestLabels(t *testing.T) {
	c := compile(t, good)
	for text, want := range map[string]string{
		`{"name":"Gale Hut","beds":12}`: "Gale Hut (12 beds)", `{"name":"Gale Hut"}`: "Gale Hut ( beds)", `{}`: "",
	} {
		if got := c.LabelOf(fields(t, text)); got != want {
			t.Errorf("%s is called %q, want %q", text, got, want)
		}
	}
}

// Formats and patterns that a device in a browser would judge otherwise are refused.
func TestFormatsThatAllDevicesHave(t *testing.T) {
	for schema, says := range map[string]string{`{type: string, format: iri}`: `the format "iri" is not known`, `{type: string, format: regex}`: `the format "regex" is not known`,
		`{type: object, patternProperties: {"^(?i)a": {type: string}}}`: "is not read alike on every device"} {
		d, err := definition.ReadSource("test.yaml", []byte("collection: huts\nfields:\n  v: "+schema+"\n"))
		if err == nil {
			err = d.Inspect()
		}
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %q", schema, err, says)
		}
	}
}
