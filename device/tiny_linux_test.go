package device

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"homing/device/internal/file"

	"golang.org/x/sys/unix"
)

// P1: a disk that is really full gives plain words, in a save, in a read and when the store is opened, and what was
// saved before is still there when there is room again.
func TestP1DiskWithoutRoom(t *testing.T) {
	folder := t.TempDir()
	if err := unix.Mount("tmpfs", folder, "tmpfs", 0, "size=1m"); err != nil {
		t.Skipf("only root can make a disk as small as this: %v", err)
	}
	t.Cleanup(func() { unix.Unmount(folder, unix.MNT_DETACH) })
	ctx := context.Background()
	path := filepath.Join(folder, "store.db")
	store := enrolledByHand(t, path)
	first, err := store.Add(ctx, "trails", Fields{"name": "first"})
	if err != nil {
		t.Fatal(err)
	}
	ballast := filepath.Join(folder, "ballast")
	full, err := os.Create(ballast)
	if err != nil {
		t.Fatal(err)
	}
	for _, err = full.Write(make([]byte, 4096)); err == nil; _, err = full.Write(make([]byte, 4096)) {
	}
	full.Close()
	for err = nil; err == nil; {
		_, err = store.Add(ctx, "trails", Fields{"name": strings.Repeat("x", 9000)})
	}
	if !errors.Is(err, ErrFull) {
		t.Errorf("a save says %v", err)
	}
	if err := store.Close(); err != nil && !errors.Is(file.StoreError(err), ErrFull) {
		t.Errorf("closing says %v", err)
	}
	again, err := Open(ctx, path, Options{})
	if err == nil {
		_, err = again.Add(ctx, "trails", Fields{"name": strings.Repeat("x", 9000)})
		again.Close()
	}
	if !errors.Is(err, ErrFull) {
		t.Errorf("opened anew, it says %v", err)
	}
	if err := os.Remove(ballast); err != nil {
		t.Fatal(err)
	}
	if again, err = Open(ctx, path, Options{}); err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if _, err := again.Get(ctx, "trails", first.ID); err != nil {
		t.Errorf("with room again, what was saved before is gone: %v", err)
	}
}
