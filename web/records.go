package web

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/central/finding"
	"homing/central/past"
	"homing/core/change"
	"homing/core/merge"
	"homing/core/query"
	"homing/core/record"
	"homing/wire"
)

// RecordPath names one record. It is exported since the API description only looks into exported parts of a request.
type RecordPath struct {
	Collection string    `path:"collection"`
	ID         uuid.UUID `path:"id" format:"uuid"`
}

// LookedFor are the records that a list or an export is of. It is exported since the API description only looks into
// exported parts of a request.
type LookedFor struct {
	Collection string    `path:"collection"`
	Where      []string  `query:"where,explode" doc:"Conditions such as status=open; with != < <= > >= or ~ for contains. All must hold; of several with = for one field, any."`
	Search     string    `query:"search" doc:"Words that the record contains."`
	Label      string    `query:"label" doc:"What the record is called, whatever the case."`
	Sort       string    `query:"sort" doc:"Fields, comma-separated; a leading dash reverses."`
	Removed    bool      `query:"removed" doc:"Those that were removed, in place of those that are there."`
	By         string    `query:"by" maxLength:"80" doc:"Only those that this worker edited last."`
	Since      time.Time `query:"since" doc:"Only those that were edited last then or later, by central's time."`
	Until      time.Time `query:"until" doc:"Only those that were edited last before."`
	Within     string    `query:"within" maxLength:"200" doc:"Only those whose place lies in an area: FIELD:WEST,SOUTH,EAST,NORTH in degrees, by a field that holds a point."`
	As         string    `query:"as" maxLength:"80" doc:"Only what this worker sees; for admins."`
}

func (l LookedFor) looked() (what finding.Looked, err error) {
	what = finding.Looked{Ask: query.Ask{Where: l.Where, Search: l.Search, Label: l.Label, Sort: l.Sort}, Removed: l.Removed, By: l.By,
		Since: l.Since, Until: l.Until}
	if l.Within != "" {
		what.Within, err = finding.ReadArea(l.Within)
	}
	return what, err
}

type listIn struct {
	LookedFor
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"50"`
	Offset int    `query:"offset" minimum:"0" default:"0"`
	After  string `query:"after" doc:"The id of the last record of the page before, in place of an offset: the next page is as quick as the first, however many there are. For lists that nothing sorts."`
}

func (s *Server) registerRecords() {
	add(s, s.operation(http.MethodGet, "/v1/collections", "collections",
		"All collections with their definitions and numbers", readers),
		func(ctx context.Context, _ *nothing) (*answer[[]finding.Overview], error) {
			all, err := s.central.Overviews(ctx, who(ctx).Person)
			return &answer[[]finding.Overview]{all}, err
		})

	type defineIn struct{ Body wire.Definitions }
	define := s.operation(http.MethodPut, "/v1/definitions", "define", "Create or change collections, all or none",
		definers)
	define.Errors = append(define.Errors, http.StatusConflict)
	add(s, define, func(ctx context.Context, in *defineIn) (*answer[[]changes.Defined], error) {
		defined, err := s.central.Define(ctx, who(ctx).Name, in.Body.Definitions)
		return &answer[[]changes.Defined]{defined}, err
	})

	add(s, s.operation(http.MethodPost, "/v1/definitions/preview", "preview-definitions",
		"Say what defining would do, and change nothing", definers),
		func(ctx context.Context, in *defineIn) (*answer[[]changes.Plan], error) {
			plans, err := s.central.Preview(ctx, in.Body.Definitions)
			return &answer[[]changes.Plan]{plans}, err
		})

	s.registerSources()

	add(s, s.operation(http.MethodGet, "/v1/records/{collection}", "list-records", "A page of records", readers),
		func(ctx context.Context, in *listIn) (*answer[finding.Listing], error) {
			what, err := in.looked()
			if err != nil {
				return nil, err
			}
			what.Limit, what.Offset, what.After = in.Limit, in.Offset, in.After
			asker, err := s.central.SeenAs(ctx, who(ctx).Person, in.As)
			if err != nil {
				return nil, err
			}
			listing, err := s.central.Look(ctx, asker, in.Collection, what)
			return &answer[finding.Listing]{listing}, err
		})
	s.registerExport()
	s.registerTables()
	type showIn struct {
		RecordPath
		Revision int64     `query:"revision" minimum:"1" doc:"As it was at this revision."`
		AsOf     time.Time `query:"as_of" doc:"As central had it at this time."`
	}
	add(s, s.operation(http.MethodGet, "/v1/records/{collection}/{id}", "show-record",
		"One record, removed or not, as it is or as it was", readers),
		func(ctx context.Context, in *showIn) (*answer[wire.Record], error) {
			if in.Revision > 0 || !in.AsOf.IsZero() {
				r, err := s.central.RecordAt(ctx, who(ctx).Person, in.Collection, in.ID,
					past.Moment{Revision: in.Revision, AsOf: in.AsOf})
				return &answer[wire.Record]{r}, err
			}
			r, err := s.central.Record(ctx, who(ctx).Person, in.Collection, in.ID)
			return &answer[wire.Record]{r}, err
		})
	add(s, s.operation(http.MethodGet, "/v1/history/{collection}/{id}", "history",
		"All versions of a record, the latest first", readers),
		func(ctx context.Context, in *RecordPath) (*answer[[]wire.HistoryEntry], error) {
			history, err := s.central.History(ctx, who(ctx).Person, in.Collection, in.ID)
			return &answer[[]wire.HistoryEntry]{history}, err
		})
	type fingerprintIn struct {
		Collection string `path:"collection"`
	}
	type fingerprintOut struct {
		Records     int    `json:"records"`
		Fingerprint string `json:"fingerprint" doc:"The same on both sides when they hold the same records."`
	}
	add(s, s.operation(http.MethodGet, "/v1/fingerprint/{collection}", "fingerprint",
		"Count and fingerprint of a collection's records", readers),
		func(ctx context.Context, in *fingerprintIn) (*answer[fingerprintOut], error) {
			if _, err := s.central.Collection(ctx, in.Collection); err != nil {
				return nil, err
			}
			set, err := s.central.Fingerprint(ctx, who(ctx).Person, in.Collection)
			return &answer[fingerprintOut]{fingerprintOut{set.Count(), set.String()}}, err
		})
	type rowsIn struct {
		Collection string `path:"collection"`
		Body       struct {
			Key     string                       `json:"key,omitempty" doc:"The field by which a row finds its record, or several, separated by commas; without one each row adds a record."`
			Preview bool                         `json:"preview,omitempty" doc:"Say what would become of the rows, and change nothing. Whether each could be accepted shows when it is sent."`
			Rows    []map[string]json.RawMessage `json:"rows" maxItems:"1000" doc:"Fields by name; null clears a field, unless it holds an empty text, which a table cannot tell from none; one that is left out stays."`
		}
	}
	op := s.operation(http.MethodPut, "/v1/rows/{collection}", "put-rows",
		"Add or update many records from the rows of a table", editors)
	op.Errors = append(op.Errors, http.StatusRequestEntityTooLarge)
	add(s, op, func(ctx context.Context, in *rowsIn) (*answer[[]changes.Row], error) {
		put := s.central.PutRows
		if in.Body.Preview {
			put = s.central.PreviewRows
		}
		outcomes, err := put(ctx, who(ctx).Person, in.Collection, in.Body.Key, in.Body.Rows)
		return &answer[[]changes.Row]{outcomes}, err
	})
	s.registerAccepted()
	s.registerWrites()
	s.registerConflicts()
	s.registerReopening()
}

func (s *Server) registerWrites() {
	type addIn struct {
		Keyed
		Collection string `path:"collection"`
		Body       struct {
			ID     *uuid.UUID                 `json:"id,omitempty" format:"uuid" doc:"The record's id; made by central when left out."`
			Fields map[string]json.RawMessage `json:"fields"`
		}
	}
	op := s.operation(http.MethodPost, "/v1/records/{collection}", "add-record", "Add a record", editors)
	op.DefaultStatus = http.StatusCreated
	op.Errors = append(op.Errors, http.StatusConflict)
	add(s, op, func(ctx context.Context, in *addIn) (*answer[wire.Answer], error) {
		id := uuid.Must(uuid.NewV7())
		if in.Body.ID != nil {
			id = *in.Body.ID
		}
		got, err := s.central.Direct(ctx, who(ctx).Person, changes.Write{Collection: in.Collection, Record: id,
			Kind: change.Add, Base: -1, Fields: deltaOf(in.Body.Fields), Key: in.Key})
		return s.again(ctx, in.Collection, id, got, err)
	})

	type editIn struct {
		Keyed
		RecordPath
		Body struct {
			Base   *int64                     `json:"base,omitempty" minimum:"1" doc:"The revision that the author saw. Fields that others have changed since follow the collection's rules. Left out, the current one is meant."`
			Fields map[string]json.RawMessage `json:"fields" doc:"Only the fields to change; null clears a field."`
		}
	}
	op = s.operation(http.MethodPatch, "/v1/records/{collection}/{id}", "edit-record", "Edit some fields of a record",
		editors)
	op.Errors = append(op.Errors, http.StatusConflict)
	add(s, op, func(ctx context.Context, in *editIn) (*answer[wire.Answer], error) {
		got, err := s.central.Direct(ctx, who(ctx).Person, changes.Write{Collection: in.Collection, Record: in.ID,
			Kind: change.Edit, Base: baseOf(in.Body.Base), Fields: deltaOf(in.Body.Fields), Key: in.Key})
		return s.again(ctx, in.Collection, in.ID, got, err)
	})

	type bringBackIn struct {
		RecordPath
		Body struct {
			Revision int64 `json:"revision" minimum:"1"`
		}
	}
	op = s.operation(http.MethodPost, "/v1/bring-back/{collection}/{id}", "bring-back",
		"Make a record what it was at a revision, by a new change", editors)
	op.Errors = append(op.Errors, http.StatusConflict)
	add(s, op, func(ctx context.Context, in *bringBackIn) (*answer[wire.Answer], error) {
		got, err := s.central.BringBack(ctx, who(ctx).Person, in.Collection, in.ID, in.Body.Revision)
		return s.direct(got, err)
	})

	type removeIn struct {
		Keyed
		RecordPath
		Base         int64 `query:"base" minimum:"0" doc:"The revision that the author saw; an edit made since outlives the removal. Left out, the current one is meant."`
		WithChildren bool  `query:"with_children" doc:"Records that belong to it go with it where their definition says so; otherwise such a removal is refused and says how many there are."`
	}
	op = s.operation(http.MethodDelete, "/v1/records/{collection}/{id}", "remove-record",
		"Remove a record; a tombstone stays", editors)
	op.Errors = append(op.Errors, http.StatusConflict)
	add(s, op, func(ctx context.Context, in *removeIn) (*answer[wire.Answer], error) {
		base := in.Base
		if base == 0 {
			base = -1
		}
		got, err := s.central.Direct(ctx, who(ctx).Person, changes.Write{Collection: in.Collection, Record: in.ID,
			Kind: change.Remove, Base: base, WithChildren: in.WithChildren, Key: in.Key})
		return s.again(ctx, in.Collection, in.ID, got, err)
	})
}

func (s *Server) registerConflicts() {
	type conflictsIn struct {
		Collection string    `query:"collection" doc:"Only conflicts of this collection."`
		Record     uuid.UUID `query:"record" format:"uuid" doc:"Only conflicts of this record."`
		Field      string    `query:"field" maxLength:"200" doc:"Only conflicts over this field."`
		Person     string    `query:"person" maxLength:"80" doc:"Only conflicts in which this worker said one of the values."`
		Before     time.Time `query:"before" doc:"Only conflicts that were opened before."`
		Limit      int       `query:"limit" minimum:"0" maximum:"10000" default:"0" doc:"At most so many, the oldest; 0 stands for all."`
	}
	add(s, s.operation(http.MethodGet, "/v1/conflicts", "conflicts", "The open conflicts, the oldest first", readers),
		func(ctx context.Context, in *conflictsIn) (*answer[[]finding.Conflict], error) {
			all, err := s.central.Conflicts(ctx, who(ctx).Person, finding.Disputed{Collection: in.Collection, Record: in.Record,
				Field: in.Field, Person: in.Person, Before: in.Before, Limit: in.Limit})
			return &answer[[]finding.Conflict]{all}, err
		})
	type countOut struct {
		Open int `json:"open"`
	}
	add(s, s.operation(http.MethodGet, "/v1/conflicts/count", "count-conflicts", "How many conflicts are open", readers),
		func(ctx context.Context, _ *nothing) (*answer[countOut], error) {
			open, err := s.central.CountConflicts(ctx, who(ctx).Person)
			return &answer[countOut]{countOut{open}}, err
		})
	type settleIn struct {
		Keyed
		Body struct {
			Collection string          `json:"collection"`
			Record     uuid.UUID       `json:"record" format:"uuid"`
			Field      string          `json:"field"`
			Base       int64           `json:"base" minimum:"1" doc:"The record's revision that the author saw."`
			Value      json.RawMessage `json:"value" doc:"What the field is to be: one of the values in dispute, or another; null clears it."`
		}
	}
	op := s.operation(http.MethodPost, "/v1/conflicts/settlements", "settle",
		"Settle a conflict; of several who do so at once, one succeeds", editors)
	op.Errors = append(op.Errors, http.StatusNotFound, http.StatusConflict)
	add(s, op, func(ctx context.Context, in *settleIn) (*answer[wire.Answer], error) {
		got, err := s.central.Settle(ctx, who(ctx).Person, in.Body.Collection, in.Body.Record, in.Body.Base,
			changes.Settlement{Field: in.Body.Field, Value: in.Body.Value, Key: in.Key})
		return s.again(ctx, in.Body.Collection, in.Body.Record, got, err)
	})
}

func (s *Server) registerReopening() {
	type reopenIn struct {
		Body struct {
			Collection string    `json:"collection"`
			Record     uuid.UUID `json:"record" format:"uuid"`
			Field      string    `json:"field"`
		}
	}
	op := s.operation(http.MethodPost, "/v1/conflicts/reopenings", "reopen", "Open a conflict again that was settled",
		editors)
	op.Errors = append(op.Errors, http.StatusNotFound, http.StatusConflict)
	add(s, op, func(ctx context.Context, in *reopenIn) (*answer[wire.Answer], error) {
		got, err := s.central.Reopen(ctx, who(ctx).Person, in.Body.Collection, in.Body.Record, in.Body.Field)
		return s.direct(got, err)
	})

	type byRuleIn struct {
		Body struct {
			Rule         merge.Rule `json:"rule" enum:"newest,first,min,max" doc:"newest takes the value edited last, first the one that central has."`
			Collection   string     `json:"collection,omitempty" doc:"Only conflicts of this collection."`
			Field        string     `json:"field,omitempty" doc:"Only conflicts over this field."`
			OpenedBefore time.Time  `json:"opened_before,omitzero" doc:"Only conflicts that were opened before."`
			Preview      bool       `json:"preview,omitempty" doc:"Only say what would be settled, and how."`
		}
	}
	op = s.operation(http.MethodPost, "/v1/conflicts/settlements-by-rule", "settle-by-rule",
		"Settle many conflicts by a rule, or see how it would", editors)
	add(s, op, func(ctx context.Context, in *byRuleIn) (*answer[[]central.SettledOne], error) {
		all, err := s.central.SettleAll(ctx, who(ctx).Person,
			central.Settling{Collection: in.Body.Collection, Field: in.Body.Field, Before: in.Body.OpenedBefore,
				Rule: in.Body.Rule, Apply: !in.Body.Preview})
		return &answer[[]central.SettledOne]{all}, err
	})
}

// Keyed is the part of a question that makes it safe to ask again, when no answer came.
type Keyed struct {
	Key string `header:"Idempotency-Key" maxLength:"200" doc:"A text of the asker's own that stands for this change, such as a UUID. Asked again with the same one, the change is not made again, and the same is answered. For an add, give the id, too."`
}

// again is [Server.direct] for what may be an answer that was given before: the record is then as it is now.
func (s *Server) again(ctx context.Context, collection string, id uuid.UUID, got wire.Answer, err error) (*answer[wire.Answer], error) {
	if err == nil && got.Record == nil {
		now, gone := s.central.Record(ctx, who(ctx).Person, collection, id)
		if gone == nil {
			got.Record = &now
		}
	}
	return s.direct(got, err)
}

func (s *Server) direct(got wire.Answer, err error) (*answer[wire.Answer], error) {
	if err != nil {
		return nil, err
	}
	s.metrics.count([]wire.Answer{got})
	if got.Record != nil {
		got.Record.Marks = nil // the merge needs them, people do not
	}
	return &answer[wire.Answer]{got}, nil
}

func deltaOf(fields map[string]json.RawMessage) record.Delta {
	delta := record.Delta{}
	for name, value := range fields {
		delta[name] = record.Edit{To: value}
	}
	return delta
}

func baseOf(base *int64) int64 {
	if base == nil {
		return -1
	}
	return *base
}
