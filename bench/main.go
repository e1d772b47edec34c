// Command bench measures Homing against the bare database in one run on one machine, and prints ratios: make bench.
//
// Both sides of a ratio work on the same PostgreSQL with its usual durability, one after the other.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/pprof"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/central"
	"homing/core/definition"
	"homing/core/record"
	"homing/device"
	"homing/link"
	"homing/service"
)

const batchSize = 500

// measure is one line of the result.
type measure struct {
	Name   string  `json:"name"`
	Homing float64 `json:"homing"` // per second
	Bare   float64 `json:"bare"`   // per second
	Ratio  float64 `json:"ratio"`
	Target string  `json:"target"`
}

func main() {
	changes := flag.Int("changes", 20_000, "changes to push")
	records := flag.Int("records", 100_000, "records to load")
	saves := flag.Int("saves", 1000, "local saves")
	asJSON := flag.Bool("json", false, "write JSON")
	only := flag.String("only", "", "run only the measure of this name, such as fleet; push always runs")
	profile := flag.String("profile", "", "write a CPU profile to this file")
	store, times, edits := deviceFlags()
	flag.Parse()
	if *store != "" {
		if err := beDevice(context.Background(), *store, *times, *edits, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		return
	}
	if *profile != "" {
		file, err := os.Create(*profile)
		if err == nil {
			err = pprof.StartCPUProfile(file)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		defer pprof.StopCPUProfile()
	}
	results, costs, err := run(context.Background(), *changes, *records, *saves, *only)
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		defer func() { pprof.StopCPUProfile(); os.Exit(1) }() // what it has measured is shown first
	}
	if *asJSON {
		json.NewEncoder(os.Stdout).Encode(map[string]any{"ratios": results, "costs": costs})
		return
	}
	fmt.Printf("%-20s %14s %14s %8s   %s\n", "MEASURE", "HOMING /s", "BARE /s", "RATIO", "TARGET")
	for _, m := range results {
		fmt.Printf("%-20s %14.0f %14.0f %8.2f   %s\n", m.Name, m.Homing, m.Bare, m.Ratio, m.Target)
	}
	writeCosts(os.Stdout, costs)
}

// stand is a running central with a worker's device that pushes by hand.
type stand struct {
	running  *service.Running
	database string
	folder   string
	password string     // of the first admin
	link     *link.Link // of a device
	code     func(worker string) (string, error)
}

// step is one measure of a run.
type step struct {
	name string
	run  func() error
}

func run(ctx context.Context, changes, records, saves int, only string) ([]measure, []cost, error) {
	folder, err := os.MkdirTemp("", "homing-bench-")
	if err != nil {
		return nil, nil, err
	}
	defer os.RemoveAll(folder)
	if err := os.Chmod(folder, 0o755); err != nil { // the database's user must get through
		return nil, nil, err
	}
	s, err := setUp(ctx, folder)
	if err != nil {
		return nil, nil, err
	}
	defer s.running.Stop()
	var results []measure
	var costs []cost
	var failed error // what one measure cannot find out does not keep the others from being shown
	rate := func(name string, run func() ([]measure, error)) step {
		return step{name, func() (err error) {
			m, err := run()
			results = append(results, m...)
			return err
		}}
	}
	price := func(name string, run func() ([]cost, error)) step {
		return step{name, func() (err error) {
			c, err := run()
			costs = append(costs, c...)
			return err
		}}
	}
	for _, step := range []step{
		rate("push", func() ([]measure, error) { return s.push(ctx, changes) }),
		rate("load", func() ([]measure, error) { return s.firstLoad(ctx, records) }),
		rate("save", one(func() (measure, error) { return s.save(ctx, saves) })),
		rate("search", one(func() (measure, error) { return s.search(ctx, 10) })),
		rate("import", one(func() (measure, error) { return s.importRows(ctx, changes) })),
		rate("territory", one(func() (measure, error) { return s.territoryLoad(ctx) })),
		rate("clients", func() ([]measure, error) { return s.clients(ctx, saves/2) }),
		price("trips", func() ([]cost, error) { return s.trips(ctx) }),
		price("wire", func() ([]cost, error) { return s.wire(ctx) }),
		price("lists-here", func() ([]cost, error) { return s.listsHere(ctx) }),
		// From here on central holds a million records, which no device above is to load.
		rate("pull", one(func() (measure, error) { return s.incremental(ctx, 10_000, 10*records) })),
		rate("fleet", one(func() (measure, error) { return s.fleet(ctx, 1000) })),
		price("scale", func() ([]cost, error) { return s.scale(ctx, 10*records) }),
		price("lists", func() ([]cost, error) { return s.lists(ctx, 10_000, 10*records) }),
	} {
		if only != "" && step.name != only && step.name != "push" {
			continue // the others work on what push has pushed
		}
		fmt.Fprintln(os.Stderr, "measuring", step.name)
		if err := step.run(); err != nil {
			failed = errors.Join(failed, fmt.Errorf("%s: %w", step.name, err))
		}
	}
	return results, costs, failed
}

func one(measured func() (measure, error)) func() ([]measure, error) {
	return func() ([]measure, error) {
		m, err := measured()
		if err != nil {
			return nil, err
		}
		return []measure{m}, nil
	}
}

const trails = `collection: trails
label: "{name}"
required: [name]
fields:
  number: {type: string}
  name: {type: string, minLength: 1}
  district: {enum: [kell, ostra, tamrin]}
  length_km: {type: number, minimum: 0}
  start: {$ref: "urn:homing:point"}
  note: {type: string}
`

func setUp(ctx context.Context, folder string) (*stand, error) {
	password := uuid.NewString()
	running, err := service.Start(ctx, service.Options{Listen: "127.0.0.1:0", Data: filepath.Join(folder, "postgresql"),
		AdminPassword: password,
		Build:         "bench", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, err
	}
	s := &stand{running: running, folder: folder, password: password,
		database: running.DatabaseURL()}
	s.code = func(worker string) (string, error) {
		code, _, err := running.Central.IssueCode(ctx, central.Everything(service.FirstAdminName), worker, time.Hour)
		return code, err
	}
	d, err := definition.ReadSource("trails.yaml", []byte(trails))
	if err != nil {
		return nil, err
	}
	if _, err := running.Central.Define(ctx, service.FirstAdminName, []definition.Definition{d}); err != nil {
		return nil, err
	}
	first, err := s.hand(ctx)
	if err != nil {
		return nil, err
	}
	s.link = first.link
	return s, nil
}

// fieldsOf draws the fields of the n-th record.
func fieldsOf(n int) record.Fields {
	text := fmt.Sprintf(`{"number":"KL-%06d","name":"Ridge Path %d","district":"ostra","length_km":%d.5,"start":{"type":"Point","coordinates":[-31.%05d,52.%05d]},"note":"Deck boards replaced, hand rail still loose; look again before the winter."}`,
		n, n, n%40, n%99999, n%88888)
	fields, err := record.Parse([]byte(text))
	if err != nil {
		panic(err) // the text above is JSON
	}
	return fields
}

func (s *stand) enrolled(ctx context.Context, name string) (*device.Store, error) {
	return s.enrolledFor(ctx, service.FirstAdminName, name)
}

func (s *stand) enrolledFor(ctx context.Context, worker, name string) (*device.Store, error) {
	store, err := device.Open(ctx, filepath.Join(s.folder, name), device.Options{})
	if err != nil {
		return nil, err
	}
	code, err := s.code(worker)
	if err != nil {
		return nil, err
	}
	return store, store.Enrol(ctx, s.running.URL(), code, name)
}

// save compares a local save with a bare SQLite insert of the same fields, committed the same way.
func (s *stand) save(ctx context.Context, count int) (measure, error) {
	store, err := s.enrolled(ctx, "save.db")
	if err != nil {
		return measure{}, err
	}
	defer store.Close()
	if _, err := store.Exchange(ctx, nil); err != nil { // the definitions, and a store of some size
		return measure{}, err
	}
	db, err := sqlx.Open("sqlite3", "file:"+filepath.Join(s.folder,
		"bare.db")+"?_txlock=immediate&_pragma=journal_mode(wal)&_pragma=synchronous(full)")
	if err != nil {
		return measure{}, err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, `CREATE TABLE bare (id TEXT PRIMARY KEY, fields TEXT NOT NULL)`); err != nil {
		return measure{}, err
	}
	// By turns, so that both see the same disk.
	var homing, bare time.Duration
	for n := range count {
		fields := device.Fields{}
		for name, value := range fieldsOf(n) {
			fields[name] = value
		}
		began := time.Now()
		if _, err := store.Add(ctx, "trails", fields); err != nil {
			return measure{}, err
		}
		homing += time.Since(began)
		text := string(fieldsOf(n).JSON())
		began = time.Now()
		if _, err := db.ExecContext(ctx, `INSERT INTO bare (id, fields) VALUES (?, ?)`, uuid.NewString(), text); err != nil {
			return measure{}, err
		}
		bare += time.Since(began)
	}
	a, b := float64(count)/homing.Seconds(), float64(count)/bare.Seconds()
	return measure{"local save", a, b, b / a, "at most 3 times as long"}, nil
}
