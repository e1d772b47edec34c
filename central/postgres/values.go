package postgres

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strings"

	"homing/core/definition"
	"homing/core/query"
)

// byValue gives the records of a collection in which a field has one of the texts of an argument, as r, with the text
// as k.value. Each text is looked up on its own, through the partial index: for a condition on all of them at once
// PostgreSQL, which knows nothing of what stands in the JSON of a table that is being filled, would read the whole
// collection. Names hold only small letters, digits and underscores.
func byValue(field, collection, argument, columns string) string {
	return byText(textOfAll([]string{field}), collection, argument, columns)
}

// byText is byValue for an expression that has an index.
func byText(expression, collection, argument, columns string) string {
	return fmt.Sprintf(`unnest(%[3]s::text[]) AS k (value) CROSS JOIN LATERAL (
		SELECT %[4]s FROM records WHERE %[2]s AND %[1]s = k.value OFFSET 0) r`, expression, PartOf(collection), argument, columns)
}

// textOfAll is the texts of some fields as one, with what stands between them.
func textOfAll(fields []string) string {
	parts := make([]string, len(fields))
	for n, field := range fields {
		parts[n] = fmt.Sprintf("(fields->>'%s')", field)
	}
	return "(" + strings.Join(parts, " || '"+definition.OneBetween+"' || ") + ")"
}

// PartOf is the condition of the partial indexes on the fields of a collection. The collection stands in an
// expression, so that no other index fits it: PostgreSQL would take the primary key's for a collection that has few
// records by its statistics, which lag behind.
func PartOf(collection string) string {
	return fmt.Sprintf(`(collection || '') = '%s' AND NOT removed`, collection)
}

// indexKey makes the records of a collection quick to find by the definition's key.
func (t *Tx) indexKey(ctx context.Context, d definition.Definition) error {
	if d.Coverage != nil {
		if err := t.indexField(ctx, "one", d.Collection, d.OneFor()...); err != nil {
			return err
		}
		if err := t.indexField(ctx, "period", d.Collection, d.Coverage.Period); err != nil {
			return err
		}
	}
	if d.Key == "" {
		return nil
	}
	return t.indexField(ctx, "key", d.Collection, d.Key)
}

// indexParent makes the children of a record quick to find.
func (t *Tx) indexParent(ctx context.Context, d definition.Definition) error {
	if d.Parent == nil {
		return nil
	}
	return t.indexField(ctx, "parent", d.Collection, d.Parent.Field)
}

// Keyed says whether a query asks for a value of a field that has an index of PartOf.
func Keyed(d definition.Definition, q query.Query) bool {
	return slices.ContainsFunc(q.Where, func(c query.Condition) bool {
		return c.Op == query.Equal && c.Value != "" && (c.Field == d.Key || d.Parent != nil && c.Field == d.Parent.Field)
	})
}

// indexLists makes lists quick that are sorted or filtered by what the definition names, searches, and finding a record by its label. What it no longer
// names costs nothing any more.
func (t *Tx) indexLists(ctx context.Context, d definition.Definition) error {
	sum := sha256.Sum256([]byte(d.Collection))
	start := "records_list_" + hex.EncodeToString(sum[:6]) + "_"
	wanted := map[string]string{}
	add := func(how, on string) {
		sum := sha256.Sum256([]byte(how + on))
		wanted[start+hex.EncodeToString(sum[:6])] = how + " (" + on + ")"
	}
	for _, name := range d.Lists {
		if field, _ := d.Field(name); !field.Local {
			expression, _ := query.ListKey(d, name, query.PostgreSQL)
			add("btree", "("+expression+"), id")
		}
	}
	if expression, known := query.LabelKey(d, query.PostgreSQL); known {
		add("btree", "("+expression+"), id")
	}
	var trigrams bool
	if err := t.GetContext(ctx, &trigrams, `SELECT EXISTS (SELECT FROM pg_extension WHERE extname = 'pg_trgm')`); err != nil {
		return err
	}
	if trigrams && d.Searched {
		add("gin", query.PostgreSQL.Fold(query.PostgreSQL.Raw)+" gin_trgm_ops")
	}
	var there []string
	if err := t.SelectContext(ctx, &there, `SELECT indexname FROM pg_indexes WHERE schemaname = current_schema() AND starts_with(indexname, $1)`,
		start); err != nil {
		return err
	}
	for _, name := range there {
		if wanted[name] == "" {
			if _, err := t.ExecContext(ctx, `DROP INDEX `+name); err != nil {
				return err
			}
		}
		delete(wanted, name)
	}
	for _, name := range slices.Sorted(maps.Keys(wanted)) {
		if _, err := t.ExecContext(ctx, fmt.Sprintf(`CREATE INDEX %s ON records USING %s WHERE collection = '%s' AND NOT removed`, name,
			wanted[name], d.Collection)); err != nil {
			return err
		}
	}
	return nil
}

func (t *Tx) indexField(ctx context.Context, what, collection string, fields ...string) error {
	// Names of indexes are short; both parts hold only small letters, digits and underscores.
	sum := sha256.Sum256([]byte(strings.Join(append([]string{collection}, fields...), " ")))
	_, err := t.ExecContext(ctx,
		fmt.Sprintf(`CREATE INDEX IF NOT EXISTS records_%s_%s ON records (%s) WHERE %s`,
			what, hex.EncodeToString(sum[:8]), textOfAll(fields), PartOf(collection)))
	return err
}
