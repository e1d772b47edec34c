// Package stretch makes keys of what people can remember: PINs, passwords and passphrases.
package stretch

import (
	"sync/atomic"

	"golang.org/x/crypto/argon2"
)

// Cost of a key by argon2id (RFC 9106, second recommended option): tens of milliseconds, and much memory.
const (
	passes  = 3
	memory  = 64 * 1024 // KiB
	threads = 4
)

var simulated atomic.Bool

// Simulate makes keys at next to no cost from now on, in this whole program: where workers and their PINs are made up,
// thousands of keys would take most of the time. Other programs cannot open what was locked up with one.
func Simulate() { simulated.Store(true) }

// Key gives a key of so many bytes, always the same for the same secret and salt.
func Key(secret string, salt []byte, size uint32) []byte {
	if simulated.Load() {
		return argon2.IDKey([]byte(secret), salt, 1, 8, 1, size)
	}
	return argon2.IDKey([]byte(secret), salt, passes, memory, threads, size)
}
