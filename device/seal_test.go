package device

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"homing/device/internal/file"
	"homing/link"
)

// An encrypted store opens with its passphrase only, and nothing of it can be read in its files.
func TestEncryptedStore(t *testing.T) {
	ctx := context.Background()
	folder := t.TempDir()
	path := filepath.Join(folder, "store.db")
	const passphrase, secret = "three larches and a spruce", "the key is under the third stone"
	open := func(p string) (*Store, error) { return Open(ctx, path, Options{Passphrase: p}) }
	store, err := open(passphrase)
	if err != nil {
		t.Fatal(err)
	}
	if err := file.SetFact(ctx, store.keeper.DB, "secret", secret); err != nil {
		t.Fatal(err)
	}
	files := func() {
		t.Helper()
		all, err := os.ReadDir(folder)
		if err != nil || len(all) < 2 {
			t.Fatal(all, err)
		}
		for _, file := range all {
			text, err := os.ReadFile(filepath.Join(folder, file.Name()))
			if err != nil {
				t.Fatal(err)
			}
			if bytes.Contains(text, []byte(secret)) || bytes.Contains(text, []byte("SQLite format")) {
				t.Errorf("%s can be read", file.Name())
			}
		}
	}
	files()
	if err := store.Close(); err != nil {
		t.Fatal(err)
	}
	files()
	for p, want := range map[string]error{"": ErrSealed, "four larches and a spruce": ErrPassphrase} {
		if _, err := open(p); !errors.Is(err, want) {
			t.Errorf("opened with %q: %v, want %v", p, err, want)
		}
	}
	store, err = open(passphrase)
	if err != nil {
		t.Fatal(err)
	}
	defer store.Close()
	if got, err := file.Fact(ctx, store.keeper.DB, "secret"); err != nil || got != secret {
		t.Errorf("kept %q, %v", got, err)
	}
	if _, err := Open(ctx, filepath.Join(folder, "other.db"), Options{Passphrase: "short"}); err == nil {
		t.Error("a passphrase of five characters was taken")
	}
	clear := filepath.Join(folder, "clear.db")
	enrolledByHand(t, clear)
	if _, err := Open(ctx, clear, Options{Passphrase: passphrase}); !errors.Is(err, ErrNotSealed) {
		t.Errorf("a store in clear opened with a passphrase: %v", err)
	}
}

// Repeat goes on after failures that pass, later each time, and ends with one that does not.
func TestRepeatTriesAgain(t *testing.T) {
	folder := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		ctx, cancel := context.WithCancel(t.Context())
		store := enrolledByHand(t, filepath.Join(folder, "store.db"), Options{Transport: noSignal{}})
		if err := store.MoveCentral(ctx, "http://central.invalid"); err != nil {
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
