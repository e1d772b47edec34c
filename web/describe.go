package web

import (
	"github.com/danielgtaylor/huma/v2"

	"homing/wire"
)

// describe adds to the description what the handlers' types do not say: what is in values that are passed on as they
// are, and the headers that go and come with every request.
func describe(api *huma.OpenAPI) {
	schemas := api.Components.Schemas.Map()
	object := func(schema, property string, of any) {
		if s := schemas[schema]; s != nil && s.Properties[property] != nil {
			s.Properties[property].Type, s.Properties[property].AdditionalProperties = huma.TypeObject, of
		}
	}
	edit := &huma.Schema{Ref: "#/components/schemas/Edit"}
	object("Record", "fields", true)
	object("Record", "marks", true)
	object("HistoryEntry", "fields", edit)
	object("HistoryEntry", "sent", edit)
	text := func(description string) *huma.Header {
		return &huma.Header{Description: description, Schema: &huma.Schema{Type: huma.TypeString}}
	}
	for _, path := range api.Paths {
		for _, op := range []*huma.Operation{path.Get, path.Put, path.Post, path.Patch, path.Delete} {
			if op == nil {
				continue
			}
			op.Parameters = append(op.Parameters, &huma.Param{Name: wire.HeaderVersion, In: "header",
				Description: "The protocol that the caller speaks, " + wire.Version + "; another one is refused.",
				Schema:      &huma.Schema{Type: huma.TypeString}})
			for status, answer := range op.Responses {
				if answer.Headers == nil {
					answer.Headers = map[string]*huma.Header{}
				}
				answer.Headers[headerRequest] = text("Id of the request, as the log of central has it.")
				switch status {
				case "401":
					answer.Headers["WWW-Authenticate"] = text("How to sign in: with a bearer token.")
				case "429", "503", "507":
					answer.Headers["Retry-After"] = text("Seconds to wait before asking again.")
				}
			}
		}
	}
}
