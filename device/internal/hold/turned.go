package hold

import (
	"time"

	"homing/core/clock"
	"homing/device/internal/file"
)

// Turned is by how much the device's clock was turned forward since a change was stamped. It is 0 where nothing
// tells, such as after the machine was started anew; but a change from before was not made after that start, whatever
// the clock says by now. Offset is that of the clock now.
func (s *Shelf) Turned(q file.Entry, offset clock.Offset) time.Duration {
	if q.Boot == file.AnsweredBefore {
		stamp, err := clock.Parse(q.Stamp)
		if err != nil {
			return 0
		}
		return time.Duration(q.Line-stamp.Millis)*time.Millisecond - offset.By
	}
	boot, since := s.Tick()
	if q.Boot == "" {
		return 0
	}
	if q.Boot != boot {
		stamp, err := clock.Parse(q.Stamp)
		if err != nil {
			return 0
		}
		return min(s.Now().Add(-since).Sub(stamp.Time()), 0).Truncate(time.Millisecond)
	}
	by := time.Duration(s.Now().UnixMilli()-since.Milliseconds()-q.Line) * time.Millisecond
	if by.Abs() < file.LeastTurn {
		return 0
	}
	return by
}
