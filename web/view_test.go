package web_test

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/jmoiron/sqlx"

	"homing/central/fault"
	"homing/core/definition"
	"homing/internal/testbed"
	"homing/service"
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

// Views change in place: who was granted one keeps it, what is built upon it stands, and columns say what they hold. A role for
// analysts reads all views, those of later among them, and nothing else, until it is taken away.
func TestViewsKeepTheirReaders(t *testing.T) {
	bed := testbed.Start(t)
	ctx := t.Context()
	bed.Define("collection: huts\ntitle: Huts\nfields:\n  name: {type: string, description: As on the sign}\n  beds: {type: integer, unit: places}\n  at: {$ref: \"urn:homing:point\"}\n" +
		"  old: {type: string}\n")
	analyst, err := service.AddAnalyst(ctx, bed.Database, "", "reports_"+strings.ToLower(rand.Text()[:8]))
	testbed.Must(t, err)
	defer service.RemoveAnalyst(ctx, bed.Database, "", analyst.Name)
	owner, reader := testbed.SQL(t, bed.Database), testbed.SQL(t, analyst.Address)
	add := func(fields map[string]any) {
		t.Helper()
		if status, text := bed.Call("POST", "/v1/records/huts", bed.SignIn("admin"), map[string]any{"fields": fields}); status != 201 {
			t.Fatalf("%d %s", status, text)
		}
	}
	add(map[string]any{"name": "Gale", "beds": 12, "at": map[string]any{"type": "Point", "coordinates": []float64{-31, 52}}, "old": "x"})
	owner.MustExec(`CREATE VIEW report AS SELECT name, old, beds FROM data.huts`)
	reads := func(want string) {
		t.Helper()
		var got struct {
			Name string
			Beds int64
			Lat  float64 `db:"at_lat"`
		}
		if err := reader.Get(&got, `SELECT name, beds, at_lat FROM huts ORDER BY homing_id LIMIT 1`); err != nil || fmt.Sprint(got) != want {
			t.Errorf("an analyst reads %v, %v, want %s", got, err, want)
		}
	}
	reads("{Gale 12 52}")
	bed.Define("collection: huts\ntitle: Huts\nfields:\n  open: {type: boolean}\n  name: {type: string}\n  beds: {type: integer}\n  at: {$ref: \"urn:homing:point\"}\ncarry: {drop: [old]}\n")
	reads("{Gale 12 52}")
	var old *string
	if err := owner.Get(&old, `SELECT old FROM report`); err != nil || old != nil {
		t.Errorf("what is built upon the view shows %v, %v", old, err)
	}
	owner.MustExec(`DROP VIEW report`)
	bed.Define("collection: huts\nfields:\n  name: {type: string}\n  beds: {type: string}\n  at: {$ref: \"urn:homing:point\"}\ncarry: {convert: {beds: string(int(record.beds))}, drop: [open]}\n",
		"collection: later\nfields:\n  name: {type: string}\n")
	var beds string
	if err := reader.Get(&beds, `SELECT beds FROM data.huts WHERE beds IS NOT NULL`); err != nil || beds != "12" {
		t.Errorf("after a column has become another: %q, %v", beds, err)
	}
	var rows int
	testbed.Must(t, reader.Get(&rows, `SELECT count(*) FROM data.later`))
	var about string
	if err := owner.Get(&about, `SELECT col_description('data.huts'::regclass, attnum) FROM pg_attribute WHERE attrelid = 'data.huts'::regclass AND attname = 'at_lon'`); err != nil ||
		about != "At: longitude, in degrees" {
		t.Errorf("the column says %q, %v", about, err)
	}
	for _, statement := range []string{`SELECT * FROM public.records`, `SELECT * FROM public.workers`, `DELETE FROM data.huts`, `UPDATE data.huts SET name = 'x'`,
		`CREATE TABLE data.x (n int)`, `CREATE TABLE public.x (n int)`, `SET default_transaction_read_only = off; DELETE FROM data.huts`} {
		if _, err := reader.Exec(statement); err == nil {
			t.Errorf("an analyst may: %s", statement)
		}
	}
	if all, err := service.Analysts(ctx, bed.Database, ""); err != nil || !slices.Contains(all, service.Analyst{Name: analyst.Name}) {
		t.Errorf("the analysts are %v, %v", all, err)
	}
	testbed.Must(t, service.RemoveAnalyst(ctx, bed.Database, "", analyst.Name))
	if err := reader.Get(&rows, `SELECT count(*) FROM data.later`); err == nil {
		t.Error("a role that was taken away still reads")
	}
	if err := service.RemoveAnalyst(ctx, bed.Database, "", "postgres"); !errors.Is(err, service.ErrNoAnalyst) {
		t.Errorf("a role that is no analyst's is taken away: %v", err)
	}
}

// What a record refers to is called by its label one join away, and as the lists call it.
func TestViewsHaveLabels(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: huts\nlabel: \"{name} ({beds} beds, Keeper's)\"\nfields:\n  name: {type: string}\n  beds: {type: integer}\n",
		"collection: visits\nlabel: \"{day}\"\nfields:\n  hut: {type: string, format: uuid, reference: huts}\n  day: {type: string, format: date}\n")
	admin := bed.SignIn("admin")
	for _, hut := range []map[string]any{{"name": "Gale", "beds": 12}, {"name": "Fern"}, {}} {
		status, text := bed.Call("POST", "/v1/records/huts", admin, map[string]any{"fields": hut})
		var added struct{ Record struct{ ID string } }
		if err := json.Unmarshal([]byte(text), &added); status != 201 || err != nil {
			t.Fatalf("%d %s, %v", status, text, err)
		}
		if status, text := bed.Call("POST", "/v1/records/visits", admin, map[string]any{"fields": map[string]any{"hut": added.Record.ID, "day": "2025-06-01"}}); status != 201 {
			t.Fatalf("%d %s", status, text)
		}
	}
	var labels []string
	testbed.Must(t, testbed.SQL(t, bed.Database).Select(&labels, `SELECT v.homing_label || ': ' || coalesce(h.homing_label, 'nameless') FROM data.visits v
		JOIN data.huts h ON h.homing_id = v.hut ORDER BY 1`))
	want := []string{"2025-06-01: Fern ( beds, Keeper's)", "2025-06-01: Gale (12 beds, Keeper's)", "2025-06-01: nameless"}
	if !slices.Equal(labels, want) {
		t.Errorf("the visits are %q, want %q", labels, want)
	}
}
