// Package problem is how errors travel over HTTP: as RFC 9457 problem details, those that huma makes among them.
package problem

import (
	"encoding/json"
	"errors"
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

// New makes a problem.
func New(status int, detail string) *Problem {
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
		p := New(status, message)
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

// Write answers outside of the API's operations.
func Write(w http.ResponseWriter, r *http.Request, status int, detail string) {
	p := New(status, detail)
	p.Request = middleware.GetReqID(r.Context())
	w.Header().Set("Content-Type", wire.Problem)
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(p)
}
