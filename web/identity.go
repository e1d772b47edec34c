package web

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"

	"homing/central"
	"homing/core/rights"
	"homing/wire"
)

const sessionCookie = "homing_session"

// identity is who asks: a person, through a session or a device of theirs, or everybody when central is open.
type identity struct {
	central.Person
	Device *central.Device // nil for a session
	token  string
}

type identityKey struct{}

func who(ctx context.Context) identity {
	id, _ := ctx.Value(identityKey{}).(identity)
	return id
}

// access says who may call an operation.
type access struct {
	anyone  bool          // without signing in
	device  bool          // devices only
	either  bool          // devices, too
	revoked bool          // a revoked device, too, if it may still deliver
	right   rights.Action // what the role must allow; empty asks only for a sign-in
}

const accessKey = "access"

// guard finds out who asks and whether they may. It stands before every operation.
func (s *Server) guard(ctx huma.Context, next func(huma.Context)) {
	if speaks := ctx.Header(wire.HeaderVersion); speaks != "" && speaks != wire.Version {
		s.refuse(ctx, newProblem(http.StatusBadRequest,
			"the device speaks protocol "+speaks+"; central speaks "+wire.Version+". Update the one that is older"))
		return
	}
	need, _ := ctx.Operation().Metadata[accessKey].(access)
	id, err := s.identify(ctx, need.revoked)
	if err != nil && !need.anyone {
		s.refuse(ctx, err)
		return
	}
	switch {
	case need.anyone:
	case need.device && id.Device == nil:
		s.refuse(ctx, newProblem(http.StatusForbidden, "only an enrolled device may ask for this"))
		return
	case id.Device != nil && !need.device && !need.either:
		s.refuse(ctx, newProblem(http.StatusForbidden, "a device's token is good for what devices do; a person signs in for this"))
		return
	case need.right != "" && !id.Role.May(need.right):
		s.refuse(ctx, newProblem(http.StatusForbidden, "the role "+string(id.Role)+" may not "+string(need.right)))
		return
	}
	next(huma.WithValue(ctx, identityKey{}, id))
}

func (s *Server) refuse(ctx huma.Context, err error) {
	var problem *Problem
	if !errors.As(err, &problem) {
		problem = newProblem(http.StatusInternalServerError, err.Error())
	}
	if problem.Status == http.StatusUnauthorized {
		ctx.SetHeader("WWW-Authenticate", `Bearer realm="homing"`)
	}
	problem.Request = middleware.GetReqID(ctx.Context())
	ctx.SetHeader("Content-Type", wire.Problem)
	ctx.SetStatus(problem.Status)
	json.NewEncoder(ctx.BodyWriter()).Encode(problem)
}

func (s *Server) identify(ctx huma.Context, revoked bool) (identity, error) {
	token := ""
	if header := ctx.Header("Authorization"); header != "" {
		scheme, rest, _ := strings.Cut(header, " ")
		if !strings.EqualFold(scheme, "Bearer") || rest == "" {
			return identity{}, newProblem(http.StatusUnauthorized, "the Authorization header must read: Bearer TOKEN")
		}
		token = strings.TrimSpace(rest)
	} else if cookie, err := huma.ReadCookie(ctx, sessionCookie); err == nil {
		token = cookie.Value
	}
	switch {
	case strings.HasPrefix(token, "dev_"):
		device, err := s.central.DeviceOf(ctx.Context(), token, revoked)
		if err != nil {
			return identity{}, s.problem(ctx.Context(), err)
		}
		if device.Worker == central.OpenName && !s.options.Open {
			return identity{}, newProblem(http.StatusUnauthorized,
				"this device was enrolled while central was open to everybody; enrol it again with a code")
		}
		return identity{Person: device.People[0], Device: &device, token: token}, nil
	case strings.HasPrefix(token, "ses_"):
		person, err := s.central.PersonOf(ctx.Context(), token)
		if err == nil || !s.options.Open {
			return identity{Person: person, token: token}, s.problem(ctx.Context(), err)
		}
	case token != "":
		return identity{}, newProblem(http.StatusUnauthorized, "this token is not one of central's")
	}
	if s.options.Open {
		return identity{Person: central.Everything(central.OpenName)}, nil
	}
	return identity{}, newProblem(http.StatusUnauthorized, "sign in first")
}

// fleetOf keeps what a worker may see of the fleet to their own devices; leads and admins see all.
func (id identity) fleetOf() string {
	if id.Role.May(rights.WatchFleet) {
		return ""
	}
	return id.Name
}

var protocols = slices.Clip([]string{wire.Version})
