package device

import (
	"context"
	"errors"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"homing/core/definition"
	"homing/core/query"
	"homing/device/internal/file"
	"homing/wire"
)

// enrolledByHand opens a store and gives it what an enrolment would, so that it can be used without a central.
func enrolledByHand(t *testing.T, path string, options ...Options) *Store {
	t.Helper()
	ctx := context.Background()
	store, err := Open(ctx, path, append(options, Options{})[0])
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { store.Close() })
	d, err := definition.ReadSource("x.yaml", []byte("collection: trails\nfields: {name: {type: string}}\n"))
	if err != nil {
		t.Fatal(err)
	}
	if err := store.keeper.TakeDefinitions(ctx, wire.Definitions{Definitions: []definition.Definition{d}}); err != nil {
		t.Fatal(err)
	}
	for name, value := range map[string]string{file.FactRole: "worker", file.FactWorker: "worker", file.FactToken: "dev_x",
		file.FactName: "tablet"} {
		if err := file.SetFact(ctx, store.keeper.DB, name, value); err != nil {
			t.Fatal(err)
		}
	}
	return store
}

// P1: when the disk is full, a save says so and leaves everything as it was; what was saved before is still there.
func TestP1FullDiskOnTheDevice(t *testing.T) {
	ctx := context.Background()
	store := enrolledByHand(t, filepath.Join(t.TempDir(), "store.db"))
	store.keeper.DB.SetMaxOpenConns(1) // the limit below belongs to one connection
	saved := 0
	if _, err := store.Add(ctx, "trails", Fields{"name": "first"}); err != nil {
		t.Fatal(err)
	}
	var pages int
	if err := store.keeper.DB.Get(&pages, `PRAGMA page_count`); err != nil {
		t.Fatal(err)
	}
	if _, err := store.keeper.DB.Exec(`PRAGMA max_page_count = ` + strconv.Itoa(pages+20)); err != nil {
		t.Fatal(err)
	}
	var err error
	for saved = 1; saved < 1000 && err == nil; saved++ {
		_, err = store.Add(ctx, "trails", Fields{"name": strings.Repeat("x", 5000)})
	}
	saved-- // the last one failed
	if !errors.Is(err, ErrFull) {
		t.Fatalf("after %d saves: %v", saved, err)
	}
	if _, err := store.keeper.DB.Exec(`PRAGMA max_page_count = 1000000`); err != nil {
		t.Fatal(err)
	}
	found, err := store.Find(ctx, "trails", query.Ask{Limit: 1000})
	queue, queueErr := store.Review(ctx)
	if err := errors.Join(err, queueErr); err != nil || found.Total != saved || len(queue) != saved {
		t.Errorf("%d saves returned; there are %d records and %d changes (%v)", saved, found.Total, len(queue), err)
	}
}
