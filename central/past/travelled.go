package past

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"time"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/record"
	"homing/core/rights"
	"homing/core/sight"
)

// Travelled is one change or record that an exchange carried.
type Travelled struct {
	At         time.Time       `json:"at"`
	Batch      *uuid.UUID      `json:"batch,omitempty" format:"uuid"`
	Up         bool            `json:"up" doc:"A change that the device sent; otherwise a record that it got."`
	Collection string          `json:"collection"`
	Record     uuid.UUID       `json:"record" format:"uuid"`
	Label      string          `json:"label,omitempty" doc:"What the record is called now; by what was sent, where central has no such record."`
	Number     int64           `json:"number,omitempty"`
	Kind       change.Kind     `json:"kind,omitempty" doc:"Of an accepted change: add, edit or remove."`
	What       string          `json:"what" doc:"The answer to a change; of a record: record, or gone when it was removed or withdrawn."`
	Revision   int64           `json:"revision,omitempty"`
	Fields     json.RawMessage `json:"fields,omitempty" doc:"Of a change, what it asked for, from what to what; of a record, its values at that revision."`
	Reasons    []change.Reason `json:"reasons,omitempty"`
}

// ExchangeDetail is an exchange with what it carried.
type ExchangeDetail struct {
	fleet.Exchange
	Carried []Travelled `json:"carried" doc:"In the order in which it travelled; at most as many as were asked for."`
	More    bool        `json:"more,omitempty"`
}

var partOfID = regexp.MustCompile(`^[0-9a-fA-F-]{1,36}$`)

// ExchangeDetail gives an exchange with what it carried, at most so many changes and records, of one worker's devices
// only if a worker is named. The id may be the start or the end of one. Of a record that the asker may not see now, it
// says only that it travelled.
func (c *Past) ExchangeDetail(ctx context.Context, asker fleet.Person, worker, id string, limit int) (ExchangeDetail, error) {
	var found []fleet.Exchange
	if !partOfID.MatchString(id) {
		return ExchangeDetail{}, fault.Fail(fault.NotFound, "there is no exchange %q: an id is of the digits 0 to f and dashes", id)
	}
	id = strings.ToLower(id)
	if err := c.db.SelectContext(ctx, &found, `SELECT e.*, d.name, d.worker FROM exchanges e JOIN devices d ON d.id = e.device
		WHERE ($1 = '' OR d.worker = $1) AND (e.id::text LIKE $2 || '%' OR e.id::text LIKE '%' || $2)
			ORDER BY e.last_at DESC LIMIT 2`, worker, id); err != nil {
		return ExchangeDetail{}, err
	}
	switch {
	case len(found) == 0:
		return ExchangeDetail{}, fault.Fail(fault.NotFound, "there is no exchange %s, or its log is no longer kept", id)
	case len(found) > 1:
		return ExchangeDetail{}, fault.Fail(fault.Clash, "several exchanges fit %s; give more of the id", id)
	}
	detail := ExchangeDetail{Exchange: found[0], Carried: []Travelled{}}
	detail.StartedAt, detail.LastAt = detail.StartedAt.UTC(), detail.LastAt.UTC()
	rows, err := c.db.QueryxContext(ctx, `
		SELECT t.at, t.batch, u.collection, u.record, u.revision, u.number, u.answer, coalesce(v.sent, v.delta) AS asked,
			coalesce(v.kind, '') AS kind, t.others
		FROM (SELECT *, row_number() OVER (ORDER BY at, batch IS NULL) AS place
			FROM travelled WHERE exchange = $1 AND device = $2) t
			CROSS JOIN LATERAL (SELECT coalesce(t.collections[n], t.collections[1]) AS collection, t.records[n] AS record,
				t.revisions[n] AS revision, t.numbers[n] AS number, t.answers[n] AS answer, n
				FROM generate_subscripts(t.records, 1) n) u
			LEFT JOIN versions v ON t.batch IS NOT NULL AND v.collection = u.collection AND v.record = u.record
				AND v.revision = u.revision
		ORDER BY t.place, u.n LIMIT $3`, detail.ID, detail.Device, limit+1)
	if err != nil {
		return detail, err
	}
	defer rows.Close()
	for rows.Next() {
		var one Travelled
		var number sql.NullInt64
		var answer sql.NullString
		var delta, others []byte
		if err := rows.Scan(&one.At, &one.Batch, &one.Collection, &one.Record, &one.Revision, &number, &answer, &delta,
			&one.Kind, &others); err != nil {
			return detail, err
		}
		if len(detail.Carried) == limit {
			detail.More = true
			break
		}
		one.At, one.Up, one.Number, one.What, one.Fields = one.At.UTC(), one.Batch != nil, number.Int64, answer.String, delta
		switch {
		case !one.Up && one.Revision < 0:
			one.What, one.Revision = "gone", -one.Revision
		case !one.Up:
			one.What = "record"
		case others != nil:
			var all map[int64]postgres.Unaccepted
			if err := json.Unmarshal(others, &all); err != nil {
				return detail, fmt.Errorf("stored exchange %s: %w", detail.ID, err)
			}
			if rest, is := all[one.Number]; is {
				one.Reasons = rest.Reasons
				if len(rest.Fields) > 0 {
					if one.Fields, err = json.Marshal(rest.Fields); err != nil {
						return detail, err
					}
				}
			}
		}
		detail.Carried = append(detail.Carried, one)
	}
	if err := rows.Err(); err != nil {
		return detail, err
	}
	if err := c.fillRecords(ctx, detail.Carried); err != nil {
		return detail, err
	}
	return detail, c.nameRecords(ctx, sight.Alone(asker), detail.Carried)
}

// nameRecords says what the records are called, and leaves out what the askers may not see.
func (c *Past) nameRecords(ctx context.Context, askers sight.Askers, carried []Travelled) error {
	definitions, err := c.db.Definitions(ctx)
	if err != nil {
		return err
	}
	keys := make([]desk.Key, len(carried))
	for n, one := range carried {
		keys[n] = desk.Key{Collection: one.Collection, ID: one.Record}
	}
	var now map[desk.Key]*desk.Row
	if err := c.db.Snapshot(ctx, func(tx *postgres.Tx) error {
		now, err = tx.Rows(ctx, keys)
		return err
	}); err != nil {
		return err
	}
	for n := range carried {
		one := &carried[n]
		compiled, row := definitions[one.Collection], now[keys[n]]
		if compiled == nil { // nothing tells who would cover it
			if !rights.Covers(askers.Territories(), nil) {
				one.Fields, one.Reasons = nil, nil
			}
			continue
		}
		if row == nil {
			row = sent(compiled, *one)
		}
		if !askers.See(compiled, row.Territories, row.Fields) {
			one.Fields, one.Reasons = nil, nil
			continue
		}
		one.Label = compiled.LabelOf(row.Fields)
	}
	return nil
}

// sent is the record that a change would have made that central does not have.
func sent(compiled *definition.Collection, one Travelled) *desk.Row {
	row := &desk.Row{}
	var delta record.Delta
	if one.Up && json.Unmarshal(one.Fields, &delta) == nil { // a change that could not be read has no fields
		row.Fields = record.Fields{}.Apply(delta)
	}
	if keys, err := compiled.TerritoriesOf(row.Fields); err == nil { // otherwise only who covers all covers it
		row.Territories = keys
	}
	return row
}

// fillRecords gives the records that were delivered the values that they had then, from the history.
func (c *Past) fillRecords(ctx context.Context, carried []Travelled) error {
	var collections, records []string
	var revisions, places []int64
	for n, one := range carried {
		if !one.Up && one.What == "record" {
			collections, records = append(collections, one.Collection), append(records, one.Record.String())
			revisions, places = append(revisions, one.Revision), append(places, int64(n))
		}
	}
	var deltas []struct {
		Place int64  `db:"place"`
		Delta []byte `db:"delta"`
	}
	if err := c.db.SelectContext(ctx, &deltas, `SELECT w.place, v.delta FROM unnest($1::text[], $2::uuid[], $3::bigint[],
		$4::bigint[]) AS w (collection, record, revision, place)
			CROSS JOIN LATERAL (SELECT revision, delta
				FROM versions v WHERE v.collection = w.collection AND v.record = w.record AND v.revision <= w.revision) v
		ORDER BY w.place, v.revision`, collections, records, revisions, places); err != nil {
		return err
	}
	then := map[int64]record.Fields{}
	for _, row := range deltas {
		var delta record.Delta
		if err := json.Unmarshal(row.Delta, &delta); err != nil {
			return fmt.Errorf("stored version of %s: %w", carried[row.Place].Record, err)
		}
		then[row.Place] = then[row.Place].Apply(delta)
	}
	for _, place := range places {
		carried[place].Fields = then[place].JSON()
	}
	return nil
}

// ForgetExchanges lets go of the log of exchanges that ended before a moment, and of the oldest beyond so many
// carried batches and pages.
func (c *Past) ForgetExchanges(ctx context.Context, before time.Time, most int) error {
	for _, statement := range []string{
		`DELETE FROM travelled WHERE at < $1 OR at <= (SELECT at FROM travelled ORDER BY at DESC OFFSET $2 LIMIT 1)`,
		`DELETE FROM exchanges WHERE last_at < $1 AND $2 >= 0`,
		// Seals that are older than a year tell only whether the head is behind them.
		`DELETE FROM heads WHERE left_at < $1::timestamptz - interval '400 days' AND $2 >= 0`,
	} {
		if _, err := c.db.ExecContext(ctx, statement, before, most); err != nil {
			return err
		}
	}
	return nil
}
