// Package people is who may use a device, and who does: its workers with their PINs, signing in and out.
package people

import "homing/device/internal/hold"

// House is the people of a device.
type House struct {
	*hold.Shelf
}

// New adds to what is below it.
func New(below *hold.Shelf) *House { return &House{below} }
