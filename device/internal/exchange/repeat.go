package exchange

import (
	"context"
	"errors"
	"math/rand/v2"
	"strconv"
	"time"

	"homing/core/settings"
	"homing/device/internal/file"
	"homing/link"
)

// Bounds on the delay after an exchange that failed.
const (
	firstRetry  = 5 * time.Second
	longestWait = 15 * time.Minute
	onBadLink   = time.Second // after one that got something through
)

// Repeat is [device.Store.Repeat].
func (s *Line) Repeat(ctx context.Context, span time.Duration, holdBack bool, tell func(Summary, error)) error {
	own, ownHoldBack := span, holdBack
	if err := s.steered(ctx, &span, &holdBack); err != nil {
		return err
	}
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
		span, holdBack = own, ownHoldBack // what central says of them may have been taken back
		if fails := s.steered(ctx, &span, &holdBack); err == nil {
			err = fails
		}
		switch {
		case ctx.Err() != nil:
			return nil
		case err == nil, errors.Is(err, ErrMetered):
			wait, failures = span, 0
		case passing(err):
			wait, failures = waitAfter(summary, failures, span, rand.Float64())
		default:
			return err
		}
	}
}

// steered puts what central says in place of what the program was started with.
func (s *Line) steered(ctx context.Context, span *time.Duration, holdBack *bool) error {
	kept, err := file.Settings(ctx, s.DB)
	if err != nil {
		return file.StoreError(err)
	}
	if said, is := kept.Values.Span(settings.ExchangeEvery); is {
		*span = said
	}
	if said, is := kept.Values.Is(settings.HoldBack); is {
		*holdBack = said
	}
	return nil
}

// pageOf is how many records the device asks for at once.
func (e *exchange) pageOf(ctx context.Context) int {
	kept, err := file.Settings(ctx, e.DB)
	if said, is := kept.Values.Number(settings.Page); err == nil && is {
		return int(said)
	}
	return pageRecords
}

// ErrMetered says that an exchange was held back.
var ErrMetered = errors.New("the link is metered; exchanges are held back")

// SetMetered is [device.Store.SetMetered].
func (s *Line) SetMetered(ctx context.Context, metered bool) error {
	return file.StoreError(file.SetFact(ctx, s.DB, file.FactMetered, strconv.FormatBool(metered)))
}

func (s *Line) exchangeUnless(ctx context.Context, holdBack bool) (Summary, error) {
	if holdBack {
		metered, err := file.Fact(ctx, s.DB, file.FactMetered)
		if err != nil {
			return Summary{}, file.StoreError(err)
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
	return errors.Is(err, link.ErrUnreachable) || errors.Is(err, file.ErrBusy)
}

// waitAfter says how long to wait after an exchange that failed, and how many have failed in a row then. One that got
// something through has shown that there is a link, if a bad one, and what is left goes on at once.
func waitAfter(summary Summary, failures int, span time.Duration, chance float64) (wait time.Duration, failed int) {
	if summary.Sent+summary.Received > 0 {
		return retryDelay(0, min(span, onBadLink), chance), 0
	}
	return retryDelay(failures, span, chance), failures + 1
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
