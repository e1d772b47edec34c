package hold

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/fingerprint"
	"homing/core/merge"
	"homing/core/query"
	"homing/core/record"
	"homing/device/internal/file"
)

// Fields are values by field name, as encoding/json writes them. A nil value clears a field.
type Fields map[string]any

// Canonical gives the values that are set, and the fields that are cleared.
func (f Fields) Canonical() (record.Fields, []string, error) {
	set, cleared := record.Fields{}, []string{}
	for name, value := range f {
		raw, err := json.Marshal(value)
		if err != nil {
			return nil, nil, fmt.Errorf("field %q: %w", name, err)
		}
		canonical, err := record.CanonicalField(name, raw)
		if err != nil {
			return nil, nil, err
		}
		if canonical == nil {
			cleared = append(cleared, name)
		} else {
			set[name] = canonical
		}
	}
	return set, cleared, nil
}

// Record is a record as this device shows it: what central last said, with the unsent changes laid over it.
type Record struct {
	Collection string        `json:"collection"`
	ID         uuid.UUID     `json:"id"`
	Label      string        `json:"label"`
	Fields     record.Fields `json:"fields"`
	Revision   int64         `json:"revision"` // central's; 0 when central has none yet
	Pending    int           `json:"pending"`  // changes that central has not accepted yet
	Refused    int           `json:"refused"`  // of these, refused or waiting
	// PendingBelow counts the records below this one, its children and theirs, that hold changes which central has not
	// accepted.
	PendingBelow int       `json:"pending_below,omitempty"`
	EditedAt     time.Time `json:"edited_at"`
	Author       string    `json:"author,omitempty"`
	Device       string    `json:"device,omitempty"`
	// Disputes are the fields over which edits have met and that wait for a person; [Store.Settle] settles one.
	Disputes map[string]merge.Dispute `json:"disputes,omitempty"`
	// Decisions are what became, on this device, of a save whose author had seen an earlier state: which of two values
	// stays, and by which rule. Central decides again when the change comes.
	Decisions []change.Decision `json:"decisions,omitempty"`
	// Lost says that central was restored from a backup, and has not said since that it has the record; see
	// [Store.LostRecords].
	Lost bool `json:"lost,omitempty"`
	// Provisional stands in for numbers that central has not given yet, by field.
	Provisional map[string]string `json:"provisional,omitempty"`
	// AsOf is when central last confirmed the record as it stands under the unsent changes; zero for what is only here.
	AsOf time.Time `json:"as_of,omitzero"`
	// Age says whether that is longer ago than the definition allows.
	Age definition.Age `json:"age,omitempty"`
}

// Stored is a row of the table records.
type Stored struct {
	Collection   string         `db:"collection"`
	ID           string         `db:"id"`
	Revision     int64          `db:"revision"`
	Removed      bool           `db:"removed"`
	Fields       string         `db:"fields"`
	Computed     string         `db:"computed"`
	Local        string         `db:"local"`
	Marks        string         `db:"marks"`
	UnderRemoved bool           `db:"under_removed"`
	UnderFields  sql.NullString `db:"under_fields"`
	UnderBy      string         `db:"under_by"`
	Pending      int            `db:"pending"`
	Refused      int            `db:"refused"`
	Withdrawn    int64          `db:"withdrawn"`
	Lost         string         `db:"lost"`
	Author       string         `db:"author"`
	Device       string         `db:"device"`
	EditedAt     string         `db:"edited_at"`
	ReceivedAt   string         `db:"received_at"`
	ConfirmedAt  *string        `db:"confirmed_at"`
	UsedAt       *string        `db:"used_at"`

	Decisions []change.Decision // of the save that it comes from
}

// StoredColumns are those that a Stored is read from.
const StoredColumns = `collection, id, revision, removed, fields, computed, local, marks, under_removed, under_fields, under_by, pending, withdrawn, lost,
	author, device, edited_at, received_at, confirmed_at, used_at,
	CASE WHEN pending > 0 THEN (SELECT count(*) FROM outbox o WHERE o.collection = records.collection AND o.record = records.id
		AND o.state IN ('refused', 'waiting')) ELSE 0 END AS refused`

// Record is what an app is shown of it.
func (r Stored) Record(c *definition.Collection) (Record, error) {
	shown := Record{Collection: r.Collection, Revision: r.Revision, Pending: r.Pending, Refused: r.Refused,
		Lost: r.Lost != "", EditedAt: file.ParseTime(r.EditedAt), Author: r.Author, Device: r.Device, Decisions: r.Decisions}
	if err := json.Unmarshal([]byte(r.Fields), &shown.Fields); err != nil {
		return shown, fmt.Errorf("%w: record %s", file.ErrDamaged, r.ID)
	}
	var err error
	if shown.ID, err = uuid.Parse(r.ID); err != nil {
		return shown, fmt.Errorf("%w: record id %q", file.ErrDamaged, r.ID)
	}
	var computed, local record.Fields
	if err := errors.Join(json.Unmarshal([]byte(r.Computed), &computed),
		json.Unmarshal([]byte(r.Local), &local)); err != nil {
		return shown, fmt.Errorf("%w: record %s", file.ErrDamaged, r.ID)
	}
	maps.Copy(shown.Fields, computed)
	maps.Copy(shown.Fields, local)
	if strings.Contains(r.Marks, `"disputes"`) {
		var marks merge.Marks
		if err := json.Unmarshal([]byte(r.Marks), &marks); err != nil {
			return shown, fmt.Errorf("%w: record %s", file.ErrDamaged, r.ID)
		}
		shown.Disputes = marks.Disputes
	}
	shown.Provisional, shown.Label = Provisional(c, shown.ID, shown.Fields)
	return shown, nil
}

// Provisional gives what stands in for the numbers of a record that central has not numbered yet, and its label with
// these.
func Provisional(c *definition.Collection, id uuid.UUID, fields record.Fields) (map[string]string, string) {
	var marks map[string]string
	named := fields
	for name, looks := range c.SeriesFields() {
		if fields[name] != nil {
			continue
		}
		if marks == nil {
			marks, named = map[string]string{}, maps.Clone(fields)
		}
		marks[name] = looks.Provisional(id)
		named[name] = json.RawMessage(strconv.Quote(marks[name]))
	}
	return marks, c.LabelOf(named)
}

// Under is what central last said of the record; it does not exist when central has none.
func (r Stored) Under() (merge.State, error) {
	if r.Revision == 0 {
		return merge.State{}, nil
	}
	state := merge.State{Revision: r.Revision, Removed: r.Removed}
	text := r.Fields
	if r.UnderFields.Valid {
		text, state.Removed = r.UnderFields.String, r.UnderRemoved
	}
	if err := json.Unmarshal([]byte(text), &state.Fields); err != nil {
		return state, fmt.Errorf("%w: record %s", file.ErrDamaged, r.ID)
	}
	if r.Marks != "" {
		if err := json.Unmarshal([]byte(r.Marks), &state.Marks); err != nil {
			return state, fmt.Errorf("%w: record %s", file.ErrDamaged, r.ID)
		}
	}
	return state, nil
}

// lastEdit is who edited a record last.
type lastEdit struct {
	Author   string
	Device   string
	EditedAt string
}

// KeepBy keeps who edited the record last as central has it, before an unsent edit is shown in its place.
func (r *Stored) KeepBy(author, device, editedAt string) error {
	text, err := json.Marshal(lastEdit{author, device, editedAt})
	r.UnderBy = string(text)
	return err
}

// showBy says who edited the record last, once nothing unsent is laid over it any more.
func (r *Stored) showBy() error {
	if r.UnderBy == "" {
		return nil
	}
	var by lastEdit
	if err := json.Unmarshal([]byte(r.UnderBy), &by); err != nil {
		return fmt.Errorf("%w: record %s", file.ErrDamaged, r.ID)
	}
	r.Author, r.Device, r.EditedAt, r.UnderBy = by.Author, by.Device, by.EditedAt, ""
	return nil
}

// LoadStored reads one record; it is [file.ErrNoRecord] when there is none.
func LoadStored(ctx context.Context, r file.Runner, collection, id string) (Stored, error) {
	var row Stored
	err := r.GetContext(
		ctx,
		&row,
		`SELECT `+StoredColumns+` FROM records WHERE collection = ? AND id = ?`,
		collection,
		id,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return row, fmt.Errorf("%w: %s in %s", file.ErrNoRecord, id, collection)
	}
	return row, err
}

// Found is a page of records.
type Found struct {
	Records []Record `json:"records"`
	Total   int      `json:"total"`          // on all pages, as far as they are counted
	More    bool     `json:"more,omitempty"` // there are more than Total
	Limit   int      `json:"limit"`
	Offset  int      `json:"offset"`
	// AsOf is when central last confirmed the collection; zero when it never did.
	AsOf time.Time `json:"as_of,omitzero"`
	// Age says whether that is longer ago than the definition allows.
	Age definition.Age `json:"age,omitempty"`
}

// Ask says which records of a collection are wanted.
type Ask = query.Ask

// Find is [device.Store.Find].
func (s *Shelf) Find(ctx context.Context, collection string, ask Ask) (Found, error) {
	c, err := s.Readable(ctx, collection)
	if err != nil {
		return Found{}, err
	}
	q, err := query.Parse(c.Definition, ask)
	if err != nil {
		return Found{}, err
	}
	condition, args, order := q.SQL(c.Definition, query.SQLite)
	// The collection stands in the statement as it does in the partial indexes: names hold only small letters, digits and _.
	from := fmt.Sprintf(` FROM records WHERE collection = '%s' AND NOT removed AND `, collection) + condition
	found := Found{Records: []Record{}, Limit: q.Limit, Offset: q.Offset}
	if q.Search != "" {
		ids, few, err := s.fitting(ctx, c, q.Search)
		if err != nil {
			return found, err
		}
		if few {
			err = s.findFitting(ctx, c, q, ids, &found)
			return found, err
		}
		err = s.findAll(ctx, c, q.Counted(), from+` ORDER BY `+order, args, &found)
		return found, err
	}
	if err := s.DB.GetContext(ctx, &found.Total, fmt.Sprintf(`SELECT count(*) FROM (SELECT 1%s LIMIT %d)`, from, query.MostCounted+1),
		args...); err != nil {
		return found, file.StoreError(err)
	}
	if found.Total > query.MostCounted {
		found.Total, found.More = query.MostCounted, true
	}
	var rows []Stored
	page := fmt.Sprintf(` ORDER BY %s LIMIT %d OFFSET %d`, order, q.Limit, q.Offset)
	if err := s.DB.SelectContext(ctx, &rows, `SELECT `+StoredColumns+from+page, args...); err != nil {
		return found, file.StoreError(err)
	}
	err = s.Show(ctx, c, rows, &found)
	return found, err
}

// findAll goes through the collection once, for a search, which looks into every record and finds few: their ids
// first, then the page.
func (s *Shelf) findAll(ctx context.Context, c *definition.Collection, most int, from string, args []any, found *Found) error {
	var ids []string
	if err := s.DB.SelectContext(ctx, &ids, fmt.Sprintf(`SELECT id%s LIMIT %d`, from, max(most, found.Offset+found.Limit)+1),
		args...); err != nil {
		return file.StoreError(err)
	}
	if found.Total = len(ids); found.Total > most {
		found.Total, found.More = most, true
	}
	first := min(found.Offset, len(ids))
	rows := []Stored{}
	for _, id := range ids[first:min(first+found.Limit, len(ids))] {
		row, err := LoadStored(ctx, s.DB, c.Definition.Collection, id)
		if errors.Is(err, file.ErrNoRecord) {
			continue // it went meanwhile
		}
		if err != nil {
			return file.StoreError(err)
		}
		rows = append(rows, row)
	}
	return s.Show(ctx, c, rows, found)
}

// Show fills a page with rows, and says as of when they are.
func (s *Shelf) Show(ctx context.Context, c *definition.Collection, rows []Stored, found *Found) error {
	var err error
	if found.AsOf, found.Age, err = s.AgeOf(ctx, s.DB, c); err != nil {
		return err
	}
	now, err := s.Latest(ctx, s.DB)
	if err != nil {
		return file.StoreError(err)
	}
	below, err := s.pendingBelow(ctx, c)
	if err != nil {
		return err
	}
	for _, row := range rows {
		shown, err := row.Record(c)
		if err != nil {
			return err
		}
		shown.PendingBelow = below[row.ID]
		shown.AsOf, shown.Age = asOf(c, row, found.AsOf, now)
		found.Records = append(found.Records, shown)
	}
	return nil
}

// Get is [device.Store.Get].
func (s *Shelf) Get(ctx context.Context, collection string, id uuid.UUID) (Record, error) {
	c, err := s.Readable(ctx, collection)
	if err != nil {
		return Record{}, err
	}
	row, err := LoadStored(ctx, s.DB, collection, id.String())
	if err != nil {
		return Record{}, file.StoreError(err)
	}
	if row.Removed {
		return Record{}, fmt.Errorf("%w: %s in %s was removed", file.ErrNoRecord, id, collection)
	}
	if row.UsedAt != nil {
		if _, err := s.DB.ExecContext(ctx, `UPDATE records SET used_at = ? WHERE collection = ? AND id = ?`,
			file.TimeText(s.Now()), collection, row.ID); err != nil {
			return Record{}, file.StoreError(err)
		}
	}
	var found Found
	if err := s.Show(ctx, c, []Stored{row}, &found); err != nil {
		return Record{}, err
	}
	return found.Records[0], nil
}

// Resolve is [device.Store.Resolve].
func (s *Shelf) Resolve(ctx context.Context, collection, text string) (uuid.UUID, error) {
	if id, err := uuid.Parse(text); err == nil {
		return id, nil
	}
	c, err := s.Collection(ctx, collection)
	if err != nil {
		return uuid.Nil, err
	}
	text = strings.TrimSpace(text)
	for _, find := range []func() ([]string, error){
		func() ([]string, error) { return s.byKey(ctx, c, text) },
		func() ([]string, error) { return s.byLabel(ctx, c, text) },
		func() ([]string, error) { return s.byPart(ctx, c, text) },
	} {
		ids, err := find()
		if err != nil {
			return uuid.Nil, file.StoreError(err)
		}
		switch len(ids) {
		case 0:
		case 1:
			return uuid.Parse(ids[0])
		default:
			return uuid.Nil, fmt.Errorf("%w: %q in %s, such as %s and %s", file.ErrAmbiguous, text, collection, ids[0], ids[1])
		}
	}
	return uuid.Nil, fmt.Errorf("%w: nothing in %s has the id, the key or the label %q", file.ErrNoRecord, collection, text)
}

// byKey finds at most two records by their key.
func (s *Shelf) byKey(ctx context.Context, c *definition.Collection, text string) (ids []string, err error) {
	if c.Key == "" {
		return nil, nil
	}
	err = s.DB.SelectContext(ctx, &ids, fmt.Sprintf(`SELECT id FROM records WHERE collection = '%s' AND %s = ? AND NOT removed LIMIT 2`,
		c.Definition.Collection, KeyText(c.Key)), text)
	return ids, err
}

// byLabel finds records by what they are called, and by what stands in for a number that central has not given yet.
func (s *Shelf) byLabel(ctx context.Context, c *definition.Collection, text string) (ids []string, err error) {
	found, err := s.Find(ctx, c.Definition.Collection, Ask{Label: text, Limit: 2})
	if err != nil {
		return nil, err
	}
	for _, r := range found.Records {
		ids = append(ids, r.ID.String())
	}
	if len(ids) > 0 || len(c.SeriesFields()) == 0 {
		return ids, nil
	}
	var rows []Stored
	if err := s.DB.SelectContext(ctx, &rows, `SELECT `+StoredColumns+` FROM records WHERE collection = ? AND revision = 0 AND NOT removed`,
		c.Definition.Collection); err != nil {
		return nil, err
	}
	for _, row := range rows {
		shown, err := row.Record(c)
		if err != nil {
			return nil, err
		}
		if strings.EqualFold(shown.Label, text) {
			ids = append(ids, row.ID)
		}
	}
	return ids, nil
}

// byPart finds at most two records by the beginning or the end of their ids.
func (s *Shelf) byPart(ctx context.Context, c *definition.Collection, text string) (ids []string, err error) {
	const least = 4 // characters
	if len(text) < least {
		return nil, nil
	}
	part := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(strings.ToLower(text))
	err = s.DB.SelectContext(ctx, &ids, `SELECT id FROM records
		WHERE collection = ? AND NOT removed AND (id LIKE ? ESCAPE '\' OR id LIKE ? ESCAPE '\') LIMIT 2`, c.Definition.Collection, part+"%", "%"+part)
	return ids, err
}

// HolderOf finds another record that has what no two share ([definition.Definition.OneText]); nil when there is none here.
func (s *Shelf) HolderOf(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, text, than string) (*Record, error) {
	var row Stored
	err := tx.GetContext(ctx, &row, fmt.Sprintf(`SELECT %s FROM records WHERE collection = '%s' AND %s = ? AND id <> ? AND NOT removed LIMIT 1`,
		StoredColumns, c.Definition.Collection, oneText(c.Definition)), text, than)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	shown, err := row.Record(c)
	return &shown, err
}

// oneText is what no two records share as text, as its index has it.
func oneText(d definition.Definition) string {
	parts := make([]string, len(d.OneFor()))
	for n, name := range d.OneFor() {
		parts[n] = KeyText(name)
	}
	return strings.Join(parts, " || '"+definition.OneBetween+"' || ")
}

// KeyText is a key as text, as its index has it. Names hold only small letters, digits and _.
func KeyText(field string) string { return fmt.Sprintf(`CAST(fields->>'$.%s' AS TEXT)`, field) }

// WriteStored writes one record.
func (s *Shelf) WriteStored(ctx context.Context, tx *sqlx.Tx, row Stored) error {
	return s.Exec(ctx, tx, file.UpsertRecord, row.Collection, row.ID, row.Revision, row.Removed, row.Fields, row.Local,
		row.Marks, row.UnderRemoved, row.UnderFields, row.UnderBy, row.Pending, row.Withdrawn, row.Lost,
		row.Author, row.Device, row.EditedAt, row.ReceivedAt, row.ConfirmedAt, row.UsedAt)
}

// Fingerprint is [device.Store.Fingerprint].
func (s *Shelf) Fingerprint(ctx context.Context, collection string) (fingerprint.Set, error) {
	var set fingerprint.Set
	rows, err := s.DB.QueryContext(
		ctx,
		`SELECT id, fields FROM records WHERE collection = ? AND NOT removed`,
		collection,
	)
	if err != nil {
		return set, file.StoreError(err)
	}
	defer rows.Close()
	for rows.Next() {
		var id, fields string
		if err := rows.Scan(&id, &fields); err != nil {
			return set, file.StoreError(err)
		}
		parsed, err := uuid.Parse(id)
		if err != nil {
			return set, file.ErrDamaged
		}
		set.Add(parsed, []byte(fields))
	}
	return set, file.StoreError(rows.Err())
}
