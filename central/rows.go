package central

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
	"homing/wire"
)

// Row is what became of one row of an import.
type Row struct {
	Outcome string          `json:"outcome" enum:"added,updated,unchanged,refused"`
	Record  uuid.UUID       `json:"record" format:"uuid"`
	Reasons []change.Reason `json:"reasons,omitempty"`
}

// The outcomes of a row.
const (
	RowAdded     = "added"
	RowUpdated   = "updated"
	RowUnchanged = "unchanged"
	RowRefused   = "refused"
)

// PutRows takes rows of a table: a row whose key a record has already updates that record, any other adds one. A field that a row
// does not name stays as it is; one that it names with null is cleared. Each row follows the rules of a push and gets its own
// outcome. Rows of the same key must not be in one call.
func (c *Central) PutRows(ctx context.Context, asker Person, collection, key string, rows []map[string]json.RawMessage) ([]Row, error) {
	if len(rows) > wire.MaxBatchChanges {
		return nil, fail(TooLarge, "there are %d rows; send at most %d at once", len(rows), wire.MaxBatchChanges)
	}
	compiled, err := c.Collection(ctx, collection)
	if err != nil {
		return nil, err
	}
	if _, known := compiled.Field(key); key != "" && !known {
		return nil, fail(Invalid, "%s has no field %q to be the key", collection, key)
	}
	if !asker.Role.May(rights.ChangeRecords) {
		return nil, fail(NotAllowed, "the role %s may not change records", asker.Role)
	}
	received := c.Now()
	var outcomes []Row
	var done *desk
	err = c.within(ctx, nil, func(tx *sqlx.Tx) error {
		var items []item
		outcomes = make([]Row, len(rows))
		at := make([]int, len(rows)) // index among the items; -1 for none
		known, err := byKey(ctx, tx, compiled, asker, key, rows)
		if err != nil {
			return err
		}
		named, err := byID(ctx, tx, compiled, asker, rows)
		if err != nil {
			return err
		}
		rows, unknown, err := resolve(ctx, tx, c, compiled, asker, rows)
		if err != nil {
			return err
		}
		var first int64
		if err := tx.QueryRowxContext(ctx, `SELECT min(n) FROM (SELECT nextval('direct_numbers') AS n FROM generate_series(1, $1)) s`, max(len(rows), 1)).Scan(&first); err != nil {
			return err
		}
		for n, row := range rows {
			at[n] = -1
			ch, outcome := rowChange(row, key, known, named)
			outcomes[n] = outcome
			if len(unknown[n]) > 0 {
				outcomes[n] = Row{Outcome: RowRefused, Record: outcome.Record, Reasons: unknown[n]}
				continue
			}
			if outcome.Outcome == RowRefused || outcome.Outcome == RowUnchanged {
				continue
			}
			ch.Collection, ch.Number, ch.Stamp, ch.EditedAt, ch.Author = collection, first+int64(n), clock.At(received), received, asker.Name
			at[n] = len(items)
			items = append(items, item{change: ch, digest: ch.Digest()})
		}
		if done, err = c.accept(ctx, tx, origin{incarnation: c.direct, who: asker, received: received, imported: true}, items); err != nil {
			return err
		}
		for n := range rows {
			if at[n] >= 0 && !done.answers[at[n]].Answer.Accepted() {
				outcomes[n].Outcome, outcomes[n].Reasons = RowRefused, done.answers[at[n]].Reasons
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	c.announce(ctx, Event{Heads: done.heads()})
	return outcomes, nil
}

// keyed is a record that an import may update.
type keyed struct {
	ID       uuid.UUID `db:"id"`
	Key      string    `db:"key"`
	Revision int64     `db:"revision"`
	Fields   []byte    `db:"fields"`
}

// byKey finds the records that have the keys of the rows and that the asker may see, by the index that the definition's key brings.
func byKey(ctx context.Context, tx *sqlx.Tx, compiled *definition.Collection, asker Person, key string, rows []map[string]json.RawMessage) (map[string]keyed, error) {
	if key == "" {
		return nil, nil
	}
	var values []string
	for _, row := range rows {
		if text := definition.Plain(row[key]); text != "" && text != "null" {
			values = append(values, text)
		}
	}
	var found []keyed
	err := tx.SelectContext(ctx, &found, keyedQuery(key, compiled.Definition.Collection), values, asker.Territories)
	if err != nil {
		return nil, err
	}
	all := make(map[string]keyed, len(found))
	for _, one := range found {
		seen, err := alone(asker).seeStored(compiled, []string{rights.All}, one.Fields)
		if err != nil {
			return nil, err
		}
		if seen {
			all[one.Key] = one // of several, the oldest
		}
	}
	return all, nil
}

// RowID is the member of a row that holds the record's id, if the row has one; no field can have its name.
const RowID = "homing_id"

// byID finds the records that rows name by their ids and that the asker may see.
func byID(ctx context.Context, tx *sqlx.Tx, compiled *definition.Collection, asker Person, rows []map[string]json.RawMessage) (map[string]keyed, error) {
	var ids []string
	for _, row := range rows {
		if id, err := uuid.Parse(definition.Plain(row[RowID])); err == nil {
			ids = append(ids, id.String())
		}
	}
	all := map[string]keyed{}
	if len(ids) == 0 {
		return all, nil
	}
	var found []keyed
	err := tx.SelectContext(ctx, &found, `SELECT id, '' AS key, revision, fields FROM records WHERE collection = $1 AND id = ANY($2::uuid[]) AND NOT removed AND `+covered("$3"),
		compiled.Definition.Collection, ids, asker.Territories)
	if err != nil {
		return nil, err
	}
	for _, one := range found {
		seen, err := alone(asker).seeStored(compiled, []string{rights.All}, one.Fields)
		if err != nil {
			return nil, err
		}
		if seen {
			all[one.ID.String()] = one
		}
	}
	return all, nil
}

// resolve puts ids where rows refer to records of other collections by their keys. Unknown says, by row, what is referred to and is not
// there.
func resolve(ctx context.Context, tx *sqlx.Tx, c *Central, compiled *definition.Collection, asker Person, rows []map[string]json.RawMessage) (resolved []map[string]json.RawMessage, unknown map[int][]change.Reason, err error) {
	resolved, unknown = slices.Clone(rows), map[int][]change.Reason{}
	all, err := c.definitions(ctx, tx)
	if err != nil {
		return nil, nil, err
	}
	for _, field := range compiled.Fields {
		target := all[field.Reference]
		if target == nil {
			continue
		}
		meant, err := referred(ctx, tx, target, asker, field, rows)
		if err != nil {
			return nil, nil, err
		}
		for n, row := range rows {
			text := definition.Plain(row[field.Name])
			if text == "" || text == "null" {
				continue
			}
			id, there := meant[text]
			_, notID := uuid.Parse(text)
			switch {
			case there:
				resolved[n] = maps.Clone(resolved[n])
				resolved[n][field.Name] = json.RawMessage(`"` + id.String() + `"`)
			case notID != nil && target.Key == "":
				unknown[n] = append(unknown[n], change.Reason{Field: field.Name, Code: change.CodeInvalidValue,
					Message: fmt.Sprintf("refers to %s by %q, which is not an id, and %[1]s have no key", target.Title, text)})
			case notID != nil || field.Reference != compiled.Definition.Collection: // one of the same collection may come further down
				unknown[n] = append(unknown[n], change.Reason{Field: field.Name, Code: change.CodeInvalidValue, Message: fmt.Sprintf("refers to %q, which is not in %s", text, target.Title)})
			}
		}
	}
	return resolved, unknown, nil
}

// referred gives the ids of the records that rows mean by a reference, by what stands in the rows: the id, or the key.
func referred(ctx context.Context, tx *sqlx.Tx, target *definition.Collection, asker Person, field definition.Field, rows []map[string]json.RawMessage) (map[string]uuid.UUID, error) {
	var ids, values []string
	for _, row := range rows {
		text := definition.Plain(row[field.Name])
		if _, err := uuid.Parse(text); err == nil {
			ids = append(ids, text)
		} else if text != "" && text != "null" {
			values = append(values, text)
		}
	}
	meant := map[string]uuid.UUID{}
	var found []keyed
	if len(ids) > 0 {
		if err := tx.SelectContext(ctx, &found, `SELECT id, id::text AS key, revision, fields FROM records WHERE collection = $1 AND id = ANY($2::uuid[]) AND NOT removed AND `+covered("$3"),
			field.Reference, ids, asker.Territories); err != nil {
			return nil, err
		}
	}
	if len(values) > 0 && target.Key != "" {
		var byKey []keyed
		if err := tx.SelectContext(ctx, &byKey, keyedQuery(target.Key, field.Reference), values, asker.Territories); err != nil {
			return nil, err
		}
		found = append(found, byKey...)
	}
	for _, one := range found {
		meant[one.Key] = one.ID
	}
	return meant, nil
}

// keyedQuery finds records by the values of a field that has an index: the first argument; the second are the asker's territories. Of several
// with one value, the oldest comes last.
func keyedQuery(field, collection string) string {
	return `SELECT r.id, k.value AS key, r.revision, r.fields FROM ` + byValue(field, collection, "$1", "id, revision, fields, position, territories") +
		` WHERE ` + covered("$2") + ` ORDER BY r.position DESC`
}

// byValue gives the records of a collection in which a field has one of the texts of an argument, as r, with the text as k.value. Each text is
// looked up on its own, through the partial index: for a condition on all of them at once PostgreSQL, which knows nothing of what stands in
// the JSON of a table that is being filled, would read the whole collection. Names hold only small letters, digits and underscores.
func byValue(field, collection, argument, columns string) string {
	return fmt.Sprintf(`unnest(%[3]s::text[]) AS k (value) CROSS JOIN LATERAL (
		SELECT %[4]s FROM records WHERE %[2]s AND fields->>'%[1]s' = k.value OFFSET 0) r`, field, partOf(collection), argument, columns)
}

// partOf is the condition of the partial indexes on the fields of a collection. The collection stands in an expression, so that no other
// index fits it: PostgreSQL would take the primary key's for a collection that has few records by its statistics, which lag behind.
func partOf(collection string) string {
	return fmt.Sprintf(`(collection || '') = '%s' AND NOT removed`, collection)
}

// rowChange is the change that brings a row in.
func rowChange(row map[string]json.RawMessage, key string, known, named map[string]keyed) (change.Change, Row) {
	delta := record.Delta{}
	for name, value := range row {
		if name != RowID {
			delta[name] = record.Edit{To: value}
		}
	}
	delta, err := delta.Canonical()
	if err != nil {
		return change.Change{}, Row{Outcome: RowRefused, Reasons: reason(change.CodeMalformed, "%v", err)}
	}
	there, exists := known[definition.Plain(row[key])]
	exists = exists && key != ""
	id := uuid.Must(uuid.NewV7())
	if text := definition.Plain(row[RowID]); text != "" && text != "null" {
		if id, err = uuid.Parse(text); err != nil || id == uuid.Nil {
			return change.Change{}, Row{Outcome: RowRefused, Reasons: []change.Reason{{Field: RowID, Code: change.CodeMalformed, Message: fmt.Sprintf("%q is not the id of a record", text)}}}
		}
		if one, is := named[id.String()]; is {
			there, exists = one, true
		}
	}
	if !exists {
		for name, edit := range delta {
			if edit.To == nil {
				delete(delta, name)
			}
		}
		return change.Change{Kind: change.Add, Record: id, Fields: delta}, Row{Outcome: RowAdded, Record: id}
	}
	var before record.Fields
	if err := json.Unmarshal(there.Fields, &before); err != nil {
		return change.Change{}, Row{Outcome: RowRefused, Reasons: reason(change.CodeMalformed, "the stored record %s cannot be read", there.ID)}
	}
	for name, edit := range delta {
		if string(before[name]) == string(edit.To) {
			delete(delta, name)
			continue
		}
		edit.From = before[name]
		delta[name] = edit
	}
	if len(delta) == 0 {
		return change.Change{}, Row{Outcome: RowUnchanged, Record: there.ID}
	}
	return change.Change{Kind: change.Edit, Record: there.ID, Base: there.Revision, Fields: delta}, Row{Outcome: RowUpdated, Record: there.ID}
}

// indexKey makes the records of a collection quick to find by the definition's key.
func indexKey(ctx context.Context, tx *sqlx.Tx, d definition.Definition) error {
	if d.Key == "" {
		return nil
	}
	// Names of indexes are short; both parts hold only small letters, digits and underscores.
	sum := sha256.Sum256([]byte(d.Collection + " " + d.Key))
	_, err := tx.ExecContext(ctx, fmt.Sprintf(`CREATE INDEX IF NOT EXISTS records_key_%s ON records ((fields->>'%s')) WHERE %s`,
		hex.EncodeToString(sum[:8]), d.Key, partOf(d.Collection)))
	return err
}
