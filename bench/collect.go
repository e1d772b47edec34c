package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jmoiron/sqlx"

	"homing/central/changes"
	"homing/core/definition"
	"homing/core/query"
	"homing/core/rights"
	"homing/device"
	"homing/link"
	"homing/service"
)

const posts = `collection: posts
label: "{name}"
key: number
fields:
  number: {type: string}
  name: {type: string}
  district: {type: string}
  height: {type: number}
sync:
  territory: record.district
`

var districts = []string{"kell", "ostra", "tamrin"}

// importRows compares rows a second that come in through the service, by key, with COPY of the same rows into a bare
// table.
func (s *stand) importRows(ctx context.Context, count int) (measure, error) {
	d, err := definition.ReadSource("posts.yaml", []byte(posts))
	if err != nil {
		return measure{}, err
	}
	if _, err := s.running.Central.Define(ctx, service.FirstAdminName, []definition.Definition{d}); err != nil {
		return measure{}, err
	}
	var parts [][]map[string]any
	for at := 0; at < count; at += batchSize {
		var rows []map[string]any
		for n := at; n < min(at+batchSize, count); n++ {
			rows = append(rows, map[string]any{"number": fmt.Sprintf("P%07d", n), "name": fmt.Sprintf("Post %d", n),
				"district": districts[n%len(districts)], "height": n % 3000})
		}
		parts = append(parts, rows)
	}
	admin, err := s.admin(ctx)
	if err != nil {
		return measure{}, err
	}
	began := time.Now()
	for _, rows := range parts {
		var outcomes []changes.Row
		if _, err := admin.Call(ctx, http.MethodPut, "/v1/rows/posts", nil, map[string]any{"key": "number", "rows": rows},
			&outcomes); err != nil {
			return measure{}, err
		}
		if len(outcomes) != len(rows) || outcomes[0].Outcome != changes.RowAdded {
			return measure{}, fmt.Errorf("%d rows came to %d outcomes", len(rows), len(outcomes))
		}
	}
	homing := float64(count) / time.Since(began).Seconds()
	bare, err := s.copyIn(ctx, parts)
	return measure{"import", homing, bare, homing / bare, "none set"}, err
}

// admin is a link with the session of the first admin.
func (s *stand) admin(ctx context.Context) (*link.Link, error) {
	first, err := link.New(s.running.URL(), "", "bench", link.How{})
	if err != nil {
		return nil, err
	}
	var got struct{ Token string }
	if _, err := first.Call(ctx, http.MethodPost, "/v1/session", nil,
		map[string]string{"worker": service.FirstAdminName, "password": s.password}, &got); err != nil {
		return nil, err
	}
	return link.New(s.running.URL(), got.Token, "bench", link.How{})
}

func (s *stand) copyIn(ctx context.Context, parts [][]map[string]any) (float64, error) {
	conn, err := pgx.Connect(ctx, s.database)
	if err != nil {
		return 0, err
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, `CREATE TABLE bare_posts (number text PRIMARY KEY, fields json NOT NULL)`); err != nil {
		return 0, err
	}
	var rows [][]any
	for _, part := range parts {
		for _, row := range part {
			text, err := json.Marshal(row)
			if err != nil {
				return 0, err
			}
			rows = append(rows, []any{row["number"], string(text)})
		}
	}
	began := time.Now()
	done, err := conn.CopyFrom(ctx, pgx.Identifier{"bare_posts"}, []string{"number", "fields"}, pgx.CopyFromRows(rows))
	return float64(done) / time.Since(began).Seconds(), err
}

// territoryLoad is the first load of a worker who covers one of three territories, against the pipe of these rows.
func (s *stand) territoryLoad(ctx context.Context) (measure, error) {
	if err := s.running.Central.AddWorker(ctx, "crew", rights.Worker, "", districts[0]); err != nil {
		return measure{}, err
	}
	db, err := sqlx.Open("pgx", s.database)
	if err != nil {
		return measure{}, err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, `VACUUM ANALYZE records`); err != nil {
		return measure{}, err
	}
	store, err := s.enrolledFor(ctx, "crew", "crew.db")
	if err != nil {
		return measure{}, err
	}
	defer store.Close()
	began := time.Now()
	var took time.Duration // of posts alone: trails come whole, and are loaded after it by name
	received := 0
	if _, err := store.Exchange(ctx, func(p device.Progress) {
		if p.Collection == "posts" {
			took, received = time.Since(began), p.Done
		}
	}); err != nil {
		return measure{}, err
	}
	homing := float64(received) / took.Seconds()
	plain, err := s.pipe(ctx, store.Path(), `collection = 'posts' AND territories && '{kell}'`)
	bare := float64(plain.records) / plain.took.Seconds()
	return measure{"territory", homing, bare, homing / bare, "none set"}, err
}

// search compares finding records of a large local store with the same scan by bare SQL: words that few records hold.
func (s *stand) search(ctx context.Context, count int) (measure, error) {
	store, err := s.enrolled(ctx, "search.db")
	if err != nil {
		return measure{}, err
	}
	defer store.Close()
	if _, err := store.Exchange(ctx, nil); err != nil {
		return measure{}, err
	}
	db, err := sqlx.Open("sqlite3", "file:"+store.Path())
	if err != nil {
		return measure{}, err
	}
	defer db.Close()
	var homing, bare time.Duration
	for n := range count {
		word := fmt.Sprint("path ", 700+n)
		began := time.Now()
		found, err := store.Find(ctx, "trails", query.Ask{Search: word, Sort: "name", Limit: 50})
		if err != nil {
			return measure{}, err
		}
		homing += time.Since(began)
		if found.Total == 0 {
			return measure{}, fmt.Errorf("nothing was found for %q", word)
		}
		began = time.Now()
		var ids []string
		if err := db.SelectContext(ctx, &ids, `SELECT id FROM records
				WHERE collection = 'trails' AND NOT removed AND lower(fields) LIKE ?`, "%"+word+"%"); err != nil {
			return measure{}, err
		}
		bare += time.Since(began)
	}
	a, b := float64(count)/homing.Seconds(), float64(count)/bare.Seconds()
	return measure{"search", a, b, b / a, "none set (times as long)"}, nil
}
