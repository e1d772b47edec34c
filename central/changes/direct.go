package changes

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/sight"
	"homing/wire"
)

// Write is a change made at central itself.
type Write struct {
	Collection string
	Record     uuid.UUID
	Kind       change.Kind
	Base       int64        // the revision the author saw; negative means the current one
	Fields     record.Delta // only To is looked at
	// WithChildren lets a removal take with it the children that the definitions say go with their parent.
	WithChildren bool
	// Marks says that the write marks the record complete, or opens it again; Fields is not looked at.
	Marks Marking
	// Settles is the disputed field that the write settles, by giving it its value. Kind and Fields are worked out from
	// it.
	Settles *Settlement
	// Key stands for the write: asked for again under the same one, it is not made again, and the same is answered. Empty
	// for a write that is not asked for again.
	Key string
}

// Marking is what a write does to whether a record is complete.
type Marking string

// The markings.
const (
	MarksNothing Marking = ""
	MarkComplete Marking = "complete"
	MarkOpen     Marking = "open"
)

// Settlement gives a disputed field, a part of one, or a disputed removal the value that it is to have.
type Settlement struct {
	Field string
	Key   string          // as in Write
	Value json.RawMessage // for [merge.RecordRemoval], true: the record goes
}

// Settle ends a conflict by a change of the settler's. Of several people who settle one at once, the first does, and
// the others are told.
func (c *Changes) Settle(ctx context.Context, who fleet.Person, collection string, id uuid.UUID, base int64,
	settlement Settlement) (wire.Answer, error) {
	write := Write{Collection: collection, Record: id, Kind: change.Edit, Base: base, Settles: &settlement, Key: settlement.Key}
	if settlement.Field == merge.RecordRemoval {
		switch string(settlement.Value) {
		case "true":
			write.Kind, write.WithChildren = change.Remove, true
		case "false":
		default:
			return wire.Answer{}, fault.Fail(fault.Invalid, "whether the record is removed is true or false")
		}
	}
	return c.Direct(ctx, who, write)
}

// Direct takes one change made at central by the same rules as a push. A change that is not accepted comes back as a
// [*fault.Error] with the reasons.
func (c *Changes) Direct(ctx context.Context, who fleet.Person, write Write) (wire.Answer, error) {
	var answer wire.Answer
	var done *desk.Decided
	err := c.ground.Change(ctx, func(t Tables) error {
		source, digest, err := write.repeatable(who)
		if err != nil {
			return err
		}
		write, err := write.named(ctx, t, who)
		if err != nil {
			return err
		}
		at := desk.Key{Collection: write.Collection, ID: write.Record}
		var before bool
		if answer, before, err = answered(ctx, t, source, digest); before || err != nil {
			return err
		}
		changes, current, err := c.shape(ctx, t, who, write)
		if err != nil {
			return err
		}
		done, err = c.accept(ctx, t, c.mine(who), desk.ItemsOf(changes), func(done *desk.Decided) error {
			return errors.Join(unmoved(current, done, at), allAccepted(done), goneTogether(changes, done.Rows[at]))
		})
		if err != nil {
			return err
		}
		answer = done.Answers[len(done.Answers)-1]
		if source != uuid.Nil {
			if err := t.NoteDirect(ctx, source, digest, answer); err != nil {
				return err
			}
		}
		answer.Record = done.Shown(at)
		answer.Record.Position = done.Versions[len(done.Versions)-1].Position
		return nil
	})
	if err != nil {
		return wire.Answer{}, err
	}
	if done != nil {
		c.announce(ctx, done)
	}
	return answer, nil
}

// named is the write with the id that follows from place and period, where it adds a record of which there is one for each, and with
// the field that says who marked the record.
func (w Write) named(ctx context.Context, t Tables, who fleet.Person) (Write, error) {
	definitions, err := t.Definitions(ctx)
	if err != nil {
		return w, err
	}
	c := definitions[w.Collection]
	switch {
	case c == nil:
	case w.Marks != MarksNothing && !c.Completes():
		return w, fault.Fail(fault.Invalid, "records of %s are not marked complete: its definition names no field for that", w.Collection)
	case w.Marks == MarkOpen:
		w.Kind, w.Fields = change.Edit, record.Delta{c.Coverage.Complete: {}}
	case w.Marks == MarkComplete:
		name, err := json.Marshal(who.Name)
		w.Kind, w.Fields = change.Edit, record.Delta{c.Coverage.Complete: {To: name}}
		return w, err
	case w.Kind == change.Add:
		fields, err := w.Fields.Canonical()
		if err != nil {
			return w, fault.Fail(fault.Invalid, "%v", err)
		}
		if id, follows := c.OneID(record.Fields{}.Apply(fields)); follows {
			w.Record = id
		}
	}
	return w, nil
}

// repeatable gives under what the answer to a write is kept, and what tells that the write is the same when it comes
// again. Nobody meets the key of somebody else, or the number of a device.
func (w Write) repeatable(who fleet.Person) (source uuid.UUID, digest []byte, err error) {
	if w.Key == "" {
		return uuid.Nil, nil, nil
	}
	const most = 200
	if len(w.Key) > most {
		return uuid.Nil, nil, fault.Fail(fault.Invalid, "a key has %d characters at most", most)
	}
	text, err := json.Marshal(w)
	sum := sha256.Sum256(text)
	return uuid.NewSHA1(keys, []byte(who.Name+"\x00"+w.Key)), sum[:], err
}

// keys is the space of the names under which answers to repeatable writes are kept (RFC 9562, section 5.5).
var keys = uuid.MustParse("5f1c0d0e-6c39-4b5a-9a56-0f6f2a1b7c11")

// answered gives the answer to a write that was made before under the same key.
func answered(ctx context.Context, t Tables, source uuid.UUID, digest []byte) (answer wire.Answer, before bool, err error) {
	if source == uuid.Nil {
		return answer, false, nil
	}
	known, _, err := t.Answers(ctx, source, []int64{1})
	if err != nil || len(known) == 0 {
		return answer, false, err
	}
	if !bytes.Equal(known[1].Digest, digest) {
		return answer, false, fault.Fail(fault.Clash, "another change was made under this key; take a new key for each change")
	}
	return answer, true, json.Unmarshal(known[1].Answer, &answer)
}

// unmoved makes the work start again where a record is not what it was when the change was shaped, before the locks.
func unmoved(seen *desk.Row, done *desk.Decided, at desk.Key) error {
	first := slices.IndexFunc(done.Versions, func(v *desk.Version) bool { return v.Key == at })
	if first < 0 {
		return nil
	}
	before := done.Versions[first].Revision - 1
	if seen == nil && before == 0 || seen != nil && seen.Revision == before {
		return nil
	}
	return fault.ErrRaced
}

func allAccepted(done *desk.Decided) error {
	for _, answer := range done.Answers {
		if !answer.Answer.Accepted() {
			return fault.Refused(answer.Reasons)
		}
	}
	return nil
}

// goneTogether refuses a removal that would take the children of a record which itself stays, since somebody has
// edited it meanwhile.
func goneTogether(removals []change.Change, top *desk.Row) error {
	if len(removals) < 2 || top.Removed {
		return nil
	}
	return fault.Fail(fault.Clash, "the record was edited since the revision %d that you saw, so it would stay and "+
		"%d others would go; look at it again",
		removals[len(removals)-1].Base, len(removals)-1)
}

// shape makes the changes that a write is: one, or the removals of a record and its children.
func (c *Changes) shape(ctx context.Context, t Tables, who fleet.Person,
	write Write) ([]change.Change, *desk.Row, error) {
	at := desk.Key{Collection: write.Collection, ID: write.Record}
	definitions, err := t.Definitions(ctx)
	if err != nil {
		return nil, nil, err
	}
	rows, err := t.Rows(ctx, []desk.Key{at})
	if err != nil {
		return nil, nil, err
	}
	current, collection := rows[at], definitions[write.Collection]
	seen := record.Fields{}
	if write.sawEarlier(current) {
		if seen, err = t.FieldsAt(ctx, at, write.Base); err != nil {
			return nil, nil, err
		}
	}
	ch, err := write.change(who, collection, current, seen)
	if err != nil {
		return nil, nil, err
	}
	if ch.Number, err = t.DirectNumbers(ctx, 1); err != nil {
		return nil, nil, err
	}
	ch.EditedAt = c.ground.Now()
	ch.Stamp = clock.At(ch.EditedAt)
	if err := directFields(ctx, t, who, definitions, collection, ch.Fields, write.Marks != MarksNothing); err != nil {
		return nil, nil, err
	}
	if write.Kind != change.Remove {
		return []change.Change{ch}, current, nil
	}
	changes, err := cascade(ctx, t, who, definitions, ch, write.WithChildren)
	return changes, current, err
}

// sawEarlier says whether the author saw an earlier state of the record than the one that it has now.
func (w Write) sawEarlier(current *desk.Row) bool {
	return current != nil && w.Base > 0 && w.Base < current.Revision
}

// change makes the change that a write is. What its author saw is where it starts from: seen, if that was an earlier
// state than the record has now, so that what others have done since is not taken for something that the author took
// away.
func (w Write) change(who fleet.Person, collection *definition.Collection, current *desk.Row,
	seen record.Fields) (change.Change, error) {
	ch := change.Change{Collection: w.Collection, Record: w.Record, Kind: w.Kind, Base: max(w.Base, 0), Author: who.Name}
	fields, err := w.Fields.Canonical()
	if err != nil {
		return ch, fault.Fail(fault.Invalid, "%v", err)
	}
	if current != nil && !sight.Alone(who).See(collection, current.Territories, current.Fields) {
		// as everywhere for who may not see it
		return ch, fault.Fail(fault.NotFound, "there is no record %s in %s", w.Record, w.Collection)
	}
	if err := w.problem(current); err != nil {
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
		edit.From = seen[name]
		if w.sawEarlier(current) && w.Settles == nil && string(edit.From) == string(edit.To) {
			delete(fields, name) // a form sends back what it was given, and others may have changed it since
			continue
		}
		fields[name] = edit
	}
	ch.Fields = fields
	return ch, nil
}

func (w Write) problem(current *desk.Row) error {
	switch {
	case w.Kind == change.Add && current != nil && !current.Removed:
		return fault.Fail(fault.Clash, "there is a record %s in %s already, at revision %d; edit it", w.Record,
			w.Collection, current.Revision)
	case w.Kind != change.Add && current == nil:
		return fault.Fail(fault.NotFound, "there is no record %s in %s", w.Record, w.Collection)
	}
	return nil
}

func (s *Settlement) delta(current *desk.Row) (record.Delta, error) {
	if s.Field == merge.RecordRemoval {
		return record.Delta{}, nil
	}
	value, err := record.CanonicalField(s.Field, s.Value)
	if err != nil {
		return nil, fault.Fail(fault.Invalid, "%v", err)
	}
	return current.Fields.Set(s.Field, value), nil
}

// settling says why a disputed field cannot be settled now; nil when it can.
func settling(field string, base int64, current *desk.Row) error {
	if current == nil || current.Removed {
		return fault.Fail(fault.NotFound, "there is no such record")
	}
	open, disputed := current.Marks.Disputes[field]
	switch {
	case !disputed:
		mark := current.Marks.Standing(field)
		return fault.Fail(fault.Clash, "%s is not in dispute; it was settled, or last set, at revision %d", field,
			mark.Revision)
	case base >= 0 && base < open.Opened:
		return fault.Fail(fault.Clash, "the conflict over %s was opened at revision %d, after the revision %d that you "+
			"saw; look at it again", field, open.Opened, base)
	}
	return nil
}

// cascade gives the removal of a record and of those that go with it, children first. At central nobody is without
// signal: whoever removes here sees what is there.
func cascade(ctx context.Context, t Tables, who fleet.Person, definitions map[string]*definition.Collection,
	top change.Change, withChildren bool) ([]change.Change, error) {
	order, err := desk.Descend(definitions, desk.Key{Collection: top.Collection, ID: top.Record},
		func(child *definition.Collection, parents []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error) {
			return t.ChildrenOf(ctx, child, parents)
		})
	if errors.Is(err, desk.ErrCascade) {
		return nil, fault.Fail(fault.TooLarge, "%v", err)
	}
	if err != nil {
		return nil, err
	}
	below := order[:len(order)-1]
	rows, err := t.Rows(ctx, below)
	if err != nil {
		return nil, err
	}
	for at, row := range rows {
		if !sight.Alone(who).See(definitions[at.Collection], row.Territories, row.Fields) {
			return nil, fault.Fail(fault.NotAllowed, "something that you may not see belongs to this record and would go with it; "+
				"let somebody remove it who may see both")
		}
	}
	if len(below) > 0 && !withChildren {
		return nil, alsoGo(below)
	}
	first, err := t.DirectNumbers(ctx, len(below))
	if err != nil {
		return nil, err
	}
	all := make([]change.Change, 0, len(order))
	for n, at := range below {
		ch := top
		ch.Collection, ch.Record, ch.Number = at.Collection, at.ID, first+int64(n)
		if row := rows[at]; row != nil {
			ch.Base = row.Revision
		}
		all = append(all, ch)
	}
	return append(all, top), nil
}

func alsoGo(below []desk.Key) error {
	also := map[string]int{}
	for _, at := range below {
		also[at.Collection]++
	}
	problem := &fault.Error{Kind: fault.Clash,
		Message: fmt.Sprintf("%d other records belong to this one and would go with it; say that they may go, too",
			len(below))}
	for _, name := range slices.Sorted(maps.Keys(also)) {
		problem.Reasons = append(problem.Reasons, change.Reason{Code: change.CodeHasChildren,
			Message: fmt.Sprintf("%d of %s would go with it", also[name], name)})
	}
	return problem
}

// directFields refuses, of what somebody sets at central, what nobody sets, and references to nothing.
func directFields(ctx context.Context, t Tables, who fleet.Person, definitions map[string]*definition.Collection,
	collection *definition.Collection, delta record.Delta, marks bool) error {
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
		may = may || marks && field.Marks
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
		text := definition.Plain(delta[name].To)
		there, err := refersToSomething(ctx, t, who, definitions[field.Reference], text)
		if err != nil {
			return err
		}
		if !there {
			reasons = append(reasons, change.Reason{Field: name, Code: change.CodeInvalidValue,
				Message: fmt.Sprintf("there is no record %q in %s to refer to", text, field.Reference)})
		}
	}
	if reasons == nil {
		return nil
	}
	return fault.Refused(reasons)
}

// refersToSomething says whether there is a record by that id which somebody may see.
func refersToSomething(ctx context.Context, t Tables, who fleet.Person, target *definition.Collection,
	text string) (bool, error) {
	id, err := uuid.Parse(text)
	if err != nil || target == nil {
		return false, nil
	}
	at := desk.Key{Collection: target.Definition.Collection, ID: id}
	rows, err := t.Rows(ctx, []desk.Key{at})
	row := rows[at]
	return row != nil && !row.Removed && sight.Alone(who).See(target, row.Territories, row.Fields), err
}
