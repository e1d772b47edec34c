package device

import (
	"time"

	"homing/core/clock"
)

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
