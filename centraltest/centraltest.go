// Package centraltest starts a real central for the tests of an app, in one call: the service on loopback, on a PostgreSQL of
// its own that is gone afterwards.
//
//	func TestMyApp(t *testing.T) {
//		central := centraltest.Start(t, "huts.yaml")
//		store := central.Store(t, "mira")
//		...
//	}
//
// PostgreSQL must be installed; Debian's package is enough. Tests of one process share it, each with a database of its
// own, so they may run at the same time.
package centraltest

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/cluster"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/query"
	"homing/core/record"
	"homing/core/rights"
	"homing/device"
	"homing/service"
)

// Password is that of everybody whom [Central.Worker] adds, and of the admin.
const Password = "larch-for-tests-only"

// Admin is who may do everything.
const Admin = service.FirstAdminName

// Central is a running central. It stops with the test that started it.
type Central struct {
	running *service.Running
	log     bytes.Buffer
}

// shared is the PostgreSQL of the tests of a process.
var shared struct {
	sync.Mutex
	cluster *cluster.Cluster
	folder  string
	users   int
	made    int
}

// Start starts a central with the collections that definition files say. What goes wrong fails the test.
func Start(t testing.TB, definitions ...string) *Central {
	t.Helper()
	database, err := newDatabase(t)
	if err != nil {
		t.Fatalf("central for tests: %v", err)
	}
	c := &Central{}
	c.running, err = service.Start(context.Background(), service.Options{Listen: "127.0.0.1:0", Database: database, AdminPassword: Password,
		Build: "test", Log: slog.New(slog.NewTextHandler(&c.log, nil))})
	if err != nil {
		t.Fatalf("central for tests: %v", err)
	}
	t.Cleanup(func() {
		if err := c.running.Stop(); err != nil {
			t.Errorf("central for tests: %v", err)
		}
		if t.Failed() {
			t.Logf("central logged:\n%s", &c.log)
		}
	})
	if len(definitions) > 0 {
		c.Define(t, definitions...)
	}
	return c
}

// newDatabase makes a database for a test. The last test that is over takes PostgreSQL down.
func newDatabase(t testing.TB) (string, error) {
	shared.Lock()
	defer shared.Unlock()
	if shared.cluster == nil {
		folder, err := os.MkdirTemp("", "homing-centraltest-")
		if err != nil {
			return "", err
		}
		started, err := cluster.Start(context.Background(), cluster.Options{Dir: folder, Throwaway: true})
		if err != nil {
			return "", errors.Join(err, os.RemoveAll(folder))
		}
		shared.cluster, shared.folder = started, folder
	}
	shared.users++
	t.Cleanup(func() {
		shared.Lock()
		defer shared.Unlock()
		if shared.users--; shared.users > 0 {
			return
		}
		if err := errors.Join(shared.cluster.Stop(), os.RemoveAll(shared.folder)); err != nil {
			t.Errorf("central for tests: %v", err)
		}
		shared.cluster = nil
	})
	shared.made++
	return shared.cluster.Database(context.Background(), fmt.Sprintf("test%d", shared.made), "")
}

// URL is central's address.
func (c *Central) URL() string { return c.running.URL() }

// Define defines collections from files, or changes them.
func (c *Central) Define(t testing.TB, files ...string) {
	t.Helper()
	var all []definition.Definition
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		d, err := definition.ReadSource(name, text)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, d)
	}
	if _, err := c.running.Central.Define(context.Background(), Admin, all); err != nil {
		t.Fatal(err)
	}
}

// Worker adds somebody with a role (reader, worker, lead or admin) and the territories that they hold; all when none is named.
func (c *Central) Worker(t testing.TB, name, role string, territories ...string) {
	t.Helper()
	if len(territories) == 0 {
		territories = []string{rights.All}
	}
	if err := c.running.Central.AddWorker(context.Background(), name, rights.Role(role), Password, territories...); err != nil {
		t.Fatal(err)
	}
}

// Code gives a one-time code, with which a device of a worker's is enrolled.
func (c *Central) Code(t testing.TB, worker string) string {
	t.Helper()
	code, _, err := c.running.Central.IssueCode(context.Background(), central.Everything(Admin), worker, time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	return code
}

// Store gives a new store, enrolled as a device of a worker, who is added as such where nobody is called so. Nothing is loaded
// yet.
func (c *Central) Store(t testing.TB, worker string) *device.Store {
	t.Helper()
	ctx := context.Background()
	if err := c.running.Central.AddWorker(ctx, worker, rights.Worker, Password, rights.All); err != nil && !isThere(ctx, c, worker) {
		t.Fatal(err)
	}
	store, err := device.Open(ctx, filepath.Join(t.TempDir(), worker+".db"), device.Options{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { store.Close() })
	if err := store.Enrol(ctx, c.URL(), c.Code(t, worker), worker+"'s device"); err != nil {
		t.Fatal(err)
	}
	return store
}

func isThere(ctx context.Context, c *Central, worker string) bool {
	all, err := c.running.Central.Workers(ctx, false)
	if err != nil {
		return false
	}
	for _, one := range all {
		if one.Name == worker {
			return true
		}
	}
	return false
}

// Record is a record as central has it.
type Record struct {
	ID       uuid.UUID
	Revision int64
	Fields   map[string]json.RawMessage
}

// Records gives the records of a collection, with conditions such as state=open as [device.Store.Find] takes them.
func (c *Central) Records(t testing.TB, collection string, where ...string) []Record {
	t.Helper()
	listing, err := c.running.Central.List(context.Background(), central.Everything(Admin), collection,
		query.Ask{Where: where, Limit: query.MaxLimit})
	if err != nil {
		t.Fatal(err)
	}
	all := make([]Record, len(listing.Records))
	for n, r := range listing.Records {
		all[n] = Record{ID: r.ID, Revision: r.Revision}
		if err := json.Unmarshal(r.Fields, &all[n].Fields); err != nil {
			t.Fatal(err)
		}
	}
	return all
}

// Add adds a record at central itself, as an office would.
func (c *Central) Add(t testing.TB, collection string, fields map[string]any) uuid.UUID {
	t.Helper()
	delta := record.Delta{}
	for name, value := range fields {
		raw, err := json.Marshal(value)
		if err != nil {
			t.Fatal(err)
		}
		delta[name] = record.Edit{To: raw}
	}
	id := uuid.Must(uuid.NewV7())
	answer, err := c.running.Central.Direct(context.Background(), central.Everything(Admin),
		changes.Write{Collection: collection, Record: id, Kind: change.Add, Base: -1, Fields: delta})
	if err == nil && !answer.Answer.Accepted() {
		err = fmt.Errorf("central took no record: %+v", answer.Reasons)
	}
	if err != nil {
		t.Fatal(err)
	}
	return id
}
