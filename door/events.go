package door

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"homing/wire"
)

// hub passes events on to those who listen. It is safe for use by several goroutines; the zero value is ready.
type hub struct {
	mu        sync.Mutex
	listeners map[chan string]bool
}

// tell gives an event to all. Who does not keep up is told to read anew in its place.
func (h *hub) tell(event string, data any) {
	text, err := json.Marshal(data)
	if err != nil {
		return // of a kind that cannot be
	}
	line := fmt.Sprintf("event: %s\ndata: %s\n\n", event, text)
	h.mu.Lock()
	defer h.mu.Unlock()
	for listener := range h.listeners {
		select {
		case listener <- line:
		default:
			for range len(listener) {
				select {
				case <-listener:
				default:
				}
			}
			select {
			case listener <- "event: changed\ndata: {\"missed\":true}\n\n":
			default:
			}
		}
	}
}

func (h *hub) listen() (heard chan string, stop func()) {
	heard = make(chan string, 256)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.listeners == nil {
		h.listeners = map[chan string]bool{}
	}
	h.listeners[heard] = true
	return heard, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.listeners, heard)
	}
}

// Watch tells those who listen what changes in the store, until the context is done.
func (d *Door) Watch(ctx context.Context) {
	changes, stop := d.store.Listen()
	defer stop()
	for {
		select {
		case <-ctx.Done():
			return
		case told, more := <-changes:
			if !more {
				return
			}
			d.hears.tell("changed", told)
			if told.Collection != "" {
				d.hears.tell(wire.EventHeads, map[string]int64{told.Collection: d.head(ctx, told.Collection)})
			}
		}
	}
}

// head is how far a collection is pulled.
func (d *Door) head(ctx context.Context, collection string) int64 {
	all, err := d.store.Collections(ctx)
	if err != nil {
		return 0
	}
	for _, one := range all {
		if one.Name == collection {
			return one.Cursor
		}
	}
	return 0
}

func (d *Door) registerEvents() {
	op := operation(http.MethodGet, "/v1/events", "events", "Live events: what has changed on this device")
	op.Description = "Server-sent events. The event changed names a record that is shown otherwise since, by collection and id; removed says that it is gone, central that an exchange brought it, and " +
		"missed that the listener should read anew all that it shows. heads says as at central that a collection has changed, with how far it is pulled. progress tells of an exchange that runs: phase, collection, done and total."
	op.Responses = map[string]*huma.Response{"200": {Description: "A stream of events",
		Content: map[string]*huma.MediaType{"text/event-stream": {Schema: &huma.Schema{Type: huma.TypeString}}}}}
	huma.Register(d.api, op, func(ctx context.Context, _ *nothing) (*huma.StreamResponse, error) {
		return &huma.StreamResponse{Body: d.stream}, nil
	})
}

func (d *Door) stream(ctx huma.Context) {
	r, w := humachi.Unwrap(ctx)
	out := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	heard, stop := d.hears.listen()
	defer stop()
	beat := time.NewTicker(patience)
	defer beat.Stop()
	say := func(text string) bool {
		out.SetWriteDeadline(time.Now().Add(patience))
		_, err := fmt.Fprint(w, text)
		return err == nil && out.Flush() == nil
	}
	for alive := say("retry: 2000\n: listening\n\n"); alive; {
		select {
		case text := <-heard:
			alive = say(text)
		case <-beat.C:
			alive = say(": alive\n\n")
		case <-r.Context().Done():
			return
		case <-d.closing:
			return
		}
	}
}
