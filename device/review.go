package device

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
)

// Queued is one change of the outbox, as a review shows it.
type Queued struct {
	Number     int64           `json:"number"`
	Collection string          `json:"collection"`
	Record     uuid.UUID       `json:"record"`
	Label      string          `json:"label"`
	Kind       change.Kind     `json:"kind"`
	Base       int64           `json:"base"`
	Fields     record.Delta    `json:"fields"`
	EditedAt   time.Time       `json:"edited_at"`
	Author     string          `json:"author"`
	Sent       bool            `json:"sent"`             // it left at least once, but no answer has come
	Verdict    change.Verdict  `json:"answer,omitempty"` // refused or waiting
	Reasons    []change.Reason `json:"reasons,omitempty"`
	// References gives the labels of the records that the fields refer to, by id, as far as they are on this device.
	References map[string]string `json:"references,omitempty"`
}

// Shown writes a value for people: the label of the record that it refers to, or else what plain makes of it.
func (q Queued) Shown(value json.RawMessage, plain func(json.RawMessage) string) string {
	text := plain(value)
	if label := q.References[text]; label != "" {
		return label
	}
	return text
}

// Review lists what central has not accepted yet of the changes of whoever is signed in, in the order in which they
// will be sent, field by field from what to what. Those of others on the same device are sealed for them;
// [Store.People] counts them.
func (s *Store) Review(ctx context.Context) ([]Queued, error) {
	if err := s.open(ctx); err != nil {
		return nil, err
	}
	worker, err := fact(ctx, s.db, factWorker)
	if err != nil {
		return nil, storeError(err)
	}
	var rows []struct {
		queued
		View string `db:"view"`
	}
	err = s.db.SelectContext(ctx, &rows, `
		SELECT o.*, r.fields AS view FROM outbox o JOIN records r ON r.collection = o.collection AND r.id = o.record
			WHERE o.author = ? ORDER BY o.number`, worker)
	if err != nil {
		return nil, storeError(err)
	}
	all := make([]Queued, len(rows))
	for n, row := range rows {
		ch, err := row.change()
		if err != nil {
			return nil, err
		}
		c, err := s.Collection(ctx, row.Collection)
		if err != nil {
			return nil, err
		}
		ch.Fields = c.CurrentNames(ch.Fields)
		var view record.Fields
		if err := json.Unmarshal([]byte(row.View), &view); err != nil {
			return nil, fmt.Errorf("%w: record %s", ErrDamaged, row.queued.Record)
		}
		all[n] = Queued{Number: ch.Number, Collection: ch.Collection, Record: ch.Record, Label: label(c, ch.Record, view),
			Kind: ch.Kind, Base: ch.Base,
			Fields: ch.Fields, EditedAt: ch.EditedAt, Author: ch.Author, Sent: row.State == isSent}
		if all[n].References, err = s.references(ctx, c, ch.Fields); err != nil {
			return nil, err
		}
		if row.State.answered() {
			all[n].Verdict = change.Verdict(row.State)
		}
		if row.Reasons != nil {
			if err := json.Unmarshal([]byte(*row.Reasons), &all[n].Reasons); err != nil {
				return nil, fmt.Errorf("%w: change %d", ErrDamaged, ch.Number)
			}
		}
	}
	return all, nil
}

func label(c *definition.Collection, id uuid.UUID, view record.Fields) string {
	_, text := provisional(c, id, view)
	return text
}

// references finds the labels of the records that a delta's fields refer to.
func (s *Store) references(ctx context.Context, c *definition.Collection,
	delta record.Delta) (map[string]string, error) {
	labels := map[string]string{}
	for _, name := range delta.Names() {
		field, known := c.Field(name)
		if !known || field.Reference == "" {
			continue
		}
		for _, raw := range []json.RawMessage{delta[name].From, delta[name].To} {
			id, err := uuid.Parse(definition.Plain(raw))
			if err != nil {
				continue // no value, or one that refers to nothing
			}
			r, err := s.Get(ctx, field.Reference, id)
			switch {
			case err == nil:
				labels[id.String()] = r.Label
			case !errors.Is(err, ErrNoRecord) && !errors.Is(err, ErrNoCollection):
				return nil, err
			}
		}
	}
	return labels, nil
}
