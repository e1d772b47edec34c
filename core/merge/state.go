package merge

import (
	"encoding/json"
	"maps"
	"strings"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/record"
)

// Mark says when a field last got its value: at which revision, by which change, with which stamp in central's time.
type Mark struct {
	Revision int64         `json:"r"`
	Source   change.Source `json:"by"`
	Stamp    clock.Stamp   `json:"at"`
	// Met is what other stores wanted of the field last and the value does not show, while the author of the value did
	// not know of it. A later edit by the same author who still does not know is held against it, as if both edits were
	// one.
	Met []Met `json:"met,omitempty"`
}

// zero says whether there is no mark.
func (m Mark) zero() bool { return m.Revision == 0 }

// Met is a value that an edit has met; of each store there is one at most.
type Met struct {
	Value json.RawMessage `json:"value,omitempty"`
	Side  change.Side     `json:"side"`
}

func (m Met) mark() Mark {
	return Mark{Revision: m.Side.Revision, Source: m.Side.Source, Stamp: m.Side.Stamp}
}

// beats says whether the edit at m is later than the one at other. Ties of the stamp are broken by the source, so
// that every party comes to the same verdict.
func (m Mark) beats(other Mark) bool {
	if order := m.Stamp.Compare(other.Stamp); order != 0 {
		return order > 0
	}
	for n := range m.Source.Incarnation {
		if a, b := m.Source.Incarnation[n], other.Source.Incarnation[n]; a != b {
			return a > b
		}
	}
	return m.Source.Number > other.Source.Number
}

// Side is the edit that set the mark, as decisions name it.
func (m Mark) Side() change.Side {
	return change.Side{Revision: m.Revision, Source: m.Source, Stamp: m.Stamp}
}

// Marks are the marks of a record. Most records are written once, so a field without a mark of its own has Base.
type Marks struct {
	Base     Mark            `json:"base"`              // the change that added the record
	Presence Mark            `json:"presence,omitzero"` // the change that last removed it or brought it back; zero: as Base
	Fields   map[string]Mark `json:"fields,omitempty"`
	// Disputes are the fields that wait for a person.
	Disputes map[string]Dispute `json:"disputes,omitempty"`
	// Carried is the change that last carried values over to a new version of the definition.
	Carried Mark `json:"carried,omitzero"`
}

// carriedOver gives the marks after values were carried over to a new version of the definition. That is no edit:
// each field keeps the mark of the edit that its value comes from, under its new name, so that a worker's edit wins
// or loses as it would have.
func (m Marks) carriedOver(names map[string]string, by Mark) Marks {
	m = m.Renamed(names)
	m.Carried = by
	return m
}

// Renamed gives the marks under the names that fields have now.
func (m Marks) Renamed(names map[string]string) Marks {
	fields := make(map[string]Mark, len(m.Fields))
	for name, mark := range m.Fields {
		fields[renamed(name, names)] = mark
	}
	m.Fields = fields
	for old, open := range m.Disputes {
		if now := renamed(old, names); now != old {
			m.Disputes = with(without(m.Disputes, old), now, open)
		}
	}
	return m
}

// renamed is a field's path under its new name.
func renamed(path string, names map[string]string) string {
	name, _, _ := strings.Cut(path, "/")
	if now, is := names[name]; is {
		return now + path[len(name):]
	}
	return path
}

// reopened gives the marks with a conflict that was settled and is open again, as of a revision.
func (m Marks) reopened(field string, open Dispute, revision int64) Marks {
	open.Opened = revision
	m.Disputes = with(m.Disputes, field, open)
	return m
}

// Standing is the mark of what stands against the others in a dispute: of a field its own, and of a removal that of
// whoever edited last.
func (m Marks) Standing(name string) Mark {
	if name != RecordRemoval {
		return m.field(name)
	}
	latest := m.Base
	for _, mark := range m.Fields {
		if mark.Revision > latest.Revision {
			latest = mark
		}
	}
	return latest
}

// Of is the mark of a field.
func (m Marks) Of(name string) Mark { return m.field(name) }

func (m Marks) field(name string) Mark {
	if mark, own := m.own(name); own {
		return mark
	}
	return m.Base
}

// own is the mark that a field has beside that of the record; none where nobody has said anything of it since the record was added.
func (m Marks) own(name string) (mark Mark, own bool) {
	for {
		if mark, own = m.Fields[name]; own {
			return mark, true
		}
		above := strings.LastIndexByte(name, '/') // a part of a nested field has the mark of what it is part of
		if above < 0 {
			return mark, false
		}
		name = name[:above]
	}
}

func (m Marks) presence() Mark {
	if m.Presence.zero() {
		return m.Base
	}
	return m.Presence
}

// with gives the marks after some fields were set. The receiver is not changed.
func (m Marks) with(set map[string]Mark) Marks {
	fields := make(map[string]Mark, len(m.Fields)+len(set))
	maps.Copy(fields, m.Fields)
	for name, mark := range set {
		maps.DeleteFunc(fields, func(other string, _ Mark) bool { return strings.HasPrefix(other, name+"/") })
		fields[name] = mark
	}
	m.Fields = fields
	return m
}

// State is a record as central has it. A removed record keeps its fields, so that an edit that outlives the removal
// finds them.
type State struct {
	Revision int64
	Removed  bool
	Fields   record.Fields
	Marks    Marks
}

// Exists says whether there is a record at all, removed or not.
func (s State) Exists() bool { return s.Revision > 0 }

// Has says whether the marks tell of a change: it is part of the record then. One that others have come over since they do not
// tell of any more.
func (m Marks) Has(s change.Source) bool {
	if m.Base.Source == s || m.presence().Source == s {
		return true
	}
	for _, mark := range m.Fields {
		if mark.Source == s {
			return true
		}
	}
	return false
}
