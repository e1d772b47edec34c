package device

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
)

// readable gives a collection that somebody who is signed in is about to read, without what may not be kept any longer.
func (s *Store) readable(ctx context.Context, name string) (*definition.Collection, error) {
	c, err := s.Collection(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := s.open(ctx); err != nil {
		return nil, err
	}
	if err := s.see(ctx); err != nil {
		return nil, err
	}
	return c, s.expire(ctx, c)
}

// seeAgain is how much later it must be for a look at the store to be noted.
const seeAgain = 10 * time.Minute

// see notes what time it is, so that a clock which is turned back later makes nothing fresh that was seen old.
func (s *Store) see(ctx context.Context) error {
	text, err := fact(ctx, s.db, factSeen)
	if err != nil {
		return storeError(err)
	}
	if now := s.now(); now.Sub(parseTime(text)) >= seeAgain {
		return storeError(setFact(ctx, s.db, factSeen, timeText(now)))
	}
	return nil
}

// open says why nothing of the store is shown now: nobody is signed in. A detached store is read by whoever has it.
func (s *Store) open(ctx context.Context) error {
	known, err := facts(ctx, s.db)
	if err == nil && known[factWorker] == "" && known[factToken] != "" {
		err = ErrSignedOut
	}
	return storeError(err)
}

// latest is the device's clock, or the latest moment that this store has seen if the clock was turned back since:
// what is old does not become fresh by that.
func (s *Store) latest(ctx context.Context, r runner) (time.Time, error) {
	now := s.now()
	known, err := facts(ctx, r)
	if err != nil {
		return now, err
	}
	if seen := parseTime(known[factSeen]); seen.After(now) {
		now = seen
	}
	if known[factStamp] == "" {
		return now, nil
	}
	stamp, err := clock.Parse(known[factStamp])
	if err != nil {
		return now, fmt.Errorf("%w: the last stamp", ErrDamaged)
	}
	if seen := time.UnixMilli(stamp.Millis); seen.After(now) {
		now = seen
	}
	return now, nil
}

// ageOf says when central last confirmed a collection, and whether that is longer ago than its definition allows.
func (s *Store) ageOf(ctx context.Context, r runner, c *definition.Collection) (time.Time, definition.Age, error) {
	var pulled sql.NullString
	err := r.GetContext(ctx, &pulled, `SELECT pulled_at FROM collections WHERE name = ?`, c.Definition.Collection)
	if err != nil {
		return time.Time{}, definition.Unknown, storeError(err)
	}
	asOf := parseTime(pulled.String)
	if c.Sync.MaxAge == nil {
		return asOf, definition.Fresh, nil
	}
	now, err := s.latest(ctx, r)
	return asOf, c.Sync.MaxAge.Judge(asOf, now), err
}

// asOf says when central last confirmed one record. What came with the whole collection is as old as that.
func asOf(c *definition.Collection, row stored, collection, now time.Time) (time.Time, definition.Age) {
	confirmed := collection
	switch {
	case row.Revision == 0:
		return time.Time{}, definition.Fresh // it was made here
	case row.ConfirmedAt != nil:
		confirmed = parseTime(*row.ConfirmedAt)
	}
	return confirmed, c.Sync.MaxAge.Judge(confirmed, now)
}

// expire lets go of what is kept for a stated time only, when that is over. Unsent changes stay.
func (s *Store) expire(ctx context.Context, c *definition.Collection) error {
	span := c.Sync.Keep.For()
	if span == 0 {
		return nil
	}
	asOf, _, err := s.ageOf(ctx, s.db, c)
	if err != nil {
		return err
	}
	now, err := s.latest(ctx, s.db)
	if err != nil {
		return err
	}
	if asOf.IsZero() || now.Sub(asOf) <= span {
		return nil
	}
	return s.within(ctx, func(tx *sqlx.Tx) error { return s.forget(ctx, tx, c.Definition.Collection) })
}

// letGoOf deletes records. The condition may have arguments.
func (s *Store) letGoOf(ctx context.Context, tx *sqlx.Tx, condition string, args ...any) error {
	var rows []struct{ Collection, ID string }
	if err := tx.SelectContext(ctx, &rows, `DELETE FROM records WHERE `+condition+` RETURNING collection, id`,
		args...); err != nil {
		return err
	}
	for _, row := range rows {
		if err := s.note(tx, row.Collection, row.ID, true); err != nil {
			return err
		}
	}
	return nil
}

// forget lets go of the records of a collection that hold nothing unsent; the next exchange loads it from the start,
// if it loads it.
func (s *Store) forget(ctx context.Context, tx *sqlx.Tx, name string) error {
	if err := s.letGoOf(ctx, tx, `collection = ? AND pending = 0`, name); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `UPDATE collections SET cursor = 0, head = 0, pulled_at = NULL, loading = 1,
			covers = '["*"]', gaining = NULL, gained = 0 WHERE name = ?`, name)
	return err
}

// keepAnew brings what is kept of a collection in line with a new definition. Before is the text of the one before,
// or empty.
func (s *Store) keepAnew(ctx context.Context, tx *sqlx.Tx, before string, now definition.Definition) error {
	if before == "" {
		return nil
	}
	var old definition.Definition
	if err := json.Unmarshal([]byte(before), &old); err != nil {
		return fmt.Errorf("%w: definition of %s", ErrDamaged, now.Collection)
	}
	loaded := old.Sync.Direction.Pulls() && old.Sync.Keep.Loads()
	loads := now.Sync.Direction.Pulls() && now.Sync.Keep.Loads()
	switch {
	case now.Sync.Keep == definition.Never && old.Sync.Keep != definition.Never, loads && !loaded:
		return s.forget(ctx, tx, now.Collection)
	case now.Sync.Keep == definition.OnDemand && loaded:
		// What is here counts as looked up, as of the last pull.
		_, err := tx.ExecContext(ctx, `UPDATE records SET confirmed_at = (SELECT pulled_at FROM collections WHERE name = ?1), used_at = (SELECT pulled_at FROM collections WHERE name = ?1)
			WHERE collection = ?1 AND revision > 0`, now.Collection)
		return err
	}
	return nil
}

func confirm(ctx context.Context, tx *sqlx.Tx, collection, id, now string) error {
	_, err := tx.ExecContext(ctx, `UPDATE records SET confirmed_at = ?1, used_at = coalesce(used_at, ?1)
			WHERE collection = ?2 AND id = ?3`, now, collection, id)
	return err
}

// SetBudget bounds the bytes that records which were looked up may take; 0 lifts the bound. When there are more,
// those that were used least lately go first. What is unsent stays, and so does what the definitions keep always.
func (s *Store) SetBudget(ctx context.Context, bytes int64) error {
	if err := setFact(ctx, s.db, factBudget, strconv.FormatInt(max(bytes, 0), 10)); err != nil {
		return storeError(err)
	}
	return s.fitBudget(ctx)
}

// weight is about what a record takes, in bytes.
const weight = `(length(fields) + length(marks) + length(computed) + 250)`

func (s *Store) fitBudget(ctx context.Context) error {
	text, err := fact(ctx, s.db, factBudget)
	if err != nil {
		return storeError(err)
	}
	budget, err := strconv.ParseInt(text, 10, 64)
	if err != nil || budget == 0 {
		return nil // none was set
	}
	return s.within(ctx, func(tx *sqlx.Tx) error {
		return s.letGoOf(ctx, tx, `pending = 0 AND (collection, id) IN (
				SELECT collection, id FROM (
					SELECT collection, id, sum(`+weight+`) OVER (ORDER BY pending > 0 DESC, used_at DESC, id) AS filled FROM records WHERE used_at IS NOT NULL)
				WHERE filled > ?)`, budget)
	})
}

// LookedUp gives how many bytes the records take that were looked up, about, and what they may take; 0 for no bound.
func (s *Store) LookedUp(ctx context.Context) (bytes, budget int64, err error) {
	if err := s.db.GetContext(ctx, &bytes,
		`SELECT coalesce(sum(`+weight+`), 0) FROM records WHERE used_at IS NOT NULL`); err != nil {
		return 0, 0, storeError(err)
	}
	text, err := fact(ctx, s.db, factBudget)
	if err != nil || text == "" {
		return bytes, 0, storeError(err)
	}
	budget, err = strconv.ParseInt(text, 10, 64)
	return bytes, budget, err
}
