package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/core/rights"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/wire"
)

// cover brings what the device has loaded of a collection in line with the territories that its worker holds: what
// was lost is dropped, what was gained is loaded, and the rest stays as it is. It gives what is covered then. Each
// step is kept, so that one that was broken off is gone on with.
func (e *exchange) cover(ctx context.Context, name string, cursor int64) ([]string, error) {
	c, err := e.Collection(ctx, name)
	if err != nil {
		return nil, err
	}
	text, err := file.Fact(ctx, e.DB, file.FactHeld)
	if err != nil {
		return nil, file.StoreError(err)
	}
	now := []string{} // never nil, which would stand for all
	if err := json.Unmarshal([]byte(text), &now); err != nil {
		return nil, fmt.Errorf("%w: the territories of the device's workers", file.ErrDamaged)
	}
	if !c.Territorial() {
		now = nil // everybody covers all; central decides by what it has stored
	}
	row, err := e.coverage(ctx, name)
	if err != nil {
		return nil, err
	}
	switch {
	case cursor == 0 && row.gaining == nil:
		// Nothing was loaded yet, so there is nothing to gain; but what was made here may be covered no longer.
		if c.Territorial() && !slices.Contains(now, rights.All) {
			if err := e.drop(ctx, c, now); err != nil {
				return nil, err
			}
		}
		return now, e.setCoverage(ctx, name, now)
	case !c.Territorial():
		return nil, e.setCoverage(ctx, name, nil)
	}
	lost := slices.ContainsFunc(row.covers, func(key string) bool { return !slices.Contains(now, key) }) &&
		!slices.Contains(now, rights.All)
	if lost {
		if err := e.drop(ctx, c, now); err != nil {
			return nil, err
		}
		row.covers = slices.DeleteFunc(row.covers, func(key string) bool {
			return key != rights.All &&
				!slices.Contains(now, key)
		})
	}
	if slices.Contains(row.covers, rights.All) {
		return now, e.setCoverage(ctx, name, now) // all was loaded, so what is held now is loaded
	}
	gained := slices.DeleteFunc(slices.Clone(now), func(key string) bool { return slices.Contains(row.covers, key) })
	if len(gained) > 0 {
		if err := e.gain(ctx, name, gained, row); err != nil {
			return nil, err
		}
	}
	return now, e.setCoverage(ctx, name, now)
}

// coverage is what the store knows of the territories that it has loaded of a collection.
type coverage struct {
	covers  []string
	gaining []string // nil while nothing is being gained
	gained  int64    // cursor of that load
}

func (s *Line) coverage(ctx context.Context, name string) (coverage, error) {
	var row struct {
		Covers  string  `db:"covers"`
		Gaining *string `db:"gaining"`
		Gained  int64   `db:"gained"`
	}
	if err := s.DB.GetContext(ctx, &row, `SELECT covers, gaining, gained FROM collections WHERE name = ?`,
		name); err != nil {
		return coverage{}, file.StoreError(err)
	}
	known := coverage{gained: row.Gained}
	err := json.Unmarshal([]byte(row.Covers), &known.covers)
	if row.Gaining != nil {
		err = errors.Join(err, json.Unmarshal([]byte(*row.Gaining), &known.gaining))
	}
	if err != nil {
		return known, fmt.Errorf("%w: the territories of %s", file.ErrDamaged, name)
	}
	return known, nil
}

// setCoverage notes what is loaded; nil stands for all.
func (s *Line) setCoverage(ctx context.Context, name string, covers []string) error {
	if covers == nil {
		covers = []string{rights.All}
	}
	text, err := json.Marshal(covers)
	if err != nil {
		return err
	}
	_, err = s.DB.ExecContext(ctx, `UPDATE collections SET covers = ?, gaining = NULL, gained = 0 WHERE name = ?`,
		string(text), name)
	return file.StoreError(err)
}

// gain loads territories from the start, with a cursor of its own. A load of the same territories that was broken off
// goes on where it was.
func (e *exchange) gain(ctx context.Context, name string, gained []string, known coverage) error {
	if !slices.Equal(known.gaining, gained) {
		text, err := json.Marshal(gained)
		if err != nil {
			return err
		}
		covers, err := json.Marshal(known.covers)
		if err != nil {
			return err
		}
		if _, err := e.DB.ExecContext(ctx, `UPDATE collections SET covers = ?, gaining = ?, gained = 0 WHERE name = ?`,
			string(covers), string(text), name); err != nil {
			return file.StoreError(err)
		}
		known.gained = 0
	}
	return e.pullFrom(ctx, course{collection: name, cursor: known.gained, covers: gained, gaining: true})
}

// noteGain keeps how far the load of gained territories is, in the transaction that stores the page.
func noteGain(ctx context.Context, tx *sqlx.Tx, page wire.Page) error {
	_, err := tx.ExecContext(ctx, `UPDATE collections SET gained = ? WHERE name = ?`, page.Cursor, page.Collection)
	return err
}

// drop lets go of the records that none of the given territories covers. Those with unsent changes go when these are
// answered.
func (e *exchange) drop(ctx context.Context, c *definition.Collection, held []string) error {
	return e.within(ctx, func(tx *sqlx.Tx) error {
		var rows []hold.Stored
		if err := tx.SelectContext(ctx, &rows,
			`SELECT `+hold.StoredColumns+` FROM records WHERE collection = ? AND revision > 0`, c.Definition.Collection); err != nil {
			return err
		}
		for _, row := range rows {
			under, err := row.Under()
			if err != nil {
				return err
			}
			falls, err := c.TerritoriesOf(under.Fields)
			if err == nil && rights.Covers(held, falls) {
				continue
			}
			e.summary.Withdrawn++
			if err := e.letGo(ctx, tx, row); err != nil {
				return err
			}
		}
		return nil
	})
}

// withdraw lets go of a record that central says the worker no longer covers.
func (e *exchange) withdraw(ctx context.Context, tx *sqlx.Tx, collection string, r wire.Record) error {
	row, err := hold.LoadStored(ctx, tx, collection, r.ID.String())
	if errors.Is(err, file.ErrNoRecord) {
		return nil
	}
	if err != nil {
		return err
	}
	if row.Lost != "" && r.Revision == 0 {
		return nil // central has nothing of it to withdraw: it may have lost it
	}
	row.Withdrawn = max(row.Withdrawn, r.Revision)
	return e.letGo(ctx, tx, row)
}

// letGo drops a record, or marks that it is to go when its changes are answered.
func (e *exchange) letGo(ctx context.Context, tx *sqlx.Tx, row hold.Stored) error {
	row.Withdrawn = max(row.Withdrawn, 1)
	if row.Lost == "" { // else its revision is one of the database before it was restored
		row.Withdrawn = max(row.Withdrawn, row.Revision)
	}
	if row.Pending > 0 {
		_, err := tx.ExecContext(ctx, `UPDATE records SET withdrawn = ? WHERE collection = ? AND id = ?`, row.Withdrawn,
			row.Collection, row.ID)
		return err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM records WHERE collection = ? AND id = ?`, row.Collection, row.ID); err != nil {
		return err
	}
	return e.Note(tx, row.Collection, row.ID, true)
}

// lookAnew makes collections load from the start whose reading rule may decide otherwise than when they were loaded,
// since the device's workers, or what they may, are others now. What they may no longer read comes as withdrawals.
func (e *exchange) lookAnew(ctx context.Context, all map[string]*definition.Collection) error {
	return e.within(ctx, func(tx *sqlx.Tx) error {
		sight, err := file.Fact(ctx, tx, file.FactSight)
		if err != nil {
			return err
		}
		for name, c := range all {
			if c.Access.Read == "" {
				continue
			}
			if _, err := tx.ExecContext(ctx, `UPDATE collections SET cursor = 0, head = 0, loading = 1, gaining = NULL, gained = 0
				WHERE name = ? AND sight <> ? AND sight <> ''`, name, sight); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `UPDATE collections SET sight = ? WHERE name = ? AND sight <> ?`, sight, name,
				sight); err != nil {
				return err
			}
		}
		return nil
	})
}
