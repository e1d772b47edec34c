package finding

import (
	"context"
	"database/sql"
	"fmt"

	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/definition"
	"homing/core/sight"
)

// mostMeasured is up to how many records are gone through for an extent.
const mostMeasured = 100_000

// Extent is the area in which the places of a collection lie that somebody may see, by a field that holds a point or a line. There
// is none where there are no places, where there are too many to go through, and where a rule says of each record who may read it.
func (c *Finding) Extent(ctx context.Context, asker fleet.Person, collection, field string) (*Area, error) {
	compiled, err := c.db.Collection(ctx, collection)
	if err != nil || !sight.Alone(asker).ReadsAll(compiled) {
		return nil, err
	}
	f, _ := compiled.Field(field)
	points := fmt.Sprintf(`SELECT fields->'%s'->'coordinates' AS c FROM held`, field)
	if f.Shape().Ref == definition.LineURL {
		points = fmt.Sprintf(`SELECT e AS c FROM held, json_array_elements(CASE WHEN json_typeof(fields->'%[1]s'->'coordinates') = 'array'
			THEN fields->'%[1]s'->'coordinates' ELSE '[]' END) e`, field)
	}
	var sides [4]sql.NullFloat64
	var records int
	err = c.db.QueryRowxContext(ctx, fmt.Sprintf(`WITH held AS (SELECT fields FROM records WHERE collection = $1 AND NOT removed AND %s LIMIT %d),
			places AS (%s)
		SELECT (SELECT count(*) FROM held), min((c->>0)::float8), min((c->>1)::float8), max((c->>0)::float8), max((c->>1)::float8) FROM places
		WHERE json_typeof(c) = 'array'`, postgres.Covered("$2"), mostMeasured+1, points), collection, asker.Territories).
		Scan(&records, &sides[0], &sides[1], &sides[2], &sides[3])
	if err != nil || records > mostMeasured || !sides[0].Valid {
		return nil, err
	}
	return &Area{field, sides[0].Float64, sides[1].Float64, sides[2].Float64, sides[3].Float64}, nil
}
