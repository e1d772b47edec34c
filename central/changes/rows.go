package changes

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

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
	Outcome string          `json:"outcome" enum:"added,updated,unchanged,there,refused"`
	Record  uuid.UUID       `json:"record" format:"uuid"`
	Reasons []change.Reason `json:"reasons,omitempty"`
}

// The outcomes of a row.
const (
	RowAdded     = "added"
	RowUpdated   = "updated"
	RowUnchanged = "unchanged"
	RowThere     = "there" // only in a preview, of a row without a key: a record that says the same is there already
	RowRefused   = "refused"
)

// RowID is the member of a row that holds the record's id, if the row has one; no field can have its name.
const RowID = "homing_id"

// TableRow is one row of a table, by field.
type TableRow = map[string]json.RawMessage

// PutRows takes rows of a table: a row whose key a record has already updates that record, any other adds one. A
// field that a row does not name stays as it is; one that it names with null is cleared. Each row follows the rules
// of a push and gets its own outcome. The key may be several fields together, separated by commas. A second row of the
// same key in one call is refused, and so is one whose key several records have. Of several calls at once by the same
// key, one waits for the other.
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
		if i.key != nil {
			// Two imports of the same table would each not see what the other adds.
			if err := t.LockKey(ctx, collection, strings.Join(i.key, ","), false); err != nil {
				return err
			}
		}
		if err := i.find(ctx, t); err != nil {
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

// PreviewRows says what [Changes.PutRows] would do with rows, as far as can be said before, and changes nothing.
func (c *Changes) PreviewRows(ctx context.Context, asker fleet.Person, collection, key string, rows []TableRow) ([]Row, error) {
	if len(rows) > wire.MaxBatchChanges {
		return nil, fault.Fail(fault.TooLarge, "there are %d rows; send at most %d at once", len(rows), wire.MaxBatchChanges)
	}
	var outcomes []Row
	err := c.ground.Look(ctx, func(t Tables) error {
		i, err := importing(ctx, c.ground.NewID, t, asker, collection, key, rows)
		if err != nil {
			return err
		}
		if err := i.find(ctx, t); err != nil {
			return err
		}
		outcomes = i.outcomes
		for n, row := range i.rows {
			if _, outcomes[n] = i.change(n, row); len(i.unknown[n]) > 0 {
				outcomes[n] = Row{Outcome: RowRefused, Reasons: i.unknown[n]}
			}
		}
		return i.findTwins(ctx, t)
	})
	return outcomes, err
}

// findTwins finds records that say just what rows say that would be added without a key.
func (i *imported) findTwins(ctx context.Context, t Tables) error {
	if i.key != nil {
		return nil
	}
	field, texts := i.tellsMost()
	if field == "" {
		return nil
	}
	found, err := t.ByValue(ctx, i.collection, field, texts)
	if err != nil {
		return err
	}
	byText := map[string][]Found{}
	for _, one := range found {
		if i.asker.See(i.collection, one.Row.Territories, one.Row.Fields) {
			byText[one.Text] = append(byText[one.Text], one)
		}
	}
	for n, row := range i.rows {
		if i.outcomes[n].Outcome != RowAdded {
			continue
		}
		text, _ := textOf(row[field])
		for _, one := range byText[text] {
			if says(one.Row.Fields, row) {
				i.outcomes[n] = Row{Outcome: RowThere, Record: one.ID}
			}
		}
	}
	return nil
}

// tellsMost is the field by which most of the rows are told apart, and its values.
func (i *imported) tellsMost() (best string, texts []string) {
	for _, field := range i.collection.Fields {
		differ := map[string]bool{}
		for _, row := range i.rows {
			if text, is := textOf(row[field.Name]); is {
				differ[text] = true
			}
		}
		if len(differ) > len(texts) {
			best, texts = field.Name, slices.Sorted(maps.Keys(differ))
		}
	}
	return best, texts
}

// says is whether a record has all values that a row names, and none that it leaves empty.
func says(fields record.Fields, row TableRow) bool {
	for name, value := range row {
		canonical, err := record.CanonicalField(name, value)
		if err != nil || name != RowID && string(canonical) != string(fields[name]) && (canonical != nil || string(fields[name]) != `""`) {
			return false
		}
	}
	return true
}

// imported is an import on its way.
type imported struct {
	definitions map[string]*definition.Collection
	collection  *definition.Collection
	asker       sight.Askers
	key         []string // the fields that tell records apart; nil where nothing does
	rows        []TableRow
	seen        map[string]int // which row has a key first
	newID       func() uuid.UUID
	unknown     map[int][]change.Reason // what rows refer to and is not there
	byKey       map[string][]Found
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
	i := &imported{definitions: definitions, collection: definitions[collection], asker: sight.Alone(asker), rows: rows, newID: newID, seen: map[string]int{},
		unknown: map[int][]change.Reason{}, outcomes: make([]Row, len(rows))}
	if i.collection == nil {
		return nil, fault.Fail(fault.NotFound, "there is no collection %s", collection)
	}
	if key != "" {
		i.key = strings.Split(key, ",")
	} else if i.collection.Coverage != nil {
		i.key = i.collection.OneFor()
	}
	for _, name := range i.key {
		if _, known := i.collection.Field(name); !known {
			return nil, fault.Fail(fault.Invalid, "%s has no field %q to be the key", collection, name)
		}
	}
	return i, nil
}

// find looks up what the rows mean.
func (i *imported) find(ctx context.Context, t Tables) error {
	if err := i.resolve(ctx, t); err != nil { // a key may hold a reference
		return err
	}
	if err := i.findByKey(ctx, t); err != nil {
		return err
	}
	return i.findByID(ctx, t)
}

// keyOf is the key of a record or a row as one text; empty where a part of it is missing.
func (i *imported) keyOf(fields map[string]json.RawMessage) string {
	var parts []string
	for _, name := range i.key {
		text, is := textOf(fields[name])
		if !is {
			return ""
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "\x00")
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
		ch, outcome := i.change(n, row)
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
	i.byKey = map[string][]Found{}
	if i.key == nil {
		return nil
	}
	// Of place and period, both have one index together.
	both := slices.Equal(i.key, i.collection.OneFor())
	var texts []string
	for _, row := range i.rows {
		text, is := textOf(row[i.key[0]])
		if both {
			text = i.collection.OneText(row)
			is = text != ""
		}
		if is {
			texts = append(texts, text)
		}
	}
	slices.Sort(texts)
	texts = slices.Compact(texts)
	var found []Found
	var err error
	if both {
		found, err = t.ByOne(ctx, i.collection, texts)
	} else {
		found, err = t.ByValue(ctx, i.collection, i.key[0], texts)
	}
	for _, one := range found {
		if i.asker.See(i.collection, one.Row.Territories, one.Row.Fields) {
			key := i.keyOf(one.Row.Fields)
			i.byKey[key] = append(i.byKey[key], one)
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
			if several := len(meant[text]); several > 1 {
				i.unknown[n] = append(i.unknown[n], change.Reason{Field: field.Name, Code: change.CodeAmbiguous,
					Message: fmt.Sprintf("%d of %s have %s, such as %s and %s; name the one that is meant by its id", several, target.Title, text,
						meant[text][0], meant[text][1])})
			} else if several == 1 {
				id := meant[text][0]
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
	field definition.Field) (map[string][]uuid.UUID, error) {
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
	meant := map[string][]uuid.UUID{}
	rows, err := t.Rows(ctx, ids)
	if err != nil {
		return nil, err
	}
	for at, row := range rows {
		if !row.Removed && i.asker.See(target, row.Territories, row.Fields) {
			meant[at.ID.String()] = []uuid.UUID{at.ID}
		}
	}
	if len(texts) == 0 || target.Key == "" {
		return meant, nil
	}
	slices.Sort(texts)
	found, err := t.ByValue(ctx, target, target.Key, slices.Compact(texts))
	for _, one := range found {
		if i.asker.See(target, one.Row.Territories, one.Row.Fields) {
			meant[one.Text] = append(meant[one.Text], one.ID)
		}
	}
	return meant, err
}

// change is what brings a row in.
func (i *imported) change(n int, row TableRow) (change.Change, Row) {
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
	if one, follows := i.collection.OneID(record.Fields(row)); follows {
		id = one
	}
	if key := i.keyOf(row); key != "" {
		if first, twice := i.seen[key]; twice {
			return refused(change.CodeAmbiguous, i.key[0], "row %d of the same call has this key already", first+1)
		}
		i.seen[key] = n
		switch found := i.byKey[key]; {
		case len(found) == 1:
			id, there = found[0].ID, found[0].Row
		case len(found) > 1 && len(row[RowID]) == 0:
			return refused(change.CodeAmbiguous, i.key[0], "%d records have %s, such as %s and %s; give all but one another, or say which is "+
				"meant in a column %s", len(found), strings.ReplaceAll(key, "\x00", ", "), found[0].ID, found[1].ID, RowID)
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
