// Package record holds what a record consists of and how two states of it differ. Values are kept as canonical JSON
// texts, so that they are equal exactly when their bytes are, on every device and at central.
package record

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
)

// Fields are the values of a record by field name, each a canonical JSON text. A field without a value is absent; null
// never stands for itself.
type Fields map[string]json.RawMessage

// FieldError says which field cannot be used and why.
type FieldError struct {
	Field string
	Err   error
}

func (e *FieldError) Error() string { return fmt.Sprintf("field %q: %v", e.Field, e.Err) }
func (e *FieldError) Unwrap() error { return e.Err }

// ErrNotObject reports a record that is not a JSON object.
var ErrNotObject = errors.New("the fields of a record are a JSON object")

// Parse reads a JSON object into fields, canonicalising each value. Members that are null are left out.
// A value that cannot be used is reported as a [*FieldError].
func Parse(raw []byte) (Fields, error) {
	var members map[string]json.RawMessage
	if err := json.Unmarshal(raw, &members); err != nil || members == nil {
		return nil, ErrNotObject
	}
	fields := make(Fields, len(members))
	for _, name := range slices.Sorted(maps.Keys(members)) {
		value, err := CanonicalField(name, members[name])
		if err != nil {
			return nil, err
		}
		if value != nil {
			fields[name] = value
		}
	}
	return fields, nil
}

// CanonicalField is [Canonical] for the value of a named field: null becomes nil, which means no value.
func CanonicalField(name string, raw []byte) (json.RawMessage, error) {
	if len(raw) == 0 {
		return nil, nil
	}
	value, err := Canonical(raw)
	if err != nil {
		return nil, &FieldError{Field: name, Err: err}
	}
	if string(value) == "null" {
		return nil, nil
	}
	return value, nil
}

// Value decodes the fields into plain Go values, numbers as [json.Number].
func (f Fields) Value() (map[string]any, error) {
	values := make(map[string]any, len(f))
	for name, raw := range f {
		value, err := Decode(raw)
		if err != nil {
			return nil, &FieldError{Field: name, Err: err}
		}
		values[name] = value
	}
	return values, nil
}

// Decode turns a canonical JSON text into a plain Go value, numbers as [json.Number] so that no digit is lost.
func Decode(raw json.RawMessage) (any, error) {
	if plain(raw) {
		if raw[0] == '"' {
			return string(raw[1 : len(raw)-1]), nil
		}
		return json.Number(raw), nil
	}
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.UseNumber()
	var value any
	if err := decoder.Decode(&value); err != nil {
		return nil, err
	}
	return value, nil
}

// JSON writes the fields as one canonical object.
func (f Fields) JSON() json.RawMessage {
	var out bytes.Buffer
	out.WriteByte('{')
	for n, name := range slices.Sorted(maps.Keys(f)) {
		if n > 0 {
			out.WriteByte(',')
		}
		if err := canonicalString(name, &out); err != nil {
			key, _ := json.Marshal(name) // a string always marshals; a value with such a name is no canonical one
			out.Write(key)
		}
		out.WriteByte(':')
		out.Write(f[name])
	}
	out.WriteByte('}')
	return out.Bytes()
}

// Edit is what happened to one field. A nil side means that the field had, or has, no value.
type Edit struct {
	From json.RawMessage `json:"from,omitempty"`
	To   json.RawMessage `json:"to,omitempty"`
}

// Delta is what happened to a record, field by field.
type Delta map[string]Edit

// Diff is the delta that leads from before to after.
func Diff(before, after Fields) Delta {
	delta := Delta{}
	for name, to := range after {
		if from, had := before[name]; !had || !bytes.Equal(from, to) {
			delta[name] = Edit{From: from, To: to}
		}
	}
	for name, from := range before {
		if _, has := after[name]; !has {
			delta[name] = Edit{From: from}
		}
	}
	return delta
}

// Apply gives the fields after the delta. The receiver is not changed.
func (f Fields) Apply(delta Delta) Fields {
	after := maps.Clone(f)
	if after == nil {
		after = Fields{}
	}
	for name, edit := range delta {
		if edit.To == nil {
			delete(after, name)
		} else {
			after[name] = edit.To
		}
	}
	return after
}

// Names are the fields that the delta touches, in order.
func (d Delta) Names() []string { return slices.Sorted(maps.Keys(d)) }

// Canonical rewrites every value of the delta canonically, or reports the first that cannot be used as a [*FieldError].
func (d Delta) Canonical() (Delta, error) {
	out := make(Delta, len(d))
	for _, name := range d.Names() {
		from, err := CanonicalField(name, d[name].From)
		if err != nil {
			return nil, err
		}
		to, err := CanonicalField(name, d[name].To)
		if err != nil {
			return nil, err
		}
		out[name] = Edit{From: from, To: to}
	}
	return out, nil
}
