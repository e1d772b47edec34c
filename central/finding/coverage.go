package finding

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/coverage"
	"homing/core/definition"
	"homing/core/period"
	"homing/core/record"
	"homing/core/rights"
	"homing/core/sight"
)

// Covering asks for a grid of places by periods.
type Covering struct {
	coverage.Ask
	Collection  string
	From, Until string // periods as people write them; empty for the last ones
	Today       time.Time
	Territory   string   // only places that fall into it; empty for any
	Held        []string // only places that who holds these covers; nil for any
}

// Coverage is the grid of what a collection expects, as far as somebody sees the places and the records. Workers are those whose own sums
// are said.
func (c *Finding) Coverage(ctx context.Context, asker fleet.Person, ask Covering, workers []rights.Person) (coverage.Grid, error) {
	compiled, err := c.db.Collection(ctx, ask.Collection)
	if err != nil {
		return coverage.Grid{}, err
	}
	if compiled.Coverage == nil {
		return coverage.Grid{}, fault.Fail(fault.NotFound, "nothing is expected of %s: its definition has no coverage", ask.Collection)
	}
	of, err := c.db.Collection(ctx, compiled.PlaceCollection())
	if err != nil {
		return coverage.Grid{}, err
	}
	asked, wrong := ask.Checked()
	periods, err := coverage.Periods(compiled, ask.From, ask.Until, ask.Today)
	if err = errors.Join(wrong, err); err != nil {
		return coverage.Grid{}, fault.Fail(fault.Invalid, "%v", err)
	}
	table := coverage.New(compiled, of, periods, ask.Today)
	if err := c.places(ctx, asker, of, ask, table); err != nil {
		return coverage.Grid{}, err
	}
	if err := c.entries(ctx, asker, compiled, periods, table); err != nil {
		return coverage.Grid{}, err
	}
	return table.Grid(asked, workers), nil
}

// places takes in those that somebody sees, one by one.
func (c *Finding) places(ctx context.Context, asker fleet.Person, of *definition.Collection, ask Covering, into *coverage.Table) error {
	rows, err := c.db.QueryxContext(ctx, `SELECT id, fields, computed, array_to_json(territories) AS territories FROM records
		WHERE collection = $1 AND NOT removed AND `+postgres.Covered("$2")+` AND ($3 = '' OR $3 = ANY(territories))
			AND ($4::text[] IS NULL OR `+postgres.Covered("$4")+`)`, of.Definition.Collection, asker.Territories, ask.Territory, ask.Held)
	return each(rows, err, func(r found) error {
		var fields, computed record.Fields
		if err := errors.Join(json.Unmarshal(r.Fields, &fields), json.Unmarshal(r.Computed, &computed)); err != nil {
			return fmt.Errorf("stored record %s: %w", r.ID, err)
		}
		if sight.Alone(asker).See(of, r.Territories, fields) {
			maps.Copy(fields, computed)
			into.Place(r.ID, fields, r.Territories)
		}
		return nil
	})
}

// entries takes in the records for some periods. They go by the index that coverage brings.
func (c *Finding) entries(ctx context.Context, asker fleet.Person, of *definition.Collection, periods []period.Period, into *coverage.Table) error {
	rows, err := c.db.QueryxContext(ctx, fmt.Sprintf(`SELECT id, fields, marks, author, edited_at, array_to_json(territories) AS territories FROM records
		WHERE %s AND (fields->>'%s') BETWEEN $1 AND $2 AND %s`, postgres.PartOf(of.Definition.Collection), of.Coverage.Period, postgres.Covered("$3")),
		periods[0].String(), periods[len(periods)-1].String(), asker.Territories)
	return each(rows, err, func(r found) error {
		e := coverage.Entry{ID: r.ID, Author: r.Author, Edited: r.EditedAt.UTC()}
		if err := errors.Join(json.Unmarshal(r.Fields, &e.Fields), json.Unmarshal(r.Marks, &e.Marks)); err != nil {
			return fmt.Errorf("stored record %s: %w", r.ID, err)
		}
		if sight.Alone(asker).See(of, r.Territories, e.Fields) {
			into.Entry(e)
		}
		return nil
	})
}

func each(rows *sqlx.Rows, err error, take func(found) error) error {
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var r found
		if err := rows.StructScan(&r); err != nil {
			return err
		}
		if err := take(r); err != nil {
			return err
		}
	}
	return rows.Err()
}
