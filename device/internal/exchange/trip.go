package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/clock"
	"homing/core/rights"
	"homing/device/internal/file"
	"homing/link"
	"homing/wire"
)

// A trip is one request that says all that an exchange has to say, and whose answer is all that there is to hear, where
// little has happened. What does not fit goes the long way: hello, definitions, batches, pages, report.

// errAnew says that a trip came to nothing and the long way is to be gone: central is another, or is not used to trips.
var errAnew = errors.New("the exchange begins anew")

// begin meets central: by a trip where this store knows central well enough, and the long way otherwise.
func (e *exchange) begin(ctx context.Context, push, pull bool) error {
	if err := e.dial(ctx); err != nil {
		return err
	}
	known, may, err := e.mayTravel(ctx)
	if err != nil {
		return err
	}
	if !may {
		return e.meet(ctx)
	}
	if err := e.trip(ctx, known, push, pull); err == nil || !goesLong(err) {
		return err
	}
	e.settled, e.told, e.longWay = nil, nil, true
	return e.meet(ctx)
}

// mayTravel says whether this store knows enough of central for a trip.
func (e *exchange) mayTravel(ctx context.Context) (known map[string]string, may bool, err error) {
	if known, err = file.Facts(ctx, e.DB); err != nil {
		return nil, false, file.StoreError(err)
	}
	var lost bool
	if err := e.DB.GetContext(ctx, &lost, `SELECT EXISTS (SELECT 1 FROM records WHERE lost <> '')`); err != nil {
		return nil, false, file.StoreError(err)
	}
	return known, known[file.FactDefinitions] != "" && known[file.FactRenewed] != "true" && !lost, nil
}

// goesLong says whether what a trip came to may go well the long way.
func goesLong(err error) bool {
	var problem *link.Problem
	if !errors.As(err, &problem) {
		return errors.Is(err, errAnew) || tooSlow(err)
	}
	return tooSlow(err) || problem.Type == wire.ProblemRevoked || slices.Contains([]int{
		http.StatusUnauthorized, // central may say at least that it is another
		http.StatusNotFound, http.StatusMethodNotAllowed, http.StatusConflict, http.StatusRequestEntityTooLarge}, problem.Status)
}

// pullAtOnce brings what is new in all collections by one more trip, after batches or definitions that came first.
func (e *exchange) pullAtOnce(ctx context.Context) error {
	known, may, err := e.mayTravel(ctx)
	if err != nil || !may || e.longWay {
		return err
	}
	now := e.clock()
	digest, _, _ := strings.Cut(known[file.FactDefinitions], " ")
	ask := asked{trip: wire.Trip{Generation: e.generation, Definitions: digest, Clock: &now}}
	if err := e.askForPages(ctx, known, &ask); err != nil || len(ask.trip.Cursors) == 0 {
		return err
	}
	if err := e.travel(ctx, ask); err == nil || !goesLong(err) {
		return err
	}
	e.longWay = true
	return nil
}

// asked is what a trip asks for and says, with what this store must know when the answer is here.
type asked struct {
	trip    wire.Trip
	batch   uuid.UUID
	changes []file.Entry
}

// sealed is central's word on several cursors at once.
type sealed struct {
	Seal    string           `json:"seal"`
	Cursors map[string]int64 `json:"cursors"`
}

func (e *exchange) trip(ctx context.Context, known map[string]string, push, pull bool) error {
	generation, err := uuid.Parse(known[file.FactGeneration])
	if err != nil {
		return errAnew
	}
	digest, names, _ := strings.Cut(known[file.FactDefinitions], " ")
	e.generation, e.maxChanges, e.maxBytes, e.defined = generation, wire.MaxBatchChanges, wire.MaxBatchBytes, map[string]bool{}
	for name := range strings.FieldsSeq(names) {
		e.defined[name] = true
	}
	ask := asked{trip: wire.Trip{Generation: generation, Definitions: digest}}
	var confirmed bool
	if e.offset, confirmed = e.confirmed(known); confirmed {
		now := e.clock()
		ask.trip.Clock = &now
	}
	if push {
		if err := e.prepare(ctx); err != nil {
			return err
		}
		if confirmed {
			if err := e.askForAnswers(ctx, &ask); err != nil {
				return err
			}
		}
	}
	if err := e.showSeals(ctx, known, &ask.trip); err != nil {
		return err
	}
	if pull {
		if err := e.tidy(ctx); err != nil {
			return err
		}
		if err := e.askForPages(ctx, known, &ask); err != nil {
			return err
		}
	}
	if maps.Equal(ask.trip.Sealed, ask.trip.Cursors) {
		ask.trip.Sealed = nil // as it mostly is
	}
	return e.travel(ctx, ask)
}

// showSeals shows central its own words on where it was: the one on all cursors, and those that say more.
func (e *exchange) showSeals(ctx context.Context, known map[string]string, trip *wire.Trip) error {
	var all sealed
	if text := known[file.FactSeal]; text != "" {
		if err := json.Unmarshal([]byte(text), &all); err != nil {
			return fmt.Errorf("%w: the seal of all cursors", file.ErrDamaged)
		}
		trip.Seal, trip.Sealed = all.Seal, all.Cursors
	}
	var seals []string
	if err := e.DB.SelectContext(ctx, &seals, `SELECT seal FROM collections WHERE seal <> '' ORDER BY pulled_at DESC`); err != nil {
		return file.StoreError(err)
	}
	for _, seal := range seals {
		parts := strings.Split(seal, ".")
		if at, covered := all.Cursors[parts[0]]; covered && len(parts) > 1 {
			if position, err := strconv.ParseInt(parts[1], 10, 64); err == nil && position <= at {
				continue
			}
		}
		if len(trip.Seals) < wire.MostSeals {
			trip.Seals = append(trip.Seals, seal)
		}
	}
	return nil
}

// recognise shows central its word on all cursors, the long way, which has no room for it.
func (e *exchange) recognise(ctx context.Context) error {
	known, err := file.Facts(ctx, e.DB)
	if err != nil || known[file.FactSeal] == "" {
		return file.StoreError(err)
	}
	digest, _, _ := strings.Cut(known[file.FactDefinitions], " ")
	trip := wire.Trip{Generation: e.generation, Definitions: digest}
	if err := e.showSeals(ctx, known, &trip); err != nil {
		return err
	}
	var problem *link.Problem
	err = e.call(ctx, http.MethodPost, "/v1/trips", trip, nil)
	if errors.As(err, &problem) && problem.Type != wire.ProblemMoved {
		return nil // what it is will be said again by what comes next
	}
	return err
}

// travel makes a trip, and stores what it brings.
func (e *exchange) travel(ctx context.Context, ask asked) error {
	owed, err := e.owed(ctx)
	if err != nil {
		return err
	}
	ask.trip.Unsent, ask.trip.Refused, ask.trip.Waiting = owed.Unsent-len(ask.changes), owed.Refused, owed.Waiting
	ask.trip.Stored = e.Size()
	if ask.trip.Settings, err = file.Untold(ctx, e.DB); err != nil {
		return file.StoreError(err)
	}
	var met wire.Met
	sent := e.Now()
	if err := e.call(ctx, http.MethodPost, "/v1/trips", ask.trip, &met); err != nil {
		return err
	}
	if met.Generation != uuid.Nil && met.Generation != ask.trip.Generation {
		return errAnew
	}
	if err := e.toldSettings(ctx, ask.trip.Settings); err != nil {
		return err
	}
	measured := clock.Measure(sent, met.ReceivedAt, met.AnsweredAt, e.Now())
	if ask.trip.Clock == nil || measured.Error < e.offset.Error {
		e.offset = measured
	}
	e.maxChanges, e.maxBytes, e.revoked, e.errands = met.MaxChanges, met.MaxBytes, met.Revoked, met.Errands
	if err := e.within(ctx, func(tx *sqlx.Tx) error {
		if err := file.SetFact(ctx, tx, file.FactOpen, strconv.FormatBool(met.Open)); err != nil {
			return err
		}
		return e.keepOffset(ctx, tx)
	}); err != nil {
		return err
	}
	return e.hear(ctx, ask, met)
}

// hear stores what a trip has brought. The answers are to changes as they were when they left: what new definitions make of
// records, and who may no longer use the device, comes after them.
func (e *exchange) hear(ctx context.Context, ask asked, met wire.Met) error {
	if ask.trip.Batch != nil {
		if met.Answers == nil {
			return errAnew
		}
		if err := e.hearAnswers(ctx, ask.batch, ask.changes, *met.Answers); err != nil {
			return err
		}
		e.watch(Progress{Phase: "push", Done: e.summary.Sent, Total: ask.trip.Unsent + len(ask.changes)})
	}
	if met.Definitions != nil {
		if err := e.takeDefinitions(ctx, *met.Definitions); err != nil {
			return err
		}
	}
	if met.Answers != nil && met.Answers.Torn {
		return nil // what central left out as this store's own need not be here
	}
	if met.Definitions != nil || met.Revoked || len(ask.trip.Cursors) == 0 {
		return nil
	}
	return e.hearPages(ctx, ask, met)
}

func (e *exchange) hearPages(ctx context.Context, ask asked, met wire.Met) error {
	then := maps.Clone(ask.trip.Cursors)
	settled := map[string]bool{}
	for name := range ask.trip.Cursors {
		settled[name] = true
	}
	for _, name := range met.Left {
		delete(settled, name)
	}
	// What the batch has made to be loaded again is not all on the page.
	var anew []string
	if err := e.DB.SelectContext(ctx, &anew, `SELECT name FROM collections WHERE loading`); err != nil {
		return file.StoreError(err)
	}
	var pages []wire.Page
	for _, text := range met.Pages {
		page, err := wire.ReadPage(text)
		if err != nil {
			return fmt.Errorf("central sent a page that cannot be read: %w", err)
		}
		then[page.Collection] = page.Cursor
		if slices.Contains(anew, page.Collection) {
			continue
		}
		if err := e.makeWhole(ctx, &page); err != nil {
			return err
		}
		pages = append(pages, page)
		if page.More {
			delete(settled, page.Collection)
		}
	}
	for _, name := range anew {
		delete(settled, name)
	}
	maps.Copy(then, met.Heads)
	heads := map[string]int64{}
	for name := range settled {
		heads[name] = then[name]
	}
	// All in one transaction: a cursor without central's word on it would not tell that central was put back.
	err := e.within(ctx, func(tx *sqlx.Tx) error {
		for _, page := range pages {
			if err := e.storePage(ctx, tx, page, false); err != nil {
				return err
			}
		}
		text, err := json.Marshal(heads)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE collections SET cursor = h.value, head = max(head, h.value), pulled_at = ?2
			FROM json_each(?1) h WHERE h.key = name`, string(text), file.TimeText(e.Now())); err != nil {
			return err
		}
		if met.Seal == "" {
			return nil
		}
		if text, err = json.Marshal(sealed{met.Seal, then}); err != nil {
			return err
		}
		return file.SetFact(ctx, tx, file.FactSeal, string(text))
	})
	if err != nil {
		return err
	}
	for _, page := range pages {
		e.watch(Progress{Phase: "pull", Collection: page.Collection, Done: len(page.Records)})
	}
	e.settled = settled
	if len(pages) == 0 { // otherwise the report says how far it has come
		told := report(ask.trip, met)
		e.told = &told
	}
	return nil
}

// report is what central knows of the store by a trip and its answer.
func report(trip wire.Trip, met wire.Met) wire.Report {
	told := wire.Report{Cursors: maps.Clone(trip.Cursors), Unsent: trip.Unsent, Refused: trip.Refused, Waiting: trip.Waiting, Clock: trip.Clock}
	maps.Copy(told.Cursors, met.Heads)
	if met.Answers != nil {
		refused, waiting := met.Answers.Left()
		told.Refused, told.Waiting = told.Refused+refused, told.Waiting+waiting
	}
	return told
}

// drift is how much the steady clocks of machines may go wrong, as a part of the time that has passed: ten times what
// crystals do.
const drift = 2e-4

// confirmed is the offset of the device's clock now, by what was measured last and a clock that nobody turns. It is not
// known where the machine was started anew since.
func (e *exchange) confirmed(known map[string]string) (clock.Offset, bool) {
	var by, within, line, at int64
	boot, since := e.Tick()
	n, err := fmt.Sscanf(known[file.FactOffset], "%d %d %d %d", &by, &within, &line, &at)
	if err != nil || n < 4 || boot == "" || known[file.FactBoot] != boot {
		return clock.Offset{}, false
	}
	turned := time.Duration(e.Now().UnixNano()) - since - time.Duration(line)
	passed := since - time.Duration(at)
	return clock.Offset{By: time.Duration(by) - turned, Error: time.Duration(within) + time.Duration(float64(passed)*drift)}, passed >= 0
}

// askForAnswers adds the first batch.
func (e *exchange) askForAnswers(ctx context.Context, ask *asked) error {
	most, err := e.batchSize(ctx, max(min(firstBatch, e.maxChanges), 1))
	if err != nil {
		return err
	}
	if ask.batch, ask.changes, err = e.nextBatch(ctx, most); err != nil || len(ask.changes) == 0 {
		return err
	}
	batch, err := e.batch(ctx, ask.batch, ask.changes)
	ask.trip.Batch = &batch
	return err
}

// askForPages adds the cursors of all collections that are loaded as far as whoever uses the device covers them.
func (e *exchange) askForPages(ctx context.Context, known map[string]string, ask *asked) error {
	all, err := e.All(ctx, e.DB)
	if err != nil {
		return err
	}
	var held []string
	if err := json.Unmarshal([]byte(known[file.FactHeld]), &held); err != nil {
		return fmt.Errorf("%w: the territories of the device's workers", file.ErrDamaged)
	}
	var rows []struct {
		Name   string `db:"name"`
		Cursor int64  `db:"cursor"`
		Covers string `db:"covers"`
	}
	if err := e.DB.SelectContext(ctx, &rows, `SELECT name, cursor, covers FROM collections
		WHERE pulled_at IS NOT NULL AND NOT loading AND gaining IS NULL`); err != nil {
		return file.StoreError(err)
	}
	ask.trip.Cursors, ask.trip.Parts = map[string]int64{}, true
	for _, row := range rows {
		c := all[row.Name]
		if !e.defined[row.Name] || !c.Sync.Direction.Pulls() || !c.Sync.Keep.Loads() {
			continue
		}
		var covers []string
		if err := json.Unmarshal([]byte(row.Covers), &covers); err != nil {
			return fmt.Errorf("%w: the territories of %s", file.ErrDamaged, row.Name)
		}
		covered := slices.Equal(covers, []string{rights.All})
		if c.Territorial() {
			covered = len(covers) == len(held) && !slices.ContainsFunc(held, func(key string) bool { return !slices.Contains(covers, key) })
		}
		if covered {
			ask.trip.Cursors[row.Name] = row.Cursor
		}
	}
	if known[file.FactCopied] == "true" {
		return nil // what this device itself once sent may not be here any more
	}
	ask.trip.Answered, err = e.answeredAfter(ctx, ask.changes)
	return err
}
