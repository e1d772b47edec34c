package web

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"

	"homing/central/changes"
	"homing/central/fault"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
)

// registerSources adds what people need who write definitions as files.
func (s *Server) registerSources() {
	type sourceIn struct {
		Collection string `path:"collection"`
	}
	type sourceOut struct {
		Text string `json:"text" doc:"The definition as a file."`
	}
	add(s, s.operation(http.MethodGet, "/v1/definitions/{collection}/file", "definition-file", "A definition as a file", readers),
		func(ctx context.Context, in *sourceIn) (*answer[sourceOut], error) {
			compiled, err := s.central.Collection(ctx, in.Collection)
			if err != nil {
				return nil, err
			}
			return &answer[sourceOut]{sourceOut{string(definition.WriteSource(compiled.Definition))}}, nil
		})

	type readIn struct {
		Body struct {
			Text string `json:"text" maxLength:"1048576" doc:"The file: one YAML document."`
		}
	}
	type readOut struct {
		Wrong      string                 `json:"wrong,omitempty" doc:"What is wrong with the file; nothing else is said then."`
		Line       int                    `json:"line,omitempty" doc:"Where; 0 when the whole file is meant."`
		Definition *definition.Definition `json:"definition,omitempty"`
		Plan       *changes.Plan          `json:"plan,omitempty" doc:"What defining it would do."`
		Examples   []definition.Trial     `json:"examples,omitempty" doc:"What its rules make of its examples."`
	}
	add(s, s.operation(http.MethodPost, "/v1/definitions/file", "read-definition-file",
		"Read a definition file, and say what defining it would do; nothing is changed", definers),
		func(ctx context.Context, in *readIn) (*answer[readOut], error) {
			d, err := definition.ReadSource("definition", []byte(in.Body.Text))
			if err != nil {
				var wrong *definition.SourceError
				if errors.As(err, &wrong) {
					return &answer[readOut]{readOut{Wrong: wrong.Message, Line: wrong.Line}}, nil
				}
				return &answer[readOut]{readOut{Wrong: err.Error()}}, nil
			}
			out := readOut{Definition: &d}
			if compiled, err := d.Compile(); err == nil { // it was compiled as it was read
				out.Examples = compiled.Try()
			}
			plans, err := s.central.Preview(ctx, []definition.Definition{d})
			if err != nil {
				return &answer[readOut]{readOut{Wrong: s.problem(ctx, err).Error(), Definition: &d}}, nil
			}
			out.Plan = &plans[0]
			return &answer[readOut]{out}, nil
		})

	type meetIn struct {
		Body struct {
			Definition definition.Definition      `json:"definition"`
			Base       map[string]json.RawMessage `json:"base" doc:"The record as it was; only the fields that matter are needed."`
			One        map[string]json.RawMessage `json:"one" doc:"What the first made of it."`
			Other      map[string]json.RawMessage `json:"other" doc:"What the other made of it, a minute later, without knowing of the first."`
			OtherFirst bool                       `json:"other_first,omitempty" doc:"The later edit reaches central first."`
		}
	}
	add(s, s.operation(http.MethodPost, "/v1/definitions/meeting", "try-merge",
		"Say what a definition makes of two edits of one record; nothing is stored", definers),
		func(ctx context.Context, in *meetIn) (*answer[definition.Meeting], error) {
			compiled, err := in.Body.Definition.Compile()
			if err != nil {
				return nil, fault.Fail(fault.Invalid, "the definition: %v", err)
			}
			var documents [3]record.Fields
			for n, of := range []struct {
				name   string
				fields map[string]json.RawMessage
			}{{"base", in.Body.Base}, {"one", in.Body.One}, {"other", in.Body.Other}} {
				if documents[n], err = parsed(of.fields); err != nil {
					return nil, fault.Fail(fault.Invalid, "%s: %v", of.name, err)
				}
				for _, wrong := range compiled.Validate(documents[n]) {
					if documents[n][wrong.Field] != nil { // what is not given is not asked for
						return nil, fault.Refused([]change.Reason{{Code: wrong.Code, Field: wrong.Field, Message: of.name + ": " + wrong.Message}})
					}
				}
			}
			met, err := compiled.Meet(documents[0], documents[1], documents[2], in.Body.OtherFirst)
			return &answer[definition.Meeting]{met}, err
		})
}

func parsed(fields map[string]json.RawMessage) (record.Fields, error) {
	text, err := json.Marshal(fields)
	if err != nil {
		return nil, err
	}
	return record.Parse(text)
}
