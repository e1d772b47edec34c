package device

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/wire"
)

// CollectionStatus is what a device holds of one collection.
type CollectionStatus struct {
	Name     string     `json:"name"`
	Title    string     `json:"title"`
	Version  int        `json:"version"`
	Records  int        `json:"records"`
	Pending  int        `json:"pending"` // records with changes in the outbox
	Cursor   int64      `json:"cursor"`
	Head     int64      `json:"head"` // central's, when last pulled
	PulledAt *time.Time `json:"pulled_at,omitempty"`
}

// Collections gives what the device holds, by name.
func (s *Store) Collections(ctx context.Context) ([]CollectionStatus, error) {
	var rows []struct {
		Name    string  `db:"name"`
		Version int     `db:"version"`
		Doc     string  `db:"doc"`
		Cursor  int64   `db:"cursor"`
		Head    int64   `db:"head"`
		Pulled  *string `db:"pulled_at"`
		Records int     `db:"records"`
		Pending int     `db:"pending"`
	}
	err := s.db.SelectContext(ctx, &rows, `
		SELECT name, version, doc, cursor, head, pulled_at,
			(SELECT count(*) FROM records r WHERE r.collection = c.name AND NOT r.removed) AS records,
			(SELECT count(*) FROM records r WHERE r.collection = c.name AND r.pending > 0) AS pending
		FROM collections c ORDER BY name`)
	if err != nil {
		return nil, storeError(err)
	}
	all := make([]CollectionStatus, len(rows))
	for n, row := range rows {
		var d definition.Definition
		if err := json.Unmarshal([]byte(row.Doc), &d); err != nil {
			return nil, fmt.Errorf("%w: definition of %s", ErrDamaged, row.Name)
		}
		all[n] = CollectionStatus{Name: row.Name, Title: d.Title, Version: row.Version, Records: row.Records, Pending: row.Pending, Cursor: row.Cursor, Head: row.Head}
		if row.Pulled != nil {
			at := parseTime(*row.Pulled)
			all[n].PulledAt = &at
		}
	}
	return all, nil
}

// Collection gives the definition that the device has of a collection, compiled.
func (s *Store) Collection(ctx context.Context, name string) (*definition.Collection, error) {
	return s.collection(ctx, s.db, name)
}

func (s *Store) collection(ctx context.Context, r runner, name string) (*definition.Collection, error) {
	var version int
	err := r.GetContext(ctx, &version, `SELECT version FROM collections WHERE name = ?`, name)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		if token, err := fact(ctx, r, factToken); err == nil && token == "" {
			return nil, ErrNotEnrolled
		}
		return nil, fmt.Errorf("%w: %s; homing local status lists what there is, and an exchange brings what is new", ErrNoCollection, name)
	case err != nil:
		return nil, storeError(err)
	}
	key := fmt.Sprintf("%s %d", name, version)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.compiled[key] != nil {
		return s.compiled[key], nil
	}
	var doc string
	if err := r.GetContext(ctx, &doc, `SELECT doc FROM collections WHERE name = ?`, name); err != nil {
		return nil, storeError(err)
	}
	var d definition.Definition
	if err := json.Unmarshal([]byte(doc), &d); err != nil {
		return nil, fmt.Errorf("%w: definition of %s", ErrDamaged, name)
	}
	compiled, err := d.Compile()
	if err != nil {
		return nil, fmt.Errorf("definition of %s: %w", name, err)
	}
	s.compiled[key] = compiled
	return compiled, nil
}

// takeDefinitions stores what central defines now.
func (s *Store) takeDefinitions(ctx context.Context, definitions wire.Definitions) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		for _, d := range definitions.Definitions {
			text, err := json.Marshal(d)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO collections (name, version, doc) VALUES (?, ?, ?)
				ON CONFLICT (name) DO UPDATE SET version = excluded.version, doc = excluded.doc WHERE version <> excluded.version`,
				d.Collection, d.Version, string(text)); err != nil {
				return err
			}
		}
		return nil
	})
}
