package device

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/core/clock"
)

// Tick reads a clock that nobody turns: how long the machine has run, and an identity of this run. What is measured
// with it tells how long ago a change was made, whatever was done to the clock since.
type Tick func() (boot string, since time.Duration)

// processTick stands in where the system has no such clock: it holds for this process.
func processTick() Tick {
	boot, began := uuid.NewString(), time.Now()
	return func() (string, time.Duration) { return boot, time.Since(began) }
}

// unsure is by how much a change may be dated wrong beyond what this exchange has measured of the clock, since the
// machine was started anew after it was stamped and nothing tells whether its clock was turned. What was measured
// before that bounds it; where nothing was, the change was made at some time between its stamp and now.
func (e *exchange) unsure(ctx context.Context, q queued) (time.Duration, error) {
	boot, _ := e.tick()
	if q.Boot == answeredBefore || q.Boot == boot {
		return 0, nil
	}
	then, known, err := measured(ctx, e.db, factOffsetThen)
	if err != nil {
		return 0, storeError(err)
	}
	if known {
		return max((e.offset.By-then.By).Abs()+then.Error-e.offset.Error, 0), nil
	}
	stamp, err := clock.Parse(q.Stamp)
	if err != nil {
		return 0, fmt.Errorf("%w: change %d", ErrDamaged, q.Number)
	}
	return e.now().Sub(stamp.Time()).Abs(), nil
}

// leastTurn is what the clock must have been turned by to count. Less is the system that keeps its clock right.
const leastTurn = 50 * time.Millisecond

// turned is by how much the device's clock was turned forward since a change was stamped. It is 0 where nothing
// tells, such as after the machine was started anew; but a change from before was not made after that start, whatever
// the clock says by now. Offset is that of the clock now.
func (s *Store) turned(q queued, offset clock.Offset) time.Duration {
	if q.Boot == answeredBefore {
		stamp, err := clock.Parse(q.Stamp)
		if err != nil {
			return 0
		}
		return time.Duration(q.Line-stamp.Millis)*time.Millisecond - offset.By
	}
	boot, since := s.tick()
	if q.Boot == "" {
		return 0
	}
	if q.Boot != boot {
		stamp, err := clock.Parse(q.Stamp)
		if err != nil {
			return 0
		}
		return min(s.now().Add(-since).Sub(stamp.Time()), 0).Truncate(time.Millisecond)
	}
	by := time.Duration(s.now().UnixMilli()-since.Milliseconds()-q.Line) * time.Millisecond
	if by.Abs() < leastTurn {
		return 0
	}
	return by
}
