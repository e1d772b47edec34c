package promises_test

import (
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/uuid"

	"homing/central/fleet"
	"homing/device"
	"homing/internal/testbed"
	"homing/wire"
)

// deviceNamed is what central knows of a device.
func deviceNamed(t *testing.T, bed *testbed.Bed, name string) fleet.Device {
	t.Helper()
	all, err := bed.Central.Devices(ctx, "")
	testbed.Must(t, err)
	for _, d := range all {
		if d.Name == name {
			return d
		}
	}
	t.Fatalf("there is no device %s", name)
	return fleet.Device{}
}

func ask(t *testing.T, bed *testbed.Bed, name, what string) {
	t.Helper()
	_, err := bed.Central.Ask(ctx, deviceNamed(t, bed, name).ID, what)
	testbed.Must(t, err)
}

func gone(t *testing.T, store *device.Store) bool {
	t.Helper()
	_, err := os.Stat(store.Path())
	return os.IsNotExist(err)
}

// P3: a device that is asked to compares what it holds with central, mends what differs, and says what it found.
func TestP3AskedToVerify(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "phone", device.Options{})
	testbed.Exchange(t, store)
	trail := addTrail(t, store, "Ridge")
	testbed.Exchange(t, store)
	ask(t, bed, "phone", wire.ErrandVerify)
	testbed.Exchange(t, store)
	if got := deviceNamed(t, bed, "phone").Errands; len(got) != 1 || !got[0].Done || len(got[0].Verified) == 0 || got[0].Verified[0].Differences != 0 {
		t.Fatalf("of a sound store: %+v", got)
	}
	testbed.Exchange(t, store) // and it is not asked again
	if _, err := open(t, store).Exec(`UPDATE records SET fields = '{"name":"Meddled with"}' WHERE id = ?`, trail.ID.String()); err != nil {
		t.Fatal(err)
	}
	ask(t, bed, "phone", wire.ErrandVerify)
	testbed.Exchange(t, store)
	got := deviceNamed(t, bed, "phone")
	found := wire.CollectionVerified{}
	for _, one := range got.Errands[0].Verified {
		if one.Collection == "trails" {
			found = one
		}
	}
	if found.Records != 1 || found.Differences != 1 || found.Mended != 1 || len(got.Errands) != 1 {
		t.Errorf("%+v", got.Errands)
	}
	if name := shown(t, store, "trails", trail.ID, "name"); name != "Ridge" {
		t.Errorf("it shows %q", name)
	}
	if got.Stored == nil || *got.Stored < 10_000 {
		t.Errorf("its store takes %v", got.Stored)
	}
}

// P1: a device that is asked to erase its store does so once central has accepted everything in it, and no sooner.
func TestP1AskedToErase(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strings.Replace(testbed.Trails, "name: {type: string", "name: {type: string, maxLength: 20", 1))
	store := bed.Device("worker", "phone", device.Options{})
	testbed.Exchange(t, store)
	addTrail(t, store, "Saved without signal")
	// Central wants it otherwise before the device knows.
	bed.Define(strings.Replace(testbed.Trails, "name: {type: string", "name: {type: string, maxLength: 10", 1))
	ask(t, bed, "phone", wire.ErrandErase)
	summary := testbed.Exchange(t, store)
	if got := deviceNamed(t, bed, "phone").Errands[0]; summary.Refused != 1 || gone(t, store) || got.Done || !strings.Contains(got.Why, "1 changes are to be mended") {
		t.Fatalf("%+v, %+v", summary, got)
	}
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	_, err = store.Edit(ctx, "trails", queue[0].Record, device.Fields{"name": "Mended"})
	testbed.Must(t, err)
	if _, err := store.Exchange(ctx, nil); !errors.Is(err, device.ErrErased) || !gone(t, store) {
		t.Fatalf("%v", err)
	}
	if got := valueAt(t, bed, "trails", queue[0].Record, "name"); got != "Mended" {
		t.Errorf("central has %q", got)
	}
	if got := deviceNamed(t, bed, "phone").Errands[0]; !got.Done || got.AnsweredAt == nil {
		t.Errorf("%+v", got)
	}
	if _, err := store.Add(ctx, "trails", device.Fields{"name": "Too late"}); err == nil {
		t.Error("it saves into a store that is gone")
	}
}

// P1: what is saved while a device is about to erase its store keeps the store, and goes to central.
func TestP1SavedWhileItIsErased(t *testing.T) {
	bed := testbed.Start(t)
	var store *device.Store
	var saved uuid.UUID
	proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		if r.URL.Path == "/v1/report" && saved == uuid.Nil && store != nil {
			saved = addTrail(t, store, "At the last moment").ID
		}
		return testbed.Pass
	})
	phone := bed.Device("worker", "phone", device.Options{}, proxy.URL)
	testbed.Exchange(t, phone)
	store = phone
	ask(t, bed, "phone", wire.ErrandErase)
	testbed.Exchange(t, phone)
	if saved == uuid.Nil || gone(t, phone) {
		t.Fatal("the store went with what was saved")
	}
	if _, err := phone.Exchange(ctx, nil); !errors.Is(err, device.ErrErased) || !gone(t, phone) {
		t.Fatalf("%v", err)
	}
	if got := valueAt(t, bed, "trails", saved, "name"); got != "At the last moment" {
		t.Errorf("central has %q", got)
	}
}

// P1: nothing is erased before central has heard of it; a program that ends on the way goes on with it when it starts.
func TestP1ErasedThoughAnswersAreLost(t *testing.T) {
	bed := testbed.Start(t)
	fault := testbed.CutBefore
	proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		if r.URL.Path == "/v1/report" {
			return fault
		}
		return testbed.Pass
	})
	phone := bed.Device("worker", "phone", device.Options{}, proxy.URL)
	testbed.Exchange(t, phone)
	ask(t, bed, "phone", wire.ErrandErase)
	for _, fault = range []testbed.Fault{testbed.CutBefore, testbed.CutAfter, testbed.Unavailable} {
		testbed.Exchange(t, phone)
		if gone(t, phone) {
			t.Fatalf("it is gone though the report was lost (%v)", fault)
		}
	}
	fault = testbed.Pass
	testbed.Must(t, bed.Central.TakeBack(ctx, deviceNamed(t, bed, "phone").ID, wire.ErrandErase))
	testbed.Exchange(t, phone)
	if gone(t, phone) {
		t.Fatal("it is gone though that was taken back")
	}
	addTrail(t, phone, "Still in use")
	testbed.Exchange(t, phone)
	// As a program leaves it that ends after the store takes nothing more, and before its files go.
	for _, statement := range []string{`UPDATE facts SET value = '' WHERE name = 'token'`, `INSERT INTO facts (name, value) VALUES ('erasing', 'true')`} {
		if _, err := open(t, phone).Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := phone.Add(ctx, "trails", device.Fields{"name": "Too late"}); !errors.Is(err, device.ErrNotEnrolled) {
		t.Errorf("a save: %v", err)
	}
	testbed.Must(t, phone.Close())
	if _, err := device.Open(ctx, phone.Path(), device.Options{}); !errors.Is(err, device.ErrErased) || !gone(t, phone) {
		t.Errorf("%v", err)
	}
	anew, err := device.Open(ctx, phone.Path(), device.Options{})
	testbed.Must(t, err)
	testbed.Must(t, anew.Enrol(ctx, bed.URL(), bed.Code("worker"), "phone again"))
	testbed.Exchange(t, anew)
	bed.Same(anew)
	testbed.Must(t, anew.Close())
}

// P11: a device that was revoked and may deliver is asked to erase, and does; it is not asked to verify, which would tell it things.
func TestP11ARevokedDeviceErases(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "phone", device.Options{})
	testbed.Exchange(t, store)
	trail := addTrail(t, store, "Ridge")
	id := deviceNamed(t, bed, "phone").ID
	testbed.Exchange(t, store)
	editTrail(t, store, trail.ID, device.Fields{"note": "queued"})
	testbed.Must(t, bed.Central.Revoke(ctx, id, true, true))
	ask(t, bed, "phone", wire.ErrandVerify)
	if _, err := store.Exchange(ctx, nil); !errors.Is(err, device.ErrRevoked) {
		t.Fatal(err)
	}
	if got := deviceNamed(t, bed, "phone").Errands[0]; got.Done || got.Why == "" || len(got.Verified) != 0 {
		t.Errorf("%+v", got)
	}
	ask(t, bed, "phone", wire.ErrandErase)
	if _, err := store.Exchange(ctx, nil); !errors.Is(err, device.ErrErased) || !gone(t, store) {
		t.Fatalf("%v", err)
	}
	if got := valueAt(t, bed, "trails", trail.ID, "note"); got != "queued" {
		t.Errorf("central has %q", got)
	}
}

// P1, P10: of two copies of a store each goes for itself, when all that it has is accepted.
func TestP10EachCopyIsErasedForItself(t *testing.T) {
	bed := testbed.Start(t)
	one, other, _ := twins(t, bed)
	mine := addTrail(t, other, "By the other")
	ask(t, bed, "tablet", wire.ErrandErase)
	if _, err := one.Exchange(ctx, nil); !errors.Is(err, device.ErrErased) || !gone(t, one) {
		t.Fatal(err)
	}
	_, err := other.Exchange(ctx, nil)
	if err == nil { // it has noticed first that it is a copy
		_, err = other.Exchange(ctx, nil)
	}
	if !errors.Is(err, device.ErrErased) || !gone(t, other) {
		t.Fatal(err)
	}
	if got := valueAt(t, bed, "trails", mine.ID, "name"); got != "By the other" {
		t.Errorf("central has %q", got)
	}
}

// P1: what only this store has keeps it: values that stay on the device, and what a restored central has lost of a record.
func TestP1WhatOnlyTheStoreHasKeepsIt(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: ways\nlabel: \"{name}\"\nfields: {name: {type: string}, memo: {type: string, local: true}}\n")
	store := bed.Device("worker", "phone", device.Options{})
	testbed.Exchange(t, store)
	way, err := store.Add(ctx, "ways", device.Fields{"name": "Ridge", "memo": "ask at the hut"})
	testbed.Must(t, err)
	ask(t, bed, "phone", wire.ErrandErase)
	testbed.Exchange(t, store)
	if got := deviceNamed(t, bed, "phone").Errands[0]; gone(t, store) || got.Done || !strings.Contains(got.Why, "stay on the device") {
		t.Fatalf("%+v", got)
	}
	_, err = store.Edit(ctx, "ways", way.ID, device.Fields{"memo": nil})
	testbed.Must(t, err)
	if _, err := open(t, store).Exec(`INSERT INTO lost_values (collection, id, revision, fields, marks)
			SELECT collection, id, revision + 1, '{"name":"Ridge Path"}', replace(marks, '"at":"0', '"at":"7') FROM records WHERE id = ?`, way.ID.String()); err != nil {
		t.Fatal(err)
	}
	testbed.Exchange(t, store)
	if got := deviceNamed(t, bed, "phone").Errands[0]; gone(t, store) || got.Done || !strings.Contains(got.Why, "central has lost something") {
		t.Fatalf("%+v", got)
	}
	testbed.Must(t, store.DropLost(ctx, "ways", way.ID, filepath.Join(t.TempDir(), "lost.jsonl")))
	if _, err := store.Exchange(ctx, nil); !errors.Is(err, device.ErrErased) || !gone(t, store) {
		t.Fatal(err)
	}
}
