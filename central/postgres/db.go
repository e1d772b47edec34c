// Package postgres is central's tables on PostgreSQL. It keeps and finds; what becomes of changes and what devices
// are sent is decided elsewhere, over the same small set of tables that package memory keeps in maps. The two are to
// be read side by side.
package postgres

import (
	"context"
	"crypto/rand"
	"database/sql"
	"embed"
	"fmt"
	"io/fs"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"homing/central/changes"
	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/pulls"
	"homing/core/definition"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Options are what [Open] needs.
type Options struct {
	Database    string // PostgreSQL connection URL
	Connections int    // most at once
	Log         *slog.Logger
	Now         func() time.Time // central's clock
}

// DB is the database. It is safe for use by several goroutines, and several processes may work on one database.
type DB struct {
	*sqlx.DB
	log  *slog.Logger
	now  func() time.Time
	live *live

	mu         sync.Mutex // guards the rest
	generation uuid.UUID
	earlier    []uuid.UUID // generations before this one, the latest last
	source     uuid.UUID   // incarnation of what is written at central itself
	secret     []byte      // of the seals
	compiled   map[string]*definition.Collection
}

// Open connects to the database, brings its schema up to date and starts listening for other instances.
func Open(ctx context.Context, options Options) (*DB, error) {
	config, err := pgx.ParseConfig(options.Database)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	// A plan made while a table was small would be kept while it grows, and read all of it for each batch.
	config.RuntimeParams["plan_cache_mode"] = "force_custom_plan"
	config.RuntimeParams["jit"] = "off" // it compiles for longer than a page takes
	config.RuntimeParams["application_name"] = "homing"
	d := &DB{DB: sqlx.NewDb(stdlib.OpenDB(*config), "pgx"), log: options.Log, now: options.Now,
		compiled: map[string]*definition.Collection{}}
	d.SetMaxOpenConns(options.Connections)
	d.SetMaxIdleConns(options.Connections)
	if err := d.prepare(ctx); err != nil {
		d.DB.Close()
		return nil, err
	}
	d.live = listen(options.Database, options.Log, func(event fleet.Event) {
		if !event.Moved {
			return
		}
		if err := d.readIdentity(context.Background()); err != nil {
			d.log.Error("the database has a new generation, which could not be read", "error", err)
		}
	})
	return d, nil
}

// Close stops listening and leaves the database.
func (d *DB) Close() error {
	d.live.stop()
	return d.DB.Close()
}

// Now is central's clock, to the microsecond that PostgreSQL keeps.
func (d *DB) Now() time.Time { return d.now().UTC().Truncate(time.Microsecond) }

// NewID is [changes.Ground.NewID].
func (d *DB) NewID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// Log is central's log.
func (d *DB) Log() *slog.Logger { return d.log }

// Source is the incarnation under which central itself writes.
func (d *DB) Source() uuid.UUID {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.source
}

// Secret is what central signs its seals with.
func (d *DB) Secret() []byte {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.secret
}

// Generations are the identity of the database, and those that it had before it was restored, the latest last.
func (d *DB) Generations() (now uuid.UUID, earlier []uuid.UUID) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.generation, d.earlier
}

func (d *DB) prepare(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, d.DB.DB, files, goose.WithSlog(d.log))
	if err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	// Instances that start together take turns.
	lock, err := d.Connx(ctx)
	if err != nil {
		return fmt.Errorf("the database does not answer: %w", err)
	}
	defer lock.Close()
	const migrating = 0x686f6d696e67 // "homing"
	if _, err := lock.ExecContext(ctx, `SELECT pg_advisory_lock($1)`, migrating); err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	defer lock.ExecContext(context.WithoutCancel(ctx), `SELECT pg_advisory_unlock($1)`, migrating)
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	if _, err := d.ExecContext(ctx, `INSERT INTO identity (generation, direct, secret) VALUES ($1, $2, $3)
			ON CONFLICT DO NOTHING`,
		uuid.Must(uuid.NewV7()), uuid.Must(uuid.NewV7()), []byte(rand.Text())); err != nil {
		return err
	}
	return d.readIdentity(ctx)
}

// readIdentity reads what the database is called.
func (d *DB) readIdentity(ctx context.Context) error {
	var earlier []uuid.UUID
	if err := d.SelectContext(ctx, &earlier, `SELECT generation FROM generations ORDER BY place`); err != nil {
		return err
	}
	var generation, source uuid.UUID
	var secret []byte
	if err := d.QueryRowxContext(ctx, `SELECT generation, direct, secret FROM identity`).Scan(&generation, &source,
		&secret); err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.generation, d.earlier, d.source, d.secret = generation, earlier, source, secret
	return nil
}

// Tx is one transaction on the database. It is [changes.Tables] and [pulls.Tables].
type Tx struct {
	*sqlx.Tx
	db *DB
}

// The advisory locks of transactions. Whoever changes records shares the first, whoever defines has it alone; so the
// definitions that changes are checked against are those that are there at the commit, and no two of them wait for
// each other.
const (
	lockShared = `SELECT pg_advisory_xact_lock_shared(7071)`
	lockAlone  = `SELECT pg_advisory_xact_lock(7071)`
)

// Change is [changes.Ground.Change].
func (d *DB) Change(ctx context.Context, work func(changes.Tables) error) error {
	return d.locked(ctx, lockShared, work)
}

// Define is [changes.Ground.Define].
func (d *DB) Define(ctx context.Context, work func(changes.Tables) error) error {
	return d.locked(ctx, lockAlone, work)
}

func (d *DB) locked(ctx context.Context, lock string, work func(changes.Tables) error) error {
	return d.Within(ctx, func(t *Tx) error {
		if _, err := t.ExecContext(ctx, lock); err != nil {
			return err
		}
		return work(t)
	})
}

// Look is [changes.Ground.Look].
func (d *DB) Look(ctx context.Context, work func(changes.Tables) error) error {
	return d.Snapshot(ctx, func(t *Tx) error { return work(t) })
}

// Deliver is [pulls.Ground.Deliver].
func (d *DB) Deliver(ctx context.Context, work func(pulls.Tables) error) error {
	return d.Snapshot(ctx, func(t *Tx) error { return work(t) })
}

// Within runs work in one transaction. It is tried again when PostgreSQL broke it off in favour of another, or when
// work itself says so with [fault.ErrRaced].
func (d *DB) Within(ctx context.Context, work func(*Tx) error) error {
	return d.tries(ctx, nil, work)
}

// Snapshot runs work on what is there at one moment.
func (d *DB) Snapshot(ctx context.Context, work func(*Tx) error) error {
	return d.tries(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true}, work)
}

func (d *DB) tries(ctx context.Context, options *sql.TxOptions, work func(*Tx) error) error {
	const tries = 10
	var err error
	for try := range tries {
		if try > 0 {
			select {
			case <-time.After(time.Duration(try*try) * 5 * time.Millisecond):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if err = d.once(ctx, options, work); !fault.Again(err) {
			return err
		}
		d.log.Debug("transaction tried again", "error", err)
	}
	return err
}

func (d *DB) once(ctx context.Context, options *sql.TxOptions, work func(*Tx) error) error {
	tx, err := d.BeginTxx(ctx, options)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := work(&Tx{tx, d}); err != nil {
		return err
	}
	return tx.Commit()
}

// Texts are ids as PostgreSQL reads them in an array.
func Texts(ids []uuid.UUID) []string {
	all := make([]string, len(ids))
	for n, id := range ids {
		all[n] = id.String()
	}
	return all
}
