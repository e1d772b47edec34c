package rehearse

import (
	"context"
	"time"

	"github.com/google/uuid"

	"homing/conformance/driver"
	"homing/core/definition"
	"homing/core/query"
	"homing/device"
)

// store is what the workers of a rehearsal do with a local store: one of package device, or one that a program of its
// own works on.
type store interface {
	Enrol(ctx context.Context, central, code, name string) error
	Exchange(ctx context.Context, watch func(device.Progress)) (device.Summary, error)
	Add(ctx context.Context, collection string, fields device.Fields) (device.Record, error)
	// Edit and Remove are by somebody who had saw before them, or what the device has now where it is nil.
	Edit(ctx context.Context, collection string, id uuid.UUID, fields device.Fields, saw *device.Record) (device.Record, error)
	Remove(ctx context.Context, collection string, id uuid.UUID, saw *device.Record) error
	Together(ctx context.Context, steps []driver.Step) ([]device.Record, error)
	Complete(ctx context.Context, collection string, id uuid.UUID) (device.Record, error)
	Reopen(ctx context.Context, collection string, id uuid.UUID) (device.Record, error)
	Settle(ctx context.Context, collection string, id uuid.UUID, field string, value any) (device.Record, error)
	Review(ctx context.Context) ([]device.Queued, error)
	SendAgain(ctx context.Context, number int64) (device.Record, error)
	Discard(ctx context.Context, number int64, backup string) error
	Get(ctx context.Context, collection string, id uuid.UUID) (device.Record, error)
	Find(ctx context.Context, collection string, ask driver.Find) (device.Found, error)
	Collections(ctx context.Context) ([]device.CollectionStatus, error)
	Collection(ctx context.Context, name string) (*definition.Collection, error)
	Fingerprint(ctx context.Context, collection string) (driver.Held, error)
	People(ctx context.Context) ([]device.Worker, error)
	SetSecret(ctx context.Context, old, secret string) error
	SignIn(ctx context.Context, name, secret string) error
	SignOut(ctx context.Context) (unsent int, err error)
	Join(ctx context.Context, code, secret string) (string, error)
	LostRecords(ctx context.Context) ([]device.LostRecord, error)
	OfferLost(ctx context.Context, collection string, id uuid.UUID) error
	DropLost(ctx context.Context, collection string, id uuid.UUID, backup string) error
	Backup(ctx context.Context, path string) error
	Backups(ctx context.Context) ([]string, error)
	Listen() (<-chan device.Changed, func())
	Kill() error
	Close() error
}

// own is a store of package device in this process.
type own struct{ *device.Store }

func (o own) Add(ctx context.Context, collection string, fields device.Fields) (device.Record, error) {
	return o.Store.Add(ctx, collection, fields)
}

func (o own) Complete(ctx context.Context, collection string, id uuid.UUID) (device.Record, error) {
	return o.Store.Complete(ctx, collection, id)
}

func (o own) Reopen(ctx context.Context, collection string, id uuid.UUID) (device.Record, error) {
	return o.Store.Reopen(ctx, collection, id)
}

func (o own) Edit(ctx context.Context, collection string, id uuid.UUID, fields device.Fields,
	saw *device.Record) (device.Record, error) {
	return o.Store.Edit(ctx, collection, id, fields, seeing(saw)...)
}

func (o own) Remove(ctx context.Context, collection string, id uuid.UUID, saw *device.Record) error {
	return o.Store.Remove(ctx, collection, id, seeing(saw)...)
}

func seeing(saw *device.Record) []device.SaveOption {
	if saw == nil {
		return nil
	}
	return []device.SaveOption{device.Saw(*saw)}
}

func (o own) Together(ctx context.Context, steps []driver.Step) ([]device.Record, error) {
	return driver.Together(ctx, o.Store, steps)
}

func (o own) Find(ctx context.Context, collection string, ask driver.Find) (device.Found, error) {
	return o.Store.Find(ctx, collection, query.Ask{Where: ask.Where, Search: ask.Search, Sort: ask.Sort, Limit: ask.Limit, Offset: ask.Offset})
}

func (o own) Fingerprint(ctx context.Context, collection string) (driver.Held, error) {
	set, err := o.Store.Fingerprint(ctx, collection)
	return driver.Held{Count: set.Count(), Fingerprint: set.String()}, err
}

func (o own) Backups(context.Context) ([]string, error) { return o.Store.Backups() }

// Kill leaves the store as a kill would: the transaction that was under way is not there.
func (o own) Kill() error { return o.Close() }

// deviceOptions are the clocks, ids and network of a unit.
func (w *world) deviceOptions(d *unit) device.Options {
	return device.Options{
		Now:       func() time.Time { return w.clock().Add(d.skew) },
		Tick:      func() (string, time.Duration) { return d.boot(), w.clock().Sub(d.booted) },
		Transport: network{w, d},
		NewID:     func() uuid.UUID { w.mu.Lock(); defer w.mu.Unlock(); return w.newID() },
	}
}

// driven says whether a program works on the store of a unit. A copy is worked on by what its first was.
func (w *world) driven(d *unit) bool {
	return len(w.options.Driver.Args) > 0 && w.options.Driven(int(d.name[len(d.name)-1]-'A'))
}

func (w *world) openStore(ctx context.Context, d *unit) (store, error) {
	if w.driven(d) {
		return driver.Open(ctx, w.options.Driver, d.path, w.deviceOptions(d))
	}
	s, err := device.Open(ctx, d.path, w.deviceOptions(d))
	return own{s}, err
}

// restoreStore makes a store of a backup, as the guide says.
func (w *world) restoreStore(ctx context.Context, d *unit, backup, path string) error {
	if w.driven(d) {
		return driver.Restore(ctx, w.options.Driver, backup, path, w.deviceOptions(d))
	}
	return device.Restore(ctx, backup, path, device.Options{NewID: w.newID})
}
