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
}

// decide gives the field's value and which side was kept. Kept is empty when both sides say the same, or nothing was contested.
func (m meeting) decide() (value json.RawMessage, kept string) {
	// Differences count whether or not anybody else was there meanwhile: a device's own earlier edit may have hidden another's.
	if value, ok := m.difference(); ok {
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
	case Append:
		if value, ok := m.appended(); ok {
			return value, change.KeptBoth
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
		return sum(m.central, m.from, m.to)
	case Union:
		return union(m.central, m.from, m.to)
	}
	return nil, false
}

// sum is central + (to - from), in exact decimals. No value counts as 0.
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
	if to == nil {
		return nil, false // the value was cleared, which is no difference
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

// union is central with what the edit added to the list and without what it took from it. When that is not simply what the edit says, the
// list is in the order of its members' texts, so that it comes out the same whoever was first.
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
	var result []string
	for _, one := range have {
		if !slices.Contains(was, one) || slices.Contains(is, one) {
			result = append(result, one)
		}
	}
	for _, one := range is {
		if !slices.Contains(was, one) {
			result = append(result, one)
		}
	}
	slices.Sort(result)
	result = slices.Compact(result)
	return json.RawMessage("[" + strings.Join(result, ",") + "]"), true
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

// appended puts what both sides added at the end of a text behind what they started from, in the order of their stamps.
func (m meeting) appended() (json.RawMessage, bool) {
	from, ok1 := text(m.from)
	to, ok2 := text(m.to)
	central, ok3 := text(m.central)
	mine, isMine := strings.CutPrefix(to, from)
	other, isOther := strings.CutPrefix(central, from)
	if !ok1 || !ok2 || !ok3 || !isMine || !isOther {
		return nil, false
	}
	if !m.mark.beats(m.known) {
		mine, other = other, mine
	}
	value, err := json.Marshal(from + other + mine)
	if err != nil {
		return nil, false
	}
	value, err = record.Canonical(value)
	return value, err == nil
}

func text(raw json.RawMessage) (string, bool) {
	if raw == nil {
		return "", true
	}
	var s string
	return s, json.Unmarshal(raw, &s) == nil
}
