// Package query says which records a listing shows: conditions on fields, a search text, an order and a page. The same
// query runs on central's database and on a device's local store; [Query.SQL] writes it for either.
package query

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"homing/core/definition"
	"homing/core/record"
)

// Limits of a page.
const (
	DefaultLimit = 50
	MaxLimit     = 1000
)

// Ask is a question for records, as people put it.
type Ask struct {
	Where  []string // conditions such as "state=open"; all must hold, but of several that say what one field is, any
	Search string   // words that the record contains, each somewhere in its fields, whatever their case
	Label  string   // what the record is called, whatever the case
	Sort   string   // field names, a leading dash reverses
	Limit  int      // 0 means [DefaultLimit]
	Offset int
	After  string // the id of the last record of the page before, in place of an offset, where nothing is sorted by
}

// Query is what a listing shows.
type Query struct {
	Where  []Condition
	Search string // words that the record contains, each somewhere in its fields, whatever their case
	Label  string // what the record is called, whatever the case
	Sort   []Order
	Limit  int
	Offset int
	After  string
}

// MostCounted is up to where the records that fit are counted. More are said to be more.
const MostCounted = 10_000

// mostFound is the same for searches, in which each record that fits takes long to be looked at.
const mostFound = 1000

// Counted is up to where the records that fit are counted.
func (q Query) Counted() int {
	if q.Search != "" {
		return mostFound
	}
	return MostCounted
}

// Condition compares one field with a value.
type Condition struct {
	Field string
	Op    Op
	Value string
}

// Op is how a condition compares.
type Op string

// The operators. Longer ones come first where one starts like another.
const (
	NotEqual       Op = "!="
	LessOrEqual    Op = "<="
	GreaterOrEqual Op = ">="
	Equal          Op = "="
	Less           Op = "<"
	Greater        Op = ">"
	Contains       Op = "~"
)

var operators = []Op{NotEqual, LessOrEqual, GreaterOrEqual, Equal, Less, Greater, Contains}

// Order sorts by one field.
type Order struct {
	Field   string
	Reverse bool
}

// Columns that every record has and that can be sorted by besides its fields.
var columns = []string{"edited_at", "revision"}

// Bounds on one question: each word and condition is another look at every record.
const (
	MaxWords      = 12
	maxConditions = 20
	maxText       = 1000 // bytes
)

// Parse reads a question and checks it against the collection's definition.
func Parse(d definition.Definition, ask Ask) (Query, error) {
	q := Query{Search: ask.Search, Label: strings.TrimSpace(ask.Label), Limit: ask.Limit, Offset: ask.Offset, After: ask.After}
	if q.Limit == 0 {
		q.Limit = DefaultLimit
	}
	if q.Limit < 0 || q.Limit > MaxLimit {
		return q, fmt.Errorf("limit %d: take 1 to %d", ask.Limit, MaxLimit)
	}
	if q.Offset < 0 {
		return q, fmt.Errorf("offset %d: take 0 or more", ask.Offset)
	}
	if ask.After != "" && (!anID.MatchString(ask.After) || ask.Sort != "" || ask.Offset != 0) {
		return q, fmt.Errorf("after %.40q: it is the id of a record, for lists in the order of ids, without an offset", ask.After)
	}
	if words := strings.Fields(ask.Search); len(words) > MaxWords || len(ask.Search) > maxText {
		return q, fmt.Errorf("the search has %d words in %d characters: take at most %d in %d", len(words), len(ask.Search), MaxWords, maxText)
	}
	if len(ask.Label) > maxText {
		return q, fmt.Errorf("the label has %d characters: take at most %d", len(ask.Label), maxText)
	}
	if len(ask.Where) > maxConditions || len(ask.Sort) > maxText {
		return q, fmt.Errorf("%d conditions, or what to sort by in %d characters: take at most %d, and %d", len(ask.Where), len(ask.Sort),
			maxConditions, maxText)
	}
	for _, text := range ask.Where {
		condition, err := parseCondition(d, text)
		if err != nil {
			return q, err
		}
		q.Where = append(q.Where, condition)
	}
	for _, name := range strings.FieldsFunc(ask.Sort, func(r rune) bool { return r == ',' }) {
		field, reverse := strings.CutPrefix(strings.TrimSpace(name), "-")
		if _, known := d.Field(field); !known && !slices.Contains(columns, field) {
			return q, fmt.Errorf("sort by %q: %s has no such field", field, d.Collection)
		}
		q.Sort = append(q.Sort, Order{field, reverse})
	}
	return q, nil
}

func parseCondition(d definition.Definition, text string) (Condition, error) {
	at := strings.IndexAny(text, "!<>=~")
	if at < 1 {
		return Condition{}, fmt.Errorf("condition %q: write FIELD=VALUE, or with != < <= > >= or ~ (contains)", text)
	}
	field := strings.TrimSpace(text[:at])
	if _, known := d.Field(field); !known {
		return Condition{}, fmt.Errorf("condition %q: %s has no field %q", text, d.Collection, field)
	}
	for _, op := range operators {
		value, found := strings.CutPrefix(text[at:], string(op))
		if !found {
			continue
		}
		value = strings.TrimSpace(value)
		if op != Contains && value != "" && isNumber(d, field) && !isNumeral(value) {
			return Condition{}, fmt.Errorf("condition %q: %s is a number, and %.40q is none", text, field, value)
		}
		if err := comparable(d, field, op, value); err != nil {
			return Condition{}, fmt.Errorf("condition %q: %w", text, err)
		}
		return Condition{field, op, value}, nil
	}
	return Condition{}, fmt.Errorf("condition %q: write FIELD=VALUE, or with != < <= > >= or ~ (contains)", text)
}

// Dialect writes the few things that differ between the two databases.
type Dialect struct {
	// Text is the field as text, without quotes; Number is the field as a number, or null when it is none.
	// Field names hold only small letters, digits and _.
	// Column is where the field stands: fields, or computed for what is worked out.
	Text, Number func(column, field string) string
	// Raw is the record as JSON text, which is quick to look through; Values is the text of all its values and of
	// nothing else, so that a search does not find the names of fields.
	Raw, Values string
	// Fold makes a text comparable by LIKE whatever its case.
	Fold func(text string) string
	// Local is the column of fields that stay on the device; empty where there are none.
	Local string
	// Short is the beginning of a text: as much of it as stands in an index.
	Short func(text string) string
}

// PostgreSQL is the dialect of central's database.
var PostgreSQL = Dialect{
	Text: func(column, field string) string { return fmt.Sprintf("(%s->>'%s')", column, field) },
	Number: func(column, field string) string {
		return fmt.Sprintf("(CASE WHEN json_typeof(%s->'%s') = 'number' THEN (%[1]s->>'%[2]s')::numeric END)", column, field)
	},
	Raw:    "fields::text",
	Values: "(SELECT string_agg(value, ' ') FROM json_each_text(fields))",
	Fold:   func(text string) string { return "lower(" + text + ")" },
	Short:  func(text string) string { return "left(" + text + ",200)" },
}

// SQLite is the dialect of a local store.
var SQLite = Dialect{
	Text: func(column, field string) string { return fmt.Sprintf("CAST(%s->>'$.%s' AS TEXT)", column, field) },
	Number: func(column, field string) string {
		return fmt.Sprintf("(CASE WHEN json_type(%s, '$.%s') IN ('integer','real') THEN %[1]s->>'$.%[2]s' END)", column,
			field)
	},
	Raw:    "fields",
	Values: "(SELECT group_concat(value, ' ') FROM json_each(fields))",
	Local:  "local",
	Fold:   func(text string) string { return text }, // SQLite's LIKE folds what its lower() would
	Short:  func(text string) string { return "substr(" + text + ",1,200)" },
}

// sameAs says whether two conditions are of one field and both say what it is: then either may hold.
func (c Condition) sameAs(other Condition) bool {
	return c.Op == Equal && other.Op == Equal && c.Field == other.Field
}

// sql writes one condition.
func (c Condition) sql(d definition.Definition, dialect Dialect) (term string, args []any) {
	expression := dialect.Text(column(d, c.Field, dialect), c.Field)
	var value any = c.Value
	if isNumber(d, c.Field) && isNumeral(c.Value) && c.Op != Contains {
		expression = dialect.Number(column(d, c.Field, dialect), c.Field)
		value = json.Number(c.Value)
	}
	var quick string
	if at, ranges := ListKey(d, c.Field, dialect); c.Value != "" && slices.Contains(d.Lists, c.Field) && !isNumber(d, c.Field) &&
		(c.Op == Equal || ranges && c.Op != NotEqual && c.Op != Contains) {
		// The index knows this; what follows is exact.
		quick, args = at+" "+string(c.Op)+" "+dialect.Short("lower(?)")+" AND ", append(args, c.Value)
	}
	switch {
	case c.Op == Contains:
		term = dialect.Fold(expression) + ` LIKE ? ESCAPE '\'`
		value = pattern(c.Value)
	case c.Op == Equal && c.Value == "":
		term = "coalesce(" + expression + ",'') = ?"
	case c.Op == NotEqual && c.Value != "":
		term = "(" + expression + " <> ? OR " + expression + " IS NULL)"
	case c.Op == NotEqual:
		term = expression + " <> ?"
	default:
		term = expression + " " + string(c.Op) + " ?"
	}
	if number, isNum := value.(json.Number); isNum {
		if f, err := number.Float64(); err == nil {
			value = f
		}
	}
	return quick + term, append(args, value)
}

// SQL writes the conditions as one expression with a ? for each argument, and the order as a list of terms. Ties are
// broken by the record's id, so that pages neither repeat nor skip.
func (q Query) SQL(d definition.Definition, dialect Dialect) (where string, args []any, order string) {
	terms := []string{"TRUE"}
	for n, c := range q.Where {
		if c.Op == Equal && slices.ContainsFunc(q.Where[:n], c.sameAs) {
			continue // it stands with the first of its field
		}
		either := []Condition{c}
		if c.Op == Equal {
			for _, other := range q.Where[n+1:] {
				if c.sameAs(other) {
					either = append(either, other)
				}
			}
		}
		var ways []string
		for _, one := range either {
			way, values := one.sql(d, dialect)
			ways, args = append(ways, way), append(args, values...)
		}
		if len(ways) == 1 {
			terms = append(terms, ways[0])
		} else {
			terms = append(terms, "("+strings.Join(ways, " OR ")+")")
		}
	}
	if q.After != "" {
		terms, args = append(terms, "id > ?"), append(args, q.After)
	}
	if q.Label != "" {
		if expression, known := labelSQL(d, dialect); known {
			terms = append(terms, dialect.Short(expression)+" = "+dialect.Short("lower(?)"), expression+" = lower(?)")
			args = append(args, q.Label, q.Label)
		}
	}
	for _, word := range strings.Fields(q.Search) {
		looked := []string{dialect.Raw, dialect.Values}
		if strings.ContainsAny(word, `"\`) {
			looked = looked[1:] // JSON text escapes these
		}
		for _, text := range looked {
			terms = append(terms, dialect.Fold(text)+` LIKE ? ESCAPE '\'`)
			args = append(args, pattern(word))
		}
	}
	var orders []string
	for _, by := range q.Sort {
		way := " ASC"
		if by.Reverse {
			way = " DESC"
		}
		switch {
		case slices.Contains(columns, by.Field):
			orders = append(orders, by.Field+way)
		default:
			key, _ := ListKey(d, by.Field, dialect)
			orders = append(orders, key+way+" NULLS LAST")
		}
	}
	last := "id ASC"
	if n := len(q.Sort); n > 0 && q.Sort[n-1].Reverse {
		last = "id DESC" // so that an index is gone through backwards
	}
	return strings.Join(terms, " AND "), args, strings.Join(append(orders, last), ", ")
}

// ListKey is what lists are sorted by, of a field, as an index has it. Ranges says whether it orders as the values of the
// field do: dates, which are texts of one form.
func ListKey(d definition.Definition, name string, dialect Dialect) (expression string, ranges bool) {
	at := column(d, name, dialect)
	if isNumber(d, name) {
		return dialect.Number(at, name), true
	}
	field, _ := d.Field(name)
	format := field.Shape().Format
	return dialect.Short("lower(" + dialect.Text(at, name) + ")"), format == "date" || format == "date-time"
}

// LabelKey is what records are called, as an index has it; it is not known for a label that says nothing.
func LabelKey(d definition.Definition, dialect Dialect) (expression string, known bool) {
	text, known := labelSQL(d, dialect)
	return dialect.Short(text), known
}

// Backwards says whether a list is sorted by one field, from its last value to the first, and by what. The records that have no value
// come last all the same.
func (q Query) Backwards(d definition.Definition, dialect Dialect) (key string, is bool) {
	if len(q.Sort) != 1 || !q.Sort[0].Reverse || !slices.Contains(d.Lists, q.Sort[0].Field) {
		return "", false
	}
	key, _ = ListKey(d, q.Sort[0].Field, dialect)
	return key, true
}

// Ranging is what an index orders by that a condition looks into for a range; empty where there is none. Who counts what
// lies in the range goes through it in this order.
func (q Query) Ranging(d definition.Definition, dialect Dialect) string {
	for _, c := range q.Where {
		if key, ranges := ListKey(d, c.Field, dialect); ranges && c.Value != "" && slices.Contains(d.Lists, c.Field) &&
			slices.Contains([]Op{Less, LessOrEqual, Greater, GreaterOrEqual}, c.Op) {
			return key
		}
	}
	return ""
}

// labelSQL is what a record is called, as an expression.
func labelSQL(d definition.Definition, dialect Dialect) (expression string, known bool) {
	texts, fields, err := d.LabelParts()
	if err != nil {
		return "", false
	}
	var parts []string
	for n, text := range texts {
		if text != "" {
			parts = append(parts, "'"+strings.ReplaceAll(text, "'", "''")+"'")
		}
		if n < len(fields) {
			parts = append(parts, "coalesce("+dialect.Text(column(d, fields[n], dialect), fields[n])+",'')")
		}
	}
	return "lower(trim(" + strings.Join(parts, "||") + "))", true
}

// comparable says why a value cannot be what a field is compared with: it would find nothing, or everything.
func comparable(d definition.Definition, name string, op Op, value string) error {
	field, _ := d.Field(name)
	shape := field.Shape()
	if op == Contains || value == "" {
		return nil
	}
	equality := op == Equal || op == NotEqual
	switch choices := shape.Choices(); {
	case equality && len(choices) > 0 && !slices.Contains(choices, value):
		return fmt.Errorf("%s is one of %s, and not %.40q%s", name, strings.Join(choices, ", "), value, definition.Nearest(value, choices))
	case shape.Type == "boolean" && value != "true" && value != "false":
		return fmt.Errorf("%s is true or false, and not %.40q", name, value)
	case (shape.Format == "date" || shape.Format == "date-time") && !startOfTime.MatchString(value):
		return fmt.Errorf("%s is a date, such as 2025-06-01, and not %.40q", name, value)
	case equality && field.Reference != "" && !anID.MatchString(value):
		return fmt.Errorf("%s holds the ids of records of %s, and %.40q is none", name, field.Reference, value)
	}
	return nil
}

var (
	// startOfTime is the beginning of a date or a time: 2025, 2025-06, 2025-06-01T10.
	startOfTime = regexp.MustCompile(`^[0-9]{1,4}(-[0-9]{0,2}){0,2}(T[0-9:.]*(Z|[+-][0-9:]*)?)?$`)
	anID        = regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)
)

// column is where the value of a field stands.
func column(d definition.Definition, name string, dialect Dialect) string {
	field, _ := d.Field(name)
	switch {
	case field.Computed != "":
		return "computed"
	case field.Local && dialect.Local != "":
		return dialect.Local
	}
	return "fields"
}

func isNumber(d definition.Definition, field string) bool {
	f, known := d.Field(field)
	if !known {
		return false
	}
	return f.Shape().IsNumber()
}

// isNumeral says whether a text is a number as a record can have it.
func isNumeral(text string) bool {
	if strings.TrimLeft(text[:min(1, len(text))], "-0123456789") != "" {
		return false // null, a text, an object
	}
	_, err := record.Canonical([]byte(text))
	return err == nil && text != ""
}

// pattern is a LIKE pattern for texts that contain the given one.
func pattern(text string) string {
	escaped := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(strings.ToLower(text))
	return "%" + escaped + "%"
}
