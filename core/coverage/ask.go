package coverage

import (
	"fmt"
	"slices"
	"strings"
)

// Ask says what of a grid is wanted. The sums are of all that was worked out, whatever is asked for.
type Ask struct {
	State         string // of at least one cell, one of [States]; empty for any
	Search        string // in what the place is called
	Limit, Offset int    // places; a limit of 0 means [UsualPlaces]
}

// States are what may be asked for of a cell.
var States = []string{string(Missing), string(Begun), string(Complete), "late", "owed"}

// Checked is the ask with what it leaves out, or says what of it cannot be meant.
func (a Ask) Checked() (Ask, error) {
	if a.Limit == 0 {
		a.Limit = UsualPlaces
	}
	switch {
	case a.State != "" && !slices.Contains(States, a.State):
		return a, fmt.Errorf("state %.40q: take %s", a.State, strings.Join(States, ", "))
	case a.Limit < 0 || a.Limit > MostPlaces:
		return a, fmt.Errorf("limit %d: take 1 to %d", a.Limit, MostPlaces)
	case a.Offset < 0:
		return a, fmt.Errorf("offset %d: take 0 or more", a.Offset)
	}
	return a, nil
}

// fits says whether a place is among those that somebody asks for. One at which nothing is expected and nothing is there is not.
func (r *Line) fits(ask Ask) bool {
	if ask.Search != "" && !strings.Contains(strings.ToLower(r.Label), strings.ToLower(ask.Search)) {
		return false
	}
	return slices.ContainsFunc(r.Cells, func(c *Cell) bool {
		switch ask.State {
		case "":
			return c != nil
		case "owed":
			return c.Owed()
		case "late":
			return c.Owed() && c.Late
		}
		return c != nil && c.Expected && string(c.State) == ask.State
	})
}
