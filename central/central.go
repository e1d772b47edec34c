// Package central is the service's work on PostgreSQL: it keeps definitions, accepts changes, hands out positions, and
// delivers what changed. It knows nothing of HTTP.
//
// Every accepted change goes through [Central.accept], whether it came in a batch or was made at central itself, so the same
// rules hold at every door.
package central

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"homing/core/definition"
)

//go:embed migrations/*.sql
var migrations embed.FS

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
	db         *sqlx.DB
	options    Options
	log        *slog.Logger
	generation uuid.UUID
	earlier    []uuid.UUID // generations before this one, the latest last
	direct     uuid.UUID
	live       *live

	mu       sync.Mutex
	compiled map[string]*definition.Collection // by the definition's text; filled on demand, guarded by mu
}

// Open connects to the database, brings its schema up to date and starts listening for other instances.
func Open(ctx context.Context, options Options) (*Central, error) {
	if options.Connections == 0 {
		options.Connections = 16
	}
	if options.PageBytes == 0 {
		options.PageBytes = 1 << 20
	}
	if options.Now == nil {
		options.Now = time.Now
	}
	if options.Log == nil {
		options.Log = slog.New(slog.DiscardHandler)
	}
	config, err := pgx.ParseConfig(options.Database)
	if err != nil {
		return nil, fmt.Errorf("database: %w", err)
	}
	// A plan made while a table was small would be kept while it grows, and read all of it for each batch.
	config.RuntimeParams["plan_cache_mode"] = "force_custom_plan"
	config.RuntimeParams["application_name"] = "homing"
	db := sqlx.NewDb(stdlib.OpenDB(*config), "pgx")
	db.SetMaxOpenConns(options.Connections)
	db.SetMaxIdleConns(options.Connections)
	c := &Central{db: db, options: options, log: options.Log, compiled: map[string]*definition.Collection{}}
	if err := c.prepare(ctx); err != nil {
		db.Close()
		return nil, err
	}
	c.live = listen(options.Database, options.Log)
	return c, nil
}

// Close stops listening and leaves the database.
func (c *Central) Close() error {
	c.live.stop()
	return c.db.Close()
}

// Ready says whether the database answers.
func (c *Central) Ready(ctx context.Context) error {
	if err := c.db.PingContext(ctx); err != nil {
		return fmt.Errorf("the database does not answer: %w", err)
	}
	return nil
}

// Generation is the identity of central's database.
func (c *Central) Generation() uuid.UUID { return c.generation }

// Earlier are the generations that the database had before it was restored, the latest last.
func (c *Central) Earlier() []uuid.UUID { return c.earlier }

// Now is central's clock, to the microsecond that PostgreSQL keeps.
func (c *Central) Now() time.Time { return c.options.Now().UTC().Truncate(time.Microsecond) }

func (c *Central) prepare(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, c.db.DB, files, goose.WithSlog(c.log))
	if err != nil {
		return fmt.Errorf("migrations: %w", err)
	}
	// Instances that start together take turns.
	lock, err := c.db.Connx(ctx)
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
	if _, err := c.db.ExecContext(ctx, `INSERT INTO identity (generation, direct) VALUES ($1, $2) ON CONFLICT DO NOTHING`,
		uuid.Must(uuid.NewV7()), uuid.Must(uuid.NewV7())); err != nil {
		return err
	}
	if err := c.db.SelectContext(ctx, &c.earlier, `SELECT generation FROM generations ORDER BY place`); err != nil {
		return err
	}
	return c.db.QueryRowxContext(ctx, `SELECT generation, direct FROM identity`).Scan(&c.generation, &c.direct)
}

// within runs work in one transaction. It is tried again when PostgreSQL broke it off in favour of another, or when work
// itself says so with [errRaced].
func (c *Central) within(ctx context.Context, options *sql.TxOptions, work func(*sqlx.Tx) error) error {
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
		if err = c.once(ctx, options, work); !again(err) {
			return err
		}
		c.log.Debug("transaction tried again", "error", err)
	}
	return err
}

func (c *Central) once(ctx context.Context, options *sql.TxOptions, work func(*sqlx.Tx) error) error {
	tx, err := c.db.BeginTxx(ctx, options)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := work(tx); err != nil {
		return err
	}
	return tx.Commit()
}

// errRaced says that another transaction got in between; what was read must be read again.
var errRaced = errors.New("another transaction got in between")

func again(err error) bool {
	return errors.Is(err, errRaced) || sqlState(err) == "40001" || sqlState(err) == "40P01"
}

// sqlState is PostgreSQL's error code, or empty.
func sqlState(err error) string {
	var wrong *pgconn.PgError
	if errors.As(err, &wrong) {
		return wrong.Code
	}
	return ""
}

var snapshot = &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true}
