package file

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// lockFile locks a file until it is closed, or says that somebody else has.
func lockFile(file *os.File) (taken bool, err error) {
	const all = ^uint32(0)
	err = windows.LockFileEx(windows.Handle(file.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, all, all,
		&windows.Overlapped{})
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) || errors.Is(err, windows.ERROR_IO_PENDING) {
		return true, nil
	}
	return false, err
}
