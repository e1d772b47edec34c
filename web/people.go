package web

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"homing/central"
	"homing/central/fault"
	"homing/central/people"
	"homing/core/rights"
	"homing/web/problem"
)

func (s *Server) registerPeople() {
	type session struct {
		Worker    string      `json:"worker"`
		Role      rights.Role `json:"role" enum:"reader,worker,lead,admin"`
		Open      bool        `json:"open" doc:"Nobody needs to sign in."`
		Token     string      `json:"token,omitempty" doc:"For programs; browsers hold it in a cookie."`
		ExpiresAt *time.Time  `json:"expires_at,omitempty"`
		Warnings  []string    `json:"warnings,omitempty" doc:"Told to admins: what about central's door is not as it should be."`
	}
	type sessionOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      session
	}
	type signInIn struct {
		Body struct {
			Worker   string `json:"worker" minLength:"1" maxLength:"80"`
			Password string `json:"password" minLength:"1" maxLength:"200"`
		}
	}
	add(s, s.operation(http.MethodPost, "/v1/session", "sign-in", "Sign in with name and password", anyone),
		func(ctx context.Context, in *signInIn) (*sessionOut, error) {
			got, err := s.signIn(ctx, in.Body.Worker, in.Body.Password)
			if err != nil {
				return nil, err
			}
			return &sessionOut{SetCookie: sessionCookieFor(ctx, got.token, got.expires),
				Body: session{Worker: got.person.Name, Role: got.person.Role, Open: s.options.Open, Token: got.token, ExpiresAt: &got.expires,
					Warnings: s.warningsFor(got.person)}}, nil
		})
	add(s, s.operation(http.MethodGet, "/v1/session", "session", "Who is signed in", signedIn),
		func(ctx context.Context, _ *nothing) (*answer[session], error) {
			id := who(ctx)
			return &answer[session]{session{Worker: id.Name, Role: id.Role, Open: s.options.Open, Warnings: s.warningsFor(id.Person)}}, nil
		})
	type signOutOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	add(s, s.operation(http.MethodDelete, "/v1/session", "sign-out", "Sign out", signedIn),
		func(ctx context.Context, _ *nothing) (*signOutOut, error) {
			err := s.central.SignOut(ctx, who(ctx).token)
			return &signOutOut{SetCookie: sessionCookieFor(ctx, "", time.Unix(1, 0))}, err
		})
}

func (s *Server) registerTerritories() {
	add(s, s.operation(http.MethodGet, "/v1/territories", "territories",
		"All territories, what falls into them and who holds them", workerAdmins),
		func(ctx context.Context, _ *nothing) (*answer[[]people.Territory], error) {
			all, err := s.central.Territories(ctx)
			return &answer[[]people.Territory]{all}, err
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

// guessing does what takes a password or a code. Tries that fail count against the address that they come from.
func guessing[O any](s *Server, ctx context.Context, do func() (*O, error)) (*O, error) {
	key := "address " + callerOf(ctx).address
	if s.signIns.spent(key) {
		return nil, slowDown(2, "too many passwords or codes from your address were wrong; wait a moment before the next one")
	}
	got, err := do()
	if wrongGuess(err) {
		s.signIns.fail(key)
	}
	return got, err
}

// wrongGuess says whether an error means that a password or a code was wrong.
func wrongGuess(err error) bool {
	known := fault.Explain(err)
	return known != nil && (known.Kind == fault.Unauthenticated || known.Kind == fault.NotAllowed)
}

func slowDown(seconds int, detail string) error {
	return huma.ErrorWithHeaders(problem.New(http.StatusTooManyRequests, detail),
		http.Header{"Retry-After": {strconv.Itoa(seconds)}})
}

// warningsFor are what admins are told about central's door.
func (s *Server) warningsFor(who central.Person) []string {
	if !who.Role.May(rights.ManageWorkers) {
		return nil
	}
	return s.options.Warnings
}

// sessionCookieFor holds a session in a browser. No script reads it, and no other site's page can make the browser
// send it.
func sessionCookieFor(ctx context.Context, token string, expires time.Time) http.Cookie {
	cookie := http.Cookie{Name: sessionCookie, Value: token, Path: "/", Expires: expires, HttpOnly: true,
		SameSite: http.SameSiteStrictMode}
	if callerOf(ctx).secure {
		cookie.Name, cookie.Secure = secureCookie, true
	}
	return cookie
}
