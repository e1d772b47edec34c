// Package merge decides what comes out when a change meets a record. It is a pure function of the collection's rules,
// central's record with its marks, and the change. Central calls it to accept a change; a device calls it to lay
// its unsent changes over what central said last. Both come to the same result.
//
// A field that nobody else changed since the change's base is simply taken. Otherwise the field's rule decides. With
// [Newest] and [Sum] the outcome does not depend on the order in which changes of different devices arrive: stamps in
// central's time decide, ties broken by the source, and differences add up in any order. With [Union] neither, but
// for a member that one device puts in and takes out again while another puts it in; with [Min] and [Max] neither.
// [First] depends on the order by its nature. [Append] loses no addition; it puts two in the order of their stamps,
// and a third that lies between them in time, and arrives after both, goes before both or behind.
//
// What a store did earlier never disputes with what it does later. But what its earlier edit has met, without its
// author having seen it, its later edit meets again: the mark remembers it ([Met]). So two edits of one store come to
// what they would as one.
//
// Two adds of one record, as of the one for a place and a period, meet like edits of a record that had nothing: each says what it says, and nothing of
// what it leaves out.
package merge

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/record"
)

// Rule decides a field that was changed on two sides.
type Rule string

// The rules.
const (
	Newest Rule = "newest" // the later edit by the corrected stamp stays
	First  Rule = "first"  // the value that reached central first stays
	Ask    Rule = "ask"    // both are kept, and a person settles it
	Sum    Rule = "sum"    // both differences are added
	Min    Rule = "min"    // the smaller stays
	Max    Rule = "max"    // the larger stays
	Union  Rule = "union"  // additions to and removals from a list of both
	Append Rule = "append" // text that both added at the end, in the order of their stamps
)

// RuleNames are all rules.
var RuleNames = []Rule{Newest, First, Ask, Sum, Min, Max, Union, Append}

// What stands for a rule where a person decided.
const (
	Settled  = "settled"
	Reopened = "reopened"
)

// Removal decides what happens when a removal meets an edit.
type Removal string

// The ways.
const (
	EditStays    Removal = "edit-stays"    // an edit that the remover did not know of outlives the removal, whichever came first
	RemovalStays Removal = "removal-stays" // the removal stands, whichever came first; the edit is kept in the history
	AskRemoval   Removal = "ask"           // the record stays, with the edit, and a person settles whether it goes
)

// Removals are all ways.
var Removals = []Removal{EditStays, RemovalStays, AskRemoval}

// RecordRemoval stands for a field in the dispute over whether a record is removed; no field can have its name. Its
// values are true and false.
const RecordRemoval = "record-removal"

// Rules are what a collection's definition declares. Every field without a rule of its own has [Newest]. A nested
// field is merged part by part, as if each were a field of its own; a part has the rule of its path, or that of the
// field.
type Rules struct {
	Fields  map[string]Rule
	Nested  map[string]bool
	Removal Removal
}

// Edit is a change as the merge sees it: with its stamp in central's time and its source.
type Edit struct {
	Kind   change.Kind
	Base   int64
	Fields record.Delta
	Stamp  clock.Stamp // corrected
	Source change.Source
	Seen   []change.Source // what the author knew of besides what stood at Base and what the same source said
	// Direct says that the edit was made at central, where many people write from one source: its author knew what stood
	// there at Base, and of what came since nothing, not even from the same source.
	Direct bool
}

// foreign says whether the author of the edit did not know of what set the mark: it came after the revision that the
// edit is based on, and not from the same store. What a store did earlier never disputes with what it does later.
func (e Edit) foreign(m Mark) bool {
	return m.Revision > e.Base && !e.knew(m.Source)
}

// Knows says whether the author of the edit knew of the value that a field has.
func (e Edit) Knows(state State, field string) bool { return !e.foreign(state.Marks.field(field)) }

// knew says whether the author knew of what a source said, whatever the base is.
func (e Edit) knew(s change.Source) bool {
	return !e.Direct && (s.Incarnation == e.Source.Incarnation || slices.Contains(e.Seen, s))
}

// Outcome is what a merge came to.
type Outcome struct {
	State     State
	Delta     record.Delta // what really changed, from what to what
	Verdict   change.Verdict
	Decisions []change.Decision // one for each contested field, and for a contested removal
}

// Refusal is why a change cannot be merged at all.
type Refusal struct{ Reason change.Reason }

func (r *Refusal) Error() string { return r.Reason.Message }

func refuse(code, format string, args ...any) error {
	return &Refusal{change.Reason{Code: code, Message: fmt.Sprintf(format, args...)}}
}

// Merge applies an edit to a record. The given state is not altered. The error, if any, is a [*Refusal].
func Merge(rules Rules, state State, edit Edit) (Outcome, error) {
	if err := check(state, edit); err != nil {
		return Outcome{}, err
	}
	mark := Mark{Revision: state.Revision + 1, Source: edit.Source, Stamp: edit.Stamp}
	if !state.Exists() {
		fields := record.Fields{}.Apply(edit.Fields)
		return Outcome{
			State:   State{Revision: 1, Fields: fields, Marks: Marks{Base: mark}},
			Delta:   record.Diff(nil, fields),
			Verdict: change.Applied,
		}, nil
	}
	out := Outcome{State: state, Verdict: change.Applied}
	out.State.Revision = mark.Revision
	if newsFor(state, edit) {
		out.Verdict = change.Merged
	}
	if edit.Kind == change.Remove {
		remove(&out, rules, state, edit, mark)
		return out, nil
	}
	if removal := state.Marks.presence(); state.Removed && rules.Removal == RemovalStays && edit.Kind == change.Edit &&
		edit.foreign(removal) {
		out.Delta = record.Delta{}
		out.Decisions = append(out.Decisions, change.Decision{Rule: string(RemovalStays), Kept: change.KeptCentral,
			Other: removal.Side()})
		return out, nil
	}
	if open, disputed := state.Marks.Disputes[RecordRemoval]; disputed && edit.Kind == change.Edit &&
		len(edit.Fields) == 0 && edit.Base >= open.Opened {
		// Whoever knows of the removal and edits nothing says that the record stays.
		out.Delta = record.Delta{}
		out.State.Marks.Disputes = without(out.State.Marks.Disputes, RecordRemoval)
		out.State.Marks.Presence = mark
		out.Decisions = append(out.Decisions, change.Decision{Rule: Settled, Kept: change.KeptCentral,
			Other: open.Others[0].Side})
		return out, nil
	}
	if state.Removed {
		bringBack(&out, rules, state, edit, mark)
	}
	set(&out, rules, state, edit, mark)
	if out.Verdict == change.Applied && !asAsked(out.State.Fields, edit.Fields) {
		out.Verdict = change.Merged
	}
	return out, nil
}

// asAsked says whether fields have the values that a change asked for. A counter has not, where what its author saw was
// not what central had, even if nobody else was at it: a change before it had been merged.
func asAsked(fields record.Fields, asked record.Delta) bool {
	for name, edit := range asked {
		if !bytes.Equal(fields[name], edit.To) {
			return false
		}
	}
	return true
}

func check(state State, edit Edit) error {
	switch {
	case edit.Base > state.Revision && !state.Exists():
		return refuse(change.CodeUnknownRecord, "central has no such record; it may have been restored from before "+
			"revision %d", edit.Base)
	case edit.Base > state.Revision:
		return refuse(change.CodeUnknownBase, "the change is based on revision %d, but central's record is at %d",
			edit.Base, state.Revision)
	case !state.Exists() && edit.Kind != change.Add:
		return refuse(change.CodeUnknownRecord, "central has no such record: it was never added, or its add was refused")
	case state.Removed && edit.Kind == change.Edit && !edit.foreign(state.Marks.presence()):
		return refuse(change.CodeRemoved, "the record was removed at revision %d, before this edit; add it again to "+
			"bring it back", state.Marks.presence().Revision)
	case state.Removed && edit.Kind == change.Remove && !edit.foreign(state.Marks.presence()):
		return refuse(change.CodeRemoved, "the record was removed already, at revision %d", state.Marks.presence().Revision)
	}
	return nil
}

// newsFor says whether central's record holds anything of others that the edit's base did not, so that the device
// must be told what came out.
func newsFor(state State, edit Edit) bool {
	if edit.foreign(state.Marks.presence()) || edit.foreign(state.Marks.Base) ||
		edit.foreign(state.Marks.Carried) {
		return true
	}
	for _, mark := range state.Marks.Fields {
		if edit.foreign(mark) {
			return true
		}
	}
	for _, open := range state.Marks.Disputes { // what was held has set no mark
		for _, other := range open.Others {
			if edit.foreign(Mark{Revision: other.Side.Revision, Source: other.Side.Source}) {
				return true
			}
		}
	}
	return false
}

// remove marks the record removed, unless an edit that the remover did not know of outlives it.
func remove(out *Outcome, rules Rules, state State, edit Edit, mark Mark) {
	out.Delta = record.Delta{}
	if state.Removed {
		return // removed on both sides: they agree
	}
	if open, disputed := state.Marks.Disputes[RecordRemoval]; disputed {
		if edit.Base < open.Opened {
			decision := change.Decision{Rule: string(AskRemoval), Kept: change.KeptCentral, Other: open.Others[0].Side}
			out.Decisions = append(out.Decisions, decision)
			out.disputeRemoval(open, mark, edit)
			return
		}
		out.State.Marks.Disputes = without(out.State.Marks.Disputes, RecordRemoval)
		out.Decisions = append(out.Decisions, change.Decision{Rule: Settled, Kept: change.KeptChange,
			Other: open.Others[0].Side})
		out.State.Removed, out.State.Marks.Presence = true, mark
		return
	}
	latest := Mark{}
	for name := range state.Marks.Fields {
		if known := state.Marks.field(name); edit.foreign(known) && (latest.zero() || known.beats(latest)) {
			latest = known
		}
	}
	if latest.zero() {
		if back := state.Marks.presence(); edit.foreign(back) {
			latest = back // somebody brought it back
		}
	}
	if !latest.zero() && rules.Removal == AskRemoval {
		out.Decisions = append(out.Decisions, change.Decision{Rule: string(AskRemoval), Kept: change.KeptCentral,
			Other: latest.Side()})
		out.disputeRemoval(Dispute{Opened: mark.Revision}, mark, edit)
		return
	}
	if !latest.zero() && rules.Removal != RemovalStays {
		out.Decisions = append(out.Decisions, change.Decision{Rule: string(EditStays), Kept: change.KeptCentral,
			Other: latest.Side()})
		return
	}
	if !latest.zero() {
		out.Decisions = append(out.Decisions, change.Decision{Rule: string(RemovalStays), Kept: change.KeptChange,
			Other: latest.Side()})
	}
	out.State.Removed = true
	out.State.Marks.Presence = mark
}

// bringBack lets the edit outlive a removal that its author did not know of, or an add revive what was removed.
func bringBack(out *Outcome, rules Rules, state State, edit Edit, mark Mark) {
	removal := state.Marks.presence()
	switch foreign := edit.foreign(removal); {
	case foreign && rules.Removal == AskRemoval && edit.Kind == change.Edit:
		out.Decisions = append(out.Decisions, change.Decision{Rule: string(AskRemoval), Kept: change.KeptChange,
			Other: removal.Side()})
		out.disputeRemoval(Dispute{Opened: mark.Revision}, removal, edit)
	case foreign:
		out.Decisions = append(out.Decisions, change.Decision{Rule: string(EditStays), Kept: change.KeptChange,
			Other: removal.Side()})
	}
	out.State.Removed = false
	out.State.Marks.Presence = mark
}

// set takes each field of the edit, or what comes out of it and what central has by the field's rule.
func set(out *Outcome, rules Rules, state State, edit Edit, mark Mark) {
	out.Delta = record.Delta{}
	marked := map[string]Mark{}
	for _, name := range edit.Fields.Names() {
		from, to, central := edit.Fields[name].From, edit.Fields[name].To, state.Fields[name]
		if rules.Nested[name] {
			if value, ok := setParts(out, rules, state, edit, mark, name, marked); ok {
				if !bytes.Equal(central, value) {
					out.Delta[name] = record.Edit{From: central, To: value}
				}
				continue
			}
		}
		value, now := setOne(out, rules, state, edit, meeting{name: name, from: from, to: to, central: central, mark: mark})
		if now != nil {
			marked[name] = *now
		}
		if !bytes.Equal(central, value) {
			out.Delta[name] = record.Edit{From: central, To: value}
		}
	}
	out.State.Fields = state.Fields.Apply(out.Delta)
	if len(marked) > 0 {
		out.State.Marks = out.State.Marks.with(marked)
	}
}

// setOne decides one field, or one part of a nested field. It gives the value that the field has then, and its mark
// where that is another than before.
func setOne(out *Outcome, rules Rules, state State, edit Edit, m meeting) (value json.RawMessage, now *Mark) {
	m.rule, m.known = rules.of(m.name), state.Marks.field(m.name)
	own := edit.knew(m.known.Source)
	m.again = edit.Kind == change.Add && state.Exists() && m.from == nil
	// An add says nothing of what it leaves out: another add fills it, whichever was later, and so does an edit of that other add.
	unseenRecord := m.again || edit.Kind == change.Edit && edit.Base == 0 && m.from == nil
	_, said := state.Marks.own(m.name)
	m.contested = edit.foreign(m.known) && !(unseenRecord && m.central == nil && !said)
	if own && m.known.Source.Incarnation == edit.Source.Incarnation && m.known.Source.Number > edit.Source.Number {
		// The same store's later edit has come before this one. Differences count in any order; of values, the later stays.
		if value, ok := m.difference(); ok {
			m.mark.Stamp = m.latest()
			return value, &m.mark
		}
		if !bytes.Equal(m.central, m.to) {
			out.Decisions = append(out.Decisions, m.decision(Newest, change.KeptCentral))
			out.Verdict = change.Merged
		}
		return m.central, nil
	}
	unseen := m.unseen(edit)
	if own && !m.contested && len(unseen) > 0 {
		// What the store's earlier edit met, this one has not seen either.
		m.mark.Met = unseen
		if _, counts := m.difference(); !counts {
			met := m.strongest(unseen)
			m.central, m.known, m.contested = met.Value, met.mark(), true
		}
	}
	if m.dispute(out, state, edit) {
		return state.Fields.At(m.name), nil
	}
	value, kept := m.decide()
	if m.contested && kept != "" {
		out.Decisions = append(out.Decisions, m.decision(m.rule, kept))
		if out.Verdict == change.Applied {
			out.Verdict = change.Merged
		}
	}
	if kept == change.KeptCentral || kept == "" && m.contested && !m.mark.beats(m.known) {
		return m.central, m.lost(state, edit)
	}
	if m.contested && m.remembers() {
		m.mark.Met = withMet(unseen, Met{Value: m.central, Side: m.known.Side()})
	}
	if m.rule == Sum {
		m.mark.Stamp = m.latest() // whatever the clocks say: no order of sums is taken from stamps
	}
	return value, &m.mark
}

// latest is the stamp of a value that holds both, what was there and the edit: it is as late as the later of them.
func (m meeting) latest() clock.Stamp {
	if m.known.Stamp.Compare(m.mark.Stamp) > 0 {
		return m.known.Stamp
	}
	return m.mark.Stamp
}

// setParts decides each part of a nested field that the edit has changed, as a field of its own, and notes their
// marks. It is not ok where one side is no object.
func setParts(out *Outcome, rules Rules, state State, edit Edit, mark Mark, name string,
	marked map[string]Mark) (value json.RawMessage, ok bool) {
	whole := edit.Fields[name]
	from, isFrom := record.Parts(whole.From)
	to, isTo := record.Parts(whole.To)
	central, isCentral := record.Parts(state.Fields[name])
	if whole.From != nil && !isFrom || whole.To != nil && !isTo || state.Fields[name] != nil && !isCentral || !isTo &&
		!isCentral {
		return nil, false
	}
	parts := maps.Clone(central)
	if parts == nil {
		parts = map[string]json.RawMessage{}
	}
	for _, path := range record.PartNames(from, to) {
		if bytes.Equal(from[path], to[path]) {
			continue
		}
		at := name + "/" + path
		value, now := setOne(out, rules, state, edit, meeting{name: at, from: from[path], to: to[path],
			central: central[path], mark: mark})
		if now != nil {
			marked[at] = *now
		}
		if parts[path] = value; value == nil {
			delete(parts, path)
		}
	}
	if len(parts) == 0 && whole.To == nil {
		return nil, true
	}
	return record.Join(parts), true
}

// Given marks fields that central has set by itself as it took an edit. A device that has not heard of it is told so,
// even where nothing of the edit itself came through.
func (o *Outcome) Given(edit Edit, names []string) {
	mark := Mark{Revision: o.State.Revision, Source: edit.Source, Stamp: edit.Stamp}
	if o.State.Marks.Base.Revision == mark.Revision {
		return // it was added with them
	}
	set := map[string]Mark{}
	for _, name := range names {
		set[name] = mark
	}
	o.State.Marks = o.State.Marks.with(set)
}

// CarryOver makes the outcome of carrying values over to a new version of the definition: that is no edit, so each
// field keeps the mark of the edit that its value comes from, under its new name.
func (o *Outcome) CarryOver(before State, edit Edit, renames map[string]string) {
	by := Mark{Revision: o.State.Revision, Source: edit.Source, Stamp: edit.Stamp}
	o.State.Marks = before.Marks.carriedOver(renames, by)
}

// Reopen opens a conflict again that was settled, in the outcome of an edit of nothing.
func (o *Outcome) Reopen(before State, field string, open Dispute) {
	o.State.Marks = o.State.Marks.reopened(field, open, o.State.Revision)
	name := field
	if name == RecordRemoval {
		name = ""
	}
	decision := change.Decision{Field: name, Rule: Reopened, Kept: change.KeptCentral,
		Other: before.Marks.Standing(field).Side()}
	o.Decisions = append(o.Decisions, decision)
}

// Named gives the rule of each of some fields, and of every path that has one of its own.
func (r Rules) Named(fields []string) map[string]Rule {
	all := maps.Clone(r.Fields)
	if all == nil {
		all = map[string]Rule{}
	}
	for _, field := range fields {
		all[field] = r.of(field)
	}
	return all
}

func (r Rules) of(field string) Rule {
	for {
		if rule, own := r.Fields[field]; own {
			return rule
		}
		above := strings.LastIndexByte(field, '/')
		if above < 0 {
			return Newest
		}
		field = field[:above]
	}
}
