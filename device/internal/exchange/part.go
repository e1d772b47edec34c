package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"homing/core/merge"
	"homing/core/record"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/wire"
)

// makeWhole lays the parts of a page over what is here. Records for which that does not come out as central has them
// are asked for whole, before anything of the page is stored.
func (e *exchange) makeWhole(ctx context.Context, page *wire.Page) error {
	var open []wire.HeldRecord
	for n, r := range page.Records {
		if r.Since == 0 {
			continue
		}
		whole, right, err := e.layOver(ctx, page.Collection, r)
		if err != nil {
			return err
		}
		if right {
			page.Records[n] = whole
		} else {
			open = append(open, wire.HeldRecord{ID: r.ID})
		}
	}
	if len(open) == 0 {
		return nil
	}
	page.Records = slices.DeleteFunc(page.Records, func(r wire.Record) bool { return r.Since != 0 })
	for some := range slices.Chunk(open, 500) {
		var got wire.Refreshed
		if err := e.call(ctx, http.MethodPost, "/v1/refresh/"+page.Collection, wire.Held{Records: some}, &got); err != nil {
			return err
		}
		page.Records = append(page.Records, got.Records...)
	}
	return nil
}

// layOver is a record as it is with a part laid over what is here; right says whether that is what central has.
func (e *exchange) layOver(ctx context.Context, collection string, part wire.Record) (whole wire.Record, right bool, err error) {
	row, err := hold.LoadStored(ctx, e.DB, collection, part.ID.String())
	if errors.Is(err, file.ErrNoRecord) {
		return whole, false, nil
	}
	if err != nil {
		return whole, false, file.StoreError(err)
	}
	here, err := row.Under()
	if err != nil {
		return whole, false, err
	}
	if row.Lost != "" || row.Withdrawn != 0 || here.Removed || here.Revision < part.Since {
		return whole, false, nil
	}
	var came merge.Part
	if err := errors.Join(json.Unmarshal(part.Fields, &came.Fields), json.Unmarshal(part.Marks, &came.Marks)); err != nil {
		return whole, false, fmt.Errorf("central sent a part of record %s that cannot be read: %w", part.ID, err)
	}
	fields, marks := came.Whole(record.Fields(here.Fields), here.Marks)
	whole = part
	whole.Since, whole.Digest, whole.Fields = 0, "", fields.JSON()
	if whole.Marks, err = json.Marshal(marks); err != nil {
		return whole, false, err
	}
	return whole, merge.Digest(whole.Fields, whole.Marks) == part.Digest, nil
}
