package service_test

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"homing/central"
	"homing/central/fault"
	"homing/core/definition"
	"homing/device"
	"homing/link"
	"homing/service"
)

func start(t *testing.T, folder string) (*service.Running, context.CancelFunc, chan error) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	running, err := service.Start(ctx, service.Options{Listen: "127.0.0.1:0", Data: folder, Open: true,
		Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- running.Wait(ctx) }()
	return running, cancel, ended
}

// postmaster is the process of the PostgreSQL in a folder, or in the one where it really lies.
func postmaster(t *testing.T, folder string) (process int, data string) {
	t.Helper()
	if text, err := os.ReadFile(filepath.Join(folder, "elsewhere")); err == nil {
		folder = strings.TrimSpace(string(text))
	}
	text, err := os.ReadFile(filepath.Join(folder, "data", "postmaster.pid"))
	if err != nil {
		t.Fatal(err)
	}
	process, err = strconv.Atoi(strings.Split(string(text), "\n")[0])
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	return process, filepath.Join(folder, "data")
}

// enrolled is a device of a central that runs, which has one collection.
func enrolled(t *testing.T, running *service.Running) *device.Store {
	t.Helper()
	ctx := t.Context()
	d, err := definition.ReadSource("trails.yaml", []byte("collection: trails\nfields: {name: {type: string}}\n"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := running.Central.Define(ctx, "admin", []definition.Definition{d}); err != nil {
		t.Fatal(err)
	}
	store, err := device.Open(ctx, filepath.Join(t.TempDir(), "tablet.db"), device.Options{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { store.Close() })
	if err := store.Enrol(ctx, running.URL(), "", "tablet"); err != nil {
		t.Fatal(err)
	}
	if _, err := store.Exchange(ctx, nil); err != nil {
		t.Fatal(err)
	}
	return store
}

// P1: when the private PostgreSQL is killed, devices are told to come again later, it is started again, and what a
// device has queued goes in. When it cannot be started, central ends with an error, so that a supervisor sees it. A
// second central on the same folder says that one is running, and touches nothing.
func TestP1ThePrivateDatabaseDies(t *testing.T) {
	ctx, folder := context.Background(), t.TempDir()
	running, cancel, ended := start(t, folder)
	defer cancel()
	store := enrolled(t, running)
	trail, err := store.Add(ctx, "trails", device.Fields{"name": "Ridge"})
	if err != nil {
		t.Fatal(err)
	}

	if _, err := service.Start(ctx, service.Options{Listen: "127.0.0.1:0", Data: folder,
		Log: slog.New(slog.DiscardHandler)}); !errors.Is(err, service.ErrInUse) {
		t.Errorf("a second central on the folder: %v", err)
	}
	process, data := postmaster(t, folder)
	if err := running.Central.Ready(ctx); err != nil {
		t.Errorf("after the second one gave up: %v", err)
	}

	if err := syscall.Kill(process, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	// While it is away, nobody hears of a fault of the program.
	var problem *link.Problem
	for began := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		_, err := store.Exchange(ctx, nil)
		if err == nil {
			break
		}
		if errors.As(err, &problem) && problem.Status != http.StatusServiceUnavailable {
			t.Fatalf("meanwhile, central said %v", err)
		}
		if time.Since(began) > time.Minute {
			t.Fatalf("it is not up again: %v", err)
		}
	}
	r, err := running.Central.Record(ctx, central.Everything("admin"), "trails", trail.ID)
	for known := fault.Explain(err); known != nil && known.Kind == fault.Unavailable; known = fault.Explain(err) {
		// A connection from before is noticed as dead when it is used next: whoever asks by HTTP is told to ask again.
		time.Sleep(20 * time.Millisecond)
		r, err = running.Central.Record(ctx, central.Everything("admin"), "trails", trail.ID)
	}
	var fields map[string]any
	if err == nil {
		err = json.Unmarshal(r.Fields, &fields)
	}
	if err != nil || fields["name"] != "Ridge" {
		t.Errorf("central has %v, %v", fields, err)
	}

	process, _ = postmaster(t, folder)
	if err := os.Rename(filepath.Join(data, "global"), filepath.Join(data, "gone")); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(process, syscall.SIGKILL); err != nil && !errors.Is(err, syscall.ESRCH) { // it may have ended by itself by now
		t.Fatal(err)
	}
	select {
	case err := <-ended:
		if err == nil || !strings.Contains(err.Error(), "PostgreSQL has ended") {
			t.Errorf("central ends with %v", err)
		}
	case <-time.After(3 * time.Minute):
		t.Error("central goes on without a database")
	}
}

// P1: the disk of the private PostgreSQL is really full. Devices are told so, whether the database still answers or has
// fallen over it; what they have queued goes in when there is room again.
func TestP1TheDiskOfThePrivateDatabaseIsFull(t *testing.T) {
	folder, err := os.MkdirTemp("", "homing-small-disk-") // the database's user must get through, so not below t.TempDir
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	if err := unix.Mount("tmpfs", folder, "tmpfs", 0, "size=160m,mode=0755"); err != nil {
		t.Skipf("only root can make a disk as small as this: %v", err)
	}
	t.Cleanup(func() { unix.Unmount(folder, unix.MNT_DETACH) })
	ctx := context.Background()
	running, cancel, ended := start(t, folder)
	defer func() { cancel(); <-ended }()
	store := enrolled(t, running)
	ballast, err := os.Create(filepath.Join(folder, "ballast"))
	if err != nil {
		t.Fatal(err)
	}
	for err == nil {
		_, err = ballast.Write(make([]byte, 4096))
	}
	ballast.Close()
	const saves = 40
	for n := range saves {
		if _, err := store.Add(ctx, "trails", device.Fields{"name": strings.Repeat(strconv.Itoa(n), 20_000)}); err != nil {
			t.Fatal(err)
		}
	}
	for range 2 {
		_, err := store.Exchange(ctx, nil)
		var problem *link.Problem
		if !errors.As(err, &problem) || problem.Status != http.StatusInsufficientStorage {
			t.Errorf("an exchange with a full disk: %v", err)
		}
	}
	if err := os.Remove(ballast.Name()); err != nil {
		t.Fatal(err)
	}
	for began := time.Now(); ; time.Sleep(200 * time.Millisecond) {
		if _, err = store.Exchange(ctx, nil); err == nil {
			break
		}
		if time.Since(began) > 90*time.Second {
			t.Fatalf("with room again: %v", err)
		}
	}
	status, err := store.Status(ctx)
	if err != nil || status.Unsent != 0 {
		t.Errorf("still unsent: %d, %v", status.Unsent, err)
	}
}
