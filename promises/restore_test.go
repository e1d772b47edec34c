package promises_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"homing/device"
	"homing/internal/testbed"
)

// P10: a store that is restored from a backup reuses no number and repeats nothing, whatever the lost one sent after
// the backup.
func TestP10ARestoredStore(t *testing.T) {
	for _, passphrase := range []string{"", "under the third stone"} {
		bed := testbed.Start(t)
		bed.Define(asking)
		lost := bed.Device("worker", "tablet", device.Options{Passphrase: passphrase})
		office := bed.Device("lead", "office", device.Options{})
		testbed.Exchange(t, lost, office)
		id := add(t, lost, "trails", device.Fields{"name": "Ridge", "seen": 10})
		testbed.Exchange(t, lost)
		_, err := lost.Edit(ctx, "trails", id, device.Fields{"seen": 11}) // unsent at the time of the backup
		testbed.Must(t, err)
		backup := filepath.Join(t.TempDir(), "backup.db")
		testbed.Must(t, lost.Backup(ctx, backup))
		_, err = lost.Edit(ctx, "trails", id, device.Fields{"seen": 13}) // sent as one with the one before
		testbed.Must(t, err)
		after := add(t, lost, "trails", device.Fields{"name": "After the backup"})
		testbed.Exchange(t, lost, office)
		_, err = lost.Edit(ctx, "trails", id, device.Fields{"note": "never sent"})
		testbed.Must(t, err)
		testbed.Must(t, lost.Close()) // and gone

		path := filepath.Join(t.TempDir(), "restored.db")
		testbed.Must(t, device.Restore(ctx, backup, path, device.Options{Passphrase: passphrase}))
		if err := device.Restore(ctx, backup, path, device.Options{Passphrase: passphrase}); err == nil ||
			!strings.Contains(err.Error(), "is there already") {
			t.Errorf("restored over a store: %v", err)
		}
		restored, err := device.Open(ctx, path, device.Options{Passphrase: passphrase})
		testbed.Must(t, err)
		t.Cleanup(func() { restored.Close() })
		mine := add(t, restored, "trails", device.Fields{"name": "By the restored one"}) // without signal, under a number that the lost one has used
		summary := testbed.Exchange(t, restored)
		testbed.Exchange(t, office, restored)
		bed.Same(restored, office)
		if summary.Sent != 2 || valueAt(t, bed, "trails", id, "seen") != "13" {
			t.Errorf("sent %d; central counts %s", summary.Sent, valueAt(t, bed, "trails", id, "seen"))
		}
		if shown(t, restored, "trails", after, "name") != "After the backup" ||
			valueAt(t, bed, "trails", mine, "name") != "By the restored one" || versions(t, bed, "trails", id) != 2 {
			t.Errorf("%d versions of the trail", versions(t, bed, "trails", id))
		}
		_, err = restored.Edit(ctx, "trails", id, device.Fields{"seen": 20})
		testbed.Must(t, err)
		testbed.Exchange(t, restored, office)
		bed.Same(restored, office)
		if got := valueAt(t, bed, "trails", id, "seen"); got != "20" {
			t.Errorf("in the end central counts %s", got)
		}
	}
}

// A file that is no backup is not restored, and nothing is left of it.
func TestRestoringWhatIsNoBackup(t *testing.T) {
	folder := t.TempDir()
	if err := device.Restore(ctx, "/dev/null", filepath.Join(folder, "x.db"), device.Options{}); err == nil {
		t.Error("an empty file was restored")
	}
	left, err := os.ReadDir(folder)
	if err != nil || len(left) != 0 {
		t.Errorf("left are %v, %v", left, err)
	}
}
