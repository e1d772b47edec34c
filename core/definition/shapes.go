package definition

import "encoding/json"

// The schemas that a definition may refer to with $ref: GeoJSON geometries (RFC 7946, section 3.1), longitude first.
const (
	PointURL = "urn:homing:point"
	LineURL  = "urn:homing:line"
)

const position = `{"type":"array","minItems":2,"maxItems":3,
	"prefixItems":[{"type":"number","minimum":-180,"maximum":180},{"type":"number","minimum":-90,"maximum":90},{"type":"number"}]}`

var shapes = map[string]string{
	PointURL: `{"type":"object","required":["type","coordinates"],"additionalProperties":false,
		"properties":{"type":{"const":"Point"},"coordinates":` + position + `}}`,
	LineURL: `{"type":"object","required":["type","coordinates"],"additionalProperties":false,
		"properties":{"type":{"const":"LineString"},"coordinates":{"type":"array","minItems":2,"items":` + position + `}}}`,
}

// Shape is what a schema says at its top, as far as those need it who choose inputs, columns, types or rules by it.
type Shape struct {
	Type        any                        `json:"type"` // a text or a list of texts; nil when it says none
	Format      string                     `json:"format"`
	Unit        string                     `json:"unit"`
	Description string                     `json:"description"`
	Ref         string                     `json:"$ref"`
	Enum        []json.RawMessage          `json:"enum"`
	Period      string                     `json:"period"`
	Pattern     string                     `json:"pattern"`
	MinLength   int                        `json:"minLength"`
	MaxLength   int                        `json:"maxLength"`
	Minimum     *float64                   `json:"minimum"`
	Maximum     *float64                   `json:"maximum"`
	Items       json.RawMessage            `json:"items"`
	MaxItems    int                        `json:"maxItems"`
	Unique      bool                       `json:"uniqueItems"`
	Properties  map[string]json.RawMessage `json:"properties"`
}

// ShapeOf reads the shape of a schema. What a Shape cannot hold is left out, such as a length of 2.0; one that says
// nothing at its top, such as true, has the zero value.
func ShapeOf(schema json.RawMessage) (s Shape) {
	_ = json.Unmarshal(schema, &s) // the rest is read all the same
	return s
}

// Shape is that of the field's schema.
func (f Field) Shape() Shape { return ShapeOf(f.Schema) }

// IsNumber says whether values are numbers.
func (s Shape) IsNumber() bool { return s.Type == "number" || s.Type == "integer" }

// Choices are the texts to choose from; nil when there is something else among them.
func (s Shape) Choices() []string {
	var all []string
	for _, choice := range s.Enum {
		var text string
		if json.Unmarshal(choice, &text) != nil || string(choice) == "null" {
			return nil
		}
		all = append(all, text)
	}
	return all
}
