// Package door is the records API of central on a device's own loopback, over its local store: an app in any language
// lists, adds and edits there without signal as it would at central, under the same paths. What only a device has, such
// as what is unsent, has paths of its own.
package door

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"runtime/debug"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/google/uuid"
	"github.com/ncruces/go-sqlite3"

	"homing/device"
	"homing/link"
	"homing/web/loopback"
	"homing/web/problem"
	"homing/wire"
)

// Options say how the door is set.
type Options struct {
	Token   string // whoever has it may come in
	Build   string // version of the program
	Log     *slog.Logger
	Origins []string // of pages that a browser lets in, such as http://localhost:5173; pages of others are kept out
}

// Door answers the requests of apps on this machine. It is safe for use by several goroutines.
type Door struct {
	store   *device.Store
	options Options
	router  chi.Router
	api     huma.API
	seen    seen
	closing chan struct{} // closed when events must end
	once    sync.Once
	erased  chan struct{} // closed when there is no store any more
	gone    sync.Once
	hears   hub
}

// maxBody is how large a request may be, in bytes: some records of the largest size.
const maxBody = 8 << 20

// New makes the door of a store. It does not listen yet; Watch tells its apps of changes.
func New(store *device.Store, o Options) *Door {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	d := &Door{store: store, options: o, closing: make(chan struct{}), erased: make(chan struct{})}
	d.router = chi.NewRouter()
	d.router.Use(d.recoverPanic, d.guard)
	config := huma.DefaultConfig("Homing: the door on a device", o.Build)
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/v1/openapi", "", ""
	config.CreateHooks = nil
	config.AllowAdditionalPropertiesByDefault = true // as at central: what is not known is left alone
	config.Info.Description = "The records of a device's local store, for apps on the same machine: nothing here needs signal but exchanges. Paths, answers and errors are " +
		"those of central's API, where it has the same. What is saved here is applied on the device at once, waits in its outbox, and is judged by central with the next exchange: an answer is " +
		"always applied, and pending counts the changes of a record that central has not accepted. History is what has travelled through this device. No record is shown that its worker may not see."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer", Description: "The door's token."}}
	d.api = humachi.New(d.router, config)
	d.register()
	d.router.NotFound(func(w http.ResponseWriter, r *http.Request) {
		problem.Write(w, r, http.StatusNotFound, "there is nothing under "+r.URL.Path+"; the door is described at /v1/openapi.json")
	})
	d.router.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		problem.Write(w, r, http.StatusMethodNotAllowed, r.Method+" is not possible here; the door is described at /v1/openapi.json")
	})
	return d
}

// Description is the OpenAPI 3.1 description of the door, as JSON.
func Description(build string) ([]byte, error) {
	return New(nil, Options{Build: build}).api.OpenAPI().MarshalJSON()
}

// ServeHTTP answers one request.
func (d *Door) ServeHTTP(w http.ResponseWriter, r *http.Request) { d.router.ServeHTTP(w, r) }

// StopListeners ends all streams of events, so that a graceful shutdown need not wait for them.
func (d *Door) StopListeners() { d.once.Do(func() { close(d.closing) }) }

// Erased is closed when an exchange has erased the store, since central asked for it. There is nothing to serve then.
func (d *Door) Erased() <-chan struct{} { return d.erased }

// guard lets in who has the token and comes under a name of this machine, from no page but those that are let in.
func (d *Door) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		origin := r.Header.Get("Origin")
		if !loopback.Name(r.Host) {
			problem.Write(w, r, http.StatusForbidden, "the door answers under the names of its own machine alone, such as 127.0.0.1")
			return
		}
		if origin != "" {
			w.Header().Add("Vary", "Origin")
			if !d.letsIn(origin) {
				problem.Write(w, r, http.StatusForbidden, "pages from "+origin+" are not let in; whoever opens the door lets them in with --allow-origin")
				return
			}
			w.Header().Set("Access-Control-Allow-Origin", origin)
			if r.Method == http.MethodOptions && r.Header.Get("Access-Control-Request-Method") != "" {
				w.Header().Set("Access-Control-Allow-Methods", "GET, POST, PUT, PATCH, DELETE")
				w.Header().Set("Access-Control-Allow-Headers", "Authorization, Content-Type, Idempotency-Key, "+wire.HeaderVersion)
				w.Header().Set("Access-Control-Max-Age", "600")
				w.WriteHeader(http.StatusNoContent)
				return
			}
		}
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		got, want := sha256.Sum256([]byte(token)), sha256.Sum256([]byte(d.options.Token))
		if d.options.Token == "" || subtle.ConstantTimeCompare(got[:], want[:]) != 1 {
			w.Header().Set("WWW-Authenticate", "Bearer")
			problem.Write(w, r, http.StatusUnauthorized, "this is not the door's token; it stands in the file that homing local serve names")
			return
		}
		if speaks := r.Header.Get(wire.HeaderVersion); speaks != "" && speaks != wire.Version {
			problem.Write(w, r, http.StatusBadRequest, "the door speaks protocol "+wire.Version+", not "+speaks)
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (d *Door) letsIn(origin string) bool {
	for _, one := range d.options.Origins {
		if strings.EqualFold(one, origin) {
			return true
		}
	}
	return false
}

// recoverPanic turns a fault of the program into a plain answer, and logs where it was.
func (d *Door) recoverPanic(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			cause := recover()
			if cause == nil {
				return
			}
			if cause == http.ErrAbortHandler {
				panic(cause)
			}
			d.options.Log.ErrorContext(r.Context(), "fault", "path", r.URL.Path, "cause", cause, "stack", string(debug.Stack()))
			problem.Write(w, r, http.StatusInternalServerError, "the door failed to do this; what was saved before is safe, and its log says more")
		}()
		next.ServeHTTP(w, r)
	})
}

// operation describes one operation of the door.
func operation(method, path, id, summary string) huma.Operation {
	op := huma.Operation{Method: method, Path: path, OperationID: id, Summary: summary, MaxBodyBytes: maxBody, Security: []map[string][]string{{"token": {}}},
		Errors: []int{http.StatusBadRequest, http.StatusUnauthorized, http.StatusForbidden}}
	if strings.Contains(path, "{") {
		op.Errors = append(op.Errors, http.StatusNotFound)
	}
	if method != http.MethodGet {
		op.Errors = append(op.Errors, http.StatusConflict, http.StatusUnprocessableEntity, http.StatusInsufficientStorage)
	}
	return op
}

// add registers an operation whose errors are the device's.
func add[I, O any](d *Door, op huma.Operation, handle func(context.Context, *I) (*O, error)) {
	huma.Register(d.api, op, func(ctx context.Context, in *I) (*O, error) {
		out, err := handle(ctx, in)
		if err != nil {
			return nil, d.explain(ctx, err)
		}
		return out, nil
	})
}

type answer[T any] struct{ Body T }

type nothing struct{}

// statuses are those of the errors that apps act on, the first that fits.
var statuses = []struct {
	err    error
	status int
}{
	{device.ErrNoDispute, http.StatusConflict}, // before the one that it is a kind of
	{device.ErrNoCollection, http.StatusNotFound}, {device.ErrNoRecord, http.StatusNotFound}, {device.ErrNoChange, http.StatusNotFound},
	{device.ErrNotAllowed, http.StatusForbidden}, {device.ErrRevoked, http.StatusForbidden},
	{device.ErrSignedOut, http.StatusUnauthorized}, {device.ErrSecret, http.StatusUnauthorized}, {device.ErrNobody, http.StatusUnauthorized},
	{device.ErrSlowDown, http.StatusTooManyRequests}, {device.ErrTaken, http.StatusConflict}, {device.ErrHasChildren, http.StatusConflict},
	{device.ErrNotEnrolled, http.StatusConflict}, {device.ErrTooOld, http.StatusConflict}, {device.ErrBusy, http.StatusConflict},
	{device.ErrGeneration, http.StatusConflict}, {device.ErrClock, http.StatusConflict}, {device.ErrErased, http.StatusConflict},
	{device.ErrGroupSize, http.StatusUnprocessableEntity}, {device.ErrFull, http.StatusInsufficientStorage},
	{link.ErrUnreachable, http.StatusServiceUnavailable},
}

// explain translates an error of the device's.
func (d *Door) explain(ctx context.Context, err error) error {
	if ready := (*problem.Problem)(nil); errors.As(err, &ready) {
		return err
	}
	var invalid *device.InvalidError
	if errors.As(err, &invalid) {
		p := problem.New(http.StatusUnprocessableEntity, invalid.Error())
		p.Reasons = invalid.Reasons
		return p
	}
	var central *link.Problem
	if errors.As(err, &central) { // what central said of an exchange, in its words
		p := problem.New(http.StatusConflict, "central: "+central.Detail)
		p.Type, p.Reasons = central.Type, central.Reasons
		return p
	}
	for _, one := range statuses {
		if errors.Is(err, one.err) {
			p := problem.New(one.status, err.Error())
			if one.status == http.StatusServiceUnavailable || one.status == http.StatusTooManyRequests {
				return huma.ErrorWithHeaders(p, http.Header{"Retry-After": {"30"}})
			}
			return p
		}
	}
	if ctx.Err() != nil {
		return problem.New(http.StatusServiceUnavailable, "the request was broken off; send it again")
	}
	var file *sqlite3.Error
	if !errors.Is(err, device.ErrDamaged) && !errors.As(err, &file) {
		return problem.New(http.StatusConflict, err.Error()) // what the device says no to, in its words
	}
	d.options.Log.ErrorContext(ctx, "request failed", "error", err)
	return problem.New(http.StatusInternalServerError, "the store failed to do this; the door's log says more")
}

// seen keeps records as they were handed out, so that an edit that names a base is held against what its author saw. It
// is safe for use by several goroutines.
type seen struct {
	mu    sync.Mutex
	known map[seenAt]device.Record
	order []seenAt
}

type seenAt struct {
	id       uuid.UUID
	revision int64
}

// mostSeen is how many are kept; whoever has had one open for longer is told to look again.
const mostSeen = 20_000

func (s *seen) note(records ...device.Record) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known = map[seenAt]device.Record{}
	}
	for _, r := range records {
		at := seenAt{r.ID, r.Revision}
		if _, twice := s.known[at]; !twice {
			s.order = append(s.order, at)
		}
		s.known[at] = r
	}
	for ; len(s.order) > mostSeen; s.order = s.order[1:] {
		delete(s.known, s.order[0])
	}
}

func (s *seen) of(id uuid.UUID, revision int64) (device.Record, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r, known := s.known[seenAt{id, revision}]
	return r, known
}

// fieldsOf are values as an app sends them.
func fieldsOf(values map[string]json.RawMessage) device.Fields {
	fields := device.Fields{}
	for name, value := range values {
		fields[name] = value
	}
	return fields
}
