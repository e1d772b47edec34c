package web

import (
	"context"
	"net/http"
	"time"

	"homing/central/fault"
	"homing/central/feeds"
	"homing/feed"
)

// registerFeeds adds what admins do with feeds: what they carry may be of all territories, and goes out of central's sight.
func (s *Server) registerFeeds() {
	type nameIn struct {
		Name string `path:"name" maxLength:"40"`
	}
	add(s, s.operation(http.MethodGet, "/v1/feeds", "feeds", "All feeds, and how far they are", definers),
		func(ctx context.Context, _ *nothing) (*answer[[]feeds.Status], error) {
			all, err := s.central.FeedList(ctx, "")
			return &answer[[]feeds.Status]{all}, err
		})
	type defineIn struct {
		Body struct {
			Feeds []feed.Feed `json:"feeds" minItems:"1" maxItems:"100"`
		}
	}
	add(s, s.operation(http.MethodPut, "/v1/feeds", "define-feeds", "Keep feeds, new ones or in place of those of the same name, all or none", definers),
		func(ctx context.Context, in *defineIn) (*answer[[]feeds.Status], error) {
			if err := s.central.DefineFeeds(ctx, who(ctx).Name, in.Body.Feeds); err != nil {
				return nil, err
			}
			all, err := s.central.FeedList(ctx, "")
			return &answer[[]feeds.Status]{all}, err
		})
	add(s, s.operation(http.MethodDelete, "/v1/feeds/{name}", "remove-feed", "Let go of a feed; what it has brought stays where it is", definers),
		func(ctx context.Context, in *nameIn) (*struct{}, error) {
			return nil, s.central.RemoveFeed(ctx, in.Name)
		})
	type actIn struct {
		Name string `path:"name" maxLength:"40"`
		Body struct {
			Act   string    `json:"act" enum:"pause,go on,start anew,turn back"`
			Since time.Time `json:"since,omitempty" doc:"For turn back: what has changed since then goes once more."`
		}
	}
	add(s, s.operation(http.MethodPost, "/v1/feeds/{name}/acts", "act-on-feed", "Let a feed rest, go on, start anew or turn back", definers),
		func(ctx context.Context, in *actIn) (*answer[feeds.Status], error) {
			var err error
			switch in.Body.Act {
			case "pause", "go on":
				err = s.central.PauseFeed(ctx, in.Name, in.Body.Act == "pause")
			case "start anew":
				err = s.central.StartFeedAnew(ctx, in.Name)
			case "turn back":
				if in.Body.Since.IsZero() {
					return nil, fault.Fail(fault.Invalid, "to turn a feed back, say since when (since)")
				}
				err = s.central.TurnFeedBack(ctx, in.Name, in.Body.Since)
			}
			if err != nil {
				return nil, err
			}
			all, err := s.central.FeedList(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return &answer[feeds.Status]{all[0]}, nil
		})
	type asideIn struct {
		Name  string `path:"name" maxLength:"40"`
		Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	}
	add(s, s.operation(http.MethodGet, "/v1/feeds/{name}/aside", "feed-aside", "What a destination refused, the latest first", definers),
		func(ctx context.Context, in *asideIn) (*answer[[]feeds.Aside], error) {
			all, err := s.central.AsideOf(ctx, in.Name, in.Limit)
			return &answer[[]feeds.Aside]{all}, err
		})
	type resendIn struct {
		Name string `path:"name" maxLength:"40"`
		Body struct {
			Place int64 `json:"place,omitempty" minimum:"0" doc:"One of them; all if left out."`
		}
	}
	type resendOut struct {
		Again int64 `json:"again" doc:"How many are sent again, as they are then."`
	}
	add(s, s.operation(http.MethodPost, "/v1/feeds/{name}/aside", "resend-feed-aside", "Send again what was set aside", definers),
		func(ctx context.Context, in *resendIn) (*answer[resendOut], error) {
			n, err := s.central.Resend(ctx, in.Name, in.Body.Place)
			return &answer[resendOut]{resendOut{n}}, err
		})
	add(s, s.operation(http.MethodGet, "/v1/feed-secrets", "feed-secrets", "The names of the secrets of destinations; their values are shown to nobody", definers),
		func(ctx context.Context, _ *nothing) (*answer[[]feeds.Secret], error) {
			all, err := s.central.Secrets(ctx)
			return &answer[[]feeds.Secret]{all}, err
		})
	type secretIn struct {
		Name string `path:"name" maxLength:"40"`
		Body struct {
			Value string `json:"value" minLength:"1" maxLength:"4000"`
		}
	}
	add(s, s.operation(http.MethodPut, "/v1/feed-secrets/{name}", "set-feed-secret", "Keep a secret under a name", definers),
		func(ctx context.Context, in *secretIn) (*struct{}, error) {
			return nil, s.central.SetSecret(ctx, who(ctx).Name, in.Name, in.Body.Value)
		})
	add(s, s.operation(http.MethodDelete, "/v1/feed-secrets/{name}", "remove-feed-secret", "Forget a secret", definers),
		func(ctx context.Context, in *nameIn) (*struct{}, error) {
			return nil, s.central.RemoveSecret(ctx, in.Name)
		})
}
