package file

import (
	"time"

	"github.com/google/uuid"
)

// Tick reads a clock that nobody turns: how long the machine has run, and an identity of this run. What is measured
// with it tells how long ago a change was made, whatever was done to the clock since.
type Tick func() (boot string, since time.Duration)

// processTick stands in where the system has no such clock: it holds for this process.
func processTick() Tick {
	boot, began := uuid.NewString(), time.Now()
	return func() (string, time.Duration) { return boot, time.Since(began) }
}

// LeastTurn is what the clock must have been turned by to count. Less is the system that keeps its clock right.
const LeastTurn = 50 * time.Millisecond
