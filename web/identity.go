package web

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"

	"homing/central"
	"homing/central/fleet"
	"homing/core/rights"
	"homing/web/problem"
	"homing/wire"
)

// The cookie that holds a session in a browser. Where nobody can read along, its name keeps it from coming from any
// other host, or over a plain connection (draft-ietf-httpbis-rfc6265bis, section 4.1.3).
const (
	sessionCookie = "homing_session"
	secureCookie  = "__Host-homing_session"
)

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
	session bool          // people only, who have signed in
	long    bool          // it may take long
	revoked bool          // a revoked device, too, if it may still deliver
	right   rights.Action // what the role must allow; empty asks only for a sign-in
}

const accessKey = "access"

// guard finds out who asks and whether they may. It stands before every operation.
func (s *Server) guard(ctx huma.Context, next func(huma.Context)) {
	if speaks := ctx.Header(wire.HeaderVersion); speaks != "" && speaks != wire.Version {
		s.refuse(ctx, problem.New(http.StatusBadRequest,
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
		s.refuse(ctx, problem.New(http.StatusForbidden, "only an enrolled device may ask for this"))
		return
	case need.session && id.token == "":
		s.refuse(ctx, problem.New(http.StatusForbidden, "central is open to everybody: nobody has signed in who could do this"))
		return
	case id.Device != nil && !need.device && !need.either:
		s.refuse(ctx, problem.New(http.StatusForbidden, "a device's token is good for what devices do; a person signs in for this"))
		return
	case need.right != "" && !id.Role.May(need.right):
		s.refuse(ctx, problem.New(http.StatusForbidden, "the role "+string(id.Role)+" may not "+string(need.right)))
		return
	}
	by := fleet.ActorOf(ctx.Context())
	by.Name = id.Name
	ctx = huma.WithContext(ctx, fleet.Acting(ctx.Context(), by))
	if leave, ok := s.seat(ctx.Operation(), id); ok {
		defer leave()
	} else {
		ctx.SetHeader("Retry-After", "2")
		s.refuse(ctx, problem.New(http.StatusTooManyRequests, "too many of these are under way for you; wait for one to end"))
		return
	}
	if ctx.Operation().Method == http.MethodGet && !need.long {
		within, cancel := context.WithTimeout(ctx.Context(), askPatience)
		defer cancel()
		ctx = huma.WithContext(ctx, within)
	}
	next(huma.WithValue(ctx, identityKey{}, id))
}

// askPatience is how long central works at most on what somebody asks for.
const askPatience = 15 * time.Second

// seat gives a place for what a caller has under way, where an operation bounds that.
func (s *Server) seat(op *huma.Operation, id identity) (leave func(), ok bool) {
	most := map[string]int{eventsPath: streamsAtOnce, "/v1/changes/{collection}": pagesOfDevice, "/v1/trips": pagesOfDevice}[op.Path]
	if most == 0 {
		return func() {}, true
	}
	who := "person " + id.Name
	if id.Device != nil {
		who = "device " + id.Device.ID.String()
	}
	return s.seats.take(op.Path+" "+who, most)
}

func (s *Server) refuse(ctx huma.Context, err error) {
	var refusal *problem.Problem
	if !errors.As(err, &refusal) {
		refusal = problem.New(http.StatusInternalServerError, err.Error())
	}
	if refusal.Status == http.StatusUnauthorized {
		how := `Bearer realm="homing"`
		if address := ctx.URL(); strings.HasPrefix(address.Path, featuresPath) {
			how = `Basic realm="homing", charset="UTF-8"` // programs for maps ask for name and password then
		}
		ctx.SetHeader("WWW-Authenticate", how)
	}
	refusal.Request = middleware.GetReqID(ctx.Context())
	ctx.SetHeader("Content-Type", wire.Problem)
	ctx.SetStatus(refusal.Status)
	json.NewEncoder(ctx.BodyWriter()).Encode(refusal)
}

func (s *Server) identify(ctx huma.Context, revoked bool) (identity, error) {
	token := ""
	if header := ctx.Header("Authorization"); header != "" {
		scheme, rest, _ := strings.Cut(header, " ")
		if !strings.EqualFold(scheme, "Bearer") || rest == "" {
			return identity{}, problem.New(http.StatusUnauthorized, "the Authorization header must read: Bearer TOKEN")
		}
		token = strings.TrimSpace(rest)
	} else {
		for _, name := range []string{secureCookie, sessionCookie} {
			if cookie, err := huma.ReadCookie(ctx, name); err == nil && token == "" {
				token = cookie.Value
			}
		}
	}
	id, err := s.who(ctx.Context(), token, revoked)
	switch refusal := (*problem.Problem)(nil); {
	case token == "":
	case err == nil, errors.As(err, &refusal) && refusal.Status == http.StatusForbidden: // it is central's, but shut out
		s.known.add(token)
	case errors.As(err, &refusal) && refusal.Status == http.StatusUnauthorized:
		s.known.drop(token)
		s.guesses.fail(callerOf(ctx.Context()).address)
	}
	return id, err
}

// who says whom a token stands for.
func (s *Server) who(ctx context.Context, token string, revoked bool) (identity, error) {
	switch {
	case strings.HasPrefix(token, "dev_"):
		device, err := s.central.DeviceOf(ctx, token, revoked)
		if err != nil {
			return identity{}, s.problem(ctx, err)
		}
		if device.Worker == central.OpenName && !s.options.Open {
			return identity{}, problem.New(http.StatusUnauthorized,
				"this device was enrolled while central was open to everybody; enrol it again with a code")
		}
		return identity{Person: device.People[0], Device: &device, token: token}, nil
	case strings.HasPrefix(token, "ses_"):
		person, err := s.central.PersonOf(ctx, token)
		if err == nil || !s.options.Open {
			return identity{Person: person, token: token}, s.problem(ctx, err)
		}
	case token != "":
		return identity{}, problem.New(http.StatusUnauthorized, "this token is not one of central's")
	}
	if s.options.Open {
		return identity{Person: central.Everything(central.OpenName)}, nil
	}
	return identity{}, problem.New(http.StatusUnauthorized, "sign in first")
}

// fleetOf keeps what a worker may see of the fleet to their own devices; leads and admins see all.
func (id identity) fleetOf() string {
	if id.Role.May(rights.WatchFleet) {
		return ""
	}
	return id.Name
}

var protocols = slices.Clip([]string{wire.Version})
