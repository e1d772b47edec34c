package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/central/fault"
	"homing/core/definition"
	"homing/core/desk"
)

// Querier is a transaction or the database itself.
type Querier interface {
	sqlx.QueryerContext
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
}

// Definitions gives the current definitions, compiled.
func (t *Tx) Definitions(ctx context.Context) (map[string]*definition.Collection, error) {
	return t.db.definitions(ctx, t)
}

// Definitions gives the current definitions, compiled.
func (d *DB) Definitions(ctx context.Context) (map[string]*definition.Collection, error) {
	return d.definitions(ctx, d)
}

// Collection gives one definition, compiled.
func (d *DB) Collection(ctx context.Context, name string) (*definition.Collection, error) {
	all, err := d.Definitions(ctx)
	if err != nil {
		return nil, err
	}
	if all[name] == nil {
		return nil, fault.Fail(fault.NotFound, "there is no collection %s", name)
	}
	return all[name], nil
}

// definitions compiles each text once: compiling is dear, and a version that a transaction rolled back may come again
// with other contents.
func (d *DB) definitions(ctx context.Context, q Querier) (map[string]*definition.Collection, error) {
	var rows []struct {
		Name string `db:"name"`
		Doc  []byte `db:"doc"`
	}
	if err := q.SelectContext(ctx, &rows, `SELECT name, doc FROM collections`); err != nil {
		return nil, err
	}
	current := make(map[string]*definition.Collection, len(rows))
	for _, row := range rows {
		compiled, err := d.compile(row.Name, row.Doc)
		if err != nil {
			return nil, err
		}
		current[row.Name] = compiled
	}
	return current, nil
}

func (d *DB) compile(name string, text []byte) (*definition.Collection, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if known := d.compiled[string(text)]; known != nil {
		return known, nil
	}
	var doc definition.Definition
	if err := json.Unmarshal(text, &doc); err != nil {
		return nil, fmt.Errorf("stored definition of %s: %w", name, err)
	}
	compiled, err := doc.Compile()
	if err != nil {
		return nil, fmt.Errorf("stored definition of %s: %w", name, err)
	}
	d.compiled[string(text)] = compiled
	return compiled, nil
}

// Formerly is [changes.Loading.Formerly].
func (t *Tx) Formerly(ctx context.Context, collection string) ([]desk.Formerly, error) {
	var rows []struct {
		Doc       []byte    `db:"doc"`
		DefinedAt time.Time `db:"defined_at"`
	}
	if err := t.SelectContext(ctx, &rows, `SELECT doc, defined_at FROM definitions WHERE collection = $1 ORDER BY version`,
		collection); err != nil {
		return nil, err
	}
	all := make([]desk.Formerly, len(rows))
	for n, row := range rows {
		compiled, err := t.db.compile(collection, row.Doc)
		if err != nil {
			return nil, err
		}
		all[n] = desk.Formerly{Collection: compiled, From: row.DefinedAt}
	}
	return all, nil
}

// PutDefinition is [changes.Defining.PutDefinition].
func (t *Tx) PutDefinition(ctx context.Context, author string, c *definition.Collection, exists bool) error {
	d := c.Definition
	text, err := json.Marshal(d)
	if err != nil {
		return err
	}
	statement := `UPDATE collections SET version = $2, doc = $3 WHERE name = $1`
	if !exists {
		statement = `INSERT INTO collections (name, version, doc) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`
	}
	written, err := t.ExecContext(ctx, statement, d.Collection, d.Version, string(text))
	if err != nil {
		return err
	}
	if n, err := written.RowsAffected(); err != nil || n == 0 {
		return errors.Join(fault.ErrRaced, err)
	}
	if _, err := t.ExecContext(ctx, `INSERT INTO definitions (collection, version, doc, author, defined_at)
			VALUES ($1, $2, $3, $4, $5)`,
		d.Collection, d.Version, string(text), author, t.db.Now()); err != nil {
		return err
	}
	if err := errors.Join(t.indexKey(ctx, d), t.indexParent(ctx, d), t.indexLists(ctx, d)); err != nil {
		return err
	}
	if err := t.makeSeries(ctx, c); err != nil {
		return err
	}
	return t.makeView(ctx, d)
}

// Devices is [changes.Defining.Devices].
func (t *Tx) Devices(ctx context.Context) (n int, err error) {
	err = t.QueryRowxContext(ctx, `SELECT count(*) FROM devices WHERE revoked_at IS NULL`).Scan(&n)
	return n, err
}
