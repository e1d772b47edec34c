package definition

import (
	"bytes"
	"encoding/json"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"homing/core/period"
	"homing/core/record"
)

// plain says of a value of a schema of the commonest kinds that it is valid, at a small part of what asking the schema
// costs. Where it does not say so, the schema is asked.
type plain func(value []byte) bool

// plainKeys are the keywords of which plain knows all that they mean; the others that it passes over say nothing of
// what is valid.
var plainKeys = map[string]bool{"type": true, "minLength": true, "maxLength": true, "minimum": true, "maximum": true, "enum": true,
	"format": true, "$ref": true, "title": true, "description": true, "unit": true, "default": true, "examples": true, "reference": true, "again": true, "period": true}

// plainOf is nil for schemas of other kinds.
func plainOf(schema json.RawMessage) plain {
	var keys map[string]json.RawMessage
	if json.Unmarshal(schema, &keys) != nil {
		return nil
	}
	for key := range keys {
		if !plainKeys[key] {
			return nil
		}
	}
	var exact struct { // what a Shape would read leniently
		MinLength, MaxLength *int
		Minimum, Maximum     *float64
	}
	if json.Unmarshal(schema, &exact) != nil {
		return nil
	}
	shape := ShapeOf(schema)
	bounded := exact.Minimum != nil || exact.Maximum != nil
	long := exact.MinLength != nil || exact.MaxLength != nil
	switch {
	case shape.Period != "":
		if shape.Type != "string" || long || bounded || shape.Enum != nil || shape.Format != "" {
			return nil
		}
		return isPeriod(period.Kind(shape.Period))
	case shape.Ref == PointURL && len(keys) == 1:
		return isPoint
	case shape.Ref != "":
		return nil
	case shape.Enum != nil:
		choices := shape.Choices()
		if choices == nil || bounded || long || shape.Format != "" || shape.Type != nil && shape.Type != "string" {
			return nil
		}
		return oneOf(choices)
	case shape.Type == "string" && shape.Format == "date" && !bounded && !long:
		return isDate
	case shape.Type == "string" && shape.Format == "" && !bounded:
		least, most := 0, math.MaxInt
		if exact.MinLength != nil {
			least = *exact.MinLength
		}
		if exact.MaxLength != nil {
			most = *exact.MaxLength
		}
		return func(value []byte) bool { return isText(value, least, most) }
	case shape.IsNumber() && shape.Format == "" && !long:
		above, below := math.Inf(-1), math.Inf(1)
		if exact.Minimum != nil {
			above = *exact.Minimum
		}
		if exact.Maximum != nil {
			below = *exact.Maximum
		}
		whole := shape.Type == "integer"
		return func(value []byte) bool {
			return isWithin(value, above, below) && !(whole && bytes.IndexByte(value, '.') >= 0)
		}
	}
	return nil
}

// text is what stands between the quotes; ok is false where something is escaped.
func text(value []byte) (inside []byte, ok bool) {
	if len(value) < 2 || value[0] != '"' || bytes.IndexByte(value, '\\') >= 0 {
		return nil, false
	}
	return value[1 : len(value)-1], true
}

func isText(value []byte, least, most int) bool {
	inside, ok := text(value)
	return ok && len(inside) >= least && (len(inside) <= most || utf8.RuneCount(inside) <= most) &&
		(least <= 1 || utf8.RuneCount(inside) >= least)
}

func isDate(value []byte) bool {
	inside, ok := text(value)
	if !ok || len(inside) != len(time.DateOnly) {
		return false
	}
	_, err := time.Parse(time.DateOnly, string(inside))
	return err == nil
}

func isPeriod(kind period.Kind) plain {
	return func(value []byte) bool {
		inside, ok := text(value)
		if !ok || !kind.Valid() {
			return false
		}
		_, err := period.Parse(kind, string(inside))
		return err == nil
	}
}

func oneOf(choices []string) plain {
	known := map[string]bool{}
	for _, choice := range choices {
		known[choice] = true
	}
	return func(value []byte) bool {
		inside, ok := text(value)
		return ok && known[string(inside)]
	}
}

// isWithin says whether a number lies between two others, and not where digits that a float has no room for would
// decide.
func isWithin(value []byte, above, below float64) bool {
	const most = 15 // digits, with sign and point
	if len(value) == 0 || len(value) > most || value[0] != '-' && (value[0] < '0' || value[0] > '9') || bytes.ContainsAny(value, "eE") {
		return false
	}
	n, err := strconv.ParseFloat(string(value), 64)
	return err == nil && n > above && n < below
}

// isPoint knows a point as canonical JSON writes it.
func isPoint(value []byte) bool {
	rest, starts := strings.CutPrefix(string(value), `{"coordinates":[`)
	rest, ends := strings.CutSuffix(rest, `],"type":"Point"}`)
	parts := strings.Split(rest, ",")
	if !starts || !ends || len(parts) < 2 || len(parts) > 3 {
		return false
	}
	for n, bound := range []float64{180, 90, math.Inf(1)}[:len(parts)] {
		if !isWithin([]byte(parts[n]), -bound, bound) {
			return false
		}
	}
	return true
}

// plainly says whether a record is surely valid.
func (c *Collection) plainly(fields record.Fields) bool {
	for name, value := range fields {
		if valid := c.plain[name]; valid == nil || !valid(value) {
			return false
		}
	}
	for _, name := range c.required {
		if fields[name] == nil && !c.lax(name, fields) {
			return false
		}
	}
	return true
}
