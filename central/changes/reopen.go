package changes

import (
	"context"
	"encoding/json"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/core/change"
	"homing/core/clock"
	"homing/core/desk"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/sight"
	"homing/wire"
)

// Reopen opens a conflict again that was settled, with the values that were in dispute then. The value that stands
// now stays until it is settled anew. It is a change of its own, with its author and its place in the history.
func (c *Changes) Reopen(ctx context.Context, who fleet.Person, collection string, id uuid.UUID,
	field string) (wire.Answer, error) {
	var answer wire.Answer
	var done *desk.Decided
	at := desk.Key{Collection: collection, ID: id}
	err := c.ground.Change(ctx, func(t Tables) error {
		definitions, err := t.Definitions(ctx)
		if err != nil {
			return err
		}
		rows, err := t.Rows(ctx, []desk.Key{at})
		if err != nil {
			return err
		}
		current := rows[at]
		if current == nil || definitions[collection] == nil ||
			!sight.Alone(who).See(definitions[collection], current.Territories, current.Fields) {
			return fault.Fail(fault.NotFound, "there is no record %s in %s", id, collection)
		}
		if _, open := current.Marks.Disputes[field]; open {
			return fault.Fail(fault.Clash, "%s is in dispute already", field)
		}
		if current.Removed {
			return fault.Fail(fault.Clash, "the record was removed; bring it back instead")
		}
		past, err := t.Disputed(ctx, at)
		if err != nil {
			return err
		}
		dispute, err := disputeBefore(past, field, current)
		if err != nil {
			return err
		}
		from := c.mine(who)
		from.Finish = func(before merge.State, _ merge.Edit, out *merge.Outcome) { out.Reopen(before, field, dispute) }
		ch := change.Change{Collection: collection, Record: id, Kind: change.Edit, Base: current.Revision,
			Fields: record.Delta{},
			Author: who.Name, Stamp: clock.At(from.Received), EditedAt: from.Received}
		if ch.Number, err = t.DirectNumbers(ctx, 1); err != nil {
			return err
		}
		if done, err = c.accept(ctx, t, from, desk.ItemsOf([]change.Change{ch}), allAccepted); err != nil {
			return err
		}
		answer = done.Answers[0]
		answer.Record = done.Shown(at)
		return nil
	})
	if err != nil {
		return wire.Answer{}, err
	}
	c.announce(ctx, done)
	return answer, nil
}

// disputeBefore finds in the history, the latest version first, what was in dispute when a field was last settled.
func disputeBefore(past []desk.Accepted, field string, current *desk.Row) (merge.Dispute, error) {
	var dispute merge.Dispute
	settled := false
	for _, v := range past {
		for _, decided := range v.Decisions {
			removal := field == merge.RecordRemoval && decided.Field == ""
			if decided.Field != field && !removal {
				continue
			}
			switch {
			case decided.Rule == merge.Settled && settled:
				return dispute, nil // of an earlier conflict
			case decided.Rule == merge.Settled:
				settled = true
				if was := valueIn(v.Delta, field, false); !removal && was != nil {
					dispute.Join(merge.Candidate{Value: was, Side: decided.Other}, false)
				}
			case settled && (decided.Rule == string(merge.Ask) || decided.Rule == string(merge.AskRemoval)):
				value := json.RawMessage("true")
				if !removal {
					value = valueIn(v.Change.Fields, field, true)
				}
				if removal || string(value) != string(current.Fields.At(field)) {
					dispute.Join(merge.Candidate{Value: value, Side: v.Side()}, v.Device == "")
				}
			}
		}
	}
	if !settled {
		return dispute, fault.Fail(fault.Clash, "%s was never in dispute, or was never settled", field)
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
