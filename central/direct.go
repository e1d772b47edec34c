package central

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/rights"
	"homing/wire"
)

// Person is somebody who has signed in, or everybody when central is open.
type Person = rights.Person

// Everything is a person who may see and do everything, under a name.
func Everything(name string) Person {
	return Person{Name: name, Role: rights.Admin, Territories: []string{rights.All}}
}

// Write is a change made at central itself.
type Write struct {
	Collection string
	Record     uuid.UUID
	Kind       change.Kind
	Base       int64        // the revision the author saw; negative means the current one
	Fields     record.Delta // only To is looked at
	// WithChildren lets a removal take with it the children that the definitions say go with their parent.
	WithChildren bool
	// Settles is the disputed field that the write settles, by giving it its value. Kind and Fields are worked out from it.
	Settles *Settlement
}

// Settlement gives a disputed field, a part of one, or a disputed removal the value that it is to have.
type Settlement struct {
	Field string
	Value json.RawMessage // for [merge.RecordRemoval], true: the record goes
}

// Settle ends a conflict by a change of the settler's. Of several people who settle one at once, the first does, and the others are told.
func (c *Central) Settle(ctx context.Context, who Person, collection string, id uuid.UUID, base int64, settlement Settlement) (wire.Answer, error) {
	write := Write{Collection: collection, Record: id, Kind: change.Edit, Base: base, Settles: &settlement}
	if settlement.Field == merge.RecordRemoval {
		switch string(settlement.Value) {
		case "true":
			write.Kind, write.WithChildren = change.Remove, true
		case "false":
		default:
			return wire.Answer{}, fail(Invalid, "whether the record is removed is true or false")
		}
	}
	return c.Direct(ctx, who, write)
}

// Direct takes one change made at central by the same rules as a push. A change that is not accepted comes back as an
// [*Error] with the reasons.
func (c *Central) Direct(ctx context.Context, who Person, write Write) (wire.Answer, error) {
	received := c.Now()
	var answer wire.Answer
	var done *desk
	err := c.within(ctx, nil, func(tx *sqlx.Tx) error {
		at := key{write.Collection, write.Record}
		rows, err := loadRows(ctx, tx, []key{at})
		if err != nil {
			return err
		}
		definitions, err := c.definitions(ctx, tx)
		if err != nil {
			return err
		}
		current := rows[at]
		seen := record.Fields{}
		if write.sawEarlier(current) {
			if seen, err = fieldsAt(ctx, tx, write.Collection, write.Record, write.Base); err != nil {
				return err
			}
		}
		ch, err := write.shape(who, definitions[write.Collection], current, seen)
		if err != nil {
			return err
		}
		ch.Stamp, ch.EditedAt = clock.At(received), received
		if err := tx.QueryRowxContext(ctx, `SELECT nextval('direct_numbers')`).Scan(&ch.Number); err != nil {
			return err
		}
		if err := directFields(definitions[write.Collection], ch.Fields, func(collection, id string) (there bool, err error) {
			err = tx.QueryRowxContext(ctx, `SELECT EXISTS (SELECT FROM records WHERE collection = $1 AND id::text = $2 AND NOT removed)`, collection, id).Scan(&there)
			return there, err
		}); err != nil {
			return err
		}
		changes := []change.Change{ch}
		if write.Kind == change.Remove {
			if changes, err = c.cascade(ctx, tx, definitions, ch, write.WithChildren); err != nil {
				return err
			}
		}
		done, err = c.accept(ctx, tx, origin{incarnation: c.direct, who: who, received: received}, itemsOf(changes))
		if err != nil {
			return err
		}
		for _, answer = range done.answers {
			if !answer.Answer.Accepted() {
				return refused(answer.Reasons)
			}
		}
		if err := goneTogether(changes, done.rows[at]); err != nil {
			return err
		}
		last := done.versions[len(done.versions)-1]
		answer.Record = done.wireRecord(at, done.rows[at], last)
		answer.Record.Position = last.position
		return nil
	})
	if err != nil {
		return wire.Answer{}, err
	}
	c.announce(ctx, Event{Heads: done.heads()})
	return answer, nil
}

// sawEarlier says whether the author saw an earlier state of the record than the one that it has now.
func (w Write) sawEarlier(current *row) bool {
	return current != nil && w.Base > 0 && w.Base < current.Revision
}

// shape makes the change that a write is. What its author saw is where it starts from: seen, if that was an earlier state than the record has now,
// so that what others have done since is not taken for something that the author took away.
func (w Write) shape(who Person, collection *definition.Collection, current *row, seen record.Fields) (change.Change, error) {
	ch := change.Change{Collection: w.Collection, Record: w.Record, Kind: w.Kind, Base: max(w.Base, 0), Author: who.Name}
	fields, err := w.Fields.Canonical()
	if err != nil {
		return ch, fail(Invalid, "%v", err)
	}
	if current != nil && !alone(who).see(collection, current.territories, current.Fields) {
		return ch, fail(NotFound, "there is no record %s in %s", w.Record, w.Collection) // as everywhere for who may not see it
	}
	if err := directProblem(w, current); err != nil {
		return ch, err
	}
	if w.Settles != nil {
		if err := settling(w.Settles.Field, w.Base, current); err != nil {
			return ch, err
		}
		if fields, err = w.Settles.delta(current); err != nil {
			return ch, err
		}
	}
	if current != nil {
		if !w.sawEarlier(current) || w.Settles != nil {
			seen = current.Fields
		}
		if w.Base < 0 {
			ch.Base = current.Revision
		}
	}
	for name, edit := range fields {
		if edit.From = seen[name]; w.sawEarlier(current) && w.Settles == nil && string(edit.From) == string(edit.To) {
			delete(fields, name) // a form sends back what it was given, and others may have changed it since
			continue
		}
		fields[name] = edit
	}
	ch.Fields = fields
	return ch, nil
}

func (s *Settlement) delta(current *row) (record.Delta, error) {
	if s.Field == merge.RecordRemoval {
		return record.Delta{}, nil
	}
	value, err := record.CanonicalField(s.Field, s.Value)
	if err != nil {
		return nil, fail(Invalid, "%v", err)
	}
	return current.Fields.Set(s.Field, value), nil
}

// cascade gives the removal of a record and of those that go with it, children first. At central nobody is without signal: whoever
// removes here sees what is there.
func (c *Central) cascade(ctx context.Context, tx *sqlx.Tx, definitions map[string]*definition.Collection, top change.Change, withChildren bool) ([]change.Change, error) {
	order, err := descend(definitions, key{top.Collection, top.Record}, func(child definition.Definition, parents []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error) {
		return childrenOf(ctx, tx, child, parents)
	})
	if err != nil {
		return nil, err
	}
	rows, err := loadRows(ctx, tx, order)
	if err != nil {
		return nil, err
	}
	return removals(top, order, rows, withChildren, func() (number int64, err error) {
		err = tx.QueryRowxContext(ctx, `SELECT nextval('direct_numbers')`).Scan(&number)
		return number, err
	})
}

// removals are the changes that remove records, the last of which is the one that is to go; the others go with it if they may.
func removals(top change.Change, order []key, rows map[key]*row, withChildren bool, next func() (int64, error)) (all []change.Change, err error) {
	if len(order) > 1 && !withChildren {
		also := map[string]int{}
		for _, at := range order[:len(order)-1] {
			also[at.collection]++
		}
		problem := &Error{Kind: Clash, Message: fmt.Sprintf("%d other records belong to this one and would go with it; say that they may go, too", len(order)-1)}
		for _, name := range slices.Sorted(maps.Keys(also)) {
			problem.Reasons = append(problem.Reasons, change.Reason{Code: change.CodeHasChildren, Message: fmt.Sprintf("%d of %s would go with it", also[name], name)})
		}
		return nil, problem
	}
	for _, at := range order {
		ch := top
		if at.id != top.Record {
			ch.Collection, ch.Record, ch.Base = at.collection, at.id, rows[at].Revision
			if ch.Number, err = next(); err != nil {
				return nil, err
			}
		}
		all = append(all, ch)
	}
	return all, nil
}

func itemsOf(changes []change.Change) []item {
	items := make([]item, len(changes))
	for n, one := range changes {
		items[n] = item{change: one, digest: one.Digest()}
	}
	return items
}

// goneTogether refuses a removal that would take the children of a record which itself stays, since somebody has edited it meanwhile.
func goneTogether(removals []change.Change, top *row) error {
	if len(removals) < 2 || top.Removed {
		return nil
	}
	return fail(Clash, "the record was edited since the revision %d that you saw, so it would stay and %d others would go; look at it again", removals[len(removals)-1].Base, len(removals)-1)
}

// directFields refuses, of what somebody sets at central, what nobody sets, and references to nothing.
func directFields(collection *definition.Collection, delta record.Delta, there func(collection, id string) (bool, error)) error {
	if collection == nil {
		return nil
	}
	var reasons []change.Reason
	for _, name := range delta.Names() {
		field, _ := collection.Field(name)
		if string(delta[name].From) == string(delta[name].To) {
			continue // a form sends back what it was given
		}
		may, why := field.Settable()
		if field.Local {
			may, why = false, "stays on the device that it was entered on, and cannot be set at central"
		}
		if !may {
			reasons = append(reasons, change.Reason{Field: name, Code: change.CodeReadOnly, Message: why})
			continue
		}
		if field.Reference == "" || delta[name].To == nil {
			continue
		}
		found, err := there(field.Reference, definition.Plain(delta[name].To))
		if err != nil {
			return err
		}
		if !found {
			reasons = append(reasons, change.Reason{Field: name, Code: change.CodeInvalidValue,
				Message: fmt.Sprintf("there is no record %s in %s to refer to", definition.Plain(delta[name].To), field.Reference)})
		}
	}
	if reasons == nil {
		return nil
	}
	return refused(reasons)
}

func directProblem(write Write, current *row) error {
	switch {
	case write.Kind == change.Add && current != nil && !current.Removed:
		return fail(Clash, "there is a record %s in %s already, at revision %d; edit it", write.Record, write.Collection, current.Revision)
	case write.Kind != change.Add && current == nil:
		return fail(NotFound, "there is no record %s in %s", write.Record, write.Collection)
	}
	return nil
}

func refused(reasons []change.Reason) error {
	kind, message := Invalid, "the change was refused"
	if len(reasons) > 0 {
		switch reasons[0].Code {
		case change.CodeNotAllowed:
			kind = NotAllowed
		case change.CodeUnknownCollection, change.CodeUnknownRecord:
			kind = NotFound
		case change.CodeRemoved, change.CodeUnknownBase, change.CodeHasChildren:
			kind = Clash
		}
		message = "the change was refused: " + reasons[0].Message
		if reasons[0].Field != "" {
			message = "the change was refused: " + reasons[0].Field + ": " + reasons[0].Message
		}
	}
	return &Error{Kind: kind, Message: message, Reasons: reasons}
}
