package central

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/central/changes"
	"homing/central/fault"
	"homing/central/finding"
	"homing/central/past"
	"homing/core/change"
	"homing/core/merge"
	"homing/core/record"
	"homing/wire"
)

// BringBack makes a record what it was at a revision, by a new change of whoever asks. What is worked out or given by
// central stays as it is, and so do fields that the definition no longer has.
func (c *Central) BringBack(ctx context.Context, who Person, collection string, id uuid.UUID,
	revision int64) (wire.Answer, error) {
	compiled, err := c.Collection(ctx, collection)
	if err != nil {
		return wire.Answer{}, err
	}
	now, err := c.Record(ctx, who, collection, id)
	if err != nil {
		return wire.Answer{}, err
	}
	then, err := c.RecordAt(ctx, who, collection, id, past.Moment{Revision: revision})
	if err != nil {
		return wire.Answer{}, err
	}
	if then.Removed && !now.Removed {
		return c.Direct(ctx, who, changes.Write{Collection: collection, Record: id, Kind: change.Remove, Base: now.Revision})
	}
	var present, before record.Fields
	if err := json.Unmarshal(now.Fields, &present); err != nil {
		return wire.Answer{}, err
	}
	if err := json.Unmarshal(then.Fields, &before); err != nil {
		return wire.Answer{}, err
	}
	delta := record.Delta{}
	for name, edit := range compiled.CurrentNames(record.Diff(present, before)) {
		field, known := compiled.Field(name)
		if may, _ := field.Settable(); known && may && !field.Local {
			delta[name] = record.Edit{To: edit.To}
		}
	}
	kind := change.Edit
	if now.Removed {
		kind = change.Add
	} else if len(delta) == 0 {
		return wire.Answer{}, fault.Fail(fault.Clash, "the record is as it was at revision %d already", revision)
	}
	return c.Direct(ctx, who, changes.Write{Collection: collection, Record: id, Kind: kind, Base: now.Revision,
		Fields: delta})
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
	Conflict finding.Conflict `json:"conflict"`
	Take     int              `json:"take" doc:"Which of the values, from 1; 0 when the rule cannot say."`
	Value    json.RawMessage  `json:"value,omitempty"`
	Problem  string           `json:"problem,omitempty" doc:"Why it was left open."`
}

// SettleAll settles many conflicts by a rule, each by a change of its own. Newest takes the value that was edited
// last, first the one that central has, min and max the smallest and the largest.
func (c *Central) SettleAll(ctx context.Context, who Person, what Settling) ([]SettledOne, error) {
	if !slices.Contains([]merge.Rule{merge.Newest, merge.First, merge.Min, merge.Max}, what.Rule) {
		return nil, fault.Fail(fault.Invalid, "%q cannot settle conflicts; take newest, first, min or max", what.Rule)
	}
	open, err := c.Conflicts(ctx, who, finding.Disputed{Collection: what.Collection})
	if err != nil {
		return nil, err
	}
	all := []SettledOne{}
	for _, one := range open {
		if what.Collection != "" && one.Collection != what.Collection || what.Field != "" && one.Field != what.Field ||
			!what.Before.IsZero() && !one.OpenedAt.Before(what.Before) {
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
			if _, err := c.Settle(ctx, who, one.Collection, one.Record, one.Revision,
				changes.Settlement{Field: one.Field, Value: result.Value}); err != nil {
				known := fault.Explain(err)
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

func choose(rule merge.Rule, one finding.Conflict) int {
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
