package postgres

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/central/fleet"
	"homing/central/pulls"
	"homing/core/change"
	"homing/core/desk"
	"homing/core/rights"
	"homing/wire"
)

// Covered is the condition that a record is covered by who holds the territories of an argument. It says what
// rights.Covers says.
func Covered(argument string) string {
	return fmt.Sprintf(`('*' = ANY(%[1]s::text[]) OR '*' = ANY(territories) OR territories && %[1]s::text[])`, argument)
}

// entry is a row of the table records on its way to a device.
type entry struct {
	ID          uuid.UUID  `db:"id"`
	Revision    int64      `db:"revision"`
	Position    int64      `db:"position"`
	Removed     bool       `db:"removed"`
	Fields      []byte     `db:"fields"`
	Marks       []byte     `db:"marks"`
	Territories fleet.Keys `db:"territories"`
	Left        fleet.Keys `db:"left_territories"`
	Incarnation uuid.UUID  `db:"incarnation"`
	Number      int64      `db:"number"`
	Again       bool       `db:"again"`
	Since       int64      `db:"since"`
	Author      string     `db:"author"`
	Device      string     `db:"device"`
	EditedAt    time.Time  `db:"edited_at"`
	ReceivedAt  time.Time  `db:"received_at"`
}

const entryColumns = `id, revision, position, removed, fields, marks, array_to_json(territories) AS territories,
	array_to_json(left_territories) AS left_territories, incarnation, number, again, author, device, edited_at,
	received_at`

func (e entry) entry() pulls.Entry {
	return pulls.Entry{ID: e.ID, Revision: e.Revision, Position: e.Position, Removed: e.Removed, Fields: e.Fields,
		Marks:       e.Marks,
		Territories: e.Territories, Left: e.Left, Source: change.Source{Incarnation: e.Incarnation, Number: e.Number},
		Again: e.Again, Since: e.Since,
		Last: desk.LastChange{Author: e.Author, Device: e.Device, EditedAt: e.EditedAt.UTC(), ReceivedAt: e.ReceivedAt.UTC()}}
}

// Head is [pulls.Tables.Head].
func (t *Tx) Head(ctx context.Context, collection string) (head int64, err error) {
	// Where the statistics lag behind a collection that has grown fast, PostgreSQL would sort all that is left for each
	// page, instead of going along the index of positions.
	var way string
	err = t.QueryRowxContext(ctx, `SELECT head, set_config('enable_sort', 'off', true) FROM collections WHERE name = $1`,
		collection).Scan(&head, &way)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return head, err
}

// GoInOrder makes the statements that follow go through tables by an index that has their order, where there is one, and
// gather or sort nothing first.
func (t *Tx) GoInOrder(ctx context.Context) error {
	_, err := t.ExecContext(ctx, `SET LOCAL enable_bitmapscan = off; SET LOCAL enable_sort = off`)
	return err
}

// GoByIndex makes the statements that follow take an index where there is one. PostgreSQL has no statistics of what a
// partial index leaves out, and takes one that holds a few records for one that holds all.
func (t *Tx) GoByIndex(ctx context.Context) error {
	_, err := t.ExecContext(ctx, `SET LOCAL enable_seqscan = off`)
	return err
}

// Heads is [pulls.Tables.Heads].
func (t *Tx) Heads(ctx context.Context) (map[string]int64, error) {
	return t.byCollection(ctx, `SELECT name, head FROM collections`)
}

// LeftAfter is [pulls.Tables.LeftAfter].
func (t *Tx) LeftAfter(ctx context.Context, at time.Time) (map[string]int64, error) {
	return t.byCollection(ctx, `SELECT c.name, h.head FROM collections c CROSS JOIN LATERAL (SELECT head FROM heads
		WHERE collection = c.name AND left_at > $1 ORDER BY left_at LIMIT 1) h`, at)
}

func (t *Tx) byCollection(ctx context.Context, query string, args ...any) (map[string]int64, error) {
	var rows []struct {
		Name string `db:"name"`
		Head int64  `db:"head"`
	}
	err := t.SelectContext(ctx, &rows, query, args...)
	all := make(map[string]int64, len(rows))
	for _, row := range rows {
		all[row.Name] = row.Head
	}
	return all, err
}

// Count is [pulls.Tables.Count].
func (t *Tx) Count(ctx context.Context, collection string, covers []string) (n int64, err error) {
	query, args := `SELECT count(*) FROM records WHERE collection = $1 AND NOT removed`, []any{collection}
	if !slices.Contains(covers, rights.All) {
		query, args = query+` AND placed(collection, territories) && $2::text[]`, append(args, placed(collection, covers))
	}
	err = t.QueryRowxContext(ctx, query, args...).Scan(&n)
	return n, err
}

// placed are the territories of a collection, and what is open in it, as the index of records has them.
func placed(collection string, covers []string) []string {
	keys := []string{collection + ":" + rights.All}
	for _, key := range covers {
		keys = append(keys, collection+":"+key)
	}
	return keys
}

// Changed is [pulls.Tables.Changed].
func (t *Tx) Changed(ctx context.Context, wanted pulls.Wanted, limit int, take func(pulls.Entry) (bool, error)) error {
	since, args := `0`, []any{wanted.Collection, wanted.After, limit}
	argument := func(value any) string {
		args = append(args, value)
		return fmt.Sprintf("$%d", len(args))
	}
	if wanted.Parts > 0 {
		// What has moved between territories, the device may not have had then. The latest versions are few.
		since = `coalesce(CASE WHEN revision > 1 AND NOT removed AND left_territories = '{}' THEN (SELECT v.revision FROM versions v
			WHERE v.collection = $1 AND v.record = records.id AND v.position <= ` + argument(wanted.Parts) + ` ORDER BY v.revision DESC LIMIT 1) END, 0)`
	}
	var concerns string
	switch whole := slices.Contains(wanted.Covers, rights.All); {
	case wanted.Load && whole:
		concerns = `NOT removed`
	case wanted.Load:
		// The records of a few territories are found by their index and put in order then, those of large ones in their order: how
		// many there are, the plan must know.
		if _, err := t.ExecContext(ctx, `SELECT set_config('enable_sort', 'on', true), set_config('plan_cache_mode', 'force_custom_plan', true)`); err != nil {
			return err
		}
		concerns = `NOT removed AND placed(collection, territories) && ` + argument(placed(wanted.Collection, wanted.Covers)) + `::text[]`
	default:
		covers := argument(wanted.Covers)
		concerns = `(` + Covered(covers) + ` OR '*' = ANY(left_territories) OR left_territories && ` + covers + `::text[]
			OR incarnation = ANY(` + argument(Texts(wanted.Stores)) + `::uuid[]))`
	}
	rows, err := t.QueryxContext(ctx, `SELECT `+entryColumns+`, `+since+` AS since FROM records
		WHERE collection = $1 AND position > $2 AND `+concerns+` ORDER BY position LIMIT $3`, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var e entry
		if err := rows.StructScan(&e); err != nil {
			return err
		}
		if more, err := take(e.entry()); err != nil || !more {
			return err
		}
	}
	return rows.Err()
}

// Entries is [pulls.Tables.Entries].
func (t *Tx) Entries(ctx context.Context, collection string, ids []uuid.UUID) (map[uuid.UUID]pulls.Entry, error) {
	var rows []entry
	err := t.SelectContext(ctx, &rows,
		`SELECT `+entryColumns+` FROM records WHERE collection = $1 AND id = ANY($2::uuid[])`, collection, Texts(ids))
	found := make(map[uuid.UUID]pulls.Entry, len(rows))
	for _, row := range rows {
		found[row.ID] = row.entry()
	}
	return found, err
}

// NotePull is [pulls.Ground.NotePull]. The cursor that a device sends is the one that it has stored.
func (d *DB) NotePull(ctx context.Context, device uuid.UUID, ask pulls.Request, page wire.Page, bytes int) error {
	stored := ask.Cursor
	if !page.More && len(page.Records) == 0 {
		stored = page.Cursor // nothing that could get lost on the way
	}
	return d.Within(ctx, func(t *Tx) error {
		// While a device loads, its cursor stands still.
		if _, err := t.ExecContext(ctx, `
			INSERT INTO cursors (device, collection, cursor, pulled_at) SELECT $1::uuid, $2, $3::bigint, $4::timestamptz
				WHERE NOT $5
			ON CONFLICT (device, collection) DO UPDATE SET cursor = excluded.cursor, pulled_at = excluded.pulled_at`,
			device, ask.Collection, stored, ask.At, ask.Load); err != nil {
			return err
		}
		if _, err := t.ExecContext(ctx, `UPDATE devices SET seen_at = $2 WHERE id = $1`, device, ask.At); err != nil {
			return err
		}
		if ask.Exchange == uuid.Nil {
			return nil
		}
		if err := t.notePage(ctx, device, ask.Exchange, ask.At, page); err != nil {
			return err
		}
		return t.noteExchange(ctx, device, ask.Exchange, ask.At, carried{delivered: len(page.Records), bytesOut: bytes})
	})
}
