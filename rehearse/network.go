package rehearse

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"
)

// network carries the requests of one device to central, or not.
type network struct {
	w *world
	d *unit
}

// mostInPage is how many records a page holds, so that there are several.
const mostInPage = 7

var errGone = errors.New("no signal")

// RoundTrip is called by the device's own link. What goes wrong with a request is drawn here.
func (n network) RoundTrip(r *http.Request) (*http.Response, error) {
	n.w.mu.Lock()
	defer n.w.mu.Unlock()
	w := n.w
	w.report.Requests++
	var body []byte
	if r.Body != nil {
		var err error
		if body, err = io.ReadAll(r.Body); err != nil {
			return nil, err
		}
	}
	if n.d.dead {
		return nil, errGone
	}
	if what := n.d.mishap; what != noMishap && n.carries(r, body) {
		n.d.mishap = noMishap
		w.tell("%s: %s %s %s", n.d.name, r.Method, r.URL.Path, what)
		w.delay()
		switch n.d.dead = what == killed; what {
		case twice:
			w.side.answer(n.d, r, body)
		case lost:
			return nil, errGone
		default:
			w.side.answer(n.d, r, body)
			return nil, errGone
		}
	}
	n.d.requests++
	if n.d.killAt > 0 && n.d.requests >= n.d.killAt {
		w.report.Faults++
		n.d.dead, n.d.after = true, w.random.IntN(2) == 0
		if n.d.after {
			w.side.answer(n.d, r, body)
		}
		w.tell("%s is killed at its request %s %s%s", n.d.name, r.Method, r.URL.Path,
			map[bool]string{true: ", which has arrived"}[n.d.after])
		return nil, errGone
	}
	w.delay()
	fault := w.random.IntN(100)
	if w.quiet || w.options.Calm {
		fault = 100
	}
	switch {
	case fault < 6:
		w.fault("%s: %s %s is lost on its way", n.d.name, r.Method, r.URL.Path)
		return nil, errGone
	case fault < 12:
		w.side.answer(n.d, r, body)
		w.fault("%s: the answer to %s %s is lost", n.d.name, r.Method, r.URL.Path)
		return nil, errGone
	case fault < 16:
		w.side.answer(n.d, r, body)
		w.fault("%s: %s %s arrives twice", n.d.name, r.Method, r.URL.Path)
	case fault < 19 && r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "/batches"):
		w.fault("%s: a batch arrives late, after the device has given up", n.d.name)
		w.late = append(w.late, func() { w.side.answer(n.d, r, body) })
		return nil, errGone
	}
	response := w.side.answer(n.d, r, body)
	w.delay()
	return response, nil
}

// mishap is what happens to one request in a situation.
type mishap string

const (
	noMishap   mishap = ""
	lost       mishap = "is lost on its way"
	unanswered mishap = "arrives, and its answer is lost"
	twice      mishap = "arrives twice"
	killed     mishap = "arrives, and the device is killed before the answer"
)

// carries says whether a request is the one that something is to happen to: the next on a path, or without one the next
// that brings changes.
func (n network) carries(r *http.Request, body []byte) bool {
	if n.d.on != "" {
		return strings.HasSuffix(r.URL.Path, n.d.on)
	}
	text, err := plain(r, body)
	return err == nil && bytes.Contains(text, []byte(`"changes":[{`))
}

// delay lets time pass on the way.
func (w *world) delay() {
	w.now = w.now.Add(time.Duration(10+w.random.IntN(1500)) * time.Millisecond)
}
