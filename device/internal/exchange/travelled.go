package exchange

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/record"
	"homing/core/settings"
	"homing/device/internal/file"
	"homing/device/internal/save"
	"homing/wire"
)

// How long the log keeps what has travelled. A central that is restored from a backup older than this, or with more
// changes after it, is not offered all of them again.
const (
	keepTravelled = 30 * 24 * time.Hour
	mostTravelled = 50_000 // changes and records
)

// noteSent keeps a change that central has answered for good.
func (e *exchange) noteSent(ctx context.Context, tx *sqlx.Tx, q file.Entry, answer wire.Answer) error {
	if answer.Answer == change.Waiting {
		return nil
	}
	generation := q.Generation
	if generation == "" {
		generation = e.generation.String()
	}
	unsure, err := e.unsure(ctx, tx, q)
	if err != nil {
		return err
	}
	return e.Exec(ctx, tx, file.InsertSent,
		file.TimeText(e.Now()),
		e.summary.Exchange.String(),
		q.Collection,
		q.Record,
		q.Kind,
		answer.Answer,
		answer.Revision,
		q.Fields,
		q.Number,
		q.Base,
		q.Stamp,
		answer.Stamp.String(),
		(unsure + e.offset.Error).Milliseconds(),
		q.EditedAt,
		q.Author,
		q.Origin,
		generation,
		q.Group,
		q.GroupOf,
		q.Seen,
		q.Folds,
		q.Digests,
		q.Parts,
		file.Blob(q.Kept),
		file.Blob(q.Sealed),
	)
}

// noteReceived keeps the records of a page. Those of a first load are not kept one by one: they are what the store
// holds.
func (e *exchange) noteReceived(ctx context.Context, tx *sqlx.Tx, page wire.Page, gaining bool) error {
	var first bool
	if err := tx.GetContext(ctx, &first, `SELECT loading OR cursor = 0 OR pulled_at IS NULL
			FROM collections WHERE name = ?`, page.Collection); err != nil || first || gaining {
		return err
	}
	insert, err := tx.PrepareContext(ctx, `INSERT INTO travelled (at, exchange, up, collection, record, kind, revision,
			fields, author) VALUES (?, ?, 0, ?, ?, ?, ?, ?, ?)`)
	if err != nil {
		return err
	}
	defer insert.Close()
	at, exchange := file.TimeText(e.Now()), e.summary.Exchange.String()
	for _, r := range page.Records {
		kind, fields := "record", string(r.Fields)
		switch {
		case r.Withdrawn:
			kind, fields = "withdrawn", "{}"
		case r.Removed:
			kind, fields = "removed", "{}"
		}
		if _, err := insert.ExecContext(ctx, at, exchange, page.Collection, r.ID.String(), kind, r.Revision, fields,
			r.Author); err != nil {
			return err
		}
	}
	return nil
}

// forgetTravelled keeps the log within its bounds.
func (s *Line) forgetTravelled(ctx context.Context) error {
	kept, err := file.Settings(ctx, s.DB)
	if err != nil {
		return file.StoreError(err)
	}
	span := time.Duration(keepTravelled)
	if said, is := kept.Values.Span(settings.KeepLog); is {
		span = said
	}
	if _, err := s.DB.ExecContext(ctx, `DELETE FROM travelled WHERE at < ?1 OR rowid <= (SELECT max(rowid)
			FROM travelled) - ?2`,
		file.TimeText(s.Now().Add(-span)), mostTravelled); err != nil {
		return file.StoreError(err)
	}
	_, err = s.DB.ExecContext(
		ctx,
		`DELETE FROM exchanges WHERE started_at < ?`,
		file.TimeText(s.Now().Add(-span)),
	)
	return file.StoreError(err)
}

// Carried is a change that an exchange sent, or a record that it brought.
type Carried struct {
	At         time.Time       `json:"at"` // by this device's clock
	Up         bool            `json:"up"`
	Collection string          `json:"collection"`
	Record     uuid.UUID       `json:"record"`
	Label      string          `json:"label"` // what the record is called here now, or by what was carried of it
	What       string          `json:"what"`  // add, edit, remove, or sealed: what, its author knows; of a record: record, removed or withdrawn
	Answer     change.Verdict  `json:"answer,omitempty"`
	Revision   int64           `json:"revision"`
	Number     int64           `json:"number,omitempty"`
	Fields     json.RawMessage `json:"fields"` // of a change, from what to what; of a record, its values
	Author     string          `json:"author,omitempty"`
}

// CarriedSealed is what a change did that went sealed: only its author and central know.
const CarriedSealed = "sealed"

// Carried is [device.Store.Carried].
func (s *Line) Carried(ctx context.Context, exchange uuid.UUID) ([]Carried, error) {
	if err := s.Closed(ctx); err != nil {
		return nil, err
	}
	return s.carried(ctx, `exchange = ?`, exchange.String())
}

// History is [device.Store.History].
func (s *Line) History(ctx context.Context, collection string, id uuid.UUID) ([]Carried, error) {
	if _, err := s.Get(ctx, collection, id); err != nil {
		return nil, err
	}
	all, err := s.carried(ctx, `t.collection = ? AND record = ?`, collection, id.String())
	slices.Reverse(all)
	return all, err
}

// carried lists what has travelled and fits a condition, in its order.
func (s *Line) carried(ctx context.Context, condition string, args ...any) ([]Carried, error) {
	worker, err := file.Fact(ctx, s.DB, file.FactWorker)
	if err != nil {
		return nil, file.StoreError(err)
	}
	var rows []struct {
		At         string `db:"at"`
		Up         bool   `db:"up"`
		Collection string `db:"collection"`
		Record     string `db:"record"`
		Kind       string `db:"kind"`
		Answer     string `db:"answer"`
		Revision   int64  `db:"revision"`
		Number     int64  `db:"number"`
		Fields     string `db:"fields"`
		Author     string `db:"author"`
		Now        string `db:"now"`
	}
	if err := s.DB.SelectContext(ctx, &rows, `SELECT at, up, t.collection, record, kind, answer, t.revision, number, t.fields,
		t.author, coalesce(r.fields, '') AS now
		FROM travelled t LEFT JOIN records r ON r.collection = t.collection AND r.id = t.record
		WHERE `+condition+` AND NOT (up AND answer = 'refused' AND t.author <> ?)
			ORDER BY t.rowid`, append(args, worker)...); err != nil {
		return nil, file.StoreError(err)
	}
	definitions, err := s.All(ctx, s.DB)
	if err != nil {
		return nil, err
	}
	all := make([]Carried, len(rows))
	for n, row := range rows {
		id, err := file.ParseID(row.Record)
		if err != nil {
			return nil, err
		}
		all[n] = Carried{At: file.ParseTime(row.At), Up: row.Up, Collection: row.Collection, Record: id, What: row.Kind,
			Answer: change.Verdict(row.Answer), Revision: row.Revision,
			Number: row.Number, Fields: json.RawMessage(row.Fields), Author: row.Author}
		if row.Up && row.Kind == "" {
			// It went sealed: this store does not know which record it was about.
			all[n].What, all[n].Record, all[n].Label = CarriedSealed, uuid.Nil, "sealed by "+row.Author
		}
		if c := definitions[row.Collection]; c != nil {
			all[n].Label = save.Label(c, id, carriedFields(row.Now, row.Fields, row.Up))
		}
	}
	return all, nil
}

// carriedFields are the fields that a record has now, or those that were carried of one that is no longer here.
func carriedFields(now, carried string, up bool) record.Fields {
	var fields record.Fields
	if now != "" && json.Unmarshal([]byte(now), &fields) == nil {
		return fields
	}
	if !up {
		if json.Unmarshal([]byte(carried), &fields) != nil {
			return nil // it is shown without
		}
		return fields
	}
	var delta record.Delta
	if json.Unmarshal([]byte(carried), &delta) != nil {
		return nil
	}
	return record.Fields{}.Apply(delta)
}
