package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jmoiron/sqlx"

	"homing/internal/testbed"
)

const works = `
CREATE TYPE condition AS ENUM ('sound', 'worn');
CREATE TABLE valleys (code varchar(4) PRIMARY KEY, name text NOT NULL);
CREATE TABLE sites (
	id serial PRIMARY KEY, name text NOT NULL CHECK (char_length(name) <= 40),
		valley varchar(4) NOT NULL REFERENCES valleys,
	height numeric(6,1) CHECK (height >= 0
		AND height <= 5000), state condition, opened date, seen timestamp, tags text[], main integer REFERENCES sites,
	odd integer CHECK (odd % 2 = 1));
COMMENT ON COLUMN sites.height IS 'Metres above the sea';
CREATE TABLE visits (site integer NOT NULL REFERENCES sites ON DELETE CASCADE, day date NOT NULL, note text,
	PRIMARY KEY (site, day));
INSERT INTO valleys VALUES ('KEL', 'Kell'), ('OST', 'Ostra');
INSERT INTO sites (name, valley, height, state, opened, seen, tags, main, odd)
	SELECT 'Site ' || n, CASE n % 2 WHEN 0 THEN 'KEL' ELSE 'OST' END, n / 10.0, 'worn', date '2020-01-01' + n,
		timestamp '2026-05-01 10:00' + n * interval '1 hour',
		ARRAY['a', 'b "quoted"'], CASE WHEN n > 1 THEN 301 - n END, 1 FROM generate_series(1, 300) n;
INSERT INTO visits SELECT s, date '2026-06-01' + d, NULL FROM generate_series(1, 300) s, generate_series(1, 4) d;
`

// Tables of an existing database come in with their keys, relations, choices and bounds; again without doubling; and
// what has changed there follows.
func TestImportFromADatabase(t *testing.T) {
	hour(t)
	address := testbed.Database(t)
	db, err := sqlx.Connect("pgx", address)
	testbed.Must(t, err)
	defer db.Close()
	_, err = db.Exec(works)
	testbed.Must(t, err)
	if _, wrong, code := homing(t, "import", address, "--table", "nowhere"); code != 4 ||
		!strings.Contains(wrong, "there is no table public.nowhere") {
		t.Errorf("exit %d\n%s", code, wrong)
	}
	out, wrong, code := homing(t, "import", address, "--yes")
	if code != 0 || !strings.Contains(out, "valleys: 2 records added") ||
		!strings.Contains(out, "sites: 300 records added") || !strings.Contains(out, "visits: 1200 records added") {
		t.Fatalf("exit %d\n%s\n%s", code, out, wrong)
	}
	for _, says := range []string{`"maxLength":40`, `"maximum":5000,"minimum":0`, `"enum":["sound","worn"]`,
		"Metres above the sea", "parent: {collection: sites, field: site, removal: remove}",
		`"reference":"valleys"`, "not carried over: CHECK (((odd % 2) = 1))", "key: code", "required: [id, name, valley]"} {
		if !strings.Contains(wrong, says) {
			t.Errorf("the proposal lacks %s:\n%s", says, wrong)
		}
	}
	site := fine(t, "records", "show", "sites", "Site 7")
	for _, says := range []string{"0.7", "worn", "2020-01-08", "2026-05-01T17:00:00+00:00", `["a","b \"quoted\""]`} {
		if !strings.Contains(site, says) {
			t.Errorf("the site lacks %s:\n%s", says, site)
		}
	}
	if out := fine(t, "import", address); strings.Count(out, " 0 updated") != 3 ||
		strings.Count(out, ": 0 records added") != 3 {
		t.Errorf("the same tables again:\n%s", out)
	}
	_, err = db.Exec(`UPDATE sites SET height = 99 WHERE id = 7; INSERT INTO visits VALUES (7, '2026-07-01', 'new')`)
	testbed.Must(t, err)
	if out := fine(t, "import", address); !strings.Contains(out, "sites: 0 records added, 1 updated") ||
		!strings.Contains(out, "visits: 1 record added") {
		t.Errorf("after changes there:\n%s", out)
	}
	// Several tables are proposed into a folder, and what records cannot hold is said.
	_, err = db.Exec(`CREATE TABLE gauges (id int PRIMARY KEY, level float); INSERT INTO gauges VALUES (1, 'NaN'), (2, 1.5)`)
	testbed.Must(t, err)
	proposals := filepath.Join(t.TempDir(), "proposals")
	out, told, code := homing(t, "import", address, "--propose", proposals)
	if code != 0 || !strings.Contains(out, "Wrote proposals for 4 collections") || !strings.Contains(told, "level is NaN or infinite in 1 of its rows") {
		t.Errorf("exit %d: %s%s", code, out, told)
	}
	if files, err := filepath.Glob(filepath.Join(proposals, "*.yaml")); err != nil || len(files) != 4 {
		t.Errorf("the proposals are %v, %v", files, err)
	}
	_, err = db.Exec(`DROP TABLE gauges`)
	testbed.Must(t, err)
	// What goes out comes in again without a change, relations included.
	path := filepath.Join(t.TempDir(), "visits.csv")
	fine(t, "export", "visits", "--to", path)
	if out := fine(t, "import", path); !strings.Contains(out, "0 records added, 0 updated, 1201 unchanged") {
		t.Errorf("an export comes back as: %s", out)
	}
}

// A spreadsheet may refer to records by their keys; what refers to nothing is refused with its row.
func TestImportRefersByKey(t *testing.T) {
	hour(t)
	folder := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(folder, name)
		testbed.Must(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	fine(t, "import", write("valleys.csv", "code,name\nKEL,Kell\nOST,Ostra\n"), "--yes")
	huts := write("huts.csv", "number,name,valley\n1,Gale,KEL\n2,Fork,OST\n3,Last,KEL\n")
	_, wrong, code := homing(t, "import", huts, "--yes")
	if code != 0 || !strings.Contains(wrong, `"reference":"valleys"`) {
		t.Errorf("exit %d\n%s", code, wrong)
	}
	out, _, code := homing(t, "import", write("more.csv", "number,name,valley\n4,New,OST\n5,Odd,TAM\n"), "--collection",
		"huts", "--rejects", filepath.Join(folder, "rejects.csv"))
	if code != 4 || !strings.Contains(out, `refers to "TAM", which is not in Valleys`) ||
		!strings.Contains(out, "1 record added") {
		t.Errorf("exit %d\n%s", code, out)
	}
	fine(t, "records", "add", "valleys", "--set", "code=TAM", "--set", "name=Tamrin")
	if out := fine(t, "import", filepath.Join(folder, "rejects.csv"), "--collection", "huts"); !strings.Contains(out,
		"1 record added") {
		t.Errorf("the mended rejects: %s", out)
	}
}
