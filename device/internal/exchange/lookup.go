package exchange

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/wire"
)

// LookUp is [device.Store.LookUp].
func (s *Line) LookUp(ctx context.Context, collection string, want hold.Ask) (hold.Found, error) {
	c, err := s.Readable(ctx, collection)
	if err != nil {
		return hold.Found{}, err
	}
	if c.Sync.Keep.Loads() {
		return hold.Found{}, fmt.Errorf(
			"%s are on this device; find them here, an exchange brings what is new",
			c.Title,
		)
	}
	e := &exchange{Line: s, summary: &Summary{}, watch: func(Progress) {}}
	if err := e.dial(ctx); err != nil {
		return hold.Found{}, err
	}
	ask := url.Values{"search": {want.Search}, "label": {want.Label}, "sort": {want.Sort}, "where": want.Where,
		"offset": {strconv.Itoa(want.Offset)}}
	if want.Limit > 0 {
		ask.Set("limit", strconv.Itoa(want.Limit))
	}
	var listing struct {
		Records []wire.Record `json:"records"`
		Total   int           `json:"total"`
		Limit   int           `json:"limit"`
		Offset  int           `json:"offset"`
	}
	if err := e.call(ctx, http.MethodGet, "/v1/lookup/"+url.PathEscape(collection)+"?"+ask.Encode(), nil,
		&listing); err != nil {
		return hold.Found{}, err
	}
	found := hold.Found{Records: []hold.Record{}, Total: listing.Total, Limit: listing.Limit, Offset: listing.Offset}
	rows, err := e.takeLookedUp(ctx, c, listing.Records)
	if err != nil {
		return found, err
	}
	if err := s.Show(ctx, c, rows, &found); err != nil {
		return found, err
	}
	found.AsOf, found.Age = s.Now(), definition.Fresh
	return found, s.FitBudget(ctx)
}

// takeLookedUp stores what was looked up, or only shows it where nothing may stay, and gives it as this device has it
// now.
func (e *exchange) takeLookedUp(ctx context.Context, c *definition.Collection,
	records []wire.Record) (rows []hold.Stored, err error) {
	now := file.TimeText(e.Now())
	err = e.within(ctx, func(tx *sqlx.Tx) error {
		rows = rows[:0]
		for _, r := range records {
			if c.Sync.Keep == definition.OnDemand {
				if err := e.layUnder(ctx, tx, c.Definition.Collection, r); err != nil {
					return err
				}
				if err := hold.Confirm(ctx, tx, c.Definition.Collection, r.ID.String(), now); err != nil {
					return err
				}
			}
			row, err := hold.LoadStored(ctx, tx, c.Definition.Collection, r.ID.String())
			switch {
			case errors.Is(err, file.ErrNoRecord):
				row = hold.Stored{Collection: c.Definition.Collection, ID: r.ID.String(), Revision: r.Revision,
					Fields: string(r.Fields), Computed: "{}", Local: "{}",
					Author: r.Author, Device: r.Device, EditedAt: file.TimeText(r.EditedAt), ReceivedAt: file.TimeText(r.ReceivedAt),
					ConfirmedAt: &now}
			case err != nil:
				return err
			}
			if !row.Removed {
				rows = append(rows, row)
			}
		}
		return nil
	})
	return rows, err
}

// refresh brings what was looked up in line with central.
func (e *exchange) refresh(ctx context.Context, name string) error {
	const chunk = 500
	after := ""
	for {
		var held []struct {
			ID       string `db:"id"`
			Revision int64  `db:"revision"`
		}
		if err := e.DB.SelectContext(ctx, &held, `SELECT id, revision FROM records
				WHERE collection = ? AND revision > 0 AND id > ? ORDER BY id LIMIT ?`, name, after, chunk); err != nil {
			return file.StoreError(err)
		}
		if len(held) == 0 {
			break
		}
		after = held[len(held)-1].ID
		var ask wire.Held
		for _, h := range held {
			id, err := file.ParseID(h.ID)
			if err != nil {
				return err
			}
			ask.Records = append(ask.Records, wire.HeldRecord{ID: id, Revision: h.Revision})
		}
		var got wire.Refreshed
		if err := e.call(ctx, http.MethodPost, "/v1/refresh/"+name, ask, &got); err != nil {
			return err
		}
		if err := e.takeRefreshed(ctx, name, ask, got); err != nil {
			return err
		}
	}
	_, err := e.DB.ExecContext(ctx, `UPDATE collections SET pulled_at = ? WHERE name = ?`, file.TimeText(e.Now()), name)
	return file.StoreError(err)
}

func (e *exchange) takeRefreshed(ctx context.Context, name string, ask wire.Held, got wire.Refreshed) error {
	err := e.within(ctx, func(tx *sqlx.Tx) error {
		if err := e.layAll(ctx, tx, name, got.Records); err != nil {
			return err
		}
		now := file.TimeText(e.Now())
		for _, h := range ask.Records {
			if err := hold.Confirm(ctx, tx, name, h.ID.String(), now); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, r := range got.Records {
		switch {
		case r.Withdrawn:
			e.summary.Withdrawn++
		case r.Removed:
			e.summary.Removed++
			e.summary.Received++
		default:
			e.summary.Received++
		}
	}
	return nil
}
