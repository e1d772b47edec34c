package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"homing/internal/cli"
	"homing/internal/testbed"
	"homing/service"
)

func TestMain(m *testing.M) { testbed.Main(m) }

// homing runs one command line and gives what it wrote and its exit code.
func homing(t *testing.T, args ...string) (out, errors string, code int) {
	t.Helper()
	var stdout, stderr bytes.Buffer
	code = cli.Run(context.Background(), append([]string{"homing"}, args...), &stdout, &stderr)
	return stdout.String(), stderr.String(), code
}

// fine runs one command line that must succeed.
func fine(t *testing.T, args ...string) string {
	t.Helper()
	out, wrong, code := homing(t, args...)
	if code != 0 {
		t.Fatalf("homing %s: exit %d\n%s%s", strings.Join(args, " "), code, out, wrong)
	}
	return out
}

// hour is the setting of a developer's first hour: an open central, and a home of one's own.
func hour(t *testing.T) *testbed.Bed {
	t.Helper()
	bed := testbed.Start(t, func(o *service.Options) { o.Open = true })
	home := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", home)
	t.Setenv("HOMING_CENTRAL", bed.URL())
	t.Setenv("HOMING_STORE", filepath.Join(home, "store.db"))
	return bed
}

func TestAFirstHour(t *testing.T) {
	bed := hour(t)
	file := filepath.Join(t.TempDir(), "huts.yaml")
	testbed.Must(t, os.WriteFile(file, []byte("collection: huts\nlabel: \"{name}\"\nrequired: [name]\nfields:\n  "+
		"name: {type: string}\n  beds: {type: integer}\n  at: {$ref: \"urn:homing:point\"}\n"), 0o600))
	steps := []struct {
		args string
		says []string
	}{
		{"define " + file, []string{"huts", "created"}},
		{"define " + file, []string{"unchanged"}},
		{"status", []string{"OPEN", "huts"}},
		{"local enrol --name tablet", []string{"Enrolled tablet for open (admin)", "OPEN"}},
		{"local exchange", []string{"Received 0"}},
		{"local add huts --set name=Gale --set beds=12 --set at=52.5,-31.25", []string{"Added: Gale", "unsent: 1 change"}},
		{"local list huts", []string{"new", "Gale", "52.50000, -31.25000", "1 record"}},
		{"local review", []string{"add", "beds", "12", "1 to send"}},
		{"local exchange", []string{"Sent 1: 1 applied"}},
		{"local status", []string{"0 unsent", "OPEN", "huts"}},
		{"records list huts --where beds>10", []string{"Gale", "1 record"}},
		{"records edit huts Gale --set beds=14", []string{"revision 2"}},
		{"local pull", []string{"Received 1"}},
		{"local show huts Gale", []string{"revision 2", "14"}},
		{"local edit huts Gale --clear at", []string{"Edited"}},
		{"local list huts", []string{"unsent"}},
		{"local review", []string{"52.50000, -31.25000 → (none)"}},
		{"local remove huts Gale", []string{"Removed here"}},
		{"local push", []string{"Sent 2: 2 applied"}},
		{"records list huts", []string{"No records."}},
		{"devices list", []string{"tablet", "enrolled", "right"}},
		{"exchanges list", []string{"tablet", "APPLIED"}},
		{"workers list", []string{"open", "admin"}},
		{"devices revoke tablet", []string{"tablet is revoked"}},
		{"devices readmit tablet", []string{"tablet may push and pull again"}},
	}
	for _, step := range steps {
		out := fine(t, strings.Fields(step.args)...)
		for _, text := range step.says {
			if !strings.Contains(out, text) {
				t.Errorf("homing %s does not say %q:\n%s", step.args, text, out)
			}
		}
	}
	if log := bed.Log.String(); strings.Contains(log, "level=ERROR") {
		t.Error("the service logged an error")
	}
}

// Every listing has JSON for programs.
func TestJSON(t *testing.T) {
	hour(t)
	fine(t, "local", "enrol", "--name", "tablet")
	fine(t, "local", "exchange")
	fine(t, "local", "add", "trails", "--set", "name=Ridge")
	for _, args := range []string{"local status", "local list trails", "local show trails Ridge", "local review",
		"local exchange", "status", "records list trails",
		"records show trails Ridge", "records history trails Ridge", "records add trails --set name=Other", "devices list",
		"devices code --worker lead", "exchanges list", "workers list"} {
		out := fine(t, append(strings.Fields(args), "--json")...)
		if !json.Valid([]byte(out)) {
			t.Errorf("homing %s --json:\n%s", args, out)
		}
	}
}

// Mistakes get one or two plain lines and the documented exit code.
func TestMistakes(t *testing.T) {
	bed := hour(t)
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	testbed.Must(t, os.WriteFile(bad, []byte("collection: huts\nfields:\n  name: {type: text}\n"), 0o600))
	fine(t, "local", "enrol", "--name", "tablet")
	fine(t, "local", "exchange")
	tests := []struct {
		args string
		code int
		says string
	}{
		{"jump", 2, `no command "jump"`},
		{"local jump", 2, `no command "jump"`},
		{"local list", 2, "takes COLLECTION"},
		{"local list trails --nonsense", 2, "nonsense"},
		{"local list trails --where colour=red", 2, `no field "colour"`},
		{"local list nothing", 3, "no such collection"},
		{"local show trails Nowhere", 3, "no such record"},
		{"local add trails --set length_km=far", 4, "write it as JSON"},
		{"local add trails --set length_km=-1", 4, "name: a value is required"},
		{"local add trails --set colour=red", 4, `no field "colour"`},
		{"local add trails", 2, "which fields?"},
		{"local enrol --name again", 7, "enrolled already"},
		{"local status --store /nonexistent/store.db", 3, "there is no local store"},
		{"define " + bad, 4, "bad.yaml:3:"},
		{"define /nonexistent.yaml", 4, "nothing was changed"},
		{"records show trails Nowhere", 3, "nothing in trails"},
		{"records list nothing", 3, "there is no collection nothing"},
		{"records add trails --set length_km=3", 4, "name"},
		{"records list trails --central http://127.0.0.1:1", 5, "cannot be reached"},
		{"records list trails --central nonsense", 2, "not the address"},
		{"records list trails --token dev_x", 6, "not known here"},
		{"serve --open --listen 0.0.0.0:0", 1, "only listens on loopback"},
		{"serve --log shouting", 2, "take text or json"},
	}
	for _, test := range tests {
		out, wrong, code := homing(t, strings.Fields(test.args)...)
		if code != test.code || !strings.Contains(wrong, test.says) {
			t.Errorf("homing %s: exit %d, want %d with %q:\n%s%s", test.args, code, test.code, test.says, out, wrong)
		}
		if strings.Count(wrong, "\n") > 4 || strings.Contains(wrong, "goroutine") {
			t.Errorf("homing %s is too wordy:\n%s", test.args, wrong)
		}
	}
	if status, text := bed.Call("GET", "/v1/records/trails", "", nil); status != 200 ||
		!strings.Contains(string(text), `"total":0`) {
		t.Errorf("something was stored all the same: %s", text)
	}
}

// An exchange that cannot reach central says so, keeps the outbox, and has its exit code; one in which changes were
// refused has another.
func TestExchangeExitCodes(t *testing.T) {
	bed := hour(t)
	broken := true
	proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		if broken && testbed.CarriesBatch(r) {
			return testbed.CutAfter
		}
		return testbed.Pass
	})
	fine(t, "local", "enrol", "--name", "tablet", "--central", proxy.URL)
	fine(t, "local", "exchange")
	fine(t, "local", "add", "trails", "--set", "name=Ridge", "--set", "note=long enough")
	if _, wrong, code := homing(t, "local", "exchange"); code != 5 ||
		!strings.Contains(wrong, "The outbox keeps what is unsent (1 change)") {
		t.Errorf("exit %d:\n%s", code, wrong)
	}
	if out := fine(t, "local", "review"); !strings.Contains(out, "sent, no answer yet") {
		t.Errorf("the review does not show what is on its way:\n%s", out)
	}
	broken = false
	fine(t, "local", "exchange")
	fine(t, "local", "edit", "trails", "Ridge", "--set", "note=longer than allowed")
	bed.Define(strings.Replace(testbed.Trails, "note: {type: string}", "note: {type: string, maxLength: 12}", 1))
	if out, wrong, code := homing(t, "local", "exchange"); code != 4 || !strings.Contains(wrong, "1 change refused") {
		t.Errorf("exit %d:\n%s%s", code, out, wrong)
	}
	if out := fine(t, "local", "review"); !strings.Contains(out, "refused") ||
		!strings.Contains(out, "! must have at most 12 characters, has 19") {
		t.Errorf("the review does not say why:\n%s", out)
	}
}

// The sign-in is kept for the next commands, and gone after signing out.
func TestSignIn(t *testing.T) {
	bed := testbed.Start(t)
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("HOMING_CENTRAL", bed.URL())
	if _, wrong, code := homing(t, "records", "list", "trails"); code != 6 ||
		!strings.Contains(wrong, "homing sign-in --central") {
		t.Errorf("without a sign-in: exit %d %s", code, wrong)
	}
	typed(t, "wrong")
	if _, wrong, code := homing(t, "sign-in", "--worker", "lead"); code != 6 ||
		!strings.Contains(wrong, "do not fit together") {
		t.Errorf("a wrong password: exit %d %s", code, wrong)
	}
	typed(t, testbed.Password)
	fine(t, "sign-in", "--worker", "lead")
	fine(t, "records", "list", "trails")
	if _, wrong, code := homing(t, "workers", "list"); code != 6 || !strings.Contains(wrong, "may not manage workers") {
		t.Errorf("a lead who manages workers: exit %d %s", code, wrong)
	}
	fine(t, "sign-out")
	if _, _, code := homing(t, "records", "list", "trails"); code != 6 {
		t.Errorf("after signing out: exit %d", code)
	}
}

// The demo ends with the same records everywhere, starts again on what is there, and recovers from a kill.
func TestDemoOnce(t *testing.T) {
	folder, err := os.MkdirTemp("", "homing-demo-") // the database's user must get through, so not below t.TempDir
	testbed.Must(t, err)
	defer os.RemoveAll(folder)
	testbed.Must(t, os.Chmod(folder, 0o755))
	for start := range 2 {
		out := fine(t, "demo", "--once", "--data", folder)
		if strings.Count(out, " yes\n") != 8 || strings.Contains(out, " NO\n") {
			t.Fatalf("start %d:\n%s", start+1, out)
		}
		if !strings.Contains(out, "1 merged, 1 held") || !strings.Contains(out,
			"runa has looked at the pictures and settles it") {
			t.Errorf("start %d shows no merge, or no conflict that is settled:\n%s", start+1, out)
		}
	}
}
