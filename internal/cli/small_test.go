package cli_test

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"homing/core/rights"
	"homing/internal/testbed"
	"homing/service"
)

// What commands say when something small is wrong: no more than is so, and what helps.
func TestSmallThingsAreSaidRightly(t *testing.T) {
	bed := hour(t)
	defer bed.Stop()
	folder := t.TempDir()
	var rows strings.Builder
	rows.WriteString("name\n")
	for n := range 7 {
		fmt.Fprintf(&rows, "Trail %d\n", n)
	}
	path := filepath.Join(folder, "trails.csv")
	testbed.Must(t, os.WriteFile(path, []byte(rows.String()), 0o600))
	fine(t, "import", path)
	if out := fine(t, "records", "list", "trails", "--limit", "4"); !strings.Contains(out, "1 to 4 of 7 records; --offset 4 shows what follows") {
		t.Errorf("the first page says\n%s", out)
	}
	if out := fine(t, "records", "list", "trails", "--limit", "4", "--offset", "4"); !strings.Contains(out, "5 to 7 of 7 records\n") {
		t.Errorf("the last page says\n%s", out)
	}
	if _, wrong, code := homing(t, "workers", "add", "mira", "--no-password", "--role", "leed"); code != 4 || !strings.Contains(wrong, `"leed" is not a role; take reader, worker, lead, admin; probably lead`) {
		t.Errorf("exit %d: %s", code, wrong)
	}
	fine(t, "workers", "add", "mira", "--no-password")
	code := bed.Code("mira")
	fine(t, "local", "enrol", "--name", "phone", "--code", code)
	fine(t, "local", "exchange")
	fine(t, "local", "add", "trails", "--set", "name=unsent")
	devices, err := bed.Central.Devices(t.Context(), "mira")
	testbed.Must(t, err)
	testbed.Must(t, bed.Central.Revoke(t.Context(), devices[0].ID, true, false))
	if _, wrong, code := homing(t, "local", "exchange"); code != 6 || strings.Contains(wrong, "again later") || !strings.Contains(wrong, "until an admin lets the device in again") {
		t.Errorf("exit %d: %s", code, wrong)
	}
	if _, wrong, _ := homing(t, "local", "show", "nothing", "x"); !strings.Contains(wrong, "(homing local status lists what there is)") {
		t.Errorf("a collection that is not there: %s", wrong)
	}
}

// While central is open no password is made up; when it is closed, the first admin gets one.
func TestAnOpenCentralMakesUpNoPassword(t *testing.T) {
	database := testbed.Database(t)
	for _, open := range []bool{true, false, false} {
		running, err := service.Start(t.Context(), service.Options{Listen: "127.0.0.1:0", Database: database, Open: open, Build: "test", Log: slog.New(slog.DiscardHandler)})
		testbed.Must(t, err)
		workers, err := running.Central.Workers(t.Context(), true)
		testbed.Must(t, err)
		admins := 0
		for _, w := range workers {
			if w.Name == service.FirstAdminName && w.Role == rights.Admin {
				admins++
			}
		}
		if made := running.FirstAdmin != ""; open && (made || admins > 0) || !open && admins != 1 {
			t.Errorf("open %v: a password was made up: %v; admins: %d", open, made, admins)
		}
		testbed.Must(t, running.Stop())
	}
}
