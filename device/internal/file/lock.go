package file

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"
)

// Lock keeps a second exchange of the same store out, and whatever else must not meet one, in this process and in
// others. The kernel gives the lock back when a process dies.
func (s *File) Lock() (unlock func(), err error) {
	held, err := os.OpenFile(s.Where+".exchange", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("local store: %w", err)
	}
	if taken, err := lockFile(held); err != nil || taken {
		held.Close()
		if taken {
			return nil, ErrBusy
		}
		return nil, fmt.Errorf("local store: %w", err)
	}
	return func() { held.Close() }, nil
}

// How long something that is quickly done waits for an exchange to be through, and how often it looks.
const (
	lockPatience = 10 * time.Second
	lockEvery    = 50 * time.Millisecond
)

// LockSoon is [File.Lock] for what a person waits for: an exchange may be through in a moment.
func (s *File) LockSoon(ctx context.Context) (unlock func(), err error) {
	for until := time.Now().Add(lockPatience); ; {
		unlock, err := s.Lock()
		if !errors.Is(err, ErrBusy) || time.Now().After(until) {
			return unlock, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lockEvery):
		}
	}
}
