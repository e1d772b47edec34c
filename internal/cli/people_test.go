package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"homing/internal/testbed"
)

// typed lets the next commands read lines from standard input.
func typed(t *testing.T, lines ...string) {
	t.Helper()
	file, err := os.Open(written(t, "typed", strings.Join(lines, "\n")+"\n"))
	testbed.Must(t, err)
	before := os.Stdin
	os.Stdin = file
	t.Cleanup(func() { os.Stdin = before; file.Close() })
}

// firstID is the id in the first line of a listing.
func firstID(t *testing.T, args ...string) string {
	t.Helper()
	var all []struct{ ID string }
	testbed.Must(t, json.Unmarshal([]byte(fine(t, append(args, "--json")...)), &all))
	if len(all) == 0 {
		t.Fatalf("homing %s lists nothing", strings.Join(args, " "))
	}
	return all[0].ID
}

// An admin shuts somebody out and lets them in, ends sign-ins and codes, and reads who did so.
func TestShuttingOutByCommand(t *testing.T) {
	bed := testbed.Start(t)
	home := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", home)
	t.Setenv("HOMING_CENTRAL", bed.URL())
	t.Setenv("HOMING_STORE", filepath.Join(home, "store.db"))
	typed(t, testbed.Password)
	play(t, []step{
		{"sign-in --worker admin", 0, []string{"as admin"}},
		{"workers add mira --no-password", 0, nil},
		{"workers list", 0, []string{"no password"}},
	})
	typed(t, "dragon12345")
	play(t, []step{{"workers password mira", 4, []string{"one of the commonest"}}})
	typed(t, "three birds over stone")
	play(t, []step{
		{"workers password mira", 0, []string{"is set; their sign-ins have ended"}},
		{"workers password nobody --none", 3, []string{"no worker nobody"}},
		{"devices code --worker mira --json", 0, []string{bed.URL() + "/enrol#"}},
		{"devices codes", 0, []string{"FOR", "mira", "admin"}},
	})
	id := firstID(t, "devices", "codes")
	play(t, []step{
		{"devices void-code " + id, 0, []string{"enrols nothing any more"}},
		{"devices void-code " + id, 3, []string{"no code"}},
		{"local enrol --name tablet --code " + code(t, "mira"), 0, nil},
	})
	play(t, []step{
		{"workers disable mira --deliver", 0, []string{"mira is disabled"}},
		{"workers list", 0, []string{"disabled, may deliver"}},
		{"devices code --worker mira", 7, []string{"enable them first"}},
		{"local exchange", 6, []string{"it gets nothing more from central"}},
		{"workers enable mira", 0, []string{"may work with central again"}},
		{"local exchange", 0, nil},
		{"workers disable admin", 7, []string{"the only admin"}},
		{"workers admit mira", 0, nil},
		{"devices admit " + firstID(t, "devices", "list"), 0, []string{"may push and pull"}},
		{"workers remove mira", 2, []string{"--yes"}},
		{"workers remove mira --yes", 0, []string{"Records and history keep the name"}},
		{"workers list --removed", 0, []string{"removed"}},
		{"workers add mira --no-password", 7, []string{"a name is given once"}},
		{"sign-ins list", 0, []string{"127.0.0.1 (this one)", "homing command line"}},
		{"audit --about mira", 0, []string{"worker removed", "worker disabled", "code voided", "devices may deliver"}},
		{"audit --limit 1 --json", 0, []string{`"act": "worker removed"`}},
	})
	typed(t, "wrong", "something else entirely")
	play(t, []step{{"password", 6, []string{"the present password is another one"}}})
	typed(t, testbed.Password)
	play(t, []step{{"password", 2, []string{"no password"}}})
	typed(t, testbed.Password, "something else entirely")
	play(t, []step{
		{"password", 0, []string{"Your password is changed"}},
		{"sign-ins end " + firstID(t, "sign-ins", "list"), 0, []string{"has ended"}},
		{"sign-ins list", 6, []string{"sign in again"}},
		{"serve extra", 2, []string{`takes no "extra"`}},
		{"workers list --central http://central.example", 2, []string{"--in-the-clear"}},
		{"local enrol --central http://central.example --code x --store " + filepath.Join(home, "other.db"), 1, []string{"--in-the-clear"}},
	})
}
