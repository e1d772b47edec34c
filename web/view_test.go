package web_test

import (
	"errors"
	"testing"

	"github.com/jmoiron/sqlx"

	"homing/central/fault"
	"homing/core/definition"
	"homing/internal/testbed"
)

// Analysts open a collection as a view with typed columns. It follows the definition.
func TestTypedViews(t *testing.T) {
	bed := testbed.Start(t)
	const first = "collection: huts\nfields:\n  name: {type: string}\n  beds: {type: string}\n  opened: {type: string}\n"
	const second = "collection: huts\nfields:\n  name: {type: string}\n  beds: {type: integer}\n  opened: {type: " +
		"string, format: date}\n  heated: {type: boolean}\n  at: {$ref: \"urn:homing:point\"}\ncarry:\n  convert: " +
		"{beds: \"null\", opened: \"null\"}\n"
	bed.Define(first)
	admin := bed.SignIn("admin")
	add := func(fields map[string]any) {
		t.Helper()
		if status, text := bed.Call("POST", "/v1/records/huts", admin, map[string]any{"fields": fields}); status != 201 {
			t.Fatalf("%d %s", status, text)
		}
	}
	add(map[string]any{"name": "Old", "beds": "a dozen", "opened": "long ago"})
	bed.Define(second)
	add(map[string]any{"name": "New", "beds": 12, "opened": "2025-06-01", "heated": true,
		"at": map[string]any{"type": "Point", "coordinates": []float64{-31, 52}}})
	db, err := sqlx.Open("pgx", bed.Database)
	testbed.Must(t, err)
	defer db.Close()
	var got struct {
		Rows int     `db:"rows"`
		Beds float64 `db:"beds"`
		Year int     `db:"year"`
		Warm int     `db:"warm"`
		Lon  float64 `db:"lon"`
	}
	testbed.Must(t, db.Get(&got, `SELECT count(*) AS rows, sum(beds) AS beds, max(extract(year FROM opened))::int AS year, count(*) FILTER (WHERE heated) AS warm,
		max((at->'coordinates'->>0)::float) AS lon FROM data.huts WHERE homing_author = 'admin'`))
	if got.Rows != 2 || got.Beds != 12 || got.Year != 2025 || got.Warm != 1 || got.Lon != -31 {
		t.Errorf("the view shows %+v", got)
	}
	db.MustExec(`CREATE VIEW report AS SELECT name FROM data.huts`)
	d, err := definition.ReadSource("huts.yaml", []byte(first))
	testbed.Must(t, err)
	d.Carry.Convert = map[string]string{"beds": "null", "opened": "null"}
	d.Carry.Drop = []string{"heated", "at"}
	_, err = bed.Central.Define(t.Context(), "admin", []definition.Definition{d})
	var known *fault.Error
	if !errors.As(err, &known) || known.Kind != fault.Clash {
		t.Errorf("a view that others build upon: %v", err)
	}
	if c, err := bed.Central.Collection(t.Context(), "huts"); err != nil || c.Version != 2 {
		t.Errorf("the definition changed all the same: %+v, %v", c.Definition, err)
	}
}
