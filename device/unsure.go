package device

import (
	"context"
	"fmt"
	"time"

	"homing/core/clock"
)

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
