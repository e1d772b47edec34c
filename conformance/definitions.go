package conformance

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"homing/core/definition"
	"homing/core/expression"
	"homing/core/record"
	"homing/core/rights"
)

// shaped are the schemas of fields, and values that fit and do not.
var shaped = []struct {
	field, schema string
	values        []string // none stands for no value
}{
	{"name", `{"type":"string","minLength":1,"maxLength":12}`, []string{`"Gale"`, `""`, `"A name of many letters"`, `5`, `null`, ``, `"éééééééééééé"`,
		`"ééééééééééééé"`, `"😀😀😀😀😀😀😀😀😀😀😀😀"`, `"😀😀😀😀😀😀😀😀😀😀😀😀😀"`}},
	{"code", `{"type":"string","pattern":"^H-[0-9]{3}$"}`, []string{`"H-012"`, `"H-12"`, `"h-012"`}},
	{"beds", `{"type":"integer","minimum":0,"maximum":99}`, []string{`4`, `-1`, `100`, `4.5`, `4e0`, `"4"`}},
	{"height", `{"type":"number","exclusiveMinimum":0,"multipleOf":0.5}`, []string{`0.5`, `0`, `0.3`, `123456789012345678.5`}},
	{"large", `{"type":"integer","maximum":9007199254740992}`, []string{`9007199254740992`, `9007199254740993`, `-9007199254740993`}},
	{"state", `{"enum":["sound","worn","damaged"]}`, []string{`"worn"`, `"Worn"`, `null`}},
	{"grade", `{"enum":[1,2.5]}`, []string{`1`, `1.0`, `2.5`, `2`, `"1"`}},
	{"heated", `{"type":"boolean"}`, []string{`true`, `"true"`}},
	{"opened", `{"type":"string","format":"date"}`, []string{`"2026-02-28"`, `"2026-02-29"`, `"2024-02-29"`, `"28.2.2026"`}},
	{"seen", `{"type":"string","format":"date-time"}`, []string{`"2026-06-01T12:00:00Z"`, `"2026-06-01T12:00:00.5+02:00"`, `"2026-06-01 12:00"`,
		`"2026-06-01T12:00:00"`}},
	{"tags", `{"type":"array","items":{"type":"string"},"uniqueItems":true,"maxItems":3}`, []string{`["a","b"]`, `["a","a"]`, `["a","b","c","d"]`, `["a",1]`}},
	{"at", `{"$ref":"urn:homing:point"}`, []string{`{"type":"Point","coordinates":[-31.5,52.25]}`, `{"type":"Point","coordinates":[-31.5,52.25,1200]}`,
		`{"type":"Point","coordinates":[-31.5]}`, `{"type":"Point","coordinates":[-181,52]}`, `{"coordinates":[1,2]}`}},
	{"path", `{"$ref":"urn:homing:line"}`, []string{`{"type":"LineString","coordinates":[[1,2],[3,4]]}`, `{"type":"LineString","coordinates":[[1,2]]}`}},
	// Regular expressions are RE2's everywhere, and formats are judged alike.
	{"mark", `{"type":"string","pattern":"^(?i)[[:alpha:]]\\-\\pL\\s?$"}`, []string{`"a-é"`, `"A-b "`, `"1-a"`, `"a-b\u00a0"`}},
	{"clock", `{"type":"string","format":"time"}`, []string{`"10:20:30Z"`, `"10:20:30+02:00"`, `"10:20:30"`, `"24:00:00Z"`}},
	{"span", `{"type":"string","format":"duration"}`, []string{`"P1DT2H"`, `"PT"`, `"P1W"`, `"1 day"`}},
	{"mail", `{"type":"string","format":"email"}`, []string{`"a.b@example"`, `"a..b@example"`, `"@example"`, `"example"`}},
	{"page", `{"type":"string","format":"uri"}`, []string{`"https://huts.example/ä?b=c#d"`, `"huts/gale"`, `"https://a b"`, `"x:"`, `"https://a/%zz"`}},
	{"part", `{"type":"string","format":"uri-reference"}`, []string{`"huts/gale"`, `"a\\b"`, `"//h.example:80/ä"`}},
	{"host", `{"type":"string","format":"hostname"}`, []string{`"a-b.example"`, `"-a.example"`, `"a_b"`}},
	{"four", `{"type":"string","format":"ipv4"}`, []string{`"10.0.0.1"`, `"10.0.0.01"`, `"10.0.0"`, `"256.0.0.1"`}},
	{"six", `{"type":"string","format":"ipv6"}`, []string{`"fe80::1"`, `"1::2::3"`}},
	{"when", `{"type":"string","format":"date-time"}`, []string{`"2026-01-31 10:20:30Z"`, `"2026-12-31T23:59:60Z"`, `"2026-01-31t10:20:30z"`, `"2026-02-30T00:00:00Z"`}},
	{"kept", `{"type":"object","patternProperties":{"^h-[0-9]+$":{"type":"integer"}},"additionalProperties":false}`, []string{`{"h-1":2}`, `{"h-1":"2"}`, `{"x":1}`}},
	{"parts", `{"type":"object","properties":{"doors":{"type":"integer"},"note":{"type":"string","maxLength":5}},"required":["doors"]}`,
		[]string{`{"doors":2}`, `{"doors":"2"}`, `{"note":"x"}`, `{"doors":1,"note":"too long"}`}},
}

// fitting is a record and the definition that it has to fit.
type fitting struct {
	Definition definition.Definition `json:"definition"`
	Fields     record.Fields         `json:"fields"`
}

// schemas are records and what is wrong with them.
var schemas = kind{
	about: "The verdict of a definition's schema: wrong names the path of each value of fields that does not fit, in the order of their texts; none where the record is valid. " +
		"What the messages say is free.",
	given: func() (all []any, err error) {
		for _, one := range shaped {
			def := definition.Definition{Collection: "huts", Fields: []definition.Field{{Name: one.field, Required: one.field == "name", Schema: json.RawMessage(one.schema)}}}
			for _, value := range one.values {
				fields := record.Fields{}
				if value != "" {
					if fields, err = record.Parse([]byte(fmt.Sprintf(`{%q:%s}`, one.field, value))); err != nil {
						return nil, err
					}
				}
				all = append(all, fitting{def, fields})
			}
		}
		two := definition.Definition{Collection: "huts", Fields: []definition.Field{{Name: "beds", Required: true, Schema: json.RawMessage(`{"type":"integer"}`)},
			{Name: "name", Required: true, Schema: json.RawMessage(`{"type":"string"}`)}}}
		asked := definition.Definition{Collection: "huts", Fields: []definition.Field{{Name: "state", Schema: json.RawMessage(`{"enum":["open","shut"]}`)},
			{Name: "until", Required: true, Schema: json.RawMessage(`{"type":"string"}`), When: `record.state == "shut"`},
			{Name: "beds", Schema: json.RawMessage(`{"type":"integer"}`), When: `record.doors > 2`}}}
		for _, text := range []string{`{}`, `{"state":"open"}`, `{"state":"shut"}`, `{"state":"shut","until":"May"}`, `{"state":"open","until":"May"}`,
			`{"until":"May"}`, `{"until":5}`, `{"beds":4}`} {
			fields, err := record.Parse([]byte(text))
			if err != nil {
				return nil, err
			}
			all = append(all, fitting{asked, fields})
		}
		for _, text := range []string{`{"name":5,"beds":"x"}`, `{"unknown":1,"name":"a","beds":1}`, `{"name":"a"}`} {
			fields, err := record.Parse([]byte(text))
			if err != nil {
				return nil, err
			}
			all = append(all, fitting{two, fields})
		}
		return all, nil
	},
	work: working(func(given fitting) (any, error) {
		c, err := given.Definition.Compile()
		if err != nil {
			return nil, err
		}
		fields, err := canonicalFields(given.Fields)
		if err != nil {
			return nil, err
		}
		paths := []string{}
		for _, reason := range c.Validate(fields) {
			paths = append(paths, reason.Field)
		}
		slices.Sort(paths)
		return map[string]any{"wrong": paths}, nil
	}),
}

// canonicalFields brings values as they were read into their canonical form.
func canonicalFields(fields record.Fields) (record.Fields, error) {
	text, err := json.Marshal(fields)
	if err != nil {
		return nil, err
	}
	return record.Parse(text)
}

type calling struct {
	Label  string        `json:"label"`
	Fields record.Fields `json:"fields"`
}

type marking struct {
	Definition definition.Definition `json:"definition"`
	Fields     record.Fields         `json:"fields"`
	Today      string                `json:"today"`
}

// marks are what records want attention for.
var marks = kind{
	about: "Of the conditions under attention of a definition, the first that holds for a record on a day: what is said, and its grade; nothing where none holds.",
	given: func() (all []any, err error) {
		def := definition.Definition{Collection: "repairs", Fields: []definition.Field{{Name: "due", Schema: json.RawMessage(`{"type":"string"}`)},
			{Name: "done", Schema: json.RawMessage(`{"type":"boolean"}`)}, {Name: "beds", Schema: json.RawMessage(`{"type":"integer"}`)}},
			Attention: []definition.Attention{{When: `record.done != true && record.due < today`, Say: "overdue", Grade: definition.Urgent},
				{When: `record.done != true && days(today, record.due) <= 14`, Say: "due soon", Grade: definition.Soon},
				{When: `record.beds > 3`, Say: "large", Grade: definition.Note}, {When: `record.beds`, Say: "never", Grade: definition.Note}}}
		for _, text := range []string{`{"due":"2026-05-01"}`, `{"due":"2026-05-01","done":true}`, `{"due":"2026-05-16"}`, `{"due":"2026-05-15"}`, `{"due":"2026-05-17"}`,
			`{"due":"2026-05-17","beds":4}`, `{"beds":3}`, `{}`, `{"due":"soon","beds":4}`} {
			fields, err := record.Parse([]byte(text))
			if err != nil {
				return nil, err
			}
			all = append(all, marking{def, fields, "2026-05-02"})
		}
		return all, nil
	},
	work: working(func(given marking) (any, error) {
		c, err := given.Definition.Compile()
		if err != nil {
			return nil, err
		}
		fields, err := canonicalFields(given.Fields)
		if err != nil {
			return nil, err
		}
		got := map[string]any{}
		if one, holds := c.Attention(fields, given.Today); holds {
			got["say"], got["grade"] = one.Say, one.Grade
		}
		return got, nil
	}),
}

// labels are what records are called.
var labels = kind{
	about: "What a record is called, by the label of its definition.",
	given: func() (all []any, err error) {
		for _, label := range []string{"{name} ({code})", "{name}", "Hut {beds}", "{state}: {heated}", "no field"} {
			for _, text := range []string{`{"name":"Gale","code":"H-012","beds":4,"state":"worn","heated":true}`, `{"name":"  Gale  "}`, `{}`,
				`{"beds":4.50,"heated":false}`, `{"name":"Ärn <b>"}`} {
				fields, err := record.Parse([]byte(text))
				if err != nil {
					return nil, err
				}
				all = append(all, calling{label, fields})
			}
		}
		return all, nil
	},
	work: working(func(given calling) (any, error) {
		d := definition.Definition{Collection: "huts", Label: given.Label}
		for _, name := range []string{"name", "code", "beds", "state", "heated", "tags", "at"} {
			d.Fields = append(d.Fields, definition.Field{Name: name, Title: name, Schema: json.RawMessage(`{}`)})
		}
		c, err := d.Compile()
		if err != nil {
			return nil, err
		}
		return map[string]string{"called": c.LabelOf(given.Fields)}, nil
	}),
}

type evaluating struct {
	Expression string        `json:"expression"`
	Record     record.Fields `json:"record"`
}

// expressions are CEL expressions over a record.
var expressions = kind{
	about: "CEL over a record: gives is the value as JSON, or wrong is true where it has none. note is a field without a value.",
	given: func() (all []any, err error) {
		fields, err := record.Parse([]byte(`{"name":"Gale","beds":4,"height":2.5,"tags":["a","b"],"heated":true,"opened":"2026-02-28","parts":{"doors":2}}`))
		if err != nil {
			return nil, err
		}
		for _, text := range []string{`record.beds + 1`, `record.beds + 1.0`, `record.beds / 3.0`, `record.height * 2.0`, `record.beds > 3 && record.heated`, `record.beds > 3.5`, `record.name + "!"`,
			`record.name.startsWith("Ga")`, `size(record.tags)`, `record.tags.map(t, t + "x")`, `record.tags.exists(t, t == "b")`, `record.tags.filter(t, t > "a")`, `"c" in record.tags`,
			`has(record.note)`, `record.note == null`, `record.note`, `record.note > 3.0`, `record.parts.doors`, `record.parts.windows`, `record.heated ? "warm" : "cold"`,
			`record.beds / 0.0`, `record.opened < "2026-03-01"`, `double(record.beds) / 8.0`, `int(record.height)`, `string(record.beds)`, `[1, 2.5, "x", null]`,
			`{"a": record.beds}`, `record.height == 2.5`, `record.beds == 4`, `-record.beds`, `record.name.size()`, `record.name.matches("^G.*e$")`, `record.tags[1]`, `record.tags[5]`,
			`9223372036854775807 + 1`, `record.name.upperAscii()`, `record.name.substring(1, 3)`, `"a,b".split(",")`, `record.tags.join("+")`, `math.greatest(record.beds, 7.0)`,
			`math.round(record.height)`, `sum(record.tags.map(t, 0.1))`, `sum([1.5, null, 2.25])`, `sum([])`, `timestamp(record.opened + "T00:00:00Z").getFullYear()`,
			`duration("90s") < duration("2m")`,
			// Numbers as texts, texts of characters that take more than one unit of UTF-16, and whole numbers that are doubles.
			`string(record.beds * 250000.0)`, `string(999999.0)`, `string(1e20)`, `string(1.5e-7)`, `string(0.0001)`, `string(-0.0)`,
			`"%d of %s, %.1f".format([record.beds, record.name, 1])`, `"%d%%".format([2.5])`, `int("+5")`, `int("0x10")`, `int("9223372036854775808")`,
			`"😀b😀".indexOf("😀", 1)`, `"😀b😀".lastIndexOf("😀")`, `"😀bc".substring(1, 2)`, `"😀b".charAt(1)`, `"abc".charAt(4)`, `"abc".lastIndexOf("c", 3)`,
			`"a,b,c".split(",", 2)`, `"a,b,c".split(",", 0)`, `"a😀".split("")`, `"aaa".replace("a", "b", 2)`, `"a😀".replace("", "-")`, `"a😀".reverse()`,
			`math.abs(-3)`, `math.sign(-2.5)`, `math.sqrt(16)`,
			`days("2026-02-27", record.opened)`, `days(record.opened, "2026-03-01T23:30:00-05:00")`, `days(record.opened, "2024-02-29")`, `days(record.note, record.opened)`,
			`days(record.opened, "2026-02-30")`, `days(record.opened, "soon")`, `days(record.beds, record.opened)`, `days(record.opened, "2026-3-1")`} {
			all = append(all, evaluating{text, fields})
		}
		return all, nil
	},
	work: working(func(given evaluating) (any, error) {
		values, err := expression.Values(given.Record, []string{"name", "beds", "height", "tags", "heated", "opened", "parts", "note"})
		if err != nil {
			return nil, err
		}
		program, err := expression.Compile(given.Expression, "record")
		if err != nil {
			return wrong{true}, nil
		}
		got, err := program.JSON(map[string]any{"record": values})
		if err != nil {
			return wrong{true}, nil
		}
		return map[string]json.RawMessage{"gives": got}, nil
	}),
}

type allowing struct {
	Definition definition.Definition `json:"definition"`
	Worker     rights.Person         `json:"worker"`
	Record     record.Fields         `json:"record"`
}

// mays are who may do what with a record.
var mays = kind{
	about: "The territories that a record falls into, and whether somebody may read, edit as it is, or remove it, by the rules of its definition and their role.",
	given: func() (all []any, err error) {
		def := definition.Definition{Collection: "huts", Fields: []definition.Field{{Name: "name", Schema: json.RawMessage(`{"type":"string"}`)},
			{Name: "zone", Schema: json.RawMessage(`{"type":"string"}`)}},
			Access: definition.Access{Read: `worker.role != "worker" || before.zone != "ostra"`, Edit: `worker.role == "lead" || before.zone in worker.territories`,
				Remove: `worker.role == "lead" && after == null`},
			Sync: definition.Sync{Territory: `record.zone != null ? [record.zone, "all"] : []`}}
		for _, who := range []rights.Person{{Name: "ada", Role: rights.Worker, Territories: []string{"kell"}},
			{Name: "bo", Role: rights.Lead, Territories: []string{"*"}}, {Name: "cy", Role: rights.Admin, Territories: []string{}},
			{Name: "di", Role: rights.Reader, Territories: []string{"kell"}}} {
			for _, text := range []string{`{"name":"Gale","zone":"kell"}`, `{"name":"Gale","zone":"ostra"}`, `{"name":"Gale"}`} {
				fields, err := record.Parse([]byte(text))
				if err != nil {
					return nil, err
				}
				all = append(all, allowing{def, who, fields})
			}
		}
		return all, nil
	},
	work: working(func(given allowing) (any, error) {
		c, err := given.Definition.Compile()
		if err != nil {
			return nil, err
		}
		territories, err := c.TerritoriesOf(given.Record)
		if err != nil {
			return nil, err
		}
		return map[string]any{"territories": append([]string{}, territories...), "read": c.MayRead(given.Worker, given.Record),
			"edit": c.MayEdit(given.Worker, given.Record, given.Record) == nil, "remove": c.MayRemove(given.Worker, given.Record) == nil}, nil
	}),
}

type computing struct {
	Definition  definition.Definition      `json:"definition"`
	Definitions []definition.Definition    `json:"definitions,omitempty"` // of the children
	Fields      record.Fields              `json:"fields"`
	Children    map[string][]record.Fields `json:"children,omitempty"` // by collection, in the order of their ids
}

// computed are worked-out values.
var computed = kind{
	about: "The computed fields of a record, over itself and its children, which come with their own computed values. One that cannot be worked out is left out.",
	given: func() (all []any, err error) {
		number, text := json.RawMessage(`{"type":"number"}`), json.RawMessage(`{"type":"string"}`)
		spans := definition.Definition{Collection: "spans", Fields: []definition.Field{{Name: "length", Schema: number}, {Name: "kind", Schema: text},
			{Name: "hut", Reference: "huts", Schema: text}}, Parent: &definition.Parent{Collection: "huts", Field: "hut", Removal: "keep"}}
		huts := definition.Definition{Collection: "huts", Fields: []definition.Field{{Name: "beds", Schema: number}, {Name: "name", Schema: text},
			{Name: "total", Computed: `sum(children.spans.map(s, s.length))`, Schema: number},
			{Name: "longest", Computed: `children.spans.size() == 0 ? null : math.greatest(children.spans.filter(s, s.length != null).map(s, s.length))`, Schema: number},
			{Name: "each", Computed: `record.total / record.beds`, Schema: number},
			{Name: "kinds", Computed: `children.spans.filter(s, s.kind != null).map(s, s.kind).join(", ")`, Schema: text},
			{Name: "called", Computed: `record.name + " (" + string(size(children.spans)) + ")"`, Schema: text}}}
		for _, own := range []string{`{"beds":4,"name":"Gale"}`, `{"beds":0,"name":"Gale"}`, `{}`} {
			for _, below := range []string{``, `{"length":0.1,"kind":"rope"} {"length":0.2} {"kind":"plank"}`, `{"length":12345678901234567890.5} {"length":-12345678901234567890}`} {
				fields, err := record.Parse([]byte(own))
				if err != nil {
					return nil, err
				}
				children, err := several(below)
				if err != nil {
					return nil, err
				}
				all = append(all, computing{huts, []definition.Definition{spans}, fields, map[string][]record.Fields{"spans": children}})
			}
		}
		return all, nil
	},
	work: working(func(given computing) (any, error) {
		c, err := given.Definition.Compile()
		if err != nil {
			return nil, err
		}
		broods := map[string]definition.Brood{}
		for _, def := range given.Definitions {
			child, err := def.Compile()
			if err != nil {
				return nil, err
			}
			broods[def.Collection] = definition.Brood{Collection: child, Records: given.Children[def.Collection]}
		}
		values, _ := c.Compute(given.Fields, broods) // what cannot be worked out is left out
		return map[string]any{"values": values}, nil
	}),
}

// several are records, each a JSON object behind the other.
func several(text string) ([]record.Fields, error) {
	all := []record.Fields{}
	for decoder := json.NewDecoder(strings.NewReader(text)); decoder.More(); {
		var one json.RawMessage
		if err := decoder.Decode(&one); err != nil {
			return nil, err
		}
		fields, err := record.Parse(one)
		if err != nil {
			return nil, err
		}
		all = append(all, fields)
	}
	return all, nil
}
