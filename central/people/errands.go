package people

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/wire"
)

// Ask asks a device to do something with its next exchange.
func (c *People) Ask(ctx context.Context, device uuid.UUID, what string) (fleet.AskedErrand, error) {
	if what != wire.ErrandVerify && what != wire.ErrandErase {
		return fleet.AskedErrand{}, fault.Fail(fault.Invalid, "%.40q is nothing that a device can be asked to do: take verify or erase", what)
	}
	asked := fleet.AskedErrand{Errand: wire.Errand{ID: uuid.Must(uuid.NewV7()), What: what}, By: fleet.ActorOf(ctx).Name, AskedAt: c.db.Now()}
	act := map[string]Act{wire.ErrandVerify: ActAskVerify, wire.ErrandErase: ActAskErase}[what]
	return asked, c.changeErrands(ctx, device, act, func(known fleet.Errands) (fleet.Errands, error) { return known.With(asked), nil })
}

// TakeBack takes back what a device was asked to do.
func (c *People) TakeBack(ctx context.Context, device uuid.UUID, what string) error {
	return c.changeErrands(ctx, device, ActTakeBack, func(known fleet.Errands) (fleet.Errands, error) {
		rest := known.Without(what)
		if len(rest) == len(known) {
			return nil, fault.Fail(fault.NotFound, "the device is not asked to %.40s", what)
		}
		return rest, nil
	})
}

func (c *People) changeErrands(ctx context.Context, device uuid.UUID, act Act, change func(fleet.Errands) (fleet.Errands, error)) error {
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		var known fleet.Errands
		err := tx.GetContext(ctx, &known, `SELECT errands FROM devices WHERE id = $1 FOR UPDATE`, device)
		if errors.Is(err, sql.ErrNoRows) {
			return fault.Fail(fault.NotFound, "there is no device %s", device)
		}
		if err == nil {
			known, err = change(known)
		}
		if err == nil {
			err = keepErrands(ctx, tx, device, known)
		}
		if err != nil {
			return err
		}
		return c.note(ctx, tx, act, device.String(), "")
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	}
	return err
}

func keepErrands(ctx context.Context, tx *postgres.Tx, device uuid.UUID, errands fleet.Errands) error {
	text, err := json.Marshal(errands)
	if err == nil {
		_, err = tx.ExecContext(ctx, `UPDATE devices SET errands = $2::jsonb WHERE id = $1`, device, string(text))
	}
	return err
}
