// Package central is the service's work: it keeps definitions, accepts changes, hands out positions, and delivers what
// changed. It knows nothing of HTTP.
//
// Each part of the work has a room of its own: changes is what becomes of a change, pulls what a device is sent,
// people who is who, finding what is there now, past what was. They stand on postgres, and the first two on memory as
// well, for rehearsals. What the rooms decide by stands in the core. A [Central] is all of them on one database.
package central

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"github.com/google/uuid"

	"homing/central/changes"
	"homing/central/fault"
	"homing/central/feeds"
	"homing/central/finding"
	"homing/central/fleet"
	"homing/central/past"
	"homing/central/people"
	"homing/central/postgres"
	"homing/central/pulls"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/rights"
	"homing/wire"
)

// Options are what [Open] needs.
type Options struct {
	Database    string // PostgreSQL connection URL
	Connections int    // most at once; 0 means 16
	Log         *slog.Logger
	Now         func() time.Time // central's clock; nil means the machine's
	MaxChanges  int              // in one batch; 0 means the protocol's bound
	PageBytes   int              // of one page of a pull, before compression; 0 means 1 MiB
}

// Central is an open central. It is safe for use by several goroutines, and several of them, in several processes, may
// work on one database.
type Central struct {
	*changes.Changes
	*pulls.Pulls
	*people.People
	*finding.Finding
	*past.Past
	*feeds.Feeds
	db *postgres.DB
}

// The things and people that the rooms speak of.
type (
	Person      = fleet.Person
	Device      = fleet.Device
	Worker      = fleet.Worker
	Exchange    = fleet.Exchange
	Event       = fleet.Event
	AskedErrand = fleet.AskedErrand
)

// Everything is a person who may see and do everything, under a name.
func Everything(name string) Person { return fleet.Everything(name) }

// Open connects to the database, brings its schema up to date and starts listening for other instances.
func Open(ctx context.Context, options Options) (*Central, error) {
	if options.Connections == 0 {
		options.Connections = 16
	}
	if options.MaxChanges == 0 {
		options.MaxChanges = wire.MaxBatchChanges
	}
	if options.PageBytes == 0 {
		options.PageBytes = DefaultPageBytes
	}
	if options.Now == nil {
		options.Now = time.Now
	}
	if options.Log == nil {
		options.Log = slog.New(slog.DiscardHandler)
	}
	db, err := postgres.Open(ctx, postgres.Options{Database: options.Database, Connections: options.Connections,
		Log: options.Log, Now: options.Now})
	if err != nil {
		return nil, err
	}
	found, pages, who := finding.New(db), pulls.New(db, options.PageBytes, db.Now), people.New(db)
	return &Central{Changes: changes.New(db, options.MaxChanges, options.Log), Pulls: pages,
		People: who, Finding: found, Past: past.New(db, found), Feeds: feeds.New(db, pages, who, options.Log), db: db}, nil
}

// DefaultPageBytes is about how much a page of a pull holds, before compression.
const DefaultPageBytes = 1 << 20

// Close stops listening and leaves the database.
func (c *Central) Close() error { return c.db.Close() }

// Ready says whether the database answers.
func (c *Central) Ready(ctx context.Context) error {
	if err := c.db.PingContext(ctx); err != nil {
		return fmt.Errorf("the database does not answer: %w", err)
	}
	return nil
}

// Generation is the identity of central's database.
func (c *Central) Generation() uuid.UUID {
	now, _ := c.db.Generations()
	return now
}

// Source is the incarnation under which central itself writes.
func (c *Central) Source() uuid.UUID { return c.db.Source() }

// Secret is what central signs its seals with.
func (c *Central) Secret() []byte { return c.db.Secret() }

// SealTo is the public key for which devices seal what only central may read.
func (c *Central) SealTo() []byte { return changes.SealTo(c.db.Secret()) }

// Earlier are the generations that the database had before it was restored, the latest last.
func (c *Central) Earlier() []uuid.UUID {
	_, earlier := c.db.Generations()
	return earlier
}

// Names are the identity of central's database, and those that it had before it was restored, the latest last.
func (c *Central) Names() (now uuid.UUID, earlier []uuid.UUID) { return c.db.Generations() }

// Told is what a device is told of definitions, and of who its workers are.
func (c *Central) Told(ctx context.Context, from Device) (wire.Definitions, error) {
	all, err := c.Definitions(ctx)
	if err != nil {
		return wire.Definitions{}, err
	}
	told := wire.Definitions{Definitions: all, Rules: MergeRules(all), Territories: from.Territories, People: from.People,
		Sight: from.People.Digest(), SealTo: c.SealTo()}
	if told.Settings, err = c.SettingsOf(ctx, from); err != nil {
		return told, err
	}
	told.Digest, err = Digest(told)
	return told, err
}

// MergeRules are those that hold, by collection and path of a field or of a part of one.
func MergeRules(all []definition.Definition) map[string]map[string]merge.Rule {
	rules := map[string]map[string]merge.Rule{}
	for _, d := range all {
		rules[d.Collection] = d.MergeRules()
	}
	return rules
}

// Recognise looks at the seals that a device shows. When they tell that the database was put back to an earlier
// state, it gets a new generation, and the device is told to begin anew.
func (c *Central) Recognise(ctx context.Context, shown pulls.Shown) error {
	return Recognise(ctx, c.Pulls, c.Changes, c.Generation(), shown)
}

// Recognise is [Central.Recognise] over the rooms that it takes.
func Recognise(ctx context.Context, p *pulls.Pulls, c *changes.Changes, generation uuid.UUID, shown pulls.Shown) error {
	since, displaced, err := p.Displaced(ctx, shown)
	if err != nil || !displaced {
		return err
	}
	if err := c.MoveOn(ctx, since, generation); err != nil {
		return err
	}
	return fault.Fail(fault.Moved, "central's database was put back to an earlier state, as this device shows; it "+
		"has a new generation, begin the exchange anew")
}

// Now is central's clock.
func (c *Central) Now() time.Time { return c.db.Now() }

// Listen gives the events from now on, and a function that ends it. The channel is never closed.
func (c *Central) Listen() (<-chan Event, func()) { return c.db.Listen() }

// Collection gives one definition, compiled.
func (c *Central) Collection(ctx context.Context, name string) (*definition.Collection, error) {
	return c.db.Collection(ctx, name)
}

// Definitions gives the definitions of all collections, by name.
func (c *Central) Definitions(ctx context.Context) ([]definition.Definition, error) {
	compiled, err := c.db.Definitions(ctx)
	if err != nil {
		return nil, err
	}
	return definition.Sorted(compiled), nil
}

// OpenName is the worker that everybody is while central is open.
const OpenName = people.OpenName

// All is the key of whoever covers every territory.
const All = rights.All
