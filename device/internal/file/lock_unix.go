//go:build unix

package file

import (
	"errors"
	"os"
	"syscall"
)

// lockFile locks a file until it is closed, or says that somebody else has.
func lockFile(file *os.File) (taken bool, err error) {
	err = syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	if errors.Is(err, syscall.EWOULDBLOCK) {
		return true, nil
	}
	return false, err
}
