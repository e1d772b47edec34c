// Package file is the file that a store lies in: opening it, transactions, the facts that it keeps of itself, the
// outbox, the clock, backups, and telling listeners what a transaction has changed.
package file

import (
	"context"
	"database/sql"
	"embed"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
	_ "github.com/ncruces/go-sqlite3/driver" // the driver "sqlite3"
	"github.com/pressly/goose/v3"

	"homing/core/clock"
	"homing/link"
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
	// InTheClear lets a token and records go over plain HTTP to another machine.
	InTheClear bool
}

// Store is one local store. It is safe for use by several goroutines, and several processes may open the same file.
type File struct {
	DB       *sqlx.DB
	Where    string
	Now      func() time.Time
	Tick     Tick
	Over     http.RoundTripper
	Patience time.Duration
	NewID    func() uuid.UUID
	Agent    string
	How      link.How
	prepared map[string]*sqlx.Stmt // by text; not altered after the store is open
	writing  chan struct{}         // holds one while a transaction of this program writes
	sealed   string                // what the file's name needs to be opened encrypted
	key      []byte                // of an encrypted store

	// Finish ends each transaction that writes, before it is committed; nil does nothing.
	Finish func(context.Context, *sqlx.Tx) error
	Hub    hub
}

// Open opens the local store in a file and makes the file if there is none. A new store must be enrolled before it
// can hold records.
func Open(ctx context.Context, path string, options Options) (*File, error) {
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
	key, sealed, err := seal(path, options.Passphrase)
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
		"?_txlock=immediate&_pragma=busy_timeout(10000)&_pragma=journal_mode(wal)&_pragma=synchronous(full)&_pragma=foreign_keys(on)" +
		"&_pragma=secure_delete(on)" + sealed // what is dropped is overwritten
	db, err := sqlx.Open("sqlite3", name)
	if err != nil {
		return nil, StoreError(err)
	}
	db.SetMaxOpenConns(4)
	s := &File{DB: db, Where: path, Now: options.Now, Tick: options.Tick, Over: options.Transport,
		Patience: options.Patience, NewID: options.NewID, Agent: options.Agent,
		How: link.How{InTheClear: options.InTheClear}, sealed: sealed, key: key,
		prepared: map[string]*sqlx.Stmt{}, writing: make(chan struct{}, 1)}
	if err := s.prepare(ctx); err != nil {
		db.Close()
		if err = diskError(path, err); sealed != "" && errors.Is(err, ErrDamaged) {
			err = ErrPassphrase
		}
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	erasing, err := Fact(ctx, db, FactErasing)
	if err == nil && erasing == "true" { // it was on its way when the program ended
		var backups []string
		if backups, err = s.Backups(); err == nil {
			if err = s.Wipe(backups); err == nil {
				err = ErrErased
			}
		}
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open %s: %w", path, StoreError(err)), db.Close())
	}
	return s, nil
}

// Close is [device.Store.Close].
func (s *File) Close() error { return s.DB.Close() }

// Overwrite lets what was dropped go from the log of the database, too. While somebody reads, some of it stays until the
// next time.
func (s *File) Overwrite(ctx context.Context) error {
	var busy, pages, moved int
	err := s.DB.QueryRowxContext(ctx, `PRAGMA wal_checkpoint(TRUNCATE)`).Scan(&busy, &pages, &moved)
	return StoreError(err)
}

// Path is [device.Store.Path].
func (s *File) Path() string { return s.Where }

func (s *File) prepare(ctx context.Context) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, s.DB.DB, files, goose.WithDisableGlobalRegistry(true))
	if err != nil {
		return err
	}
	if _, err := provider.Up(ctx); err != nil {
		return err
	}
	if _, err = s.DB.ExecContext(ctx, `INSERT INTO facts (name, value) VALUES (?, ?) ON CONFLICT DO NOTHING`,
		FactIncarnation, s.NewID().String()); err != nil {
		return err
	}
	if err := s.prepareStatements(ctx); err != nil {
		return err
	}
	return nil
}

// The facts that a store keeps about itself.
const (
	FactIncarnation  = "incarnation"
	FactRenewed      = "renewed" // the incarnation is new and central has not heard of it
	FactCopied       = "copied"  // another store has used the same numbers
	FactCentral      = "central"
	FactDevice       = "device"
	FactName         = "name"
	FactToken        = "token"
	FactWorker       = "worker" // who is signed in; empty when nobody is
	FactRole         = "role"   // theirs
	FactLatest       = "seen"   // the latest moment that this store has seen, by the device's clock
	FactGeneration   = "generation"
	FactStamp        = "stamp"         // the last one given
	FactAnswered     = "answered"      // highest number of a change whose answer is stored
	FactOffset       = "offset"        // of the device's clock, as last measured
	FactBoot         = "boot"          // the run of the machine in which it was measured
	FactOffsetThen   = "offset_then"   // what was last measured before the machine was started anew
	FactTerritories  = "territories"   // that they hold: a JSON list
	FactSight        = "sight"         // stands for who the workers of the device are and what they may
	FactHeld         = "held"          // that any worker of the device holds: a JSON list
	FactBudget       = "budget"        // bytes that records which were looked up may take
	FactMetered      = "metered"       // the link costs by the byte, as the app says
	FactBatch        = "batch"         // changes that a batch may carry, while that is less than the most
	FactFormer       = "former"        // token under which the store was a device before it was detached
	FactOpen         = "open"          // central needed no sign-in when last met
	FactSourceOf     = "source_of"     // who saves under the present incarnation
	FactSourceFrom   = "source_from"   // the number that was given last before it was taken
	FactSealTo       = "seal_to"       // central's public key
	FactDefinitions  = "definitions"   // the digest of what central said of them last, and which collections there were
	FactErasing      = "erasing"       // nothing is saved any more, and the files go
	FactSettings     = "settings"      // what central has said of how the device behaves
	FactSettingsTold = "settings_told" // the digest of those that central has heard that the device goes by; ? where nobody knows
	FactSeal         = "seal"          // central's word on all cursors at once, and what they were
)

// Runner is the database or a transaction on it.
type Runner interface {
	sqlx.ExtContext
	GetContext(ctx context.Context, dest any, query string, args ...any) error
	SelectContext(ctx context.Context, dest any, query string, args ...any) error
}

// Fact is empty when it is not known.
func Fact(ctx context.Context, r Runner, name string) (string, error) {
	var value string
	err := r.GetContext(ctx, &value, `SELECT value FROM facts WHERE name = ?`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return value, err
}

// FactBytes is [Fact] of one that is no text; nil when there is none.
func FactBytes(ctx context.Context, r Runner, name string) ([]byte, error) {
	text, err := Fact(ctx, r, name)
	if err != nil || text == "" {
		return nil, err
	}
	return base64.StdEncoding.DecodeString(text)
}

// BytesText is how the file holds what is no text.
func BytesText(value []byte) string { return base64.StdEncoding.EncodeToString(value) }

// Facts gives all facts at once.
func Facts(ctx context.Context, r Runner) (map[string]string, error) {
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

// SetFact keeps a fact.
func SetFact(ctx context.Context, r Runner, name, value string) error {
	_, err := r.ExecContext(ctx, UpsertFact, name, value)
	return err
}

// Within runs work in one transaction that writes. Listeners hear of what it has noted.
func (s *File) Within(ctx context.Context, work func(*sqlx.Tx) error) error {
	return s.Transact(ctx, false, work)
}

// Transact runs work in one transaction that writes; central says that it takes in what central says.
func (s *File) Transact(ctx context.Context, central bool, work func(*sqlx.Tx) error) (err error) {
	// Writers of one program take turns in the order in which they come. SQLite only lets them try again from time to time, so one that writes
	// without a pause, such as an exchange with very much to send, would keep the others out until they give up.
	select {
	case s.writing <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	tx, err := s.DB.BeginTxx(ctx, nil)
	if err != nil {
		<-s.writing
		return diskError(s.Where, err)
	}
	defer func() { s.Hub.over(tx, err == nil, central) }() // after the turn is over: whoever listens may save
	defer func() { <-s.writing }()
	defer tx.Rollback()
	if err := work(tx); err != nil {
		return diskError(s.Where, err)
	}
	if s.Finish != nil {
		if err := s.Finish(ctx, tx); err != nil {
			return diskError(s.Where, err)
		}
	}
	return diskError(s.Where, tx.Commit())
}

// Incarnation is the identity under which the store numbers its changes.
func (s *File) Incarnation(ctx context.Context, r Runner) (uuid.UUID, error) {
	text, err := Fact(ctx, r, FactIncarnation)
	if err != nil {
		return uuid.Nil, err
	}
	return uuid.Parse(text)
}

// Offset is what was last measured of the device's clock.
func (s *File) Offset(ctx context.Context, r Runner) (clock.Offset, error) {
	offset, _, err := Measured(ctx, r, FactOffset)
	return offset, err
}

// Measured reads a measurement of the device's clock. It is not known before the first.
func Measured(ctx context.Context, r Runner, name string) (offset clock.Offset, known bool, err error) {
	text, err := Fact(ctx, r, name)
	if err != nil || text == "" {
		return offset, false, err
	}
	var by, within int64
	if _, err := fmt.Sscanf(text, "%d %d", &by, &within); err != nil {
		return offset, false, fmt.Errorf("stored clock offset %q: %w", text, err)
	}
	return clock.Offset{By: time.Duration(by), Error: time.Duration(within)}, true, nil
}

// TimeText is a time as the file holds it.
func TimeText(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }

// ParseTime reads what timeText wrote; empty means no time.
func ParseTime(text string) time.Time {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return time.Time{}
	}
	return t
}

// ParseID reads the id of a record.
func ParseID(text string) (uuid.UUID, error) {
	id, err := uuid.Parse(text)
	if err != nil {
		return id, fmt.Errorf("%w: record id %q", ErrDamaged, text)
	}
	return id, nil
}

// Room is [device.Store.Room].
func (s *File) Room() int64 {
	if left := room(s.Where); left < math.MaxInt64 {
		return left
	}
	return -1
}
