package cli_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"homing/internal/testbed"
)

// Edits from the command line that meet: each says what became of it, and the history and the exchange's log say it,
// too.
func TestEditsThatMeet(t *testing.T) {
	hour(t)
	file := filepath.Join(t.TempDir(), "huts.yaml")
	testbed.Must(t, os.WriteFile(file, []byte("collection: huts\nlabel: \"{name}\"\nrequired: [name]\nfields:\n  "+
		"name: {type: string}\n  beds: {type: integer}\n  state: {type: string}\n  note: {type: string}\nsync:\n  "+
		"rules: {state: ask, beds: sum}\n"), 0o600))
	for _, step := range []struct {
		args string
		says string // a regular expression
	}{
		{"define " + file, "created"},
		{"local enrol --name tablet", "tablet"},
		{"local exchange", "Sent 0"},
		{"records add huts --set name=Gale --set beds=4 --set note=old", "Added: huts .* revision 1"},
		{"records edit huts Gale --set beds=6 --set note=first --base 1", "^Edited: huts"},
		{"records edit huts Gale --set beds=5 --set state=open --base 1",
			"^Edited, merged with what others changed meanwhile"},
		{"records edit huts Gale --set state=closed --set note=second --base 1",
			`^Edited, but held for a person where others had changed the same field \(homing conflicts list\)`},
		{"records show huts Gale", `beds +7`},
		{"records history huts Gale", `state +met revision 3; held for a person; asked for closed`},
		{"records history huts Gale", `note +met revision 2; rule newest took this change`},
		{"conflicts list", `closed`},
		{"local exchange", "Received 1"},
		{"local log 1", "the records of a first load are not"},
		{"records edit huts Gale --set beds=8", "^Edited: huts"},
		{"local exchange", "Received 1"},
		{"local log 1", `down +huts +Gale +record`},
		{"local edit huts Gale --set note=third", "Gale"},
		{"local exchange", "1 applied"},
		{"local log 1", `up +1 +huts +Gale +edit +applied`},
		{"records remove huts Gale", "^Removed: huts"},
		{"local exchange", "of them 1 removals"},
		{"local log 1", `down +huts +…[0-9a-f]{6} +removed`},
	} {
		out, wrong, code := homing(t, strings.Fields(step.args)...)
		if code != 0 || !regexp.MustCompile("(?m)"+step.says).MatchString(out) {
			t.Errorf("homing %s: exit %d; it does not say %q:\n%s%s", step.args, code, step.says, out, wrong)
		}
	}
	list := fine(t, "exchanges", "list", "--json")
	id := regexp.MustCompile(`"id": "([0-9a-f-]{36})"`).FindStringSubmatch(list)
	if id == nil {
		t.Fatal(list)
	}
	if shown := fine(t, "exchanges", "show", id[1]); !regexp.MustCompile(`down +huts +Gale +gone`).MatchString(shown) {
		t.Errorf("the exchange is shown as\n%s", shown)
	}
}
