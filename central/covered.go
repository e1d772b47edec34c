package central

import (
	"context"
	"slices"

	"homing/central/fault"
	"homing/central/finding"
	"homing/core/coverage"
	"homing/core/rights"
)

// Covered is the grid of what a collection expects, for somebody. The name is of a worker whose own territories it is limited to, empty for
// all that they see. How far each worker is, is said to who may see the devices of others; anybody else is told of themselves.
func (c *Central) Covered(ctx context.Context, asker Person, name string, ask finding.Covering) (coverage.Grid, error) {
	workers, err := c.Workers(ctx, false)
	if err != nil {
		return coverage.Grid{}, err
	}
	watches := asker.Role.May(rights.WatchFleet)
	if name != "" && name != asker.Name && !watches {
		return coverage.Grid{}, fault.Fail(fault.NotAllowed, "the role %s sees only how far its own territories are", asker.Role)
	}
	if at := slices.IndexFunc(workers, func(w Worker) bool { return w.Name == name }); name != "" {
		if at < 0 {
			return coverage.Grid{}, fault.Fail(fault.NotFound, "there is no worker %s", name)
		}
		ask.Held = workers[at].Territories
	}
	var shown []rights.Person
	for _, w := range workers {
		holds := slices.ContainsFunc(w.Territories, func(key string) bool { return key != rights.All })
		if holds && w.DisabledAt == nil && (watches || w.Name == asker.Name) {
			shown = append(shown, personOf(w))
		}
	}
	return c.Coverage(ctx, asker, ask, shown)
}
