package definition

import (
	"fmt"
	"strings"

	"homing/core/record"
)

// label is a parsed label: texts and field names by turns, texts first.
type label struct{ texts, fields []string }

func parseLabel(text string, d Definition) (label, error) {
	var parsed label
	rest := text
	for {
		before, after, open := strings.Cut(rest, "{")
		parsed.texts = append(parsed.texts, before)
		if !open {
			return parsed, nil
		}
		name, behind, closed := strings.Cut(after, "}")
		if !closed {
			return label{}, fmt.Errorf("the label %q has an open brace that never closes", text)
		}
		if _, known := d.Field(name); !known {
			return label{}, fmt.Errorf("the label %q names the field %q, which is not defined", text, name)
		}
		parsed.fields = append(parsed.fields, name)
		rest = behind
	}
}

// LabelParts are the texts and the fields that a label is made of, by turns, a text first.
func (d Definition) LabelParts() (texts, fields []string, err error) {
	parsed, err := parseLabel(d.Label, d)
	return parsed.texts, parsed.fields, err
}

// LabelOf is what a record is called in lists. It is empty when none of the label's fields has a value.
func (c *Collection) LabelOf(fields record.Fields) string {
	var out strings.Builder
	filled := false
	for n, text := range c.label.texts {
		out.WriteString(text)
		if n < len(c.label.fields) {
			if raw, has := fields[c.label.fields[n]]; has {
				filled = true
				out.WriteString(Plain(raw))
			}
		}
	}
	if !filled {
		return ""
	}
	return strings.TrimSpace(out.String())
}

// Plain writes a value for people: a text without its quotes, anything else as JSON.
func Plain(raw []byte) string {
	if len(raw) > 0 && raw[0] == '"' {
		if value, err := record.Decode(raw); err == nil {
			return value.(string)
		}
	}
	return string(raw)
}
