package typescript_test

import (
	"encoding/json"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/conformance/driver"
	"homing/device"
	"homing/internal/testbed"
)

// enrolled is a device in Node, on a central that runs. Its clock can be turned.
func enrolled(t *testing.T, bed *testbed.Bed) (store *driver.Store, turn func(time.Duration)) {
	t.Helper()
	central, err := driver.ToCentral(bed.URL())
	testbed.Must(t, err)
	began, turned := time.Now(), time.Duration(0)
	now := func() time.Time { return time.Now().Add(turned) }
	store, err = driver.Open(t.Context(), driver.Command{Args: []string{"node", "dist/driver.js"}},
		filepath.Join(t.TempDir(), "store.db"), device.Options{Now: now, Transport: central,
			Tick:  func() (string, time.Duration) { return "test", time.Since(began) + turned },
			NewID: func() uuid.UUID { return uuid.Must(uuid.NewV7()) }})
	testbed.Must(t, err)
	t.Cleanup(func() { store.Kill() })
	testbed.Must(t, store.Enrol(t.Context(), "https://central.invalid", bed.Code("worker"), "node"))
	return store, func(by time.Duration) { turned += by }
}

// P1, P11: a device that was revoked and may deliver sends what is unsent to a real central, and gets nothing more.
func TestRevokedAndMayDeliver(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(trails)
	store, _ := enrolled(t, bed)
	_, err := store.Exchange(t.Context(), nil)
	testbed.Must(t, err)
	made, err := store.Add(t.Context(), "trails", device.Fields{"name": "Unsent"})
	testbed.Must(t, err)
	lead := bed.SignIn("lead")
	_, text := bed.Call("GET", "/v1/devices", lead, nil)
	var devices []struct{ ID, Name string }
	testbed.Must(t, json.Unmarshal(text, &devices))
	for _, d := range devices {
		if d.Name == "node" {
			if status, text := bed.Call("POST", "/v1/devices/"+d.ID+"/revocation?deliver=true", lead, nil); status >= 300 {
				t.Fatalf("%d %s", status, text)
			}
		}
	}
	bed.Call("POST", "/v1/records/trails", lead, map[string]any{"fields": map[string]any{"name": "Not for it"}})
	if _, err := store.Exchange(t.Context(), nil); !errors.Is(err, device.ErrRevoked) {
		t.Fatalf("an exchange of a revoked device: %v", err)
	}
	if status, text := bed.Call("GET", "/v1/records/trails/"+made.ID.String(), lead, nil); status != 200 {
		t.Errorf("what was unsent: %d %s", status, text)
	}
	if queue, err := store.Review(t.Context()); err != nil || len(queue) != 0 {
		t.Errorf("the outbox: %v, %v", queue, err)
	}
	if found, err := store.Find(t.Context(), "trails", driver.Find{Search: "not for it"}); err != nil || len(found.Records) != 0 {
		t.Errorf("it got %v, %v", found.Records, err)
	}
}
