// Package outlet brings what feeds carry to where it goes: to an address, into files, into tables of another database. What is delivered
// may come again, after a cut or a kill, and is then the same or later; each record carries its id and revision by which whoever
// receives it counts once.
package outlet

import (
	"context"
	"errors"
	"fmt"

	"homing/feed"
)

// Batch is a page of a collection on its way.
type Batch struct {
	Collection string // as it is called there
	Round      int    // how often everything has been gone over
	From, To   int64  // positions: of the page before, and of this one
	Items      []feed.Item
}

// Refusal is an item that the destination does not take, though it takes others.
type Refusal struct {
	At     int // among the items
	Reason string
}

// Outlet is a destination.
type Outlet interface {
	// Ready makes ready what is missing there for the collections of a feed.
	Ready(ctx context.Context, parts map[string]*feed.Shaped) error
	// Deliver brings items, in their order. When it returns, the first done of them are safe there or refused; err says why the others are not.
	Deliver(ctx context.Context, batch Batch) (done int, refused []Refusal, err error)
	// Close lets go of the destination.
	Close() error
}

// Sweeper is a destination in which can be found what an earlier round has brought and no later one: a central that was put back does not know of all
// that it had brought.
type Sweeper interface {
	// Sweep lets go of what rounds before this one have brought of a collection, as it is called there.
	Sweep(ctx context.Context, collection string, round int) error
}

// ErrSetUp is an error that no waiting mends: somebody has to change the feed, a secret or the destination.
var ErrSetUp = errors.New("somebody has to see to it")

func setUp(format string, args ...any) error {
	return fmt.Errorf("%s (%w)", fmt.Sprintf(format, args...), ErrSetUp)
}

// Options are what destinations need besides the feed.
type Options struct {
	Folder string                            // for files; empty where central was given none
	Secret func(name string) (string, error) // of destinations
	Source string                            // names central's database
}

// Open opens the destination of a feed.
func Open(f feed.Feed, options Options) (out Outlet, err error) {
	switch {
	case f.To.Hook != nil:
		out, err = openHook(*f.To.Hook, f.Name, options)
	case f.To.Files != nil:
		out, err = openFiles(*f.To.Files, options)
	case f.To.Tables != nil:
		out, err = openTables(*f.To.Tables, f.Name, options)
	default:
		err = setUp("the feed has no destination")
	}
	if err != nil {
		return nil, err // and not a destination that is none
	}
	return out, nil
}
