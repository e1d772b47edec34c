package web

import (
	"context"
	"net/http"
	"time"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/past"
)

func (s *Server) registerAccepted() {
	type acceptedIn struct {
		Collection string    `query:"collection" doc:"Only changes of this collection."`
		By         string    `query:"by" maxLength:"80" doc:"Only changes by this worker."`
		Device     string    `query:"device" maxLength:"80" doc:"Only changes from devices of this name."`
		AtCentral  bool      `query:"at_central" doc:"Only changes that were made at central."`
		Batch      uuid.UUID `query:"batch" format:"uuid" doc:"Only changes that this batch carried."`
		Since      time.Time `query:"since" doc:"Only changes that central received then or later."`
		Before     string    `query:"before" maxLength:"200" doc:"Where an earlier page ended: its next."`
		Limit      int       `query:"limit" minimum:"1" maximum:"500" default:"50"`
	}
	add(s, s.operation(http.MethodGet, "/v1/accepted", "accepted", "Accepted changes of all records, the latest first", readers),
		func(ctx context.Context, in *acceptedIn) (*answer[past.AcceptedPage], error) {
			page, err := s.central.Accepted(ctx, who(ctx).Person, past.AcceptedOf{Collection: in.Collection, By: in.By, Device: in.Device,
				AtCentral: in.AtCentral, Batch: in.Batch, Since: in.Since, Before: in.Before, Limit: in.Limit})
			return &answer[past.AcceptedPage]{page}, err
		})

	type arrivedIn struct {
		Since time.Time `query:"since" required:"true" doc:"Where the first span begins."`
		Span  int       `query:"span" minimum:"60" maximum:"2678400" default:"3600" doc:"How long each span is, in seconds."`
	}
	add(s, s.operation(http.MethodGet, "/v1/accepted/counts", "count-accepted",
		"How many changes arrived when, by collection", readers),
		func(ctx context.Context, in *arrivedIn) (*answer[[]past.Arrivals], error) {
			const most = 1000
			span := time.Duration(in.Span) * time.Second
			if time.Since(in.Since) > most*span {
				return nil, fault.Fail(fault.Invalid, "more than %d spans: take longer ones, or begin later", most)
			}
			all, err := s.central.Arrived(ctx, who(ctx).Person, in.Since, span)
			return &answer[[]past.Arrivals]{all}, err
		})
}
