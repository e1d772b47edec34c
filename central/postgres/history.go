package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/desk"
	"homing/core/record"
)

// FieldsAt is [changes.Finding.FieldsAt].
func (t *Tx) FieldsAt(ctx context.Context, at desk.Key, revision int64) (record.Fields, error) {
	return FieldsAt(ctx, t, at, revision)
}

// FieldsAt gives the fields that a record had at a revision, from the history.
func FieldsAt(ctx context.Context, q Querier, at desk.Key, revision int64) (record.Fields, error) {
	var deltas [][]byte
	if err := q.SelectContext(ctx, &deltas, `SELECT delta FROM versions
			WHERE collection = $1 AND record = $2 AND revision <= $3 ORDER BY revision`,
		at.Collection, at.ID, revision); err != nil {
		return nil, err
	}
	fields := record.Fields{}
	for _, text := range deltas {
		var delta record.Delta
		if err := json.Unmarshal(text, &delta); err != nil {
			return nil, fmt.Errorf("stored version of %s: %w", at.ID, err)
		}
		fields = fields.Apply(delta)
	}
	return fields, nil
}

// Moments is [changes.Loading.Moments].
func (t *Tx) Moments(ctx context.Context, of []desk.Key) (map[desk.Key][]desk.Moment, error) {
	collections, records := make([]string, len(of)), make([]string, len(of))
	for n, at := range of {
		collections[n], records[n] = at.Collection, at.ID.String()
	}
	var rows []struct {
		Collection  string    `db:"collection"`
		Record      uuid.UUID `db:"record"`
		Revision    int64     `db:"revision"`
		Delta       []byte    `db:"delta"`
		Incarnation uuid.UUID `db:"incarnation"`
		Number      int64     `db:"number"`
		ReceivedAt  time.Time `db:"received_at"`
	}
	if err := t.SelectContext(ctx, &rows, `SELECT collection, record, revision, delta, incarnation, number, received_at
		FROM versions JOIN unnest($1::text[], $2::uuid[]) AS w (collection, record) USING (collection, record)
		ORDER BY collection, record, revision`, collections, records); err != nil {
		return nil, err
	}
	all := map[desk.Key][]desk.Moment{}
	for _, r := range rows {
		var delta record.Delta
		if err := json.Unmarshal(r.Delta, &delta); err != nil {
			return nil, fmt.Errorf("stored version of %s: %w", r.Record, err)
		}
		at := desk.Key{Collection: r.Collection, ID: r.Record}
		source := change.Source{Incarnation: r.Incarnation, Number: r.Number}
		all[at] = desk.Next(all[at], r.Revision, source, r.ReceivedAt, delta)
	}
	return all, nil
}

// Former is [changes.Loading.Former].
func (t *Tx) Former(ctx context.Context, device uuid.UUID) ([]desk.Former, error) {
	var rows []struct {
		People []byte    `db:"people"`
		Until  time.Time `db:"until"`
	}
	if err := t.SelectContext(ctx, &rows, `SELECT people, until FROM former_people WHERE device = $1 ORDER BY until, place`,
		device); err != nil {
		return nil, err
	}
	all := make([]desk.Former, len(rows))
	for n, r := range rows {
		all[n].Until = r.Until
		if err := json.Unmarshal(r.People, &all[n].People); err != nil {
			return nil, fmt.Errorf("stored people of the device %s: %w", device, err)
		}
	}
	return all, nil
}

// Disputed is [changes.Finding.Disputed].
func (t *Tx) Disputed(ctx context.Context, at desk.Key) ([]desk.Accepted, error) {
	var rows []struct {
		Revision    int64     `db:"revision"`
		Delta       []byte    `db:"delta"`
		Sent        []byte    `db:"sent"`
		Decisions   []byte    `db:"decisions"`
		Incarnation uuid.UUID `db:"incarnation"`
		Number      int64     `db:"number"`
		Stamp       string    `db:"stamp"`
		Device      string    `db:"device"`
	}
	if err := t.SelectContext(ctx, &rows, `SELECT revision, delta, sent, decisions, incarnation, number, stamp, device FROM versions
		WHERE collection = $1 AND record = $2 AND decisions IS NOT NULL
			ORDER BY revision DESC`, at.Collection, at.ID); err != nil {
		return nil, err
	}
	past := make([]desk.Accepted, len(rows))
	for n, r := range rows {
		v := &past[n]
		v.Key, v.Revision, v.Device = at, r.Revision, r.Device
		v.Source = change.Source{Incarnation: r.Incarnation, Number: r.Number}
		var err error
		if v.Stamp, err = clock.Parse(r.Stamp); err != nil {
			return nil, err
		}
		if r.Sent == nil {
			r.Sent = r.Delta
		}
		err = ReadAll(fmt.Sprintf("revision %d of %s", r.Revision, at.ID),
			Into{r.Delta, &v.Delta}, Into{r.Sent, &v.Change.Fields}, Into{r.Decisions, &v.Decisions})
		if err != nil {
			return nil, err
		}
	}
	return past, nil
}

// Into is a stored text and where its value goes.
type Into struct {
	Text  []byte
	Value any
}

// ReadAll reads stored texts; one that is not there leaves its value as it is.
func ReadAll(what string, texts ...Into) error {
	for _, one := range texts {
		if one.Text == nil {
			continue
		}
		if err := json.Unmarshal(one.Text, one.Value); err != nil {
			return fmt.Errorf("stored %s: %w", what, err)
		}
	}
	return nil
}
