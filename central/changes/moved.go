package changes

import (
	"context"
	"time"

	"github.com/google/uuid"

	"homing/central/fleet"
)

// SeriesGap is what series go on by after the database was put back to an earlier state.
const SeriesGap = 1000

// MoveOn gives the database a new generation, since it was found to have been put back to an earlier state: what it
// has received after a moment is not what it had then. Devices come to terms with it as after a restore. It does
// nothing where the generation is not the one any more that it was when that was found.
func (c *Changes) MoveOn(ctx context.Context, since time.Time, found uuid.UUID) error {
	moved := false
	err := c.ground.Define(ctx, func(t Tables) error {
		if now, _ := c.ground.Generations(); now != found {
			return nil
		}
		moved = true
		return t.Restored(ctx, since, c.ground.NewID(), c.ground.NewID())
	})
	if err != nil || !moved {
		return err
	}
	c.log.Warn("the database was put back to an earlier state; it has a new generation, and devices offer again what "+
		"it has lost", "as_of", since)
	c.ground.Announce(ctx, fleet.Event{Moved: true})
	return nil
}
