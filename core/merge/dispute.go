package merge

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"

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
	open.Join(mine, edit.Direct)
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
// was said at central, where one source stands for many people.
func (d *Dispute) Join(mine Candidate, direct bool) {
	d.Others = slices.Clone(d.Others)
	at := slices.IndexFunc(d.Others,
		func(c Candidate) bool { return c.Side.Source.Incarnation == mine.Side.Source.Incarnation })
	if at >= 0 && !direct {
		d.Others[at] = mine
		return
	}
	d.Others = append(d.Others, mine)
}

// disputeRemoval holds a removal: the record stays until a person has decided.
func (o *Outcome) disputeRemoval(open Dispute, removal Mark, direct bool) {
	open.Join(Candidate{Value: json.RawMessage("true"), Side: removal.Side()}, direct)
	o.State.Marks.Disputes = with(o.State.Marks.Disputes, RecordRemoval, open)
	o.Verdict = change.Held
}
