package merge

import (
	"bytes"
	"encoding/json"
	"math/big"
	"slices"
	"strings"

	"homing/core/change"
	"homing/core/record"
)

// meeting is one field of an edit with what it meets at central.
type meeting struct {
	name              string
	rule              Rule
	from, to, central json.RawMessage
	known, mark       Mark // of central's value, of the edit's
	contested         bool // somebody else set central's value since the edit's base
	again             bool // the edit adds a record that is there, or was, without having seen it
}

func (m meeting) decision(rule Rule, kept string) change.Decision {
	return change.Decision{Field: m.name, Rule: string(rule), Kept: kept, Other: m.known.Side()}
}

// remembers says whether the rule looks again at what an edit has met when the same store edits on without having
// seen it. With newest the later edit stays in any case, and differences count in any order.
func (m meeting) remembers() bool {
	switch m.rule {
	case First, Ask, Min, Max, Append:
		return true
	}
	return false
}

// unseen is what the mark of central's value remembers of other stores and the author of the edit has not seen.
func (m meeting) unseen(edit Edit) (met []Met) {
	for _, one := range m.known.Met {
		if one.Side.Revision > edit.Base && one.Side.Source.Incarnation != edit.Source.Incarnation && !slices.Contains(edit.Seen, one.Side.Source) {
			met = append(met, one)
		}
	}
	return met
}

// strongest is the value that an edit must stand against: with min and max the extreme one, otherwise the last.
func (m meeting) strongest(met []Met) Met {
	best := met[0]
	for _, one := range met[1:] {
		order, comparable := Compare(one.Value, best.Value)
		if m.rule != Min && m.rule != Max || !comparable {
			order = 0
			if one.Side.Revision > best.Side.Revision {
				order, comparable = -1, true
			}
		} else if m.rule == Max {
			order = -order
		}
		if order < 0 {
			best = one
		}
	}
	return best
}

// withMet adds what a store wanted last. What it wanted before is no longer wanted by anybody.
func withMet(met []Met, one Met) []Met {
	kept := slices.DeleteFunc(slices.Clone(met),
		func(other Met) bool { return other.Side.Source.Incarnation == one.Side.Source.Incarnation })
	return append(kept, one)
}

// lost gives the mark of central's value after the edit has lost against it, or nothing where that is as it was.
// Where both said the same, and with min and max in any case, central's value remembers the edit, since its author
// may edit on without having seen that. Where central's value is one that was met before, its own mark comes back.
func (m meeting) lost(state State, edit Edit) *Mark {
	now := state.Marks.field(m.name)
	mine := Met{Value: m.to, Side: change.Side{Revision: m.mark.Revision, Source: m.mark.Source, Stamp: m.mark.Stamp}}
	if now.Revision != m.known.Revision {
		m.known.Met = withMet(m.othersMet(now, edit), mine)
		return &m.known
	}
	if extreme := m.rule == Min || m.rule == Max; !extreme && !(bytes.Equal(m.central, m.to) && m.remembers()) {
		return nil
	}
	now.Met = withMet(now.Met, mine)
	return &now
}

// othersMet is what a mark remembers besides the value that comes back and the store's own.
func (m meeting) othersMet(now Mark, edit Edit) (met []Met) {
	for _, one := range now.Met {
		if one.Side.Revision != m.known.Revision && one.Side.Source.Incarnation != edit.Source.Incarnation && !slices.Contains(edit.Seen, one.Side.Source) {
			met = append(met, one)
		}
	}
	return met
}

// decide gives the field's value and which side was kept. Kept is empty when both sides say the same, or nothing was
// contested.
func (m meeting) decide() (value json.RawMessage, kept string) {
	// Differences count whether or not anybody else was there meanwhile: a device's own earlier edit may have hidden
	// another's.
	same := m.rule == Append && bytes.Equal(m.central, m.to)
	if value, ok := m.difference(); ok && !same {
		if m.contested {
			return value, change.KeptBoth
		}
		return value, ""
	}
	if !m.contested || bytes.Equal(m.central, m.to) {
		return m.to, ""
	}
	switch m.rule {
	case First:
		return m.central, change.KeptCentral
	case Min, Max:
		if order, comparable := Compare(m.to, m.central); comparable {
			if (order < 0) == (m.rule == Min) {
				return m.to, change.KeptChange
			}
			return m.central, change.KeptCentral
		}
	}
	if m.mark.beats(m.known) {
		return m.to, change.KeptChange
	}
	return m.central, change.KeptCentral
}

// difference brings what the edit added or took away to central's value, for rules that work so.
func (m meeting) difference() (json.RawMessage, bool) {
	switch m.rule {
	case Sum:
		if m.again {
			return larger(m.central, m.to)
		}
		return sum(m.central, m.from, m.to)
	case Union:
		return union(m.central, m.from, m.to)
	case Append:
		return m.appended()
	}
	return nil, false
}

// larger is what comes of a count when a record is added that is there already, since what was known of it went to central
// by another way, too: an add says what there is, and no difference to what others have said.
func larger(central, to json.RawMessage) (json.RawMessage, bool) {
	switch order, comparable := Compare(to, central); {
	case central == nil || comparable && order > 0:
		return to, true
	case to == nil || comparable:
		return central, true
	}
	return nil, false
}

// sum is central + (to - from), in exact decimals. No value counts as 0, on every side: whoever clears a counter
// takes away what they saw, and what others have added stays. A counter that was cleared and holds nothing more has
// no value.
func sum(central, from, to json.RawMessage) (json.RawMessage, bool) {
	total, digits := new(big.Rat), 0
	for n, raw := range []json.RawMessage{central, to, from} {
		if raw == nil {
			continue
		}
		part, ok := new(big.Rat).SetString(string(raw))
		if !ok || raw[0] == '"' {
			return nil, false
		}
		if n == 2 {
			part.Neg(part)
		}
		total.Add(total, part)
		digits = max(digits, decimals(string(raw)))
	}
	if to == nil && total.Sign() == 0 {
		return nil, true
	}
	value, err := record.Canonical([]byte(total.FloatString(digits)))
	return value, err == nil
}

// decimals is how many digits a JSON number has behind its point, once its exponent is gone.
func decimals(number string) int {
	mantissa, exponent, _ := strings.Cut(strings.ToLower(number), "e")
	_, behind, _ := strings.Cut(mantissa, ".")
	var shift big.Int
	if exponent != "" {
		shift.SetString(strings.TrimPrefix(exponent, "+"), 10)
	}
	return max(0, len(behind)-int(shift.Int64()))
}

// union is central with what the edit added to the list and without what it took from it. When that is not simply
// what the edit says, the list is in the order of its members' texts, so that it comes out the same whoever was
// first.
func union(central, from, to json.RawMessage) (json.RawMessage, bool) {
	was, ok1 := members(from)
	is, ok2 := members(to)
	have, ok3 := members(central)
	if !ok1 || !ok2 || !ok3 || to == nil {
		return nil, false
	}
	if bytes.Equal(central, from) {
		return to, true
	}
	before, after := setOf(was), setOf(is)
	var result []string
	for _, one := range have {
		if !before[one] || after[one] {
			result = append(result, one)
		}
	}
	for _, one := range is {
		if !before[one] {
			result = append(result, one)
		}
	}
	slices.Sort(result)
	result = slices.Compact(result)
	return json.RawMessage("[" + strings.Join(result, ",") + "]"), true
}

func setOf(all []string) map[string]bool {
	set := make(map[string]bool, len(all))
	for _, one := range all {
		set[one] = true
	}
	return set
}

// members are the canonical texts of a list's members; no value is an empty list.
func members(list json.RawMessage) (texts []string, ok bool) {
	if list == nil {
		return nil, true
	}
	var all []json.RawMessage
	if err := json.Unmarshal(list, &all); err != nil {
		return nil, false
	}
	for _, one := range all {
		texts = append(texts, string(one))
	}
	return texts, true
}

// Compare orders two numbers, or two texts.
func Compare(a, b json.RawMessage) (order int, comparable bool) {
	if len(a) == 0 || len(b) == 0 {
		return 0, false
	}
	if a[0] == '"' && b[0] == '"' {
		return bytes.Compare(a, b), true
	}
	x, okA := new(big.Rat).SetString(string(a))
	y, okB := new(big.Rat).SetString(string(b))
	if !okA || !okB {
		return 0, false
	}
	return x.Cmp(y), true
}

// appended brings what the edit added at the end of a text to central's. Where both have added to the same text, the
// additions go in the order of their stamps. Where others have added in between, the edit's goes to the end. An edit
// that did more than add, or that met a text which was written anew, is no difference: the later one stays.
func (m meeting) appended() (json.RawMessage, bool) {
	from, ok1 := text(m.from)
	to, ok2 := text(m.to)
	central, ok3 := text(m.central)
	mine, isMine := strings.CutPrefix(to, from)
	if !ok1 || !ok2 || !ok3 || !isMine || m.to == nil || !within(from, central) {
		return nil, false
	}
	if bytes.Equal(m.central, m.from) {
		return m.to, true
	}
	whole := central + mine
	if other, isOther := strings.CutPrefix(central, from); isOther && m.contested && !m.mark.beats(m.known) {
		whole = from + mine + other
	}
	value, err := json.Marshal(whole)
	if err != nil {
		return nil, false
	}
	value, err = record.Canonical(value)
	return value, err == nil
}

// within says whether a text is what is left of another once something that was put into it is taken out.
func within(text, other string) bool {
	for n := 0; n < len(other) && text != ""; n++ {
		if other[n] == text[0] {
			text = text[1:]
		}
	}
	return text == ""
}

func text(raw json.RawMessage) (string, bool) {
	if raw == nil {
		return "", true
	}
	var s string
	return s, json.Unmarshal(raw, &s) == nil
}
