package merge

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"homing/core/change"
)

// Dispute is a field, or the removal of a record, that waits for a person: what it was, and what several people made
// of it. Central's value stays in the record meanwhile. It travels with the record's marks, so that devices know of
// it and can settle it, too.
type Dispute struct {
	Opened int64           `json:"opened"`         // revision
	Base   json.RawMessage `json:"base,omitempty"` // what the first disputing edit started from
	Others []Candidate     `json:"others"`         // in the order in which they came
}

// Candidate is one value that somebody wants a disputed field to have.
type Candidate struct {
	Value json.RawMessage `json:"value,omitempty"`
	Side  change.Side     `json:"side"`
}

// dispute deals with a field whose rule is to ask, or that is disputed already. It says whether the field is dealt
// with: the edit was held. An edit whose author knew of the dispute settles it.
func (m meeting) dispute(out *Outcome, state State, edit Edit) (held bool) {
	open, disputed := state.Marks.Disputes[m.name]
	mine := Candidate{Value: m.to, Side: m.mark.Side()}
	switch {
	case disputed && edit.Base >= open.Opened && !m.contested:
		out.State.Marks.Disputes = without(out.State.Marks.Disputes, m.name)
		out.Decisions = append(out.Decisions, change.Decision{Field: m.name, Rule: Settled, Kept: change.KeptChange,
			Other: m.known.Side()})
		return false
	case !disputed && (m.rule != Ask || !m.contested || bytes.Equal(m.to, m.central)):
		return false
	case disputed && !m.contested:
		return false // whoever's value stands goes on with it, not knowing of the dispute
	case !disputed:
		open = Dispute{Opened: m.mark.Revision, Base: m.from}
	}
	open.Join(mine, edit.Direct, edit.Seen...)
	out.State.Marks.Disputes = with(out.State.Marks.Disputes, m.name, open)
	out.Decisions = append(out.Decisions, change.Decision{Field: m.name, Rule: string(Ask), Kept: change.KeptCentral,
		Other: m.known.Side()})
	out.Verdict = change.Held
	return true
}

func with(disputes map[string]Dispute, name string, open Dispute) map[string]Dispute {
	all := maps.Clone(disputes)
	if all == nil {
		all = map[string]Dispute{}
	}
	all[name] = open
	return all
}

func without(disputes map[string]Dispute, name string) map[string]Dispute {
	all := maps.Clone(disputes)
	if delete(all, name); len(all) == 0 {
		return nil
	}
	return all
}

// Join adds what somebody wants; what a store says later takes the place of what it said before. Direct says that it
// was said at central, where one source stands for many people. Seen is what else the same author said before.
func (d *Dispute) Join(mine Candidate, direct bool, seen ...change.Source) {
	d.Others = slices.Clone(d.Others)
	at := slices.IndexFunc(d.Others,
		func(c Candidate) bool {
			return c.Side.Source.Incarnation == mine.Side.Source.Incarnation || slices.Contains(seen, c.Side.Source)
		})
	if at >= 0 && !direct {
		d.Others[at] = mine
		return
	}
	d.Others = append(d.Others, mine)
}

// disputeRemoval holds a removal: the record stays until a person has decided.
func (o *Outcome) disputeRemoval(open Dispute, removal Mark, edit Edit) {
	open.Join(Candidate{Value: json.RawMessage("true"), Side: removal.Side()}, edit.Direct, edit.Seen...)
	o.State.Marks.Disputes = with(o.State.Marks.Disputes, RecordRemoval, open)
	o.Verdict = change.Held
}

// Hold undoes what an edit made of a field, and lets a person settle between that and what stood there before.
func (o *Outcome) Hold(before State, edit Edit, field string) {
	open, disputed := before.Marks.Disputes[field]
	if !disputed {
		open = Dispute{Opened: o.State.Revision, Base: edit.Fields[field].From}
	}
	mark := Mark{Revision: o.State.Revision, Source: edit.Source, Stamp: edit.Stamp}
	open.Join(Candidate{Value: edit.Fields[field].To, Side: mark.Side()}, edit.Direct, edit.Seen...)

	o.State.Fields, o.Delta = maps.Clone(o.State.Fields), maps.Clone(o.Delta)
	if was := before.Fields[field]; was != nil {
		o.State.Fields[field] = was
	} else {
		delete(o.State.Fields, field)
	}
	delete(o.Delta, field)
	within := func(path string) bool { return path == field || strings.HasPrefix(path, field+"/") }
	marks := maps.Clone(o.State.Marks.Fields)
	maps.DeleteFunc(marks, func(path string, _ Mark) bool { return within(path) })
	for path, was := range before.Marks.Fields {
		if within(path) {
			marks[path] = was
		}
	}
	o.State.Marks.Fields = marks
	o.State.Marks.Disputes = with(o.State.Marks.Disputes, field, open)
	o.Decisions = slices.DeleteFunc(slices.Clone(o.Decisions), func(d change.Decision) bool { return within(d.Field) })
	o.Decisions = append(o.Decisions, change.Decision{Field: field, Rule: string(Ask), Kept: change.KeptCentral,
		Other: before.Marks.Standing(field).Side()})
	o.Verdict = change.Held
}
