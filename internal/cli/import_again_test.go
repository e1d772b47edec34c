package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"homing/internal/testbed"
)

// What a second import of a file, or the next month's, does to what is there is said before it is done; without a key nothing
// is added a second time unless somebody says so.
func TestTheNextFile(t *testing.T) {
	bed := hour(t)
	defer bed.Stop()
	folder := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(folder, name)
		testbed.Must(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	says := func(text string, parts ...string) {
		t.Helper()
		for _, part := range parts {
			if !strings.Contains(text, part) {
				t.Errorf("it says\n%s\nand not %q", text, part)
			}
		}
	}
	// All depths differ so far, and yet none of them is what a reading is known by.
	readings := file("readings.csv", "Site;Depth;Taken\nArn;1,25;01.03.2025\nKell;2,5;01.03.2025\nOstra;0,75;01.03.2025\n;;\nTotal;4,5;\n")
	out, told, code := homing(t, "import", readings, "--yes")
	if code != 0 {
		t.Fatalf("exit %d: %s", code, told)
	}
	says(told, "row 6 looks like totals and is left out", "a comma is taken to stand before decimals, as in 1,25", "No column looks like a key", "--key FIELD,FIELD",
		"required: [site, depth, taken]")
	says(out, "3 records added")
	_, told, code = homing(t, "import", readings)
	if code != 4 {
		t.Errorf("the same file again: exit %d", code)
	}
	says(told, "nothing was changed: 3 rows of 3 say just what records of readings say")
	next := file("next.csv", "Site;Depth;Taken\nArn;1,5;01.03.2025\nKell;2,5;01.03.2025\nArn;1,25;01.04.2025\n")
	out, told, code = homing(t, "import", next, "--collection", "readings", "--key", "site,taken")
	if code != 0 {
		t.Errorf("exit %d: %s", code, told)
	}
	says(told, "readings: 1 record would change, found by site,taken; 1 added, 1 left as they are.")
	says(out, "1 record added, 1 updated, 1 unchanged")
	out, _, code = homing(t, "import", readings, "--add-again", "--keep-totals")
	if code != 4 { // the totals are no reading
		t.Errorf("with the totals: exit %d: %s", code, out)
	}
	says(fine(t, "import", readings, "--add-again"), "3 records added")
	// A column that others refer to is the key, though neither its name nor its form says so.
	fine(t, "import", file("visits.csv", "Station,Day\nUpper Arn,2025-03-01\nUpper Arn,2025-03-02\nKell,2025-03-01\n"), "--yes")
	_, told, code = homing(t, "import", file("stations.csv", "Keeper,Place,Height\nRuna,Upper Arn,1200\nOdo,Kell,900\nIda,Ostra,700\n"), "--yes")
	if code != 0 {
		t.Errorf("exit %d: %s", code, told)
	}
	says(told, "The key is place: all of its values are there and differ, and visits refer to it.")
	_, told, code = homing(t, "import", readings, "--key", "site,nowhere")
	if code != 4 {
		t.Errorf("exit %d", code)
	}
	says(told, "there is no column for the key nowhere")
	for _, args := range [][]string{{"--decimal", "dot"}, {"--dates", "ymd"}, {"--zone", "Nowhere/Else"}} {
		if _, _, code := homing(t, append([]string{"import", readings}, args...)...); code != 2 {
			t.Errorf("%v: exit %d", args, code)
		}
	}
	// Figures as they are written go into a collection that is there, too, and two columns into its place.
	fine(t, "define", file("posts.yaml", "collection: posts\nkey: number\nfields:\n  number: {type: string}\n  place: {$ref: urn:homing:point}\n  share: {type: number}\n  set: {type: string, format: date}\n"))
	posts := file("posts.csv", "Number;Latitude;Longitude;Share;Set\nP-1;52,3831;-30,9959;12%;1.2.2025\nP-2;;;0,5;\n")
	says(fine(t, "import", posts), "2 records added")
	says(strings.Join(strings.Fields(fine(t, "records", "list", "posts", "--json")), ""), `"coordinates":[-30.9959,52.3831]`, `"share":0.12`, `"set":"2025-02-01"`, `"share":0.5`)
}
