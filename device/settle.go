package device

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
)

// ErrNoDispute says that a field does not wait for anybody.
var ErrNoDispute = fmt.Errorf("%w: nobody disputes this field; it may have been settled", ErrNoRecord)

// Settle gives a disputed field the value that it is to have, be it one of those in dispute or another. It works
// without signal: settling is a change like any other, with its author, and goes to central with the next exchange.
// If somebody else has settled it meanwhile, theirs stands and this one opens the conflict anew.
func (s *Store) Settle(ctx context.Context, collection string, id uuid.UUID, field string, value any) (Record, error) {
	raw, err := json.Marshal(value)
	if err != nil {
		return Record{}, err
	}
	to, err := record.CanonicalField(field, raw)
	if err != nil {
		return Record{}, invalid(collection, err)
	}
	var saved Record
	err = s.saving(ctx, collection, func(tx *sqlx.Tx, c *definition.Collection, known map[string]string) (err error) {
		row, err := loadStored(ctx, tx, collection, id.String())
		if err != nil {
			return err
		}
		shown, err := row.record(c)
		if err != nil {
			return err
		}
		if _, disputed := shown.Disputes[field]; !disputed || row.Removed {
			return fmt.Errorf("%w: %s of %s", ErrNoDispute, field, shown.Label)
		}
		var before record.Fields
		if err := json.Unmarshal([]byte(row.Fields), &before); err != nil {
			return fmt.Errorf("%w: record %s", ErrDamaged, id)
		}
		delta := before.Set(field, to)
		if field == merge.RecordRemoval {
			if string(to) == "true" {
				row, err = s.removeTogether(ctx, tx, c, id, wish{kind: change.Remove}, known)
				if err == nil {
					saved, err = row.record(c)
				}
				return err
			}
			if string(to) != "false" {
				return &InvalidError{collection, []change.Reason{{Field: field, Code: change.CodeInvalidValue,
					Message: "is true, and the record goes, or false"}}}
			}
			delta = record.Delta{} // an edit of nothing by whoever knows of the removal: the record stays
		}
		after := before.Apply(delta)
		if err := allowed(c, known, change.Edit, before, after); err != nil {
			return err
		}
		if wrong := c.NewlyWrong(before, after); len(wrong) > 0 {
			return &InvalidError{collection, wrong}
		}
		if row, err = s.enqueue(ctx, tx, row, change.Edit, delta, after, known); err != nil {
			return err
		}
		saved, err = row.record(c)
		return err
	})
	return saved, err
}
