package device

import (
	"context"
	"errors"
	"math/rand/v2"
	"strconv"
	"time"

	"homing/link"
)

// Bounds on the delay after an exchange that failed.
const (
	firstRetry  = 5 * time.Second
	longestWait = 15 * time.Minute
)

// Repeat exchanges again and again until the context is done: first after a random part of the span, so that a fleet
// does not come all at once, then each time the span has passed. When central cannot be reached, it tries again after
// a delay that doubles, with a random part, and never gets longer than the span or a quarter of an hour. Tell hears
// of each run.
//
// With holdBack it does not exchange while the link is metered (see [Store.SetMetered]) and says ErrMetered instead.
//
// An error that waiting does not mend, such as a revoked device or a damaged store, ends it.
func (s *Store) Repeat(ctx context.Context, span time.Duration, holdBack bool, tell func(Summary, error)) error {
	wait, failures := time.Duration(rand.Int64N(int64(span)+1)), 0
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(wait):
		}
		summary, err := s.exchangeUnless(ctx, holdBack)
		if ctx.Err() != nil {
			return nil
		}
		tell(summary, err)
		switch {
		case err == nil, errors.Is(err, ErrMetered):
			wait, failures = span, 0
		case passing(err):
			wait = retryDelay(failures, span, rand.Float64())
			failures++
		default:
			return err
		}
	}
}

// ErrMetered says that an exchange was held back.
var ErrMetered = errors.New("the link is metered; exchanges are held back")

// SetMetered notes whether the link that the device has now costs by the byte. Apps know that from their system; this
// package does not ask.
func (s *Store) SetMetered(ctx context.Context, metered bool) error {
	return storeError(setFact(ctx, s.db, factMetered, strconv.FormatBool(metered)))
}

func (s *Store) exchangeUnless(ctx context.Context, holdBack bool) (Summary, error) {
	if holdBack {
		metered, err := fact(ctx, s.db, factMetered)
		if err != nil {
			return Summary{}, storeError(err)
		}
		if metered == "true" {
			return Summary{}, ErrMetered
		}
	}
	return s.Exchange(started(ctx, byTimer), nil)
}

// passing says whether an exchange that failed may well succeed later without anybody's help.
func passing(err error) bool {
	var problem *link.Problem
	if errors.As(err, &problem) {
		return problem.Status >= 500 || problem.Status == 429
	}
	return errors.Is(err, link.ErrUnreachable) || errors.Is(err, ErrBusy)
}

// retryDelay is how long to wait after so many failures before: doubled each time, with a part of chance between a
// half and the whole of it.
func retryDelay(failures int, span time.Duration, chance float64) time.Duration {
	longest := min(span, longestWait)
	delay := longest
	if shift := min(failures, 20); firstRetry<<shift < longest {
		delay = firstRetry << shift
	}
	return time.Duration(float64(delay) * (0.5 + chance/2))
}
