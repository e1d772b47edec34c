package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// Bounds on starting a private PostgreSQL again: so often within a span, the first time at once and then after a
// delay that doubles. When that is over, central ends, so that whoever supervises it sees.
const (
	mostStarts   = 5
	startsWithin = 10 * time.Minute
	firstDelay   = time.Second
)

// ErrInUse says that another central runs on the folder.
var ErrInUse = errors.New("central is running on this folder already")

// claim keeps other centrals off the folder of the private PostgreSQL. The kernel gives it back when the process ends.
func claim(folder string) (release func(), err error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	file, err := os.OpenFile(filepath.Join(folder, "in-use"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		file.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, fmt.Errorf("%w: %s; stop it first, or take another folder with --data", ErrInUse, folder)
		}
		return nil, err
	}
	return func() { file.Close() }, nil
}

// supervise starts the private PostgreSQL again when it has died. It gives the reason when that does not work, and
// nothing when the context is done.
func (r *Running) supervise(ctx context.Context) error {
	var starts []time.Time
	for {
		select {
		case <-r.cluster.Ended():
		case <-ctx.Done():
			return nil
		}
		if ctx.Err() != nil {
			return nil
		}
		r.log.Error("PostgreSQL has ended; starting it again", "folder", r.cluster.Folder())
		var err error
		for delay := time.Duration(0); ; delay = max(2*delay, firstDelay) {
			for len(starts) > 0 && time.Since(starts[0]) > startsWithin {
				starts = starts[1:]
			}
			if len(starts) == mostStarts {
				return errors.Join(fmt.Errorf("PostgreSQL has ended %d times within %s; see %s", mostStarts+1, startsWithin,
					filepath.Join(r.cluster.Folder(), "log")), err)
			}
			select {
			case <-time.After(delay):
			case <-ctx.Done():
				return nil
			}
			starts = append(starts, time.Now())
			if err = r.cluster.Again(ctx); err == nil {
				r.log.Warn("PostgreSQL is up again", "folder", r.cluster.Folder())
				break
			}
			r.log.Error("PostgreSQL did not start", "error", err)
		}
	}
}

// leastRoom is what the disk of the database must have left, in bytes, for a database that fails to have another
// reason.
const leastRoom = 16 << 20

// full says whether the disk of the private PostgreSQL has no room left.
func (r *Running) full() bool {
	var disk syscall.Statfs_t
	if r.cluster == nil || syscall.Statfs(r.cluster.Folder(), &disk) != nil {
		return false
	}
	return int64(disk.Bavail)*disk.Bsize < leastRoom
}
