// Package exchange is a device with signal: it meets central, sends what is unsent, takes in what others did, and
// comes to terms with copies of its store and with a central that was restored.
package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/clock"
	"homing/core/definition"
	"homing/core/settings"
	"homing/device/internal/file"
	"homing/device/internal/save"
	"homing/link"
	"homing/wire"
)

// Line exchanges.
type Line struct {
	*save.Desk
}

// New adds to what is below it.
func New(below *save.Desk) *Line { return &Line{below} }

// Summary is what an exchange did.
type Summary struct {
	Exchange  uuid.UUID     `json:"exchange"`
	Started   string        `json:"started_by"` // what asked for it: a person, a timer, or central's word that there is something
	Sent      int           `json:"sent"`       // changes
	Applied   int           `json:"applied"`
	Merged    int           `json:"merged"`
	Held      int           `json:"held"`
	Refused   int           `json:"refused"`
	Waiting   int           `json:"waiting"`
	Received  int           `json:"received"`         // records, removals included
	Removed   int           `json:"removed"`          // of these, removals
	Withdrawn int           `json:"withdrawn"`        // records dropped since the worker no longer covers them
	Copied    bool          `json:"copied,omitempty"` // the store turned out to be a copy of another, and goes on under an identity of its own
	BytesUp   int           `json:"bytes_up"`         // as sent, compressed; without the headers of requests and answers
	BytesDown int           `json:"bytes_down"`
	Took      time.Duration `json:"took_ns"`
}

// Progress tells how far an exchange is.
type Progress struct {
	Phase      string // "push" or "pull"
	Collection string // while pulling
	Done       int    // changes answered, or records of the collection received
	Total      int    // 0 when it is not known
}

// Exchange is [device.Store.Exchange].
func (s *Line) Exchange(ctx context.Context, watch func(Progress)) (Summary, error) {
	return s.run(ctx, watch, true, true)
}

// Push is [device.Store.Push].
func (s *Line) Push(ctx context.Context, watch func(Progress)) (Summary, error) {
	return s.run(ctx, watch, true, false)
}

// Pull is [device.Store.Pull].
func (s *Line) Pull(ctx context.Context, watch func(Progress)) (Summary, error) {
	return s.run(ctx, watch, false, true)
}

// exchange is one run.
type exchange struct {
	*Line
	link        *link.Link
	incarnation uuid.UUID
	generation  uuid.UUID
	offset      clock.Offset
	maxChanges  int
	maxBytes    int
	revoked     bool            // central lets it deliver at most
	prepared    bool            // the outbox is ready to be sent
	others      map[int64]int   // how often a change was told that its number is another's
	parted      int             // how often it took another identity, since a copy of it has sent under its own
	longWay     bool            // central does without trips
	settled     map[string]bool // collections that a trip has brought to their heads
	errands     []wire.Errand   // what central asks for
	erases      bool            // and that is that the store is let go of, which nothing speaks against
	told        *wire.Report    // what central knows of this store by the trip; nil where that is not all
	defined     map[string]bool // collections that central has now; a restored one may lack some
	summary     *Summary
	watch       func(Progress)
}

// within is a transaction that takes in what central says.
func (e *exchange) within(ctx context.Context, work func(*sqlx.Tx) error) error {
	return e.Transact(ctx, true, work)
}

func (s *Line) run(ctx context.Context, watch func(Progress), push, pull bool) (summary Summary, err error) {
	unlock, err := s.Lock()
	if err != nil {
		return summary, err
	}
	defer unlock()
	if watch == nil {
		watch = func(Progress) {}
	}
	started := s.Now()
	summary.Exchange, summary.Started = s.NewID(), startedBy(ctx)
	began := time.Now()
	e := &exchange{Line: s, summary: &summary, watch: watch, others: map[int64]int{}}
	err = e.begin(ctx, push, pull)
	if err == nil && pull && !e.revoked && e.settled == nil {
		err = e.pullAfterRestore(ctx)
	}
	if err == nil && push {
		err = e.push(ctx)
	}
	if err == nil && pull && !e.revoked {
		err = e.pull(ctx)
	}
	var done []wire.ErrandDone
	if err == nil && push && pull {
		done, err = e.runErrands(ctx)
	}
	if err == nil {
		err = e.report(ctx, done)
	}
	if err == nil && e.revoked {
		err = file.ErrRevoked
	}
	if err == nil {
		err = s.FitBudget(ctx)
	}
	if err == nil || summary.Sent+summary.Received > 0 { // while links are bad, few come to their end
		err = errors.Join(err, s.forgetTravelled(context.WithoutCancel(ctx)))
	}
	summary.Took = time.Since(began)
	if !errors.Is(err, file.ErrNotEnrolled) {
		err = errors.Join(err, s.log(ctx, started, summary, err))
	}
	if summary.Withdrawn+summary.Removed > 0 {
		err = errors.Join(err, s.Overwrite(ctx))
	}
	if e.erases && (err == nil || errors.Is(err, file.ErrRevoked)) {
		err = e.erase(ctx)
	}
	return summary, err
}

// dial gets ready to call central.
func (e *exchange) dial(ctx context.Context) error {
	token, err := file.Fact(ctx, e.DB, file.FactToken)
	if err != nil {
		return file.StoreError(err)
	}
	if token == "" {
		return file.ErrNotEnrolled
	}
	address, err := file.Fact(ctx, e.DB, file.FactCentral)
	if err != nil {
		return file.StoreError(err)
	}
	if e.link, err = link.New(address, token, e.Agent, e.How); err != nil {
		return err
	}
	e.link.Over(e.Over)
	e.link.Wait(e.Patience)
	e.incarnation, err = e.Line.Incarnation(ctx, e.DB)
	return err
}

// meet finds out whether central is there and is the one this store knows, measures the device's clock, and takes
// over the definitions. When what this store shows tells central that its database was put back, central has become
// another by that, and they meet anew.
func (e *exchange) meet(ctx context.Context) error {
	if err := e.dial(ctx); err != nil {
		return err
	}
	err := e.meetOnce(ctx)
	var problem *link.Problem
	if errors.As(err, &problem) && problem.Type == wire.ProblemMoved {
		err = e.meetOnce(ctx)
	}
	return err
}

func (e *exchange) meetOnce(ctx context.Context) error {
	var hello wire.Hello
	sent := e.Now()
	if err := e.call(ctx, http.MethodGet, "/v1/hello", nil, &hello); err != nil {
		return err
	}
	e.offset = clock.Measure(sent, hello.ReceivedAt, hello.AnsweredAt, e.Now())
	e.maxChanges, e.maxBytes = hello.MaxChanges, hello.MaxBytes
	generation, err := file.Fact(ctx, e.DB, file.FactGeneration)
	if err != nil {
		return file.StoreError(err)
	}
	e.generation = hello.Generation
	if generation != hello.Generation.String() {
		if !slices.ContainsFunc(hello.Earlier, func(earlier uuid.UUID) bool { return earlier.String() == generation }) {
			return fmt.Errorf("%w (it is %s, known is %s)", file.ErrGeneration, hello.Generation, generation)
		}
		if err := e.reconcile(ctx, generation); err != nil {
			return err
		}
	}
	if err := e.renew(ctx); err != nil {
		return err
	}
	var problem *link.Problem
	if err := e.define(ctx); errors.As(err, &problem) && problem.Type == wire.ProblemRevoked {
		e.revoked = true // whether it may deliver shows with the first batch
	} else if err != nil {
		return err
	}
	return e.within(ctx, func(tx *sqlx.Tx) error {
		if err := file.SetFact(ctx, tx, file.FactOpen, strconv.FormatBool(hello.Open)); err != nil {
			return err
		}
		return e.keepOffset(ctx, tx)
	})
}

// keepOffset keeps what was measured of the clock. What was measured last before the machine was started anew is
// kept, too: a change from then is dated by either.
func (e *exchange) keepOffset(ctx context.Context, tx *sqlx.Tx) error {
	boot, _ := e.Tick()
	known, err := file.Facts(ctx, tx)
	if err != nil {
		return err
	}
	if before := known[file.FactOffset]; before != "" && known[file.FactBoot] != boot {
		if err := file.SetFact(ctx, tx, file.FactOffsetThen, before); err != nil {
			return err
		}
	}
	if err := file.SetFact(ctx, tx, file.FactBoot, boot); err != nil {
		return err
	}
	_, since := e.Tick()
	return file.SetFact(ctx, tx, file.FactOffset, fmt.Sprintf("%d %d %d %d", e.offset.By, e.offset.Error,
		e.Now().UnixNano()-since.Nanoseconds(), since.Nanoseconds()))
}

// renew tells central that the store was restored and has a new incarnation, or tells a restored central of all that
// it has had.
func (e *exchange) renew(ctx context.Context) error {
	renewed, err := file.Fact(ctx, e.DB, file.FactRenewed)
	if err != nil || renewed != "true" {
		return file.StoreError(err)
	}
	var all []string
	if err := e.DB.SelectContext(ctx, &all, `SELECT origin FROM outbox WHERE origin <> '' UNION SELECT origin
			FROM travelled WHERE origin <> ''`); err != nil {
		return file.StoreError(err)
	}
	for _, incarnation := range append(all, e.incarnation.String()) {
		if err := e.call(ctx, http.MethodPut, "/v1/device/incarnation", map[string]any{"incarnation": incarnation},
			nil); err != nil {
			return err
		}
	}
	return file.StoreError(file.SetFact(ctx, e.DB, file.FactRenewed, ""))
}

// define takes over the definitions, and which territories the worker holds.
func (e *exchange) define(ctx context.Context) error {
	if err := e.recognise(ctx); err != nil {
		return err
	}
	var definitions wire.Definitions
	seals, err := e.seals(ctx)
	if err != nil {
		return err
	}
	if err := e.callWith(ctx, http.MethodGet, "/v1/definitions", map[string]string{wire.HeaderSeals: seals}, nil,
		&definitions); err != nil {
		return err
	}
	return e.takeDefinitions(ctx, definitions)
}

func (e *exchange) takeDefinitions(ctx context.Context, definitions wire.Definitions) error {
	e.defined = map[string]bool{}
	known := definitions.Digest
	for _, d := range definitions.Definitions {
		e.defined[d.Collection] = true
		known += " " + d.Collection
	}
	if definitions.Digest == "" { // central does not say
		known = ""
	}
	if err := e.TakeDefinitions(ctx, definitions); err != nil {
		return err
	}
	before, err := file.Fact(ctx, e.DB, file.FactWorker)
	if err != nil {
		return file.StoreError(err)
	}
	if err := e.within(ctx, func(tx *sqlx.Tx) error {
		if err := e.TakePeople(ctx, tx, definitions); err != nil {
			return err
		}
		if err := file.KeepSettings(ctx, tx, definitions.Settings, e.Now()); err != nil {
			return err
		}
		return file.SetFact(ctx, tx, file.FactDefinitions, known)
	}); err != nil {
		return err
	}
	now, err := file.Fact(ctx, e.DB, file.FactWorker)
	if err == nil && now != before {
		err = e.Overwrite(ctx)
	}
	return file.StoreError(err)
}

// seals are central's words on how far it had delivered what this store has, the latest first.
func (e *exchange) seals(ctx context.Context) (string, error) {
	var all []string
	err := e.DB.SelectContext(
		ctx,
		&all,
		`SELECT seal FROM collections WHERE seal <> '' ORDER BY pulled_at DESC LIMIT ?`,
		wire.MostSeals,
	)
	return strings.Join(all, ","), file.StoreError(err)
}

func (e *exchange) call(ctx context.Context, method, path string, in, out any) error {
	return e.callWith(ctx, method, path, nil, in, out)
}

// callWith calls central with more headers than those that every request of an exchange has.
func (e *exchange) callWith(ctx context.Context, method, path string, more map[string]string, in, out any) error {
	headers := e.headers()
	for name, value := range more {
		if value != "" {
			headers[name] = value
		}
	}
	traffic, err := e.link.Call(ctx, method, path, headers, in, out)
	e.summary.BytesUp += traffic.Sent
	e.summary.BytesDown += traffic.Received
	return err
}

func (e *exchange) headers() map[string]string {
	return map[string]string{wire.HeaderExchange: e.summary.Exchange.String(),
		wire.HeaderIncarnation: e.incarnation.String()}
}

// clock is what this exchange measured of the device's clock.
func (e *exchange) clock() wire.Clock {
	return wire.Clock{SentAt: e.Now(), OffsetMS: e.offset.By.Milliseconds(), ErrorMS: e.offset.Error.Milliseconds()}
}

// pageRecords is how many records a device asks for at once; fewer, down to leastPage, when pages do not come in time.
const (
	pageRecords = 2000
	leastPage   = 20
)

// pull brings each collection to its head, page by page. When the worker's territories change meanwhile, it starts
// over with those that they hold now; nothing is loaded twice for that.
func (e *exchange) pull(ctx context.Context) error {
	const tries = 3
	var err error
	for range tries {
		if err = e.pullAll(ctx); !isCoverage(err) {
			return err
		}
		e.settled = nil
		if err := e.define(ctx); err != nil {
			return err
		}
	}
	return err
}

func isCoverage(err error) bool {
	var problem *link.Problem
	return errors.As(err, &problem) && problem.Type == wire.ProblemCoverage
}

func (e *exchange) pullAll(ctx context.Context) (err error) {
	if e.settled == nil { // otherwise a trip has begun so
		if err := e.tidy(ctx); err != nil {
			return err
		}
		if err := e.pullAtOnce(ctx); err != nil || e.revoked {
			return err
		}
	}
	collections, err := e.Cursors(ctx)
	if err != nil {
		return err
	}
	defer func() {
		if err == nil {
			err = e.askLost(ctx)
		}
	}()
	for _, c := range collections {
		if !e.defined[c.Name] {
			continue // what is here of it stays
		}
		if c.Direction.Pulls() && c.Keep == definition.OnDemand {
			if err := e.refresh(ctx, c.Name); err != nil {
				return err
			}
		}
		if !c.Loads() || e.settled[c.Name] {
			continue
		}
		covers, err := e.cover(ctx, c.Name, c.Cursor)
		if err != nil {
			return err
		}
		way := course{collection: c.Name, cursor: c.Cursor, covers: covers}
		if c.Cursor == 0 {
			if err := e.DB.GetContext(ctx, &way.empty, `SELECT NOT EXISTS (SELECT 1 FROM records WHERE collection = ?)`,
				c.Name); err != nil {
				return file.StoreError(err)
			}
		}
		if err := e.pullFrom(ctx, way); err != nil {
			return err
		}
	}
	return nil
}

// tidy lets go of what is over, and makes collections load anew of which others see something else.
func (e *exchange) tidy(ctx context.Context) error {
	all, err := e.All(ctx, e.DB)
	if err != nil {
		return err
	}
	for _, c := range all {
		if err := e.Expire(ctx, c); err != nil {
			return err
		}
	}
	return e.lookAnew(ctx, all)
}

// course is one way through a collection's changes: the main one, or the load of territories that were gained.
type course struct {
	collection string
	cursor     int64
	covers     []string
	gaining    bool
	parts      int64 // where the store has the collection whole, so that records may come in parts; 0 where they come whole
	empty      bool  // the store holds nothing of the collection, so that nothing can be gone
}

// fetched is a page on its way from central to the store.
type fetched struct {
	text    link.Text
	page    wire.Page // once it is read
	cursor  int64
	more    bool
	traffic link.Traffic
	err     error
}

// pullFrom stores each page while the next one is being read, and the one after that is under way.
func (e *exchange) pullFrom(ctx context.Context, way course) error {
	answered, err := e.answered(ctx)
	if err != nil {
		return err
	}
	var loading bool
	if err := e.DB.GetContext(ctx, &loading, `SELECT loading FROM collections WHERE name = ?`,
		way.collection); err != nil {
		return file.StoreError(err)
	}
	copied, err := file.Fact(ctx, e.DB, file.FactCopied)
	if err != nil {
		return file.StoreError(err)
	}
	if loading || copied == "true" || way.cursor == 0 {
		answered = "" // what this device itself once sent may not be here any more
	}
	if !loading && !way.gaining {
		way.parts = way.cursor
	}
	name, gaining := way.collection, way.gaining
	ctx, cancel := context.WithCancel(ctx)
	texts, pages := make(chan fetched, 1), make(chan fetched, 1)
	go func() {
		defer close(texts)
		limit := e.pageOf(ctx)
		for more := true; more; {
			next := e.fetch(ctx, way, answered, limit)
			for (tooSlow(next.err)) && limit > leastPage {
				limit = max(limit/4, leastPage)
				next = e.fetch(ctx, way, answered, limit)
			}
			more, way.cursor = next.err == nil && next.more, next.cursor
			way.empty = false // what is gone after the first page may have come with it
			select {
			case texts <- next:
			case <-ctx.Done():
				return
			}
		}
	}()
	go func() {
		defer close(pages)
		for next := range texts {
			if next.err == nil {
				next.read()
			}
			select {
			case pages <- next:
			case <-ctx.Done():
			}
		}
	}()
	defer func() { // nothing may be under way when the next collection begins
		cancel()
		for range pages {
		}
	}()
	done, total := 0, 0
	for next := range pages {
		e.summary.BytesUp += next.traffic.Sent
		e.summary.BytesDown += next.traffic.Received
		if next.err != nil {
			return next.err
		}
		if err := e.makeWhole(ctx, &next.page); err != nil {
			return err
		}
		if err := e.takePage(ctx, next.page, gaining); err != nil {
			return err
		}
		if next.page.Total > 0 {
			total = int(next.page.Total)
		}
		done += len(next.page.Records)
		if done > 0 {
			e.watch(Progress{Phase: "pull", Collection: name, Done: done, Total: total})
		}
	}
	return ctx.Err()
}

// answered is the number up to which all changes of this store have an answer that is stored. Below one that has
// none, central may have written what this store has not laid under its view yet.
func (e *exchange) answered(ctx context.Context) (string, error) {
	highest, err := e.answeredAfter(ctx, nil)
	if err != nil || highest == 0 {
		return "", err
	}
	return strconv.FormatInt(highest, 10), nil
}

// answeredAfter is the same for when a batch is answered that is about to go.
func (e *exchange) answeredAfter(ctx context.Context, batch []file.Entry) (int64, error) {
	text, err := file.Fact(ctx, e.DB, file.FactAnswered)
	if err != nil {
		return 0, file.StoreError(err)
	}
	var highest int64
	if text != "" {
		if highest, err = strconv.ParseInt(text, 10, 64); err != nil {
			return 0, fmt.Errorf("%w: the number that was answered last", file.ErrDamaged)
		}
	}
	goes := []int64{}
	for _, q := range batch {
		if goes = append(goes, q.Number); q.Origin == "" {
			highest = max(highest, q.Number)
		}
	}
	these, err := json.Marshal(goes)
	if err != nil {
		return 0, err
	}
	var open int64 // 0 where there is none
	if err := e.DB.GetContext(ctx, &open, `SELECT coalesce((SELECT number FROM outbox WHERE origin = '' AND state IN ('new', 'sent')
			AND number NOT IN (SELECT value FROM json_each(?)) ORDER BY number LIMIT 1), 0)`, string(these)); err != nil {
		return 0, file.StoreError(err)
	}
	if open > 0 {
		highest = min(highest, open-1)
	}
	return highest, nil
}

func (e *exchange) fetch(ctx context.Context, way course, answered string, limit int) (next fetched) {
	ask := url.Values{
		"cursor": {strconv.FormatInt(way.cursor, 10)},
		"limit":  {strconv.Itoa(limit)},
		"covers": way.covers,
	}
	if answered != "" && !way.gaining {
		ask.Set("answered", answered)
	}
	if way.covers != nil && len(way.covers) == 0 {
		ask.Set("covers", "") // nothing, which is not the same as saying nothing
	}
	if way.gaining || way.empty {
		ask.Set("load", "true")
	}
	if way.parts > 0 {
		ask.Set("parts", strconv.FormatInt(way.parts, 10))
	}
	next.traffic, next.err = e.link.Call(ctx, http.MethodGet, "/v1/changes/"+way.collection+"?"+ask.Encode(),
		e.headers(), nil, &next.text)
	if next.err != nil {
		return next
	}
	var ok bool
	if next.cursor, next.more, ok = wire.ReadPageStart(next.text); !ok {
		next.read()
		next.cursor, next.more = next.page.Cursor, next.page.More
	}
	return next
}

// read reads the page, unless that was done before.
func (f *fetched) read() {
	if f.text == nil {
		return
	}
	if f.page, f.err = wire.ReadPage(f.text); f.err != nil {
		f.err = fmt.Errorf("central sent a page that cannot be read: %w", f.err)
	}
	f.text = nil
}

// report tells central what the device holds and owes now, unless central knows. It is for people to see; a central that
// cannot take it has lost nothing. Nothing is erased before central has heard of it.
func (e *exchange) report(ctx context.Context, done []wire.ErrandDone) error {
	report, err := e.owed(ctx)
	if err != nil {
		return err
	}
	collections, err := e.Cursors(ctx)
	if err != nil {
		return err
	}
	report.Cursors = map[string]int64{}
	for _, c := range collections {
		if c.Loads() {
			report.Cursors[c.Name] = c.Cursor
		}
	}
	report.Stored, report.Errands = e.Size(), done
	if report.Settings, err = file.Untold(ctx, e.DB); err != nil {
		return file.StoreError(err)
	}
	if told := e.told; len(done) == 0 && report.Settings == nil && told != nil && told.Clock != nil && told.Unsent == report.Unsent && told.Refused == report.Refused &&
		told.Waiting == report.Waiting && maps.Equal(told.Cursors, report.Cursors) {
		return nil
	}
	now := e.clock()
	report.Clock = &now
	if err = e.call(ctx, http.MethodPut, "/v1/report", report, nil); err == nil {
		err = e.toldSettings(ctx, report.Settings)
	}
	e.erases = e.erases && err == nil
	var problem *link.Problem
	if errors.Is(err, link.ErrUnreachable) || errors.As(err, &problem) {
		return nil
	}
	return err
}

// toldSettings notes that central has heard which settings this device goes by.
func (e *exchange) toldSettings(ctx context.Context, applied *settings.Applied) error {
	if applied == nil {
		return nil
	}
	return file.StoreError(file.SetFact(ctx, e.DB, file.FactSettingsTold, applied.Digest))
}

// owed counts the changes that central has not accepted.
func (e *exchange) owed(ctx context.Context) (owed wire.Report, err error) {
	err = e.DB.QueryRowContext(ctx, countOwed).Scan(&owed.Unsent, &owed.Refused, &owed.Waiting)
	return owed, file.StoreError(err)
}

// countOwed counts all that there is, and what indexes know of it: much faster than to look at each change.
const countOwed = `SELECT total - refused - waiting, refused, waiting FROM (SELECT (SELECT count(*) FROM outbox) AS total,
	(SELECT count(*) FROM outbox WHERE state = 'refused') AS refused, (SELECT count(*) FROM outbox WHERE state = 'waiting') AS waiting)`

// log keeps what an exchange did. It is kept even when the exchange was cancelled.
func (s *Line) log(ctx context.Context, started time.Time, summary Summary, cause error) error {
	text, err := json.Marshal(summary)
	if err != nil {
		return err
	}
	problem := ""
	if cause != nil {
		problem = cause.Error()
	}
	_, err = s.DB.ExecContext(context.WithoutCancel(ctx), `INSERT INTO exchanges (id, started_at, ended_at, summary,
			error) VALUES (?, ?, ?, ?, ?)`,
		summary.Exchange.String(), file.TimeText(started), file.TimeText(s.Now()), string(text), problem)
	return file.StoreError(err)
}
