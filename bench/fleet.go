package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"slices"
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
	"homing/link"
	"homing/service"
	"homing/wire"
)

// incremental compares the pull of 100 changes out of many records with the same out of few: half of the calls each,
// in turn. The ratio is how many times longer the one takes.
func (s *stand) incremental(ctx context.Context, few, many int) (measure, error) {
	for name, count := range map[string]int{"few": few, "many": many} {
		d, err := definition.ReadSource(name+".yaml", []byte(strings.Replace(trails, "collection: trails",
			"collection: "+name, 1)))
		if err != nil {
			return measure{}, err
		}
		if _, err := s.running.Central.Define(ctx, service.FirstAdminName, []definition.Definition{d}); err != nil {
			return measure{}, err
		}
		if err := s.multiply(ctx, name, count); err != nil {
			return measure{}, err
		}
	}
	took := map[string][]time.Duration{}
	const calls = 200
	for n := range 2 * calls {
		name, count := "few", few
		if n%2 == 1 {
			name, count = "many", many
		}
		var page wire.Page
		began := time.Now()
		if _, err := s.link.Call(ctx, http.MethodGet, fmt.Sprintf("/v1/changes/%s?cursor=%d&limit=500", name, count-100),
			nil, nil, &page); err != nil {
			return measure{}, err
		}
		took[name] = append(took[name], time.Since(began))
		if len(page.Records) != 100 {
			return measure{}, fmt.Errorf("%s gave %d records, want 100", name, len(page.Records))
		}
	}
	median := func(all []time.Duration) float64 { slices.Sort(all); return all[len(all)/2].Seconds() }
	small, large := median(took["few"]), median(took["many"])
	return measure{"pull of 100", 1 / large, 1 / small, large / small,
		fmt.Sprintf("at most 1.3 times longer out of %d than out of %d", many, few)}, nil
}

// multiply fills a collection with copies of the records that were pushed, as if each had been added.
func (s *stand) multiply(ctx context.Context, name string, count int) error {
	db, err := sqlx.Open("pgx", s.database)
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, `
		INSERT INTO records (collection, id, revision, position, removed, fields, marks, territories, left_territories,
			incarnation, number, author, device, edited_at, received_at)
		SELECT $1, gen_random_uuid(), 1, n, false, r.fields, r.marks, r.territories, r.left_territories, gen_random_uuid(),
			n, r.author, r.device, r.edited_at, r.received_at
		FROM generate_series(1, $2::bigint) n JOIN (SELECT *, row_number() OVER () AS k
			FROM records WHERE collection = 'trails' LIMIT 1000) r ON r.k = 1 + n % 1000`, name, count); err != nil {
		return err
	}
	if _, err := db.ExecContext(ctx, `UPDATE collections SET head = $2 WHERE name = $1`, name, count); err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, `ANALYZE records`)
	return err
}

// fleet lets many devices exchange with a service in a process of its own, many at a time, and gives the most memory
// that it held.
func (s *stand) fleet(ctx context.Context, devices int) (measure, error) {
	serve, address, err := s.serve(ctx)
	if err != nil {
		return measure{}, err
	}
	defer func() { serve.Process.Signal(os.Interrupt); serve.Wait() }()
	const atOnce = 100
	var next, done atomic.Int64
	var all sync.WaitGroup
	failures := make(chan error, atOnce)
	began := time.Now()
	for range atOnce {
		all.Go(func() {
			for next.Add(1) <= int64(devices) {
				if err := s.visit(ctx, address); err != nil {
					failures <- err
					return
				}
				done.Add(1)
			}
		})
	}
	all.Wait()
	took := time.Since(began).Seconds()
	close(failures)
	if err := <-failures; err != nil {
		return measure{}, err
	}
	peak, err := peakMemory(serve.Process.Pid)
	return measure{"fleet", float64(done.Load()) / took, 0, peak,
		fmt.Sprintf("MiB held at most while %d devices exchange, %d at a time; 130", devices, atOnce)}, err
}

// visit is one device's first exchange: it enrols, pushes ten changes and pulls two pages.
func (s *stand) visit(ctx context.Context, address string) error {
	code, err := s.code(service.FirstAdminName)
	if err != nil {
		return err
	}
	first, err := link.New(address, "", "bench", link.How{})
	if err != nil {
		return err
	}
	incarnation, now := uuid.Must(uuid.NewV7()), time.Now()
	var got wire.Enrolled
	if _, err := first.Call(ctx, http.MethodPost, "/v1/enrolments", nil,
		wire.Enrolment{Code: code, Device: "one of many", Incarnation: incarnation}, &got); err != nil {
		return err
	}
	l, err := link.New(address, got.Token, "bench", link.How{})
	if err != nil {
		return err
	}
	var definitions wire.Definitions
	if _, err := l.Call(ctx, http.MethodGet, "/v1/definitions", nil, nil, &definitions); err != nil {
		return err
	}
	batch := wire.Batch{ID: uuid.Must(uuid.NewV7()), Exchange: uuid.Must(uuid.NewV7()), Incarnation: incarnation,
		Clock: wire.Clock{SentAt: now}}
	for n := range 10 {
		text, err := json.Marshal(change.Change{Number: int64(n + 1), Collection: "trails", Record: uuid.Must(uuid.NewV7()),
			Kind: change.Add, Fields: record.Diff(nil, fieldsOf(n)),
			Stamp: clock.At(now), EditedAt: now})
		if err != nil {
			return err
		}
		batch.Changes = append(batch.Changes, text)
	}
	var answers wire.Answers
	if _, err := l.Call(ctx, http.MethodPost, "/v1/batches", nil, batch, &answers); err != nil {
		return err
	}
	var page wire.Page
	for range 2 {
		if _, err := l.Call(ctx, http.MethodGet, fmt.Sprintf("/v1/changes/trails?cursor=%d&limit=2000", page.Cursor), nil,
			nil, &page); err != nil {
			return err
		}
	}
	return nil
}

// peakMemory is the most memory that a process has held, in MiB.
func peakMemory(pid int) (float64, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(text)) {
		if rest, is := strings.CutPrefix(line, "VmHWM:"); is {
			kib, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			return kib / 1024, err
		}
	}
	return 0, errors.New("the system does not say how much memory a process holds")
}
