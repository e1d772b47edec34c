package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
	"homing/link"
	"homing/service"
	"homing/wire"
)

// The fleet of the rehearsal: so many devices, each of which covers a territory of its own.
const scaleDevices = 1000

// member is one device of it.
type member struct {
	link        *link.Link
	incarnation uuid.UUID
	generation  uuid.UUID
	territory   string
	definitions string // digest
	cursor      int64
	number      int64 // of its changes
	last        wire.Record
}

// scale rehearses a tenth of ten thousand devices and ten million records: a service in a process of its own, a first
// load by every device, a day's edits, and exchanges in which nothing has happened.
func (s *stand) scale(ctx context.Context, records int) ([]cost, error) {
	source := strings.Replace(trails, "collection: trails", "collection: plots", 1) + "  area: {type: string}\nsync: {territory: \"[record.area]\"}\n"
	d, err := definition.ReadSource("plots.yaml", []byte(source))
	if err != nil {
		return nil, err
	}
	if _, err := s.running.Central.Define(ctx, service.FirstAdminName, []definition.Definition{d}); err != nil {
		return nil, err
	}
	if err := s.multiply(ctx, "plots", records); err != nil {
		return nil, err
	}
	db, err := sqlx.Open("pgx", s.database)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	for _, statement := range []string{
		fmt.Sprintf(`UPDATE records SET territories = ARRAY['area-' || position %% %d],
			fields = (fields::jsonb || jsonb_build_object('area', 'area-' || position %% %[1]d))::json WHERE collection = 'plots'`, scaleDevices),
		`VACUUM ANALYZE records`} {
		if _, err := db.ExecContext(ctx, statement); err != nil {
			return nil, err
		}
	}
	serve, address, err := s.serve(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { serve.Process.Signal(os.Interrupt); serve.Wait() }()
	fleet := make([]*member, scaleDevices)
	for n := range fleet {
		if fleet[n], err = s.joins(ctx, address, n); err != nil {
			return nil, err
		}
	}
	var all []cost
	for _, phase := range []struct {
		name, what string
		do         func(m *member, ctx context.Context) (int, error)
	}{
		{"first load", "records", (*member).load}, {"an edit", "exchanges", (*member).edits}, {"nothing", "exchanges", (*member).idles},
	} {
		here, database, began := processor(serve.Process.Pid), spent(true), time.Now()
		done, err := fleetDoes(ctx, fleet, phase.do)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", phase.name, err)
		}
		took := time.Since(began).Seconds()
		per := float64(done)
		if phase.what == "records" {
			per /= 1000
		}
		unit := map[string]string{"records": "ms of processor for 1,000 records", "exchanges": "ms of processor for one"}[phase.what]
		all = append(all, cost{fmt.Sprintf("scale: %s", phase.name), float64(done) / took, phase.what + " a second, 20 devices at a time", ""},
			cost{"", ms(processor(serve.Process.Pid)-here) / per, unit + ", of the service", ""},
			cost{"", ms(spent(true)-database) / per, unit + ", of PostgreSQL", ""})
	}
	peak, err := peakMemory(serve.Process.Pid)
	var size float64
	err = errors.Join(err, db.GetContext(ctx, &size, `SELECT pg_database_size(current_database())`))
	return append(all, cost{"scale: held", peak, "MiB of memory by the service at most", ""},
		cost{"", size / (1 << 30), fmt.Sprintf("GiB of database, with %d records", records), ""}), err
}

// serve starts a service in a process of its own on the stand's database.
func (s *stand) serve(ctx context.Context) (*exec.Cmd, string, error) {
	serve := exec.CommandContext(ctx, "bin/homing", "serve", "--database", s.database, "--listen", "127.0.0.1:0",
		"--rate", "0", "--log-level", "error")
	out, err := serve.StdoutPipe()
	if err != nil {
		return nil, "", err
	}
	if err := serve.Start(); err != nil {
		return nil, "", err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	return serve, strings.TrimSpace(strings.TrimPrefix(line, "Central is up at ")), err
}

// processor is what another process has spent so far.
func processor(pid int) time.Duration {
	text, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "stat"))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(text), ") ")
	fields := strings.Fields(rest)
	var ticks int64
	for _, at := range []int{11, 12} { // utime and stime
		if n, err := strconv.ParseInt(fields[at], 10, 64); err == nil {
			ticks += n
		}
	}
	return time.Duration(ticks) * 10 * time.Millisecond
}

// fleetDoes lets all do something, 20 at a time, and gives how much they did.
func fleetDoes(ctx context.Context, fleet []*member, do func(m *member, ctx context.Context) (int, error)) (int, error) {
	var next, done atomic.Int64
	var all sync.WaitGroup
	failures := make(chan error, len(fleet))
	for range 20 {
		all.Go(func() {
			for n := next.Add(1) - 1; n < int64(len(fleet)); n = next.Add(1) - 1 {
				some, err := do(fleet[n], ctx)
				if err != nil {
					failures <- err
					return
				}
				done.Add(int64(some))
			}
		})
	}
	all.Wait()
	close(failures)
	return int(done.Load()), <-failures
}

func (s *stand) joins(ctx context.Context, address string, n int) (*member, error) {
	m := &member{incarnation: uuid.Must(uuid.NewV7()), generation: s.running.Central.Generation(), territory: fmt.Sprint("area-", n)}
	name := fmt.Sprint("crew-", n)
	if err := s.running.Central.AddWorker(ctx, name, rights.Worker, "", m.territory); err != nil {
		return nil, err
	}
	code, err := s.code(name)
	if err != nil {
		return nil, err
	}
	got, err := s.running.Central.Enrol(ctx, wire.Enrolment{Code: code, Device: "tablet", Incarnation: m.incarnation}, "")
	if err != nil {
		return nil, err
	}
	m.link, err = link.New(address, got.Token, "bench", link.How{})
	return m, err
}

// load is the first load of what the device covers.
func (m *member) load(ctx context.Context) (int, error) {
	var told wire.Definitions
	if _, err := m.link.Call(ctx, http.MethodGet, "/v1/definitions", nil, nil, &told); err != nil {
		return 0, err
	}
	m.definitions = told.Digest
	count := 0
	for more := true; more; {
		var page wire.Page
		ask := url.Values{"cursor": {strconv.FormatInt(m.cursor, 10)}, "covers": {m.territory}, "limit": {"1000"}, "load": {"true"}}
		if _, err := m.link.Call(ctx, http.MethodGet, "/v1/changes/plots?"+ask.Encode(), nil, nil, &page); err != nil {
			return 0, err
		}
		if len(page.Records) > 0 {
			m.last = page.Records[0]
		}
		m.cursor, more, count = page.Cursor, page.More, count+len(page.Records)
	}
	return count, nil
}

// edits is an exchange with one edit.
func (m *member) edits(ctx context.Context) (int, error) {
	m.number++
	now := time.Now()
	text, err := json.Marshal(change.Change{Number: m.number, Collection: "plots", Record: m.last.ID, Kind: change.Edit, Base: m.last.Revision,
		Fields: record.Delta{"note": {To: json.RawMessage(`"Seen to, nothing new."`)}}, Stamp: clock.At(now), EditedAt: now})
	if err != nil {
		return 0, err
	}
	return 1, m.trip(ctx, &wire.Batch{ID: uuid.Must(uuid.NewV7()), Exchange: uuid.Must(uuid.NewV7()), Incarnation: m.incarnation,
		Clock: wire.Clock{SentAt: now}, Changes: []json.RawMessage{text}})
}

// idles is an exchange in which nothing has happened.
func (m *member) idles(ctx context.Context) (int, error) { return 1, m.trip(ctx, nil) }

func (m *member) trip(ctx context.Context, batch *wire.Batch) error {
	now := time.Now()
	trip := wire.Trip{Generation: m.generation, Definitions: m.definitions, Cursors: map[string]int64{"plots": m.cursor}, Parts: true,
		Answered: m.number, Clock: &wire.Clock{SentAt: now}, Batch: batch}
	var met wire.Met
	if _, err := m.link.Call(ctx, http.MethodPost, "/v1/trips", map[string]string{wire.HeaderIncarnation: m.incarnation.String()}, trip, &met); err != nil {
		return err
	}
	if batch != nil && (met.Answers == nil || met.Answers.Answers[0].Answer != change.Applied) {
		return fmt.Errorf("an edit was answered %+v", met.Answers)
	}
	for _, text := range met.Pages {
		page, err := wire.ReadPage(text)
		if err != nil {
			return err
		}
		m.cursor = page.Cursor
	}
	if head, moved := met.Heads["plots"]; moved {
		m.cursor = head
	}
	return nil
}
