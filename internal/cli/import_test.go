package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"homing/internal/testbed"
)

// From a spreadsheet of 500 rows to a second device that shows them; the same file again doubles nothing; what goes
// out in any format comes in again without a change.
func TestFromASpreadsheetToADevice(t *testing.T) {
	bed := hour(t)
	folder := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(folder, name)
		testbed.Must(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	var rows strings.Builder
	rows.WriteString("Hut No;Name;Beds;Heated;Location;Remarks\n")
	for n := range 500 {
		fmt.Fprintf(&rows, "H%03d;Hut %d;%d;%s;\"{\"\"type\"\":\"\"Point\"\",\"\"coordinates\"\":[-31.%d,52.5]}\";%s\n", n,
			n, n%40, []string{"yes", "no"}[n%2], n, []string{"", "roof; \"\"leaks\"\""}[0])
	}
	huts := file("huts.csv", rows.String())
	if _, wrong, code := homing(t, "import", huts); code != 4 || !strings.Contains(wrong, "key: hut_no") ||
		!strings.Contains(wrong, "nothing was changed") {
		t.Errorf("without --yes: exit %d\n%s", code, wrong)
	}
	if out := fine(t, "import", huts, "--propose", filepath.Join(folder, "huts.yaml")); !strings.Contains(out,
		"500 rows") {
		t.Errorf("the proposal: %s", out)
	}
	text, err := os.ReadFile(filepath.Join(folder, "huts.yaml"))
	testbed.Must(t, err)
	text = []byte(strings.Replace(string(text), `location: {"title":"Location","type":"string"}`,
		`location: {$ref: "urn:homing:point"}`, 1))
	testbed.Must(t, os.WriteFile(filepath.Join(folder, "huts.yaml"), text, 0o600))
	fine(t, "define", filepath.Join(folder, "huts.yaml"))
	if out := fine(t, "import", huts, "--yes"); !strings.Contains(out, "500 records added") {
		t.Errorf("the first import: %s", out)
	}
	for range 2 {
		if out := fine(t, "import", huts); !strings.Contains(out, "0 records added, 0 updated, 500 unchanged") {
			t.Errorf("the same file again: %s", out)
		}
	}
	for _, name := range []string{"out.csv", "out.xlsx", "out.ndjson", "out.geojson"} {
		path := filepath.Join(folder, name)
		fine(t, "export", "huts", "--to", path)
		if out := fine(t, "import", path, "--collection", "huts"); !strings.Contains(out,
			"0 records added, 0 updated, 500 unchanged") {
			t.Errorf("%s comes back as: %s", name, out)
		}
	}
	// A device that added a record with the same key is found by it.
	fine(t, "local", "enrol", "--name", "tablet")
	fine(t, "local", "exchange")
	fine(t, "local", "add", "huts", "--set", "hut_no=H900", "--set", "name=New", "--set", "beds=1", "--set",
		"heated=true", "--set", "location=52,-31")
	fine(t, "local", "exchange")
	more := file("more.csv", "Hut No;Name;Beds;Heated;Location\nH900;New "+
		"Hut;2;yes;\"{\"\"type\"\":\"\"Point\"\",\"\"coordinates\"\":[-31,52]}\"\n")
	if out := fine(t, "import", more, "--collection", "huts"); !strings.Contains(out, "0 records added, 1 updated") {
		t.Errorf("a record of a device: %s", out)
	}
	t.Setenv("HOMING_STORE", filepath.Join(folder, "second.db"))
	fine(t, "local", "enrol", "--name", "second")
	if out := fine(t, "local", "exchange"); !strings.Contains(out, "Received 501") {
		t.Errorf("the second device: %s", out)
	}
	if out := fine(t, "local", "list", "huts", "--where", "hut_no=H900"); !strings.Contains(out, "New Hut") {
		t.Errorf("the second device shows: %s", out)
	}
	if strings.Contains(bed.Log.String(), "level=ERROR") {
		t.Error("the service logged an error")
	}
}

// Wrong rows keep everything out, or go to a file with their reasons, which can be mended and imported again.
func TestWrongRows(t *testing.T) {
	hour(t)
	folder := t.TempDir()
	path, rejects := filepath.Join(folder, "trails.csv"), filepath.Join(folder, "rejects.csv")
	testbed.Must(t, os.WriteFile(path,
		[]byte("name,state,length_km\nRidge,open,4.5\n,open,1\nValley,shut,2\nGorge,open,far\nLake,open,3\n"), 0o600))
	out, wrong, code := homing(t, "import", path)
	if code != 4 || !strings.Contains(wrong, "nothing was changed: 3 rows of 5 wrong") {
		t.Errorf("exit %d: %s", code, wrong)
	}
	for _, line := range []string{"3    name", "4    state      shut", "5    length_km  far"} {
		if !strings.Contains(out, line) {
			t.Errorf("the list lacks %q:\n%s", line, out)
		}
	}
	if out := fine(t, "records", "list", "trails"); !strings.Contains(out, "No records") {
		t.Errorf("something was loaded: %s", out)
	}
	out, _, code = homing(t, "import", path, "--rejects", rejects)
	if code != 4 || !strings.Contains(out, "2 records added") {
		t.Errorf("with rejects: exit %d: %s", code, out)
	}
	text, err := os.ReadFile(rejects)
	testbed.Must(t, err)
	if strings.Count(string(text), "\n") != 4 || !strings.Contains(string(text), "state: value must be one of") {
		t.Errorf("the rejects:\n%s", text)
	}
	mended := strings.NewReplacer("shut", "closed", "far", "7", "\n,open", "\nPass,open").Replace(string(text))
	testbed.Must(t, os.WriteFile(rejects, []byte(mended), 0o600))
	if out := fine(t, "import", rejects, "--collection", "trails"); !strings.Contains(out, "3 records added") {
		t.Errorf("the mended rejects: %s", out)
	}
	// A collection that is not defined yet is not defined by a file that is refused. One odd value among many numbers is
	// a mistake.
	huts := filepath.Join(folder, "huts.csv")
	text, mistake := []byte("no,beds\n"), "13   beds    a dozen  must be integer, is string"
	for n := range 30 {
		text = fmt.Appendf(text, "H%d,%d\n", n, n)
	}
	testbed.Must(t, os.WriteFile(huts, []byte(strings.Replace(string(text), "H11,11", "H11,a dozen", 1)), 0o600))
	if out, _, code := homing(t, "import", huts, "--yes"); code != 4 || !strings.Contains(out, mistake) {
		t.Errorf("exit %d:\n%s", code, out)
	}
	if _, wrong, code := homing(t, "records", "list", "huts"); code != 3 {
		t.Errorf("the collection was defined all the same: exit %d %s", code, wrong)
	}
	for text, says := range map[string]string{
		"name,colour\nx,red\n": `the column "colour" is no field of trails`, "name,name\na,b\n": `the column "name 2" is no field of trails`,
		"name\n": "there are no rows",
	} {
		testbed.Must(t, os.WriteFile(path, []byte(text), 0o600))
		if _, wrong, code := homing(t, "import", path); code != 4 || !strings.Contains(wrong, says) {
			t.Errorf("%q: exit %d: %s", text, code, wrong)
		}
	}
}
