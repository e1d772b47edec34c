package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"homing/internal/testbed"
	"homing/service"
)

// A lead looks at one device and asks it for things; an admin looks at what a worker gets, and at central itself.
func TestAskingByCommand(t *testing.T) {
	bed := testbed.Start(t)
	home := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", home)
	t.Setenv("HOMING_CENTRAL", bed.URL())
	t.Setenv("HOMING_STORE", filepath.Join(home, "store.db"))
	typed(t, testbed.Password)
	play(t, []step{
		{"sign-in --worker admin", 0, nil},
		{"local enrol --name tablet --code " + bed.Code("worker"), 0, nil},
		{"local exchange", 0, nil},
		{"local add trails --set name=Ridge", 0, nil},
		{"devices ask tablet verify", 0, []string{"tablet is asked to verify with its next exchange"}},
		{"devices show tablet", 0, []string{"asked by admin", "to verify: it has not come since", "trails", "its store takes"}},
		{"local exchange", 0, []string{"1 applied"}},
		{"devices show tablet", 0, []string{"all of 1 record are as central has them"}},
		{"devices show nothing", 3, []string{"no device"}},
		{"devices ask tablet dance", 2, []string{"take verify or erase"}},
		{"devices ask tablet", 2, nil},
		{"devices ask tablet erase", 2, []string{"--yes"}},
		{"devices ask tablet erase --yes", 0, []string{"asked to erase"}},
		{"devices stop-asking tablet erase", 0, []string{"not asked to erase any more"}},
		{"devices stop-asking tablet erase", 3, []string{"is not asked to erase"}},
		{"local add trails --set name=Saddle", 0, nil},
		{"devices ask tablet erase --yes", 0, nil},
		{"local exchange", 6, []string{"all of it had been accepted"}},
		{"devices show tablet --json", 0, []string{`"what": "erase"`, `"done": true`}},
		{"records list trails", 0, []string{"Ridge", "Saddle"}},
		{"workers reach worker", 0, []string{"COVERS", "trails", "2 of 2"}},
		{"workers reach nobody", 3, []string{"no worker nobody"}},
		{"health", 0, []string{"PostgreSQL", "No backup was written yet", "records", "Nothing went wrong"}},
		{"health --json", 0, []string{`"backups": []`}},
	})
	if _, err := os.Stat(filepath.Join(home, "store.db")); !os.IsNotExist(err) {
		t.Errorf("the store is still there: %v", err)
	}
	testbed.Must(t, service.Backup(t.Context(), bed.Database, "", filepath.Join(home, "tonight.dump")))
	play(t, []step{{"health", 0, []string{"The last backup is of", "tonight.dump"}}})
}
