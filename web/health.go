package web

import (
	"context"
	"log/slog"
	"net/http"
	"runtime"
	"slices"
	"sync"
	"time"

	"homing/central"
)

// Trouble is a warning or an error of central's log.
type Trouble struct {
	At      time.Time `json:"at"`
	Level   string    `json:"level" enum:"WARN,ERROR"`
	Message string    `json:"message"`
	Detail  string    `json:"detail,omitempty"`
}

// troubles are the latest warnings and errors that this instance logged about requests.
type troubles struct {
	mu     sync.Mutex
	latest []Trouble // guarded by mu; the oldest first
}

const keptTroubles = 100

func (t *troubles) note(one Trouble) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.latest = append(t.latest, one); len(t.latest) > keptTroubles {
		t.latest = slices.Delete(t.latest, 0, len(t.latest)-keptTroubles)
	}
}

func (t *troubles) all() []Trouble {
	t.mu.Lock()
	defer t.mu.Unlock()
	all := slices.Clone(t.latest)
	slices.Reverse(all)
	return all
}

// watched is a handler that also remembers warnings and errors.
type watched struct {
	slog.Handler
	seen *troubles
}

// Handle is that of slog.Handler.
func (w watched) Handle(ctx context.Context, r slog.Record) error {
	if r.Level >= slog.LevelWarn {
		one := Trouble{At: r.Time.UTC(), Level: r.Level.String(), Message: r.Message}
		r.Attrs(func(a slog.Attr) bool {
			if len(one.Detail) < 500 {
				one.Detail += a.Key + "=" + a.Value.String() + " "
			}
			return true
		})
		w.seen.note(one)
	}
	return w.Handler.Handle(ctx, r)
}

// WithAttrs is that of slog.Handler.
func (w watched) WithAttrs(attrs []slog.Attr) slog.Handler {
	return watched{w.Handler.WithAttrs(attrs), w.seen}
}

// WithGroup is that of slog.Handler.
func (w watched) WithGroup(name string) slog.Handler {
	return watched{w.Handler.WithGroup(name), w.seen}
}

func (s *Server) registerHealth() {
	type healthOut struct {
		central.Health
		Build     string    `json:"build"`
		StartedAt time.Time `json:"started_at"`
		Now       time.Time `json:"now" doc:"Central's clock."`
		Memory    uint64    `json:"memory" doc:"Bytes that this instance holds."`
		Listeners int64     `json:"listeners" doc:"Streams of live events that are open at this instance."`
		Troubles  []Trouble `json:"troubles" doc:"The latest warnings and errors of this instance, the latest first."`
	}
	started := time.Now().UTC()
	add(s, s.operation(http.MethodGet, "/v1/health", "health", "How central itself is: database, versions, what went wrong lately", workerAdmins),
		func(ctx context.Context, _ *nothing) (*answer[healthOut], error) {
			health, err := s.central.Health(ctx)
			var memory runtime.MemStats
			runtime.ReadMemStats(&memory)
			return &answer[healthOut]{healthOut{Health: health, Build: s.options.Build, StartedAt: started, Now: time.Now().UTC(),
				Memory: memory.Sys, Listeners: s.listening.Load(), Troubles: s.troubles.all()}}, err
		})
}
