package web

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"

	"homing/central/fault"
	"homing/web/problem"
	"homing/wire"
)

var statusOf = map[fault.Kind]int{
	fault.NotFound:        http.StatusNotFound,
	fault.NotAllowed:      http.StatusForbidden,
	fault.Unauthenticated: http.StatusUnauthorized,
	fault.Revoked:         http.StatusForbidden,
	fault.Invalid:         http.StatusUnprocessableEntity,
	fault.Clash:           http.StatusConflict,
	fault.TooLarge:        http.StatusRequestEntityTooLarge,
	fault.StorageFull:     http.StatusInsufficientStorage,
	fault.Unavailable:     http.StatusServiceUnavailable,
	fault.Coverage:        http.StatusConflict,
	fault.Moved:           http.StatusConflict,
}

const retrySeconds = "5"

// problem translates an error of central's. What nobody outside can do anything about is logged, and answered with
// nothing but the request's id.
func (s *Server) problem(ctx context.Context, err error) error {
	if err == nil {
		return nil
	}
	if ready := (*problem.Problem)(nil); errors.As(err, &ready) {
		return err
	}
	id := middleware.GetReqID(ctx)
	known := fault.Explain(err)
	if known == nil {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return problem.New(http.StatusUnprocessableEntity, fmt.Sprintf("this takes more than %s, and was broken off; ask for less "+
				"at once", askPatience))
		}
		if ctx.Err() != nil {
			return problem.New(http.StatusServiceUnavailable, "the request was broken off; send it again")
		}
		s.log.ErrorContext(ctx, "request failed", "request", id, "error", err)
		p := problem.New(http.StatusInternalServerError, "central failed to do this; its log says more under the request's id")
		p.Request = id
		return p
	}
	if known.Kind == fault.Unavailable && s.options.Full != nil && s.options.Full() {
		known = fault.Full() // what the database could not say any more
	}
	p := problem.New(statusOf[known.Kind], known.Message)
	p.Type, p.Request, p.Reasons = wire.ProblemPrefix+string(known.Kind), id, known.Reasons
	if known.Kind == fault.Unavailable || known.Kind == fault.StorageFull {
		return huma.ErrorWithHeaders(p, http.Header{"Retry-After": {retrySeconds}})
	}
	return p
}
