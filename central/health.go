package central

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// Health is how central itself is.
type Health struct {
	Generation  uuid.UUID `json:"generation" format:"uuid" doc:"The identity of the database; a new one after each restore."`
	RestoredAt  time.Time `json:"restored_at,omitzero" doc:"When the database was last restored from a backup."`
	PostgreSQL  string    `json:"postgresql" doc:"Its version."`
	Bytes       int64     `json:"bytes" doc:"What the database takes on disk."`
	Connections int       `json:"connections" doc:"Open connections to the database, of all instances."`
	Most        int       `json:"most_connections"`
	Oldest      float64   `json:"oldest_transaction" doc:"How long the longest transaction has been open, in seconds."`
	Tables      []Table   `json:"tables" doc:"The largest first."`
	Backups     []Backup  `json:"backups" doc:"Those that homing backup wrote, the latest first; a few."`
}

// Backup is one that was written of central's database. Whether the file is still there, nobody knows here.
type Backup struct {
	MadeAt time.Time `json:"made_at" db:"made_at"`
	File   string    `json:"file" db:"file" doc:"Where it was written to, on the machine on which that was done."`
	Bytes  int64     `json:"bytes" db:"bytes"`
}

// Table is what a table of the database takes.
type Table struct {
	Name  string `json:"name" db:"name"`
	Rows  int64  `json:"rows" db:"rows" doc:"About so many, as PostgreSQL last estimated."`
	Bytes int64  `json:"bytes" db:"bytes" doc:"With its indexes."`
}

// Health asks the database how it is.
func (c *Central) Health(ctx context.Context) (Health, error) {
	h := Health{Generation: c.Generation(), Tables: []Table{}, Backups: []Backup{}}
	var restored *time.Time
	err := c.db.QueryRowxContext(ctx, `SELECT current_setting('server_version'), pg_database_size(current_database()),
			(SELECT count(*) FROM pg_stat_activity WHERE datname = current_database()), current_setting('max_connections')::int,
			coalesce((SELECT extract(epoch FROM now() - min(xact_start)) FROM pg_stat_activity
				WHERE datname = current_database() AND pid <> pg_backend_pid()), 0)::float8,
			(SELECT max(restored_at) FROM generations)`).
		Scan(&h.PostgreSQL, &h.Bytes, &h.Connections, &h.Most, &h.Oldest, &restored)
	if err != nil {
		return h, err
	}
	if restored != nil {
		h.RestoredAt = restored.UTC()
	}
	err = c.db.SelectContext(ctx, &h.Tables, `SELECT relname AS name, greatest(reltuples, 0)::bigint AS rows, pg_total_relation_size(oid) AS bytes
		FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace ORDER BY bytes DESC LIMIT 12`)
	if err == nil {
		err = c.db.SelectContext(ctx, &h.Backups, `SELECT made_at, file, bytes FROM backups ORDER BY made_at DESC LIMIT 8`)
	}
	return h, err
}
