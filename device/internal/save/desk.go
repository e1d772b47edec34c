// Package save is what happens when somebody saves: one transaction puts a change into the outbox and its effect into
// the view. What central has refused is mended here.
package save

import "homing/device/internal/people"

// Desk saves.
type Desk struct {
	*people.House
}

// New adds to what is below it.
func New(below *people.House) *Desk { return &Desk{below} }
