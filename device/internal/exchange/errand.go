package exchange

import (
	"context"
	"errors"
	"fmt"

	"homing/device/internal/file"
	"homing/wire"
)

// runErrands does what central has asked for, once all else in an exchange is done, and says what became of it. What
// cannot be done now is asked for again with the next exchange.
func (e *exchange) runErrands(ctx context.Context) (all []wire.ErrandDone, err error) {
	for _, errand := range e.errands {
		done := wire.ErrandDone{ID: errand.ID}
		switch errand.What {
		case wire.ErrandVerify:
			done.Verified, err = e.verifyAll(ctx)
		case wire.ErrandErase:
			err = e.mayErase(ctx)
		default:
			err = fmt.Errorf("this version of the program does not know how to %.40q", errand.What)
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if done.Done = err == nil; err != nil {
			done.Why = fmt.Sprintf("%.500s", err)
		}
		e.erases = e.erases || done.Done && errand.What == wire.ErrandErase
		all = append(all, done)
	}
	return all, nil
}

// verifyAll compares what is loaded with central, and fetches anew what differs. Only numbers are told: what a record is
// called does not leave the device by it.
func (e *exchange) verifyAll(ctx context.Context) ([]wire.CollectionVerified, error) {
	if e.revoked {
		return nil, file.ErrRevoked
	}
	if err := e.Closed(ctx); err != nil {
		return nil, err
	}
	collections, err := e.Cursors(ctx)
	if err != nil {
		return nil, err
	}
	var all []wire.CollectionVerified
	for _, c := range collections {
		if !c.Loads() || !e.defined[c.Name] {
			continue
		}
		one, err := e.verify(ctx, c)
		if err == nil && len(one.Differences) > 0 {
			err = e.fetchAnew(ctx, &one)
		}
		if err != nil {
			return nil, err
		}
		all = append(all, wire.CollectionVerified{Collection: one.Collection, Records: one.Records, Differences: len(one.Differences),
			Mended: one.Mended})
	}
	return all, nil
}

// mayErase says why the store stays.
func (e *exchange) mayErase(ctx context.Context) error {
	owed, err := file.Owing(ctx, e.DB)
	if err != nil {
		return err
	}
	return owed.Spares()
}

// erase lets go of the store, unless something was saved meanwhile: then it stays, and central asks again.
func (e *exchange) erase(ctx context.Context) error {
	ctx = context.WithoutCancel(ctx)
	if err := e.GiveUp(ctx); err != nil {
		if errors.Is(err, file.ErrUnsent) {
			return nil
		}
		return err
	}
	backups, err := e.Backups()
	if err == nil {
		err = e.Wipe(backups)
	}
	if err == nil {
		err = file.ErrErased
	}
	return err
}
