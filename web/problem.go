package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"

	"homing/central/fault"
	"homing/core/change"
	"homing/wire"
)

// Problem is an RFC 9457 problem detail as huma sends it. All errors of the API have this form.
type Problem struct{ wire.ProblemDetails }

// Error is the detail.
func (p *Problem) Error() string { return p.Detail }

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType makes problems travel under their own media type.
func (p *Problem) ContentType(string) string { return wire.Problem }

var problemTypes = map[int]string{
	http.StatusBadRequest:            "malformed",
	http.StatusUnauthorized:          string(fault.Unauthenticated),
	http.StatusForbidden:             string(fault.NotAllowed),
	http.StatusNotFound:              string(fault.NotFound),
	http.StatusMethodNotAllowed:      "method-not-allowed",
	http.StatusConflict:              string(fault.Clash),
	http.StatusRequestEntityTooLarge: string(fault.TooLarge),
	http.StatusUnsupportedMediaType:  "unsupported-media-type",
	http.StatusUnprocessableEntity:   string(fault.Invalid),
	http.StatusTooManyRequests:       "too-many-requests",
	http.StatusServiceUnavailable:    string(fault.Unavailable),
	http.StatusInsufficientStorage:   string(fault.StorageFull),
}

func newProblem(status int, detail string) *Problem {
	kind := problemTypes[status]
	if kind == "" {
		kind = "internal"
	}
	return &Problem{wire.ProblemDetails{Type: wire.ProblemPrefix + kind, Title: http.StatusText(status), Status: status,
		Detail: detail}}
}

func init() {
	// huma makes its own errors, such as those of validation, through these two.
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		if status == http.StatusInternalServerError && message == unreadBody {
			status = http.StatusBadRequest // it was cut, or is not compressed as it says
		}
		p := newProblem(status, message)
		for _, err := range errs {
			var detailed huma.ErrorDetailer
			if errors.As(err, &detailed) {
				detail := detailed.ErrorDetail()
				p.Reasons = append(p.Reasons, change.Reason{Field: detail.Location, Code: change.CodeMalformed,
					Message: detail.Message})
			} else if err != nil {
				p.Reasons = append(p.Reasons, change.Reason{Code: change.CodeMalformed, Message: err.Error()})
			}
		}
		if len(p.Reasons) > 0 {
			p.Detail += ": " + p.Reasons[0].Message
			if p.Reasons[0].Field != "" {
				p.Detail += " (" + p.Reasons[0].Field + ")"
			}
		}
		return p
	}
	huma.NewErrorWithContext = func(ctx huma.Context, status int, message string, errs ...error) huma.StatusError {
		err := huma.NewError(status, message, errs...)
		if p, ours := err.(*Problem); ours && ctx != nil {
			p.Request = middleware.GetReqID(ctx.Context())
		}
		return err
	}
}

// unreadBody is what huma says of a body that cannot be read to its end.
const unreadBody = "cannot read request body"

// writeProblem answers outside of the API's operations.
func writeProblem(w http.ResponseWriter, r *http.Request, status int, detail string) {
	p := newProblem(status, detail)
	p.Request = middleware.GetReqID(r.Context())
	w.Header().Set("Content-Type", wire.Problem)
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(p)
}

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
	if ready := (*Problem)(nil); errors.As(err, &ready) {
		return err
	}
	id := middleware.GetReqID(ctx)
	known := fault.Explain(err)
	if known == nil {
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return newProblem(http.StatusUnprocessableEntity, fmt.Sprintf("this takes more than %s, and was broken off; ask for less "+
				"at once", askPatience))
		}
		if ctx.Err() != nil {
			return newProblem(http.StatusServiceUnavailable, "the request was broken off; send it again")
		}
		s.log.ErrorContext(ctx, "request failed", "request", id, "error", err)
		p := newProblem(http.StatusInternalServerError, "central failed to do this; its log says more under the request's id")
		p.Request = id
		return p
	}
	if known.Kind == fault.Unavailable && s.options.Full != nil && s.options.Full() {
		known = fault.Full() // what the database could not say any more
	}
	p := newProblem(statusOf[known.Kind], known.Message)
	p.Type, p.Request, p.Reasons = wire.ProblemPrefix+string(known.Kind), id, known.Reasons
	if known.Kind == fault.Unavailable || known.Kind == fault.StorageFull {
		return huma.ErrorWithHeaders(p, http.Header{"Retry-After": {retrySeconds}})
	}
	return p
}
