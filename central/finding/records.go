package finding

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/fingerprint"
	"homing/core/query"
	"homing/core/record"
	"homing/core/rights"
	"homing/core/sight"
	"homing/wire"
)

// found is a record as people ask for it.
type found struct {
	ID          uuid.UUID  `db:"id"`
	Revision    int64      `db:"revision"`
	Position    int64      `db:"position"`
	Removed     bool       `db:"removed"`
	Fields      []byte     `db:"fields"`
	Computed    []byte     `db:"computed"`
	Marks       []byte     `db:"marks"`
	Author      string     `db:"author"`
	Device      string     `db:"device"`
	EditedAt    time.Time  `db:"edited_at"`
	ReceivedAt  time.Time  `db:"received_at"`
	Territories fleet.Keys `db:"territories"`
}

// record is the record with what a device needs for its merges.
func (f found) record() wire.Record {
	r := wire.Record{ID: f.ID, Revision: f.Revision, Position: f.Position, Removed: f.Removed, Author: f.Author,
		Device:   f.Device,
		EditedAt: f.EditedAt.UTC(), ReceivedAt: f.ReceivedAt.UTC()}
	if !f.Removed {
		r.Fields, r.Marks = f.Fields, f.Marks
	}
	return r
}

const recordColumns = `id, revision, position, removed, fields, computed, marks, author, device, edited_at, received_at,
	array_to_json(territories) AS territories`

// Listing is a page of records.
type Listing struct {
	Records []wire.Record `json:"records"`
	Total   int64         `json:"total" doc:"Records that fit the query on all pages, as far as they are counted; with after, those that follow."`
	More    bool          `json:"more,omitempty" doc:"There are more than total."`
	Limit   int           `json:"limit"`
	Offset  int           `json:"offset"`
}

// Looked is what people who look at central's records ask for.
type Looked struct {
	query.Ask
	Removed      bool      // those that were removed, in place of those that are there
	By           string    // edited last by this worker
	Since, Until time.Time // edited last in this span, by central's time; zero where it is open
	Within       *Area
	During       *Span
}

// Span is a time, by a field that holds a date or a time; zero where it is open. Both ends belong to it.
type Span struct {
	Field    string
	From, To time.Time
}

// sql is the span as a condition.
func (s Span) sql(d definition.Definition) (condition string, args []any, err error) {
	field, _ := d.Field(s.Field)
	form := "YYYY-MM-DD"
	at := fmt.Sprintf(`(CASE WHEN fields->>'%s' ~ '^\d{4}-\d\d-\d\d' THEN left(fields->>'%[1]s', 10) END)`, s.Field)
	switch field.Shape().Format {
	case "date":
	case "date-time":
		form = ""
		at = fmt.Sprintf(`(CASE WHEN fields->>'%s' ~ '^\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d' THEN (fields->>'%[1]s')::timestamptz END)`, s.Field)
	default:
		return "", nil, fault.Fail(fault.Invalid, "%s has no field %q that holds a date or a time", d.Collection, s.Field)
	}
	terms := []string{at + " IS NOT NULL"}
	for _, end := range []struct {
		how string
		at  time.Time
	}{{">=", s.From}, {"<=", s.To}} {
		switch {
		case end.at.IsZero():
		case form != "":
			terms, args = append(terms, at+" "+end.how+" ?"), append(args, end.at.UTC().Format(time.DateOnly))
		default:
			terms, args = append(terms, at+" "+end.how+" ?::timestamptz"), append(args, end.at)
		}
	}
	return strings.Join(terms, " AND "), args, nil
}

// Area is what lies between two meridians and two parallels, by a field that holds a point or a line. West may be greater than
// east: the area crosses the antimeridian then (RFC 7946, section 5.2).
type Area struct {
	Field                    string
	West, South, East, North float64 // degrees
}

// ReadArea reads FIELD:WEST,SOUTH,EAST,NORTH.
func ReadArea(text string) (*Area, error) {
	field, box, _ := strings.Cut(text, ":")
	sides := strings.Split(box, ",")
	area := &Area{Field: field}
	for n, side := range []*float64{&area.West, &area.South, &area.East, &area.North} {
		var err error
		if len(sides) != 4 || field == "" {
			err = strconv.ErrSyntax
		} else if *side, err = strconv.ParseFloat(strings.TrimSpace(sides[n]), 64); math.IsNaN(*side) || math.IsInf(*side, 0) {
			err = strconv.ErrSyntax
		}
		if err != nil {
			return nil, fault.Fail(fault.Invalid, "within %.80q: write FIELD:WEST,SOUTH,EAST,NORTH, in degrees", text)
		}
	}
	return area, nil
}

// sql is the area as a condition, with a placeholder for each of its sides.
func (a Area) sql(d definition.Definition) (condition string, args []any, err error) {
	field, _ := d.Field(a.Field)
	switch field.Shape().Ref {
	case definition.PointURL:
	case definition.LineURL:
		condition, args = a.crossed()
		return condition, args, nil
	default:
		return "", nil, fault.Fail(fault.Invalid, "within %q: %s has no field of this name that holds a point or a line", a.Field, d.Collection)
	}
	at := func(n int) string { // what is no number lies nowhere
		side := fmt.Sprintf("fields->'%s'->'coordinates'->%d", a.Field, n)
		return fmt.Sprintf("(CASE WHEN json_typeof(%s) = 'number' THEN (%[1]s)::text::float8 END)", side)
	}
	between := "AND"
	if a.West > a.East {
		between = "OR"
	}
	return fmt.Sprintf("(%[1]s >= ? %[3]s %[1]s <= ?) AND %[2]s BETWEEN ? AND ?", at(0), at(1), between),
		[]any{a.West, a.East, a.South, a.North}, nil
}

// crossed is the area as a condition on a line: that a piece of it lies in the area, or crosses its edge. PostgreSQL's own
// types for the plane tell that.
func (a Area) crossed() (condition string, args []any) {
	boxes := []Area{a}
	if a.West > a.East {
		boxes = []Area{{a.Field, a.West, a.South, 180, a.North}, {a.Field, -180, a.South, a.East, a.North}}
	}
	var terms []string
	for _, b := range boxes {
		terms = append(terms, "inter_sb(lseg(p, coalesce(q, p)), box(point(?::float8, ?::float8), point(?::float8, ?::float8)))")
		args = append(args, b.East, b.North, b.West, b.South)
	}
	return fmt.Sprintf(`(CASE WHEN json_typeof(fields->'%s'->'coordinates') = 'array' THEN EXISTS (SELECT FROM (SELECT p, lead(p) OVER (ORDER BY n) AS q
		FROM (SELECT point((c->>0)::float8, (c->>1)::float8) AS p, n FROM json_array_elements(fields->'%[1]s'->'coordinates') WITH ORDINALITY AS e (c, n)) places) pieces
		WHERE %s) ELSE false END)`, a.Field, strings.Join(terms, " OR ")), args
}

// sql is what is asked for beyond the question itself.
func (l Looked) sql(d definition.Definition) (condition string, args []any, err error) {
	terms := []string{"TRUE"}
	add := func(term string, values ...any) { terms, args = append(terms, term), append(args, values...) }
	if l.By != "" {
		add("author = ?", l.By)
	}
	if !l.Since.IsZero() {
		add("edited_at >= ?", l.Since)
	}
	if !l.Until.IsZero() {
		add("edited_at < ?", l.Until)
	}
	if l.Within != nil {
		term, values, err := l.Within.sql(d)
		if err != nil {
			return "", nil, err
		}
		add(term, values...)
	}
	if l.During != nil {
		term, values, err := l.During.sql(d)
		if err != nil {
			return "", nil, err
		}
		add(term, values...)
	}
	return strings.Join(terms, " AND "), args, nil
}

// List gives a page of the records of a collection that are not removed and that somebody may see.
func (c *Finding) List(ctx context.Context, asker fleet.Person, collection string, ask query.Ask) (Listing, error) {
	return c.Look(ctx, asker, collection, Looked{Ask: ask})
}

// Look is List for who looks for more, or for what was removed.
func (c *Finding) Look(ctx context.Context, asker fleet.Person, collection string, what Looked) (Listing, error) {
	show := found.shown
	if what.Removed {
		show = found.whole
	}
	listing, err := c.list(ctx, sight.Askers{asker}, collection, what, show)
	if err != nil {
		return listing, err
	}
	compiled, err := c.db.Collection(ctx, collection)
	if err != nil {
		return listing, err
	}
	for n := range listing.Records {
		wanted(compiled, &listing.Records[n])
	}
	return listing, nil
}

// wanted says what a record wants attention for on the day that it is where central runs.
func wanted(c *definition.Collection, r *wire.Record) {
	if r.Removed || !c.Attends() {
		return
	}
	fields, err := record.Parse(r.Fields)
	if err != nil {
		return
	}
	if one, wants := c.Attention(fields, time.Now().Format(time.DateOnly)); wants {
		r.Wants = &desk.Wanted{Say: one.Say, Grade: one.Grade}
	}
}

// LookUp is List for a device that asks for records which it does not keep: with the marks that its merges need.
func (c *Finding) LookUp(ctx context.Context, from fleet.Device, collection string, ask query.Ask) (Listing, error) {
	compiled, err := c.db.Collection(ctx, collection)
	if err != nil {
		return Listing{}, err
	}
	if !compiled.Sync.Direction.Pulls() {
		return Listing{}, fault.Fail(fault.NotAllowed, "records of %s only go up to central", collection)
	}
	return c.list(ctx, from.People, collection, Looked{Ask: ask}, found.record)
}

func (c *Finding) list(ctx context.Context, askers sight.Askers, collection string, what Looked,
	show func(found) wire.Record) (Listing, error) {
	compiled, err := c.db.Collection(ctx, collection)
	if err != nil {
		return Listing{}, err
	}
	q, err := query.Parse(compiled.Definition, what.Ask)
	if err != nil {
		return Listing{}, fault.Fail(fault.Invalid, "%v", err)
	}
	condition, args, order := q.SQL(compiled.Definition, query.PostgreSQL)
	besides, more, err := what.sql(compiled.Definition)
	if err != nil {
		return Listing{}, err
	}
	condition, args = condition+" AND "+besides, append(args, more...)
	removed := "NOT removed"
	if what.Removed {
		removed = "removed"
	}
	listing := Listing{Records: []wire.Record{}, Limit: q.Limit, Offset: q.Offset}
	// The collection stands in the statement as it does in the partial indexes: names hold only small letters, digits and _.
	table, where := fmt.Sprintf(`FROM records WHERE collection = '%s' AND %s`, collection, removed), sqlx.Rebind(sqlx.DOLLAR, condition)
	if !what.Removed && postgres.Keyed(compiled.Definition, q) {
		where += " AND " + postgres.PartOf(collection)
	}
	if territories := askers.Territories(); !slices.Contains(territories, rights.All) {
		args = append(args, territories)
		where += " AND " + postgres.Covered(fmt.Sprintf("$%d", len(args)))
	}
	from := table + " AND " + where
	if !askers.ReadsAll(compiled) {
		return c.listByRule(ctx, compiled, askers, q, `SELECT `+recordColumns+` `+from+` ORDER BY `+order, args, show)
	}
	err = c.db.Snapshot(ctx, func(tx *postgres.Tx) error {
		if q.Search != "" {
			if err := preferOrder(ctx, tx, table, where, args); err != nil {
				return err
			}
		}
		most, counted := int64(q.Counted()), from
		if key := q.Ranging(compiled.Definition, query.PostgreSQL); key != "" {
			counted += " ORDER BY " + key
			if err := tx.GoInOrder(ctx); err != nil {
				return err
			}
		}
		if err := tx.QueryRowxContext(ctx, fmt.Sprintf(`SELECT count(*) FROM (SELECT 1 %s LIMIT %d) c`, counted, most+1),
			args...).Scan(&listing.Total); err != nil {
			return err
		}
		if listing.More = listing.Total > most; listing.More {
			listing.Total = most
			if err := tx.GoInOrder(ctx); err != nil { // a page of so many is full soon
				return err
			}
		}
		var rows []found
		statement := fmt.Sprintf(`SELECT %s %s ORDER BY %s LIMIT %d OFFSET %d`, recordColumns, from, order, q.Limit, q.Offset)
		if key, is := q.Backwards(compiled.Definition, query.PostgreSQL); is {
			// PostgreSQL's indexes have those without a value at the other end, so they are read for themselves.
			statement = fmt.Sprintf(`(SELECT %[1]s %[2]s AND %[3]s IS NOT NULL ORDER BY %[3]s DESC, id DESC LIMIT %[4]d)
				UNION ALL (SELECT %[1]s %[2]s AND %[3]s IS NULL ORDER BY id DESC LIMIT %[4]d) LIMIT %[5]d OFFSET %[6]d`,
				recordColumns, from, key, q.Limit+q.Offset, q.Limit, q.Offset)
		}
		if err := tx.SelectContext(ctx, &rows, statement, args...); err != nil {
			return err
		}
		listing.Records = listing.Records[:0]
		for _, row := range rows {
			listing.Records = append(listing.Records, show(row))
		}
		return nil
	})
	return listing, err
}

// preferOrder lets a search go through the records in their order where many of the first have what it looks for.
// PostgreSQL, which takes it for rare, would gather all of them by their trigrams before it gives any.
func preferOrder(ctx context.Context, tx *postgres.Tx, table, where string, args []any) error {
	const first, many = 1000, 100
	var found int
	err := tx.GetContext(ctx, &found, fmt.Sprintf(`SELECT count(*) FROM (SELECT * %s ORDER BY id LIMIT %d) records WHERE %s`,
		table, first, where), args...)
	if err != nil || found < many {
		return err
	}
	return tx.GoInOrder(ctx)
}

// shown is the record as people see it: the merge needs the marks, they do not.
func (p found) shown() wire.Record {
	r := p.record()
	r.Marks = nil
	r.Fields = withComputed(r.Fields, p.Computed)
	return r
}

// whole is shown, with what a removed record last said.
func (p found) whole() wire.Record {
	r := p.shown()
	r.Fields = withComputed(p.Fields, p.Computed)
	return r
}

// withComputed adds the computed values to the fields, both JSON objects. No name is in both.
func withComputed(fields, computed []byte) []byte {
	switch {
	case len(computed) <= len("{}") || len(fields) == 0:
		return fields
	case len(fields) <= len("{}"):
		return computed
	}
	both := append(bytes.Clone(fields[:len(fields)-1]), ',')
	return append(both, computed[1:]...)
}

// listByRule lists a collection whose definition says by an expression who may read a record. The database cannot
// evaluate it, so every record that fits is looked at.
func (c *Finding) listByRule(ctx context.Context, collection *definition.Collection, askers sight.Askers,
	q query.Query, statement string, args []any, show func(found) wire.Record) (Listing, error) {
	listing := Listing{Records: []wire.Record{}, Limit: q.Limit, Offset: q.Offset}
	rows, err := c.db.QueryxContext(ctx, statement, args...)
	if err != nil {
		return listing, err
	}
	defer rows.Close()
	for rows.Next() {
		var p found
		if err := rows.StructScan(&p); err != nil {
			return listing, err
		}
		seen, err := sees(askers, collection, p.Territories, p.Fields)
		if err != nil {
			return listing, err
		}
		if !seen {
			continue
		}
		if listing.Total >= int64(q.Offset) && len(listing.Records) < q.Limit {
			listing.Records = append(listing.Records, show(p))
		}
		listing.Total++
	}
	return listing, rows.Err()
}

// Record gives one record, removed or not, if somebody may see it.
func (c *Finding) Record(ctx context.Context, asker fleet.Person, collection string,
	id uuid.UUID) (wire.Record, error) {
	compiled, err := c.db.Collection(ctx, collection)
	if err != nil {
		return wire.Record{}, err
	}
	var row found
	missing := fault.Fail(fault.NotFound, "there is no record %s in %s", id, collection)
	err = sqlx.GetContext(ctx, c.db, &row, `SELECT `+recordColumns+` FROM records WHERE collection = $1 AND id = $2`,
		collection, id)
	if errors.Is(err, sql.ErrNoRows) {
		return wire.Record{}, missing
	}
	if err != nil {
		return wire.Record{}, err
	}
	if seen, err := sees(sight.Alone(asker), compiled, row.Territories, row.Fields); err != nil || !seen {
		return wire.Record{}, errors.Join(missing, err)
	}
	r := row.whole()
	wanted(compiled, &r)
	return r, nil
}

// Fingerprint is that of all records of a collection that are not removed and that somebody may see.
func (c *Finding) Fingerprint(ctx context.Context, asker fleet.Person, collection string) (fingerprint.Set, error) {
	var set fingerprint.Set
	compiled, err := c.db.Collection(ctx, collection)
	if err != nil {
		return set, err
	}
	rows, err := c.db.QueryxContext(ctx,
		`SELECT id, fields FROM records WHERE collection = $1 AND NOT removed AND `+postgres.Covered("$2"), collection,
		asker.Territories)
	if err != nil {
		return set, err
	}
	defer rows.Close()
	for rows.Next() {
		var id uuid.UUID
		var fields []byte
		if err := rows.Scan(&id, &fields); err != nil {
			return set, err
		}
		if seen, err := sees(sight.Alone(asker), compiled, []string{rights.All}, fields); err != nil || !seen {
			if err != nil {
				return set, err
			}
			continue
		}
		set.Add(id, fields)
	}
	return set, rows.Err()
}
