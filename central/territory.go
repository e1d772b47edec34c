package central

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
)

// keys are the keys of territories, read from a JSON list.
type keys []string

// Scan reads what array_to_json gives.
func (k *keys) Scan(value any) error {
	switch text := value.(type) {
	case string:
		return json.Unmarshal([]byte(text), k)
	case []byte:
		return json.Unmarshal(text, k)
	}
	return fmt.Errorf("territories come as %T", value)
}

// arrayLiteral writes keys as PostgreSQL reads an array.
func arrayLiteral(all []string) string {
	quoted := make([]string, len(all))
	for n, key := range all {
		quoted[n] = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(key) + `"`
	}
	return "{" + strings.Join(quoted, ",") + "}"
}

// covered is the condition that a record is covered by who holds the territories of an argument. It says what rights.Covers
// says.
func covered(argument string) string {
	return fmt.Sprintf(`('*' = ANY(%[1]s::text[]) OR '*' = ANY(territories) OR territories && %[1]s::text[])`, argument)
}

// retag sorts all records of a collection into territories anew, after the definition's expression has changed. Each record that
// falls elsewhere gets a new position, so that devices hear of it. The collection's row is locked by the caller.
func retag(ctx context.Context, tx *sqlx.Tx, collection *definition.Collection) error {
	const chunk = 1000
	after := uuid.Nil
	for {
		var rows []struct {
			ID          uuid.UUID `db:"id"`
			Removed     bool      `db:"removed"`
			Fields      []byte    `db:"fields"`
			Territories keys      `db:"territories"`
			Left        keys      `db:"left_territories"`
		}
		err := tx.SelectContext(ctx, &rows, `
			SELECT id, removed, fields, array_to_json(territories) AS territories, array_to_json(left_territories) AS left_territories
			FROM records WHERE collection = $1 AND id > $2 ORDER BY id LIMIT $3 FOR UPDATE`, collection.Definition.Collection, after, chunk)
		if err != nil || len(rows) == 0 {
			return err
		}
		var ids, now, left []string
		for _, r := range rows {
			after = r.ID
			var fields record.Fields
			if err := json.Unmarshal(r.Fields, &fields); err != nil {
				return fmt.Errorf("stored record %s: %w", r.ID, err)
			}
			moved := row{territories: r.Territories, left: r.Left}
			moved.Fields = fields
			if err := moved.move(collection, moved.State); err != nil {
				return fail(Invalid, "record %s of %s: %v", r.ID, collection.Definition.Collection, err)
			}
			if !slices.Equal(moved.territories, r.Territories) {
				ids, now, left = append(ids, r.ID.String()), append(now, arrayLiteral(moved.territories)), append(left, arrayLiteral(moved.left))
			}
		}
		if _, err := tx.ExecContext(ctx, `
			WITH moved AS (UPDATE collections SET head = head + cardinality($2::uuid[]) WHERE name = $1 RETURNING head)
			UPDATE records r SET territories = u.now::text[], left_territories = u.gone::text[],
				position = (SELECT head FROM moved) - cardinality($2::uuid[]) + u.n
			FROM unnest($2::uuid[], $3::text[], $4::text[]) WITH ORDINALITY AS u (id, now, gone, n)
			WHERE r.collection = $1 AND r.id = u.id`, collection.Definition.Collection, ids, now, left); err != nil {
			return err
		}
	}
}

// tellAgain gives every record of a collection a new position, so that each device hears of it anew and what its worker may no
// longer read is withdrawn.
func tellAgain(ctx context.Context, tx *sqlx.Tx, name string) error {
	_, err := tx.ExecContext(ctx, `
		WITH moved AS (UPDATE collections SET head = head + (SELECT count(*) FROM records WHERE collection = $1) WHERE name = $1 RETURNING head),
			numbered AS (SELECT id, row_number() OVER (ORDER BY position DESC) - 1 AS n FROM records WHERE collection = $1)
		UPDATE records r SET position = (SELECT head FROM moved) - n FROM numbered WHERE r.collection = $1 AND r.id = numbered.id`, name)
	return err
}

// Askers are the people on whose behalf something is asked for: one, or all the workers of a shared device. They get what any of them may
// have.
type Askers []Person

// alone is one asker.
func alone(who Person) Askers { return Askers{who} }

// Territories are those that any of them holds.
func (a Askers) Territories() []string {
	held := []string{}
	for _, who := range a {
		held = append(held, who.Territories...)
	}
	slices.Sort(held)
	return slices.Compact(held)
}

// readsAll says whether no rule keeps anything of the collection that they cover from them.
func (a Askers) readsAll(collection *definition.Collection) bool {
	// One whom no rule binds reads only what they cover, so with several people all must be free.
	return !slices.ContainsFunc(a, func(who Person) bool { return !collection.ReadsAll(who) })
}

// see says whether any of them covers a record and may read it.
func (a Askers) see(collection *definition.Collection, territories []string, fields record.Fields) bool {
	return slices.ContainsFunc(a, func(who Person) bool {
		return rights.Covers(who.Territories, territories) && (collection.ReadsAll(who) || collection.MayRead(who, fields))
	})
}

// seeStored is see for a record as the database has it.
func (a Askers) seeStored(collection *definition.Collection, territories []string, fields []byte) (bool, error) {
	if a.readsAll(collection) {
		return rights.Covers(a.Territories(), territories), nil
	}
	var parsed record.Fields
	if err := json.Unmarshal(fields, &parsed); err != nil {
		return false, err
	}
	return a.see(collection, territories, parsed), nil
}
