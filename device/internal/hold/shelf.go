// Package hold is what a device keeps: records as central said last, with what is unsent laid over them, by the
// definitions that the device has.
package hold

import (
	"context"
	"sync"
	"sync/atomic"

	"homing/core/definition"
	"homing/device/internal/file"
)

// Shelf is the records that a store's file holds.
type Shelf struct {
	*file.File

	mu       sync.Mutex
	compiled map[string]*definition.Collection // by the definition's text; guarded by mu
	texts    map[string]*texts                 // by collection; guarded by mu
	computes atomic.Bool                       // some definition has computed fields
}

// New gives the records of a file. From then on what is computed is worked out with each transaction that writes.
func New(ctx context.Context, f *file.File) (*Shelf, error) {
	s := &Shelf{File: f, compiled: map[string]*definition.Collection{}, texts: map[string]*texts{}}
	f.Finish = s.ComputeMarked
	return s, s.noteComputes(ctx, s.DB)
}
