package device

import (
	"context"
	"time"

	"github.com/google/uuid"

	"homing/core/fingerprint"
)

// Enrol makes the store a device of central, with a one-time code. While central is open, the code may be empty.
func (s *Store) Enrol(ctx context.Context, central, code, name string) error {
	return s.keeper.Enrol(ctx, central, code, name)
}

// MoveCentral changes the address under which central is reached; it must be the same central.
func (s *Store) MoveCentral(ctx context.Context, address string) error {
	return s.keeper.MoveCentral(ctx, address)
}

// Exchange pushes until the outbox is answered, then pulls to the head. Watch, if it is not nil, is told of the
// progress. An exchange that breaks off has lost nothing: what was answered or stored is kept, and the next one goes
// on from there.
func (s *Store) Exchange(ctx context.Context, watch func(Progress)) (Summary, error) {
	return s.keeper.Exchange(ctx, watch)
}

// Push only pushes.
func (s *Store) Push(ctx context.Context, watch func(Progress)) (Summary, error) {
	return s.keeper.Push(ctx, watch)
}

// Pull only pulls. Unsent changes stay, laid over what comes.
func (s *Store) Pull(ctx context.Context, watch func(Progress)) (Summary, error) {
	return s.keeper.Pull(ctx, watch)
}

// Follow listens to central until the context is done, and pulls when a head has moved beyond what this store has
// pulled: what others did is here within a second. What this store sent itself is no news to it. Whatever breaks off
// the listening, it begins again after a delay, with a pull, so nothing is missed. It sends nothing; [Store.Repeat]
// does. Tell hears of each pull that brought something, and of each failure. An error that waiting does not mend ends
// it.
func (s *Store) Follow(ctx context.Context, tell func(Summary, error)) error {
	return s.keeper.Follow(ctx, tell)
}

// Repeat exchanges again and again until the context is done: first after a random part of the span, so that a fleet
// does not come all at once, then each time the span has passed. When central cannot be reached, it tries again after
// a delay that doubles, with a random part, and never gets longer than the span or a quarter of an hour. Tell hears
// of each run.
//
// With holdBack it does not exchange while the link is metered (see [Store.SetMetered]) and says ErrMetered instead.
//
// An error that waiting does not mend, such as a revoked device or a damaged store, ends it.
func (s *Store) Repeat(ctx context.Context, span time.Duration, holdBack bool, tell func(Summary, error)) error {
	return s.keeper.Repeat(ctx, span, holdBack, tell)
}

// SetMetered notes whether the link that the device has now costs by the byte. Apps know that from their system; this
// package does not ask.
func (s *Store) SetMetered(ctx context.Context, metered bool) error {
	return s.keeper.SetMetered(ctx, metered)
}

// Verify compares what this device holds of each collection with central, by fingerprints: no records travel. It
// pulls first, unless mere is set. With mend, what differs is fetched anew; unsent changes stay on top of it, and a
// record that only this device has is kept, as one that central has lost.
func (s *Store) Verify(ctx context.Context, mere, mend bool) ([]Verified, error) {
	return s.keeper.Verify(ctx, mere, mend)
}

// Fingerprint is that of all records of a collection that the device shows. It equals central's when both hold the
// same.
func (s *Store) Fingerprint(ctx context.Context, collection string) (fingerprint.Set, error) {
	return s.keeper.Fingerprint(ctx, collection)
}

// TurnBack sets the cursor of a collection back: the next exchange pulls again what was accepted since. What is here
// already stays as it is, and nothing unsent is touched. It is for developers who want to see that.
func (s *Store) TurnBack(ctx context.Context, collection string, cursor int64) error {
	return s.keeper.TurnBack(ctx, collection, cursor)
}

// LostRecords lists what central has lost and nobody has offered again: it stems from devices that have not exchanged
// since the restore, or was changed at central itself. When they come, it goes from this list by itself.
// [Store.OfferLost] offers it in this worker's name.
func (s *Store) LostRecords(ctx context.Context) ([]LostRecord, error) {
	return s.keeper.LostRecords(ctx)
}

// OfferLost saves what central has lost of a record as a change of whoever is signed in, dated as the edits were that
// were lost. A counter or a text that others have added to should be offered only when it is certain that they do not
// come any more: their own changes would be added once again.
func (s *Store) OfferLost(ctx context.Context, collection string, id uuid.UUID) error {
	return s.keeper.OfferLost(ctx, collection, id)
}

// DropLost lets go of what central has lost of a record, after writing it to the end of a file, one JSON object a line.
func (s *Store) DropLost(ctx context.Context, collection string, id uuid.UUID, backup string) error {
	return s.keeper.DropLost(ctx, collection, id, backup)
}
