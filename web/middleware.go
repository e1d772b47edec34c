package web

import (
	"fmt"
	"net/http"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"golang.org/x/time/rate"

	"homing/web/problem"
	"homing/wire"
)

// headerRequest carries the id of a request, which the log has, too.
const headerRequest = "Homing-Request"

// observe logs and measures each request.
func (s *Server) observe(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := middleware.GetReqID(r.Context())
		w.Header().Set(headerRequest, id)
		wrapped := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		start := time.Now()
		defer func() {
			took := time.Since(start)
			route := chi.RouteContext(r.Context()).RoutePattern()
			if route == "" || route == "/*" {
				route = "other"
			}
			s.metrics.requests.WithLabelValues(methodLabel(r.Method), route, fmt.Sprint(wrapped.Status())).Observe(took.Seconds())
			s.log.InfoContext(r.Context(), "request", "request", id, "method", r.Method, "path", r.URL.Path, "status",
				wrapped.Status(),
				"bytes", wrapped.BytesWritten(), "ms", took.Milliseconds(), "from", callerOf(r.Context()).address)
		}()
		next.ServeHTTP(wrapped, r)
	})
}

// recoverPanic turns a fault of the program into a plain answer, and logs where it was.
func (s *Server) recoverPanic(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			cause := recover()
			if cause == nil {
				return
			}
			if cause == http.ErrAbortHandler {
				panic(cause)
			}
			s.log.ErrorContext(r.Context(), "fault", "request", middleware.GetReqID(r.Context()), "cause", cause, "stack",
				string(debug.Stack()))
			problem.Write(w, r, http.StatusInternalServerError, "central failed to do this; its log says more under the "+
				"request's id")
		}()
		next.ServeHTTP(w, r)
	})
}

func securityHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		if callerOf(r.Context()).secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set("X-Content-Type-Options", "nosniff")
		if strings.HasPrefix(r.URL.Path, "/v"+wire.Version+"/") {
			// It is no page, and each byte of an answer to a device goes over a slow link.
			h.Set("Cache-Control", "no-store")
			next.ServeHTTP(w, r)
			return
		}
		h.Set("Referrer-Policy", "same-origin")
		// The component library writes style elements while the page runs; scripts come from files only.
		policy := "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'"
		if strings.HasPrefix(r.URL.Path, fieldPath) {
			policy += "; script-src 'self' 'wasm-unsafe-eval'" // its store is SQLite in WebAssembly
		}
		h.Set("Content-Security-Policy", policy)
		next.ServeHTTP(w, r)
	})
}

// Bounds on what one caller has under way at once, whatever the rate.
const (
	requestsAtOnce = 64 // of a caller, live events aside
	pagesOfDevice  = 4  // loads and pulls of one device
	streamsAtOnce  = 20 // of one person's
)

// limitRate holds back callers that ask too often, or too much at once: each token for itself, and each address for
// what comes without one. A token that is not known counts as none.
func (s *Server) limitRate(next http.Handler) http.Handler {
	general := newLimits(rate.Limit(s.options.RatePerSecond), s.options.RateBurst)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		address, token := callerOf(r.Context()).address, tokenOf(r)
		who := address
		switch known := s.known.has(token); {
		case known:
			who = token
		case token != "" && s.guesses.spent(address):
			tooMany(w, r, "too many tokens from your address that are not central's; wait a moment and send this one again")
			return
		}
		if s.options.RatePerSecond > 0 && !general.allow(who) {
			tooMany(w, r, "too many requests at once; wait a moment and send this one again")
			return
		}
		if r.URL.Path != eventsPath {
			leave, ok := s.seats.take("request "+who, requestsAtOnce)
			if !ok {
				tooMany(w, r, "too many of your requests are under way; wait for some of them and send this one again")
				return
			}
			defer leave()
		}
		next.ServeHTTP(w, r)
	})
}

func tooMany(w http.ResponseWriter, r *http.Request, detail string) {
	w.Header().Set("Retry-After", "2")
	problem.Write(w, r, http.StatusTooManyRequests, detail)
}

// tokenOf is the token that a request brings, in its header or as a cookie.
func tokenOf(r *http.Request) string {
	if header := r.Header.Get("Authorization"); header != "" {
		_, token, _ := strings.Cut(header, " ")
		return strings.TrimSpace(token)
	}
	for _, name := range []string{secureCookie, sessionCookie} {
		if cookie, err := r.Cookie(name); err == nil {
			return cookie.Value
		}
	}
	return ""
}

// limits are rate limits by caller. Callers that have been silent long enough to have all their burst again are
// forgotten.
type limits struct {
	rate  rate.Limit
	burst int

	mu      sync.Mutex
	callers map[string]*rate.Limiter // guarded by mu
}

const rememberCallers = 10000

func newLimits(r rate.Limit, burst int) *limits {
	return &limits{rate: r, burst: burst, callers: map[string]*rate.Limiter{}}
}

func (l *limits) allow(caller string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.callers) > rememberCallers {
		for name, limiter := range l.callers {
			if limiter.Tokens() >= float64(l.burst) {
				delete(l.callers, name)
			}
		}
	}
	limiter := l.callers[caller]
	if limiter == nil {
		limiter = rate.NewLimiter(l.rate, l.burst)
		l.callers[caller] = limiter
	}
	return limiter.Allow()
}
