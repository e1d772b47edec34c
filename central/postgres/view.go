package postgres

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"homing/central/fault"
	"homing/core/definition"
)

// ViewSchema is the schema of the read-only views, one for each collection, that any SQL tool can open.
const ViewSchema = "data"

// viewed is a column of a view.
type viewed struct {
	Name    string `db:"name"`
	Type    string `db:"type"` // as PostgreSQL calls it
	value   string // the expression that gives it
	comment string
}

// makeView gives a collection's records typed columns: one for each field, and homing_id, homing_revision and so on.
// A value that does not fit its column, since an older definition let it in, is null there. Names of collections and
// fields hold only small letters, digits and underscores.
//
// A view that is there is changed in place where that can be, so that who was granted it keeps it, and what is built upon
// it stands. A field that has gone then leaves an empty column, if something is built upon the view.
func (t *Tx) makeView(ctx context.Context, d definition.Definition) error {
	if _, err := t.ExecContext(ctx, `CREATE SCHEMA IF NOT EXISTS `+ViewSchema); err != nil {
		return err
	}
	want := columnsOf(d)
	view := fmt.Sprintf("%s.%q", ViewSchema, d.Collection)
	var old []viewed
	if err := t.SelectContext(ctx, &old, `SELECT a.attname AS name, format_type(a.atttypid, a.atttypmod) AS type FROM pg_attribute a
		WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, view); err != nil {
		return err
	}
	upon, err := t.builtUpon(ctx, view)
	if err != nil {
		return err
	}
	columns, inPlace := arrange(old, want, len(upon) > 0)
	if !inPlace && len(upon) > 0 {
		return fault.Fail(fault.Clash, "a column of the view %s would become another, and %s in the database is built upon it; drop that first, and make "+
			"it anew afterwards", view, strings.Join(upon, ", "))
	}
	var granted []string
	if !inPlace {
		columns = want
		if granted, err = t.grants(ctx, view); err != nil {
			return err
		}
		if _, err := t.ExecContext(ctx, `DROP VIEW IF EXISTS `+view); err != nil {
			return err
		}
	}
	var selected []string
	for _, c := range columns {
		selected = append(selected, fmt.Sprintf("%s AS %q", c.value, c.Name))
	}
	if _, err := t.ExecContext(ctx, fmt.Sprintf(`CREATE OR REPLACE VIEW %s AS SELECT %s FROM public.records WHERE collection = '%s' AND NOT removed`,
		view, strings.Join(selected, ", "), d.Collection)); err != nil {
		return err
	}
	comments := []string{fmt.Sprintf("COMMENT ON VIEW %s IS %s", view, literal(strings.TrimSpace(d.Title+". "+d.Description)))}
	for _, c := range columns {
		if c.comment != "" {
			comments = append(comments, fmt.Sprintf("COMMENT ON COLUMN %s.%q IS %s", view, c.Name, literal(c.comment)))
		}
	}
	_, err = t.ExecContext(ctx, strings.Join(append(comments, granted...), ";\n"))
	return err
}

// arrange gives the columns of a view in the order of the one that is there, with new ones behind; in place says whether
// PostgreSQL takes that for the same view. Keep says that a column which is no longer wanted stays, empty.
func arrange(old, want []viewed, keep bool) (columns []viewed, inPlace bool) {
	if len(old) == 0 {
		return want, true
	}
	left := slices.Clone(want)
	for _, was := range old {
		at := slices.IndexFunc(left, func(c viewed) bool { return c.Name == was.Name })
		switch {
		case at >= 0 && left[at].Type == was.Type:
			columns, left = append(columns, left[at]), slices.Delete(left, at, at+1)
		case at < 0 && keep:
			columns = append(columns, viewed{was.Name, was.Type, "NULL::" + was.Type, "The field is no longer part of the definition."})
		default:
			return nil, false
		}
	}
	return append(columns, left...), true
}

// builtUpon are the views that are built upon a view.
func (t *Tx) builtUpon(ctx context.Context, view string) (names []string, err error) {
	err = t.SelectContext(ctx, &names, `SELECT DISTINCT r.ev_class::regclass::text FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid
		WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass AND d.refobjid = to_regclass($1) AND r.ev_class <> to_regclass($1)
		ORDER BY 1`, view)
	return names, err
}

// grants are the statements that give a view again to whoever may read it.
func (t *Tx) grants(ctx context.Context, view string) (statements []string, err error) {
	var readers []string
	err = t.SelectContext(ctx, &readers, `SELECT DISTINCT CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(a.grantee)) END
		FROM pg_class c, aclexplode(c.relacl) a WHERE c.oid = to_regclass($1) AND a.privilege_type = 'SELECT' AND a.grantee <> c.relowner`, view)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	for _, reader := range readers {
		statements = append(statements, "GRANT SELECT ON "+view+" TO "+reader)
	}
	return statements, err
}

// literal is a text within SQL.
func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

func columnsOf(d definition.Definition) []viewed {
	columns := []viewed{{"homing_id", "uuid", "id", "The record's id."}}
	for _, field := range d.Fields {
		if field.Local {
			continue // central never sees it
		}
		columns = append(columns, viewColumn(field))
		if field.Shape().Ref != definition.PointURL {
			continue
		}
		for n, axis := range []string{"lon", "lat"} { // as GeoJSON has them
			name := field.Name + "_" + axis
			if _, taken := d.Field(name); !taken {
				columns = append(columns, viewed{name, "double precision", coordinate(field, n), field.Title + ": " +
					[]string{"longitude", "latitude"}[n] + ", in degrees"})
			}
		}
	}
	return append(columns, viewed{"homing_label", "text", labelOf(d), "What the record is called in lists."}, viewed{"homing_revision", "bigint", "revision", "The record's revision."},
		viewed{"homing_edited_at", "timestamp with time zone", "edited_at", "When it was last edited, in central's time."},
		viewed{"homing_received_at", "timestamp with time zone", "received_at", "When central received that edit."},
		viewed{"homing_author", "text", "author", "Who edited it last."}, viewed{"homing_device", "text", "device", "On which device; empty at central."})
}

// labelOf is [definition.Collection.LabelOf], as an expression that is null where that is empty.
func labelOf(d definition.Definition) string {
	texts, fields, err := d.LabelParts()
	if err != nil || len(fields) == 0 {
		return "NULL::text"
	}
	var parts, filled []string
	for n, text := range texts {
		parts = append(parts, literal(text))
		if n < len(fields) {
			field, _ := d.Field(fields[n])
			value := fmt.Sprintf("%s->>'%s'", valuesOf(field), field.Name)
			parts, filled = append(parts, "coalesce("+value+", '')"), append(filled, value)
		}
	}
	return fmt.Sprintf("CASE WHEN coalesce(%s) IS NOT NULL THEN trim(%s) END", strings.Join(filled, ", "), strings.Join(parts, " || "))
}

// valuesOf is the column of public.records in which a field's values stand.
func valuesOf(field definition.Field) string {
	if field.Computed != "" {
		return "computed"
	}
	return "fields"
}

func coordinate(field definition.Field, n int) string {
	return fmt.Sprintf("CASE WHEN json_typeof(fields->'%s'->'coordinates'->%d) = 'number' THEN (fields->'%[1]s'->'coordinates'->>%[2]d)::double precision END",
		field.Name, n)
}

func viewColumn(field definition.Field) viewed {
	shape := field.Shape()
	from := valuesOf(field)
	value, text := fmt.Sprintf("(%s->'%s')", from, field.Name), fmt.Sprintf("(%s->>'%s')", from, field.Name)
	column := func(kind, expression string) viewed {
		return viewed{field.Name, kind, expression, aboutField(field)}
	}
	switch {
	case shape.Type == "integer":
		return column("bigint", fmt.Sprintf(`CASE WHEN json_typeof(%s) = 'number' AND %s ~ '^-?\d{1,18}$' THEN %[2]s::bigint END`, value, text))
	case shape.IsNumber():
		return column("numeric", fmt.Sprintf("CASE WHEN json_typeof(%s) = 'number' THEN %s::numeric END", value, text))
	case shape.Type == "boolean":
		return column("boolean", fmt.Sprintf("CASE WHEN json_typeof(%s) = 'boolean' THEN %s::boolean END", value, text))
	case shape.Type == "string" && shape.Format == "date":
		return column("date", fmt.Sprintf(`CASE WHEN %s ~ '^\d{4}-\d\d-\d\d$' THEN %[1]s::date END`, text))
	case shape.Type == "string" && shape.Format == "date-time":
		return column("timestamp with time zone", fmt.Sprintf(`CASE WHEN %s ~ '^\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d' THEN %[1]s::timestamptz END`, text))
	case shape.Type == "string" && shape.Format == "uuid":
		return column("uuid", fmt.Sprintf(`CASE WHEN %s ~* '^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$' THEN %[1]s::uuid END`, text))
	case shape.Type == "string" || shape.Type == nil && len(shape.Enum) > 0:
		return column("text", text)
	}
	return column("json", value)
}

// aboutField is what an analyst reads of a column.
func aboutField(field definition.Field) string {
	about := []string{field.Title}
	shape := field.Shape()
	if shape.Unit != "" {
		about[0] += ", in " + shape.Unit
	}
	if shape.Description != "" {
		about = append(about, shape.Description)
	}
	if field.Reference != "" {
		about = append(about, "Refers to "+ViewSchema+"."+field.Reference+" by its homing_id; homing_label there is what it is called.")
	}
	if _, why := field.Settable(); why != "" {
		about = append(about, "It "+why+".")
	}
	return strings.Join(about, ". ")
}
