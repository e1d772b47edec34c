package definition

import (
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/rights"
)

// Meeting is what comes out where two edits of a record meet.
type Meeting struct {
	One       change.Verdict           `json:"one" doc:"Central's answer to the edit that was made first."`
	Other     change.Verdict           `json:"other" doc:"Central's answer to the edit that was made a minute later."`
	Record    record.Fields            `json:"record" doc:"The record after both."`
	Decisions []change.Decision        `json:"decisions,omitempty" doc:"Where a rule decided."`
	Disputes  map[string]merge.Dispute `json:"disputes,omitempty" doc:"What waits for a person, by field."`
	Follows   []WouldFollow            `json:"follows,omitempty" doc:"What central would do after the edits, first to last; what would follow that in turn is not looked at."`
}

// WouldFollow is what a follow-up comes to after one of the edits.
type WouldFollow struct {
	After     string        `json:"after" enum:"one,other" doc:"The edit that it follows."`
	Rule      string        `json:"rule"`
	Set       record.Fields `json:"set,omitempty" doc:"What it sets in the record itself, null for a value that it takes away."`
	SetParent record.Fields `json:"set_parent,omitempty" doc:"What it sets in the record's parent."`
	Add       record.Fields `json:"add,omitempty" doc:"The record that it adds."`
	AddTo     string        `json:"add_to,omitempty" doc:"The collection that it adds it to."`
	Wrong     string        `json:"wrong,omitempty" doc:"Why it could not be worked out; nothing of it is done."`
}

// Meet lets two people edit a record without knowing of each other: base is the record as it was, one and other are what
// each made of it. One is edited a minute before the other, and reaches central first unless otherFirst. Nothing is
// checked against the schema.
func (d Definition) Meet(base, one, other record.Fields, otherFirst bool) (Meeting, error) {
	source := func(store byte) change.Source { return change.Source{Incarnation: uuid.UUID{15: store}, Number: 1} }
	start := time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)
	state, err := merge.Merge(d.Rules(), merge.State{}, merge.Edit{Kind: change.Add, Fields: record.Diff(nil, base),
		Stamp: clock.At(start), Source: source(9)})
	if err != nil {
		return Meeting{}, err
	}
	compiled, err := d.Compile()
	if err != nil {
		return Meeting{}, err
	}
	var met Meeting
	edits := []struct {
		name   string
		answer *change.Verdict
		edit   merge.Edit
	}{
		{"one", &met.One, merge.Edit{Kind: change.Edit, Base: 1, Fields: record.Diff(base, one), Stamp: clock.At(start.Add(time.Minute)), Source: source(1)}},
		{"other", &met.Other, merge.Edit{Kind: change.Edit, Base: 1, Fields: record.Diff(base, other), Stamp: clock.At(start.Add(2 * time.Minute)), Source: source(2)}},
	}
	if otherFirst {
		edits[0], edits[1] = edits[1], edits[0]
	}
	for _, e := range edits {
		if len(e.edit.Fields) == 0 { // somebody who left it as it was sent nothing
			*e.answer = change.Applied
			continue
		}
		before := state.State.Fields
		if state, err = merge.Merge(d.Rules(), state.State, e.edit); err != nil {
			return Meeting{}, err
		}
		follows, err := compiled.wouldFollow(e.name, before, state.State.Fields, e.edit.Stamp.Time())
		if err != nil {
			return Meeting{}, err
		}
		met.Follows = append(met.Follows, follows...)
		*e.answer = state.Verdict
		met.Decisions = append(met.Decisions, state.Decisions...)
	}
	met.Record, met.Disputes = state.State.Fields, state.State.Marks.Disputes
	return met, nil
}

// wouldFollow is what follows an edit by a worker who covers everything.
func (c *Collection) wouldFollow(name string, before, after record.Fields, at time.Time) ([]WouldFollow, error) {
	follows, err := c.Follows(Cause{ID: uuid.Nil.String(), Before: before, After: after, Kind: change.Edit,
		Who: rights.Person{Name: name, Role: rights.Worker, Territories: []string{rights.All}}, Received: at.Format(time.RFC3339Nano)})
	var all []WouldFollow
	for _, one := range follows {
		would := WouldFollow{After: name, Rule: one.Rule.Name}
		if one.Wrong != nil {
			would.Wrong = one.Wrong.Error()
			all = append(all, would)
			continue
		}
		would.Set, would.SetParent, would.Add = one.Set, one.SetParent, one.Add
		if one.Rule.Add != nil {
			would.AddTo = one.Rule.Add.Collection
		}
		all = append(all, would)
	}
	return all, err
}
