package finding

import (
	"context"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/fingerprint"
	"homing/core/rights"
	"homing/wire"
)

// Fingerprints gives the fingerprints of what a device should hold of a collection, by buckets of ids, or of each
// record of one bucket. So both sides can be compared without moving the records.
func (c *Finding) Fingerprints(ctx context.Context, from fleet.Device, collection string, covers []string,
	bucket string) (wire.Fingerprints, error) {
	compiled, err := c.db.Collection(ctx, collection)
	if err != nil {
		return wire.Fingerprints{}, err
	}
	if covers == nil {
		covers = from.Territories
	}
	for _, key := range covers {
		if !slices.Contains(from.Territories, key) && !slices.Contains(from.Territories, rights.All) {
			return wire.Fingerprints{}, fault.Fail(fault.Coverage,
				"the worker %s does not hold the territory %q now; ask for the definitions again", from.Worker, key)
		}
	}
	got := wire.Fingerprints{Collection: collection, Buckets: map[string]wire.Bucket{}}
	if err := c.db.QueryRowxContext(ctx, `SELECT head FROM collections WHERE name = $1`,
		collection).Scan(&got.Head); err != nil {
		return got, err
	}
	rows, err := c.db.QueryxContext(ctx, `SELECT id, revision, fields, array_to_json(territories) FROM records
		WHERE collection = $1 AND NOT removed AND `+postgres.Covered("$2")+`
		AND ($3 = '' OR right(id::text, 2) = $3) ORDER BY id`, collection, covers, bucket)
	if err != nil {
		return got, err
	}
	defer rows.Close()
	sets := map[string]*fingerprint.Set{}
	readsAll := from.People.ReadsAll(compiled)
	for rows.Next() {
		var id uuid.UUID
		var revision int64
		var fields []byte
		var territories fleet.Keys
		if err := rows.Scan(&id, &revision, &fields, &territories); err != nil {
			return got, err
		}
		if !readsAll {
			seen, err := sees(from.People, compiled, territories, fields)
			if err != nil {
				return got, fmt.Errorf("stored record %s: %w", id, err)
			}
			if !seen {
				continue
			}
		}
		if bucket != "" {
			var one fingerprint.Set
			one.Add(id, fields)
			got.Records = append(got.Records, wire.Fingerprint{ID: id, Revision: revision, Fingerprint: one.String()})
		}
		name := fingerprint.Bucket(id)
		if sets[name] == nil {
			sets[name] = &fingerprint.Set{}
		}
		sets[name].Add(id, fields)
	}
	for name, set := range sets {
		got.Buckets[name] = wire.Bucket{Count: set.Count(), Fingerprint: set.String()}
	}
	return got, rows.Err()
}
