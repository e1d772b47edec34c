package save

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"time"

	"github.com/google/uuid"

	"homing/core/coverage"
	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
	"homing/device/internal/file"
	"homing/device/internal/hold"
)

// CoverageAsk says which part of a grid is wanted.
type CoverageAsk struct {
	coverage.Ask
	From, Until string    // periods as people write them; empty for the last ones
	Today       time.Time // a moment whose date counts; zero for the device's own
}

// Coverage is [device.Store.Coverage].
func (s *Desk) Coverage(ctx context.Context, collection string, ask CoverageAsk) (coverage.Grid, error) {
	c, err := s.Readable(ctx, collection)
	if err != nil {
		return coverage.Grid{}, err
	}
	if c.Coverage == nil {
		return coverage.Grid{}, fmt.Errorf("%w: nothing is expected of %s, whose definition has no coverage", file.ErrNotAllowed, collection)
	}
	of, err := s.Readable(ctx, c.PlaceCollection())
	if err != nil {
		return coverage.Grid{}, err
	}
	if ask.Ask, err = ask.Checked(); err != nil {
		return coverage.Grid{}, err
	}
	if ask.Today.IsZero() {
		ask.Today = s.Now().Local()
	}
	year, month, day := ask.Today.Date()
	today := time.Date(year, month, day, 0, 0, 0, 0, time.UTC)
	periods, err := coverage.Periods(c, ask.From, ask.Until, today)
	if err != nil {
		return coverage.Grid{}, fmt.Errorf("%w: %w", file.ErrNotAllowed, err)
	}
	known, err := file.Facts(ctx, s.DB)
	if err != nil {
		return coverage.Grid{}, file.StoreError(err)
	}
	who, err := person(known)
	if err != nil {
		return coverage.Grid{}, err
	}
	table := coverage.New(c, of, periods, today)
	if err := s.places(ctx, of, who, table); err != nil {
		return coverage.Grid{}, err
	}
	err = s.entries(ctx, c, periods[0].String(), periods[len(periods)-1].String(), table)
	return table.Grid(ask.Ask, nil), err
}

// places takes in those on this device that whoever is signed in covers: a device that several share holds more.
func (s *Desk) places(ctx context.Context, of *definition.Collection, who rights.Person, into *coverage.Table) error {
	var rows []hold.Stored
	if err := s.DB.SelectContext(ctx, &rows, `SELECT `+hold.StoredColumns+` FROM records WHERE collection = ? AND NOT removed`,
		of.Definition.Collection); err != nil {
		return file.StoreError(err)
	}
	for _, row := range rows {
		var fields, computed record.Fields
		id, err := uuid.Parse(row.ID)
		if err := errors.Join(err, json.Unmarshal([]byte(row.Fields), &fields), json.Unmarshal([]byte(row.Computed), &computed)); err != nil {
			return fmt.Errorf("%w: record %s", file.ErrDamaged, row.ID)
		}
		keys, err := of.TerritoriesOf(fields)
		if err != nil || !rights.Covers(who.Territories, keys) {
			continue
		}
		maps.Copy(fields, computed)
		into.Place(id, fields, keys)
	}
	return nil
}

// entries takes in the records for the periods from one to another.
func (s *Desk) entries(ctx context.Context, c *definition.Collection, from, until string, into *coverage.Table) error {
	var rows []hold.Stored
	if err := s.DB.SelectContext(ctx, &rows, fmt.Sprintf(`SELECT %s FROM records WHERE collection = '%s' AND NOT removed AND %s BETWEEN ? AND ?`,
		hold.StoredColumns, c.Definition.Collection, hold.KeyText(c.Coverage.Period)), from, until); err != nil {
		return file.StoreError(err)
	}
	for _, row := range rows {
		id, err := uuid.Parse(row.ID)
		e := coverage.Entry{ID: id, Author: row.Author, Edited: file.ParseTime(row.EditedAt)}
		err = errors.Join(err, json.Unmarshal([]byte(row.Fields), &e.Fields))
		if err == nil && row.Pending == 0 && row.Marks != "" { // marks say nothing of what is unsent
			err = json.Unmarshal([]byte(row.Marks), &e.Marks)
		}
		if err != nil {
			return fmt.Errorf("%w: record %s", file.ErrDamaged, row.ID)
		}
		into.Entry(e)
	}
	return nil
}
