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
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"runtime/pprof"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"homing/central"
	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/record"
	"homing/device"
	"homing/link"
	"homing/service"
	"homing/wire"
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
		os.Exit(1)
	}
	if *asJSON {
		json.NewEncoder(os.Stdout).Encode(map[string]any{"ratios": results, "costs": costs})
		return
	}
	fmt.Printf("%-12s %14s %14s %8s   %s\n", "MEASURE", "HOMING /s", "BARE /s", "RATIO", "TARGET")
	for _, m := range results {
		fmt.Printf("%-12s %14.0f %14.0f %8.2f   %s\n", m.Name, m.Homing, m.Bare, m.Ratio, m.Target)
	}
	writeCosts(os.Stdout, costs)
}

// stand is a running central with a worker's device that pushes by hand.
type stand struct {
	running     *service.Running
	database    string
	folder      string
	password    string // of the first admin
	link        *link.Link
	incarnation uuid.UUID
	code        func(worker string) (string, error)
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
	for _, step := range []struct {
		name string
		run  func() (measure, error)
	}{
		{"push", func() (measure, error) { return s.push(ctx, changes) }},
		{"load", func() (measure, error) { return s.firstLoad(ctx, records) }},
		{"save", func() (measure, error) { return s.save(ctx, saves) }},
		{"search", func() (measure, error) { return s.search(ctx, 10) }},
		{"import", func() (measure, error) { return s.importRows(ctx, changes) }},
		{"territory", func() (measure, error) { return s.territoryLoad(ctx) }},
		{"pull", func() (measure, error) { return s.incremental(ctx, 10_000, 10*records) }},
		{"fleet", func() (measure, error) { return s.fleet(ctx, 1000) }},
	} {
		if only != "" && step.name != only && step.name != "push" {
			continue // the others work on what push has pushed
		}
		m, err := step.run()
		if err != nil {
			return nil, nil, err
		}
		results = append(results, m)
	}
	var costs []cost
	if only == "" || only == "trips" {
		costs, err = s.trips(ctx, records)
	}
	return results, costs, err
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
	s := &stand{running: running, folder: folder, password: password, incarnation: uuid.Must(uuid.NewV7()),
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
	code, err := s.code(service.FirstAdminName)
	if err != nil {
		return nil, err
	}
	first, err := link.New(running.URL(), "", "bench", link.How{})
	if err != nil {
		return nil, err
	}
	var got wire.Enrolled
	if _, err := first.Call(ctx, http.MethodPost, "/v1/enrolments", nil,
		wire.Enrolment{Code: code, Device: "bench", Incarnation: s.incarnation}, &got); err != nil {
		return nil, err
	}
	s.link, err = link.New(running.URL(), got.Token, "bench", link.How{})
	return s, err
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

func (s *stand) batches(from, count int) ([]wire.Batch, error) {
	var all []wire.Batch
	now := time.Now()
	for start := from; start < from+count; start += batchSize {
		b := wire.Batch{ID: uuid.Must(uuid.NewV7()), Exchange: uuid.Must(uuid.NewV7()), Incarnation: s.incarnation,
			Clock: wire.Clock{SentAt: now}}
		for n := start; n < min(start+batchSize, from+count); n++ {
			text, err := json.Marshal(change.Change{Number: int64(n + 1), Collection: "trails",
				Record: uuid.Must(uuid.NewV7()), Kind: change.Add,
				Fields: record.Diff(nil, fieldsOf(n)), Stamp: clock.At(now), EditedAt: now})
			if err != nil {
				return nil, err
			}
			b.Changes = append(b.Changes, text)
		}
		all = append(all, b)
	}
	return all, nil
}

func (s *stand) send(ctx context.Context, batches []wire.Batch) error {
	for _, b := range batches {
		var answers wire.Answers
		if _, err := s.link.Call(ctx, http.MethodPost, "/v1/batches", nil, b, &answers); err != nil {
			return err
		}
		for _, a := range answers.Answers {
			if a.Answer != change.Applied {
				return fmt.Errorf("change %d was %s", a.Number, a.Answer)
			}
		}
	}
	return nil
}

// push compares accepted changes over HTTP with the same rows (record and version) written by multi-row SQL, batch by
// batch.
func (s *stand) push(ctx context.Context, count int) (measure, error) {
	batches, err := s.batches(0, count)
	if err != nil {
		return measure{}, err
	}
	began := time.Now()
	if err := s.send(ctx, batches); err != nil {
		return measure{}, err
	}
	homing := float64(count) / time.Since(began).Seconds()
	bare, err := s.bareInsert(ctx, count)
	return measure{"push", homing, bare, homing / bare, "at least 0.5"}, err
}

// bareInsert writes the rows of the push once more into tables of the same form, as a program without Homing would: one
// transaction a batch, many rows a statement.
func (s *stand) bareInsert(ctx context.Context, count int) (float64, error) {
	db, err := sqlx.Open("pgx", s.database)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx,
		`CREATE TABLE bare_records (LIKE records INCLUDING ALL); CREATE TABLE bare_versions (LIKE versions INCLUDING ALL)`); err != nil {
		return 0, err
	}
	var took time.Duration
	for start := 0; start < count; start += batchSize {
		var records, versions []map[string]any
		if err := rowsOf(ctx, db, "records", start, &records); err != nil {
			return 0, err
		}
		if err := rowsOf(ctx, db, "versions", start, &versions); err != nil {
			return 0, err
		}
		began := time.Now()
		tx, err := db.BeginTxx(ctx, nil)
		if err != nil {
			return 0, err
		}
		if err := errors.Join(insertRows(ctx, tx, "bare_records", records),
			insertRows(ctx, tx, "bare_versions", versions)); err != nil {
			return 0, errors.Join(err, tx.Rollback())
		}
		if err := tx.Commit(); err != nil {
			return 0, err
		}
		took += time.Since(began)
	}
	return float64(count) / took.Seconds(), nil
}

func rowsOf(ctx context.Context, db *sqlx.DB, table string, from int, into *[]map[string]any) error {
	rows, err := db.QueryxContext(ctx, `SELECT * FROM `+table+` ORDER BY position LIMIT $1 OFFSET $2`, batchSize, from)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		row := map[string]any{}
		if err := rows.MapScan(row); err != nil {
			return err
		}
		*into = append(*into, row)
	}
	return rows.Err()
}

// insertRows writes all rows in statements of as many as PostgreSQL's bound on parameters lets in.
func insertRows(ctx context.Context, tx *sqlx.Tx, table string, rows []map[string]any) error {
	if len(rows) == 0 {
		return errors.New("there is nothing to write")
	}
	var columns []string
	for name := range rows[0] {
		columns = append(columns, name)
	}
	most := 65535 / len(columns)
	for start := 0; start < len(rows); start += most {
		part := rows[start:min(start+most, len(rows))]
		var text strings.Builder
		args := make([]any, 0, len(part)*len(columns))
		fmt.Fprintf(&text, "INSERT INTO %s (%s) VALUES ", table, strings.Join(columns, ","))
		for n, row := range part {
			if n > 0 {
				text.WriteByte(',')
			}
			text.WriteByte('(')
			for k, name := range columns {
				if k > 0 {
					text.WriteByte(',')
				}
				args = append(args, row[name])
				fmt.Fprintf(&text, "$%d", len(args))
			}
			text.WriteByte(')')
		}
		if _, err := tx.ExecContext(ctx, text.String(), args...); err != nil {
			return err
		}
	}
	return nil
}

// firstLoad compares a device's first load with COPY of the same rows to a file.
func (s *stand) firstLoad(ctx context.Context, count int) (measure, error) {
	var there int
	db, err := sqlx.Open("pgx", s.database)
	if err != nil {
		return measure{}, err
	}
	defer db.Close()
	if err := db.GetContext(ctx, &there, `SELECT count(*) FROM records`); err != nil {
		return measure{}, err
	}
	batches, err := s.batches(there, count-there)
	if err != nil {
		return measure{}, err
	}
	if err := s.send(ctx, batches); err != nil {
		return measure{}, err
	}
	if _, err := db.ExecContext(ctx, `VACUUM ANALYZE records`); err != nil {
		return measure{}, err
	}
	store, err := s.enrolled(ctx, "load.db")
	if err != nil {
		return measure{}, err
	}
	defer store.Close()
	began := time.Now()
	summary, err := store.Exchange(ctx, nil)
	if err != nil {
		return measure{}, err
	}
	homing := float64(summary.Received) / time.Since(began).Seconds()
	bare, err := s.copyRows(ctx, `true`)
	return measure{"first load", homing, bare, homing / bare, "at least 0.4"}, err
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

// copyRows copies the records of a condition to a file.
func (s *stand) copyRows(ctx context.Context, condition string) (float64, error) {
	conn, err := pgx.Connect(ctx, s.database)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	file, err := os.Create(filepath.Join(s.folder, "copy"))
	if err != nil {
		return 0, err
	}
	defer file.Close()
	began := time.Now()
	done, err := conn.PgConn().CopyTo(ctx, io.Writer(file),
		`COPY (SELECT id, revision, position, removed, fields, marks, author, device, edited_at, received_at FROM records
			WHERE `+condition+` ORDER BY position) TO STDOUT`)
	if err != nil {
		return 0, err
	}
	if err := file.Sync(); err != nil {
		return 0, err
	}
	return float64(done.RowsAffected()) / time.Since(began).Seconds(), nil
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
