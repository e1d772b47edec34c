// Package people is who is who at central: workers with their sign-ins, roles and territories, and the devices that
// belong to them, from the one-time code that enrols one to its being revoked.
package people

import (
	"homing/central/postgres"
)

// People knows who is who. It is safe for use by several goroutines.
type People struct{ db *postgres.DB }

// New makes a People on a database.
func New(db *postgres.DB) *People { return &People{db} }
