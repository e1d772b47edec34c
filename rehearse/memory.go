package rehearse

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/klauspost/compress/zstd"

	"homing/central"
	"homing/central/changes"
	"homing/central/fault"
	"homing/central/memory"
	"homing/central/pulls"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/rights"
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
	// promote tells what the worker of a device is from now on.
	promote(d *unit) error
	// invite lets somebody else use a device, too; dismiss takes them off it.
	invite(d *unit, guest rights.Person) error
	dismiss(d *unit, guest string) error
	// code gives a guest a code, to use a device that they are on already.
	code(guest string) (string, error)
	// rows brings rows of a table in.
	rows(collection, key string, rows []changes.TableRow) ([]changes.Row, error)
	// define takes a definition with more fields.
	define(definition.Definition) error
	// direct writes at central itself.
	direct(changes.Write) (wire.Answer, error)
	// whole gives what central has.
	whole() ([]desk.Held, []desk.Accepted, error)
	backUp() error
	// restore goes back to the last backup; it says false when there is none.
	restore() (bool, error)
	// putBack goes back to the last backup by the database's own tools, so that nothing tells central of it.
	putBack() (bool, error)
	close() error
}

// inMemory is what accepts and delivers at central, on tables in memory.
type inMemory struct {
	w       *world
	tables  *memory.Tables
	changes *changes.Changes
	pulls   *pulls.Pulls
	backup  *memory.Tables // nil until there is one
}

func newInMemory(w *world) (*inMemory, error) {
	m := &inMemory{w: w, tables: memory.New(func() time.Time { return w.now }, w.newID)}
	log := slog.New(slog.DiscardHandler)
	ground := trusting{m.tables, w.options.Bug == TrustedClock}
	m.changes = changes.New(ground, w.batch, log)
	m.pulls = pulls.New(m.tables, central.DefaultPageBytes, ground.Now)
	m.tables.Faults = memory.Faults{
		ForgetsAnswers: w.options.Bug == LostAnswers,
		LateCommits:    w.options.Bug == CursorHole,
		LooseKeys:      w.options.Bug == LooseKeys,
		QuietMoves:     w.options.Bug == QuietMoves,
	}
	_, err := m.changes.Define(context.Background(), lead, w.definitions())
	return m, err
}

// trusting are tables that, with a mistake made on purpose, are so far ahead that no edit is held against its receipt.
type trusting struct {
	*memory.Tables
	trusts bool
}

// Now is central's clock.
func (t trusting) Now() time.Time {
	if t.trusts {
		return t.Tables.Now().AddDate(20, 0, 0)
	}
	return t.Tables.Now()
}

func (m *inMemory) join(d *unit) (string, error) { return "code", m.hold(d) }

// Each request brings who the people of its device are; the tables keep who they were.
func (m *inMemory) hold(d *unit) error {
	m.tables.NotePeople(d.id, d.people())
	return nil
}
func (m *inMemory) promote(d *unit) error                 { return m.hold(d) }
func (m *inMemory) invite(d *unit, _ rights.Person) error { return m.hold(d) }
func (m *inMemory) dismiss(d *unit, _ string) error       { return m.hold(d) }
func (m *inMemory) code(guest string) (string, error)     { return guest, nil }

func (m *inMemory) rows(collection, key string, rows []changes.TableRow) ([]changes.Row, error) {
	return m.changes.PutRows(context.Background(), central.Everything(lead), collection, key, rows)
}

func (m *inMemory) putBack() (bool, error) {
	if m.backup == nil || m.backup.Generation != m.tables.Generation {
		return false, nil
	}
	m.tables.PutBack(m.backup)
	return true, nil
}

func (m *inMemory) define(d definition.Definition) error {
	_, err := m.changes.Define(context.Background(), lead, []definition.Definition{d})
	return err
}

func (m *inMemory) direct(write changes.Write) (wire.Answer, error) {
	return m.changes.Direct(context.Background(), central.Everything(lead), write)
}

func (m *inMemory) whole() ([]desk.Held, []desk.Accepted, error) {
	return m.tables.Records(), m.tables.History(), nil
}

func (m *inMemory) backUp() error {
	m.backup = m.tables.Backup()
	return nil
}

func (m *inMemory) restore() (bool, error) {
	if m.backup == nil {
		return false, nil
	}
	m.tables.Restore(m.backup, m.w.newID(), m.w.newID(), changes.SeriesGap)
	return true, nil
}

func (m *inMemory) close() error { return nil }

var unzstd, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1)) // fails only for bad options

func (m *inMemory) answer(d *unit, r *http.Request, body []byte) *http.Response {
	status, text := m.front(d, r, body)
	return &http.Response{StatusCode: status, Status: http.StatusText(status), Header: http.Header{}, Request: r,
		Body: io.NopCloser(bytes.NewReader(text))}
}

// plain is the body of a request without its compression.
func plain(r *http.Request, body []byte) ([]byte, error) {
	switch r.Header.Get("Content-Encoding") {
	case "zstd":
		return unzstd.DecodeAll(body, nil)
	case "gzip":
		unpacked, err := gzip.NewReader(bytes.NewReader(body))
		if err != nil {
			return nil, err
		}
		return io.ReadAll(unpacked)
	}
	return body, nil
}

// front is the HTTP face of a central in memory.
func (m *inMemory) front(d *unit, r *http.Request, body []byte) (int, []byte) {
	body, err := plain(r, body)
	if err != nil {
		return http.StatusBadRequest, nil
	}
	got, err := m.serve(d, r, body)
	if err != nil {
		status, kind := http.StatusBadRequest, "invalid"
		if known := fault.Explain(err); known != nil {
			switch known.Kind {
			case fault.Clash:
				status, kind = http.StatusConflict, "clash"
			case fault.Coverage:
				status, kind = http.StatusConflict, strings.TrimPrefix(wire.ProblemCoverage, wire.ProblemPrefix)
			case fault.Moved:
				status, kind = http.StatusConflict, string(fault.Moved)
			case fault.TooLarge:
				status, kind = http.StatusRequestEntityTooLarge, string(fault.TooLarge)
			case fault.NotFound:
				status, kind = http.StatusNotFound, "not-found"
			}
		}
		text, _ := json.Marshal(
			wire.ProblemDetails{Type: wire.ProblemPrefix + kind, Status: status, Title: kind, Detail: err.Error()},
		) // always marshals
		return status, text
	}
	text, err := json.Marshal(got)
	if err != nil {
		return http.StatusInternalServerError, nil
	}
	return http.StatusOK, text
}

func (m *inMemory) serve(d *unit, r *http.Request, body []byte) (any, error) {
	ctx := context.Background() // what has been sent goes on, even when the device is killed
	path := strings.TrimPrefix(r.URL.Path, "/v1")
	parts := strings.Split(strings.TrimPrefix(path, "/"), "/")
	switch {
	case path == "/hello":
		return wire.Hello{Product: "homing", Protocols: []string{wire.Version}, Generation: m.tables.Generation,
			Earlier: m.tables.Earlier, ReceivedAt: m.w.now, AnsweredAt: m.w.now,
			MaxChanges: m.w.batch, MaxBytes: wire.MaxBatchBytes}, nil
	case path == "/enrolments":
		var ask wire.Enrolment
		if err := json.Unmarshal(body, &ask); err != nil {
			return nil, err
		}
		d.past = append(d.past, ask.Incarnation)
		return wire.Enrolled{Device: d.id, Token: "rehearsal", Worker: d.worker, Role: "worker",
			Generation: m.tables.Generation, SealTo: changes.SealTo(m.tables.Secret())}, nil
	case path == "/definitions":
		if seals := r.Header.Get(wire.HeaderSeals); seals != "" {
			if err := (visit{m, d}).Recognise(ctx, pulls.Shown{Seals: strings.Split(seals, ",")}); err != nil {
				return nil, err
			}
		}
		return visit{m, d}.Told(ctx, d.device())
	case path == "/trips":
		var trip wire.Trip
		if err := json.Unmarshal(body, &trip); err != nil {
			return nil, err
		}
		asker := central.Asker{Device: d.device(), Bytes: len(body), Room: roomInTrip}
		if store, err := uuid.Parse(r.Header.Get(wire.HeaderIncarnation)); err == nil {
			asker.Store = store
		}
		met, many, err := central.Trip(ctx, visit{m, d}, asker, trip)
		met.MaxChanges, met.MaxBytes = m.w.batch, wire.MaxBatchBytes
		for _, page := range many.Pages {
			met.Pages = append(met.Pages, page.AppendJSON(nil))
		}
		return met, err
	case path == "/device/incarnation":
		var ask struct{ Incarnation uuid.UUID }
		if err := json.Unmarshal(body, &ask); err != nil {
			return nil, err
		}
		d.past = append(slices.DeleteFunc(d.past, func(one uuid.UUID) bool { return one == ask.Incarnation }),
			ask.Incarnation)
		return nil, nil
	case path == "/device/people":
		var ask struct{ Code string }
		if err := json.Unmarshal(body, &ask); err != nil {
			return nil, err
		}
		for _, who := range d.guests {
			if who.Name == ask.Code {
				return who, nil
			}
		}
		return nil, fault.Fail(fault.NotFound, "there is no such code")
	case path == "/batches":
		var batch wire.Batch
		if err := json.Unmarshal(body, &batch); err != nil {
			return nil, err
		}
		return visit{m, d}.Push(ctx, d.device(), batch, len(body))
	case len(parts) == 2 && parts[0] == "changes":
		ask := pullRequest(parts[1], r)
		if m.w.options.Bug == WideAnswered {
			ask.Store, ask.Answered = d.past[len(d.past)-1], math.MaxInt64
		}
		return m.pulls.Pull(ctx, d.device(), ask)
	case len(parts) == 2 && parts[0] == "refresh":
		var held wire.Held
		if err := json.Unmarshal(body, &held); err != nil {
			return nil, err
		}
		records, err := m.pulls.Refresh(ctx, d.device(), parts[1], held.Records)
		return wire.Refreshed{Records: records}, err
	case len(parts) == 2 && parts[0] == "fingerprints":
		return m.fingerprints(d, parts[1], r.URL.Query())
	case path == "/report":
		var report wire.Report
		if err := json.Unmarshal(body, &report); err != nil {
			return nil, err
		}
		return nil, visit{m, d}.TakeReport(ctx, d.device(), uuid.Nil, report)
	}
	return nil, errors.New("the rehearsal has no " + path)
}

// visit is central as one device meets it, with the mistakes made on purpose.
type visit struct {
	*inMemory
	d *unit
}

func (v visit) Now() time.Time { return v.w.now }
func (v visit) Names() (now uuid.UUID, earlier []uuid.UUID) {
	return v.tables.Generation, v.tables.Earlier
}

func (v visit) Told(_ context.Context, from central.Device) (told wire.Definitions, err error) {
	told = wire.Definitions{SealTo: changes.SealTo(v.tables.Secret()), Definitions: v.definitions(), Territories: from.Territories,
		People: from.People, Sight: from.People.Digest()}
	if v.w.options.Bug == SilentRoles {
		told.Sight = "as ever"
	}
	told.Digest, err = central.Digest(told)
	return told, err
}

func (v visit) Recognise(ctx context.Context, shown pulls.Shown) error {
	if v.w.options.Bug == NoSeals {
		return nil
	}
	return central.Recognise(ctx, v.pulls, v.changes, v.tables.Generation, shown)
}

func (v visit) Push(ctx context.Context, from central.Device, batch wire.Batch, bytes int) (wire.Answers, error) {
	if v.w.options.Bug == OneMind && !v.w.copies { // a copy would part for ever
		batch.Incarnation = v.d.past[0]
	}
	if v.w.options.Bug == TrustedClock {
		batch.Clock = wire.Clock{SentAt: v.w.now.AddDate(20, 0, 0)} // as if the device's clock were right
	}
	answers, err := v.changes.Push(ctx, from, batch, bytes)
	if err == nil {
		v.w.note(answers)
	}
	return answers, err
}

// roomInTrip is so little that some trips leave something for later.
const roomInTrip = 1500

func (v visit) PullAll(ctx context.Context, from central.Device, ask pulls.Request, cursors map[string]int64,
	room int) (pulls.Many, error) {
	if v.w.options.Bug == WideAnswered {
		ask.Store, ask.Answered = v.d.past[len(v.d.past)-1], math.MaxInt64
	}
	return v.pulls.PullAll(ctx, from, ask, cursors, room)
}

func (v visit) TakeReport(_ context.Context, _ central.Device, _ uuid.UUID, report wire.Report) error {
	v.d.errands.Answer(report.Errands, v.w.now)
	return nil
}

func (m *inMemory) definitions() []definition.Definition {
	all, _ := m.tables.Definitions(context.Background()) // never fails
	return definition.Sorted(all)
}

func pullRequest(collection string, r *http.Request) pulls.Request {
	query := r.URL.Query()
	number := func(name string) int64 {
		n, err := strconv.ParseInt(query.Get(name), 10, 64)
		if err != nil {
			return 0
		}
		return n
	}
	ask := pulls.Request{Collection: collection, Cursor: number("cursor"), Answered: number("answered"),
		Limit: int(number("limit")), Load: query.Get("load") == "true"}
	if store, err := uuid.Parse(r.Header.Get(wire.HeaderIncarnation)); err == nil {
		ask.Store = store
	}
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
