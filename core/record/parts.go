package record

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// Parts takes an object apart: the value of each of its members by path, down to what is no object itself. Paths are
// JSON Pointers (RFC 6901) without the first slash. An object within that has no members is a part of its own. Ok is
// false for anything but an object.
func Parts(value json.RawMessage) (parts map[string]json.RawMessage, ok bool) {
	members, ok := object(value)
	if !ok {
		return nil, false
	}
	parts = map[string]json.RawMessage{}
	for name, member := range members {
		path := escape.Replace(name)
		inner, nested := Parts(member)
		if !nested || len(inner) == 0 {
			parts[path] = member
			continue
		}
		for below, part := range inner {
			parts[path+"/"+below] = part
		}
	}
	return parts, true
}

// Join is the canonical object that has the given parts. What stands in the way of a longer path gives way to it.
func Join(parts map[string]json.RawMessage) json.RawMessage {
	fields, below := Fields{}, map[string]map[string]json.RawMessage{}
	for path, part := range parts {
		name, rest, deeper := strings.Cut(path, "/")
		name = unescape.Replace(name)
		if !deeper {
			fields[name] = part
			continue
		}
		if below[name] == nil {
			below[name] = map[string]json.RawMessage{}
		}
		below[name][rest] = part
	}
	for name, inner := range below {
		fields[name] = Join(inner)
	}
	return fields.JSON()
}

// At is the value at a path: a field, or a part of a nested one. It is nil where there is none.
func (f Fields) At(path string) json.RawMessage {
	name, rest, deeper := strings.Cut(path, "/")
	value := f[name]
	for deeper && value != nil {
		members, _ := object(value)
		name, rest, deeper = strings.Cut(rest, "/")
		value = members[unescape.Replace(name)]
	}
	return value
}

// Set is the delta that gives the value at a path, and leaves everything else as it is. A nil value takes it away.
func (f Fields) Set(path string, value json.RawMessage) Delta {
	name, rest, deeper := strings.Cut(path, "/")
	to := value
	if deeper {
		parts, _ := Parts(f[name])
		parts = maps.Clone(parts)
		if parts == nil {
			parts = map[string]json.RawMessage{}
		}
		maps.DeleteFunc(parts, func(other string, _ json.RawMessage) bool {
			return other == rest ||
				strings.HasPrefix(other, rest+"/")
		})
		if value != nil {
			parts[rest] = value
		}
		to = Join(parts)
	}
	return Delta{name: {From: f[name], To: to}}
}

// PartNames are the paths of both maps, in order.
func PartNames(a, b map[string]json.RawMessage) []string {
	all := maps.Clone(a)
	if all == nil {
		all = map[string]json.RawMessage{}
	}
	maps.Copy(all, b)
	return slices.Sorted(maps.Keys(all))
}

var (
	escape   = strings.NewReplacer("~", "~0", "/", "~1")
	unescape = strings.NewReplacer("~1", "/", "~0", "~")
)

func object(value json.RawMessage) (members map[string]json.RawMessage, ok bool) {
	if len(value) == 0 || value[0] != '{' {
		return nil, false
	}
	err := json.Unmarshal(value, &members)
	return members, err == nil
}
