package promises_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"homing/core/change"
	"homing/device"
	"homing/internal/testbed"
)

// bytesBeside says which of the files beside a store hold a text.
func bytesBeside(t *testing.T, store *device.Store, text string) (files []string) {
	t.Helper()
	all, err := filepath.Glob(store.Path() + "*")
	testbed.Must(t, err)
	for _, name := range all {
		held, err := os.ReadFile(name)
		testbed.Must(t, err)
		if bytes.Contains(held, []byte(text)) {
			files = append(files, filepath.Base(name))
		}
	}
	return files
}

// P11: what a device no longer covers is not only hidden: its bytes are gone from the store and from what lies beside.
func TestP11WhatIsWithdrawnIsOverwritten(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(territorial)
	hold(t, bed, "worker", "ostra")
	office := bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, office)
	const secret = "the key is under the third stone"
	for range 20 {
		addIn(t, office, secret+strings.Repeat(" and more", 50), "ostra")
	}
	addIn(t, office, "plain", "kell")
	testbed.Exchange(t, office)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	if len(bytesBeside(t, store, secret)) == 0 {
		t.Fatal("the store never held it")
	}
	hold(t, bed, "worker", "kell")
	testbed.Exchange(t, store)
	if files := bytesBeside(t, store, secret); len(files) > 0 {
		t.Errorf("it can still be read in %v", files)
	}
}

// P1, P11: what an encrypted store gives up is written where nobody else can read it, and can be read with the
// passphrase.
func TestP11WhatIsGivenUpIsSealed(t *testing.T) {
	bed := testbed.Start(t)
	const passphrase, secret = "three larches and a spruce", "what the worker typed"
	store := bed.Device("worker", "tablet", device.Options{Passphrase: passphrase})
	testbed.Exchange(t, store)
	r, err := store.Add(ctx, "trails", device.Fields{"name": "Ridge"})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	// Central refuses what comes without a name.
	_, err = store.Edit(ctx, "trails", r.ID, device.Fields{"note": secret})
	testbed.Must(t, err)
	bed.Define(testbed.Trails + "access:\n  edit: \"false\"\n")
	testbed.Exchange(t, store)
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	if len(queue) != 1 || queue[0].Verdict != change.Refused {
		t.Fatalf("%+v", queue)
	}
	path := store.Path() + ".discarded.ndjson"
	testbed.Must(t, store.Discard(ctx, queue[0].Number, path))
	if files := bytesBeside(t, store, secret); len(files) > 0 {
		t.Errorf("it can be read in %v", files)
	}
	info, err := os.Stat(path)
	testbed.Must(t, err)
	if info.Mode().Perm() != 0o600 {
		t.Errorf("others may read it: %v", info.Mode())
	}
	lines, err := store.ReadGivenUp(path)
	if err != nil || len(lines) != 1 || !strings.Contains(string(lines[0]), secret) {
		t.Errorf("it reads %s, %v", lines, err)
	}
	plain, err := device.Open(ctx, filepath.Join(t.TempDir(), "other.db"), device.Options{Passphrase: "another passphrase"})
	testbed.Must(t, err)
	defer plain.Close()
	if lines, err := plain.ReadGivenUp(path); err == nil {
		t.Errorf("another store reads %s", lines)
	}
}
