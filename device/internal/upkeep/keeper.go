// Package upkeep is what is done to a whole store: detaching and attaching, erasing, loading anew, restoring from a
// backup.
package upkeep

import "homing/device/internal/exchange"

// Keeper keeps a store up.
type Keeper struct {
	*exchange.Line
}

// New adds to what is below it.
func New(below *exchange.Line) *Keeper { return &Keeper{below} }
