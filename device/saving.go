package device

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"

	"homing/device/internal/save"
)

// Add saves a new record. It returns when record and change are on the disk. With [As], the record has an id of the
// caller's.
func (s *Store) Add(ctx context.Context, collection string, fields Fields, options ...SaveOption) (Record, error) {
	return s.keeper.Add(ctx, collection, fields, options...)
}

// AddMany saves new records of one collection, as many as come at once from a box that measures: with one write to the disk. Each stands by itself. It returns
// when all are on the disk that are in order, with their ids; the others have no id, and an error by their place.
func (s *Store) AddMany(ctx context.Context, collection string, rows []Fields) (ids []uuid.UUID, wrong map[int]error, err error) {
	return s.keeper.AddMany(ctx, collection, rows)
}

// Totals gives what was added by [Store.AddMany] over a span of up to a day that ends now, by the device's clock: how many records, and of each field that
// holds numbers the sum, the least and the most. It is told also of records that have left the device, and only of what
// the worker has added who is signed in.
func (s *Store) Totals(ctx context.Context, collection string, over time.Duration) ([]Total, error) {
	return s.keeper.Totals(ctx, collection, over)
}

// Room gives the bytes that the disk of the store has left; negative where the system does not tell.
func (s *Store) Room() int64 { return s.keeper.Room() }

// As gives a record that is added an id that was made elsewhere: a UUIDv7 (RFC 9562). Where there is a record with it
// already, removed or not, the add fails with [ErrTaken].
func As(id uuid.UUID) SaveOption { return save.As(id) }

// Edit saves new values of some fields; the others stay. A nil value clears a field. When nothing differs from what
// is there, nothing is saved. With [Saw], what others have done since is kept or not by the rules of the collection,
// as at central.
func (s *Store) Edit(ctx context.Context, collection string, id uuid.UUID, fields Fields,
	options ...SaveOption) (Record, error) {
	return s.keeper.Edit(ctx, collection, id, fields, options...)
}

// Saw says what the author of an edit or a removal had before them: the record as it was read. A form may be open
// while an exchange brings news; what came since is not overwritten by what the form still shows. Without it, the
// author is taken to have seen what this device has now.
func Saw(r Record) SaveOption { return save.Saw(r) }

// Remove removes a record from this device at once, and from everywhere when central has taken the removal. With
// [Saw], an edit that the remover has not seen may outlive it: then the record stays.
func (s *Store) Remove(ctx context.Context, collection string, id uuid.UUID, options ...SaveOption) error {
	return s.keeper.Remove(ctx, collection, id, options...)
}

// Complete marks a record complete in the name of whoever is signed in: what its definition requires is checked now. Of collections
// whose coverage says so.
func (s *Store) Complete(ctx context.Context, collection string, id uuid.UUID, options ...SaveOption) (Record, error) {
	return s.keeper.Complete(ctx, collection, id, options...)
}

// Reopen takes the mark away that a record is complete, by whoever may.
func (s *Store) Reopen(ctx context.Context, collection string, id uuid.UUID, options ...SaveOption) (Record, error) {
	return s.keeper.Reopen(ctx, collection, id, options...)
}

// Group saves all that work does, or nothing of it: when work fails, nothing is saved, and when central refuses one
// of the changes, it takes none of them. Mending one of them sends all of them again. Work must use the group and not
// the store.
func (s *Store) Group(ctx context.Context, work func(*Group) error) error {
	return s.keeper.Group(ctx, work)
}

// Settle gives a disputed field the value that it is to have, be it one of those in dispute or another. It works
// without signal: settling is a change like any other, with its author, and goes to central with the next exchange.
// If somebody else has settled it meanwhile, theirs stands and this one opens the conflict anew.
func (s *Store) Settle(ctx context.Context, collection string, id uuid.UUID, field string, value any) (Record, error) {
	return s.keeper.Settle(ctx, collection, id, field, value)
}

// Review lists what central has not accepted yet of the changes of whoever is signed in, in the order in which they
// will be sent, field by field from what to what. Those of others on the same device are sealed for them;
// [Store.People] counts them.
func (s *Store) Review(ctx context.Context) ([]Queued, error) {
	return s.keeper.Review(ctx)
}

// SendAgain offers central once more what it has refused of a record, as it is: its rights or its definition may have
// changed since. The next exchange sends it. What of it has given way to others meanwhile is no part of it any more;
// the Decisions of the record say so.
func (s *Store) SendAgain(ctx context.Context, number int64) (Record, error) {
	return s.keeper.SendAgain(ctx, number)
}

// Twins gives a record that central has refused to add since its key is taken, by the number of the refused change, and
// the one on this device that has the key.
func (s *Store) Twins(ctx context.Context, number int64) (refused, first Record, err error) {
	return s.keeper.Twins(ctx, number)
}

// Unite makes one record of two that were made with one key: what central has refused to add becomes an edit of the
// record that has the key, and what refers to it refers to that one. Values that the first lacks are filled in; where
// both have one, the first's stays, but for the fields in take. All that was refused is first written to the end of a
// file, as by [Store.Discard].
func (s *Store) Unite(ctx context.Context, number int64, take []string, backup string) (Record, error) {
	return s.keeper.Unite(ctx, number, take, backup)
}

// ReadGivenUp gives the lines of a file to which [Store.Discard], [Store.Unite] or [Store.DropLost] has written. An encrypted store
// writes them sealed; it, and one that was restored from a backup of it, can read them.
func (s *Store) ReadGivenUp(path string) ([]json.RawMessage, error) {
	return s.keeper.ReadLines(path)
}

// Discard gives up what central has refused of a record, with what hangs on it and what was refused as one group with
// it: each record is then as central has it, or gone where central never had it. What is given up is first written to
// the end of a file, one JSON object a line.
func (s *Store) Discard(ctx context.Context, number int64, backup string) error {
	return s.keeper.Discard(ctx, number, backup)
}
