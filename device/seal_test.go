package device

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
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

// Repeat goes on after failures that pass, and ends with one that does not.
func TestRepeatTriesAgain(t *testing.T) {
	store := enrolledByHand(t, filepath.Join(t.TempDir(), "store.db"))
	ctx := context.Background()
	if err := store.MoveCentral(ctx, "http://127.0.0.1:1"); err != nil {
		t.Fatal(err)
	}
	told := 0
	done, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	err := store.Repeat(done, 20*time.Millisecond, false, func(_ Summary, err error) {
		if !errors.Is(err, link.ErrUnreachable) {
			t.Errorf("told of %v", err)
		}
		if told++; told == 3 {
			cancel()
		}
	})
	if err != nil || told != 3 {
		t.Errorf("told %d times, ended with %v", told, err)
	}
	empty, err := Open(ctx, filepath.Join(t.TempDir(), "empty.db"), Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer empty.Close()
	if err := empty.Repeat(ctx, time.Millisecond, false, func(Summary, error) {}); !errors.Is(err, ErrNotEnrolled) {
		t.Errorf("a store that is not enrolled: %v", err)
	}
}
