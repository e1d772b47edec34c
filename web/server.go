// Package web is central's door: the protocol and the records API over HTTP, sign-in, live events, and the console's
// files. What may be done and what becomes of it is decided in package central; here it is only translated.
package web

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"golang.org/x/sync/semaphore"

	"homing/central"
	"homing/core/definition"
	"homing/web/problem"
	"homing/wire"
)

// Options say how the door is set.
type Options struct {
	Open          bool   // nobody needs to sign in
	Build         string // version of the program
	Console       fs.FS  // the console's built files; nil leaves the console out
	Field         fs.FS  // the field app's built files; nil leaves it out
	Log           *slog.Logger
	RatePerSecond float64 // requests of one caller; 0 means no limit
	RateBurst     int
	MaxBodyBytes  int64          // of one request, after decompression; 0 means wire.MaxBatchBytes
	MaxChanges    int            // in one batch; 0 means wire.MaxBatchChanges
	Behind        []netip.Prefix // proxies whose word on where a request comes from is taken
	Origins       []string       // of pages elsewhere that may use the API, as ParseOrigins gives them
	MetricsToken  string         // who has it gets the metrics; empty lets this machine alone have them
	// Warnings are told to admins on every page, such as that the door stands open to others on the way.
	Warnings []string
	// Full says whether the database's disk has no room left, for a database that has failed without saying so; nil
	// says no.
	Full func() bool
	// Rehearse lets a simulated fleet work with definitions; nil where that is not to be had.
	Rehearse func(ctx context.Context, definitions []definition.Definition, seed uint64, calm bool) (Rehearsal, error)
}

// Server answers central's HTTP requests.
type Server struct {
	central *central.Central
	options Options
	log     *slog.Logger
	router  chi.Router
	api     huma.API
	metrics *metrics
	pages   chan struct{}       // holds one for each page that is being made
	onWay   *semaphore.Weighted // for pages that are made or being written
	known   knownTokens
	behind  signedInBy
	guesses *tries // by address: tokens that are not central's
	signIns *tries // by address: passwords and codes
	names   *tries // by worker: passwords
	seats   *seats
	closing chan struct{} // closed when live events must end

	troubles  *troubles
	listening atomic.Int64 // streams of live events
	once      sync.Once
}

// New builds the server. It does not listen yet.
func New(c *central.Central, options Options) *Server {
	if options.Log == nil {
		options.Log = slog.New(slog.DiscardHandler)
	}
	if options.MaxBodyBytes == 0 {
		options.MaxBodyBytes = wire.MaxBatchBytes
	}
	if options.MaxChanges == 0 {
		options.MaxChanges = wire.MaxBatchChanges
	}
	seen := &troubles{}
	s := &Server{central: c, options: options, log: slog.New(watched{options.Log.Handler(), seen}), troubles: seen, metrics: newMetrics(),
		pages: make(chan struct{}, pagesAtOnce), onWay: semaphore.NewWeighted(pagesOnWay), closing: make(chan struct{})}
	if c != nil {
		s.metrics.registry.MustRegister(newFeedMetrics(c.FeedList))
	}
	s.guesses, s.signIns = newTries(60, time.Second, time.Now), newTries(20, time.Second, time.Now)
	s.names, s.seats = newTries(10, 10*time.Second, time.Now), newSeats()
	s.router = chi.NewRouter()
	s.router.Use(s.meet, s.observe, s.recoverPanic, securityHeaders, s.onlyLoopbackNames, s.limitRate,
		s.passwords, s.fromElsewhere,
		compressAnswers(), s.decompressBody)
	s.router.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("alive\n")) })
	s.router.Get("/readyz", s.ready)
	s.router.Handle("/metrics", s.serveMetrics(promhttp.HandlerFor(s.metrics.registry, promhttp.HandlerOpts{})))
	config := apiConfig(options.Build)
	config.Formats = map[string]huma.Format{wire.JSON: s.format(), "json": s.format()}
	s.api = humachi.New(s.router, config)
	s.register()
	describe(s.api.OpenAPI())
	s.router.NotFound(s.notFound)
	s.router.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		problem.Write(w, r, http.StatusMethodNotAllowed, r.Method+" is not possible here; "+describedAt)
	})
	return s
}

const describedAt = "the API is described at /v1/openapi.json"

func apiConfig(build string) huma.Config {
	config := huma.DefaultConfig("Homing", build)
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/v1/openapi", "", ""
	config.CreateHooks = nil                         // answers carry no links to schemas
	config.AllowAdditionalPropertiesByDefault = true // readers ignore keys that they do not know
	config.Info.Description = "The protocol between devices and central, and direct access to the records. Errors " +
		"are RFC 9457 problem details."
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":    {Type: "http", Scheme: "bearer", Description: "A device's token or a session's."},
		"password": {Type: "http", Scheme: "basic", Description: "Name and password, for programs for maps."},
		"session":  {Type: "apiKey", In: "cookie", Name: sessionCookie, Description: "A session, as the console holds it."},
	}
	return config
}

// Description is the OpenAPI 3.1 description of the API, as JSON.
func Description(build string) ([]byte, error) {
	return New(nil, Options{Build: build}).api.OpenAPI().MarshalJSON()
}

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.router.ServeHTTP(w, r) }

// StopListeners ends all live events, so that a graceful shutdown need not wait for them. Everything else goes on.
func (s *Server) StopListeners() { s.once.Do(func() { close(s.closing) }) }

func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := s.central.Ready(ctx); err != nil {
		problem.Write(w, r, http.StatusServiceUnavailable, "the database does not answer")
		return
	}
	w.Write([]byte("ready\n"))
}
