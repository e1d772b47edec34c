package definition

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
