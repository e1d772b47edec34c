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
	"homing/core/definition"
	"homing/wire"
)

// side is central's side of a rehearsal.
type side interface {
	// answer serves one request of a device.
	answer(d *unit, r *http.Request, body []byte) *http.Response
	// join makes the worker of a device known, and gives a code to enrol with.
	join(d *unit) (code string, err error)
	// hold tells what the worker of a device holds from now on.
	hold(d *unit) error
	// define takes a definition with more fields.
	define(definition.Definition) error
	// direct writes at central itself.
	direct(central.Write) (wire.Answer, error)
	// whole gives what central has.
	whole() ([]central.Held, []central.Accepted, error)
	backUp() error
	// restore goes back to the last backup; it says false when there is none.
	restore() (bool, error)
	close() error
}

// inMemory is a central without a database.
type inMemory struct {
	w       *world
	central *central.Memory
	backup  *central.Memory // nil until there is one
}

func newInMemory(w *world) (*inMemory, error) {
	m := &inMemory{w: w}
	var err error
	if m.central, err = central.NewMemory(func() time.Time { return w.now }, w.newID(), w.newID(), w.options.Definitions); err != nil {
		return nil, err
	}
	switch w.options.Bug {
	case LostAnswers:
		m.central.Faults.ForgetsAnswers = true
	case CursorHole:
		m.central.Faults.LateCommits = 1
	case TrustedClock:
		m.central.Faults.TrustsClocks = true
	}
	return m, nil
}

func (m *inMemory) join(*unit) (string, error) { return "code", nil }

func (m *inMemory) hold(*unit) error { return nil } // each request brings it

func (m *inMemory) define(d definition.Definition) error { return m.central.Define(d) }

func (m *inMemory) direct(write central.Write) (wire.Answer, error) {
	return m.central.Direct(central.Everything(lead), write)
}

func (m *inMemory) whole() ([]central.Held, []central.Accepted, error) {
	return m.central.Records(), m.central.History(), nil
}

func (m *inMemory) backUp() error {
	m.backup = m.central.Backup()
	return nil
}

func (m *inMemory) restore() (bool, error) {
	if m.backup == nil {
		return false, nil
	}
	m.central.Restore(m.backup, m.w.newID(), m.w.newID())
	return true, nil
}

func (m *inMemory) close() error { return nil }

var unzstd, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1)) // fails only for bad options

func (m *inMemory) answer(d *unit, r *http.Request, body []byte) *http.Response {
	status, text := m.front(d, r, body)
	return &http.Response{StatusCode: status, Status: http.StatusText(status), Header: http.Header{}, Request: r, Body: io.NopCloser(bytes.NewReader(text))}
}

// front is the HTTP face of a central in memory.
func (m *inMemory) front(d *unit, r *http.Request, body []byte) (int, []byte) {
	if r.Header.Get("Content-Encoding") == "zstd" {
		plain, err := unzstd.DecodeAll(body, nil)
		if err != nil {
			return http.StatusBadRequest, nil
		}
		body = plain
	}
	got, err := m.serve(d, r, body)
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

func (m *inMemory) serve(d *unit, r *http.Request, body []byte) (any, error) {
	path := strings.TrimPrefix(r.URL.Path, "/v1")
	parts := strings.Split(strings.TrimPrefix(path, "/"), "/")
	switch {
	case path == "/hello":
		return wire.Hello{Product: "homing", Protocols: []string{wire.Version}, Generation: m.central.Generation, Earlier: m.central.Earlier, ReceivedAt: m.w.now, AnsweredAt: m.w.now,
			MaxChanges: wire.MaxBatchChanges, MaxBytes: wire.MaxBatchBytes}, nil
	case path == "/enrolments":
		var ask wire.Enrolment
		if err := json.Unmarshal(body, &ask); err != nil {
			return nil, err
		}
		d.past = append(d.past, ask.Incarnation)
		return wire.Enrolled{Device: d.id, Token: "rehearsal", Worker: d.worker, Role: "worker", Generation: m.central.Generation}, nil
	case path == "/definitions":
		return wire.Definitions{Definitions: m.central.Definitions(), Territories: d.device().Territories, People: d.device().People}, nil
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
		answers, err := m.central.Push(d.device(), batch)
		if err == nil {
			m.w.note(answers)
		}
		return answers, err
	case len(parts) == 3 && parts[2] == "changes":
		return m.central.Pull(d.device(), pullRequest(parts[1], r.URL.Query()))
	case len(parts) == 3 && parts[2] == "refresh":
		var held wire.Held
		if err := json.Unmarshal(body, &held); err != nil {
			return nil, err
		}
		return wire.Refreshed{Records: m.central.Refresh(d.device(), parts[1], held.Records)}, nil
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
	if ask.Limit > mostInPage {
		ask.Limit = mostInPage
	}
	return ask
}
