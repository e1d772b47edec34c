package postgres

import (
	"context"
	"encoding/json"
	"fmt"

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
