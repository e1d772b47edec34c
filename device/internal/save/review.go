package save

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
	"homing/device/internal/file"
	"homing/device/internal/hold"
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

// Review is [device.Store.Review].
func (s *Desk) Review(ctx context.Context) ([]Queued, error) {
	if err := s.Closed(ctx); err != nil {
		return nil, err
	}
	worker, err := file.Fact(ctx, s.DB, file.FactWorker)
	if err != nil {
		return nil, file.StoreError(err)
	}
	var rows []struct {
		file.Entry
		View string `db:"view"`
	}
	err = s.DB.SelectContext(ctx, &rows, `
		SELECT o.*, r.fields AS view FROM outbox o JOIN records r ON r.collection = o.collection AND r.id = o.record
			WHERE o.author = ? ORDER BY o.number`, worker)
	if err != nil {
		return nil, file.StoreError(err)
	}
	all := make([]Queued, len(rows))
	for n, row := range rows {
		ch, err := row.Change()
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
			return nil, fmt.Errorf("%w: record %s", file.ErrDamaged, row.Entry.Record)
		}
		all[n] = Queued{
			Number:     ch.Number,
			Collection: ch.Collection,
			Record:     ch.Record,
			Label:      Label(c, ch.Record, view),
			Kind:       ch.Kind,
			Base:       ch.Base,
			Fields:     ch.Fields,
			EditedAt:   ch.EditedAt,
			Author:     ch.Author,
			Sent:       row.State == file.IsSent,
		}
		if all[n].References, err = s.references(ctx, c, ch.Fields); err != nil {
			return nil, err
		}
		if row.State.Answered() {
			all[n].Verdict = change.Verdict(row.State)
		}
		if row.Reasons != nil {
			if err := json.Unmarshal([]byte(*row.Reasons), &all[n].Reasons); err != nil {
				return nil, fmt.Errorf("%w: change %d", file.ErrDamaged, ch.Number)
			}
		}
	}
	return all, nil
}

// Label is how a record is called in lists.
func Label(c *definition.Collection, id uuid.UUID, view record.Fields) string {
	_, text := hold.Provisional(c, id, view)
	return text
}

// references finds the labels of the records that a delta's fields refer to.
func (s *Desk) references(ctx context.Context, c *definition.Collection,
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
			case !errors.Is(err, file.ErrNoRecord) && !errors.Is(err, file.ErrNoCollection):
				return nil, err
			}
		}
	}
	return labels, nil
}
