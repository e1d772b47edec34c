package save

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
	"homing/device/internal/file"
	"homing/device/internal/hold"
)

// Add is [device.Store.Add].
func (s *Desk) Add(ctx context.Context, collection string, fields hold.Fields, options ...SaveOption) (hold.Record, error) {
	return s.save(ctx, collection, s.NewID(), change.Add, fields, options...)
}

// Edit is [device.Store.Edit].
func (s *Desk) Edit(ctx context.Context, collection string, id uuid.UUID, fields hold.Fields,
	options ...SaveOption) (hold.Record, error) {
	return s.save(ctx, collection, id, change.Edit, fields, options...)
}

// Remove is [device.Store.Remove].
func (s *Desk) Remove(ctx context.Context, collection string, id uuid.UUID, options ...SaveOption) error {
	_, err := s.save(ctx, collection, id, change.Remove, nil, options...)
	return err
}

// SaveOption says more about a save.
type SaveOption func(*wish)

// Saw says what the author of an edit or a removal had before them: the record as it was read. A form may be open
// while an exchange brings news; what came since is not overwritten by what the form still shows. Without it, the
// author is taken to have seen what this device has now.
func Saw(r hold.Record) SaveOption {
	return func(w *wish) { w.saw = &r }
}

// As gives a record that is added an id that was made elsewhere, such as by the app: asked again after an answer was
// lost, the add finds that the record is there already.
func As(id uuid.UUID) SaveOption { return func(w *wish) { w.as = id } }

// Complete is [device.Store.Complete].
func (s *Desk) Complete(ctx context.Context, collection string, id uuid.UUID, options ...SaveOption) (hold.Record, error) {
	return s.mark(ctx, collection, id, true, options)
}

// Reopen is [device.Store.Reopen].
func (s *Desk) Reopen(ctx context.Context, collection string, id uuid.UUID, options ...SaveOption) (hold.Record, error) {
	return s.mark(ctx, collection, id, false, options)
}

// mark sets, or clears, the field that says who marked a record complete.
func (s *Desk) mark(ctx context.Context, collection string, id uuid.UUID, complete bool, options []SaveOption) (hold.Record, error) {
	c, err := s.Collection(ctx, collection)
	if err != nil {
		return hold.Record{}, err
	}
	if !c.Completes() {
		return hold.Record{}, fmt.Errorf("%w: records of %s are not marked complete: its definition names no field for that", file.ErrNotAllowed, collection)
	}
	fields := hold.Fields{c.Coverage.Complete: nil}
	if complete {
		if fields[c.Coverage.Complete], err = file.Fact(ctx, s.DB, file.FactWorker); err != nil {
			return hold.Record{}, file.StoreError(err)
		}
	}
	return s.save(ctx, collection, id, change.Edit, fields, append(options, func(w *wish) { w.marks = true })...)
}

// wish is what somebody wants to save of one record.
type wish struct {
	as      uuid.UUID // nil: an id that is made here
	marks   bool      // it marks the record complete, or opens it again
	kind    change.Kind
	set     record.Fields
	cleared []string
	saw     *hold.Record // nil: what is here now
}

func wishFor(collection string, kind change.Kind, fields hold.Fields, options []SaveOption) (wish, error) {
	w := wish{kind: kind}
	var err error
	if w.set, w.cleared, err = fields.Canonical(); err != nil {
		return w, invalid(collection, err)
	}
	for _, option := range options {
		option(&w)
	}
	return w, nil
}

// save writes the change and the new view of its record in one transaction.
func (s *Desk) save(ctx context.Context, collection string, id uuid.UUID, kind change.Kind, fields hold.Fields,
	options ...SaveOption) (hold.Record, error) {
	w, err := wishFor(collection, kind, fields, options)
	if err != nil {
		return hold.Record{}, err
	}
	var saved hold.Record
	err = s.Saving(ctx, collection, func(tx *sqlx.Tx, c *definition.Collection, known map[string]string) (err error) {
		var row hold.Stored
		if kind == change.Remove {
			row, err = s.removeTogether(ctx, tx, c, id, w, known)
		} else {
			row, err = s.saveIn(ctx, tx, c, id, w, known)
		}
		if err != nil {
			return err
		}
		if err := s.WorkOut(ctx, tx, &row); err != nil {
			return err
		}
		saved, err = row.Record(c)
		return err
	})
	return saved, err
}

// Saving runs a transaction that saves in a collection, if whoever is signed in may do so now.
func (s *Desk) Saving(ctx context.Context, collection string,
	work func(tx *sqlx.Tx, c *definition.Collection, known map[string]string) error) error {
	return s.Within(ctx, func(tx *sqlx.Tx) error {
		c, err := s.Definition(ctx, tx, collection)
		if err != nil {
			return err
		}
		known, err := file.Facts(ctx, tx)
		if err != nil {
			return err
		}
		if err := s.maySave(ctx, tx, c, known); err != nil {
			return err
		}
		return work(tx, c, known)
	})
}

// firstYear is the first in which a device's clock can be right.
const firstYear = 2020

// maySave says whether anybody may change the collection on this device now.
func (s *Desk) maySave(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, known map[string]string) error {
	switch {
	case known[file.FactToken] == "":
		return file.ErrNotEnrolled
	case known[file.FactWorker] == "":
		return file.ErrSignedOut
	}
	// A clock that was never set gives edits a time that nobody can make sense of later; one that is merely off is
	// corrected.
	if now := s.Now(); now.Year() < firstYear {
		return fmt.Errorf("%w: it says %s", file.ErrClock, now.Local().Format("2 Jan 2006 15:04"))
	}
	if role := known[file.FactRole]; !rights.Role(role).May(rights.ChangeRecords) {
		return fmt.Errorf("%w: the role %s may not change records", file.ErrNotAllowed, role)
	}
	if !c.Sync.Direction.Pushes() {
		return fmt.Errorf("%w: %s only come down from central and are changed there", file.ErrNotAllowed, c.Title)
	}
	if c.Sync.MaxAge == nil || c.Sync.MaxAge.Block == "" {
		return nil
	}
	asOf, age, err := s.AgeOf(ctx, tx, c)
	if err == nil && age == definition.TooOld {
		err = fmt.Errorf("%w: %s are as of %s, and %s is allowed", file.ErrTooOld, c.Title,
			asOf.Local().Format("2 Jan 2006 15:04"), c.Sync.MaxAge.Block)
	}
	return err
}

// saveIn saves within a transaction, with what has been read already.
func (s *Desk) saveIn(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, id uuid.UUID, w wish,
	known map[string]string) (hold.Stored, error) {
	collection, kind := c.Definition.Collection, w.kind
	row := hold.Stored{Collection: collection, ID: id.String(), Fields: "{}", Computed: "{}", Local: "{}"}
	before, gone := record.Fields{}, record.Fields{}
	var err error
	if kind != change.Add {
		if row, err = hold.LoadStored(ctx, tx, collection, id.String()); err != nil {
			return row, err
		}
		if row.Removed {
			return row, fmt.Errorf("%w: %s in %s was removed", file.ErrNoRecord, id, collection)
		}
		if err := json.Unmarshal([]byte(row.Fields), &before); err != nil {
			return row, fmt.Errorf("%w: record %s", file.ErrDamaged, id)
		}
	}
	if kind == change.Add {
		c.StartWith(w.set, w.cleared)
		if one, follows := c.OneID(w.set); follows {
			if row, gone, err = s.oneMore(ctx, tx, c, one, row); err != nil {
				return row, err
			}
		} else if w.as != uuid.Nil {
			row.ID = w.as.String()
			if _, err := hold.LoadStored(ctx, tx, collection, row.ID); !errors.Is(err, file.ErrNoRecord) {
				return row, cmp.Or(err, fmt.Errorf("%w: %s in %s", file.ErrTaken, row.ID, collection))
			}
		}
	}
	w.set, w.cleared, err = takeLocal(&row, c, w)
	if err != nil {
		return row, err
	}
	if w.saw != nil && w.saw.Revision < row.Revision && kind != change.Add {
		return s.saveOnOlder(ctx, tx, c, row, w, known)
	}
	delta := deltaOf(before, w.set, w.cleared)
	after := before.Apply(delta)
	if kind == change.Add {
		delta, after, before = record.Diff(nil, w.set), w.set, record.Fields{}
		for name, value := range gone { // of a record that was removed, nothing comes back by itself
			if w.set[name] == nil {
				delta[name] = record.Edit{From: value}
			}
		}
	}
	if err := allowed(c, known, kind, before, after); err != nil {
		return row, err
	}
	if closed := c.Closed(kind, before, after, false); closed != nil {
		return row, &file.InvalidError{Collection: collection, Reasons: closed}
	}
	if kind != change.Remove {
		local := record.Fields{}
		if err := json.Unmarshal([]byte(row.Local), &local); err != nil {
			return row, fmt.Errorf("%w: record %s", file.ErrDamaged, id)
		}
		whole := maps.Clone(after)
		maps.Copy(whole, local)
		if wrong := c.NewlyWrong(before, whole); len(wrong) > 0 {
			return row, &file.InvalidError{Collection: collection, Reasons: wrong}
		}
		if err := s.keyFree(ctx, tx, c, row.ID, delta); err != nil {
			return row, err
		}
		if err := s.Linked(ctx, tx, c, delta); err != nil {
			return row, err
		}
	} else if err := s.removeChildren(ctx, tx, c, row.ID, known); err != nil {
		return row, err
	}
	if kind != change.Edit || len(delta) > 0 {
		return s.enqueue(ctx, tx, row, kind, delta, after, known)
	}
	if err := s.Note(tx, row.Collection, row.ID, false); err != nil {
		return row, err
	}
	return row, s.WriteStored(ctx, tx, row) // local values only
}

// oneMore is where the record for a place and a period goes that has none here: to the id that follows from them. Of one that was removed
// here, and of whose removal central has not heard yet, it gives what it said, too.
func (s *Desk) oneMore(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, id uuid.UUID, fresh hold.Stored) (hold.Stored, record.Fields, error) {
	fresh.ID = id.String()
	row, err := hold.LoadStored(ctx, tx, c.Definition.Collection, fresh.ID)
	if errors.Is(err, file.ErrNoRecord) {
		return fresh, record.Fields{}, nil
	}
	if err != nil {
		return row, nil, err
	}
	if !row.Removed {
		there, err := row.Record(c)
		if err != nil {
			return row, nil, err
		}
		return row, nil, &file.InvalidError{Collection: c.Definition.Collection, Reasons: []change.Reason{thereIsOne(c, there)}}
	}
	gone := record.Fields{}
	if err := json.Unmarshal([]byte(row.Fields), &gone); err != nil {
		return row, nil, fmt.Errorf("%w: record %s", file.ErrDamaged, id)
	}
	return row, gone, nil
}

// thereIsOne says that a place and a period have their record.
func thereIsOne(c *definition.Collection, there hold.Record) change.Reason {
	return change.Reason{Field: c.Coverage.Period, Code: change.CodeKeyTaken,
		Message: fmt.Sprintf("%s (%s) is for this place and period already; work on that record instead", there.Label, there.ID)}
}

// keyFree warns of a key that another record has here, where keys are unique. Central has the last word: it knows of
// records that this device does not have.
func (s *Desk) keyFree(ctx context.Context, tx *sqlx.Tx, c *definition.Collection, id string, delta record.Delta) error {
	text := c.OneText(record.Fields{}.Apply(delta))
	if text == "" {
		return nil
	}
	holder, err := s.HolderOf(ctx, tx, c, text, id)
	if err != nil || holder == nil {
		return err
	}
	if c.Coverage != nil {
		return &file.InvalidError{Collection: c.Definition.Collection, Reasons: []change.Reason{thereIsOne(c, *holder)}}
	}
	field, _ := c.Field(c.Key)
	return &file.InvalidError{Collection: c.Definition.Collection, Reasons: []change.Reason{{Field: c.Key, Code: change.CodeKeyTaken,
		Message: fmt.Sprintf("%s (%s) has the %s %s already; take another, or work on that record instead", holder.Label, holder.ID,
			cmp.Or(field.Title, field.Name), text)}}}
}

// takeLocal puts the values that stay on this device where they stay, and refuses those that nobody sets. What is
// left is to be sent.
func takeLocal(r *hold.Stored, c *definition.Collection, w wish) (record.Fields, []string, error) {
	var wrong []change.Reason
	var local record.Fields
	left := record.Fields{}
	var leftCleared []string
	take := func(name string, value json.RawMessage) error {
		field, _ := c.Field(name)
		may, why := field.Settable()
		may = may || w.marks && field.Marks
		switch {
		case !may && value == nil:
			return nil // an empty input of a form
		case !may:
			wrong = append(wrong, change.Reason{Field: name, Code: change.CodeReadOnly, Message: why})
		case field.Local:
			if local == nil {
				if err := json.Unmarshal([]byte(r.Local), &local); err != nil {
					return fmt.Errorf("%w: record %s", file.ErrDamaged, r.ID)
				}
			}
			if delete(local, name); value != nil {
				local[name] = value
			}
		case value != nil:
			left[name] = value
		default:
			leftCleared = append(leftCleared, name)
		}
		return nil
	}
	for name, value := range w.set {
		if err := take(name, value); err != nil {
			return nil, nil, err
		}
	}
	for _, name := range w.cleared {
		if err := take(name, nil); err != nil {
			return nil, nil, err
		}
	}
	if wrong != nil {
		slices.SortFunc(wrong, func(a, b change.Reason) int { return strings.Compare(a.Field, b.Field) })
		return nil, nil, &file.InvalidError{Collection: c.Definition.Collection, Reasons: wrong}
	}
	if local != nil {
		r.Local = string(local.JSON())
	}
	return left, leftCleared, nil
}

// allowed asks the collection's own rules, so that the worker hears at once what central would refuse.
func allowed(c *definition.Collection, known map[string]string, kind change.Kind, before, after record.Fields) error {
	who, err := person(known)
	if err != nil {
		return err
	}
	switch kind {
	case change.Add:
		err = c.MayAdd(who, after)
	case change.Edit:
		err = c.MayEdit(who, before, after)
	default:
		err = c.MayRemove(who, before)
	}
	if err != nil {
		return fmt.Errorf("%w: %v", file.ErrNotAllowed, err)
	}
	return nil
}

// person is the worker of the device, as central last said.
func person(known map[string]string) (rights.Person, error) {
	who := rights.Person{Name: known[file.FactWorker], Role: rights.Role(known[file.FactRole])}
	if text := known[file.FactTerritories]; text != "" {
		if err := json.Unmarshal([]byte(text), &who.Territories); err != nil {
			return who, fmt.Errorf("%w: the worker's territories", file.ErrDamaged)
		}
	}
	return who, nil
}

// deltaOf is what differs from before once some fields are set and some cleared.
func deltaOf(before, set record.Fields, cleared []string) record.Delta {
	delta := record.Delta{}
	for name, to := range set {
		if from := before[name]; string(from) != string(to) {
			delta[name] = record.Edit{From: from, To: to}
		}
	}
	for _, name := range cleared {
		if from, had := before[name]; had {
			delta[name] = record.Edit{From: from}
		}
	}
	return delta
}

func invalid(collection string, err error) error {
	var wrong *record.FieldError
	if errors.As(err, &wrong) {
		return &file.InvalidError{
			Collection: collection,
			Reasons: []change.Reason{{Field: wrong.Field, Code: change.CodeInvalidValue,
				Message: wrong.Err.Error()}},
		}
	}
	return err
}

// enqueue puts a change at the end of the outbox and its effect into the view. An edit of a record of which central
// has refused something mends that: both become one change. What was refused together with it goes again together
// with it.
func (s *Desk) enqueue(ctx context.Context, tx *sqlx.Tx, row hold.Stored, kind change.Kind, delta record.Delta,
	after record.Fields, known map[string]string) (hold.Stored, error) {
	if kind != change.Edit || row.Pending == 0 {
		return s.Put(ctx, tx, row, row.Revision, kind, delta, after, known)
	}
	mends, err := mendable(ctx, tx, row, known[file.FactWorker])
	if err != nil {
		return row, err
	}
	if !mends {
		return s.Put(ctx, tx, row, row.Revision, kind, delta, after, known)
	}
	return s.mendTogether(ctx, tx, row, known, func(row hold.Stored) (hold.Stored, error) {
		row, m, err := s.mend(ctx, tx, row, after)
		if err != nil {
			return row, err
		}
		return s.putMended(ctx, tx, row, m, known)
	})
}

// Put writes a change that starts from a revision of central's, and the view after it.
func (s *Desk) Put(ctx context.Context, tx *sqlx.Tx, row hold.Stored, base int64, kind change.Kind, delta record.Delta,
	after record.Fields, known map[string]string) (hold.Stored, error) {
	now := s.Now()
	stamp, err := s.nextStamp(ctx, tx, known[file.FactStamp])
	if err != nil {
		return row, err
	}
	known[file.FactStamp] = stamp.String() // several changes may be saved at once
	author := known[file.FactWorker]
	boot, since := s.Tick()
	text, err := json.Marshal(delta)
	if err != nil {
		return row, err
	}
	seen, err := seenOf(ctx, tx, row)
	if err != nil {
		return row, err
	}
	if err := s.Exec(ctx, tx, file.InsertChange, row.Collection, row.ID, kind, base, string(text), stamp.String(),
		file.TimeText(now), author, boot, stamp.Millis-since.Milliseconds(), row.Lost, seen); err != nil {
		return row, err
	}
	if row.Pending == 0 && row.Revision > 0 {
		row.UnderFields.String, row.UnderFields.Valid, row.UnderRemoved = row.Fields, true, row.Removed
		if row.UnderBy == "" { // otherwise it is kept from before what is being mended
			if err := row.KeepBy(row.Author, row.Device, row.EditedAt); err != nil {
				return row, err
			}
		}
	}
	row.Pending++
	row.Removed = kind == change.Remove
	row.Fields, row.Author, row.Device, row.EditedAt = string(
		after.JSON(),
	), author, known[file.FactName], file.TimeText(
		now,
	)
	if err := s.Note(tx, row.Collection, row.ID, row.Removed); err != nil {
		return row, err
	}
	return row, s.WriteStored(ctx, tx, row)
}

// seenOf are the unsent changes of a record that its author sees and that an earlier incarnation of the store numbered.
// Those under the present one count as seen anyway.
func seenOf(ctx context.Context, tx *sqlx.Tx, row hold.Stored) (string, error) {
	if row.Pending == 0 {
		return "[]", nil
	}
	var rows []struct {
		Origin uuid.UUID
		Number int64
	}
	if err := tx.SelectContext(ctx, &rows, `SELECT origin, number FROM outbox WHERE collection = ? AND record = ? AND origin <> ''
		ORDER BY number DESC LIMIT ?`, row.Collection, row.ID, change.MaxSeen); err != nil || len(rows) == 0 {
		return "[]", err
	}
	all := make([]change.Source, len(rows))
	for n, one := range rows {
		all[n] = change.Source{Incarnation: one.Origin, Number: one.Number}
	}
	text, err := json.Marshal(all)
	return string(text), err
}

// nextStamp never goes backwards, whatever the device's clock does.
func (s *Desk) nextStamp(ctx context.Context, tx *sqlx.Tx, text string) (clock.Stamp, error) {
	var last clock.Stamp
	if text != "" {
		var err error
		if last, err = clock.Parse(text); err != nil {
			return last, err
		}
	}
	next := clock.Next(last, s.Now())
	return next, s.Exec(ctx, tx, file.UpsertFact, file.FactStamp, next.String())
}
