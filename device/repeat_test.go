package device

import (
	"context"
	"errors"
	"net/http"
	"path/filepath"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"homing/link"
)

// Repeat goes on after failures that pass, later each time, and ends with one that does not.
func TestRepeatTriesAgain(t *testing.T) {
	folder := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		store := enrolledByHand(t, filepath.Join(folder, "store.db"), Options{Transport: noSignal{}})
		if err := store.MoveCentral(ctx, "https://central.invalid"); err != nil {
			t.Fatal(err)
		}
		var waits []time.Duration
		last := time.Now()
		err := store.Repeat(ctx, time.Hour, false, func(_ Summary, err error) {
			if !errors.Is(err, link.ErrUnreachable) {
				t.Errorf("told of %v", err)
			}
			waits, last = append(waits, time.Since(last)), time.Now()
			if len(waits) == 12 {
				cancel()
			}
		})
		if err != nil || len(waits) != 12 {
			t.Fatalf("told %d times, ended with %v", len(waits), err)
		}
		if waits[1] > 10*time.Second || waits[11] < 5*time.Minute || slices.Max(waits) > time.Hour {
			t.Errorf("it waited %v", waits)
		}
	})
	ctx := context.Background()
	empty, err := Open(ctx, filepath.Join(t.TempDir(), "empty.db"), Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer empty.Close()
	if err := empty.Repeat(ctx, time.Millisecond, false, func(Summary, error) {}); !errors.Is(err, ErrNotEnrolled) {
		t.Errorf("a store that is not enrolled: %v", err)
	}
}

// noSignal is a network that reaches nobody.
type noSignal struct{}

func (noSignal) RoundTrip(*http.Request) (*http.Response, error) { return nil, errors.New("no signal") }
