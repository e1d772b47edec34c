package central

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"

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
		var first int64
		if err := tx.QueryRowxContext(ctx, `SELECT min(n) FROM (SELECT nextval('direct_numbers') AS n FROM generate_series(1, $1)) s`, max(len(rows), 1)).Scan(&first); err != nil {
			return err
		}
		for n, row := range rows {
			at[n] = -1
			ch, outcome := rowChange(row, key, known)
			outcomes[n] = outcome
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
		if len(row[key]) > 0 {
			values = append(values, definition.Plain(row[key]))
		}
	}
	var found []keyed
	// The field's name holds only small letters, digits and underscores. The collection stands as a text for the partial index.
	err := tx.SelectContext(ctx, &found, fmt.Sprintf(`SELECT id, fields->>'%[1]s' AS key, revision, fields FROM records
		WHERE collection = '%[2]s' AND NOT removed AND fields->>'%[1]s' = ANY($1) AND %[3]s ORDER BY position DESC`, key, compiled.Definition.Collection, covered("$2")), values, asker.Territories)
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

// rowChange is the change that brings a row in.
func rowChange(row map[string]json.RawMessage, key string, known map[string]keyed) (change.Change, Row) {
	delta := record.Delta{}
	for name, value := range row {
		delta[name] = record.Edit{To: value}
	}
	delta, err := delta.Canonical()
	if err != nil {
		return change.Change{}, Row{Outcome: RowRefused, Reasons: reason(change.CodeMalformed, "%v", err)}
	}
	there, exists := known[definition.Plain(row[key])]
	if key == "" || !exists {
		for name, edit := range delta {
			if edit.To == nil {
				delete(delta, name)
			}
		}
		id := uuid.Must(uuid.NewV7())
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
	_, err := tx.ExecContext(ctx, fmt.Sprintf(`CREATE INDEX IF NOT EXISTS records_key_%s ON records ((fields->>'%s')) WHERE collection = '%s' AND NOT removed`,
		hex.EncodeToString(sum[:8]), d.Key, d.Collection))
	return err
}
