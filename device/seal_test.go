package device

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"homing/device/internal/file"
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
