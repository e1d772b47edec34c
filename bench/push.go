package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"homing/central"
	"homing/core/change"
	"homing/core/clock"
	"homing/core/record"
	"homing/link"
	"homing/service"
	"homing/wire"
)

// hand is a device that pushes by hand.
type hand struct {
	link        *link.Link
	incarnation uuid.UUID
	number      int64
}

func (s *stand) hand(ctx context.Context) (*hand, error) { return s.handAt(ctx, s.running.URL()) }

func (s *stand) handAt(ctx context.Context, url string) (*hand, error) {
	h := &hand{incarnation: uuid.Must(uuid.NewV7())}
	code, _, err := s.running.Central.IssueCode(ctx, central.Everything(service.FirstAdminName), service.FirstAdminName, time.Hour)
	if err != nil {
		return nil, err
	}
	got, err := s.running.Central.Enrol(ctx, wire.Enrolment{Code: code, Device: "bench", Incarnation: h.incarnation}, "")
	if err != nil {
		return nil, err
	}
	h.link, err = link.New(url, got.Token, "bench", link.How{})
	return h, err
}

// batches are adds of new records.
func (h *hand) batches(from, count, size int) ([]wire.Batch, error) {
	var all []wire.Batch
	now := time.Now()
	for start := from; start < from+count; start += size {
		b := wire.Batch{ID: uuid.Must(uuid.NewV7()), Exchange: uuid.Must(uuid.NewV7()), Incarnation: h.incarnation,
			Clock: wire.Clock{SentAt: now}}
		for n := start; n < min(start+size, from+count); n++ {
			h.number++
			text, err := json.Marshal(change.Change{Number: h.number, Collection: "trails", Record: uuid.Must(uuid.NewV7()), Kind: change.Add,
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

func (h *hand) send(ctx context.Context, batches []wire.Batch) error {
	for _, b := range batches {
		var answers wire.Answers
		if _, err := h.link.Call(ctx, http.MethodPost, "/v1/batches", nil, b, &answers); err != nil {
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

// push compares accepted changes over HTTP with the same rows (record and version) written by the best plain SQL: one
// transaction a batch, one statement a table, whose rows come as arrays. By one device, by four at once, and a change a
// batch.
func (s *stand) push(ctx context.Context, count int) (all []measure, err error) {
	bare, err := newBare(ctx, s.database)
	if err != nil {
		return nil, err
	}
	pushed := 0
	for _, kind := range []struct {
		name                 string
		hands, changes, size int
		target               string
	}{{"push", 1, count, batchSize, "0.35 (0.5)"}, {"push by four", 4, 2 * count, batchSize, "0.35 (0.5)"},
		{"push of one each", 1, count / 40, 1, "none set"}} {
		each := kind.changes / kind.hands
		hands, work := make([]*hand, kind.hands), make([][]wire.Batch, kind.hands)
		for n := range hands {
			if hands[n], err = s.hand(ctx); err != nil {
				return nil, err
			}
			if work[n], err = hands[n].batches(pushed+n*each, each, kind.size); err != nil {
				return nil, err
			}
		}
		homing, err := atOnce(kind.hands, func(n int) error { return hands[n].send(ctx, work[n]) })
		if err != nil {
			return nil, err
		}
		plain, err := bare.write(ctx, pushed, kind.hands, each, kind.size)
		if err != nil {
			return nil, err
		}
		pushed += each * kind.hands
		a, b := float64(kind.changes)/homing.Seconds(), float64(kind.changes)/plain.Seconds()
		all = append(all, measure{kind.name, a, b, a / b, kind.target})
	}
	return all, nil
}

// atOnce says how long several took who worked at the same time.
func atOnce(hands int, work func(n int) error) (time.Duration, error) {
	errs := make([]error, hands)
	var together sync.WaitGroup
	began := time.Now()
	for n := range hands {
		together.Go(func() { errs[n] = work(n) })
	}
	together.Wait()
	return time.Since(began), errors.Join(errs...)
}

// bare writes the rows that Homing has written once more, into tables of the same form, as a program without it would.
type bare struct {
	database string
	tables   []bareTable
}

type bareTable struct {
	name           string
	columns, types []string
	insert         string
}

func newBare(ctx context.Context, database string) (*bare, error) {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return nil, err
	}
	defer conn.Close(ctx)
	b := &bare{database: database}
	for _, name := range []string{"records", "versions"} {
		if _, err := conn.Exec(ctx, fmt.Sprintf(`CREATE TABLE bare_%[1]s (LIKE %[1]s INCLUDING ALL)`, name)); err != nil {
			return nil, err
		}
		rows, err := conn.Query(ctx, `SELECT quote_ident(attname), format_type(atttypid, atttypmod) FROM pg_attribute
			WHERE attrelid = $1::regclass AND attnum > 0 AND NOT attisdropped ORDER BY attnum`, name)
		if err != nil {
			return nil, err
		}
		t := bareTable{name: name}
		var column, kind string
		if _, err := pgx.ForEachRow(rows, []any{&column, &kind}, func() error {
			t.columns, t.types = append(t.columns, column), append(t.types, kind)
			return nil
		}); err != nil {
			return nil, err
		}
		places, values := make([]string, len(t.columns)), make([]string, len(t.columns))
		for n := range t.columns {
			places[n], values[n] = fmt.Sprintf("$%d::text[]", n+1), fmt.Sprintf("c%d::%s", n, t.types[n])
		}
		names := make([]string, len(t.columns))
		for n := range names {
			names[n] = fmt.Sprint("c", n)
		}
		t.insert = fmt.Sprintf(`INSERT INTO bare_%s (%s) SELECT %s FROM unnest(%s) AS r (%s)`, name, strings.Join(t.columns, ", "),
			strings.Join(values, ", "), strings.Join(places, ", "), strings.Join(names, ", "))
		b.tables = append(b.tables, t)
	}
	return b, nil
}

// read gives the columns of the rows from a place on, as texts.
func (t bareTable) read(ctx context.Context, conn *pgx.Conn, from, count int) ([]any, error) {
	texts := make([]string, len(t.columns))
	for n, column := range t.columns {
		texts[n] = column + "::text"
	}
	rows, err := conn.Query(ctx, fmt.Sprintf(`SELECT %s FROM %s r WHERE r.collection = 'trails' ORDER BY r.position LIMIT %d OFFSET %d`,
		strings.Join(texts, ", "), t.name, count, from))
	if err != nil {
		return nil, err
	}
	all := make([][]*string, len(t.columns))
	values := make([]*string, len(t.columns))
	into := make([]any, len(t.columns))
	for n := range values {
		into[n] = &values[n]
	}
	if _, err := pgx.ForEachRow(rows, into, func() error {
		for n, value := range values {
			all[n] = append(all[n], value)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	args := make([]any, len(all))
	for n := range all {
		args[n] = all[n]
	}
	return args, nil
}

// write writes what several have pushed, by as many connections at once.
func (b *bare) write(ctx context.Context, from, hands, each, size int) (time.Duration, error) {
	conns, work := make([]*pgx.Conn, hands), make([][][][]any, hands) // by connection, batch and table
	for n := range hands {
		conn, err := pgx.Connect(ctx, b.database)
		if err != nil {
			return 0, err
		}
		defer conn.Close(ctx)
		conns[n] = conn
		tables := make([][]any, len(b.tables))
		for k, t := range b.tables {
			if tables[k], err = t.read(ctx, conn, from+n*each, each); err != nil {
				return 0, err
			}
		}
		for start := 0; start < each; start += size {
			batch := make([][]any, len(b.tables))
			for k := range b.tables {
				for _, column := range tables[k] {
					texts := column.([]*string)
					batch[k] = append(batch[k], slices.Clone(texts[start:min(start+size, len(texts))]))
				}
			}
			work[n] = append(work[n], batch)
		}
	}
	return atOnce(hands, func(n int) error {
		for _, batch := range work[n] {
			tx, err := conns[n].Begin(ctx)
			if err != nil {
				return err
			}
			for k, t := range b.tables {
				if _, err := tx.Exec(ctx, t.insert, batch[k]...); err != nil {
					return errors.Join(err, tx.Rollback(ctx))
				}
			}
			if err := tx.Commit(ctx); err != nil {
				return err
			}
		}
		return nil
	})
}
