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
	Header string // as it stands in the table
	Field  string // the name it gets
	kind   kind
	counts map[kind]int // values by their own kind
	filled int
	values map[string]int // how often each comes; nil when there are too many
	some   []string       // a few different values
	unique map[uint64]bool
	twice  bool
	long   bool
}

// Table collects what is known of a table.
type Table struct {
	Columns []*Column
	byName  map[string]*Column
	rows    int
}

// NewTable starts with the columns that are known from a heading; others join as they appear.
func NewTable(headers []string) (*Table, error) {
	t := &Table{byName: map[string]*Column{}}
	for n, header := range headers {
		if strings.TrimSpace(header) == "" {
			return nil, fmt.Errorf("column %d has no heading; give it one, or delete it", n+1)
		}
		if t.byName[header] != nil {
			return nil, fmt.Errorf("the heading %q stands over two columns; rename one", header)
		}
		if err := t.join(header); err != nil {
			return nil, err
		}
	}
	return t, nil
}

func (t *Table) join(header string) error {
	c := &Column{Header: header, Field: FieldName(header), counts: map[kind]int{}, values: map[string]int{},
		unique: map[uint64]bool{}}
	for _, other := range t.Columns {
		if other.Field == c.Field {
			return fmt.Errorf("the headings %q and %q would both become the field %s; rename one", other.Header, header, c.Field)
		}
	}
	t.Columns = append(t.Columns, c)
	t.byName[header] = c
	return nil
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

// Add looks at one row.
func (t *Table) Add(row map[string]Value) error {
	t.rows++
	for _, header := range slices.Sorted(maps.Keys(row)) {
		value := row[header]
		if value.Empty() {
			continue
		}
		if t.byName[header] == nil {
			if err := t.join(header); err != nil {
				return err
			}
		}
		t.byName[header].add(value)
	}
	return nil
}

func (c *Column) add(v Value) {
	c.filled++
	own := kindOf(v)
	c.counts[own]++
	c.kind = join(c.kind, own)
	plain := strings.TrimSpace(v.Text)
	if v.JSON != nil {
		plain = definition.Plain(v.JSON)
	}
	c.long = c.long || len(plain) > longText
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
	wholeNumber = regexp.MustCompile(`^-?(0|[1-9][0-9]{0,14})$`)                         // no leading zeros: 007 is a text
	jsonNumber  = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$`) // RFC 8259, section 6
	anyNumber   = regexp.MustCompile(`^-?(0|[1-9][0-9]{0,14})(\.[0-9]{1,15})?$`)
)

func kindOf(v Value) kind {
	if v.JSON != nil {
		return kindOfJSON(v.JSON)
	}
	switch plain := strings.TrimSpace(v.Text); {
	case wholeNumber.MatchString(plain):
		return integer
	case anyNumber.MatchString(plain):
		return number
	case isBoolean(plain):
		return boolean
	case isDate(plain):
		return date
	case isMoment(plain):
		return moment
	}
	return text
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

func isBoolean(s string) bool {
	switch strings.ToLower(s) {
	case "true", "false", "yes", "no":
		return true
	}
	return false
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
		schema, err := json.Marshal(c.schema())
		if err != nil {
			return d, err
		}
		d.Fields = append(d.Fields, definition.Field{Name: c.Field, Title: c.Header, Schema: schema, Required: t.rows > 0 &&
			c.filled == t.rows})
	}
	if len(d.Fields) == 0 {
		return d, fmt.Errorf("the table has no columns")
	}
	d.Key = t.key()
	d.Label = "{" + t.label(d.Key) + "}"
	return d, nil
}

// meant is the kind that a column is meant to have. Where nearly all values are numbers, dates or yes and no, the few
// others are more likely mistakes: the check of the rows shows them, while a column of texts would hide them for
// ever.
func (c *Column) meant() kind {
	const least, outOf = 19, 20
	if c.kind != text || c.filled < outOf {
		return c.kind
	}
	for _, k := range []kind{integer, number, date, moment, boolean} {
		n := c.counts[k]
		if k == number {
			n += c.counts[integer]
		}
		if n*outOf >= c.filled*least {
			return k
		}
	}
	return text
}

func (c *Column) schema() map[string]any {
	schema := map[string]any{"title": c.Header}
	switch c.meant() {
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

// key is the first column whose values are all there and all different, if it looks like a name or a number.
func (t *Table) key() string {
	for _, c := range t.Columns {
		if t.rows > 1 && c.filled == t.rows && !c.twice && !c.long && (c.meant() == text || c.meant() == integer) {
			return c.Field
		}
	}
	return ""
}

// label is a column that people would call a record by.
func (t *Table) label(key string) string {
	for _, c := range t.Columns {
		if c.meant() == text && (c.Field == "name" || c.Field == "title" || strings.HasSuffix(c.Field, "_name")) {
			return c.Field
		}
	}
	for _, c := range t.Columns {
		if c.meant() == text && c.Field != key {
			return c.Field
		}
	}
	return t.Columns[0].Field
}

// Convert makes a cell the value of a field, by the field's schema: a text from a sheet becomes what the schema asks
// for, if it reads as such, and stays a text otherwise, so that the validation says what is wrong. No value is nil.
func Convert(field definition.Field, v Value) json.RawMessage {
	if v.Empty() {
		return nil
	}
	if v.JSON != nil {
		return v.JSON
	}
	plain := strings.TrimSpace(v.Text)
	switch shape := field.Shape(); {
	case shape.IsNumber() && jsonNumber.MatchString(plain): // with all of its digits
		return json.RawMessage(plain)
	case shape.Type == "boolean" && isBoolean(plain):
		return json.RawMessage(strconv.FormatBool(strings.EqualFold(plain, "true") || strings.EqualFold(plain, "yes")))
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
