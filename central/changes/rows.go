package changes

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/record"
	"homing/core/rights"
	"homing/core/sight"
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

// RowID is the member of a row that holds the record's id, if the row has one; no field can have its name.
const RowID = "homing_id"

// TableRow is one row of a table, by field.
type TableRow = map[string]json.RawMessage

// PutRows takes rows of a table: a row whose key a record has already updates that record, any other adds one. A
// field that a row does not name stays as it is; one that it names with null is cleared. Each row follows the rules
// of a push and gets its own outcome. Rows of the same key must not be in one call. Of several calls at once by the
// same key, one waits for the other.
func (c *Changes) PutRows(ctx context.Context, asker fleet.Person, collection, key string,
	rows []TableRow) ([]Row, error) {
	if len(rows) > wire.MaxBatchChanges {
		return nil, fault.Fail(fault.TooLarge, "there are %d rows; send at most %d at once", len(rows), wire.MaxBatchChanges)
	}
	if !asker.Role.May(rights.ChangeRecords) {
		return nil, fault.Fail(fault.NotAllowed, "the role %s may not change records", asker.Role)
	}
	var outcomes []Row
	var done *desk.Decided
	err := c.ground.Change(ctx, func(t Tables) error {
		i, err := importing(ctx, c.ground.NewID, t, asker, collection, key, rows)
		if err != nil {
			return err
		}
		from := c.mine(asker)
		from.KeepsNumbers = true
		items, at, err := i.items(ctx, t, from)
		if err != nil {
			return err
		}
		outcomes = i.outcomes
		if done, err = c.accept(ctx, t, from, items, nil); err != nil {
			return err
		}
		for n := range rows {
			if at[n] >= 0 && !done.Answers[at[n]].Answer.Accepted() {
				outcomes[n].Outcome, outcomes[n].Reasons = RowRefused, done.Answers[at[n]].Reasons
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	c.announce(ctx, done)
	return outcomes, nil
}

// imported is an import on its way.
type imported struct {
	definitions map[string]*definition.Collection
	collection  *definition.Collection
	asker       sight.Askers
	key         string
	rows        []TableRow
	newID       func() uuid.UUID
	unknown     map[int][]change.Reason // what rows refer to and is not there
	byKey       map[string]Found
	byID        map[uuid.UUID]*desk.Row
	outcomes    []Row
}

// importing looks up what the rows mean: records by key and by id, and what they refer to.
func importing(ctx context.Context, newID func() uuid.UUID, t Tables, asker fleet.Person, collection, key string,
	rows []TableRow) (*imported, error) {
	definitions, err := t.Definitions(ctx)
	if err != nil {
		return nil, err
	}
	i := &imported{definitions: definitions, collection: definitions[collection], asker: sight.Alone(asker), key: key,
		rows: rows, newID: newID,
		unknown: map[int][]change.Reason{}, outcomes: make([]Row, len(rows))}
	if i.collection == nil {
		return nil, fault.Fail(fault.NotFound, "there is no collection %s", collection)
	}
	if _, known := i.collection.Field(key); key != "" && !known {
		return nil, fault.Fail(fault.Invalid, "%s has no field %q to be the key", collection, key)
	}
	if key != "" {
		// Two imports of the same table would each not see what the other adds.
		if err := t.LockKey(ctx, collection, key); err != nil {
			return nil, err
		}
	}
	if err := i.findByKey(ctx, t); err != nil {
		return nil, err
	}
	if err := i.findByID(ctx, t); err != nil {
		return nil, err
	}
	return i, i.resolve(ctx, t)
}

// items are the changes that the rows bring. At says for each row which item it is, or -1.
func (i *imported) items(ctx context.Context, t Tables, from desk.Origin) (items []desk.Item, at []int, err error) {
	first, err := t.DirectNumbers(ctx, len(i.rows))
	if err != nil {
		return nil, nil, err
	}
	at = make([]int, len(i.rows))
	for n, row := range i.rows {
		at[n] = -1
		ch, outcome := i.change(row)
		i.outcomes[n] = outcome
		if len(i.unknown[n]) > 0 {
			i.outcomes[n] = Row{Outcome: RowRefused, Record: outcome.Record, Reasons: i.unknown[n]}
			continue
		}
		if outcome.Outcome == RowRefused || outcome.Outcome == RowUnchanged {
			continue
		}
		ch.Collection, ch.Number, ch.Author = i.collection.Definition.Collection, first+int64(n), from.People[0].Name
		ch.Stamp, ch.EditedAt = clock.At(from.Received), from.Received
		at[n] = len(items)
		items = append(items, desk.ItemOf(ch))
	}
	return items, at, nil
}

// textOf is the text by which a value is looked up; ok is false for no value.
func textOf(value json.RawMessage) (text string, ok bool) {
	if len(value) == 0 || string(value) == "null" {
		return "", false
	}
	text = definition.Plain(value)
	return text, text != ""
}

func (i *imported) findByKey(ctx context.Context, t Tables) error {
	i.byKey = map[string]Found{}
	if i.key == "" {
		return nil
	}
	var texts []string
	for _, row := range i.rows {
		if text, is := textOf(row[i.key]); is {
			texts = append(texts, text)
		}
	}
	found, err := t.ByValue(ctx, i.collection, i.key, texts)
	for _, one := range found {
		if i.asker.See(i.collection, one.Row.Territories, one.Row.Fields) {
			i.byKey[one.Text] = one // of several, the oldest
		}
	}
	return err
}

func (i *imported) findByID(ctx context.Context, t Tables) error {
	i.byID = map[uuid.UUID]*desk.Row{}
	var wanted []desk.Key
	for _, row := range i.rows {
		if id, err := uuid.Parse(definition.Plain(row[RowID])); err == nil {
			wanted = append(wanted, desk.Key{Collection: i.collection.Definition.Collection, ID: id})
		}
	}
	if len(wanted) == 0 {
		return nil
	}
	rows, err := t.Rows(ctx, wanted)
	for at, row := range rows {
		if !row.Removed && i.asker.See(i.collection, row.Territories, row.Fields) {
			i.byID[at.ID] = row
		}
	}
	return err
}

// resolve puts ids where rows refer to records of other collections by their keys.
func (i *imported) resolve(ctx context.Context, t Tables) error {
	resolved := append([]TableRow(nil), i.rows...)
	for _, field := range i.collection.Fields {
		target := i.definitions[field.Reference]
		if target == nil {
			continue
		}
		meant, err := i.referred(ctx, t, target, field)
		if err != nil {
			return err
		}
		for n, row := range i.rows {
			text, is := textOf(row[field.Name])
			if !is {
				continue
			}
			if id, there := meant[text]; there {
				resolved[n] = maps.Clone(resolved[n])
				resolved[n][field.Name] = json.RawMessage(`"` + id.String() + `"`)
			} else if message := i.refersToNothing(target, field, text); message != "" {
				i.unknown[n] = append(i.unknown[n], change.Reason{Field: field.Name, Code: change.CodeInvalidValue,
					Message: message})
			}
		}
	}
	i.rows = resolved
	return nil
}

func (i *imported) refersToNothing(target *definition.Collection, field definition.Field, text string) string {
	_, notID := uuid.Parse(text)
	switch {
	case notID != nil && target.Key == "":
		return fmt.Sprintf("refers to %s by %q, which is not an id, and %[1]s have no key", target.Title, text)
	case notID != nil || field.Reference != i.collection.Definition.Collection: // one of the same collection may come further down
		return fmt.Sprintf("refers to %q, which is not in %s", text, target.Title)
	}
	return ""
}

// referred gives the ids of the records that rows mean by a reference, by what stands in the rows: the id, or the key.
func (i *imported) referred(ctx context.Context, t Tables, target *definition.Collection,
	field definition.Field) (map[string]uuid.UUID, error) {
	var ids []desk.Key
	var texts []string
	for _, row := range i.rows {
		text, is := textOf(row[field.Name])
		if !is {
			continue
		}
		if id, err := uuid.Parse(text); err == nil {
			ids = append(ids, desk.Key{Collection: field.Reference, ID: id})
		} else {
			texts = append(texts, text)
		}
	}
	meant := map[string]uuid.UUID{}
	rows, err := t.Rows(ctx, ids)
	if err != nil {
		return nil, err
	}
	for at, row := range rows {
		if !row.Removed && i.asker.See(target, row.Territories, row.Fields) {
			meant[at.ID.String()] = at.ID
		}
	}
	if len(texts) == 0 || target.Key == "" {
		return meant, nil
	}
	found, err := t.ByValue(ctx, target, target.Key, texts)
	for _, one := range found {
		if i.asker.See(target, one.Row.Territories, one.Row.Fields) {
			meant[one.Text] = one.ID
		}
	}
	return meant, err
}

// change is what brings a row in.
func (i *imported) change(row TableRow) (change.Change, Row) {
	refused := func(code, field, format string, args ...any) (change.Change, Row) {
		why := change.Reason{Field: field, Code: code, Message: fmt.Sprintf(format, args...)}
		return change.Change{}, Row{Outcome: RowRefused, Reasons: []change.Reason{why}}
	}
	delta := record.Delta{}
	for name, value := range row {
		if name != RowID {
			delta[name] = record.Edit{To: value}
		}
	}
	delta, err := delta.Canonical()
	if err != nil {
		return refused(change.CodeMalformed, "", "%v", err)
	}
	id, there := i.newID(), (*desk.Row)(nil)
	if text, is := textOf(row[i.key]); is && i.key != "" {
		if one, known := i.byKey[text]; known {
			id, there = one.ID, one.Row
		}
	}
	if text, is := textOf(row[RowID]); is {
		named, err := uuid.Parse(text)
		if err != nil || named == uuid.Nil {
			return refused(change.CodeMalformed, RowID, "%q is not the id of a record", text)
		}
		if one := i.byID[named]; one != nil {
			id, there = named, one
		} else if there == nil {
			id = named
		}
	}
	if there == nil {
		maps.DeleteFunc(delta, func(_ string, edit record.Edit) bool { return edit.To == nil })
		return change.Change{Kind: change.Add, Record: id, Fields: delta}, Row{Outcome: RowAdded, Record: id}
	}
	for name, edit := range delta {
		// A table cannot tell an empty text from none, so an empty cell leaves an empty text as it is.
		edit.From = there.Fields[name]
		if string(edit.From) == string(edit.To) || edit.To == nil && string(edit.From) == `""` {
			delete(delta, name)
			continue
		}
		delta[name] = edit
	}
	if i.keepsNumbers(delta); len(delta) == 0 {
		return change.Change{}, Row{Outcome: RowUnchanged, Record: id}
	}
	return change.Change{Kind: change.Edit, Record: id, Base: there.Revision, Fields: delta},
		Row{Outcome: RowUpdated, Record: id}
}

// keepsNumbers leaves the number of a series as it is where a cell is empty.
func (i *imported) keepsNumbers(delta record.Delta) {
	for name := range i.collection.SeriesFields() {
		if edit, named := delta[name]; named && edit.To == nil {
			delete(delta, name)
		}
	}
}
