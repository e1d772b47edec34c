package finding

import (
	"context"
	"database/sql"
	"encoding/json"

	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/definition"
)

// Overview is a collection with its numbers.
type Overview struct {
	definition.Definition
	Head       int64   `json:"head" doc:"Position of the last accepted change."`
	Records    int64   `json:"records" doc:"Records that are not removed."`
	Removed    int64   `json:"removed" doc:"Tombstones."`
	LastChange *string `json:"last_change,omitempty" doc:"When the last change was received."`
}

// Overviews gives all collections by name, with the numbers of what somebody covers.
func (c *Finding) Overviews(ctx context.Context, asker fleet.Person) ([]Overview, error) {
	var rows []struct {
		Doc     []byte         `db:"doc"`
		Head    int64          `db:"head"`
		Records int64          `db:"records"`
		Removed int64          `db:"removed"`
		Last    sql.NullString `db:"last"`
	}
	err := c.db.SelectContext(ctx, &rows, `
		SELECT c.doc, c.head,
			(SELECT count(*) FROM records r
				WHERE r.collection = c.name AND NOT r.removed AND `+postgres.Covered("$1")+`) AS records,
			(SELECT count(*) FROM records r WHERE r.collection = c.name AND r.removed AND `+postgres.Covered("$1")+`) AS removed,
			(SELECT to_char(r.received_at AT TIME ZONE 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"') FROM records r
				WHERE r.collection = c.name ORDER BY r.position DESC LIMIT 1) AS last
		FROM collections c ORDER BY c.name`, asker.Territories)
	if err != nil {
		return nil, err
	}
	all := make([]Overview, len(rows))
	for n, row := range rows {
		if err := json.Unmarshal(row.Doc, &all[n].Definition); err != nil {
			return nil, err
		}
		all[n].Head, all[n].Records, all[n].Removed = row.Head, row.Records, row.Removed
		if row.Last.Valid {
			all[n].LastChange = &row.Last.String
		}
	}
	return all, nil
}
