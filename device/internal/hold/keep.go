package hold

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/core/clock"
	"homing/core/definition"
	"homing/core/settings"
	"homing/device/internal/file"
)

// Readable gives a collection that somebody who is signed in is about to read, without what may not be kept any longer.
func (s *Shelf) Readable(ctx context.Context, name string) (*definition.Collection, error) {
	c, err := s.Collection(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := s.Closed(ctx); err != nil {
		return nil, err
	}
	if err := s.noteTime(ctx); err != nil {
		return nil, err
	}
	return c, s.Expire(ctx, c)
}

// noteAgain is how much later it must be for a look at the store to be noted.
const noteAgain = 10 * time.Minute

// noteTime notes what time it is, so that a clock which is turned back later makes nothing fresh that was seen old.
func (s *Shelf) noteTime(ctx context.Context) error {
	text, err := file.Fact(ctx, s.DB, file.FactLatest)
	if err != nil {
		return file.StoreError(err)
	}
	if now := s.Now(); now.Sub(file.ParseTime(text)) >= noteAgain {
		return file.StoreError(file.SetFact(ctx, s.DB, file.FactLatest, file.TimeText(now)))
	}
	return nil
}

// Closed says why nothing of the store is shown now: nobody is signed in. A detached store is read by whoever has it.
func (s *Shelf) Closed(ctx context.Context) error {
	known, err := file.Facts(ctx, s.DB)
	if err == nil && known[file.FactWorker] == "" && known[file.FactToken] != "" {
		err = file.ErrSignedOut
	}
	return file.StoreError(err)
}

// Latest is the device's clock, or the latest moment that this store has seen if the clock was turned back since:
// what is old does not become fresh by that.
func (s *Shelf) Latest(ctx context.Context, r file.Runner) (time.Time, error) {
	now := s.Now()
	known, err := file.Facts(ctx, r)
	if err != nil {
		return now, err
	}
	if seen := file.ParseTime(known[file.FactLatest]); seen.After(now) {
		now = seen
	}
	if known[file.FactStamp] == "" {
		return now, nil
	}
	stamp, err := clock.Parse(known[file.FactStamp])
	if err != nil {
		return now, fmt.Errorf("%w: the last stamp", file.ErrDamaged)
	}
	if seen := time.UnixMilli(stamp.Millis); seen.After(now) {
		now = seen
	}
	return now, nil
}

// AgeOf says when central last confirmed a collection, and whether that is longer ago than its definition allows.
func (s *Shelf) AgeOf(ctx context.Context, r file.Runner, c *definition.Collection) (time.Time, definition.Age, error) {
	var pulled sql.NullString
	err := r.GetContext(ctx, &pulled, `SELECT pulled_at FROM collections WHERE name = ?`, c.Definition.Collection)
	if err != nil {
		return time.Time{}, definition.Unknown, file.StoreError(err)
	}
	asOf := file.ParseTime(pulled.String)
	if c.Sync.MaxAge == nil {
		return asOf, definition.Fresh, nil
	}
	now, err := s.Latest(ctx, r)
	return asOf, c.Sync.MaxAge.Judge(asOf, now), err
}

// asOf says when central last confirmed one record. What came with the whole collection is as old as that.
func asOf(c *definition.Collection, row Stored, collection, now time.Time) (time.Time, definition.Age) {
	confirmed := collection
	switch {
	case row.Revision == 0:
		return time.Time{}, definition.Fresh // it was made here
	case row.ConfirmedAt != nil:
		confirmed = file.ParseTime(*row.ConfirmedAt)
	}
	return confirmed, c.Sync.MaxAge.Judge(confirmed, now)
}

// Expire lets go of what is kept for a stated time only, when that is over. Unsent changes stay.
func (s *Shelf) Expire(ctx context.Context, c *definition.Collection) error {
	span := c.Sync.Keep.For()
	if span == 0 {
		return nil
	}
	asOf, _, err := s.AgeOf(ctx, s.DB, c)
	if err != nil {
		return err
	}
	now, err := s.Latest(ctx, s.DB)
	if err != nil {
		return err
	}
	if asOf.IsZero() || now.Sub(asOf) <= span {
		return nil
	}
	return s.Within(ctx, func(tx *sqlx.Tx) error { return s.Forget(ctx, tx, c.Definition.Collection) })
}

// LetGoOf deletes records. The condition may have arguments.
func (s *Shelf) LetGoOf(ctx context.Context, tx *sqlx.Tx, condition string, args ...any) error {
	var rows []struct{ Collection, ID string }
	if err := tx.SelectContext(ctx, &rows, `DELETE FROM records WHERE `+condition+` RETURNING collection, id`,
		args...); err != nil {
		return err
	}
	for _, row := range rows {
		if err := s.Note(tx, row.Collection, row.ID, true); err != nil {
			return err
		}
	}
	return nil
}

// Forget lets go of the records of a collection that hold nothing unsent; the next exchange loads it from the start,
// if it loads it.
func (s *Shelf) Forget(ctx context.Context, tx *sqlx.Tx, name string) error {
	if err := s.LetGoOf(ctx, tx, `collection = ? AND pending = 0`, name); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `UPDATE collections SET cursor = 0, head = 0, pulled_at = NULL, loading = 1,
			covers = '["*"]', gaining = NULL, gained = 0 WHERE name = ?`, name)
	return err
}

// keepAnew brings what is kept of a collection in line with a new definition. Before is the text of the one before,
// or empty.
func (s *Shelf) keepAnew(ctx context.Context, tx *sqlx.Tx, before string, now definition.Definition) error {
	if before == "" {
		return nil
	}
	var old definition.Definition
	if err := json.Unmarshal([]byte(before), &old); err != nil {
		return fmt.Errorf("%w: definition of %s", file.ErrDamaged, now.Collection)
	}
	loaded := old.Sync.Direction.Pulls() && old.Sync.Keep.Loads()
	loads := now.Sync.Direction.Pulls() && now.Sync.Keep.Loads()
	switch {
	case now.Sync.Keep == definition.Never && old.Sync.Keep != definition.Never, loads && !loaded:
		return s.Forget(ctx, tx, now.Collection)
	case now.Sync.Keep == definition.OnDemand && loaded:
		// What is here counts as looked up, as of the last pull.
		_, err := tx.ExecContext(
			ctx,
			`UPDATE records SET confirmed_at = (SELECT pulled_at FROM collections WHERE name = ?1),
			used_at = (SELECT pulled_at FROM collections WHERE name = ?1)
			WHERE collection = ?1 AND revision > 0`,
			now.Collection,
		)
		return err
	}
	return nil
}

// Confirm notes that central has a record as this device has it.
func Confirm(ctx context.Context, tx *sqlx.Tx, collection, id, now string) error {
	_, err := tx.ExecContext(ctx, `UPDATE records SET confirmed_at = ?1, used_at = coalesce(used_at, ?1)
			WHERE collection = ?2 AND id = ?3`, now, collection, id)
	return err
}

// SetBudget is [device.Store.SetBudget].
func (s *Shelf) SetBudget(ctx context.Context, bytes int64) error {
	if err := file.SetFact(ctx, s.DB, file.FactBudget, strconv.FormatInt(max(bytes, 0), 10)); err != nil {
		return file.StoreError(err)
	}
	return s.FitBudget(ctx)
}

// weight is about what a record takes, in bytes.
const weight = `(length(fields) + length(marks) + length(computed) + 250)`

// FitBudget lets go of records that were looked up until the others fit the budget.
func (s *Shelf) FitBudget(ctx context.Context) error {
	budget, err := s.budget(ctx)
	if err != nil || budget == 0 {
		return err // none was set
	}
	return s.Within(ctx, func(tx *sqlx.Tx) error {
		return s.LetGoOf(ctx, tx, `pending = 0 AND (collection, id) IN (
				SELECT collection, id FROM (
					SELECT collection, id, sum(`+weight+`) OVER (ORDER BY pending > 0 DESC, used_at DESC, id) AS filled FROM records
						WHERE used_at IS NOT NULL)
				WHERE filled > ?)`, budget)
	})
}

// LookedUp is [device.Store.LookedUp].
func (s *Shelf) LookedUp(ctx context.Context) (bytes, budget int64, err error) {
	if err := s.DB.GetContext(ctx, &bytes,
		`SELECT coalesce(sum(`+weight+`), 0) FROM records WHERE used_at IS NOT NULL`); err != nil {
		return 0, 0, file.StoreError(err)
	}
	budget, err = s.budget(ctx)
	return bytes, budget, err
}

// budget is the bound on what was looked up: what central says, or what was set here; 0 for none.
func (s *Shelf) budget(ctx context.Context) (int64, error) {
	kept, err := file.Settings(ctx, s.DB)
	if err != nil {
		return 0, file.StoreError(err)
	}
	if said, is := kept.Values.Number(settings.Budget); is {
		return said, nil
	}
	text, err := file.Fact(ctx, s.DB, file.FactBudget)
	if err != nil || text == "" {
		return 0, file.StoreError(err)
	}
	return strconv.ParseInt(text, 10, 64)
}
