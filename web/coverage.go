package web

import (
	"context"
	"net/http"
	"time"

	"homing/central/changes"
	"homing/central/finding"
	"homing/core/coverage"
	"homing/wire"
)

func (s *Server) registerCoverage() {
	type in struct {
		Collection string    `path:"collection"`
		From       string    `query:"from" maxLength:"40" doc:"The first period, as it is written or as people say it: 2026-W40, last month. Left out, the last eight are meant."`
		Until      string    `query:"until" maxLength:"40" doc:"The last period. Left out, the one that today lies in."`
		State      string    `query:"state" enum:"missing,begun,complete,late,owed" doc:"Only places with such a cell; owed is missing or begun."`
		Territory  string    `query:"territory" maxLength:"80" doc:"Only places that fall into it."`
		Worker     string    `query:"worker" maxLength:"80" doc:"Only places that this worker's territories cover."`
		Search     string    `query:"search" maxLength:"200" doc:"Only places that are called so, or in part."`
		Today      time.Time `query:"today" doc:"As of the day that this time has in its zone. Left out, central's."`
		Limit      int       `query:"limit" minimum:"1" maximum:"1000" default:"50"`
		Offset     int       `query:"offset" minimum:"0" default:"0"`
	}
	add(s, s.operation(http.MethodGet, "/v1/coverage/{collection}", "coverage",
		"Which places have reported for which periods, against what is expected", readers),
		func(ctx context.Context, in *in) (*answer[coverage.Grid], error) {
			today := in.Today
			if today.IsZero() {
				today = s.central.Now()
			}
			year, month, day := today.Date()
			grid, err := s.central.Covered(ctx, who(ctx).Person, in.Worker, finding.Covering{Collection: in.Collection, From: in.From, Until: in.Until,
				Territory: in.Territory, Today: time.Date(year, month, day, 0, 0, 0, 0, time.UTC),
				Ask: coverage.Ask{State: in.State, Search: in.Search, Limit: in.Limit, Offset: in.Offset}})
			return &answer[coverage.Grid]{grid}, err
		})

	type markIn struct {
		Keyed
		RecordPath
		Base int64 `query:"base" minimum:"0" doc:"The revision that the author saw. Left out, the current one is meant."`
	}
	for _, one := range []struct {
		method, name, summary string
		marks                 changes.Marking
	}{
		{http.MethodPut, "complete-record", "Mark a record complete: what its definition requires is checked", changes.MarkComplete},
		{http.MethodDelete, "open-record", "Open a record again that was marked complete", changes.MarkOpen},
	} {
		op := s.operation(one.method, "/v1/complete/{collection}/{id}", one.name, one.summary, editors)
		op.Errors = append(op.Errors, http.StatusNotFound, http.StatusConflict)
		add(s, op, func(ctx context.Context, in *markIn) (*answer[wire.Answer], error) {
			base := in.Base
			if base == 0 {
				base = -1
			}
			got, err := s.central.Direct(ctx, who(ctx).Person, changes.Write{Collection: in.Collection, Record: in.ID, Base: base, Marks: one.marks, Key: in.Key})
			return s.again(ctx, in.Collection, in.ID, got, err)
		})
	}
}
