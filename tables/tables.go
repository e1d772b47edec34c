// Package tables reads the tables of an existing PostgreSQL database: what they consist of becomes definitions, and
// their rows come one after the other. It only reads, in one transaction, so that all tables are seen as of the same
// moment.
package tables

import (
	"context"
	"crypto/sha1"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/core/propose"
	"homing/sheet"
)

// Source is an open database.
type Source struct {
	db *sqlx.DB
	tx *sqlx.Tx
}

// Open connects to a database by its URL. The password may stand in PGPASSWORD or in the file that PostgreSQL's own
// tools use.
func Open(ctx context.Context, url string) (*Source, error) {
	config, err := pgx.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the address of the database cannot be read; it reads "+
			"postgres://USER@HOST:PORT/DATABASE: %w", err)
	}
	config.RuntimeParams["application_name"] = "homing import"
	config.RuntimeParams["timezone"] = "UTC"
	db := sqlx.NewDb(stdlib.OpenDB(*config), "pgx")
	tx, err := db.BeginTxx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("the database cannot be reached: %w", err)
	}
	return &Source{db, tx}, nil
}

// Close leaves the database.
func (s *Source) Close() error { return errors.Join(s.tx.Rollback(), s.db.Close()) }

// Table is one table and what becomes of it.
type Table struct {
	Schema, Name string
	Definition   definition.Definition
	Rows         int
	// Notes say what could not be carried over, for people.
	Notes   []string
	columns []column
	primary []string          // columns of the primary key
	targets map[string]string // the table that a column refers to, with its schema
}

func (t Table) qualified() string { return pgx.Identifier{t.Schema, t.Name}.Sanitize() }
func (t Table) full() string      { return t.Schema + "." + t.Name }

// column is a column as the catalog has it.
type column struct {
	Name    string         `db:"name"`
	Type    string         `db:"type"` // as format_type writes it
	Kind    string         `db:"kind"` // typtype: e for an enum
	TypeID  int64          `db:"type_id"`
	NotNull bool           `db:"not_null"`
	Comment sql.NullString `db:"comment"`
	field   string
}

// Describe finds out what tables consist of and makes a definition of each. Names are TABLE or SCHEMA.TABLE; none
// means all tables of the schema public. Tables come in an order in which each stands behind those that it refers to,
// as far as there is one.
func (s *Source) Describe(ctx context.Context, names []string) ([]*Table, error) {
	if len(names) == 0 {
		if err := s.tx.SelectContext(ctx, &names, `SELECT c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
			WHERE n.nspname = 'public' AND c.relkind IN ('r', 'p') AND NOT c.relispartition ORDER BY c.relname`); err != nil {
			return nil, err
		}
		if len(names) == 0 {
			return nil, errors.New("the schema public holds no tables; name some with --table SCHEMA.TABLE")
		}
	}
	byName := map[string]*Table{}
	var all []*Table
	for _, name := range names {
		t, err := s.table(ctx, name)
		if err != nil {
			return nil, err
		}
		for _, other := range all {
			if other.Definition.Collection == t.Definition.Collection {
				return nil, fmt.Errorf("the tables %s and %s would both become the collection %s; import them one at a time, "+
					"with --collection", other.full(), t.full(), t.Definition.Collection)
			}
		}
		byName[t.full()] = t
		all = append(all, t)
	}
	for _, t := range all {
		if err := s.relations(ctx, t, byName); err != nil {
			return nil, err
		}
		if err := s.checks(ctx, t); err != nil {
			return nil, err
		}
		t.relabel()
		if _, err := t.Definition.Compile(); err != nil {
			return nil, fmt.Errorf("the table %s: %w", t.full(), err)
		}
	}
	return inOrder(all, byName), nil
}

func (s *Source) table(ctx context.Context, name string) (*Table, error) {
	t := &Table{Schema: "public", Name: name, targets: map[string]string{}}
	if schema, rest, both := strings.Cut(name, "."); both {
		t.Schema, t.Name = schema, rest
	}
	var id int64
	var comment sql.NullString
	err := s.tx.QueryRowxContext(ctx, `SELECT c.oid::bigint, obj_description(c.oid, 'pg_class') FROM pg_class c
		JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $1 AND c.relname = $2
			AND c.relkind IN ('r', 'p', 'v', 'm', 'f')`, t.Schema, t.Name).Scan(&id, &comment)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("there is no table %s", t.full())
	}
	if err != nil {
		return nil, err
	}
	if err := s.tx.SelectContext(ctx, &t.columns, `
		SELECT a.attname AS name, format_type(a.atttypid, a.atttypmod) AS type, y.typtype AS kind,
			y.oid::bigint AS type_id, a.attnotnull AS not_null,
			col_description(a.attrelid, a.attnum) AS comment
		FROM pg_attribute a JOIN pg_type y ON y.oid = a.atttypid
			WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, id); err != nil {
		return nil, err
	}
	if err := s.tx.SelectContext(ctx, &t.primary, `SELECT a.attname FROM pg_constraint k
		JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = ANY(k.conkey)
		WHERE k.conrelid = $1 AND k.contype = 'p' ORDER BY array_position(k.conkey, a.attnum)`, id); err != nil {
		return nil, err
	}
	if err := s.tx.QueryRowxContext(ctx, `SELECT count(*) FROM `+t.qualified()).Scan(&t.Rows); err != nil {
		return nil, fmt.Errorf("the table %s cannot be read: %w", t.full(), err)
	}
	t.Definition = definition.Definition{Collection: propose.FieldName(t.Name), Version: 1, Title: propose.Title(t.Name),
		Description: comment.String}
	t.Definition.Sync.Removal = "edit-stays"
	return t, s.fields(ctx, t)
}

func (s *Source) fields(ctx context.Context, t *Table) error {
	for n, c := range t.columns {
		field := propose.FieldName(c.Name)
		if strings.HasPrefix(field, "homing_") {
			field = "f_" + field
		}
		if _, taken := t.Definition.Field(field); taken {
			return fmt.Errorf("two columns of %s would both become the field %s; rename one", t.full(), field)
		}
		t.columns[n].field = field
		schema, err := s.schema(ctx, c)
		if err != nil {
			return err
		}
		if c.Comment.Valid {
			schema["description"] = c.Comment.String
		}
		text, err := json.Marshal(schema)
		if err != nil {
			return err
		}
		t.Definition.Fields = append(t.Definition.Fields, definition.Field{Name: field, Title: propose.Title(c.Name),
			Required: c.NotNull, Schema: text})
	}
	if len(t.Definition.Fields) == 0 {
		return fmt.Errorf("the table %s has no columns", t.full())
	}
	if len(t.primary) == 1 {
		t.Definition.Key = t.fieldOf(t.primary[0])
	}
	t.Definition.Label = "{" + t.label() + "}"
	for _, c := range t.columns {
		if err := s.noteNoNumbers(ctx, t, c); err != nil {
			return err
		}
	}
	if len(t.primary) == 0 {
		t.Notes = append(t.Notes, "it has no primary key, so importing it again adds its rows again")
	}
	return nil
}

// noteNoNumbers says how many values of a column are no numbers that JSON has: they are left out.
func (s *Source) noteNoNumbers(ctx context.Context, t *Table, c column) error {
	base, _, _ := strings.Cut(c.Type, "(")
	if base = strings.TrimSpace(base); base != "numeric" && base != "real" && base != "double precision" {
		return nil
	}
	var count int
	if err := s.tx.GetContext(ctx, &count, fmt.Sprintf(`SELECT count(*) FROM %s WHERE %s::text IN ('NaN', 'Infinity', '-Infinity')`, t.qualified(),
		pgx.Identifier{c.Name}.Sanitize())); err != nil {
		return err
	}
	if count > 0 {
		t.Notes = append(t.Notes, fmt.Sprintf("%s is NaN or infinite in %d of its rows; records cannot hold that, and have no value there", c.Name, count))
	}
	return nil
}

func (t *Table) fieldOf(name string) string {
	for _, c := range t.columns {
		if c.Name == name {
			return c.field
		}
	}
	return ""
}

// label is the column that people would call a row by.
func (t *Table) label() string {
	for _, like := range []func(string) bool{
		func(n string) bool { return n == "name" || n == "title" || n == "label" },
		func(n string) bool { return strings.HasSuffix(n, "_name") || strings.HasSuffix(n, "_title") },
	} {
		for _, c := range t.columns {
			if like(c.field) {
				return c.field
			}
		}
	}
	if t.Definition.Key != "" {
		return t.Definition.Key
	}
	return t.columns[0].field
}

// relabel takes another field for the label when the one that was taken has become a reference, which nobody can read.
func (t *Table) relabel() {
	if field, _ := t.Definition.Field(strings.Trim(t.Definition.Label, "{}")); field.Reference == "" {
		return
	}
	for _, field := range t.Definition.Fields {
		if field.Reference == "" {
			t.Definition.Label = "{" + field.Name + "}"
			return
		}
	}
}

// schema is the JSON Schema of a column's values.
func (s *Source) schema(ctx context.Context, c column) (map[string]any, error) {
	schema := map[string]any{}
	base, size, _ := strings.Cut(c.Type, "(")
	switch base = strings.TrimSpace(base); {
	case c.Kind == "e":
		var labels []string
		if err := s.tx.SelectContext(ctx, &labels, `SELECT enumlabel FROM pg_enum
				WHERE enumtypid = $1 ORDER BY enumsortorder`, c.TypeID); err != nil {
			return nil, err
		}
		schema["enum"] = labels
	case strings.HasSuffix(c.Type, "[]"):
		schema["type"] = "array"
	case base == "smallint" || base == "integer" || base == "bigint":
		schema["type"] = "integer"
	case base == "numeric" || base == "real" || base == "double precision":
		schema["type"] = "number"
	case base == "boolean":
		schema["type"] = "boolean"
	case base == "date":
		schema["type"], schema["format"] = "string", "date"
	case strings.HasPrefix(c.Type, "timestamp"):
		schema["type"], schema["format"] = "string", "date-time"
	case base == "uuid":
		schema["type"], schema["format"] = "string", "uuid"
	case base == "json" || base == "jsonb":
	case base == "point":
		schema["$ref"] = definition.PointURL
	default:
		schema["type"] = "string"
		if most, err := strconv.Atoi(strings.TrimSuffix(size, ")")); err == nil && base == "character varying" {
			schema["maxLength"] = most
		}
	}
	return schema, nil
}

// expression reads a column as JSON of its schema.
func (c column) expression() string {
	name := pgx.Identifier{c.Name}.Sanitize()
	base, _, _ := strings.Cut(c.Type, "(")
	switch base = strings.TrimSpace(base); {
	case c.Type == "timestamp without time zone" || strings.HasPrefix(c.Type, "timestamp(") &&
		strings.Contains(c.Type, "without"):
		name = "(" + name + " AT TIME ZONE 'UTC')" // what a moment without a zone means is not known; UTC, at least, is said
	case base == "point":
		return fmt.Sprintf(`CASE WHEN %[1]s IS NOT NULL THEN jsonb_build_object('type', 'Point', 'coordinates',
			jsonb_build_array(%[1]s[0], %[1]s[1])) END`, name)
	case base == "numeric" || base == "real" || base == "double precision":
		// JSON has no such numbers.
		return fmt.Sprintf(`to_jsonb(CASE WHEN %[1]s::text NOT IN ('NaN', 'Infinity', '-Infinity') THEN %[1]s END)`, name)
	}
	return "to_jsonb(" + name + ")"
}

// relations carries over the foreign keys: a column that refers to the primary key of a table which is imported as
// well becomes a reference, and the first that must be there and whose rows go with the other's becomes the parent.
func (s *Source) relations(ctx context.Context, t *Table, byName map[string]*Table) error {
	var rows []struct {
		Name    string `db:"name"`
		Columns string `db:"columns"`
		Schema  string `db:"schema"`
		Table   string `db:"target"`
		Target  string `db:"target_columns"`
		Delete  string `db:"on_delete"`
	}
	err := s.tx.SelectContext(ctx, &rows, `
		SELECT k.conname AS name, n.nspname AS schema, f.relname AS target, k.confdeltype AS on_delete,
			(SELECT to_json(array_agg(a.attname ORDER BY array_position(k.conkey, a.attnum)))::text
				FROM pg_attribute a WHERE a.attrelid = k.conrelid AND a.attnum = ANY(k.conkey)) AS columns,
			(SELECT to_json(array_agg(a.attname ORDER BY array_position(k.confkey, a.attnum)))::text
				FROM pg_attribute a WHERE a.attrelid = k.confrelid AND a.attnum = ANY(k.confkey)) AS target_columns
		FROM pg_constraint k JOIN pg_class f ON f.oid = k.confrelid JOIN pg_namespace n ON n.oid = f.relnamespace
		WHERE k.contype = 'f' AND k.conrelid = $1::regclass ORDER BY k.conname`, t.qualified())
	if err != nil {
		return err
	}
	for _, r := range rows {
		var columns, target []string
		if err := errors.Join(json.Unmarshal([]byte(r.Columns), &columns),
			json.Unmarshal([]byte(r.Target), &target)); err != nil {
			return err
		}
		other := byName[r.Schema+"."+r.Table]
		switch {
		case other == nil:
			t.Notes = append(t.Notes, fmt.Sprintf("%s refers to the table %s, which is not imported; it stays a plain value",
				strings.Join(columns, ", "), r.Table))
			continue
		case len(columns) != 1 || !slices.Equal(target, other.primary):
			t.Notes = append(t.Notes, fmt.Sprintf("%s refers to %s by %s; only references by one column to a primary key "+
				"are carried over", strings.Join(columns, ", "), r.Table, strings.Join(target, ", ")))
			continue
		}
		n := slices.IndexFunc(t.columns, func(c column) bool { return c.Name == columns[0] })
		field := &t.Definition.Fields[n]
		schema := map[string]any{"type": "string", "format": "uuid", "reference": other.Definition.Collection}
		if field.Schema, err = json.Marshal(schema); err != nil {
			return err
		}
		field.Reference = other.Definition.Collection
		t.targets[columns[0]] = other.full()
		if t.Definition.Key == field.Name {
			t.Definition.Key = "" // the record's id says it already
		}
		const cascade = "c"
		if r.Delete == cascade && field.Required && t.Definition.Parent == nil && other != t {
			t.Definition.Parent = &definition.Parent{Collection: other.Definition.Collection, Field: field.Name,
				Removal: definition.RemoveChildren}
		}
	}
	return nil
}

// checks carries over those check constraints that JSON Schema can say.
func (s *Source) checks(ctx context.Context, t *Table) error {
	var texts []string
	if err := s.tx.SelectContext(ctx, &texts, `SELECT pg_get_constraintdef(oid)
			FROM pg_constraint WHERE contype = 'c' AND conrelid = $1::regclass ORDER BY conname`, t.qualified()); err != nil {
		return err
	}
	for _, text := range texts {
		bounds, understood := parseCheck(text)
		if !understood {
			t.Notes = append(t.Notes, "not carried over: "+text)
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(bounds)) {
			n := slices.IndexFunc(t.columns, func(c column) bool { return c.Name == name })
			if n < 0 || t.Definition.Fields[n].Reference != "" {
				continue
			}
			field := &t.Definition.Fields[n]
			var schema map[string]any
			if err := json.Unmarshal(field.Schema, &schema); err != nil {
				return err
			}
			maps.Copy(schema, bounds[name])
			if schema["enum"] != nil {
				delete(schema, "type")
				delete(schema, "maxLength")
			}
			text, err := json.Marshal(schema)
			if err != nil {
				return err
			}
			field.Schema = text
		}
	}
	return nil
}

// inOrder puts each table behind those that it refers to. In a circle, the one that comes first by name does.
func inOrder(all []*Table, byName map[string]*Table) []*Table {
	slices.SortFunc(all, func(a, b *Table) int { return strings.Compare(a.full(), b.full()) })
	var order []*Table
	state := map[*Table]int{} // 1 while it is being looked at, 2 when it stands
	var visit func(*Table)
	visit = func(t *Table) {
		if state[t] != 0 {
			return
		}
		state[t] = 1
		if t.Definition.Parent != nil { // the parent matters most: without it a child is not taken
			for _, column := range slices.Sorted(maps.Keys(t.targets)) {
				if t.fieldOf(column) == t.Definition.Parent.Field {
					visit(byName[t.targets[column]])
				}
			}
		}
		for _, column := range slices.Sorted(maps.Keys(t.targets)) {
			visit(byName[t.targets[column]])
		}
		state[t] = 2
		order = append(order, t)
	}
	for _, t := range all {
		visit(t)
	}
	return order
}

// space is the namespace of the ids that rows get (RFC 9562, version 5), so that importing a table again finds the
// same records.
var space = uuid.MustParse("5f0c1d7a-1f4b-5c36-9a51-0c6a2b9e77d4")

// idOf is the id of the record that a row becomes, by its table and its primary key.
func idOf(table string, key ...string) uuid.UUID {
	text, err := json.Marshal(append([]string{table}, key...))
	if err != nil {
		panic(err) // texts always marshal
	}
	return uuid.NewHash(sha1.New(), space, text, 5)
}

// Read gives the rows of a table, with the ids that they get in the column [sheet.IDColumn].
func (s *Source) Read(ctx context.Context, t *Table) (sheet.Reader, error) {
	r := &reader{source: s, table: t, ctx: ctx}
	var expressions []string
	for _, c := range t.columns {
		expressions = append(expressions, c.expression())
	}
	order := "1"
	if len(t.primary) > 0 {
		order = ""
		for _, name := range t.primary {
			order += ", " + pgx.Identifier{name}.Sanitize()
		}
		order = order[2:]
	}
	// A cursor hands the rows out in parts, so that a table of any size takes the same memory.
	_, err := s.tx.ExecContext(ctx, fmt.Sprintf(`DECLARE %s NO SCROLL CURSOR FOR SELECT %s FROM %s ORDER BY %s`,
		cursorName, strings.Join(expressions, ", "), t.qualified(), order))
	return r, err
}

const cursorName = "homing_rows"

// reader goes through the rows of one table.
type reader struct {
	source *Source
	table  *Table
	ctx    context.Context // of the whole reading: the interface has none
	part   [][]json.RawMessage
	number int
	done   bool
}

func (r *reader) Headers() []string {
	var names []string
	if len(r.table.primary) > 0 {
		names = append(names, sheet.IDColumn)
	}
	for _, c := range r.table.columns {
		names = append(names, c.field)
	}
	return names
}

// Notes is [sheet.Reader.Notes].
func (r *reader) Notes() []string { return nil }

func (r *reader) Close() error {
	_, err := r.source.tx.ExecContext(r.ctx, `CLOSE `+cursorName)
	return err
}

func (r *reader) fetch() error {
	const atOnce = 1000
	// What it gives differs from table to table, so it is not prepared.
	rows, err := r.source.tx.QueryxContext(r.ctx, fmt.Sprintf(`FETCH %d FROM %s`, atOnce, cursorName), pgx.QueryExecModeExec)
	if err != nil {
		return fmt.Errorf("the table %s: %w", r.table.full(), err)
	}
	defer rows.Close()
	r.part = r.part[:0]
	for rows.Next() {
		values, err := rows.SliceScan()
		if err != nil {
			return err
		}
		row := make([]json.RawMessage, len(values))
		for n, value := range values {
			switch v := value.(type) {
			case nil:
			case []byte:
				row[n] = json.RawMessage(slices.Clone(v))
			case string:
				row[n] = json.RawMessage(v)
			default:
				return fmt.Errorf("the table %s: the column %s comes as %T", r.table.full(), r.table.columns[n].Name, value)
			}
		}
		r.part = append(r.part, row)
	}
	r.done = len(r.part) < atOnce
	return rows.Err()
}

func (r *reader) Next() (sheet.Row, error) {
	if len(r.part) == 0 {
		if r.done {
			return sheet.Row{}, io.EOF
		}
		if err := r.fetch(); err != nil {
			return sheet.Row{}, err
		}
		if len(r.part) == 0 {
			return sheet.Row{}, io.EOF
		}
	}
	values := r.part[0]
	r.part = r.part[1:]
	r.number++
	row := sheet.Row{Number: r.number, Cells: map[string]propose.Value{}}
	keys := make([]string, len(r.table.primary))
	for n, c := range r.table.columns {
		if k := slices.Index(r.table.primary, c.Name); k >= 0 {
			keys[k] = definition.Plain(values[n])
		}
		if target := r.table.targets[c.Name]; target != "" && values[n] != nil {
			row.Cells[c.field] = idValue(idOf(target, definition.Plain(values[n])))
			continue
		}
		row.Cells[c.field] = propose.Value{JSON: values[n]}
	}
	if len(keys) > 0 {
		row.Cells[sheet.IDColumn] = idValue(idOf(r.table.full(), keys...))
	}
	return row, nil
}

func idValue(id uuid.UUID) propose.Value {
	return propose.Value{JSON: json.RawMessage(`"` + id.String() + `"`)}
}
