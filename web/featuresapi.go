package web

import (
	"context"

	"homing/core/definition"
)

// object is a part of a JSON document.
type object = map[string]any

// describe is the features' own description, in the version of OpenAPI that the standard names: with the collections that there are, and the
// fields by which their features can be asked for.
func (f features) describe(ctx context.Context, in *FeaturesIn) (*featuresOut, error) {
	if err := in.only("f"); err != nil {
		return nil, err
	}
	overviews, err := f.central.Overviews(ctx, who(ctx).Person)
	if err != nil {
		return nil, err
	}
	paths := object{
		"/":            page("The landing page", "landing", "application/json"),
		"/conformance": page("The classes of the standard that this conforms to", "conformance", "application/json"),
		"/api":         page("This description", "api", typeOpenAPI),
		"/collections": page("The collections that have places", "collections", "application/json"),
	}
	for _, o := range overviews {
		p, has := placedOf(o.Definition)
		if !has {
			continue
		}
		at := "/collections/" + p.Collection
		paths[at] = page(p.Title, "about-"+p.Collection, "application/json")
		items := page("A page of the features of "+p.Title, "items-"+p.Collection, typeGeoJSON)
		parameters := []any{
			parameter("limit", "How many features at most; more are given as the limit.", object{"type": "integer", "minimum": 1, "maximum": mostFeatures, "default": usualFeatures}),
			listed("bbox", "Only features in an area: west, south, east, north in degrees (CRS84), or with the lowest and the highest height.",
				object{"type": "array", "oneOf": []any{object{"minItems": 4, "maxItems": 4}, object{"minItems": 6, "maxItems": 6}}, "items": object{"type": "number"}}),
			parameter("datetime", "Only features of a time: an RFC 3339 time, or two with a stroke between them; .. is an open end.", object{"type": "string"}),
			parameter("after", "The id of the last feature of the page before, as the link to the next page has it.", object{"type": "string", "format": "uuid"}),
		}
		for _, name := range p.filters() {
			field, _ := p.Field(name)
			parameters = append(parameters, parameter(name, "Only features whose "+field.Title+" is this.", object{"type": plainType(field)}))
		}
		items["get"].(object)["parameters"] = parameters
		paths[at+"/items"] = items
		one := page("One feature of "+p.Title, "item-"+p.Collection, typeGeoJSON)
		one["get"].(object)["parameters"] = []any{object{"name": "featureId", "in": "path", "required": true, "schema": object{"type": "string", "format": "uuid"}}}
		paths[at+"/items/{featureId}"] = one
	}
	return featured(typeOpenAPI, object{"openapi": "3.0.3",
		"info":    object{"title": "Homing: features", "version": f.options.Build, "description": "The collections of this central that have places, as OGC API – Features."},
		"servers": []any{object{"url": in.base}},
		"paths":   paths,
		"components": object{"securitySchemes": object{
			"token":    object{"type": "http", "scheme": "bearer"},
			"password": object{"type": "http", "scheme": "basic"}}},
		"security": []any{object{"token": []string{}}, object{"password": []string{}}}})
}

func page(summary, id, kind string) object {
	return object{"get": object{"summary": summary, "operationId": id, "responses": object{
		"200":     object{"description": summary, "content": object{kind: object{"schema": object{"type": "object"}}}},
		"default": object{"description": "What is wrong (RFC 9457)", "content": object{"application/problem+json": object{"schema": object{"type": "object"}}}}}}}
}

func parameter(name, about string, schema object) object {
	return object{"name": name, "in": "query", "required": false, "description": about, "schema": schema, "style": "form", "explode": true}
}

// listed is a parameter whose values stand in one text, with commas.
func listed(name, about string, schema object) object {
	one := parameter(name, about, schema)
	one["explode"] = false
	return one
}

func plainType(field definition.Field) string {
	switch shape := field.Shape(); shape.Type {
	case "integer", "number", "boolean":
		return shape.Type.(string)
	}
	return "string"
}
