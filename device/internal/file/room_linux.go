package file

import (
	"math"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// room is how many bytes the disk of a file has left, as far as the system tells.
func room(path string) int64 {
	var disk unix.Statfs_t
	if err := unix.Statfs(filepath.Dir(path), &disk); err != nil {
		return math.MaxInt64
	}
	return int64(disk.Bavail) * disk.Bsize
}
