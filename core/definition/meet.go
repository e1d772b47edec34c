package definition

import (
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/merge"
	"homing/core/record"
)

// Meeting is what comes out where two edits of a record meet.
type Meeting struct {
	One       change.Verdict           `json:"one" doc:"Central's answer to the edit that was made first."`
	Other     change.Verdict           `json:"other" doc:"Central's answer to the edit that was made a minute later."`
	Record    record.Fields            `json:"record" doc:"The record after both."`
	Decisions []change.Decision        `json:"decisions,omitempty" doc:"Where a rule decided."`
	Disputes  map[string]merge.Dispute `json:"disputes,omitempty" doc:"What waits for a person, by field."`
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
	var met Meeting
	edits := []struct {
		answer *change.Verdict
		edit   merge.Edit
	}{
		{&met.One, merge.Edit{Kind: change.Edit, Base: 1, Fields: record.Diff(base, one), Stamp: clock.At(start.Add(time.Minute)), Source: source(1)}},
		{&met.Other, merge.Edit{Kind: change.Edit, Base: 1, Fields: record.Diff(base, other), Stamp: clock.At(start.Add(2 * time.Minute)), Source: source(2)}},
	}
	if otherFirst {
		edits[0], edits[1] = edits[1], edits[0]
	}
	for _, e := range edits {
		if len(e.edit.Fields) == 0 { // somebody who left it as it was sent nothing
			*e.answer = change.Applied
			continue
		}
		if state, err = merge.Merge(d.Rules(), state.State, e.edit); err != nil {
			return Meeting{}, err
		}
		*e.answer = state.Verdict
		met.Decisions = append(met.Decisions, state.Decisions...)
	}
	met.Record, met.Disputes = state.State.Fields, state.State.Marks.Disputes
	return met, nil
}
