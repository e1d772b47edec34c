package save

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/device/internal/file"
	"homing/device/internal/hold"
)

// ErrNoDispute says that a field does not wait for anybody.
var ErrNoDispute = fmt.Errorf("%w: nobody disputes this field; it may have been settled", file.ErrNoRecord)

// Settle is [device.Store.Settle].
func (s *Desk) Settle(
	ctx context.Context,
	collection string,
	id uuid.UUID,
	field string,
	value any,
) (hold.Record, error) {
	raw, err := json.Marshal(value)
	if err != nil {
		return hold.Record{}, err
	}
	to, err := record.CanonicalField(field, raw)
	if err != nil {
		return hold.Record{}, invalid(collection, err)
	}
	var saved hold.Record
	err = s.Saving(ctx, collection, func(tx *sqlx.Tx, c *definition.Collection, known map[string]string) (err error) {
		row, err := hold.LoadStored(ctx, tx, collection, id.String())
		if err != nil {
			return err
		}
		shown, err := row.Record(c)
		if err != nil {
			return err
		}
		if _, disputed := shown.Disputes[field]; !disputed || row.Removed {
			return fmt.Errorf("%w: %s of %s", ErrNoDispute, field, shown.Label)
		}
		var before record.Fields
		if err := json.Unmarshal([]byte(row.Fields), &before); err != nil {
			return fmt.Errorf("%w: record %s", file.ErrDamaged, id)
		}
		delta := before.Set(field, to)
		if field == merge.RecordRemoval {
			if string(to) == "true" {
				row, err = s.removeTogether(ctx, tx, c, id, wish{kind: change.Remove}, known)
				if err == nil {
					saved, err = row.Record(c)
				}
				return err
			}
			if string(to) != "false" {
				return &file.InvalidError{
					Collection: collection,
					Reasons: []change.Reason{{Field: field, Code: change.CodeInvalidValue,
						Message: "is true, and the record goes, or false"}},
				}
			}
			delta = record.Delta{} // an edit of nothing by whoever knows of the removal: the record stays
		}
		after := before.Apply(delta)
		if err := allowed(c, known, change.Edit, before, after); err != nil {
			return err
		}
		if wrong := c.NewlyWrong(before, after); len(wrong) > 0 {
			return &file.InvalidError{Collection: collection, Reasons: wrong}
		}
		if row, err = s.enqueue(ctx, tx, row, change.Edit, delta, after, known); err != nil {
			return err
		}
		saved, err = row.Record(c)
		return err
	})
	return saved, err
}
