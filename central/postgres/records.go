package postgres

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"homing/central/changes"
	"homing/central/fleet"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/merge"
)

// storedRow is a row of the table records.
type storedRow struct {
	Collection  string     `db:"collection"`
	ID          uuid.UUID  `db:"id"`
	Revision    int64      `db:"revision"`
	Position    int64      `db:"position"`
	Restored    int64      `db:"restored"`
	Removed     bool       `db:"removed"`
	Fields      []byte     `db:"fields"`
	Computed    []byte     `db:"computed"`
	Marks       []byte     `db:"marks"`
	Territories fleet.Keys `db:"territories"`
	Left        fleet.Keys `db:"left_territories"`
	Author      string     `db:"author"`
	Device      string     `db:"device"`
	EditedAt    time.Time  `db:"edited_at"`
	ReceivedAt  time.Time  `db:"received_at"`
	Text        string     `db:"text"` // by which it was looked up
}

const rowColumns = `collection, id, revision, position, restored, removed, fields, computed, marks,
	array_to_json(territories) AS territories,
	array_to_json(left_territories) AS left_territories, author, device, edited_at, received_at`

func (s storedRow) row() (*desk.Row, error) {
	r := &desk.Row{State: merge.State{Revision: s.Revision, Removed: s.Removed}, Restored: s.Restored,
		Territories: s.Territories, Left: s.Left, Stored: true,
		Last: desk.LastChange{Author: s.Author, Device: s.Device, EditedAt: s.EditedAt.UTC(), ReceivedAt: s.ReceivedAt.UTC()}}
	err := errors.Join(json.Unmarshal(s.Fields, &r.Fields), json.Unmarshal(s.Marks, &r.Marks),
		json.Unmarshal(s.Computed, &r.Computed))
	if err != nil {
		return nil, fmt.Errorf("stored record %s: %w", s.ID, err)
	}
	return r, nil
}

// Lock is [changes.Loading.Lock].
func (t *Tx) Lock(ctx context.Context, wanted []desk.Key) (map[desk.Key]*desk.Row, error) {
	return t.rows(ctx, wanted, "FOR UPDATE")
}

// Rows is [changes.Finding.Rows].
func (t *Tx) Rows(ctx context.Context, wanted []desk.Key) (map[desk.Key]*desk.Row, error) {
	return t.rows(ctx, wanted, "")
}

func (t *Tx) rows(ctx context.Context, wanted []desk.Key, lock string) (map[desk.Key]*desk.Row, error) {
	if len(wanted) == 0 {
		return map[desk.Key]*desk.Row{}, nil
	}
	// All lock in one order, so that none waits for another that waits for it.
	wanted = slices.SortedFunc(slices.Values(wanted), func(a, b desk.Key) int {
		return cmp.Or(strings.Compare(a.Collection, b.Collection), bytes.Compare(a.ID[:], b.ID[:]))
	})
	wanted = slices.Compact(wanted)
	collections, ids := make([]string, len(wanted)), make([]string, len(wanted))
	for n, at := range wanted {
		collections[n], ids[n] = at.Collection, at.ID.String()
	}
	// Each is looked up on its own: PostgreSQL, which knows little of a table that is being filled, would read it whole for all
	// of them at once.
	var stored []storedRow
	err := t.SelectContext(ctx, &stored, `SELECT r.* FROM unnest($1::text[], $2::uuid[]) AS k (collection, id)
		CROSS JOIN LATERAL (SELECT `+rowColumns+` FROM records WHERE collection = k.collection AND id = k.id OFFSET 0 `+lock+`) r`,
		collections, ids)
	if err != nil {
		return nil, err
	}
	rows := make(map[desk.Key]*desk.Row, len(stored))
	for _, s := range stored {
		if rows[desk.Key{Collection: s.Collection, ID: s.ID}], err = s.row(); err != nil {
			return nil, err
		}
	}
	return rows, nil
}

// ParentsOf is [changes.Loading.ParentsOf].
func (t *Tx) ParentsOf(ctx context.Context, c *definition.Collection,
	ids []uuid.UUID) (parents []uuid.UUID, err error) {
	err = t.SelectContext(ctx, &parents, fmt.Sprintf(`
		SELECT DISTINCT r.parent::uuid FROM unnest($2::uuid[]) AS k (id) CROSS JOIN LATERAL (
			SELECT fields->>'%[1]s' AS parent FROM records WHERE collection = $1 AND id = k.id OFFSET 0) r
			WHERE r.parent ~* '^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$'`, c.Parent.Field),
		c.Definition.Collection, Texts(ids))
	return parents, err
}

// ChildrenOf is [changes.Loading.ChildrenOf]. It goes by the index that the parent's field has.
func (t *Tx) ChildrenOf(ctx context.Context, child *definition.Collection,
	parents []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error) {
	var rows []struct {
		Parent uuid.UUID `db:"parent"`
		ID     uuid.UUID `db:"id"`
	}
	from := byValue(child.Parent.Field, child.Definition.Collection, "$1", "id")
	err := t.SelectContext(ctx, &rows, `SELECT k.value AS parent, r.id FROM `+from+` ORDER BY r.id`, Texts(parents))
	found := map[uuid.UUID][]uuid.UUID{}
	for _, r := range rows {
		found[r.Parent] = append(found[r.Parent], r.ID)
	}
	return found, err
}

// Counted is [changes.Loading.Counted].
func (t *Tx) Counted(ctx context.Context, child *definition.Collection,
	parents []uuid.UUID) (map[uuid.UUID][]desk.Child, error) {
	var rows []struct {
		Parent   uuid.UUID `db:"parent"`
		ID       uuid.UUID `db:"id"`
		Fields   []byte    `db:"fields"`
		Computed []byte    `db:"computed"`
	}
	from := byValue(child.Parent.Field, child.Definition.Collection, "$1", "id, fields, computed")
	if err := t.SelectContext(ctx, &rows, `SELECT k.value AS parent, r.* FROM `+from+` ORDER BY r.id`,
		Texts(parents)); err != nil {
		return nil, err
	}
	found := map[uuid.UUID][]desk.Child{}
	for _, r := range rows {
		one := desk.Child{Key: desk.Key{Collection: child.Definition.Collection, ID: r.ID}}
		if err := errors.Join(json.Unmarshal(r.Fields, &one.Fields), json.Unmarshal(r.Computed, &one.Computed)); err != nil {
			return nil, fmt.Errorf("stored record %s: %w", r.ID, err)
		}
		found[r.Parent] = append(found[r.Parent], one)
	}
	return found, nil
}

// ByValue is [changes.Finding.ByValue]. It goes by the index that the definition's key brings.
func (t *Tx) ByValue(ctx context.Context, c *definition.Collection, field string,
	wanted []string) ([]changes.Found, error) {
	return t.byText(ctx, byValue(field, c.Definition.Collection, "$1", "*"), wanted)
}

// ByOne is [changes.Finding.ByOne]. It goes by the index that unique or coverage brings.
func (t *Tx) ByOne(ctx context.Context, c *definition.Collection, wanted []string) ([]changes.Found, error) {
	return t.byText(ctx, byText(textOfAll(c.OneFor()), c.Definition.Collection, "$1", "*"), wanted)
}

func (t *Tx) byText(ctx context.Context, from string, wanted []string) ([]changes.Found, error) {
	var rows []storedRow
	columns := `k.value AS text, ` + rowColumns
	if err := t.SelectContext(ctx, &rows, `SELECT `+columns+` FROM `+from+` ORDER BY r.position DESC`,
		wanted); err != nil {
		return nil, err
	}
	found := make([]changes.Found, len(rows))
	for n, r := range rows {
		row, err := r.row()
		if err != nil {
			return nil, err
		}
		found[n] = changes.Found{Text: r.Text, ID: r.ID, Row: row}
	}
	return found, nil
}

// LockKey is [changes.Finding.LockKey].
func (t *Tx) LockKey(ctx context.Context, collection, field string, shared bool) error {
	how := "pg_advisory_xact_lock"
	if shared {
		how = "pg_advisory_xact_lock_shared"
	}
	_, err := t.ExecContext(ctx, `SELECT `+how+`(7074, hashtext($1))`, collection+" "+field)
	return err
}

// Each is [changes.Defining.Each].
func (t *Tx) Each(ctx context.Context, collection string, removed bool,
	take func(id uuid.UUID, row *desk.Row) error) error {
	const chunk = 1000
	after := uuid.Nil
	for {
		var rows []storedRow
		if err := t.SelectContext(ctx, &rows, `SELECT `+rowColumns+` FROM records
			WHERE collection = $1 AND id > $2 AND (NOT removed OR $3) ORDER BY id LIMIT $4`, collection, after, removed, chunk); err != nil {
			return err
		}
		if len(rows) == 0 {
			return nil
		}
		after = rows[len(rows)-1].ID
		for _, r := range rows {
			row, err := r.row()
			if err != nil {
				return err
			}
			if err := take(r.ID, row); err != nil {
				return err
			}
		}
	}
}
