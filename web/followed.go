package web

import (
	"context"
	"net/http"

	"homing/central/past"
)

func (s *Server) registerFollowUps() {
	type in struct {
		Collection string `query:"collection" maxLength:"40"`
		Rule       string `query:"rule" maxLength:"40" doc:"Only of follow-ups of this name."`
		Outcome    string `query:"outcome" enum:"done,nothing,refused,stopped"`
		Before     int64  `query:"before" minimum:"0" doc:"Only lines before this place."`
		Limit      int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	// What became of follow-ups names records of all territories, and is for those who write the rules.
	add(s, s.operation(http.MethodGet, "/v1/follow-ups", "follow-ups",
		"What became of follow-ups, change by change, the latest first", definers),
		func(ctx context.Context, in *in) (*answer[[]past.FollowedLine], error) {
			all, err := s.central.FollowUps(ctx, past.FollowedOf{Collection: in.Collection, Rule: in.Rule, Outcome: in.Outcome,
				Before: in.Before, Limit: in.Limit})
			return &answer[[]past.FollowedLine]{all}, err
		})
	add(s, s.operation(http.MethodGet, "/v1/follow-ups/counts", "follow-up-counts",
		"How often each follow-up came to what, and when last", definers),
		func(ctx context.Context, _ *struct{}) (*answer[[]past.FollowedCount], error) {
			all, err := s.central.FollowUpCounts(ctx)
			return &answer[[]past.FollowedCount]{all}, err
		})
}
