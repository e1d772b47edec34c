package definition

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// WriteSource writes a definition as the file that [ReadSource] reads.
func WriteSource(d Definition) []byte {
	var out strings.Builder
	fmt.Fprintf(&out, "collection: %s\ntitle: %s\n", d.Collection, strconv.Quote(d.Title))
	if d.Description != "" {
		fmt.Fprintf(&out, "description: %s\n", strconv.Quote(d.Description))
	}
	fmt.Fprintf(&out, "label: %s\n", strconv.Quote(d.Label))
	if d.Key != "" {
		fmt.Fprintf(&out, "key: %s\n", d.Key)
	}
	if d.Unique {
		fmt.Fprintln(&out, "unique: true")
	}
	if d.Searched {
		fmt.Fprintln(&out, "searched: true")
	}
	if len(d.Lists) > 0 {
		fmt.Fprintf(&out, "lists: [%s]\n", strings.Join(d.Lists, ", "))
	}
	var required []string
	for _, field := range d.Fields {
		if field.Required {
			required = append(required, field.Name)
		}
	}
	if len(required) > 0 {
		fmt.Fprintf(&out, "required: [%s]\n", strings.Join(required, ", "))
	}
	out.WriteString("fields:\n")
	for _, field := range d.Fields {
		fmt.Fprintf(&out, "  %s: %s\n", field.Name, field.Schema) // JSON is YAML
	}
	if d.Parent != nil {
		fmt.Fprintf(&out, "parent: {collection: %s, field: %s, removal: %s}\n", d.Parent.Collection, d.Parent.Field,
			d.Parent.Removal)
	}
	rules := [][2]string{{actRead, d.Access.Read}, {actAdd, d.Access.Add}, {actEdit, d.Access.Edit},
		{actRemove, d.Access.Remove}}
	if d.Access != (Access{}) {
		out.WriteString("access:\n")
		for _, rule := range rules {
			if rule[1] != "" {
				fmt.Fprintf(&out, "  %s: %s\n", rule[0], strconv.Quote(rule[1]))
			}
		}
	}
	fmt.Fprintf(&out, "sync:\n  removal: %s\n", d.Sync.Removal)
	if d.Sync.Steps != "" {
		fmt.Fprintf(&out, "  steps: %s\n", d.Sync.Steps)
	}
	if d.Sync.Territory != "" {
		fmt.Fprintf(&out, "  territory: %s\n", strconv.Quote(d.Sync.Territory))
	}
	if d.Sync.Direction != "" {
		fmt.Fprintf(&out, "  direction: %s\n", d.Sync.Direction)
	}
	if d.Sync.Keep != "" {
		fmt.Fprintf(&out, "  keep: %s\n", d.Sync.Keep)
	}
	if d.Sync.MaxAge != nil {
		text, err := json.Marshal(d.Sync.MaxAge)
		if err == nil {
			fmt.Fprintf(&out, "  max_age: %s\n", text)
		}
	}
	if len(d.Sync.Rules) > 0 {
		out.WriteString("  rules:\n")
		for _, path := range slices.Sorted(maps.Keys(d.Sync.Rules)) { // of fields, and of parts of nested ones
			fmt.Fprintf(&out, "    %s: %s\n", path, d.Sync.Rules[path])
		}
	}
	for _, part := range []struct {
		name  string
		has   bool
		value any
	}{{"attention", len(d.Attention) > 0, d.Attention}, {"coverage", d.Coverage != nil, d.Coverage}, {"follow_ups", len(d.FollowUps) > 0, d.FollowUps}, {"languages", len(d.Languages) > 0, d.Languages}} {
		if text, err := json.Marshal(part.value); err == nil && part.has {
			fmt.Fprintf(&out, "%s: %s\n", part.name, text)
		}
	}
	if text, err := json.Marshal(d.Carry); err == nil && string(text) != "{}" {
		fmt.Fprintf(&out, "carry: %s\n", text)
	}
	return []byte(out.String())
}
