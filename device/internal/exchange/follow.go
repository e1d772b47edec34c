package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"homing/core/settings"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/link"
	"homing/wire"
)

// settle is how long a follower waits after a word from central for more of the kind, so that many changes make one
// pull.
const settle = 300 * time.Millisecond

// Follow is [device.Store.Follow].
func (s *Line) Follow(ctx context.Context, tell func(Summary, error)) error {
	for failures := 0; ; failures++ {
		err := s.follow(ctx, tell, func() { failures = 0 })
		if ctx.Err() != nil {
			return nil
		}
		if err == nil {
			err = link.ErrUnreachable // central ended it
		} else if !passing(err) {
			return err
		}
		tell(Summary{}, err)
		select {
		case <-time.After(retryDelay(failures, longestWait, rand.Float64())):
		case <-ctx.Done():
			return nil
		}
	}
}

func (s *Line) follow(ctx context.Context, tell func(Summary, error), heard func()) error {
	kept, err := file.Settings(ctx, s.DB)
	if err != nil {
		return file.StoreError(err)
	}
	if may, said := kept.Values.Is(settings.Listen); said && !may {
		return fmt.Errorf("%w: central asks this device not to listen; exchange from time to time in place of it", file.ErrNotAllowed)
	}
	e := &exchange{Line: s, summary: &Summary{}}
	if err := e.dial(ctx); err != nil {
		return err
	}
	events, err := e.link.Listen(ctx, "/v1/events")
	if err != nil {
		return err
	}
	defer events.Close()
	due := time.After(0) // what was missed before is pulled at once
	heads := map[string]int64{}
	missed := true
	for {
		select {
		case event, open := <-events.C:
			if !open {
				return events.Err()
			}
			heard()
			if event.Name != wire.EventHeads {
				continue
			}
			if err := json.Unmarshal([]byte(event.Data), &heads); err != nil {
				missed = true // of a kind that this version does not know: better to look
			}
			if due == nil {
				due = time.After(settle)
			}
		case <-due:
			due = nil
			// An exchange that was under way may have brought it, or it was this store's own.
			behind, err := s.behind(ctx, heads)
			if err != nil {
				return err
			}
			if !missed && !behind {
				continue
			}
			summary, err := s.Pull(started(ctx, byListener), nil)
			if errors.Is(err, file.ErrBusy) {
				due = time.After(settle)
				continue
			}
			if err != nil {
				return err
			}
			missed = false
			clear(heads)
			if summary.Received+summary.Withdrawn > 0 {
				tell(summary, nil)
			}
		case <-ctx.Done():
			return nil
		}
	}
}

// behind says whether heads have moved beyond what this store has pulled; a head of 0 says that the definition changed.
func (s *Line) behind(ctx context.Context, heads map[string]int64) (bool, error) {
	collections, err := s.Cursors(ctx)
	return slices.ContainsFunc(collections, func(c hold.CollectionStatus) bool {
		head, named := heads[c.Name]
		return c.Loads() && named && (head == 0 || head > c.Cursor)
	}), err
}
