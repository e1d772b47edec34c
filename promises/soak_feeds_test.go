package promises_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/cluster"
	"homing/core/query"
	"homing/internal/testbed"
)

// soakedFeeds are what leaves central while it is soaked: tables of a PostgreSQL that is killed as well, files, and a receiver that fails after it has taken
// something in.
type soakedFeeds struct {
	folder string
	there  *cluster.Cluster
	hook   *receiver
	kills  int
}

var soakedWays = []string{"tables", "changes", "files", "hook"}

// feedFolder is what central is told at its start.
func (s *soaking) feedFolder() string { return filepath.Join(s.folder, "fed") }

func (s *soaking) startFeeds(address string) {
	t := s.t
	t.Helper()
	f := &soakedFeeds{folder: filepath.Join(s.feedFolder(), "to"), hook: newReceiver(t)}
	s.feeds = f
	var err error
	f.there, err = cluster.Start(ctx, cluster.Options{Dir: filepath.Join(s.folder, "there")})
	testbed.Must(t, err)
	warehouse, err := f.there.Database(ctx, "warehouse", "")
	testbed.Must(t, err)
	for name, secret := range map[string]string{"warehouse": warehouse, "office": hookSecret} {
		cmd := program(t, "none", "feeds", "secret", "--central", address, name)
		cmd.Stdin = strings.NewReader(secret)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("a secret: %v\n%s", err, out)
		}
	}
	asked := 0
	f.hook.answers(func([]byte) int {
		asked++
		switch {
		case s.calm.Load():
			return 0
		case asked%7 == 3:
			return http.StatusServiceUnavailable
		case asked%7 == 5:
			return lostAnswer
		}
		return 0
	})
	var files []string
	for name, to := range map[string]string{"tables": "tables: {database: warehouse}", "changes": "tables: {database: warehouse, schema: each, rows: change}",
		"files": "files: {folder: to, form: ndjson, every: 1s, most: 50}", "hook": `hook: {url: "` + f.hook.URL + `", secret: office}`} {
		file := filepath.Join(t.TempDir(), name+".yaml")
		testbed.Must(t, os.WriteFile(file, []byte("feed: "+name+"\nsees: all\ncollections: {trails: {}}\nto: {"+to+"}\n"), 0o600))
		files = append(files, file)
	}
	runProgram(t, "none", append([]string{"feeds", "define", "--central", address}, files...)...)
}

// kill kills the PostgreSQL of the tables, and starts it again.
func (f *soakedFeeds) kill(t *testing.T) {
	t.Helper()
	testbed.Must(t, syscall.Kill(f.there.PID(), syscall.SIGKILL))
	<-f.there.Ended()
	testbed.Must(t, f.there.Again(ctx))
	f.kills++
}

// verify compares what each destination holds with what a device has, which is what central has.
func (f *soakedFeeds) verify(s *soaking, address string) {
	t := s.t
	t.Helper()
	want := map[string]string{}
	for offset := 0; ; offset += 1000 {
		found, err := s.stores[1].Find(ctx, "trails", query.Ask{Limit: 1000, Offset: offset})
		testbed.Must(t, err)
		for _, r := range found.Records {
			want[r.ID.String()] = strings.Trim(string(r.Fields["name"]), `"`)
		}
		if len(found.Records) < 1000 {
			break
		}
	}
	for _, name := range soakedWays { // they may be waiting for longer than anybody would
		runProgram(t, "none", "feeds", "go-on", "--central", address, name)
	}
	db := testbed.SQL(t, f.there.URL("warehouse"))
	for what, has := range map[string]func() map[string]string{"the receiver": func() map[string]string { return f.hook.has(t) },
		"the table":                func() map[string]string { return tableOf(t, db, "trails", "true") },
		"the table of changes":     func() map[string]string { return lastChanges(t, db, "each.trails") },
		"the files in their order": func() map[string]string { has, _ := readFiles(t, f.folder); return has }} {
		testbed.Wait(t, fmt.Sprint(what, " to have the ", len(want), " trails that there are"), func() bool { return same(has(), want) })
	}
	var wrong []uuid.UUID
	testbed.Must(t, db.Select(&wrong, `SELECT homing_id FROM each.trails GROUP BY homing_id HAVING count(*) <> max(homing_revision)`))
	if len(wrong) > 0 {
		t.Errorf("of %v not each change is there once", wrong)
	}
}

// lastChanges is what a table with a row to a change says last of each record that is there.
func lastChanges(t *testing.T, db *sqlx.DB, table string) map[string]string {
	t.Helper()
	return tableOf(t, db, table, `NOT homing_gone AND NOT EXISTS (SELECT FROM `+table+` o WHERE o.homing_id = `+table+`.homing_id AND o.homing_revision > `+table+`.homing_revision)`)
}
