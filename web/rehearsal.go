package web

import (
	"context"
	"errors"
	"net/http"
	"time"

	"homing/central/fault"
	"homing/core/definition"
)

// Rehearsal is one run of a simulated fleet with definitions.
type Rehearsal struct {
	Seed      uint64         `json:"seed"`
	Devices   int            `json:"devices"`
	Saves     int            `json:"saves"`
	Exchanges int            `json:"exchanges"`
	Faults    int            `json:"faults" doc:"Requests that were lost, repeated or cut, and kills."`
	Answers   map[string]int `json:"answers"`
	Refused   map[string]int `json:"refused" doc:"By code."`
	Decisions []Decided      `json:"decisions" doc:"Where edits met, and what decided."`
	Settling  float64        `json:"settling" doc:"Simulated seconds from the last save until all agreed."`
	Wrong     []string       `json:"wrong" doc:"What is against a promise; empty when all is well."`
}

// Decided counts how contested values were decided.
type Decided struct {
	Collection string `json:"collection"`
	Field      string `json:"field" doc:"Empty for removals."`
	Rule       string `json:"rule"`
	Count      int    `json:"count"`
}

// longestRehearsal is how long one may take.
const longestRehearsal = 30 * time.Second

func (s *Server) registerRehearsal() {
	type rehearseIn struct {
		Body struct {
			Seed       uint64                 `json:"seed" minimum:"1" maximum:"1000000000" doc:"A seed always gives the same run."`
			Calm       bool                   `json:"calm,omitempty" doc:"Nothing goes wrong but that signal is rare."`
			Definition *definition.Definition `json:"definition,omitempty" doc:"One more, or another version of one, to be rehearsed with those that are defined."`
		}
	}
	one := make(chan struct{}, 1) // it costs a processor for a while
	op := s.operation(http.MethodPost, "/v1/rehearsals", "rehearse",
		"Let a simulated fleet work with the definitions. Nothing that is stored is read or changed", definers)
	op.Errors = append(op.Errors, http.StatusNotFound, http.StatusConflict)
	add(s, op,
		func(ctx context.Context, in *rehearseIn) (*answer[Rehearsal], error) {
			if s.options.Rehearse == nil {
				return nil, fault.Fail(fault.NotFound, "this central does not rehearse; homing rehearse does, anywhere")
			}
			definitions, err := s.rehearsed(ctx, in.Body.Definition)
			if err != nil {
				return nil, err
			}
			select {
			case one <- struct{}{}:
				defer func() { <-one }()
			default:
				return nil, fault.Fail(fault.Clash, "somebody is rehearsing at the moment; try again")
			}
			ctx, cancel := context.WithTimeout(ctx, longestRehearsal)
			defer cancel()
			got, err := s.options.Rehearse(ctx, definitions, in.Body.Seed, in.Body.Calm)
			if errors.Is(err, context.DeadlineExceeded) {
				return nil, fault.Fail(fault.Invalid, "the rehearsal took longer than %s; homing rehearse takes the time that it needs", longestRehearsal)
			}
			if err != nil && ctx.Err() == nil { // of definitions that it can make nothing of
				return nil, fault.Fail(fault.Invalid, "%v", err)
			}
			return &answer[Rehearsal]{got}, err
		})
}

// rehearsed are the definitions of central, with one more or another.
func (s *Server) rehearsed(ctx context.Context, more *definition.Definition) ([]definition.Definition, error) {
	all, err := s.central.Definitions(ctx)
	if err != nil {
		return nil, err
	}
	var definitions []definition.Definition
	for _, d := range all {
		if more == nil || d.Collection != more.Collection {
			definitions = append(definitions, d)
		}
	}
	if more != nil {
		if _, err := s.central.Preview(ctx, []definition.Definition{*more}); err != nil { // it may not fit the others
			return nil, err
		}
		definitions = append(definitions, *more)
	}
	if len(definitions) == 0 {
		return nil, fault.Fail(fault.Invalid, "nothing is defined yet: there is nothing to rehearse")
	}
	return definitions, nil
}
