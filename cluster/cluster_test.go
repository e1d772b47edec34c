package cluster_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"homing/cluster"
)

func start(t *testing.T, dir string) *cluster.Cluster {
	t.Helper()
	c, err := cluster.Start(context.Background(), cluster.Options{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Stop() })
	return c
}

func exec(t *testing.T, url, statement string) {
	t.Helper()
	db, err := sql.Open("pgx", url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(statement); err != nil {
		t.Fatal(err)
	}
}

// A folder that the cluster's own user cannot reach, as below root's home, is no obstacle. A postmaster that is still
// running is taken over, one that was killed is started again, and what was committed is there.
func TestStartsAgainWhateverHappened(t *testing.T) {
	home := t.TempDir()
	if err := os.Chmod(home, 0o700); err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(home, "pg")
	first := start(t, dir)
	if os.Getuid() == 0 {
		moved := elsewhere(dir)
		if moved == "" {
			t.Fatal("the cluster has not moved to where its user can reach it")
		}
		t.Cleanup(func() { os.RemoveAll(moved) })
	}
	url, err := first.Database(t.Context(), "kept", "")
	if err != nil {
		t.Fatal(err)
	}
	exec(t, url, `CREATE TABLE kept (n int); INSERT INTO kept VALUES (1)`)

	second := start(t, dir)
	if second.PID() != first.PID() {
		t.Errorf("a second postmaster %d was started beside %d", second.PID(), first.PID())
	}
	if err := syscall.Kill(first.PID(), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	third := start(t, dir)
	exec(t, third.URL("kept"), `SELECT 1 / count(*) FROM kept`)
	if err := third.Stop(); err != nil {
		t.Error(err)
	}
	if err := third.Stop(); err != nil {
		t.Errorf("stopping twice: %v", err)
	}
}

func elsewhere(dir string) string {
	text, err := os.ReadFile(filepath.Join(dir, cluster.Elsewhere))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(text))
}
