package web

import (
	"context"
	"net/http"
	"time"

	"homing/central"
	"homing/central/people"
	"homing/core/rights"
)

func (s *Server) registerPeople() {
	type session struct {
		Worker    string      `json:"worker"`
		Role      rights.Role `json:"role" enum:"reader,worker,lead,admin"`
		Open      bool        `json:"open" doc:"Nobody needs to sign in."`
		Token     string      `json:"token,omitempty" doc:"For programs; browsers hold it in a cookie."`
		ExpiresAt *time.Time  `json:"expires_at,omitempty"`
	}
	type sessionOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      session
	}
	type signInIn struct {
		Body struct {
			Worker   string `json:"worker" minLength:"1" maxLength:"80"`
			Password string `json:"password" minLength:"1" maxLength:"500"`
		}
	}
	add(s, s.operation(http.MethodPost, "/v1/session", "sign-in", "Sign in with name and password", anyone),
		func(ctx context.Context, in *signInIn) (*sessionOut, error) {
			token, person, expires, err := s.central.SignIn(ctx, in.Body.Worker, in.Body.Password)
			if err != nil {
				return nil, err
			}
			return &sessionOut{SetCookie: sessionCookieFor(token, expires),
				Body: session{Worker: person.Name, Role: person.Role, Open: s.options.Open, Token: token, ExpiresAt: &expires}}, nil
		})
	add(s, s.operation(http.MethodGet, "/v1/session", "session", "Who is signed in", signedIn),
		func(ctx context.Context, _ *nothing) (*answer[session], error) {
			id := who(ctx)
			return &answer[session]{session{Worker: id.Name, Role: id.Role, Open: s.options.Open}}, nil
		})
	type signOutOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	add(s, s.operation(http.MethodDelete, "/v1/session", "sign-out", "Sign out", signedIn),
		func(ctx context.Context, _ *nothing) (*signOutOut, error) {
			err := s.central.SignOut(ctx, who(ctx).token)
			return &signOutOut{SetCookie: sessionCookieFor("", time.Unix(1, 0))}, err
		})

	add(s, s.operation(http.MethodGet, "/v1/workers", "workers", "All workers", workerAdmins),
		func(ctx context.Context, _ *nothing) (*answer[[]central.Worker], error) {
			all, err := s.central.Workers(ctx)
			return &answer[[]central.Worker]{all}, err
		})
	type workerIn struct {
		Body struct {
			Name        string      `json:"name"`
			Role        rights.Role `json:"role" enum:"reader,worker,lead,admin"`
			Password    string      `json:"password,omitempty" doc:"At least 8 characters. Without one, the worker can own devices but not sign in."`
			Territories []string    `json:"territories,omitempty" doc:"Those that the worker holds; all when left out."`
		}
	}
	op := s.operation(http.MethodPost, "/v1/workers", "add-worker", "Add a worker", workerAdmins)
	op.DefaultStatus = http.StatusCreated
	op.Errors = append(op.Errors, http.StatusConflict)
	add(s, op, func(ctx context.Context, in *workerIn) (*struct{}, error) {
		return nil, s.central.AddWorker(ctx, in.Body.Name, in.Body.Role, in.Body.Password, in.Body.Territories...)
	})
}

func (s *Server) registerTerritories() {
	add(s, s.operation(http.MethodGet, "/v1/territories", "territories",
		"All territories, what falls into them and who holds them", workerAdmins),
		func(ctx context.Context, _ *nothing) (*answer[[]people.Territory], error) {
			all, err := s.central.Territories(ctx)
			return &answer[[]people.Territory]{all}, err
		})
	type roleIn struct {
		Name string `path:"name"`
		Body struct {
			Role rights.Role `json:"role" enum:"reader,worker,lead,admin"`
		}
	}
	change := s.operation(http.MethodPut, "/v1/workers/{name}/role", "set-role", "Give a worker another role",
		workerAdmins)
	change.Errors = append(change.Errors, http.StatusConflict)
	add(s, change, func(ctx context.Context, in *roleIn) (*struct{}, error) {
		return nil, s.central.SetRole(ctx, in.Name, in.Body.Role)
	})
	type holdIn struct {
		Name string `path:"name"`
		Body struct {
			Territories []string `json:"territories" doc:"All that the worker is to hold; * stands for all there are."`
		}
	}
	op := s.operation(http.MethodPut, "/v1/workers/{name}/territories", "hold-territories",
		"Set which territories a worker holds", workerAdmins)
	add(s, op, func(ctx context.Context, in *holdIn) (*struct{}, error) {
		return nil, s.central.HoldTerritories(ctx, in.Name, in.Body.Territories)
	})
}

// sessionCookieFor holds a session in a browser. No script reads it, and no other site's page can make the browser
// send it.
func sessionCookieFor(token string, expires time.Time) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: token, Path: "/", Expires: expires, HttpOnly: true,
		SameSite: http.SameSiteStrictMode}
}
