package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/google/uuid"

	"homing/central"
	"homing/central/fault"
	"homing/central/finding"
	"homing/central/pulls"
	"homing/core/change"
	"homing/core/query"
	"homing/wire"
)

// bodyPatience is how long a body may take to arrive: the links it comes over are slow.
const bodyPatience = 2 * time.Minute

func (s *Server) registerExchange() {
	add(s, s.operation(http.MethodGet, "/v1/hello", "hello", "Who central is, what it speaks and what time it has",
		anyone),
		func(context.Context, *nothing) (*answer[wire.Hello], error) {
			received := s.central.Now()
			return &answer[wire.Hello]{wire.Hello{Product: "homing", Build: s.options.Build, Protocols: protocols,
				Generation: s.central.Generation(), Earlier: s.central.Earlier(),
				ReceivedAt: received, AnsweredAt: s.central.Now(), Open: s.options.Open,
				MaxChanges: s.options.MaxChanges, MaxBytes: int(s.options.MaxBodyBytes)}}, nil
		})

	type enrolIn struct{ Body wire.Enrolment }
	add(s, s.operation(http.MethodPost, "/v1/enrolments", "enrol", "Enrol a device with a one-time code", anyone),
		func(ctx context.Context, in *enrolIn) (*answer[wire.Enrolled], error) {
			owner := ""
			if s.options.Open {
				owner = central.OpenName
			}
			return guessing(s, ctx, func() (*answer[wire.Enrolled], error) {
				got, err := s.central.Enrol(ctx, in.Body, owner)
				got.SealTo = s.central.SealTo()
				return &answer[wire.Enrolled]{got}, err
			})
		})

	type definitionsIn struct {
		Seals string `header:"Homing-Seals" doc:"The seals of the cursors that the device has, separated by commas."`
	}
	op := s.operation(http.MethodGet, "/v1/definitions", "definitions", "The definitions of all collections", loaders)
	op.Errors = append(op.Errors, http.StatusConflict) // a seal may tell that the database was put back
	add(s, op,
		func(ctx context.Context, in *definitionsIn) (*answer[wire.Definitions], error) {
			if who(ctx).Device != nil && in.Seals != "" {
				if err := s.central.Recognise(ctx, pulls.Shown{Seals: strings.Split(in.Seals, ",")}); err != nil {
					return nil, err
				}
			}
			if device := who(ctx).Device; device != nil {
				told, err := s.central.Told(ctx, *device)
				return &answer[wire.Definitions]{told}, err
			}
			all, err := s.central.Definitions(ctx)
			return &answer[wire.Definitions]{wire.Definitions{Definitions: all, Territories: who(ctx).Territories,
				Rules: central.MergeRules(all)}}, err
		})

	type joinIn struct {
		Body struct {
			Code string `json:"code" minLength:"1" doc:"A one-time code of the worker's."`
		}
	}
	add(s, s.operation(http.MethodPost, "/v1/device/people", "join-device", "Let a further worker use this device",
		devices),
		func(ctx context.Context, in *joinIn) (*answer[central.Person], error) {
			return guessing(s, ctx, func() (*answer[central.Person], error) {
				person, err := s.central.Join(ctx, *who(ctx).Device, in.Body.Code)
				return &answer[central.Person]{person}, err
			})
		})

	type renewIn struct {
		Body struct {
			Incarnation uuid.UUID `json:"incarnation" format:"uuid"`
		}
	}
	renew := s.operation(http.MethodPut, "/v1/device/incarnation", "renew-incarnation",
		"Say that the local store has a new incarnation, since it was restored", deliverers)
	renew.Errors = append(renew.Errors, http.StatusConflict)
	add(s, renew, func(ctx context.Context, in *renewIn) (*struct{}, error) {
		return nil, s.central.Renew(ctx, *who(ctx).Device, in.Body.Incarnation)
	})

	s.registerPush()
	s.registerPull()
	s.registerLookUp()

	s.registerTrip()
	type reportIn struct {
		Exchange string `header:"Homing-Exchange" doc:"Id of the exchange, for the log."`
		Body     wire.Report
	}
	add(s, s.operation(http.MethodPut, "/v1/report", "report",
		"Say what the device holds and owes, at the end of an exchange", deliverers),
		func(ctx context.Context, in *reportIn) (*struct{}, error) {
			exchange, err := headerID(wire.HeaderExchange, in.Exchange)
			if err != nil {
				return nil, err
			}
			return nil, s.central.TakeReport(ctx, *who(ctx).Device, exchange, in.Body)
		})
}

func (s *Server) registerPush() {
	type pushIn struct {
		RawBody []byte
	}
	op := s.operation(http.MethodPost, "/v1/batches", "push", "Push a batch of changes", deliverers)
	op.Errors = append(op.Errors, http.StatusConflict, http.StatusRequestEntityTooLarge, http.StatusUnprocessableEntity,
		http.StatusInsufficientStorage)
	op.Description = "Each change gets its own answer, in the batch's order. Sending a batch again has no further " +
		"effect and gets the same answers."
	op.SkipValidateBody = true // a change that does not fit the schema is refused alone, not with its batch
	op.RequestBody = &huma.RequestBody{Required: true,
		Content: map[string]*huma.MediaType{wire.JSON: {Schema: s.batchSchema()}}}
	add(s, op, func(ctx context.Context, in *pushIn) (*answer[wire.Answers], error) {
		var batch wire.Batch
		if err := json.Unmarshal(in.RawBody, &batch); err != nil {
			return nil, unreadableBody(err)
		}
		device := *who(ctx).Device
		answers, err := s.central.Push(ctx, device, batch, len(in.RawBody))
		if err != nil {
			return nil, err
		}
		s.metrics.count(answers.Answers)
		return &answer[wire.Answers]{answers}, nil
	})
}

func (s *Server) registerTrip() {
	type tripIn struct {
		Exchange string `header:"Homing-Exchange" doc:"Id of the exchange, for the log."`
		Store    string `header:"Homing-Incarnation" doc:"Identity of the local store that asks; needed for answered to mean anything."`
		RawBody  []byte
	}
	op := s.operation(http.MethodPost, "/v1/trips", "trip", "Push a first batch, hear what changed and get first pages, in one request",
		deliverers)
	op.Errors = append(op.Errors, http.StatusNotFound, http.StatusConflict, http.StatusRequestEntityTooLarge,
		http.StatusUnprocessableEntity, http.StatusInsufficientStorage)
	op.Description = "What an exchange needs in which little has happened. Each part means what it means in the request of its own: " +
		"definitions, push, pull and report. What does not fit follows with these."
	op.SkipValidateBody = true // as with a push
	s.batchSchema()
	schemas := s.api.OpenAPI().Components.Schemas
	op.RequestBody = &huma.RequestBody{Required: true,
		Content: map[string]*huma.MediaType{wire.JSON: {Schema: schemas.Schema(reflect.TypeFor[wire.Trip](), true, "Trip")}}}
	met := schemas.Schema(reflect.TypeFor[wire.Met](), true, "Met")
	page := schemas.Schema(reflect.TypeFor[wire.Page](), true, "Page")
	schemas.SchemaFromRef(met.Ref).Properties["pages"].Items = page
	op.Responses = map[string]*huma.Response{"200": {Description: "What central has to say",
		Content: map[string]*huma.MediaType{wire.JSON: {Schema: met}}}}
	add(s, op, func(ctx context.Context, in *tripIn) (*huma.StreamResponse, error) {
		asker := central.Asker{Device: *who(ctx).Device, Bytes: len(in.RawBody), Shown: s.hidden}
		var err error
		if asker.Exchange, err = headerID(wire.HeaderExchange, in.Exchange); err != nil {
			return nil, err
		}
		if asker.Store, err = headerID(wire.HeaderIncarnation, in.Store); err != nil {
			return nil, err
		}
		var trip wire.Trip
		if err := json.Unmarshal(in.RawBody, &trip); err != nil {
			return nil, unreadableBody(err)
		}
		if min(trip.Unsent, trip.Refused, trip.Waiting) < 0 || trip.Stored < 0 || len(trip.Seals) > wire.MostSeals {
			return nil, fault.Fail(fault.Invalid, "unsent, refused, waiting and stored are counts, and seals are %d at most", wire.MostSeals)
		}
		// While links that stall hold all pages, a trip brings none, and what it pushes goes in all the same.
		written := func() {}
		if s.onWay.TryAcquire(1) {
			asker.Room, written = central.TripBytes, func() { s.onWay.Release(1) }
		}
		text, err := s.trip(ctx, asker, trip)
		if err != nil {
			written()
			return nil, err
		}
		return s.atItsPace(ctx, text, written), nil
	})
}

func (s *Server) trip(ctx context.Context, asker central.Asker, trip wire.Trip) ([]byte, error) {
	met, many, err := central.Trip(ctx, s.central, asker, trip)
	if err != nil {
		return nil, err
	}
	met.Open, met.MaxChanges, met.MaxBytes = s.options.Open, s.options.MaxChanges, int(s.options.MaxBodyBytes)
	if met.Answers != nil {
		s.metrics.count(met.Answers.Answers)
	}
	for n, page := range many.Pages {
		s.metrics.delivered.Add(float64(len(page.Records)))
		met.Pages = append(met.Pages, page.AppendJSON(make([]byte, 0, many.Sizes[n]+400*len(page.Records)+256)))
	}
	text, err := json.Marshal(met)
	return s.hidden(text), err
}

// batchSchema describes a batch with its changes, which the program itself reads one by one.
func (s *Server) batchSchema() *huma.Schema {
	registry := s.api.OpenAPI().Components.Schemas
	reference := registry.Schema(reflect.TypeFor[wire.Batch](), true, "Batch")
	open := registry.Schema(reflect.TypeFor[change.Change](), true, "Change")
	sealed := registry.Schema(reflect.TypeFor[wire.Sealed](), true, "Sealed")
	registry.SchemaFromRef(reference.Ref).Properties["changes"].Items = &huma.Schema{OneOf: []*huma.Schema{open, sealed}}
	return reference
}

func unreadableBody(err error) error {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		return &fault.Error{Kind: fault.Invalid, Message: fmt.Sprintf("the body is not JSON: %v at byte %d; nothing of "+
			"it was stored", err, syntax.Offset)}
	case errors.As(err, &kind):
		return &fault.Error{Kind: fault.Invalid, Message: fmt.Sprintf("the body's %s cannot be %s; nothing of it was "+
			"stored", kind.Field, kind.Value)}
	}
	return &fault.Error{Kind: fault.Invalid, Message: fmt.Sprintf("the body cannot be read: %v; nothing of it was "+
		"stored", err)}
}

func (s *Server) registerPull() {
	type pullIn struct {
		Covering
		Collection string `path:"collection"`
		Exchange   string `header:"Homing-Exchange" doc:"Id of the exchange, for the log."`
		Store      string `header:"Homing-Incarnation" doc:"Identity of the local store that asks; needed for answered to mean anything."`
		Cursor     int64  `query:"cursor" minimum:"0" doc:"How far the device has pulled; 0 loads everything."`
		Answered   int64  `query:"answered" minimum:"0" doc:"A number up to which all changes of the store have an answer that is stored; these do not come back as news."`
		Limit      int    `query:"limit" minimum:"1" maximum:"5000" default:"500" doc:"Most records of the page."`
		Parts      int64  `query:"parts" minimum:"0" doc:"The position as of which the device has all that it covers: records may come in parts against that. Whole ones when left out."`
		Load       bool   `query:"load" doc:"Leave out removals and withdrawals: the device loads territories that it has gained, with a cursor of their own."`
	}
	op := s.operation(http.MethodGet, "/v1/changes/{collection}", "pull",
		"Pull what changed in a collection after a cursor", pullers)
	op.Errors = append(op.Errors, http.StatusConflict)
	op.Description = "Store the page and its cursor together, then ask again from the cursor while more is true."
	page := s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[wire.Page](), true, "Page")
	op.Responses = map[string]*huma.Response{"200": {Description: "A page",
		Content: map[string]*huma.MediaType{wire.JSON: {Schema: page}}}}
	add(s, op, func(ctx context.Context, in *pullIn) (*huma.StreamResponse, error) {
		ask := pulls.Request{Collection: in.Collection, Cursor: in.Cursor, Answered: in.Answered, Limit: in.Limit,
			Load: in.Load, Parts: in.Parts, Shown: s.hidden}
		ask.Covers = in.loaded
		var err error
		if ask.Exchange, err = headerID(wire.HeaderExchange, in.Exchange); err != nil {
			return nil, err
		}
		if ask.Store, err = headerID(wire.HeaderIncarnation, in.Store); err != nil {
			return nil, err
		}
		text, written, err := s.page(ctx, ask)
		if err != nil {
			return nil, err
		}
		return s.atItsPace(ctx, text, written), nil
	})
}

// atItsPace writes a text as fast as the link takes it.
func (s *Server) atItsPace(ctx context.Context, text []byte, written func()) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(out huma.Context) {
		defer written()
		_, w := humachi.Unwrap(out)
		link := http.NewResponseController(w)
		if err := link.SetWriteDeadline(time.Now().Add(pagePatience)); err == nil {
			defer link.SetWriteDeadline(time.Time{}) // the link may carry more requests
		}
		out.SetHeader("Content-Type", wire.JSON)
		if _, err := out.BodyWriter().Write(text); err != nil {
			s.log.DebugContext(ctx, "page not delivered", "error", err)
		}
	}}
}

// Covering is the part of a question that says which territories a device has loaded.
type Covering struct {
	Covers []string `query:"covers,explode" doc:"The territories that the device has loaded, each as one parameter; all that its workers hold when left out, and none when there is one that is empty."`
	loaded []string // nil when nothing was said
}

// Resolve reads the territories: covers= says that none are loaded, which is not the same as saying nothing.
func (c *Covering) Resolve(ctx huma.Context) []error {
	at := ctx.URL()
	said, any := at.Query()["covers"]
	if any {
		c.loaded = slices.DeleteFunc(append([]string{}, said...), func(key string) bool { return key == "" })
	}
	return nil
}

// headerID reads an id that a header may carry.
func headerID(name, text string) (uuid.UUID, error) {
	if text == "" {
		return uuid.Nil, nil
	}
	id, err := uuid.Parse(text)
	if err != nil {
		return id, fault.Fail(fault.Invalid, "the header %s is not a UUID", name)
	}
	return id, nil
}

// Bounds on pages. Each takes megabytes until it is written, however slow the link is that it goes over.
const (
	pagesAtOnce  = 8               // that are being made
	pagesOnWay   = 64              // that are being made or written
	pagePatience = 5 * time.Minute // for writing one
	roomPatience = 5 * time.Second // for others to be written
)

// page makes a page ready to be sent. Written gives its room back.
func (s *Server) page(ctx context.Context, ask pulls.Request) (text []byte, written func(), err error) {
	waiting, cancel := context.WithTimeout(ctx, roomPatience)
	defer cancel()
	if err := s.onWay.Acquire(waiting, 1); err != nil {
		return nil, nil, errors.Join(fault.Fail(fault.Unavailable,
			"many devices are loading over slow links; ask for this page again later"), ctx.Err())
	}
	if text, err = s.makePage(ctx, ask); err != nil {
		s.onWay.Release(1)
		return nil, nil, err
	}
	return text, func() { s.onWay.Release(1) }, nil
}

func (s *Server) makePage(ctx context.Context, ask pulls.Request) ([]byte, error) {
	select {
	case s.pages <- struct{}{}:
		defer func() { <-s.pages }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	page, err := s.central.Pull(ctx, *who(ctx).Device, ask)
	if err != nil {
		return nil, err
	}
	s.metrics.delivered.Add(float64(len(page.Records)))
	size := 256
	for _, r := range page.Records {
		size += len(r.Fields) + len(r.Marks) + 400
	}
	return s.hidden(page.AppendJSON(make([]byte, 0, size))), nil
}

// registerLookUp adds what devices ask for about collections that they do not load whole.
func (s *Server) registerLookUp() {
	type lookIn struct {
		Collection string   `path:"collection"`
		Where      []string `query:"where,explode" doc:"Conditions such as status=open; with != < <= > >= or ~ for contains. All must hold; of several with = for one field, any."`
		Search     string   `query:"search" doc:"Words that the record contains."`
		Label      string   `query:"label" doc:"What the record is called, whatever the case."`
		Sort       string   `query:"sort" doc:"Fields, comma-separated; a leading dash reverses."`
		Limit      int      `query:"limit" minimum:"1" maximum:"1000" default:"50"`
		Offset     int      `query:"offset" minimum:"0" default:"0"`
	}
	op := s.operation(http.MethodGet, "/v1/lookup/{collection}", "look-up",
		"A page of records for a device that does not keep them all", devices)
	add(s, op, func(ctx context.Context, in *lookIn) (*answer[finding.Listing], error) {
		listing, err := s.central.LookUp(ctx, *who(ctx).Device, in.Collection,
			query.Ask{Where: in.Where, Search: in.Search, Label: in.Label, Sort: in.Sort, Limit: in.Limit, Offset: in.Offset})
		return &answer[finding.Listing]{listing}, err
	})

	type printsIn struct {
		Covering
		Collection string `path:"collection"`
		Bucket     string `query:"bucket" pattern:"^([0-9a-f]{2})?$" doc:"Give each record of this bucket, too."`
	}
	op = s.operation(http.MethodGet, "/v1/fingerprints/{collection}", "fingerprints",
		"What a device should hold, by fingerprints", devices)
	op.Errors = append(op.Errors, http.StatusConflict)
	add(s, op, func(ctx context.Context, in *printsIn) (*answer[wire.Fingerprints], error) {
		got, err := s.central.Fingerprints(ctx, *who(ctx).Device, in.Collection, in.loaded, in.Bucket)
		return &answer[wire.Fingerprints]{got}, err
	})

	type refreshIn struct {
		Collection string `path:"collection"`
		Body       wire.Held
	}
	op = s.operation(http.MethodPost, "/v1/refresh/{collection}", "refresh",
		"What changed among the records that a device has looked up", devices)
	add(s, op, func(ctx context.Context, in *refreshIn) (*answer[wire.Refreshed], error) {
		records, err := s.central.Refresh(ctx, *who(ctx).Device, in.Collection, in.Body.Records)
		return &answer[wire.Refreshed]{wire.Refreshed{Records: records}}, err
	})
}
