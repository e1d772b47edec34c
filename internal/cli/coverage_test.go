package cli_test

import (
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"homing/internal/testbed"
)

const stations = `
collection: stations
label: "{name}"
key: name
fields:
  name: {type: string}
`

const gauges = `
collection: gauges
label: "{month}"
required: [station, month, level]
fields:
  station: {type: string, format: uuid, reference: stations}
  month: {type: string, period: month}
  level: {type: number}
  done_by: {type: string}
coverage:
  place: station
  period: month
  expected: {from: 2026-01, until: 2026-03}
  complete: done_by
`

// What is owed is shown, worked off without signal and handed out as a file, which has all of it and nothing that a spreadsheet would run. What cannot be
// meant is said.
func TestCoverageByCommand(t *testing.T) {
	bed := hour(t)
	defer bed.Stop()
	bed.Define(stations, gauges)
	var rows strings.Builder
	rows.WriteString("name\n=1+1\n")
	for n := range 1100 {
		fmt.Fprintf(&rows, "Gauge %04d\n", n)
	}
	path := filepath.Join(t.TempDir(), "stations.csv")
	testbed.Must(t, os.WriteFile(path, []byte(rows.String()), 0o600))
	fine(t, "import", path)
	fine(t, "workers", "add", "mira", "--no-password")
	fine(t, "territories", "hold", "mira", "*")
	fine(t, "local", "enrol", "--name", "phone", "--code", bed.Code("mira"))
	fine(t, "local", "exchange")

	anID := regexp.MustCompile(`[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}`)
	station := anID.FindString(fine(t, "local", "list", "stations", "--search", "Gauge 0007"))
	gauge := anID.FindString(fine(t, "local", "add", "gauges", "--set", "station="+station, "--set", "month=2026-02", "--set", "level=3"))
	fine(t, "local", "complete", "gauges", gauge)
	for _, of := range []string{"local coverage", "coverage"} {
		if of == "coverage" {
			fine(t, "local", "exchange")
		}
		command := strings.Fields(of)
		says := func(want string, args ...string) {
			t.Helper()
			if out := fine(t, append(command, args...)...); !strings.Contains(out, want) {
				t.Errorf("homing %s %v says\n%s\nwant %q", of, args, out, want)
			}
		}
		says("1 of 3303 complete (0%), 0 begun, 3302 missing; 3302 of these late; one was completed late.", "gauges")
		says("100 of 1101 places; --limit and --offset give others.", "gauges", "--owed")
		says("1 place\n", "gauges", "--state", "complete")
		all, err := csv.NewReader(strings.NewReader(fine(t, append(command, "gauges", "--owed", "--csv")...))).ReadAll()
		testbed.Must(t, err)
		if len(all) != 1+3302 || all[1][0] != "'=1+1" {
			t.Errorf("homing %s gives %d lines, the second %v", of, len(all), all[1])
		}
		for _, test := range []struct {
			args string
			says string
		}{
			{"gauges --state lost", "missing, begun, complete, late, owed"},
			{"gauges --limit -1", "limit"},
			{"gauges --limit 1001", "limit"},
			{"gauges --offset -3", "offset"},
			{"gauges --from 2026-13", "2026-13"},
			{"gauges --from 2026-03 --until 2026-01", "no period lies between the two"},
			{"gauges --csv", "--csv goes with --owed"},
			{"stations", "nothing is expected of stations"},
		} {
			out, wrong, code := homing(t, append(command, strings.Fields(test.args)...)...)
			if code == 0 || code == 1 || !strings.Contains(wrong, test.says) || strings.Contains(wrong, "panic") || out != "" {
				t.Errorf("homing %s %s: exit %d, want %q:\n%s%s", of, test.args, code, test.says, out, wrong)
			}
		}
	}
	if out := fine(t, "coverage", "gauges", "--by", "period"); !strings.Contains(out, "2026-02  1101      1 ") {
		t.Errorf("the sums are\n%s", out)
	}
	if _, wrong, code := homing(t, "coverage", "gauges", "--by", "moon"); code != 2 || !strings.Contains(wrong, `no sums by "moon"`) {
		t.Errorf("exit %d: %s", code, wrong)
	}
}
