package save

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/core/definition"
	"homing/device/internal/file"
)

// MostTallied is how far back totals go.
const MostTallied = 24 * time.Hour

// Total is what was added to a collection many at once, over a span of time: of the records themselves, or of the values of a field that holds numbers.
type Total struct {
	Field string  `json:"field,omitempty"` // empty for the records
	N     int64   `json:"n"`               // records, or values
	Sum   float64 `json:"sum,omitempty"`
	Least float64 `json:"least,omitempty"`
	Most  float64 `json:"most,omitempty"`
}

// Mean is what the values come to on average; 0 for none.
func (t Total) Mean() float64 {
	if t.N == 0 {
		return 0
	}
	return t.Sum / float64(t.N)
}

// tally gathers totals of what is saved in one transaction.
type tally map[string]Total

func (t tally) take(c *definition.Collection, fields string) {
	var values map[string]json.RawMessage
	if json.Unmarshal([]byte(fields), &values) != nil {
		return // it was written a moment ago
	}
	records := t[""]
	records.N++
	t[""] = records
	for _, field := range c.Fields {
		var value float64
		if !field.Shape().IsNumber() || values[field.Name] == nil || json.Unmarshal(values[field.Name], &value) != nil {
			continue
		}
		one := t[field.Name]
		if one.N == 0 {
			one.Least, one.Most = value, value
		}
		one.N, one.Sum, one.Least, one.Most = one.N+1, one.Sum+value, min(one.Least, value), max(one.Most, value)
		t[field.Name] = one
	}
}

// keep adds the totals to those of the minute, and lets go of those that nobody asks for any more.
func (t tally) keep(ctx context.Context, tx *sqlx.Tx, worker, collection string, now time.Time) error {
	minute := now.Unix() / 60
	for field, one := range t {
		if _, err := tx.ExecContext(ctx, `INSERT INTO tallies (worker, collection, minute, field, n, sum, least, most) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (worker, collection, minute, field) DO UPDATE SET n = n + excluded.n, sum = sum + excluded.sum, least = min(least, excluded.least),
				most = max(most, excluded.most)`, worker, collection, minute, field, one.N, one.Sum, one.Least, one.Most); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM tallies WHERE minute < ?`, minute-int64(MostTallied/time.Minute)-1)
	return err
}

// Totals is [device.Store.Totals].
func (s *Desk) Totals(ctx context.Context, collection string, over time.Duration) ([]Total, error) {
	if _, err := s.Readable(ctx, collection); err != nil {
		return nil, err
	}
	worker, err := file.Fact(ctx, s.DB, file.FactWorker)
	if err != nil {
		return nil, err
	}
	if over < time.Minute || over > MostTallied {
		return nil, fmt.Errorf("%w: totals go over a minute to %s", file.ErrNotAllowed, MostTallied)
	}
	all := []Total{}
	err = s.DB.SelectContext(ctx, &all, `SELECT field, sum(n) AS n, sum(sum) AS sum, min(least) AS least, max(most) AS most FROM tallies
		WHERE worker = ? AND collection = ? AND minute > ? GROUP BY field ORDER BY field`, worker, collection, s.Now().Add(-over).Unix()/60)
	return all, file.StoreError(err)
}
