package main

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/central"
	"homing/core/definition"
	"homing/core/query"
	"homing/service"
)

// question is one of those that people put to lists.
type question struct {
	name string
	ask  query.Ask
}

// questions are put to a collection whose records have numbers of their own; one is that of some record.
func questions(number, label string) []question {
	return []question{
		{"first page", query.Ask{}}, {"a value that many have", query.Ask{Where: []string{"district=ostra"}}},
		{"a key", query.Ask{Where: []string{"number=" + number}}}, {"a label", query.Ask{Label: label, Limit: 2}},
		{"sorted", query.Ask{Sort: "length_km"}}, {"sorted backwards", query.Ask{Sort: "-length_km"}},
		{"a range, sorted", query.Ask{Where: []string{"length_km>30"}, Sort: "length_km"}}, {"200th page", query.Ask{Offset: 9950}},
		{"words that few have", query.Ask{Search: number}}, {"words that many have", query.Ask{Search: "ridge boards"}},
	}
}

const listed = "\nlists: [district, length_km]\nsearched: true\nkey: number\n"

// lists measures what lists take: on a device, and at central out of many records and out of few.
func (s *stand) lists(ctx context.Context, few, many int) ([]cost, error) {
	db, err := sqlx.Open("pgx", s.database)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	for name, count := range map[string]int{"some": few, "lots": many} {
		d, err := definition.ReadSource(name+".yaml", []byte(strings.Replace(trails, "collection: trails", "collection: "+name, 1)+listed))
		if err != nil {
			return nil, err
		}
		if err := s.multiply(ctx, name, count); err != nil {
			return nil, err
		}
		if _, err := db.ExecContext(ctx, `UPDATE records SET fields = replace(replace(fields::text, 'KL-', 'K' || position || '-'), 'Ridge Path ',
			'Ridge Path ' || position || '-')::json WHERE collection = $1`, name); err != nil {
			return nil, err
		}
		if _, err := s.running.Central.Define(ctx, service.FirstAdminName, []definition.Definition{d}); err != nil {
			return nil, err
		}
		if _, err := db.ExecContext(ctx, `UPDATE collections SET head = $2 WHERE name = $1`, name, count); err != nil {
			return nil, err
		}
	}
	if _, err := db.ExecContext(ctx, `VACUUM ANALYZE records`); err != nil {
		return nil, err
	}
	var all []cost
	took := map[string]map[string]time.Duration{}
	for _, name := range []string{"some", "lots"} {
		took[name] = map[string]time.Duration{}
		var one struct{ Number, Name string }
		if err := db.GetContext(ctx, &one, `SELECT fields->>'number' AS number, fields->>'name' AS name FROM records WHERE collection = $1 AND position = 5000`,
			name); err != nil {
			return nil, err
		}
		for _, q := range questions(one.Number, one.Name) {
			if took[name][q.name], err = median(func() error {
				_, err := s.running.Central.List(ctx, central.Everything(service.FirstAdminName), name, q.ask)
				return err
			}); err != nil {
				return nil, err
			}
		}
	}
	heading := fmt.Sprintf("central, %d records", many)
	for _, q := range questions("", "") {
		a, b := took["lots"][q.name], took["some"][q.name]
		all = append(all, cost{heading, ms(a), fmt.Sprintf("ms: %s (%.1f times what it takes of %d)", q.name, a.Seconds()/b.Seconds(), few), "100 (20), at most 3 times"})
		heading = ""
	}
	return all, nil
}

// median is that of nine times.
func median(do func() error) (time.Duration, error) {
	var all []time.Duration
	for range 9 {
		began := time.Now()
		if err := do(); err != nil {
			return 0, err
		}
		all = append(all, time.Since(began))
	}
	slices.Sort(all)
	return all[len(all)/2], nil
}

// listsHere measures lists of a device's store.
func (s *stand) listsHere(ctx context.Context) ([]cost, error) {
	d, err := definition.ReadSource("trails.yaml", []byte(trails+listed))
	if err != nil {
		return nil, err
	}
	if _, err := s.running.Central.Define(ctx, service.FirstAdminName, []definition.Definition{d}); err != nil {
		return nil, err
	}
	store, err := s.enrolled(ctx, "lists.db")
	if err != nil {
		return nil, err
	}
	defer store.Close()
	summary, err := store.Exchange(ctx, nil)
	if err != nil {
		return nil, err
	}
	var all []cost
	heading := fmt.Sprintf("device, %d records", summary.Received)
	for _, q := range questions("KL-005000", "Ridge Path 5000") {
		took, err := median(func() error {
			_, err := store.Find(ctx, "trails", q.ask)
			return err
		})
		if err != nil {
			return nil, err
		}
		all = append(all, cost{heading, ms(took), "ms: " + q.name, "20 (2), search 30 (10)"})
		heading = ""
	}
	return all, nil
}
