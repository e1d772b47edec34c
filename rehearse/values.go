package rehearse

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"regexp/syntax"
	"slices"
	"strings"

	"homing/core/definition"
	"homing/core/merge"
)

var removalsOfParents = []definition.ParentRemoval{
	definition.RestrictRemoval,
	definition.RemoveChildren,
	definition.KeepChildren,
}

// readingRule lets leads read all, and others what they cover, unless a field says that it is secret.
func readingRule(field string) string { return `worker.role == "lead" || after.` + field + ` != true` }

// randomDefinitions make a parent and a child collection with a field for each rule.
func (w *world) randomDefinitions() []definition.Definition {
	removal := func() merge.Removal { return merge.Removals[w.random.IntN(len(merge.Removals))] }
	field := func(name, schema string) definition.Field {
		return definition.Field{Name: name, Title: name, Schema: json.RawMessage(schema)}
	}
	collection := func(name string) definition.Definition {
		d := definition.Definition{Collection: name, Version: 1, Title: name, Label: "{later}",
			Sync: definition.Sync{Removal: removal(), Rules: map[string]merge.Rule{}}}
		for _, f := range []struct {
			name, schema string
			rule         merge.Rule
		}{
			{"later", `{"type":"string"}`, ""}, {"asked", `{"type":"string"}`, merge.Ask},
			{"first", `{"type":"string"}`, merge.First}, {"count", `{"type":"integer"}`, merge.Sum},
			{"least", `{"type":"integer"}`, merge.Min}, {"most", `{"type":"integer"}`, merge.Max},
			{"tags", `{"type":"array","items":{"type":"string"},"uniqueItems":true}`, merge.Union},
			{"log", `{"type":"string"}`, merge.Append}, {"nested",
				`{"type":"object","properties":{"one":{"type":"string"},"two":{"type":"string"}}}`, ""},
		} {
			if f.name != "later" && w.chance(40) {
				continue
			}
			d.Fields = append(d.Fields, field(f.name, f.schema))
			if f.rule != "" {
				d.Sync.Rules[f.name] = f.rule
			}
		}
		if w.chance(60) {
			d.Fields = append(d.Fields, field("zone", `{"enum":["north","south","west"]}`))
			d.Sync.Territory = "record.zone"
			d.Fields[len(d.Fields)-1].Required = w.chance(
				60,
			) // a record without a zone is covered by those who hold all
		}
		for _, given := range []definition.Field{
			{Name: "number", Title: "number", Series: "N-0001", Schema: json.RawMessage(`{"type":"string"}`)},
			{Name: "added_by", Title: "added by", Filled: "record.added_by == null ? worker.name : record.added_by",
				Schema: json.RawMessage(`{"type":"string"}`)},
			{Name: "has_later", Title: "has later", Computed: "record.later != null",
				Schema: json.RawMessage(`{"type":"boolean"}`)},
			{Name: "memo", Title: "memo", Local: true, Schema: json.RawMessage(`{"type":"string"}`)},
		} {
			if w.chance(25) {
				d.Fields = append(d.Fields, given)
			}
		}
		if w.chance(30) {
			d.Sync.Steps = definition.Every
		}
		if w.chance(35) {
			d.Fields = append(d.Fields, field("secret", `{"type":"boolean"}`))
			d.Access.Read = readingRule("secret")
		}
		return d
	}
	top, below := collection("areas"), collection("items")
	if w.chance(30) {
		top.Fields, top.Key, top.Unique = append(top.Fields, field("code", `{"type":"string"}`)), "code", true
	}
	if w.chance(70) {
		below.Fields = append(below.Fields, definition.Field{Name: "area", Title: "area", Reference: "areas",
			Schema: json.RawMessage(`{"type":"string","format":"uuid"}`)})
		below.Parent = &definition.Parent{Collection: "areas", Field: "area",
			Removal: removalsOfParents[w.random.IntN(len(removalsOfParents))]}
	}
	return []definition.Definition{top, below}
}

// zonesOf are the territories that definitions name by the choices of a field; none where they are worked out in
// another way.
func zonesOf(definitions []definition.Definition) (zones []string) {
	for _, d := range definitions {
		name, plain := strings.CutPrefix(d.Sync.Territory, "record.")
		field, known := d.Field(name)
		if !plain || !known {
			continue
		}
		for _, choice := range field.Shape().Choices() {
			if !slices.Contains(zones, choice) {
				zones = append(zones, choice)
			}
		}
	}
	return zones
}

// matching makes a text that a pattern of the usual kinds describes.
func matching(random *rand.Rand, pattern string) (string, bool) {
	parsed, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return "", false
	}
	var out strings.Builder
	var write func(*syntax.Regexp) bool
	times := func(of *syntax.Regexp, low, high int) bool {
		for range low + random.IntN(max(high-low, 0)+1) {
			if !write(of) {
				return false
			}
		}
		return true
	}
	write = func(r *syntax.Regexp) bool {
		switch r.Op {
		case syntax.OpLiteral:
			out.WriteString(string(r.Rune))
		case syntax.OpCharClass:
			at := 2 * random.IntN(len(r.Rune)/2)
			out.WriteRune(r.Rune[at] + rune(random.IntN(int(r.Rune[at+1]-r.Rune[at])+1)))
		case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
			out.WriteByte('x')
		case syntax.OpConcat, syntax.OpCapture:
			for _, part := range r.Sub {
				if !write(part) {
					return false
				}
			}
		case syntax.OpAlternate:
			return write(r.Sub[random.IntN(len(r.Sub))])
		case syntax.OpRepeat:
			high := r.Max
			if high < 0 {
				high = r.Min + 2
			}
			return times(r.Sub[0], r.Min, high)
		case syntax.OpStar, syntax.OpQuest:
			return times(r.Sub[0], 0, 1)
		case syntax.OpPlus:
			return times(r.Sub[0], 1, 2)
		case syntax.OpBeginText, syntax.OpEndText, syntax.OpBeginLine, syntax.OpEndLine, syntax.OpEmptyMatch,
			syntax.OpWordBoundary:
		default:
			return false
		}
		return true
	}
	ok := write(parsed)
	return out.String(), ok
}

// kind is how a rehearsal makes values of a field, and what it can tell of them afterwards.
type kind int

const (
	opaque kind = iota // any value that the schema allows
	token              // a text that nobody else writes
	number             // a counter whose differences add up
	tags               // a set of tokens
	log                // a text to which tokens are added
	parts              // an object with tokens
	parent             // the id of a parent
)

// free says whether any text will do.
func free(s definition.Shape) bool {
	return s.Type == "string" && s.Format == "" && s.Enum == nil && s.Pattern == "" &&
		(s.MaxLength == 0 || s.MaxLength >= 40)
}

func kindOf(d definition.Definition, f definition.Field) (kind, definition.Shape) {
	s := f.Shape()
	rule := d.Rules().Fields[f.Name]
	switch {
	case d.Parent != nil && d.Parent.Field == f.Name:
		return parent, s
	case rule == merge.Append && free(s) && (s.MaxLength == 0 || s.MaxLength >= 1000):
		return log, s
	case free(s):
		return token, s
	case rule == merge.Sum && s.Minimum == nil && s.Maximum == nil:
		return number, s
	case rule == merge.Union && s.MaxItems == 0:
		if free(definition.ShapeOf(s.Items)) {
			return tags, s
		}
	case s.Type == "object" && len(s.Properties) > 0:
		for _, text := range s.Properties {
			if !free(definition.ShapeOf(text)) {
				return opaque, s
			}
		}
		return parts, s
	}
	return opaque, s
}

// anyValue makes a value that a schema of the usual kinds allows; nil where it knows none.
func anyValue(random *rand.Rand, s definition.Shape) any {
	within := func(low, high float64) float64 {
		if s.Minimum != nil {
			low, high = *s.Minimum, *s.Minimum+high-low
		}
		if s.Maximum != nil {
			high = *s.Maximum
			low = min(low, high)
		}
		return low + random.Float64()*(high-low)
	}
	switch {
	case len(s.Enum) > 0:
		return s.Enum[random.IntN(len(s.Enum))]
	case s.Type == "string" && s.Pattern != "":
		if text, ok := matching(random, s.Pattern); ok {
			return text
		}
		return nil
	case s.Ref == definition.LineURL:
		return map[string]any{"type": "LineString", "coordinates": [][]float64{{0.1, 50},
			{0.1 + float64(random.IntN(100))/1000, 50.1}}}
	case s.Ref == definition.PointURL:
		return map[string]any{"type": "Point", "coordinates": []float64{float64(random.IntN(1000)) / 1000, 50 +
			float64(random.IntN(1000))/1000}}
	case s.Type == "integer":
		return int64(within(0, 100))
	case s.Type == "number":
		return float64(int64(within(0, 100)))
	case s.Type == "boolean":
		return random.IntN(2) == 0
	case s.Type == "string" && s.Format == "date":
		return fmt.Sprintf("2026-%02d-%02d", 1+random.IntN(12), 1+random.IntN(28))
	case s.Type == "string" && s.Format == "date-time":
		return fmt.Sprintf("2026-%02d-%02dT10:00:00Z", 1+random.IntN(12), 1+random.IntN(28))
	case s.Type == "string" && s.Format == "" && s.Pattern == "":
		length := max(s.MinLength, 1)
		return strings.Repeat(string(rune('a'+random.IntN(26))), length)
	case s.Type == "array":
		items := definition.ShapeOf(s.Items)
		var list []string
		for range 1 + random.IntN(3) {
			one, err := json.Marshal(anyValue(random, items))
			if err == nil && string(one) != "null" && !slices.Contains(list, string(one)) {
				list = append(list, string(one))
			}
		}
		return json.RawMessage("[" + strings.Join(list, ",") + "]")
	}
	return nil
}
