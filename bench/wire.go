package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"strings"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/device"
	"homing/service"
	"homing/wire"
)

// wide is how many texts a record of some 2 KB has.
const wide = 16

// wire measures what a record of 2 KB costs on the wire when one of its fields changes, and what is stored of each.
func (s *stand) wire(ctx context.Context) ([]cost, error) {
	costs, err := s.stored(ctx)
	if err != nil {
		return nil, err
	}
	text := "collection: surveys\nfields:\n  title: {type: string}\n"
	for n := range wide {
		text += fmt.Sprintf("  text_%d: {type: string}\n", n)
	}
	d, err := definition.ReadSource("surveys.yaml", []byte(text))
	if err != nil {
		return nil, err
	}
	if _, err := s.running.Central.Define(ctx, service.FirstAdminName, []definition.Definition{d}); err != nil {
		return nil, err
	}
	author, err := s.enrolled(ctx, "author.db")
	if err != nil {
		return nil, err
	}
	reader, err := s.enrolled(ctx, "reader.db")
	if err != nil {
		return nil, err
	}
	between, err := newWire(s.running.URL())
	if err != nil {
		return nil, err
	}
	defer between.Close()
	for _, store := range []*device.Store{author, reader} {
		defer store.Close()
		if _, err := store.Exchange(ctx, nil); err != nil {
			return nil, err
		}
		if err := store.MoveCentral(ctx, between.url()); err != nil {
			return nil, err
		}
	}
	random := rand.New(rand.NewPCG(1, 2))
	const records = 100
	var ids []uuid.UUID
	for n := range records {
		fields := device.Fields{"title": fmt.Sprint("Survey ", n)}
		for k := range wide {
			fields[fmt.Sprintf("text_%d", k)] = prose(random, 20)
		}
		r, err := author.Add(ctx, "surveys", fields)
		if err != nil {
			return nil, err
		}
		ids = append(ids, r.ID)
	}
	exchange := func(store *device.Store) (up, down float64, err error) {
		before := [2]int64{between.up.Load(), between.down.Load()}
		_, err = store.Exchange(ctx, nil)
		return float64(between.up.Load()-before[0]) / records, float64(between.down.Load()-before[1]) / records, err
	}
	addUp, _, err := exchange(author)
	if err != nil {
		return nil, err
	}
	if _, _, err = exchange(reader); err != nil {
		return nil, err
	}
	for _, id := range ids {
		if _, err := author.Edit(ctx, "surveys", id, device.Fields{"text_7": prose(random, 20)}); err != nil {
			return nil, err
		}
	}
	editUp, _, err := exchange(author)
	if err != nil {
		return nil, err
	}
	_, part, err := exchange(reader)
	if err != nil {
		return nil, err
	}
	// The same records as they come to a device that does not take them in parts.
	before := between.down.Load()
	var page wire.Page
	whole, err := s.handAt(ctx, between.url())
	if err != nil {
		return nil, err
	}
	if _, err := whole.link.Call(ctx, http.MethodGet, fmt.Sprintf("/v1/changes/surveys?cursor=%d", records), nil, nil, &page); err != nil {
		return nil, err
	}
	if len(page.Records) != records {
		return nil, fmt.Errorf("%d records came whole", len(page.Records))
	}
	down := float64(between.down.Load()-before) / records
	return append(costs, cost{"a record of 2 KB", addUp, "bytes up to add it, in a batch of 100, headers and all", ""},
		cost{"one field of it edited", editUp, "bytes up", ""}, cost{"", part, "bytes down", ""},
		cost{"", down, "bytes down, were it sent whole", ""}, cost{"", 100 * part / down, "% of that", "25"}), nil
}

// prose is a text of so many words.
func prose(random *rand.Rand, words int) string {
	known := strings.Fields("the boards of the deck are cracked at both ends and hand rail posts lean to valley side after heavy snow water runs over path " +
		"below spring steps washed out sign arm broken off cable loose bolts missing anchor rusted rock fall blocks upper bend one tree across trail " +
		"needs two people with saw half day before winter seen again nothing new repaired last summer holds well mark with paint close until")
	text := make([]string, words)
	for n := range text {
		text[n] = known[random.IntN(len(known))]
	}
	return strings.Join(text, " ")
}

// stored is what both sides store of the records that push has pushed.
func (s *stand) stored(ctx context.Context) (costs []cost, err error) {
	db, err := sqlx.Open("pgx", s.database)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	var accepted float64
	if err := db.GetContext(ctx, &accepted, `SELECT count(*) FROM versions`); err != nil {
		return nil, err
	}
	var all float64
	for _, table := range []string{"records", "versions", "answers"} {
		var bytes float64
		if err := db.GetContext(ctx, &bytes, `SELECT pg_total_relation_size($1)`, table); err != nil {
			return nil, err
		}
		costs, all = append(costs, cost{"", bytes / accepted, "of it in " + table, ""}), all+bytes
	}
	store, err := s.enrolled(ctx, "stored.db")
	if err != nil {
		return nil, err
	}
	defer store.Close()
	summary, err := store.Exchange(ctx, nil)
	if err != nil {
		return nil, err
	}
	if _, err := store.Exchange(ctx, nil); err != nil {
		return nil, err
	}
	file, err := os.Stat(store.Path())
	if err != nil {
		return nil, err
	}
	return append([]cost{{"an accepted change", all / accepted, "bytes stored at central, indexes and all", "1050 (800)"}},
		append(costs, cost{"a record on a device", float64(file.Size()) / float64(summary.Received), "bytes in its file", ""})...), nil
}
