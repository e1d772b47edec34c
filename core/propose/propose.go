// Package propose looks at the rows of a table and proposes a definition for them: types, choices, what is required,
// a key. It sees one row after the other and keeps only counts, so a table of any length takes the same memory.
package propose

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"homing/core/definition"
)

// Value is one cell: a text from a sheet, or a JSON value. An empty text is no value.
type Value struct {
	Text string
	JSON json.RawMessage // nil for a text
}

// Empty says whether the cell holds nothing.
func (v Value) Empty() bool {
	if v.JSON != nil {
		return string(v.JSON) == "null"
	}
	return strings.TrimSpace(v.Text) == ""
}

// kind is what all values of a column have been so far.
type kind int

const (
	nothing kind = iota
	boolean
	integer
	number
	date
	moment
	text
	point
	line
	texts
	anything
)

const (
	mostChoices  = 12
	rowsPerValue = 4 // a choice must come this often on average
	trackedKeys  = 100_000
	longText     = 60 // characters; longer ones are no choices
	samples      = 5
)

// Column is what is known of one column.
type Column struct {
	Header  string        // as it stands in the table
	Field   string        // the name it gets
	counts  map[kind]int  // JSON values by their own kind
	classes map[class]int // texts, by how they may be read
	example map[class]string
	filled  int
	values  map[string]int // how often each comes; nil when there are too many
	some    []string       // a few different values
	unique  map[uint64]bool
	twice   bool
	long    bool
	uncoded bool // some value does not look like a code
}

// Table collects what is known of a table.
type Table struct {
	Columns []*Column
	byName  map[string]*Column
	rows    int
	figures Figures
	place   [2]*Column // latitude and longitude, where two columns hold them
}

// NewTable starts with the columns that are known from a heading; others join as they appear.
func NewTable(headers []string) *Table {
	t := &Table{byName: map[string]*Column{}}
	for _, header := range headers {
		t.join(header)
	}
	return t
}

func (t *Table) join(header string) {
	c := &Column{Header: header, Field: FieldName(header), counts: map[kind]int{}, classes: map[class]int{},
		example: map[class]string{}, values: map[string]int{}, unique: map[uint64]bool{}}
	base := c.Field
	for again := 2; slices.ContainsFunc(t.Columns, func(other *Column) bool { return other.Field == c.Field }); again++ {
		c.Field = base + "_" + strconv.Itoa(again)
	}
	t.Columns = append(t.Columns, c)
	t.byName[header] = c
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// FieldName is what a heading becomes: small letters, digits and underscores.
func FieldName(header string) string {
	folded := strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "ß", "ss", "é", "e", "è", "e", "à", "a", "ç", "c",
		"ñ", "n").Replace(strings.ToLower(header))
	name := strings.Trim(notName.ReplaceAllString(folded, "_"), "_")
	if name == "" || name[0] < 'a' {
		name = "f_" + name
	}
	const most = 40
	return strings.TrimRight(name[:min(len(name), most)], "_")
}

// Title is what people read of a name: its words, with a capital.
func Title(name string) string {
	words := strings.TrimSpace(strings.ReplaceAll(name, "_", " "))
	if words == "" {
		return name
	}
	first, size := utf8.DecodeRuneInString(words)
	return string(unicode.ToUpper(first)) + words[size:]
}

// Add looks at one row. Names give the order in which columns join that are not known yet; those that it does not give
// join by name.
func (t *Table) Add(row map[string]Value, names ...string) {
	t.rows++
	for _, header := range append(names, slices.Sorted(maps.Keys(row))...) {
		if value := row[header]; t.byName[header] == nil && !value.Empty() {
			t.join(header)
		}
	}
	for header, value := range row {
		if !value.Empty() {
			t.byName[header].add(value)
		}
	}
}

func (c *Column) add(v Value) {
	c.filled++
	plain := strings.TrimSpace(v.Text)
	if v.JSON != nil {
		plain = definition.Plain(v.JSON)
		c.counts[kindOfJSON(v.JSON)]++
	} else {
		own := classOf(plain)
		if c.classes[own]++; c.example[own] == "" {
			c.example[own] = plain
		}
	}
	c.long = c.long || len(plain) > longText
	c.uncoded = c.uncoded || !likeCode.MatchString(plain)
	if len(c.some) < samples && !slices.Contains(c.some, plain) {
		c.some = append(c.some, plain)
	}
	if c.values != nil {
		if c.values[plain]++; len(c.values) > mostChoices {
			c.values = nil
		}
	}
	if c.unique != nil {
		h := hash(plain)
		c.twice = c.twice || c.unique[h]
		if c.unique[h] = true; c.twice || len(c.unique) > trackedKeys {
			c.unique = nil // known to repeat, or known to be many
		}
	}
}

// hash is FNV-1a, 64 bits (Fowler, Noll, Vo).
func hash(s string) uint64 {
	h := uint64(14695981039346656037)
	for n := range len(s) {
		h = (h ^ uint64(s[n])) * 1099511628211
	}
	return h
}

var (
	wholeNumber = regexp.MustCompile(`^-?(0|[1-9][0-9]{0,14})$`)
	jsonNumber  = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$`) // RFC 8259, section 6
)

// kinds are what the values of the column are, by how texts are to be read.
func (c *Column) kinds(f Figures) map[kind]int {
	all := maps.Clone(c.counts)
	for own, n := range c.classes {
		all[f.kind(own)] += n
	}
	return all
}

func kindOfJSON(raw json.RawMessage) kind {
	switch raw[0] {
	case '"':
		switch plain := definition.Plain(raw); {
		case isDate(plain):
			return date
		case isMoment(plain):
			return moment
		}
		return text
	case 't', 'f':
		return boolean
	case '{':
		var shape struct {
			Type        string          `json:"type"`
			Coordinates json.RawMessage `json:"coordinates"`
		}
		if json.Unmarshal(raw, &shape) == nil && shape.Coordinates != nil {
			switch shape.Type {
			case "Point":
				return point
			case "LineString":
				return line
			}
		}
		return anything
	case '[':
		var list []string
		if json.Unmarshal(raw, &list) == nil {
			return texts
		}
		return anything
	}
	if wholeNumber.Match(raw) {
		return integer
	}
	return number
}

func isDate(s string) bool   { _, err := time.Parse(time.DateOnly, s); return err == nil }
func isMoment(s string) bool { _, err := time.Parse(time.RFC3339, s); return err == nil }

// join is the narrowest kind that holds both.
func join(a, b kind) kind {
	switch {
	case a == nothing || a == b:
		return b
	case a == integer && b == number || a == number && b == integer:
		return number
	case a == anything || b == anything || max(a, b) > text:
		return anything
	}
	return text
}

// Samples are a few different values of the column that becomes a field.
func (t *Table) Samples(field string) []string {
	for _, c := range t.Columns {
		if c.Field == field {
			return c.some
		}
	}
	return nil
}

// Definition is the proposal.
func (t *Table) Definition(collection string) (definition.Definition, error) {
	d := definition.Definition{Collection: collection, Version: 1, Title: strings.ToUpper(collection[:1]) +
		strings.ReplaceAll(collection[1:], "_", " ")}
	d.Sync.Removal = "edit-stays"
	for _, c := range t.Columns {
		if t.isPlace(c) {
			if c == t.place[0] {
				d.Fields = append(d.Fields, definition.Field{Name: PlaceField, Title: Title(PlaceField),
					Schema:   json.RawMessage(`{"title":"Location","$ref":"` + definition.PointURL + `"}`),
					Required: t.rows > 0 && c.filled == t.rows && t.place[1].filled == t.rows})
			}
			continue
		}
		schema, err := json.Marshal(c.schema(t.figures))
		if err != nil {
			return d, err
		}
		d.Fields = append(d.Fields, definition.Field{Name: c.Field, Title: c.Header, Schema: schema, Required: t.rows > 0 &&
			c.filled == t.rows})
	}
	if len(d.Fields) == 0 {
		return d, fmt.Errorf("the table has no columns")
	}
	d.Key, _ = t.Key()
	d.Label = "{" + t.label(d.Key) + "}"
	return d, nil
}

// meant is the kind that a column is meant to have. Where nearly all values are numbers, dates or yes and no, the few
// others are more likely mistakes: the check of the rows shows them, while a column of texts would hide them for
// ever.
func (c *Column) meant(f Figures) kind {
	const least, outOf = 19, 20
	kinds, all := c.kinds(f), nothing
	for own := range kinds {
		all = join(all, own)
	}
	if all != text || c.filled < outOf {
		return all
	}
	for _, k := range []kind{integer, number, date, moment, boolean} {
		n := kinds[k]
		if k == number {
			n += kinds[integer]
		}
		if n*outOf >= c.filled*least {
			return k
		}
	}
	return text
}

func (c *Column) schema(f Figures) map[string]any {
	schema := map[string]any{"title": c.Header}
	switch c.meant(f) {
	case boolean:
		schema["type"] = "boolean"
	case integer:
		schema["type"] = "integer"
	case number:
		schema["type"] = "number"
	case date:
		schema["type"], schema["format"] = "string", "date"
	case moment:
		schema["type"], schema["format"] = "string", "date-time"
	case point:
		schema["$ref"] = definition.PointURL
	case line:
		schema["$ref"] = definition.LineURL
	case texts:
		schema["type"], schema["items"] = "array", map[string]any{"type": "string"}
	case anything:
	default:
		if c.values != nil && !c.long && len(c.values) > 1 && c.filled >= rowsPerValue*len(c.values) {
			schema["enum"] = slices.Sorted(maps.Keys(c.values))
		} else {
			schema["type"] = "string"
		}
	}
	return schema
}

// Key is the column by which records are told apart, if one looks like it, and why it does. A measurement does not, though all of
// its values may differ so far.
func (t *Table) Key() (field, why string) {
	for _, test := range []struct {
		looks func(*Column) bool
		why   string
	}{
		{func(c *Column) bool { return keyName.MatchString(c.Field) }, "it is called like a key"},
		{func(c *Column) bool { return !c.uncoded }, "its values look like codes"},
		{func(c *Column) bool { return c.Field == "name" || c.Field == "title" }, "it names the records"},
	} {
		for _, c := range t.Columns {
			if t.tellsApart(c) && test.looks(c) {
				return c.Field, allDiffer + test.why
			}
		}
	}
	return "", ""
}

const allDiffer = "all of its values are there and differ, and "

func (t *Table) tellsApart(c *Column) bool {
	k := c.meant(t.figures)
	return t.rows > 1 && c.filled == t.rows && !c.twice && !c.long && (k == text || k == integer)
}

// Referred is the column, of those by which records could be told apart, that holds all of the values by which others
// refer to them, and why it would be the key.
func (t *Table) Referred(by string, values []string) (field, why string) {
	for _, c := range t.Columns {
		if t.tellsApart(c) && len(values) > 0 && !slices.ContainsFunc(values, func(one string) bool { return !c.unique[hash(one)] }) {
			return c.Field, allDiffer + by + " refer to it"
		}
	}
	return "", ""
}

var (
	// keyName is what fields are called that tell records apart.
	keyName = regexp.MustCompile(`^(id|key|code|no|nr|num|number|ref|uid|uuid|serial|kennung|nummer|kuerzel|code_.*|numero|id_.*|.*_(id|key|code|no|nr|num|number|ref|nummer|kennung))$`)
	// likeCode is a short word of letters and digits, such as KL-01.
	likeCode = regexp.MustCompile(`^[A-Za-z]{1,6}[-_/. ]?[0-9][A-Za-z0-9\-_/.]{0,14}$`)
)

// label is a column that people would call a record by: one that says something of each.
func (t *Table) label(key string) string {
	says := func(c *Column) bool {
		return c.meant(t.figures) == text && c.filled == t.rows && (t.rows < 2 || len(c.some) > 1)
	}
	for _, c := range t.Columns {
		if says(c) && (c.Field == "name" || c.Field == "title" || strings.HasSuffix(c.Field, "_name")) {
			return c.Field
		}
	}
	for _, c := range t.Columns {
		if says(c) && c.Field != key {
			return c.Field
		}
	}
	if key != "" {
		return key
	}
	for _, c := range t.Columns {
		if c.filled == t.rows {
			return c.Field
		}
	}
	return t.Columns[0].Field
}

// Convert makes a cell the value of a field, by the field's schema: a text from a sheet becomes what the schema asks
// for, if it reads as such by these figures, and stays a text otherwise, so that the validation says what is wrong. No
// value is nil.
func (f Figures) Convert(field definition.Field, v Value) json.RawMessage {
	if v.Empty() {
		return nil
	}
	if v.JSON != nil {
		return v.JSON
	}
	plain := strings.TrimSpace(v.Text)
	switch shape := field.Shape(); {
	case shape.IsNumber():
		if text, is := f.Number(plain); is { // with all of its digits
			return json.RawMessage(text)
		}
	case shape.Type == "boolean":
		if yes, is := words[strings.ToLower(plain)]; is {
			return json.RawMessage(strconv.FormatBool(yes))
		}
	case shape.Format == "date":
		if text, is := f.Date(plain); is {
			plain = text
		}
	case shape.Ref == definition.PointURL && classOf(plain) == isPlace:
		latitude, longitude, _ := strings.Cut(strings.ReplaceAll(plain, ";", ","), ",")
		return Place(strings.TrimSpace(latitude), strings.TrimSpace(longitude))
	case (shape.Ref != "" || shape.Type == "array" || shape.Type == "object" || shape.Type == nil && shape.Enum == nil) &&
		json.Valid([]byte(plain)):
		return json.RawMessage(plain)
	case shape.Type == "string" && shape.Enum == nil:
		plain = v.Text // blanks around a text are part of it
	}
	quoted, err := json.Marshal(plain)
	if err != nil {
		panic(err) // a text always marshals
	}
	return quoted
}
