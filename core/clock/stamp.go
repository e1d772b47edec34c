// Package clock orders edits made on devices whose clocks cannot be trusted.
//
// A [Stamp] is a hybrid logical clock reading (Kulkarni et al., "Logical Physical Clocks", 2014): milliseconds since
// the Unix epoch and a counter, written so that the order of the texts is the order of the stamps. An [Offset] is
// what one exchange measured of a device's clock; [Offset.Correct] turns a device's stamp into one that can be
// compared with those of other devices.
//
// Nothing here reads a clock: the time of day comes in from outside, so that a test can turn it back.
package clock

import (
	"errors"
	"fmt"
	"strconv"
	"time"
)

const (
	millisDigits  = 12 // hexadecimal: 48 bits, good until the year 10889
	counterDigits = 4
	stampLength   = millisDigits + 1 + counterDigits
	maxCounter    = 1<<(4*counterDigits) - 1
	maxMillis     = 1<<(4*millisDigits) - 1
)

// ErrStamp reports a text that is not a stamp.
var ErrStamp = errors.New("not a stamp: want 12 hexadecimal digits of milliseconds, a dash and 4 of counter")

// Stamp is a moment as a device or central counted it. The zero value comes before every other stamp.
type Stamp struct {
	Millis  int64  // since the Unix epoch; never negative
	Counter uint16 // tells apart what happened within one millisecond
}

// At is the first stamp of a moment. Moments before 1970 count as 1970.
func At(t time.Time) Stamp {
	return Stamp{Millis: min(max(t.UnixMilli(), 0), maxMillis)}
}

// Next is the stamp of an event at now on a device whose last stamp was last. It is later than last even when the
// device's clock has stood still or gone backwards.
func Next(last Stamp, now time.Time) Stamp {
	if fresh := At(now); fresh.Millis > last.Millis {
		return fresh
	}
	if last.Counter == maxCounter {
		return Stamp{Millis: last.Millis + 1}
	}
	return Stamp{Millis: last.Millis, Counter: last.Counter + 1}
}

// Compare is negative when s comes before other, positive when after, and zero when they are the same.
func (s Stamp) Compare(other Stamp) int {
	switch {
	case s.Millis != other.Millis:
		if s.Millis < other.Millis {
			return -1
		}
		return 1
	default:
		return int(s.Counter) - int(other.Counter)
	}
}

// IsZero says whether s carries no moment at all.
func (s Stamp) IsZero() bool { return s == Stamp{} }

// Time is the moment in UTC, to the millisecond.
func (s Stamp) Time() time.Time { return time.UnixMilli(s.Millis).UTC() }

// String writes the stamp so that texts order as stamps do, such as "0199d3a1c2b4-0003".
func (s Stamp) String() string {
	return fmt.Sprintf("%0*x-%0*x", millisDigits, s.Millis, counterDigits, s.Counter)
}

// Parse reads what [Stamp.String] wrote. It returns an error that wraps [ErrStamp] for anything else.
func Parse(text string) (Stamp, error) {
	if len(text) != stampLength || text[millisDigits] != '-' {
		return Stamp{}, fmt.Errorf("%q: %w", text, ErrStamp)
	}
	millis, err := strconv.ParseUint(text[:millisDigits], 16, 4*millisDigits)
	if err != nil {
		return Stamp{}, fmt.Errorf("%q: %w", text, ErrStamp)
	}
	counter, err := strconv.ParseUint(text[millisDigits+1:], 16, 4*counterDigits)
	if err != nil {
		return Stamp{}, fmt.Errorf("%q: %w", text, ErrStamp)
	}
	return Stamp{Millis: int64(millis), Counter: uint16(counter)}, nil
}

// MarshalText makes a stamp travel as its text.
func (s Stamp) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads the text of a stamp.
func (s *Stamp) UnmarshalText(text []byte) error {
	parsed, err := Parse(string(text))
	if err != nil {
		return err
	}
	*s = parsed
	return nil
}
