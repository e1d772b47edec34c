package definition

import (
	"fmt"
	"regexp"
	"strconv"
	"time"
)

// Direction is which way the records of a collection travel.
type Direction string

// The directions. Empty means both.
const (
	Both Direction = "both"
	Up   Direction = "up"   // devices send what they make and get nothing
	Down Direction = "down" // devices get what central has and change nothing
)

// Pushes says whether devices may change records.
func (d Direction) Pushes() bool { return d != Down }

// Pulls says whether devices get records.
func (d Direction) Pulls() bool { return d != Up }

// Steps is how many of the unsent edits of one record a device sends.
type Steps string

// The ways. Empty means folded.
const (
	Folded Steps = "folded" // several that nobody came between go as one, from the first value to the last
	Every  Steps = "every"  // each is sent and has its place in the history
)

// Keep is how devices keep the records that central has. What central does not have yet is always kept.
type Keep string

// The ways to keep records. Empty means always; anything else is a span of time after central last confirmed the
// records.
const (
	Always   Keep = "always"
	OnDemand Keep = "on demand" // asked for at central while in signal; what was looked at stays
	Never    Keep = "never"     // asked for at central while in signal; nothing stays
)

// Loads says whether an exchange brings all that the worker covers.
func (k Keep) Loads() bool { return k != OnDemand && k != Never }

// For gives the span of time for which records are kept; 0 when no such span is set.
func (k Keep) For() time.Duration {
	span, err := ParseSpan(string(k))
	if err != nil {
		return 0
	}
	return span
}

func (k Keep) check() error {
	if k == "" || k == Always || k == OnDemand || k == Never || k.For() > 0 {
		return nil
	}
	return fmt.Errorf("%q is not a way to keep records: take always, on demand, never, or a time such as 7 days",
		string(k))
}

// MaxAge is how old what a device holds may get, since central last confirmed it.
type MaxAge struct {
	Warn  string `json:"warn,omitempty" doc:"A time such as 2 days after which people are warned."`
	Block string `json:"block,omitempty" doc:"A time such as 7 days after which edits are refused until an exchange."`
}

// Age is how old something is, measured against what is allowed.
type Age string

// The ages.
const (
	Fresh   Age = ""
	Old     Age = "old"     // people are warned
	TooOld  Age = "too old" // editing is blocked
	Unknown Age = "unknown" // never confirmed by central
)

// Judge says how old something is that central last confirmed at a moment.
func (m *MaxAge) Judge(confirmed, now time.Time) Age {
	if m == nil {
		return Fresh
	}
	if confirmed.IsZero() {
		return Unknown
	}
	age := now.Sub(confirmed)
	if span, err := ParseSpan(m.Block); err == nil && age > span {
		return TooOld
	}
	if span, err := ParseSpan(m.Warn); err == nil && age > span {
		return Old
	}
	return Fresh
}

var span = regexp.MustCompile(`^([1-9][0-9]{0,5}) (minute|hour|day|week)s?$`)

// ParseSpan reads a span of time such as 90 minutes, 12 hours, 7 days or 2 weeks.
func ParseSpan(text string) (time.Duration, error) {
	parts := span.FindStringSubmatch(text)
	if parts == nil {
		return 0, fmt.Errorf("%q is not a time: write it as 90 minutes, 12 hours, 7 days or 2 weeks", text)
	}
	n, err := strconv.Atoi(parts[1])
	if err != nil {
		return 0, err
	}
	unit := map[string]time.Duration{"minute": time.Minute, "hour": time.Hour, "day": 24 * time.Hour,
		"week": 7 * 24 * time.Hour}[parts[2]]
	return time.Duration(n) * unit, nil
}
