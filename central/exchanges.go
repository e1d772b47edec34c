package central

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// travelled is what one request of an exchange carried.
type travelled struct {
	batches, applied, merged, held, refused, waiting, repeated, delivered, bytesIn, bytesOut int
}

// noteExchange adds to the log of an exchange.
func noteExchange(ctx context.Context, tx *sqlx.Tx, device, exchange uuid.UUID, at time.Time, t travelled) error {
	_, err := tx.ExecContext(ctx, `
		INSERT INTO exchanges AS e (id, device, started_at, last_at, batches, applied, merged, refused, waiting, repeated, delivered, bytes_in, bytes_out, held)
		VALUES ($1, $2, $3, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)
		ON CONFLICT (device, id) DO UPDATE SET last_at = $3, batches = e.batches + $4, applied = e.applied + $5, merged = e.merged + $6,
			refused = e.refused + $7, waiting = e.waiting + $8, repeated = e.repeated + $9, delivered = e.delivered + $10,
			bytes_in = e.bytes_in + $11, bytes_out = e.bytes_out + $12, held = e.held + $13`,
		exchange, device, at, t.batches, t.applied, t.merged, t.refused, t.waiting, t.repeated, t.delivered, t.bytesIn, t.bytesOut, t.held)
	return err
}

// Exchange is one run of a device with central, as central saw it.
type Exchange struct {
	ID        uuid.UUID `json:"id" db:"id" format:"uuid"`
	Device    uuid.UUID `json:"device" db:"device" format:"uuid"`
	Name      string    `json:"device_name" db:"name"`
	Worker    string    `json:"worker" db:"worker"`
	StartedAt time.Time `json:"started_at" db:"started_at"`
	LastAt    time.Time `json:"last_at" db:"last_at"`
	Batches   int64     `json:"batches" db:"batches"`
	Applied   int64     `json:"applied" db:"applied"`
	Merged    int64     `json:"merged" db:"merged"`
	Held      int64     `json:"held" db:"held"`
	Refused   int64     `json:"refused" db:"refused"`
	Waiting   int64     `json:"waiting" db:"waiting"`
	Repeated  int64     `json:"repeated" db:"repeated" doc:"Changes that had been answered before."`
	Delivered int64     `json:"delivered" db:"delivered" doc:"Records that the device pulled."`
	BytesIn   int64     `json:"bytes_in" db:"bytes_in"`
	BytesOut  int64     `json:"bytes_out" db:"bytes_out"`
}

// Exchanges gives the latest exchanges, of one worker's devices only if a worker is named.
func (c *Central) Exchanges(ctx context.Context, worker string, limit int) ([]Exchange, error) {
	exchanges := []Exchange{}
	err := c.db.SelectContext(ctx, &exchanges, `
		SELECT e.*, d.name, d.worker FROM exchanges e JOIN devices d ON d.id = e.device
		WHERE $1 = '' OR d.worker = $1 ORDER BY e.last_at DESC LIMIT $2`, worker, limit)
	for n := range exchanges {
		exchanges[n].StartedAt, exchanges[n].LastAt = exchanges[n].StartedAt.UTC(), exchanges[n].LastAt.UTC()
	}
	return exchanges, err
}
