package postgres

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"homing/core/definition"
)

// byValue gives the records of a collection in which a field has one of the texts of an argument, as r, with the text
// as k.value. Each text is looked up on its own, through the partial index: for a condition on all of them at once
// PostgreSQL, which knows nothing of what stands in the JSON of a table that is being filled, would read the whole
// collection. Names hold only small letters, digits and underscores.
func byValue(field, collection, argument, columns string) string {
	return fmt.Sprintf(`unnest(%[3]s::text[]) AS k (value) CROSS JOIN LATERAL (
		SELECT %[4]s FROM records WHERE %[2]s AND fields->>'%[1]s' = k.value OFFSET 0) r`, field, partOf(collection), argument, columns)
}

// partOf is the condition of the partial indexes on the fields of a collection. The collection stands in an
// expression, so that no other index fits it: PostgreSQL would take the primary key's for a collection that has few
// records by its statistics, which lag behind.
func partOf(collection string) string {
	return fmt.Sprintf(`(collection || '') = '%s' AND NOT removed`, collection)
}

// indexKey makes the records of a collection quick to find by the definition's key.
func (t *Tx) indexKey(ctx context.Context, d definition.Definition) error {
	return t.indexField(ctx, "key", d.Collection, d.Key)
}

// indexParent makes the children of a record quick to find.
func (t *Tx) indexParent(ctx context.Context, d definition.Definition) error {
	if d.Parent == nil {
		return nil
	}
	return t.indexField(ctx, "parent", d.Collection, d.Parent.Field)
}

func (t *Tx) indexField(ctx context.Context, what, collection, field string) error {
	if field == "" {
		return nil
	}
	// Names of indexes are short; both parts hold only small letters, digits and underscores.
	sum := sha256.Sum256([]byte(collection + " " + field))
	_, err := t.ExecContext(ctx,
		fmt.Sprintf(`CREATE INDEX IF NOT EXISTS records_%s_%s ON records ((fields->>'%s')) WHERE %s`,
			what, hex.EncodeToString(sum[:8]), field, partOf(collection)))
	return err
}
