// Package fingerprint tells whether two sides hold the same records without moving them. The fingerprint of a set of
// records does not depend on the order in which they are read, so both sides can compute it in one pass of their own.
package fingerprint

import (
	"crypto/sha256"
	"encoding/hex"

	"github.com/google/uuid"
)

// Set is the fingerprint of a set of records. The zero value is the fingerprint of none.
type Set struct {
	sum   [sha256.Size]byte
	count int
}

// Add takes one record into the set: its id and its fields as one canonical JSON object. Adding the same record twice
// takes it out again, and the count tells.
func (s *Set) Add(id uuid.UUID, fields []byte) {
	hash := sha256.New()
	hash.Write(id[:])
	hash.Write(fields)
	for n, b := range hash.Sum(nil) {
		s.sum[n] ^= b
	}
	s.count++
}

// Count is how many records were added.
func (s *Set) Count() int { return s.count }

// String is the fingerprint, short enough to compare by eye.
func (s *Set) String() string { return hex.EncodeToString(s.sum[:6]) }

// Bucket sorts ids into 256 parts of about the same size, so that two sides that do not agree find out where with
// little to compare: it is the last two hexadecimal digits, which are random in a UUIDv7.
func Bucket(id uuid.UUID) string { return hex.EncodeToString(id[15:]) }
