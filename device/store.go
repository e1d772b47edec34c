// Package device is the library for apps that collect data where there is no signal. A [Store] is one local store: it
// keeps the records that its worker needs, takes edits at once and for good, and exchanges them with central when
// central can be reached.
//
//	store, err := device.Open(ctx, "crew.db", device.Options{})
//	err = store.Enrol(ctx, "http://127.0.0.1:8400", "ABCD-EFGH-IJKL-MNOP", "Valley tablet")
//	_, err = store.Exchange(ctx, nil)
//	bridge, err := store.Add(ctx, "structures", device.Fields{"name": "Long Bridge", "kind": "bridge"})
//	bridge, err = store.Edit(ctx, "structures", bridge.ID, device.Fields{"state": "closed"})
//	_, err = store.Exchange(ctx, nil) // in signal again
//
// Each save validates the record and writes change and record in one transaction. What central has not answered stays
// in the outbox through crashes, cut connections and refusals.
package device

import (
	"context"
	"errors"

	"github.com/google/uuid"

	"homing/device/internal/exchange"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/device/internal/people"
	"homing/device/internal/save"
	"homing/device/internal/upkeep"
)

// Store is one local store. It is safe for use by several goroutines, and several processes may open the same file.
type Store struct {
	keeper *upkeep.Keeper // each room below has what it adds to the one before: file, hold, people, save, exchange, upkeep
}

// Open opens the local store in a file and makes the file if there is none. A new store must be enrolled before it
// can hold records.
func Open(ctx context.Context, path string, options Options) (*Store, error) {
	f, err := file.Open(ctx, path, options)
	if err != nil {
		return nil, err
	}
	shelf, err := hold.New(ctx, f)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return &Store{upkeep.New(exchange.New(save.New(people.New(shelf))))}, nil
}

// Close closes the store. Nothing needs to be saved before.
func (s *Store) Close() error {
	return s.keeper.Close()
}

// Path is the store's file.
func (s *Store) Path() string {
	return s.keeper.Path()
}

// Listen gives the changes of records that this Store makes from now on, each once: those that are saved through it
// and those that its exchanges bring, with what follows from them, such as a parent whose total is another. Stop ends
// it and closes the channel. A listener that does not keep up loses changes and is told so; nobody waits for it. What
// other processes change in the same file is not heard.
func (s *Store) Listen() (changes <-chan Changed, stop func()) {
	return s.keeper.Listen()
}

// Status gives the state of the store; it needs no signal.
func (s *Store) Status(ctx context.Context) (Status, error) {
	return s.keeper.Status(ctx)
}

// Log gives the latest exchanges of this store, the last one first.
func (s *Store) Log(ctx context.Context, limit int) ([]Logged, error) {
	return s.keeper.Log(ctx, limit)
}

// Carried lists what an exchange has carried, in the order in which it was answered or came. It is kept for 30 days,
// or 50,000 changes and records; records of a first load are not kept one by one. What central has refused of others
// who use this device is sealed for them.
func (s *Store) Carried(ctx context.Context, exchange uuid.UUID) ([]Carried, error) {
	return s.keeper.Carried(ctx, exchange)
}

// History lists what has travelled of a record that is here, the latest first: changes of this device as they were
// answered, and states of the record as they came. It goes back as far as [Store.Carried] does; all of it is at central.
func (s *Store) History(ctx context.Context, collection string, id uuid.UUID) ([]Carried, error) {
	return s.keeper.History(ctx, collection, id)
}
