package central

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/merge"
	"homing/core/record"
	"homing/wire"
)

// Reopen opens a conflict again that was settled, with the values that were in dispute then. The value that stands now stays until it is
// settled anew. It is a change of its own, with its author and its place in the history.
func (c *Central) Reopen(ctx context.Context, who Person, collection string, id uuid.UUID, field string) (wire.Answer, error) {
	received := c.Now()
	var answer wire.Answer
	var done *desk
	err := c.within(ctx, nil, func(tx *sqlx.Tx) error {
		at := key{collection, id}
		rows, err := loadRows(ctx, tx, []key{at})
		if err != nil {
			return err
		}
		definitions, err := c.definitions(ctx, tx)
		if err != nil {
			return err
		}
		current := rows[at]
		if current == nil || definitions[collection] == nil || !alone(who).see(definitions[collection], current.territories, current.Fields) {
			return fail(NotFound, "there is no record %s in %s", id, collection)
		}
		if _, open := current.Marks.Disputes[field]; open {
			return fail(Clash, "%s is in dispute already", field)
		}
		if current.Removed {
			return fail(Clash, "the record was removed; bring it back instead")
		}
		dispute, err := disputeBefore(ctx, tx, at, field, current)
		if err != nil {
			return err
		}
		ch := change.Change{Collection: collection, Record: id, Kind: change.Edit, Base: current.Revision, Fields: record.Delta{}, Author: who.Name, Stamp: clock.At(received), EditedAt: received}
		if err := tx.QueryRowxContext(ctx, `SELECT nextval('direct_numbers')`).Scan(&ch.Number); err != nil {
			return err
		}
		done, err = c.accept(ctx, tx, origin{incarnation: c.direct, who: who, received: received, reopen: &reopening{field, dispute}}, []item{{change: ch, digest: ch.Digest()}})
		if err != nil {
			return err
		}
		if answer = done.answers[0]; !answer.Answer.Accepted() {
			return refused(answer.Reasons)
		}
		answer.Record = done.wireRecord(at, done.rows[at], done.versions[0])
		return nil
	})
	if err != nil {
		return wire.Answer{}, err
	}
	c.announce(ctx, Event{Heads: done.heads()})
	return answer, nil
}

// reopening is a conflict that is to be opened again.
type reopening struct {
	field   string
	dispute merge.Dispute
}

// disputeBefore finds in the history what was in dispute when a field was last settled.
func disputeBefore(ctx context.Context, tx *sqlx.Tx, at key, field string, current *row) (merge.Dispute, error) {
	var versions []storedVersion
	if err := tx.SelectContext(ctx, &versions, `SELECT revision, delta, sent, decisions, incarnation, number, stamp, device FROM versions WHERE collection = $1 AND record = $2 AND decisions IS NOT NULL ORDER BY revision DESC`,
		at.collection, at.id); err != nil {
		return merge.Dispute{}, err
	}
	var dispute merge.Dispute
	settled := false
	for _, v := range versions {
		var decisions []change.Decision
		var sent, delta record.Delta
		stamp, err := clock.Parse(v.Stamp)
		if err == nil {
			err = json.Unmarshal(v.Decisions, &decisions)
		}
		if err == nil {
			err = json.Unmarshal(v.Delta, &delta)
		}
		if err == nil && v.Sent != nil {
			err = json.Unmarshal(v.Sent, &sent)
		}
		if err != nil {
			return dispute, fmt.Errorf("version %d of %s: %w", v.Revision, at.id, err)
		}
		side := change.Side{Revision: v.Revision, Source: change.Source{Incarnation: v.Incarnation, Number: v.Number}, Stamp: stamp}
		for _, decided := range decisions {
			removal := field == merge.RecordRemoval && decided.Field == ""
			if decided.Field != field && !removal {
				continue
			}
			switch {
			case decided.Rule == merge.Settled && settled:
				return dispute, nil // of an earlier conflict
			case decided.Rule == merge.Settled:
				settled = true
				if was := valueIn(delta, field, false); !removal && was != nil {
					dispute.Join(merge.Candidate{Value: was, Side: decided.Other}, false)
				}
			case settled && (decided.Rule == string(merge.Ask) || decided.Rule == string(merge.AskRemoval)):
				value := json.RawMessage("true")
				if !removal {
					value = valueIn(sent, field, true)
				}
				if removal || string(value) != string(current.Fields.At(field)) {
					dispute.Join(merge.Candidate{Value: value, Side: side}, v.Device == "")
				}
			}
		}
	}
	if !settled {
		return dispute, fail(Clash, "%s was never in dispute, or was never settled", field)
	}
	return dispute, nil
}

// valueIn is what a delta says of a field or a part of one, before or after.
func valueIn(delta record.Delta, path string, after bool) json.RawMessage {
	fields := record.Fields{}
	for name, edit := range delta {
		if value := edit.From; !after && value != nil {
			fields[name] = value
		} else if after && edit.To != nil {
			fields[name] = edit.To
		}
	}
	return fields.At(path)
}

// Settling says which open conflicts are to be settled, and by which rule.
type Settling struct {
	Collection string
	Field      string
	Before     time.Time // only those opened before; zero means all
	Rule       merge.Rule
	Apply      bool // otherwise only what would be
}

// SettledOne is a conflict that a rule settles.
type SettledOne struct {
	Conflict Conflict        `json:"conflict"`
	Take     int             `json:"take" doc:"Which of the values, from 1; 0 when the rule cannot say."`
	Value    json.RawMessage `json:"value,omitempty"`
	Problem  string          `json:"problem,omitempty" doc:"Why it was left open."`
}

// SettleAll settles many conflicts by a rule, each by a change of its own. Newest takes the value that was edited last, first the one that
// central has, min and max the smallest and the largest.
func (c *Central) SettleAll(ctx context.Context, who Person, what Settling) ([]SettledOne, error) {
	if !slices.Contains([]merge.Rule{merge.Newest, merge.First, merge.Min, merge.Max}, what.Rule) {
		return nil, fail(Invalid, "%q cannot settle conflicts; take newest, first, min or max", what.Rule)
	}
	open, err := c.Conflicts(ctx, who)
	if err != nil {
		return nil, err
	}
	all := []SettledOne{}
	for _, one := range open {
		if what.Collection != "" && one.Collection != what.Collection || what.Field != "" && one.Field != what.Field || !what.Before.IsZero() && !one.OpenedAt.Before(what.Before) {
			continue
		}
		result := SettledOne{Conflict: one, Take: choose(what.Rule, one)}
		if result.Take == 0 {
			result.Problem = fmt.Sprintf("the rule %s cannot compare these values", what.Rule)
			all = append(all, result)
			continue
		}
		result.Value = one.Values[result.Take-1].Value
		if what.Apply {
			if _, err := c.Settle(ctx, who, one.Collection, one.Record, one.Revision, Settlement{Field: one.Field, Value: result.Value}); err != nil {
				known := Explain(err)
				if known == nil {
					return all, err
				}
				result.Problem = known.Message
			}
		}
		all = append(all, result)
	}
	return all, nil
}

func choose(rule merge.Rule, one Conflict) int {
	best := 0
	for n, v := range one.Values {
		switch rule {
		case merge.Newest:
			if v.EditedAt.After(one.Values[best].EditedAt) {
				best = n
			}
		case merge.Min, merge.Max:
			order, comparable := merge.Compare(v.Value, one.Values[best].Value)
			if !comparable || one.Field == merge.RecordRemoval {
				return 0
			}
			if rule == merge.Min && order < 0 || rule == merge.Max && order > 0 {
				best = n
			}
		}
	}
	return best + 1
}
