package web

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"homing/central"
	"homing/wire"
)

// heartbeat is how often a silent stream says that it is alive, so that proxies keep it and dead ones are noticed.
const heartbeat = 15 * time.Second

const eventsPath = "/v1/events"

func (s *Server) registerLive() {
	op := s.operation(http.MethodGet, eventsPath, "events", "Live events: which heads have moved", listeners)
	op.Description = "Server-sent events. The event heads carries an object with the collections whose head has " +
		"moved, and where it is; 0 when the definition changed; devices says that a device did " +
		"something. Listening is an optimisation: what was missed is found by asking."
	op.Responses = map[string]*huma.Response{"200": {Description: "A stream of events",
		Content: map[string]*huma.MediaType{
			"text/event-stream": {Schema: &huma.Schema{Type: huma.TypeString}}}}}
	huma.Register(s.api, op, func(ctx context.Context, _ *nothing) (*huma.StreamResponse, error) {
		return &huma.StreamResponse{Body: func(out huma.Context) { s.stream(out, who(ctx)) }}, nil
	})
}

func (s *Server) stream(ctx huma.Context, id identity) {
	r, w := humachi.Unwrap(ctx)
	out := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	events, end := s.central.Listen()
	defer end()
	s.metrics.listeners.Inc()
	defer s.metrics.listeners.Dec()
	s.listening.Add(1)
	defer s.listening.Add(-1)
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	say := func(format string, args ...any) bool {
		out.SetWriteDeadline(time.Now().Add(heartbeat))
		_, err := fmt.Fprintf(w, format, args...)
		return err == nil && out.Flush() == nil
	}
	if !say("retry: 2000\n: listening\n\n") {
		return
	}
	for {
		alive := true
		select {
		case event := <-events:
			alive = (!event.People || s.still(r.Context(), id)) && say("%s", eventText(event))
		case <-beat.C:
			alive = s.still(r.Context(), id) && say(": alive\n\n")
		case <-r.Context().Done():
			return
		case <-s.closing:
			return
		}
		if !alive {
			return
		}
	}
}

func eventText(event central.Event) (text string) {
	if len(event.Heads) > 0 {
		heads, err := json.Marshal(event.Heads)
		if err == nil {
			text += fmt.Sprintf("event: %s\ndata: %s\n\n", wire.EventHeads, heads)
		}
	}
	if event.Devices {
		text += fmt.Sprintf("event: %s\ndata: {}\n\n", wire.EventDevices)
	}
	return text
}

// still says whether who listens may go on: their sign-in or device may have ended meanwhile.
func (s *Server) still(ctx context.Context, id identity) bool {
	now, err := s.who(ctx, id.token, false)
	return err == nil && now.Name == id.Name
}
