package past

import (
	"context"

	"homing/central/fleet"
)

// Exchanges gives the latest exchanges, of one worker's devices only if a worker is named.
func (c *Past) Exchanges(ctx context.Context, worker string, limit int) ([]fleet.Exchange, error) {
	exchanges := []fleet.Exchange{}
	err := c.db.SelectContext(ctx, &exchanges, `
		SELECT e.*, d.name, d.worker FROM exchanges e JOIN devices d ON d.id = e.device
		WHERE $1 = '' OR d.worker = $1 ORDER BY e.last_at DESC LIMIT $2`, worker, limit)
	for n := range exchanges {
		exchanges[n].StartedAt, exchanges[n].LastAt = exchanges[n].StartedAt.UTC(), exchanges[n].LastAt.UTC()
	}
	return exchanges, err
}
