package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"homing/internal/testbed"
)

// step is a command with what it says and how it ends.
type step struct {
	args string
	code int
	says []string
}

// play runs commands one after another.
func play(t *testing.T, steps []step) {
	t.Helper()
	for _, step := range steps {
		out, wrong, code := homing(t, strings.Fields(step.args)...)
		if code != step.code {
			t.Errorf("homing %s: exit %d, want %d\n%s%s", step.args, code, step.code, out, wrong)
		}
		for _, text := range step.says {
			if !strings.Contains(out+wrong, text) {
				t.Errorf("homing %s does not say %q:\n%s%s", step.args, text, out, wrong)
			}
		}
	}
}

// What developers look at and do behind the scenes, step by step, with what each command says and how it ends.
func TestBehindTheScenes(t *testing.T) {
	bed := hour(t)
	folder := t.TempDir()
	file := filepath.Join(folder, "huts.yaml")
	testbed.Must(t, os.WriteFile(file, []byte("collection: huts\nlabel: \"{name}\"\nrequired: [name]\nfields:\n  "+
		"name: {type: string}\n  beds: {type: integer}\n  state: {enum: [open, closed]}\nsync:\n  rules: {state: ask, "+
		"beds: sum}\n"), 0o600))
	group := filepath.Join(folder, "group.json")
	testbed.Must(t, os.WriteFile(group,
		[]byte(`[{"kind":"add","collection":"huts","as":"a","fields":{"name":"Gale"}},{"kind":"add","collection":"huts","fields":{"name":"Fosk","beds":4}}]`), 0o600))
	broken := filepath.Join(folder, "broken.json")
	testbed.Must(t, os.WriteFile(broken,
		[]byte(`[{"kind":"add","collection":"huts","fields":{"name":"Half"}},{"kind":"build","collection":"huts","id":"0199d3a1-c2b4-7000-8000-000000000001"}]`), 0o600))
	backup := filepath.Join(folder, "central.dump")
	other := filepath.Join(folder, "other.db")
	play(t, []step{
		{"define " + file, 0, []string{"created"}},
		{"local enrol --name tablet", 0, nil},
		{"local cursors list", 0, []string{"Nothing is loaded yet"}},
		{"local log", 0, []string{"No exchange yet"}},
		{"local exchange", 0, nil},
		{"local group " + group, 0, []string{"2 changes that stand or fall together"}},
		{"local group " + broken, 1, []string{"change 2 of the group", "nothing of it was saved"}},
		{"local group " + file, 4, []string{"is not a JSON list of changes"}},
		{"local review", 0, []string{"Gale", "Fosk", "2 changes"}},
		{"local exchange", 0, []string{"Sent 2: 2 applied"}},
		{"local log 1", 0, []string{"up", "applied", "Fosk"}},
		{"local log 99", 3, []string{"the log holds 2"}},
		{"local log x", 2, []string{"is not the number of an exchange"}},
		{"local cursors list", 0, []string{"huts", "2", "HEAD is central's"}},
		{"local cursors turn-back huts 1", 0, []string{"nothing here is doubled"}},
		{"local cursors turn-back huts 7", 6, []string{"can be turned back to 0"}},
		{"local cursors turn-back huts x", 2, []string{"is not a position"}},
		{"local cursors forget nothing", 3, []string{"no such collection"}},
		{"local cursors forget huts", 0, []string{"loads huts from the start"}},
		{"verify", 0, []string{"holds what central says it should"}},
		{"local list huts", 0, []string{"2 records"}},
		{"local lost list", 0, []string{"lost nothing"}},
		{"local lost offer huts Gale", 3, []string{"has lost nothing of it"}},
		{"exchanges show nothing", 3, []string{"there is no exchange"}},
		{"local enrol --name other --store " + other, 0, nil},
		{"local exchange --store " + other, 0, nil},
		{"local edit huts Gale --set state=open", 0, nil},
		{"local edit huts Gale --set state=closed --store " + other, 0, nil},
		{"local exchange", 0, nil},
		{"local exchange --store " + other, 0, []string{"1 held"}},
		{"conflicts settle-all --by newest", 2, []string{"WILL BE", "closed", "say --yes"}},
		{"conflicts settle-all --by sum --yes", 4, []string{"newest, first, min, max"}},
		{"conflicts settle-all --by min --yes", 0, []string{"Settled 1 conflict by min"}},
		{"conflicts settle-all --by min --yes", 0, []string{"No open conflict fits"}},
		{"conflicts reopen huts Gale state", 0, []string{"open again"}},
		{"conflicts reopen huts Gale state", 7, []string{"in dispute already"}},
		{"conflicts reopen huts Gale name", 7, []string{"never in dispute"}},
		{"records history huts Gale", 0, []string{"the dispute was opened again"}},
		{"backup --database " + bed.Database + " " + backup, 0, []string{"Wrote", "homing restore"}},
		{"backup --database " + bed.Database + " " + backup, 2, []string{"is there already"}},
		{"restore --database " + bed.Database + " " + backup, 2, []string{"say --yes"}},
		{"restore --yes --database " + bed.Database + " " + backup, 1, []string{"stop it first"}},
		{"local detach", 0, []string{"Detached"}},
		{"local detach", 6, []string{"not enrolled"}},
		{"local list huts", 0, []string{"Gale"}},
		{"local edit huts Gale --set beds=2", 6, []string{"homing local attach"}},
		{"local attach --discard", 2, []string{"say --yes"}},
		{"local attach", 0, []string{"is a device of", "0 changes to send"}},
		{"local attach", 7, []string{"enrolled already"}},
		{"local exchange", 0, nil},
		{"rehearse --seeds 2 --calm " + file, 0, []string{"2 runs", "Nothing was lost"}},
		{"rehearse --seeds 1 --story", 0, []string{"the work is over"}},
		{"rehearse --bug lost-answers --seeds 3", 4, []string{"P2", "The story"}},
		{"rehearse --bug nothing", 2, []string{"lost-answers"}},
		{"rehearse --seeds 2 --postgresql " + file, 0, []string{"2 runs", "Nothing was lost"}},
		{"rehearse --bug cursor-hole --postgresql", 2, []string{"leave --postgresql out"}},
		{"rehearse --seeds 0", 2, []string{"1 seed or more"}},
		{"conform", 2, []string{"driver"}},
		{"conform --driver x --part nothing", 2, []string{"take vectors, situations, fleets"}},
		{"conform --driver x --only nothing", 2, []string{"an answer that is lost"}},
		{"conform --driver /nowhere/driver", 1, []string{"/nowhere/driver"}},
		{"conform --driver cat --part vectors --only labels", 4, []string{"0 of 25", "does not answer as it should"}},
	})
	ids := fine(t, "exchanges", "list", "--json")
	at := strings.Index(ids, `"id": "`)
	if at < 0 {
		t.Fatal(ids)
	}
	shown := fine(t, "exchanges", "show", ids[at+7:at+7+36])
	if !strings.Contains(shown, "Exchange  ") || !strings.Contains(shown, "Device") {
		t.Errorf("%s", fmt.Sprint(shown))
	}
}
