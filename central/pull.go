package central

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/core/rights"
	"homing/wire"
)

// Limits of a page of a pull.
const (
	DefaultPage = 500
	MaxPage     = 5000
)

// PullRequest says what a device asks for.
type PullRequest struct {
	Collection string
	Exchange   uuid.UUID
	Cursor     int64
	Answered   int64 // highest number of its own changes whose answer the device has stored
	Limit      int   // records; 0 means DefaultPage
	// Covers are the territories that the device has loaded; nil means all that its worker holds.
	Covers []string
	// Load leaves out removals and withdrawals: the device loads what it has not had before.
	Load bool
}

type pulled struct {
	ID         uuid.UUID `db:"id"`
	Revision   int64     `db:"revision"`
	Position   int64     `db:"position"`
	Removed    bool      `db:"removed"`
	Fields     []byte    `db:"fields"`
	Computed   []byte    `db:"computed"`
	Marks      []byte    `db:"marks"`
	Author     string    `db:"author"`
	Device     string    `db:"device"`
	EditedAt   time.Time `db:"edited_at"`
	ReceivedAt time.Time `db:"received_at"`
	Covered    bool      `db:"covered"`
}

// taggedRecord is a record with what says who sees it.
type taggedRecord struct {
	pulled
	Territories keys `db:"territories"`
}

func (p pulled) record() wire.Record {
	r := wire.Record{ID: p.ID, Revision: p.Revision, Position: p.Position, Removed: p.Removed, Author: p.Author, Device: p.Device,
		EditedAt: p.EditedAt.UTC(), ReceivedAt: p.ReceivedAt.UTC()}
	if !p.Removed {
		r.Fields, r.Marks = p.Fields, p.Marks
	}
	return r
}

// Pull gives what changed in a collection after a cursor, each record once and in its latest state. A page ends at a number
// of records or of bytes. What the device itself changed last is left out when it has stored the answer: it holds that
// already. A load by a device that holds nothing yet leaves out what is removed. A record that has left the device's territories since the
// cursor, or that its worker may no longer read, comes as a withdrawal.
//
// Head and records are read from one snapshot. Positions become visible in the order of their numbers, so nothing can
// turn up later behind the cursor that the page ends with.
func (c *Central) Pull(ctx context.Context, from Device, ask PullRequest) (wire.Page, error) {
	if ask.Limit == 0 {
		ask.Limit = DefaultPage
	}
	if ask.Limit < 1 || ask.Limit > MaxPage {
		return wire.Page{}, fail(Invalid, "limit %d: take 1 to %d", ask.Limit, MaxPage)
	}
	if ask.Covers == nil {
		ask.Covers = from.Territories
	}
	for _, key := range ask.Covers {
		if !slices.Contains(from.Territories, key) && !slices.Contains(from.Territories, rights.All) {
			return wire.Page{}, fail(Coverage, "the worker %s does not hold the territory %q now; ask for the definitions again", from.Worker, key)
		}
	}
	collection, err := c.Collection(ctx, ask.Collection)
	if err != nil {
		return wire.Page{}, err
	}
	if !collection.Sync.Direction.Pulls() {
		return wire.Page{}, fail(NotAllowed, "records of %s only go up to central", ask.Collection)
	}
	page := wire.Page{Collection: ask.Collection, Records: []wire.Record{}}
	size := 0
	err = c.within(ctx, snapshot, func(tx *sqlx.Tx) error {
		page.Records, page.More, size = page.Records[:0], false, 0
		// Where the statistics lag behind a collection that has grown fast, PostgreSQL would sort all that is left for each page, instead of going
		// along the index of positions.
		var way string
		err := tx.QueryRowxContext(ctx, `SELECT head, set_config('enable_sort', 'off', true) FROM collections WHERE name = $1`, ask.Collection).Scan(&page.Head, &way)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return fail(NotFound, "there is no collection %q", ask.Collection)
		case err != nil:
			return err
		case ask.Cursor < 0 || ask.Cursor > page.Head:
			return fail(Clash, "the cursor %d is not within 0 to %d, the head of %s; forget the cursor and load the collection again", ask.Cursor, page.Head, ask.Collection)
		}
		if ask.Cursor == 0 {
			if err := tx.QueryRowxContext(ctx, `SELECT count(*) FROM records WHERE collection = $1 AND NOT removed AND `+covered("$2"), ask.Collection, ask.Covers).Scan(&page.Total); err != nil {
				return err
			}
		}
		size, err = c.fill(ctx, tx, from, ask, collection, &page)
		return err
	})
	if err != nil {
		return wire.Page{}, err
	}
	return page, c.notePull(ctx, from, ask, page, size)
}

func (c *Central) fill(ctx context.Context, tx *sqlx.Tx, from Device, ask PullRequest, collection *definition.Collection, page *wire.Page) (size int, err error) {
	readsAll := from.People.readsAll(collection)
	if !readsAll {
		ask.Answered = 0 // what the device changed last, its worker may no longer read
	}
	rows, err := tx.QueryxContext(ctx, `
		SELECT `+recordColumns+`, covered, array_to_json(territories) AS territories
		FROM (SELECT *, `+covered("$6")+` AS covered FROM records WHERE collection = $1 AND position > $2) r
		WHERE NOT (covered AND incarnation = $3 AND number <= $4) AND NOT (removed AND $7)
			AND (covered OR NOT $7 AND ('*' = ANY(left_territories) OR left_territories && $6::text[] OR incarnation = ANY($8::uuid[])))
		ORDER BY position LIMIT $5`, ask.Collection, ask.Cursor, from.Incarnation, ask.Answered, ask.Limit+1, ask.Covers, ask.Load, texts(from.Past))
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	page.Cursor = page.Head
	for rows.Next() {
		var p taggedRecord
		if err := rows.StructScan(&p); err != nil {
			return size, err
		}
		one := p.record()
		if !readsAll && p.Covered {
			if p.Covered, err = from.People.seeStored(collection, p.Territories, p.Fields); err != nil {
				return size, err
			}
		}
		if !p.Covered && ask.Load {
			continue
		}
		if !p.Covered {
			one = wire.Record{ID: p.ID, Revision: p.Revision, Position: p.Position, Withdrawn: true}
		}
		next := len(one.Fields) + len(one.Marks)
		if n := len(page.Records); n == ask.Limit || n > 0 && size+next > c.options.PageBytes {
			page.Cursor, page.More = page.Records[n-1].Position, true
			break
		}
		size += next
		page.Records = append(page.Records, one)
	}
	return size, rows.Err()
}

// notePull keeps how far the device has asked. The cursor it sends is the one it has stored.
func (c *Central) notePull(ctx context.Context, from Device, ask PullRequest, page wire.Page, size int) error {
	stored := ask.Cursor
	if !page.More && len(page.Records) == 0 {
		stored = page.Cursor // nothing that could get lost on the way
	}
	now := c.Now()
	return c.within(ctx, nil, func(tx *sqlx.Tx) error {
		// While a device loads, its cursor stands still.
		if _, err := tx.ExecContext(ctx, `
			INSERT INTO cursors (device, collection, cursor, pulled_at) SELECT $1::uuid, $2, $3::bigint, $4::timestamptz WHERE NOT $5
			ON CONFLICT (device, collection) DO UPDATE SET cursor = excluded.cursor, pulled_at = excluded.pulled_at`,
			from.ID, ask.Collection, stored, now, ask.Load); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE devices SET seen_at = $2 WHERE id = $1`, from.ID, now); err != nil {
			return err
		}
		if ask.Exchange == uuid.Nil {
			return nil
		}
		if err := notePage(ctx, tx, from.ID, ask.Exchange, now, page); err != nil {
			return err
		}
		return noteExchange(ctx, tx, from.ID, ask.Exchange, now, travelled{delivered: len(page.Records), bytesOut: size})
	})
}
