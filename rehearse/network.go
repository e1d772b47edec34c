package rehearse

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/klauspost/compress/zstd"

	"homing/central"
	"homing/wire"
)

// network carries the requests of one device to central, or not.
type network struct {
	w *world
	d *unit
}

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
	n.d.requests++
	if n.d.killAt > 0 && n.d.requests >= n.d.killAt {
		w.report.Faults++
		n.d.dead, n.d.after = true, w.random.IntN(2) == 0
		if n.d.after {
			w.front(n.d, r, body)
		}
		w.tell("%s is killed at its request %s %s%s", n.d.name, r.Method, r.URL.Path, map[bool]string{true: ", which has arrived"}[n.d.after])
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
		w.front(n.d, r, body)
		w.fault("%s: the answer to %s %s is lost", n.d.name, r.Method, r.URL.Path)
		return nil, errGone
	case fault < 16:
		w.front(n.d, r, body)
		w.fault("%s: %s %s arrives twice", n.d.name, r.Method, r.URL.Path)
	case fault < 19 && r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "/batches"):
		w.fault("%s: a batch arrives late, after the device has given up", n.d.name)
		w.late = append(w.late, func() { w.front(n.d, r, body) })
		return nil, errGone
	}
	status, answer := w.front(n.d, r, body)
	w.delay()
	response := &http.Response{StatusCode: status, Status: http.StatusText(status), Header: http.Header{}, Request: r, Body: io.NopCloser(bytes.NewReader(answer))}
	return response, nil
}

// delay lets time pass on the way.
func (w *world) delay() {
	w.now = w.now.Add(time.Duration(10+w.random.IntN(1500)) * time.Millisecond)
}

var unzstd, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1)) // fails only for bad options

// front is the HTTP face of a central in memory.
func (w *world) front(d *unit, r *http.Request, body []byte) (int, []byte) {
	if r.Header.Get("Content-Encoding") == "zstd" {
		plain, err := unzstd.DecodeAll(body, nil)
		if err != nil {
			return http.StatusBadRequest, nil
		}
		body = plain
	}
	got, err := w.serve(d, r, body)
	if err != nil {
		status, kind := http.StatusBadRequest, "invalid"
		if known := central.Explain(err); known != nil {
			switch known.Kind {
			case central.Clash:
				status, kind = http.StatusConflict, "clash"
			case central.Coverage:
				status, kind = http.StatusConflict, strings.TrimPrefix(wire.ProblemCoverage, wire.ProblemPrefix)
			case central.NotFound:
				status, kind = http.StatusNotFound, "not-found"
			}
		}
		text, _ := json.Marshal(wire.ProblemDetails{Type: wire.ProblemPrefix + kind, Status: status, Title: kind, Detail: err.Error()}) // always marshals
		return status, text
	}
	text, err := json.Marshal(got)
	if err != nil {
		return http.StatusInternalServerError, nil
	}
	return http.StatusOK, text
}

func (w *world) serve(d *unit, r *http.Request, body []byte) (any, error) {
	path := strings.TrimPrefix(r.URL.Path, "/v1")
	parts := strings.Split(strings.TrimPrefix(path, "/"), "/")
	switch {
	case path == "/hello":
		return wire.Hello{Product: "homing", Protocols: []string{wire.Version}, Generation: w.central.Generation, Earlier: w.central.Earlier, ReceivedAt: w.now, AnsweredAt: w.now,
			MaxChanges: wire.MaxBatchChanges, MaxBytes: wire.MaxBatchBytes}, nil
	case path == "/enrolments":
		var ask wire.Enrolment
		if err := json.Unmarshal(body, &ask); err != nil {
			return nil, err
		}
		d.past = append(d.past, ask.Incarnation)
		return wire.Enrolled{Device: d.id, Token: "rehearsal", Worker: d.worker, Role: "worker", Generation: w.central.Generation}, nil
	case path == "/definitions":
		return wire.Definitions{Definitions: w.central.Definitions(), Territories: d.device().Territories, People: d.device().People}, nil
	case path == "/device/incarnation":
		var ask struct{ Incarnation uuid.UUID }
		if err := json.Unmarshal(body, &ask); err != nil {
			return nil, err
		}
		d.past = append(slices.DeleteFunc(d.past, func(one uuid.UUID) bool { return one == ask.Incarnation }), ask.Incarnation)
		return nil, nil
	case path == "/batches":
		var batch wire.Batch
		if err := json.Unmarshal(body, &batch); err != nil {
			return nil, err
		}
		answers, err := w.central.Push(d.device(), batch)
		if err == nil {
			w.note(answers)
		}
		return answers, err
	case len(parts) == 3 && parts[2] == "changes":
		return w.central.Pull(d.device(), pullRequest(parts[1], r.URL.Query()))
	case len(parts) == 3 && parts[2] == "refresh":
		var held wire.Held
		if err := json.Unmarshal(body, &held); err != nil {
			return nil, err
		}
		return wire.Refreshed{Records: w.central.Refresh(d.device(), parts[1], held.Records)}, nil
	case path == "/report":
		return nil, nil
	}
	return nil, errors.New("the rehearsal has no " + path)
}

func pullRequest(collection string, query url.Values) central.PullRequest {
	number := func(name string) int64 {
		n, err := strconv.ParseInt(query.Get(name), 10, 64)
		if err != nil {
			return 0
		}
		return n
	}
	ask := central.PullRequest{Collection: collection, Cursor: number("cursor"), Answered: number("answered"), Limit: int(number("limit")), Load: query.Get("load") == "true"}
	if covers, given := query["covers"]; given {
		ask.Covers = slices.DeleteFunc(covers, func(key string) bool { return key == "" })
		if ask.Covers == nil {
			ask.Covers = []string{}
		}
	}
	if ask.Limit > 7 {
		ask.Limit = 7 // so that there are pages
	}
	return ask
}
