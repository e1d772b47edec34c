package web

import (
	"context"
	"net/http"

	"github.com/google/uuid"

	"homing/central/people"
	"homing/core/rights"
)

func (s *Server) registerSignIns() {
	type changeIn struct {
		Body struct {
			Present string `json:"present" maxLength:"200" doc:"The password that you have."`
			Next    string `json:"next" minLength:"1" maxLength:"200" doc:"10 to 200 characters, none of the commonest."`
		}
	}
	add(s, s.operation(http.MethodPut, "/v1/session/password", "change-password",
		"Change your own password, and end your other sign-ins", inPerson),
		func(ctx context.Context, in *changeIn) (*struct{}, error) {
			return guessing(s, ctx, func() (*struct{}, error) {
				return nil, s.central.ChangePassword(ctx, who(ctx).Name, who(ctx).token, in.Body.Present, in.Body.Next)
			})
		})

	add(s, s.operation(http.MethodGet, "/v1/sign-ins", "sign-ins", "The sign-ins that hold: your own; an admin sees all", signedIn),
		func(ctx context.Context, _ *nothing) (*answer[[]people.SignedIn], error) {
			all, err := s.central.SignIns(ctx, who(ctx).ownOnly(rights.ManageWorkers), who(ctx).token)
			return &answer[[]people.SignedIn]{all}, err
		})
	type oneIn struct {
		ID uuid.UUID `path:"id" format:"uuid"`
	}
	add(s, s.operation(http.MethodDelete, "/v1/sign-ins/{id}", "end-sign-in", "End a sign-in", signedIn),
		func(ctx context.Context, in *oneIn) (*struct{}, error) {
			return nil, s.central.EndSignIn(ctx, who(ctx).ownOnly(rights.ManageWorkers), in.ID)
		})

	add(s, s.operation(http.MethodGet, "/v1/codes", "codes",
		"The enrolment codes that can still be used: your own; leads and admins see all", enrollers),
		func(ctx context.Context, _ *nothing) (*answer[[]people.Code], error) {
			all, err := s.central.Codes(ctx, who(ctx).ownOnly(rights.ManageDevices))
			return &answer[[]people.Code]{all}, err
		})
	add(s, s.operation(http.MethodDelete, "/v1/codes/{id}", "void-code", "Make an enrolment code useless", enrollers),
		func(ctx context.Context, in *oneIn) (*struct{}, error) {
			return nil, s.central.VoidCode(ctx, who(ctx).ownOnly(rights.ManageDevices), in.ID)
		})
}

// ownOnly keeps what somebody may see and do to what is their own, unless their role allows more. Empty stands for
// everybody's.
func (id identity) ownOnly(unless rights.Action) string {
	if id.Role.May(unless) {
		return ""
	}
	return id.Name
}
