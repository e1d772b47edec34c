package central

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/expression"
	"homing/core/record"
)

// Plan is what defining a collection would do.
type Plan struct {
	Collection  string                  `json:"collection"`
	Version     int                     `json:"version" doc:"The version that it would be."`
	Outcome     string                  `json:"outcome" enum:"created,changed,unchanged"`
	Differences []definition.Difference `json:"differences,omitempty"`
	Records     int                     `json:"records" doc:"Records that there are."`
	Carried     int                     `json:"carried" doc:"Records whose values would be carried over, each as a change of its own."`
	Broken      []Breakage              `json:"broken,omitempty" doc:"What would no longer fit; as long as there is any, the definition is refused."`
	Devices     int                     `json:"devices" doc:"Devices that would get the definition with their next exchange."`
}

// Breakage is what would no longer fit in some records.
type Breakage struct {
	Field   string    `json:"field"`
	Message string    `json:"message"`
	Records int       `json:"records"`
	Example uuid.UUID `json:"example" format:"uuid"`
}

// Preview says what defining would do, and changes nothing.
func (c *Central) Preview(ctx context.Context, definitions []definition.Definition) ([]Plan, error) {
	plans := make([]Plan, len(definitions))
	err := c.within(ctx, snapshot, func(tx *sqlx.Tx) error {
		all, err := c.definitions(ctx, tx)
		if err != nil {
			return err
		}
		for n, d := range definitions {
			compiled, err := d.Compile()
			if err != nil {
				return fail(Invalid, "the definition of %s: %v", d.Collection, err)
			}
			old, exists, err := stored(ctx, tx, d.Collection, "")
			if err != nil {
				return err
			}
			if plans[n], err = plan(ctx, tx, old, exists, compiled); err != nil {
				return err
			}
			all[d.Collection] = compiled
		}
		if err := definition.CheckTogether(all); err != nil {
			return fail(Invalid, "%v", err)
		}
		return nil
	})
	return plans, err
}

// stored gives the definition that a collection has now.
func stored(ctx context.Context, tx *sqlx.Tx, name, lock string) (d definition.Definition, exists bool, err error) {
	var doc []byte
	err = tx.QueryRowxContext(ctx, `SELECT doc FROM collections WHERE name = $1 `+lock, name).Scan(&doc)
	if errors.Is(err, sql.ErrNoRows) {
		return d, false, nil
	}
	if err == nil {
		err = json.Unmarshal(doc, &d)
	}
	if err != nil {
		err = fmt.Errorf("stored definition of %s: %w", name, err)
	}
	return d, true, err
}

// plan looks at all records, as the new version would have them.
func plan(ctx context.Context, tx *sqlx.Tx, old definition.Definition, exists bool, next *definition.Collection) (Plan, error) {
	p := Plan{Collection: next.Definition.Collection, Version: old.Version + 1, Outcome: "created"}
	if err := tx.QueryRowxContext(ctx, `SELECT count(*) FROM devices WHERE revoked_at IS NULL`).Scan(&p.Devices); err != nil {
		return p, err
	}
	if !exists {
		return p, nil
	}
	if old.SameAs(next.Definition) {
		p.Outcome, p.Version, p.Devices = "unchanged", old.Version, 0
		return p, nil
	}
	p.Outcome, p.Differences = "changed", definition.Differences(old, next.Definition)
	before, err := old.Compile()
	if err != nil {
		return p, err
	}
	broken := map[string]*Breakage{}
	err = carried(ctx, tx, old, next, func(id uuid.UUID, was, now record.Fields, wrong error) error {
		p.Records++
		reasons := newReasons(before, next, was, now, wrong)
		if len(reasons) == 0 && len(record.Diff(was, now)) > 0 {
			p.Carried++
		}
		for _, reason := range reasons {
			key := reason.Field + " " + reason.Code
			if broken[key] == nil {
				broken[key] = &Breakage{Field: reason.Field, Message: reason.Message, Example: id}
			}
			broken[key].Records++
		}
		return nil
	})
	for _, key := range slices.Sorted(maps.Keys(broken)) {
		p.Broken = append(p.Broken, *broken[key])
	}
	return p, err
}

// newReasons are what is wrong with a record under the new version and was not under the old one.
func newReasons(before, next *definition.Collection, was, now record.Fields, wrong error) []change.Reason {
	if wrong != nil {
		return []change.Reason{{Code: change.CodeInvalidValue, Message: wrong.Error()}}
	}
	known := map[string]bool{}
	for _, reason := range before.Validate(was) {
		known[reason.Field+" "+reason.Code] = true
	}
	if reasons := tooDear(next, now); reasons != nil {
		return reasons
	}
	return slices.DeleteFunc(next.Validate(now), func(r change.Reason) bool { return known[r.Field+" "+r.Code] })
}

// tooDear are the computed fields of a record that run too long to be worked out.
func tooDear(next *definition.Collection, fields record.Fields) (reasons []change.Reason) {
	if next.HasTotals() {
		return nil // how dear a total is depends on the children
	}
	_, wrong := next.Compute(fields, nil)
	for _, name := range slices.Sorted(maps.Keys(wrong)) {
		if errors.Is(wrong[name], expression.ErrTooDear) {
			reasons = append(reasons, change.Reason{Field: name, Code: change.CodeInvalidValue, Message: wrong[name].Error()})
		}
	}
	return reasons
}

// carried goes through all records of a collection and gives each as it is and as the new version has it.
func carried(ctx context.Context, tx *sqlx.Tx, old definition.Definition, next *definition.Collection, take func(id uuid.UUID, was, now record.Fields, wrong error) error) error {
	const chunk = 1000
	after := uuid.Nil
	for {
		var rows []struct {
			ID     uuid.UUID `db:"id"`
			Fields []byte    `db:"fields"`
		}
		err := tx.SelectContext(ctx, &rows, `SELECT id, fields FROM records WHERE collection = $1 AND NOT removed AND id > $2 ORDER BY id LIMIT $3`, old.Collection, after, chunk)
		if err != nil || len(rows) == 0 {
			return err
		}
		for _, r := range rows {
			after = r.ID
			var was record.Fields
			if err := json.Unmarshal(r.Fields, &was); err != nil {
				return fmt.Errorf("stored record %s: %w", r.ID, err)
			}
			now, wrong := next.CarryOver(old, was)
			if err := take(r.ID, was, now, wrong); err != nil {
				return err
			}
		}
	}
}

// carryOver changes the records as the definition says, each by a change of its own, so that the history keeps what was.
func (c *Central) carryOver(ctx context.Context, tx *sqlx.Tx, author string, old definition.Definition, next *definition.Collection) error {
	const chunk = 500
	received := c.Now()
	renames := map[string]string{} // not nil, even when nothing is renamed
	maps.Copy(renames, next.Carry.Rename)
	var items []item
	send := func() error {
		if len(items) == 0 {
			return nil
		}
		done, err := c.accept(ctx, tx, origin{incarnation: c.direct, who: Everything(author), received: received, carry: renames}, items)
		if err != nil {
			return err
		}
		for n, answer := range done.answers {
			if !answer.Answer.Accepted() {
				return fmt.Errorf("record %s of %s could not be carried over: %v", items[n].change.Record, old.Collection, answer.Reasons)
			}
		}
		items = items[:0]
		return nil
	}
	err := carried(ctx, tx, old, next, func(id uuid.UUID, was, now record.Fields, wrong error) error {
		delta := record.Diff(was, now)
		if wrong != nil || len(delta) == 0 {
			return wrong
		}
		ch := change.Change{Collection: old.Collection, Record: id, Kind: change.Edit, Fields: delta, Stamp: clock.At(received), EditedAt: received, Author: author}
		if err := tx.QueryRowxContext(ctx, `SELECT nextval('direct_numbers'), revision FROM records WHERE collection = $1 AND id = $2`, old.Collection, id).Scan(&ch.Number, &ch.Base); err != nil {
			return err
		}
		if items = append(items, item{change: ch, digest: ch.Digest()}); len(items) >= chunk {
			return send()
		}
		return nil
	})
	if err != nil {
		return err
	}
	return send()
}

// refusePlan says why a definition is not taken.
func refusePlan(p Plan) error {
	reasons := make([]change.Reason, len(p.Broken))
	for n, b := range p.Broken {
		reasons[n] = change.Reason{Field: b.Field, Code: change.CodeInvalidValue, Message: fmt.Sprintf("%s, in %d of %d records, such as %s", b.Message, b.Records, p.Records, b.Example)}
	}
	return &Error{Kind: Clash, Message: fmt.Sprintf("the new definition of %s does not fit records that are there; say under carry how their values go over (rename, default, convert, drop)", p.Collection), Reasons: reasons}
}
