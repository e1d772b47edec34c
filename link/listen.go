package link

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// Event is one of central's live events.
type Event struct {
	Name string
	Data string
}

// Events is a stream of live events that is being listened to (server-sent events, as in the HTML standard).
type Events struct {
	C      <-chan Event // closed when the stream ends
	cancel context.CancelFunc
	err    error // not read before C is closed
}

// silence is how long nothing may come, heartbeats included, before the stream counts as dead.
const silence = 45 * time.Second

// Listen listens to a stream of events until it is closed, it ends, or nothing comes for too long.
func (l *Link) Listen(ctx context.Context, path string) (*Events, error) {
	ctx, cancel := context.WithCancel(ctx)
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, l.base+path, nil)
	if err != nil {
		cancel()
		return nil, err
	}
	request.Header.Set("Accept", "text/event-stream")
	request.Header.Set("User-Agent", l.agent)
	if l.token != "" {
		request.Header.Set("Authorization", "Bearer "+l.token)
	}
	patient := &http.Client{Transport: l.http.Transport, CheckRedirect: sameOrigin} // a stream has no end to wait for
	response, err := patient.Do(request)
	if err != nil {
		cancel()
		return nil, fmt.Errorf("%w at %s: %v", ErrUnreachable, l.base, plain(err))
	}
	if response.StatusCode != http.StatusOK {
		defer cancel()
		defer response.Body.Close()
		text, err := io.ReadAll(io.LimitReader(response.Body, 64<<10))
		if err != nil {
			return nil, fmt.Errorf("%w: %v", ErrUnreachable, err)
		}
		return nil, problemOf(response, text)
	}
	out := make(chan Event)
	events := &Events{C: out, cancel: cancel}
	go func() {
		defer close(out)
		defer response.Body.Close()
		dead := time.AfterFunc(silence, cancel)
		defer dead.Stop()
		events.err = readEvents(ctx, response.Body, func() { dead.Reset(silence) }, out)
	}()
	return events, nil
}

func readEvents(ctx context.Context, from io.Reader, alive func(), out chan<- Event) error {
	lines := bufio.NewScanner(from)
	lines.Buffer(nil, 1<<20)
	var event Event
	for lines.Scan() {
		alive()
		line := lines.Text()
		name, value, _ := strings.Cut(line, ":")
		value = strings.TrimPrefix(value, " ")
		switch {
		case line == "" && event != (Event{}):
			select {
			case out <- event:
			case <-ctx.Done():
				return fmt.Errorf("%w: nothing was heard any more", ErrUnreachable)
			}
			event = Event{}
		case name == "event":
			event.Name = value
		case name == "data":
			event.Data += value
		}
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("%w: %v", ErrUnreachable, plain(err))
	}
	return nil
}

// Err says why the stream ended, once C is closed; nil when central ended it in order.
func (e *Events) Err() error { return e.err }

// Close stops listening.
func (e *Events) Close() {
	e.cancel()
	for range e.C {
	}
}
