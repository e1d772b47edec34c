package past

import (
	"context"
	"time"

	"github.com/google/uuid"

	"homing/central/fleet"
)

// ExchangesOf says which exchanges are asked for; the zero value stands for all.
type ExchangesOf struct {
	Worker  string    // of the devices of one worker
	Device  uuid.UUID // of one device
	Refused bool      // with changes that were refused or wait
	Before  time.Time // that ended before
	Limit   int
}

// Exchanges gives the latest exchanges.
func (c *Past) Exchanges(ctx context.Context, of ExchangesOf) ([]fleet.Exchange, error) {
	exchanges := []fleet.Exchange{}
	if of.Before.IsZero() {
		of.Before = c.db.Now().AddDate(100, 0, 0)
	}
	err := c.db.SelectContext(ctx, &exchanges, `
		SELECT e.*, d.name, d.worker FROM exchanges e JOIN devices d ON d.id = e.device
		WHERE ($1 = '' OR d.worker = $1) AND ($2::uuid IS NULL OR e.device = $2) AND (NOT $3 OR e.refused + e.waiting > 0)
			AND e.last_at < $4
		ORDER BY e.last_at DESC LIMIT $5`, of.Worker, uuid.NullUUID{UUID: of.Device, Valid: of.Device != uuid.Nil}, of.Refused,
		of.Before, of.Limit)
	for n := range exchanges {
		exchanges[n].StartedAt, exchanges[n].LastAt = exchanges[n].StartedAt.UTC(), exchanges[n].LastAt.UTC()
	}
	return exchanges, err
}
