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
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
	_ "github.com/ncruces/go-sqlite3/driver" // the driver "sqlite3"
	"github.com/pressly/goose/v3"

	"homing/core/clock"
	"homing/core/definition"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Options change what [Open] does. The zero value is right for an app.
type Options struct {
	Now func() time.Time // the device's clock; nil means the machine's
	// Tick is a clock that nobody turns; nil means the system's when Now is nil, too, and none otherwise.
	Tick Tick
	// Passphrase encrypts the store at rest. A store is encrypted from the start or not at all.
	Passphrase string
	// Transport carries requests to central; nil means the network.
	Transport http.RoundTripper
	// Patience bounds one request; 0 means [link.Patience].
	Patience time.Duration
	// NewID makes ids of records, batches and exchanges; nil means UUIDv7 by the machine's clock.
	NewID func() uuid.UUID
	Agent string // program and system, for central's list of devices; empty means a general one
}

// Store is one local store. It is safe for use by several goroutines, and several processes may open the same file.
type Store struct {
	db       *sqlx.DB
	path     string
	now      func() time.Time
	tick     Tick
	over     http.RoundTripper
	patience time.Duration
	newID    func() uuid.UUID
	agent    string
	prepared map[string]*sqlx.Stmt // by text; not altered after the store is open
	sealed   string                // what the file's name needs to be opened encrypted

	mu       sync.Mutex
	compiled map[string]*definition.Collection // by the definition's text; guarded by mu

	computes atomic.Bool // some definition has computed fields
	// finish ends each transaction that writes, before it is committed; nil does nothing.
	finish func(context.Context, *sqlx.Tx) error
	hub      hub
}

// Open opens the local store in a file and makes the file if there is none. A new store must be enrolled before it
// can hold records.
func Open(ctx context.Context, path string, options Options) (*Store, error) {
	if options.NewID == nil {
		options.NewID = func() uuid.UUID { return uuid.Must(uuid.NewV7()) }
	}
	if options.Tick == nil {
		options.Tick = func() (string, time.Duration) { return "", 0 }
		if options.Now == nil {
			options.Tick = systemTick()
		}
	}
	if options.Now == nil {
		options.Now = time.Now
	}
	if options.Agent == "" {
		options.Agent = fmt.Sprintf("homing (%s %s)", runtime.GOOS, runtime.GOARCH)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("local store: %w", err)
	}
	sealed, err := seal(path, options.Passphrase)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	// The store holds the device's token, so nobody else may read it.
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("local store: %w", err)
	}
	file.Close()
	// With synchronous=full a commit has reached the disk when it returns; with the write-ahead log it costs one sync.
	name := (&url.URL{Scheme: "file", OmitHost: true, Path: path}).String() +
		"?_txlock=immediate&_pragma=busy_timeout(10000)&_pragma=journal_mode(wal)&_pragma=synchronous(full)&_pragma=foreign_keys(on)" + sealed
	db, err := sqlx.Open("sqlite3", name)
	if err != nil {
		return nil, storeError(err)
	}
	db.SetMaxOpenConns(4)
	s := &Store{db: db, path: path, now: options.Now, tick: options.Tick, over: options.Transport,
		patience: options.Patience, newID: options.NewID, agent: options.Agent, sealed: sealed,
		compiled: map[string]*definition.Collection{}, prepared: map[string]*sqlx.Stmt{}}
	if err := s.prepare(ctx); err != nil {
		db.Close()
		if err = diskError(path, err); sealed != "" && errors.Is(err, ErrDamaged) {
			err = ErrPassphrase
		}
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	return s, nil
}

// Close closes the store. Nothing needs to be saved before.
func (s *Store) Close() error { return s.db.Close() }

// Path is the store's file.
func (s *Store) Path() string { return s.path }

func (s *Store) prepare(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, s.db.DB, files, goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return err
	}
	if _, err := provider.Up(ctx); err != nil {
		return err
	}
	if _, err = s.db.ExecContext(ctx, `INSERT INTO facts (name, value) VALUES (?, ?) ON CONFLICT DO NOTHING`,
		factIncarnation, s.newID().String()); err != nil {
		return err
	}
	if err := s.prepareStatements(ctx); err != nil {
		return err
	}
	return nil
}

// The facts that a store keeps about itself.
const (
	factIncarnation = "incarnation"
	factRenewed     = "renewed" // the incarnation is new and central has not heard of it
	factCopied      = "copied"  // another store has used the same numbers
	factCentral     = "central"
	factDevice      = "device"
	factName        = "name"
	factToken       = "token"
	factWorker      = "worker" // who is signed in; empty when nobody is
	factRole        = "role"   // theirs
	factSeen        = "seen"   // the latest moment that this store has seen, by the device's clock
	factGeneration  = "generation"
	factStamp       = "stamp"       // the last one given
	factAnswered    = "answered"    // highest number of a change whose answer is stored
	factOffset      = "offset"      // of the device's clock, as last measured
	factBoot        = "boot"        // the run of the machine in which it was measured
	factOffsetThen  = "offset_then" // what was last measured before the machine was started anew
	factTerritories = "territories" // that they hold: a JSON list
	factSight       = "sight"       // stands for who the workers of the device are and what they may
	factHeld        = "held"        // that any worker of the device holds: a JSON list
	factBudget      = "budget"      // bytes that records which were looked up may take
	factMetered     = "metered"     // the link costs by the byte, as the app says
	factBatch       = "batch"       // changes that a batch may carry, while that is less than the most
	factFormer      = "former"      // token under which the store was a device before it was detached
	factOpen        = "open"        // central needed no sign-in when last met
)

// runner is the database or a transaction on it.
type runner interface {
	sqlx.ExtContext
	GetContext(ctx context.Context, dest any, query string, args ...any) error
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
}

// fact is empty when it is not known.
func fact(ctx context.Context, r runner, name string) (string, error) {
	var value string
	err := r.GetContext(ctx, &value, `SELECT value FROM facts WHERE name = ?`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return value, err
}

// facts gives all facts at once.
func facts(ctx context.Context, r runner) (map[string]string, error) {
	var rows []struct{ Name, Value string }
	if err := r.SelectContext(ctx, &rows, `SELECT name, value FROM facts`); err != nil {
		return nil, err
	}
	all := make(map[string]string, len(rows))
	for _, row := range rows {
		all[row.Name] = row.Value
	}
	return all, nil
}

func setFact(ctx context.Context, r runner, name, value string) error {
	_, err := r.ExecContext(ctx, upsertFact, name, value)
	return err
}

// within runs work in one transaction that writes. Listeners hear of what it has noted.
func (s *Store) within(ctx context.Context, work func(*sqlx.Tx) error) error {
	return s.transact(ctx, false, work)
}

func (s *Store) transact(ctx context.Context, central bool, work func(*sqlx.Tx) error) (err error) {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return diskError(s.path, err)
	}
	defer func() { s.hub.over(tx, err == nil, central) }()
	defer tx.Rollback()
	if err := work(tx); err != nil {
		return diskError(s.path, err)
	}
	if s.finish != nil {
		if err := s.finish(ctx, tx); err != nil {
			return diskError(s.path, err)
		}
	}
	return diskError(s.path, tx.Commit())
}

func (s *Store) incarnation(ctx context.Context, r runner) (uuid.UUID, error) {
	text, err := fact(ctx, r, factIncarnation)
	if err != nil {
		return uuid.Nil, err
	}
	return uuid.Parse(text)
}

// offset is what was last measured of the device's clock.
func (s *Store) offset(ctx context.Context, r runner) (clock.Offset, error) {
	offset, _, err := measured(ctx, r, factOffset)
	return offset, err
}

// measured reads a measurement of the device's clock. It is not known before the first.
func measured(ctx context.Context, r runner, name string) (offset clock.Offset, known bool, err error) {
	text, err := fact(ctx, r, name)
	if err != nil || text == "" {
		return offset, false, err
	}
	var by, within int64
	if _, err := fmt.Sscanf(text, "%d %d", &by, &within); err != nil {
		return offset, false, fmt.Errorf("stored clock offset %q: %w", text, err)
	}
	return clock.Offset{By: time.Duration(by), Error: time.Duration(within)}, true, nil
}

func timeText(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }

// parseTime reads what timeText wrote; empty means no time.
func parseTime(text string) time.Time {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return time.Time{}
	}
	return t
}

func parseID(text string) (uuid.UUID, error) {
	id, err := uuid.Parse(text)
	if err != nil {
		return id, fmt.Errorf("%w: record id %q", ErrDamaged, text)
	}
	return id, nil
}
