package central

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"homing/core/definition"
)

// Defined says what became of one definition.
type Defined struct {
	Collection string `json:"collection"`
	Version    int    `json:"version"`
	Outcome    string `json:"outcome" enum:"created,changed,unchanged"`
}

// Define creates or changes collections. All of them are taken, or none.
func (c *Central) Define(ctx context.Context, author string, definitions []definition.Definition) ([]Defined, error) {
	if len(definitions) == 0 {
		return nil, fail(Invalid, "there is no definition to take")
	}
	// Rows are locked in the order of names, so that two who define at once wait for each other and not for ever.
	definitions = slices.Clone(definitions)
	slices.SortFunc(definitions, func(a, b definition.Definition) int { return strings.Compare(a.Collection, b.Collection) })
	for n, d := range definitions {
		if n > 0 && definitions[n-1].Collection == d.Collection {
			return nil, fail(Clash, "two definitions claim the name %s", d.Collection)
		}
		if !definition.Name.MatchString(d.Collection) {
			return nil, fail(Invalid, "%q cannot name a collection", d.Collection)
		}
		for _, field := range d.Fields {
			if !definition.Name.MatchString(field.Name) {
				return nil, fail(Invalid, "%q cannot name a field of %s", field.Name, d.Collection)
			}
		}
		if _, known := d.Field(d.Key); d.Key != "" && !known {
			return nil, fail(Invalid, "the key %q is not a field of %s", d.Key, d.Collection)
		}
		if _, err := d.Compile(); err != nil {
			return nil, fail(Invalid, "the definition of %s: %v", d.Collection, err)
		}
	}
	var defined []Defined
	err := c.within(ctx, nil, func(tx *sqlx.Tx) error {
		defined = nil
		for _, d := range definitions {
			one, err := c.define(ctx, tx, author, d)
			if err != nil {
				return err
			}
			defined = append(defined, one)
		}
		return c.checkTogether(ctx, tx, defined)
	})
	if err != nil {
		return nil, err
	}
	heads := map[string]int64{}
	for _, one := range defined {
		heads[one.Collection] = 0
	}
	c.announce(ctx, Event{Heads: heads})
	return defined, nil
}

func (c *Central) define(ctx context.Context, tx *sqlx.Tx, author string, d definition.Definition) (Defined, error) {
	d.Version, d.Renamed = 1, nil
	compiled, err := d.Compile()
	if err != nil {
		return Defined{}, err
	}
	old, exists, err := stored(ctx, tx, d.Collection, "FOR UPDATE")
	if err != nil {
		return Defined{}, err
	}
	p, err := plan(ctx, tx, old, exists, compiled)
	switch {
	case err != nil:
		return Defined{}, err
	case len(p.Broken) > 0:
		return Defined{}, refusePlan(p)
	case p.Outcome == "unchanged":
		return Defined{d.Collection, old.Version, p.Outcome}, nil
	}
	d.Version, d.Renamed = p.Version, d.RenamedSince(old)
	if err := c.writeDefinition(ctx, tx, author, d, exists); err != nil {
		return Defined{}, err
	}
	if exists {
		if err := c.follow(ctx, tx, author, old, d); err != nil {
			return Defined{}, err
		}
	}
	return Defined{d.Collection, d.Version, p.Outcome}, nil
}

func (c *Central) writeDefinition(ctx context.Context, tx *sqlx.Tx, author string, d definition.Definition, exists bool) error {
	text, err := json.Marshal(d)
	if err != nil {
		return err
	}
	statement := `UPDATE collections SET version = $2, doc = $3 WHERE name = $1`
	if !exists {
		statement = `INSERT INTO collections (name, version, doc) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`
	}
	written, err := tx.ExecContext(ctx, statement, d.Collection, d.Version, string(text))
	if err != nil {
		return err
	}
	if n, err := written.RowsAffected(); err != nil || n == 0 {
		return errors.Join(errRaced, err)
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO definitions (collection, version, doc, author, defined_at) VALUES ($1, $2, $3, $4, $5)`,
		d.Collection, d.Version, string(text), author, c.Now()); err != nil {
		return err
	}
	if err := errors.Join(indexKey(ctx, tx, d), indexParent(ctx, tx, d)); err != nil {
		return err
	}
	compiled, err := d.Compile()
	if err != nil {
		return err
	}
	if err := makeSeries(ctx, tx, compiled); err != nil {
		return err
	}
	return makeView(ctx, tx, d)
}

// follow brings the records of a collection in line with its new definition.
func (c *Central) follow(ctx context.Context, tx *sqlx.Tx, author string, old, d definition.Definition) error {
	compiled, err := d.Compile()
	if err != nil {
		return err
	}
	if err := c.carryOver(ctx, tx, author, old, compiled); err != nil {
		return err
	}
	if old.Sync.Territory != d.Sync.Territory {
		if err := retag(ctx, tx, compiled); err != nil {
			return err
		}
	}
	if old.Access.Read != d.Access.Read {
		return tellAgain(ctx, tx, d.Collection)
	}
	return nil
}

// checkTogether looks at all definitions as they are now, and works out computed values anew when any has changed.
func (c *Central) checkTogether(ctx context.Context, tx *sqlx.Tx, defined []Defined) error {
	all, err := c.definitions(ctx, tx)
	if err != nil {
		return err
	}
	if err := definition.CheckTogether(all); err != nil {
		return fail(Invalid, "%v", err)
	}
	if !slices.ContainsFunc(defined, func(one Defined) bool { return one.Outcome != "unchanged" }) {
		return nil
	}
	return computeAll(ctx, tx, all)
}

// querier is a transaction or the database itself.
type querier interface {
	sqlx.QueryerContext
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
}

// definitions gives the current definitions, compiled. Compiling is dear, so it happens once for each text:
// a version that a transaction rolled back may come again with other contents.
func (c *Central) definitions(ctx context.Context, q querier) (map[string]*definition.Collection, error) {
	var rows []struct {
		Name string `db:"name"`
		Doc  []byte `db:"doc"`
	}
	if err := q.SelectContext(ctx, &rows, `SELECT name, doc FROM collections`); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	current := make(map[string]*definition.Collection, len(rows))
	for _, row := range rows {
		if c.compiled[string(row.Doc)] == nil {
			var d definition.Definition
			if err := json.Unmarshal(row.Doc, &d); err != nil {
				return nil, fmt.Errorf("stored definition of %s: %w", row.Name, err)
			}
			compiled, err := d.Compile()
			if err != nil {
				return nil, fmt.Errorf("stored definition of %s: %w", row.Name, err)
			}
			c.compiled[string(row.Doc)] = compiled
		}
		current[row.Name] = c.compiled[string(row.Doc)]
	}
	return current, nil
}

// Collection gives one definition, compiled.
func (c *Central) Collection(ctx context.Context, name string) (*definition.Collection, error) {
	all, err := c.definitions(ctx, c.db)
	if err != nil {
		return nil, err
	}
	if all[name] == nil {
		return nil, fail(NotFound, "there is no collection %s", name)
	}
	return all[name], nil
}

// Definitions gives the definitions of all collections, by name.
func (c *Central) Definitions(ctx context.Context) ([]definition.Definition, error) {
	compiled, err := c.definitions(ctx, c.db)
	if err != nil {
		return nil, err
	}
	all := make([]definition.Definition, 0, len(compiled))
	for _, name := range slices.Sorted(maps.Keys(compiled)) {
		all = append(all, compiled[name].Definition)
	}
	return all, nil
}

// Overview is a collection with its numbers.
type Overview struct {
	definition.Definition
	Head       int64   `json:"head" doc:"Position of the last accepted change."`
	Records    int64   `json:"records" doc:"Records that are not removed."`
	Removed    int64   `json:"removed" doc:"Tombstones."`
	LastChange *string `json:"last_change,omitempty" doc:"When the last change was received."`
}

// Overviews gives all collections by name, with the numbers of what somebody covers.
func (c *Central) Overviews(ctx context.Context, asker Person) ([]Overview, error) {
	var rows []struct {
		Doc     []byte         `db:"doc"`
		Head    int64          `db:"head"`
		Records int64          `db:"records"`
		Removed int64          `db:"removed"`
		Last    sql.NullString `db:"last"`
	}
	err := c.db.SelectContext(ctx, &rows, `
		SELECT c.doc, c.head,
			(SELECT count(*) FROM records r WHERE r.collection = c.name AND NOT r.removed AND `+covered("$1")+`) AS records,
			(SELECT count(*) FROM records r WHERE r.collection = c.name AND r.removed AND `+covered("$1")+`) AS removed,
			(SELECT to_char(r.received_at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"') FROM records r
				WHERE r.collection = c.name ORDER BY r.position DESC LIMIT 1) AS last
		FROM collections c ORDER BY c.name`, asker.Territories)
	if err != nil {
		return nil, err
	}
	all := make([]Overview, len(rows))
	for n, row := range rows {
		if err := json.Unmarshal(row.Doc, &all[n].Definition); err != nil {
			return nil, err
		}
		all[n].Head, all[n].Records, all[n].Removed = row.Head, row.Records, row.Removed
		if row.Last.Valid {
			all[n].LastChange = &row.Last.String
		}
	}
	return all, nil
}
