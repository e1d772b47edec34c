// Package testbed starts the real thing for tests: PostgreSQL, the service on loopback, devices with local stores,
// and a proxy between them that misbehaves on purpose.
package testbed

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/central"
	"homing/central/fleet"
	"homing/cluster"
	"homing/core/definition"
	"homing/core/rights"
	"homing/device"
	"homing/internal/cli"
	"homing/internal/cli/office"
	"homing/service"
)

// Password is that of every worker of a bed.
const Password = "test-password-only"

// asProgram makes a test binary behave as the program itself, so that a test can kill it.
const asProgram = "HOMING_TEST_AS_PROGRAM"

var (
	shared  *cluster.Cluster
	folder  string
	start   sync.Once
	started error
	count   atomic.Int64

	pattern   sync.Once
	patterned error
)

// patternName is the database that those of beds are copied from: with its tables, and with a bed's workers.
const patternName = "pattern"

// Main runs the tests of a package and takes PostgreSQL down after them, and before it whatever else a package's tests
// share. Call it from TestMain.
func Main(m *testing.M, down ...func()) {
	if os.Getenv(asProgram) != "" {
		os.Exit(cli.Main(os.Args))
	}
	code := m.Run()
	for _, end := range down {
		end()
	}
	if shared != nil {
		if err := shared.Stop(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			code = 1
		}
		os.RemoveAll(folder)
	}
	os.Exit(code)
}

// Program gives the program and the environment under which this test binary behaves as homing.
func Program(t *testing.T) (path string, env []string) {
	t.Helper()
	path, err := os.Executable()
	Must(t, err)
	return path, append(os.Environ(), asProgram+"=1", "HOME="+t.TempDir())
}

// Rehearses lets a central rehearse as a running one does: by another process of the program.
func Rehearses(t *testing.T) func(*service.Options) {
	t.Setenv(asProgram, "1")
	return func(o *service.Options) { o.Rehearse = office.RehearseApart }
}

// Must fails the test at once for an error that has nothing to do with what it is about.
func Must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// Database gives the URL of a new, empty database on a PostgreSQL that the tests of a package share.
func Database(t testing.TB) string {
	t.Helper()
	url, err := newDatabase("")
	Must(t, err)
	return url
}

// SQL opens a database past central, to see what it lets nobody do.
func SQL(t testing.TB, url string) *sqlx.DB {
	t.Helper()
	db, err := sqlx.Connect("pgx", url)
	Must(t, err)
	t.Cleanup(func() { db.Close() })
	return db
}

// bedDatabase is a database that has a bed's workers. To make the tables and to slow down whoever guesses passwords
// takes a central half a second, which is spent once.
func bedDatabase(t testing.TB) string {
	t.Helper()
	pattern.Do(func() {
		patterned = func() error {
			ctx := context.Background()
			if _, err := newDatabase(""); err != nil { // the cluster is up
				return err
			}
			url, err := shared.Database(ctx, patternName, "")
			if err != nil {
				return err
			}
			running, err := service.Start(ctx, service.Options{Listen: "127.0.0.1:0", AdminPassword: Password, Build: "test",
				Database: url, Log: slog.New(slog.DiscardHandler)})
			if err != nil {
				return err
			}
			err = addWorkers(ctx, running.Central)
			if err := errors.Join(err, running.Stop()); err != nil {
				return err
			}
			db, err := sqlx.Connect("pgx", url)
			if err != nil {
				return err
			}
			// Each copy is a database of its own, and gives itself a generation when it is opened.
			_, err = db.Exec(`DELETE FROM identity`)
			return errors.Join(err, db.Close())
		}()
	})
	Must(t, patterned)
	url, err := newDatabase(patternName)
	Must(t, err)
	return url
}

// addWorkers adds a worker of each role, named like the role, who is not there yet.
func addWorkers(ctx context.Context, c *central.Central) error {
	there, err := c.Workers(ctx, true)
	if err != nil {
		return err
	}
	for _, role := range rights.Roles[:3] {
		if slices.ContainsFunc(there, func(w fleet.Worker) bool { return w.Name == string(role) }) {
			continue
		}
		if err := c.AddWorker(ctx, string(role), role, Password); err != nil {
			return err
		}
	}
	return nil
}

func newDatabase(template string) (string, error) {
	start.Do(func() {
		if folder, started = os.MkdirTemp("", "homing-test-"); started == nil {
			shared, started = cluster.Start(context.Background(), cluster.Options{Dir: folder, Throwaway: true})
		}
	})
	if started != nil {
		return "", started
	}
	return shared.Database(context.Background(), fmt.Sprintf("test%d", count.Add(1)), template)
}

// Bed is a running central with what a test needs to know of it.
type Bed struct {
	*service.Running
	Database string
	Log      *Log
	t        testing.TB
	stopped  bool
}

// For gives the same bed to another test, such as the target of a fuzz test.
func (b *Bed) For(t testing.TB) *Bed {
	other := *b
	other.t = t
	return &other
}

// Log collects what the service logs, or what a program says, and can be read meanwhile.
type Log struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *Log) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *Log) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// Start runs a central, on a database of its own unless one is named, with definitions of trails and structures where
// it has none, and one worker of each role, named like the role. It is stopped when the test ends.
func Start(t testing.TB, change ...func(*service.Options)) *Bed {
	t.Helper()
	b := &Bed{Log: &Log{}, t: t}
	options := service.Options{Listen: "127.0.0.1:0", AdminPassword: Password, Build: "test",
		Log: slog.New(slog.NewTextHandler(b.Log, &slog.HandlerOptions{Level: slog.LevelDebug}))}
	for _, c := range change {
		c(&options)
	}
	switch {
	case options.Database != "":
	case options.Open || options.AdminPassword != Password:
		options.Database = Database(t)
	default:
		options.Database = bedDatabase(t)
	}
	b.Database = options.Database
	running, err := service.Start(context.Background(), options)
	Must(t, err)
	b.Running = running
	t.Cleanup(func() {
		b.Stop()
		if t.Failed() {
			t.Logf("the service logged:\n%s", b.Log)
		}
	})
	Must(t, addWorkers(context.Background(), b.Central))
	defined, err := b.Central.Definitions(context.Background())
	Must(t, err)
	if len(defined) == 0 {
		b.Define(Trails, Structures)
	}
	return b
}

// Stop stops the service before the test ends. Its database stays.
func (b *Bed) Stop() {
	b.t.Helper()
	if b.stopped {
		return
	}
	b.stopped = true
	if err := b.Running.Stop(); err != nil {
		b.t.Errorf("stop: %v", err)
	}
}

// Running is a central for the examples of a package, which have no test to hold on to.
type Running struct{ *service.Running }

// Example starts a central with the collections of a bed and one whose parent is trails.
func Example() (Running, error) {
	url, err := newDatabase("")
	if err != nil {
		return Running{}, err
	}
	ctx := context.Background()
	running, err := service.Start(ctx, service.Options{Listen: "127.0.0.1:0", AdminPassword: Password, Build: "example",
		Database: url, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return Running{}, err
	}
	if err := running.Central.AddWorker(ctx, "worker", rights.Worker, Password); err != nil {
		return Running{}, errors.Join(err, running.Stop())
	}
	var all []definition.Definition
	for _, text := range []string{Trails, Structures, "collection: marks\nfields:\n  text: {type: string}\n  trail: " +
		"{type: string, format: uuid}\nparent: {collection: trails, field: trail}\n"} {
		d, err := definition.ReadSource("example.yaml", []byte(text))
		if err != nil {
			return Running{}, errors.Join(err, running.Stop())
		}
		all = append(all, d)
	}
	if _, err := running.Central.Define(ctx, service.FirstAdminName, all); err != nil {
		return Running{}, errors.Join(err, running.Stop())
	}
	return Running{running}, nil
}

// Code issues an enrolment code.
func (r Running) Code(worker string) (string, error) {
	code, _, err := r.Central.IssueCode(context.Background(), central.Everything(service.FirstAdminName), worker,
		time.Hour)
	return code, err
}

// The collections that every bed has.
const (
	Trails = `collection: trails
label: "{name}"
required: [name]
fields:
  name: {type: string, minLength: 1}
  state: {enum: [open, closed]}
  length_km: {type: number, minimum: 0}
  note: {type: string}
`
	Structures = `collection: structures
label: "{name}"
required: [name, kind]
fields:
  name: {type: string}
  kind: {enum: [bridge, shelter, signpost]}
  trail: {type: string, format: uuid, reference: trails}
  location: {$ref: "urn:homing:point"}
`
)

// Define defines collections from the texts of their files.
func (b *Bed) Define(files ...string) {
	b.t.Helper()
	var all []definition.Definition
	for _, text := range files {
		d, err := definition.ReadSource("test.yaml", []byte(text))
		Must(b.t, err)
		all = append(all, d)
	}
	_, err := b.Central.Define(context.Background(), "admin", all)
	Must(b.t, err)
}

// Code issues an enrolment code.
func (b *Bed) Code(worker string) string {
	b.t.Helper()
	code, _, err := b.Central.IssueCode(context.Background(), central.Everything("admin"), worker, time.Hour)
	Must(b.t, err)
	return code
}

// Device makes and enrols a device of a worker. Through, if not empty, is the address under which it reaches central.
func (b *Bed) Device(worker, name string, options device.Options, through ...string) *device.Store {
	b.t.Helper()
	address := b.URL()
	if len(through) > 0 {
		address = through[0]
	}
	store, err := device.Open(context.Background(), filepath.Join(b.t.TempDir(), "store.db"), options)
	Must(b.t, err)
	b.t.Cleanup(func() { store.Close() })
	Must(b.t, store.Enrol(context.Background(), address, b.Code(worker), name))
	return store
}

// SignIn gives a session's token.
func (b *Bed) SignIn(worker string) string {
	b.t.Helper()
	var got struct{ Token string }
	status, text := b.Call(http.MethodPost, "/v1/session", "", map[string]string{"worker": worker, "password": Password})
	if err := json.Unmarshal(text, &got); err != nil || status != http.StatusOK {
		b.t.Fatalf("sign in as %s: %d %s", worker, status, text)
	}
	return got.Token
}

// Call makes one HTTP request. A body that is a string goes out as it is, anything else as JSON.
func (b *Bed) Call(method, path, token string, body any, headers ...string) (status int, text []byte) {
	b.t.Helper()
	var reader io.Reader
	switch body := body.(type) {
	case nil:
	case string:
		reader = strings.NewReader(body)
	default:
		encoded, err := json.Marshal(body)
		Must(b.t, err)
		reader = bytes.NewReader(encoded)
	}
	request, err := http.NewRequest(method, b.URL()+path, reader)
	Must(b.t, err)
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	for n := 0; n+1 < len(headers); n += 2 {
		request.Header.Set(headers[n], headers[n+1])
	}
	response, err := http.DefaultClient.Do(request)
	Must(b.t, err)
	defer response.Body.Close()
	text, err = io.ReadAll(response.Body)
	Must(b.t, err)
	return response.StatusCode, text
}

// Exchange exchanges, and fails the test when that fails.
func Exchange(t testing.TB, stores ...*device.Store) (last device.Summary) {
	t.Helper()
	for _, store := range stores {
		var err error
		last, err = store.Exchange(context.Background(), nil)
		Must(t, err)
	}
	return last
}

// Same fails the test unless central and all devices hold the same records.
func (b *Bed) Same(stores ...*device.Store) {
	b.t.Helper()
	overviews, err := b.Central.Overviews(context.Background(), central.Everything("admin"))
	Must(b.t, err)
	for _, o := range overviews {
		want, err := b.Central.Fingerprint(context.Background(), central.Everything("admin"), o.Collection)
		Must(b.t, err)
		for n, store := range stores {
			got, err := store.Fingerprint(context.Background(), o.Collection)
			Must(b.t, err)
			if got != want {
				b.t.Errorf("device %d holds %d %s (%s), central %d (%s)", n, got.Count(), o.Collection, &got, want.Count(), &want)
			}
		}
	}
}

// Wait looks again and again until something holds, for as long as a busy machine may take.
func Wait(t testing.TB, what string, holds func() bool) {
	t.Helper()
	for range 1600 {
		if holds() {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	t.Fatalf("waited in vain until %s", what)
}

// QuietLog logs to the bed's log.
func (b *Bed) QuietLog() *slog.Logger { return slog.New(slog.NewTextHandler(b.Log, nil)) }

// heldCommits is the advisory lock that commits wait for.
const heldCommits = 4242

// HoldCommits makes every transaction that accepts changes wait at its commit until unlock is called.
func (b *Bed) HoldCommits() (holder *sqlx.DB, unlock func()) {
	b.t.Helper()
	db, err := sqlx.Open("pgx", b.Database)
	Must(b.t, err)
	db.SetMaxOpenConns(2)
	db.MustExec(fmt.Sprintf(`CREATE FUNCTION hold() RETURNS trigger LANGUAGE plpgsql
			AS $$ BEGIN PERFORM pg_advisory_xact_lock_shared(%d); RETURN NULL; END $$;
		CREATE CONSTRAINT TRIGGER holds AFTER INSERT ON versions DEFERRABLE INITIALLY DEFERRED
			FOR EACH ROW EXECUTE FUNCTION hold()`, heldCommits))
	conn, err := db.Connx(context.Background())
	Must(b.t, err)
	_, err = conn.ExecContext(context.Background(), `SELECT pg_advisory_lock($1)`, heldCommits)
	Must(b.t, err)
	return db, func() { conn.Close(); db.Close() }
}

// WaitForHeldCommit waits until a transaction waits at its commit.
func (b *Bed) WaitForHeldCommit() {
	b.t.Helper()
	db, err := sqlx.Open("pgx", b.Database)
	Must(b.t, err)
	defer db.Close()
	Wait(b.t, "a commit is held", func() bool {
		var n int
		return db.Get(&n, `SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND NOT granted AND objid = $1`,
			heldCommits) == nil && n > 0
	})
}
