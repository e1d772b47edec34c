package conformance

import (
	"encoding/json"
	"fmt"

	"homing/core/definition"
	"homing/core/expression"
	"homing/core/record"
	"homing/core/rights"
)

// drawn is a definition with a field of each kind.
const drawn = `
collection: huts
label: "{name} ({code})"
required: [name]
fields:
  name: {type: string, minLength: 1, maxLength: 12}
  code: {type: string, pattern: "^H-[0-9]{3}$"}
  beds: {type: integer, minimum: 0, maximum: 99}
  height: {type: number, exclusiveMinimum: 0, multipleOf: 0.5}
  state: {enum: [sound, worn, damaged]}
  heated: {type: boolean}
  opened: {type: string, format: date}
  seen: {type: string, format: date-time}
  tags: {type: array, items: {type: string}, uniqueItems: true, maxItems: 3}
  at: {$ref: "urn:homing:point"}
  path: {$ref: "urn:homing:line"}
  parts: {type: object, properties: {doors: {type: integer}, note: {type: string, maxLength: 5}}, required: [doors]}
  zone: {type: string}
sync:
  territory: 'record.zone != null ? [record.zone, "all"] : []'
access:
  edit: worker.role == "lead" || before.zone in worker.territories
  remove: worker.role == "lead" && after == null
`

func compiled() (*definition.Collection, error) {
	d, err := definition.ReadSource("huts.yaml", []byte(drawn))
	if err != nil {
		return nil, err
	}
	return d.Compile()
}

// schemas are records and what is wrong with them.
func schemas() (file, error) {
	f := file{About: "The verdict of a definition's schema. The first case brings the definition; wrong names the path of each value that does not fit, none where the record is valid. " +
		"What the messages say is free."}
	c, err := compiled()
	if err != nil {
		return f, err
	}
	f.Cases = append(f.Cases, map[string]any{"definition": c.Definition})
	for _, text := range []string{
		`{"name":"Gale"}`, `{}`, `{"name":""}`, `{"name":"A name of many letters"}`, `{"name":5}`, `{"name":null}`, `{"name":"Gale","code":"H-012"}`, `{"name":"Gale","code":"H-12"}`,
		`{"name":"Gale","beds":4}`, `{"name":"Gale","beds":-1}`, `{"name":"Gale","beds":100}`, `{"name":"Gale","beds":4.5}`, `{"name":"Gale","beds":4e0}`, `{"name":"Gale","beds":"4"}`,
		`{"name":"Gale","height":0.5}`, `{"name":"Gale","height":0}`, `{"name":"Gale","height":0.3}`, `{"name":"Gale","height":123456789012345678.5}`,
		`{"name":"Gale","state":"worn"}`, `{"name":"Gale","state":"Worn"}`, `{"name":"Gale","heated":true}`, `{"name":"Gale","heated":"true"}`,
		`{"name":"Gale","opened":"2026-02-28"}`, `{"name":"Gale","opened":"2026-02-29"}`, `{"name":"Gale","opened":"2024-02-29"}`, `{"name":"Gale","opened":"28.2.2026"}`,
		`{"name":"Gale","seen":"2026-06-01T12:00:00Z"}`, `{"name":"Gale","seen":"2026-06-01T12:00:00.5+02:00"}`, `{"name":"Gale","seen":"2026-06-01 12:00"}`, `{"name":"Gale","seen":"2026-06-01T12:00:00"}`,
		`{"name":"Gale","tags":["a","b"]}`, `{"name":"Gale","tags":["a","a"]}`, `{"name":"Gale","tags":["a","b","c","d"]}`, `{"name":"Gale","tags":["a",1]}`,
		`{"name":"Gale","at":{"type":"Point","coordinates":[-31.5,52.25]}}`, `{"name":"Gale","at":{"type":"Point","coordinates":[-31.5,52.25,1200]}}`,
		`{"name":"Gale","at":{"type":"Point","coordinates":[-31.5]}}`, `{"name":"Gale","at":{"type":"Point","coordinates":[-181,52]}}`, `{"name":"Gale","at":{"coordinates":[1,2]}}`,
		`{"name":"Gale","path":{"type":"LineString","coordinates":[[1,2],[3,4]]}}`, `{"name":"Gale","path":{"type":"LineString","coordinates":[[1,2]]}}`,
		`{"name":"Gale","parts":{"doors":2}}`, `{"name":"Gale","parts":{"doors":"2"}}`, `{"name":"Gale","parts":{"note":"x"}}`, `{"name":"Gale","parts":{"doors":1,"note":"too long"}}`,
		`{"name":"Gale","unknown":1}`, `{"code":5,"beds":-1}`, `{"name":"éééééééééééé"}`, `{"name":"ééééééééééééé"}`,
	} {
		fields, err := record.Parse([]byte(text))
		if err != nil {
			return f, fmt.Errorf("%s: %w", text, err)
		}
		wrong := []string{}
		for _, reason := range c.Validate(fields) {
			wrong = append(wrong, reason.Field)
		}
		f.Cases = append(f.Cases, map[string]any{"fields": json.RawMessage(text), "wrong": wrong})
	}
	return f, nil
}

// labels are what records are called.
func labels() (file, error) {
	f := file{About: "What a record is called, by the definition's label."}
	for _, label := range []string{"{name} ({code})", "{name}", "Hut {beds}", "{state}: {heated}", "no field"} {
		d := definition.Definition{Collection: "huts", Label: label}
		for _, name := range []string{"name", "code", "beds", "state", "heated", "tags", "at"} {
			d.Fields = append(d.Fields, definition.Field{Name: name, Title: name, Schema: json.RawMessage(`{}`)})
		}
		c, err := d.Compile()
		if err != nil {
			return f, err
		}
		for _, text := range []string{`{"name":"Gale","code":"H-012","beds":4,"state":"worn","heated":true}`, `{"name":"  Gale  "}`, `{}`, `{"beds":4.50,"heated":false}`,
			`{"name":"Ärn <b>"}`} {
			fields, err := record.Parse([]byte(text))
			if err != nil {
				return f, err
			}
			f.Cases = append(f.Cases, map[string]any{"label": label, "fields": json.RawMessage(text), "called": c.LabelOf(fields)})
		}
	}
	return f, nil
}

// expressions are CEL expressions over a record, and the rules of the drawn definition.
func expressions() (file, error) {
	f := file{About: "Expressions over a record: gives is the value as JSON, or wrong is true where it has none. Then the rules of the definition in schemas.json: the territories that a record falls into, " +
		"and whether somebody may edit or remove it."}
	const fields = `{"name":"Gale","beds":4,"height":2.5,"tags":["a","b"],"heated":true,"opened":"2026-02-28","parts":{"doors":2}}`
	parsed, err := record.Parse([]byte(fields))
	if err != nil {
		return f, err
	}
	values, err := expression.Values(parsed, []string{"name", "beds", "height", "tags", "heated", "opened", "parts", "note"})
	if err != nil {
		return f, err
	}
	for _, text := range []string{`record.beds + 1`, `record.beds / 3`, `record.height * 2.0`, `record.beds > 3 && record.heated`, `record.name + "!"`, `record.name.startsWith("Ga")`,
		`size(record.tags)`, `record.tags.map(t, t + "x")`, `record.tags.exists(t, t == "b")`, `"c" in record.tags`, `has(record.note)`, `record.note == null`, `record.note`,
		`record.note > 3`, `record.parts.doors`, `record.parts.windows`, `record.heated ? "warm" : "cold"`, `record.beds % 3`, `record.beds / 0`, `record.opened < "2026-03-01"`,
		`double(record.beds) / 8.0`, `int(record.height)`, `string(record.beds)`, `[1, 2.5, "x", null]`, `{"a": record.beds}`, `record.height == 2.5`, `record.beds == 4.0`, `-record.beds`,
		`record.name.size()`, `record.name.matches("^G.*e$")`, `record.tags[1]`, `record.tags[5]`, `9223372036854775807 + 1`} {
		one := map[string]any{"expression": text, "record": json.RawMessage(fields)}
		program, err := expression.Compile(text, "record")
		if err == nil {
			var got json.RawMessage
			if got, err = program.JSON(map[string]any{"record": values}); err == nil {
				one["gives"] = got
			}
		}
		if err != nil {
			one["wrong"] = true
		}
		f.Cases = append(f.Cases, one)
	}
	c, err := compiled()
	if err != nil {
		return f, err
	}
	for _, who := range []rights.Person{{Name: "ada", Role: rights.Worker, Territories: []string{"kell"}}, {Name: "bo", Role: rights.Lead, Territories: []string{"*"}},
		{Name: "cy", Role: rights.Admin, Territories: []string{}}} {
		for _, text := range []string{`{"name":"Gale","zone":"kell"}`, `{"name":"Gale","zone":"ostra"}`, `{"name":"Gale"}`} {
			fields, err := record.Parse([]byte(text))
			if err != nil {
				return f, err
			}
			territories, err := c.TerritoriesOf(fields)
			if err != nil {
				return f, err
			}
			f.Cases = append(f.Cases, map[string]any{"worker": who, "record": json.RawMessage(text), "territories": append([]string{}, territories...),
				"edit": c.MayEdit(who, fields, fields) == nil, "remove": c.MayRemove(who, fields) == nil})
		}
	}
	return f, nil
}
