package postgres

import (
	"context"
	"fmt"
	"strings"

	"homing/central/fault"
	"homing/core/definition"
)

// ViewSchema is the schema of the read-only views, one for each collection, that any SQL tool can open.
const ViewSchema = "data"

// makeView gives a collection's records typed columns: one for each field, and homing_id, homing_revision and so on.
// A value that does not fit its column, since an older definition let it in, is null there. Names of collections and
// fields hold only small letters, digits and underscores.
func (t *Tx) makeView(ctx context.Context, d definition.Definition) error {
	columns := []string{"id AS homing_id"}
	for _, field := range d.Fields {
		if field.Local {
			continue // central never sees it
		}
		columns = append(columns, fmt.Sprintf("%s AS %q", viewColumn(field), field.Name))
	}
	columns = append(columns, "revision AS homing_revision", "edited_at AS homing_edited_at",
		"received_at AS homing_received_at", "author AS homing_author", "device AS homing_device")
	_, err := t.ExecContext(ctx, fmt.Sprintf(`CREATE SCHEMA IF NOT EXISTS %[1]s; DROP VIEW IF EXISTS %[1]s.%[2]q;
		CREATE VIEW %[1]s.%[2]q AS SELECT %[3]s
			FROM public.records WHERE collection = '%[2]s'
			AND NOT removed`, ViewSchema, d.Collection, strings.Join(columns, ", ")))
	if fault.State(err) == "2BP01" {
		return fault.Fail(fault.Clash, "something else in the database is built upon the view %s.%s; drop it first",
			ViewSchema, d.Collection)
	}
	return err
}

func viewColumn(field definition.Field) string {
	shape := field.Shape()
	from := "fields"
	if field.Computed != "" {
		from = "computed"
	}
	value, text := fmt.Sprintf("(%s->'%s')", from, field.Name), fmt.Sprintf("(%s->>'%s')", from, field.Name)
	switch {
	case shape.IsNumber():
		return fmt.Sprintf("CASE WHEN json_typeof(%s) = 'number' THEN %s::numeric END", value, text)
	case shape.Type == "boolean":
		return fmt.Sprintf("CASE WHEN json_typeof(%s) = 'boolean' THEN %s::boolean END", value, text)
	case shape.Type == "string" && shape.Format == "date":
		return fmt.Sprintf(`CASE WHEN %s ~ '^\d{4}-\d\d-\d\d$' THEN %[1]s::date END`, text)
	case shape.Type == "string" && shape.Format == "date-time":
		return fmt.Sprintf(`CASE WHEN %s ~ '^\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d' THEN %[1]s::timestamptz END`, text)
	case shape.Type == "string" && shape.Format == "uuid":
		return fmt.Sprintf(`CASE WHEN %s ~* '^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$' THEN %[1]s::uuid END`, text)
	case shape.Type == "string" || shape.Type == nil && len(shape.Enum) > 0:
		return text
	}
	return value
}
