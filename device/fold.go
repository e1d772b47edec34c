package device

import (
	"context"
	"encoding/json"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
)

// fold makes one change of several unsent ones of a record, before they are sent for the first time: edits by one author that nobody came
// between, from the first value to the last. An edit is folded into a later one that sets all its fields again, since otherwise values would be
// dated later than they are; into the add of a record that nobody else has yet, every edit is. The definition may ask for every step instead.
// What was sent, answered or grouped stays as it is, and so does a removal.
func (e *exchange) fold(ctx context.Context) error {
	return e.within(ctx, func(tx *sqlx.Tx) error {
		var open []queued
		if err := tx.SelectContext(ctx, &open, `SELECT * FROM outbox WHERE (collection, record) IN
			(SELECT collection, record FROM outbox WHERE verdict IS NULL AND batch IS NULL GROUP BY collection, record HAVING count(*) > 1) ORDER BY number`); err != nil {
			return err
		}
		last := map[[2]string]*folding{} // of each record, what the next edit may be folded into
		for _, q := range open {
			at := [2]string{q.Collection, q.Record}
			before := last[at]
			ch, err := q.change()
			if err != nil {
				return err
			}
			if before != nil && before.takes(q, ch) {
				before.take(q, ch)
				continue
			}
			if before != nil {
				if err := before.write(ctx, tx); err != nil {
					return err
				}
			}
			c, err := e.collection(ctx, tx, q.Collection)
			if err != nil {
				return err
			}
			if last[at] = nil; c.Sync.Steps != definition.Every {
				last[at] = &folding{first: q, last: q, delta: ch.Fields, numbers: ch.Folds}
			}
		}
		for _, at := range last {
			if at == nil {
				continue
			}
			if err := at.write(ctx, tx); err != nil {
				return err
			}
		}
		return nil
	})
}

// folding is a run of edits of one record that become one change, which has the number and the stamp of the last.
type folding struct {
	first, last queued
	delta       record.Delta
	numbers     []int64 // of those before the last, and of what they had folded
}

func (f *folding) takes(next queued, ch change.Change) bool {
	free := func(q queued) bool { return q.Batch == nil && q.Verdict == nil && q.Group == "" && q.Fields != "{}" }
	for name := range f.delta {
		if _, again := ch.Fields[name]; !again && f.first.Kind != string(change.Add) {
			return false
		}
	}
	return free(f.last) && free(next) && f.first.Kind != string(change.Remove) && next.Kind == string(change.Edit) && f.last.Base == next.Base &&
		f.last.Author == next.Author && f.last.Origin == next.Origin && f.last.Generation == next.Generation && f.last.Boot == next.Boot
}

func (f *folding) take(next queued, ch change.Change) {
	f.numbers = append(append(f.numbers, f.last.Number), ch.Folds...)
	delta := record.Delta{}
	for name, edit := range f.delta {
		delta[name] = edit
	}
	for name, edit := range ch.Fields {
		if before, twice := delta[name]; twice {
			edit.From = before.From
		}
		delta[name] = edit
	}
	f.delta, f.last = delta, next
}

func (f *folding) write(ctx context.Context, tx *sqlx.Tx) error {
	if f.first.Number == f.last.Number {
		return nil
	}
	fields, err := json.Marshal(f.delta)
	if err != nil {
		return err
	}
	folds, err := json.Marshal(f.numbers)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE number IN (SELECT value FROM json_each(?))`, string(folds)); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE outbox SET kind = ?, fields = ?, folds = ? WHERE number = ?`, f.first.Kind, string(fields), string(folds), f.last.Number); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `UPDATE records SET pending = (SELECT count(*) FROM outbox o WHERE o.collection = records.collection AND o.record = records.id)
		WHERE collection = ? AND id = ?`, f.last.Collection, f.last.Record)
	return err
}
