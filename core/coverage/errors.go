package coverage

import (
	"errors"
	"fmt"
)

// Wrong is a text that is no period.
type Wrong struct {
	Text string
	Err  error
}

func (w *Wrong) Error() string { return fmt.Sprintf("%q %v", w.Text, w.Err) }

// What keeps a grid from being worked out.
var (
	ErrTooMany = fmt.Errorf("there are more than %d periods between the two: ask for fewer", MostPeriods)
	ErrNone    = errors.New("no period lies between the two: the first comes after the last")
)
