package hold

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/device/internal/file"
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
	// How the collection is kept here, and how old it is.
	Direction definition.Direction `json:"direction,omitempty"`
	Keep      definition.Keep      `json:"keep,omitempty"`
	Age       definition.Age       `json:"age,omitempty"`
}

// Loads says whether an exchange brings all of the collection that the device's workers cover.
func (c CollectionStatus) Loads() bool { return c.Direction.Pulls() && c.Keep.Loads() }

// Collections is [device.Store.Collections].
func (s *Shelf) Collections(ctx context.Context) ([]CollectionStatus, error) {
	all, err := s.Cursors(ctx)
	if err != nil {
		return nil, err
	}
	for n := range all {
		one := &all[n]
		if err := s.DB.QueryRowContext(ctx, `SELECT
			(SELECT count(*) FROM records WHERE collection = ?1) - (SELECT count(*) FROM records WHERE collection = ?1 AND removed),
			(SELECT count(*) FROM records WHERE collection = ?1 AND pending > 0)`, one.Name).Scan(&one.Records, &one.Pending); err != nil {
			return nil, file.StoreError(err)
		}
	}
	return all, nil
}

// Cursors are the collections without counts, which take the longer the more records there are.
func (s *Shelf) Cursors(ctx context.Context) ([]CollectionStatus, error) {
	var rows []struct {
		Name    string  `db:"name"`
		Version int     `db:"version"`
		Doc     string  `db:"doc"`
		Cursor  int64   `db:"cursor"`
		Head    int64   `db:"head"`
		Pulled  *string `db:"pulled_at"`
	}
	err := s.DB.SelectContext(ctx, &rows, `SELECT name, version, doc, cursor, head, pulled_at FROM collections ORDER BY name`)
	if err != nil {
		return nil, file.StoreError(err)
	}
	all := make([]CollectionStatus, len(rows))
	for n, row := range rows {
		c, err := s.compile(ctx, s.DB, row.Name, row.Doc)
		if err != nil {
			return nil, err
		}
		d := c.Definition
		all[n] = CollectionStatus{Name: row.Name, Title: d.Title, Version: row.Version, Cursor: row.Cursor, Head: row.Head,
			Direction: d.Sync.Direction, Keep: d.Sync.Keep}
		var pulled time.Time
		if row.Pulled != nil {
			pulled = file.ParseTime(*row.Pulled)
			all[n].PulledAt = &pulled
		}
		if all[n].Loads() {
			all[n].Age = d.Sync.MaxAge.Judge(pulled, s.Now())
		}
	}
	return all, nil
}

// Collection is [device.Store.Collection].
func (s *Shelf) Collection(ctx context.Context, name string) (*definition.Collection, error) {
	return s.Definition(ctx, s.DB, name)
}

// Definition gives the definition that the store has of a collection, compiled.
func (s *Shelf) Definition(ctx context.Context, r file.Runner, name string) (*definition.Collection, error) {
	var doc string
	err := r.GetContext(ctx, &doc, `SELECT doc FROM collections WHERE name = ?`, name)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		if token, err := file.Fact(ctx, r, file.FactToken); err == nil && token == "" {
			return nil, file.ErrNotEnrolled
		}
		if loaded, err := anything(ctx, r); err == nil && !loaded {
			return nil, fmt.Errorf(
				"%w: this device has not met central since it was enrolled; run an exchange while there "+
					"is signal",
				file.ErrNoCollection,
			)
		}
		return nil, fmt.Errorf("%w: %s; an exchange brings what is new",
			file.ErrNoCollection, name)
	case err != nil:
		return nil, file.StoreError(err)
	}
	return s.compile(ctx, r, name, doc)
}

// compile gives what was compiled of a definition before, where it still says the same.
func (s *Shelf) compile(ctx context.Context, r file.Runner, name, doc string) (*definition.Collection, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.compiled[doc] != nil {
		return s.compiled[doc], nil
	}
	var d definition.Definition
	if err := json.Unmarshal([]byte(doc), &d); err != nil {
		return nil, fmt.Errorf("%w: definition of %s", file.ErrDamaged, name)
	}
	compiled, err := d.Compile()
	if err != nil {
		return nil, fmt.Errorf("definition of %s: %w", name, err)
	}
	s.compiled[doc] = compiled
	return compiled, s.noteComputes(ctx, r)
}

func anything(ctx context.Context, r file.Runner) (loaded bool, err error) {
	err = r.GetContext(ctx, &loaded, `SELECT EXISTS (SELECT 1 FROM collections)`)
	return loaded, err
}

// All gives every definition, compiled, by name.
func (s *Shelf) All(ctx context.Context, r file.Runner) (map[string]*definition.Collection, error) {
	var rows []struct{ Name, Doc string }
	if err := r.SelectContext(ctx, &rows, `SELECT name, doc FROM collections`); err != nil {
		return nil, file.StoreError(err)
	}
	all := map[string]*definition.Collection{}
	for _, row := range rows {
		c, err := s.compile(ctx, r, row.Name, row.Doc)
		if err != nil {
			return nil, err
		}
		all[row.Name] = c
	}
	return all, nil
}

// TakeDefinitions stores what central defines now, and brings what is kept here in line with it.
func (s *Shelf) TakeDefinitions(ctx context.Context, definitions wire.Definitions) error {
	return s.Within(ctx, func(tx *sqlx.Tx) error {
		changed := false
		for _, d := range definitions.Definitions {
			text, err := json.Marshal(d)
			if err != nil {
				return err
			}
			var before string
			if err := tx.GetContext(ctx, &before, `SELECT doc FROM collections WHERE name = ?`, d.Collection); err != nil &&
				!errors.Is(err, sql.ErrNoRows) {
				return err
			}
			if before == string(text) {
				continue
			}
			changed = true
			if _, err := tx.ExecContext(ctx, `INSERT INTO collections (name, version, doc) VALUES (?, ?, ?)
				ON CONFLICT (name) DO UPDATE SET version = excluded.version,
					doc = excluded.doc`, d.Collection, d.Version, string(text)); err != nil {
				return err
			}
			if err := s.keepAnew(ctx, tx, before, d); err != nil {
				return err
			}
			if err := s.callAnew(ctx, tx, before, d); err != nil {
				return err
			}
			if err := errors.Join(indexLists(ctx, tx, d), watchTexts(ctx, tx, d)); err != nil {
				return err
			}
			if err := s.layAnew(ctx, tx, d.Collection); err != nil {
				return err
			}
		}
		if !changed {
			return nil
		}
		return s.watchFamilies(ctx, tx)
	})
}

// callAnew puts the values of records under the names that a new definition has for them. Central's own word of it
// comes with the next pull, and until then nobody may take a field for empty that is only called otherwise.
func (s *Shelf) callAnew(ctx context.Context, tx *sqlx.Tx, before string, now definition.Definition) error {
	var old definition.Definition
	if before == "" {
		return nil
	}
	if err := json.Unmarshal([]byte(before), &old); err != nil {
		return fmt.Errorf("%w: definition of %s", file.ErrDamaged, now.Collection)
	}
	if maps.Equal(old.Renamed, now.Renamed) {
		return nil
	}
	const atOnce = 500
	for last := ""; ; {
		var rows []Stored
		if err := tx.SelectContext(ctx, &rows, `SELECT `+StoredColumns+` FROM records WHERE collection = ? AND id > ?
			ORDER BY id LIMIT ?`, now.Collection, last, atOnce); err != nil {
			return err
		}
		for _, row := range rows {
			called, err := row.calledBy(now)
			if err != nil {
				return err
			}
			last = row.ID
			if called.Fields == row.Fields && called.UnderFields == row.UnderFields && called.Local == row.Local &&
				called.Marks == row.Marks {
				continue
			}
			if err := errors.Join(s.WriteStored(ctx, tx, called), s.Note(tx, row.Collection, row.ID, row.Removed)); err != nil {
				return err
			}
		}
		if len(rows) < atOnce {
			return nil
		}
	}
}

// calledBy gives a record with the names that a definition has for its fields.
func (r Stored) calledBy(d definition.Definition) (Stored, error) {
	for _, text := range []*string{&r.Fields, &r.UnderFields.String, &r.Local} {
		if *text == "" {
			continue
		}
		var fields record.Fields
		if err := json.Unmarshal([]byte(*text), &fields); err != nil {
			return r, fmt.Errorf("%w: record %s", file.ErrDamaged, r.ID)
		}
		*text = string(d.CurrentFields(fields).JSON())
	}
	if r.Marks == "" {
		return r, nil
	}
	var marks merge.Marks
	if err := json.Unmarshal([]byte(r.Marks), &marks); err != nil {
		return r, fmt.Errorf("%w: record %s", file.ErrDamaged, r.ID)
	}
	text, err := json.Marshal(marks.Renamed(d.Renamed))
	r.Marks = string(text)
	return r, err
}

// layAnew lays what is unsent of a collection over what central said last, by a definition that has just come: fields
// may be called otherwise now, and other rules decide.
func (s *Shelf) layAnew(ctx context.Context, tx *sqlx.Tx, collection string) error {
	var rows []Stored
	if err := tx.SelectContext(ctx, &rows, `SELECT `+StoredColumns+` FROM records WHERE collection = ? AND pending > 0`,
		collection); err != nil {
		return err
	}
	for _, row := range rows {
		under, err := row.Under()
		if err != nil {
			return err
		}
		if err := s.Rebuild(ctx, tx, row, under); err != nil {
			return err
		}
	}
	return nil
}
