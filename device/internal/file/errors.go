package file

import (
	"errors"
	"fmt"
	"strings"

	"github.com/ncruces/go-sqlite3"

	"homing/core/change"
)

// Errors that callers act on. Those of central come from package link.
var (
	ErrNotEnrolled  = errors.New("this store is not enrolled; enrol it with an enrolment code, or attach it if it was detached")
	ErrEnrolled     = errors.New("this store is enrolled already")
	ErrNoCollection = errors.New("no such collection on this device")
	ErrNoRecord     = errors.New("no such record on this device")
	ErrTaken        = errors.New("there is a record with this id already")
	ErrNoChange     = errors.New("no such change of yours on this device")
	ErrNobody       = errors.New("not a worker of this device")
	ErrAmbiguous    = errors.New("several records fit; give more of the id")
	ErrExists       = errors.New("this file is there already")
	ErrNoBackup     = errors.New("there is no such backup")
	ErrBusy         = errors.New("an exchange of this store is running already")
	ErrLocked       = errors.New("another program has been writing to this store for long; nothing of this was saved, try again")
	ErrGeneration   = errors.New("central's database is not the one that this store was enrolled with; nothing was sent")
	ErrFull         = errors.New("the disk is full; nothing of this was saved")
	ErrDamaged      = errors.New("the file is not a local store, or it is damaged")
	ErrNotAllowed   = errors.New("not allowed")
	ErrClock        = errors.New("this device's clock is wrong; set it, and save again")
	ErrSignedOut    = errors.New("nobody is signed in on this device; let a worker of it sign in")
	ErrSecret       = errors.New("this is not the PIN or password of the worker")
	ErrSlowDown     = errors.New("too many wrong tries")
	ErrTooOld       = errors.New("the records are too old to be edited; run an exchange first")
	ErrHasChildren  = errors.New("other records still belong to this one")
	ErrUnsent       = errors.New("there are changes that central has not accepted")
	ErrErased       = errors.New("central asked for this store to be erased, and it is gone; all of it had been accepted")
	ErrRevoked      = errors.New("this device was revoked; it gets nothing more from central")
)

// InvalidError says why a record cannot be saved, field by field. Nothing was saved.
type InvalidError struct {
	Collection string
	Reasons    []change.Reason
}

// Error says all reasons in one line.
func (e *InvalidError) Error() string {
	parts := make([]string, len(e.Reasons))
	for n, reason := range e.Reasons {
		parts[n] = reason.Message
		if reason.Field != "" {
			parts[n] = reason.Field + ": " + reason.Message
		}
	}
	return fmt.Sprintf("not saved in %s: %s", e.Collection, strings.Join(parts, "; "))
}

// StoreError gives the errors of SQLite that people can do something about their own words.
func StoreError(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, sqlite3.FULL):
		return fmt.Errorf("%w (%v)", ErrFull, err)
	case errors.Is(err, sqlite3.BUSY):
		return fmt.Errorf("%w (%v)", ErrLocked, err)
	case errors.Is(err, sqlite3.NOTADB), errors.Is(err, sqlite3.CORRUPT):
		return fmt.Errorf("%w (%v)", ErrDamaged, err)
	}
	return err
}

// leastRoom is what a disk must have left, in bytes, for its errors to be of another kind.
const leastRoom = 256 << 10

// diskError gives an error of SQLite its words where the reason is that the disk of a file has no room left: the
// files beside the database then only say that something could not be read or written.
func diskError(path string, err error) error {
	err = StoreError(err)
	if errors.Is(err, sqlite3.IOERR) && room(path) < leastRoom {
		return fmt.Errorf("%w (%v)", ErrFull, err)
	}
	return err
}
