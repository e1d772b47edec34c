package save

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/device/internal/file"
	"homing/device/internal/hold"
)

// MaxGroup is how many changes a group can have: it goes to central in one batch.
const MaxGroup = 400

// ErrGroupSize says that a group is too large to go in one batch.
var ErrGroupSize = fmt.Errorf("a group has at most %d changes", MaxGroup)

// Group saves changes that stand or fall together, such as a record with its children. It is only good within
// [Store.Group].
type Group struct {
	store *Desk
	ctx   context.Context
	tx    *sqlx.Tx
	known map[string]string
}

// Group is [device.Store.Group].
func (s *Desk) Group(ctx context.Context, work func(*Group) error) error {
	g := &Group{store: s, ctx: ctx}
	err := s.Within(ctx, func(tx *sqlx.Tx) (err error) {
		g.tx = tx
		if g.known, err = file.Facts(ctx, tx); err != nil {
			return err
		}
		last, err := LastNumber(ctx, tx)
		if err != nil {
			return err
		}
		if err := work(g); err != nil {
			return err
		}
		return s.bind(ctx, tx, last)
	})
	g.tx = nil
	return err
}

// Add is [Store.Add] within the group.
func (g *Group) Add(collection string, fields hold.Fields, options ...SaveOption) (hold.Record, error) {
	return g.save(collection, g.store.NewID(), change.Add, fields, options...)
}

// Edit is [Store.Edit] within the group.
func (g *Group) Edit(collection string, id uuid.UUID, fields hold.Fields, options ...SaveOption) (hold.Record, error) {
	return g.save(collection, id, change.Edit, fields, options...)
}

// Remove is [Store.Remove] within the group.
func (g *Group) Remove(collection string, id uuid.UUID, options ...SaveOption) error {
	_, err := g.save(collection, id, change.Remove, nil, options...)
	return err
}

func (g *Group) save(collection string, id uuid.UUID, kind change.Kind, fields hold.Fields,
	options ...SaveOption) (hold.Record, error) {
	if g.tx == nil {
		return hold.Record{}, errors.New("the group is over")
	}
	w, err := wishFor(collection, kind, fields, options)
	if err != nil {
		return hold.Record{}, err
	}
	c, err := g.store.Definition(g.ctx, g.tx, collection)
	if err != nil {
		return hold.Record{}, err
	}
	if err := g.store.maySave(g.ctx, g.tx, c, g.known); err != nil {
		return hold.Record{}, err
	}
	row, err := g.store.saveIn(g.ctx, g.tx, c, id, w, g.known)
	if err != nil {
		return hold.Record{}, err
	}
	if g.known, err = file.Facts(g.ctx, g.tx); err != nil { // the stamp has moved on
		return hold.Record{}, err
	}
	return row.Record(c)
}

// LastNumber is that of the change that was saved last.
func LastNumber(ctx context.Context, tx *sqlx.Tx) (int64, error) {
	var last int64
	err := tx.GetContext(ctx, &last, `SELECT coalesce((SELECT seq FROM sqlite_sequence WHERE name = 'outbox'), 0)`)
	return last, err
}

// bind makes a group of the changes saved in this transaction since a number; of one alone there is none.
func (s *Desk) bind(ctx context.Context, tx *sqlx.Tx, since int64) error {
	var count int
	if err := tx.GetContext(ctx, &count, `SELECT count(*) FROM outbox WHERE number > ?`, since); err != nil ||
		count < 2 {
		return err
	}
	if count > MaxGroup {
		return fmt.Errorf("%w, and this one has %d", ErrGroupSize, count)
	}
	_, err := tx.ExecContext(ctx, `UPDATE outbox SET grp = ?, grp_of = ? WHERE number > ?`, s.NewID().String(), count,
		since)
	return err
}
