package door

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/query"
	"homing/core/record"
	"homing/device"
	"homing/web/problem"
)

// RecordPath names one record. It is exported since the API description only looks into exported parts of a request.
type RecordPath struct {
	Collection string    `path:"collection"`
	ID         uuid.UUID `path:"id" format:"uuid"`
}

// Keyed is the part of a question that makes it safe to ask again, when no answer came.
type Keyed struct {
	Key string `header:"Idempotency-Key" maxLength:"200" doc:"A text of the asker's own that stands for this change. An add that is asked for again with the same id is answered with the record that is there; an edit that is asked for again changes nothing more."`
}

// Held is a collection as the device has it.
type Held struct {
	definition.Definition
	Head    int64      `json:"head" doc:"How far central was when last pulled."`
	Records int64      `json:"records" doc:"Records on this device."`
	Pending int        `json:"pending" doc:"Of these, records with changes that central has not accepted."`
	AsOf    *time.Time `json:"as_of,omitempty" doc:"When it was pulled last."`
}

// Listing is a page of records.
type Listing struct {
	Records []device.Record `json:"records"`
	Total   int             `json:"total" doc:"Records that fit the query on all pages, as far as they are counted."`
	More    bool            `json:"more,omitempty" doc:"There are more than total."`
	Limit   int             `json:"limit"`
	Offset  int             `json:"offset"`
}

// Saved is what became of a change, as central answers one. The answer is applied always: to this device.
type Saved struct {
	Answer   change.Verdict `json:"answer"`
	Revision int64          `json:"revision" doc:"Central's, under what is unsent; 0 where central has none yet."`
	Record   *device.Record `json:"record,omitempty"`
}

func saved(r device.Record) *answer[Saved] {
	return &answer[Saved]{Saved{change.Applied, r.Revision, &r}}
}

type listIn struct {
	Collection string   `path:"collection"`
	Where      []string `query:"where,explode" doc:"Conditions such as status=open; with != < <= > >= or ~ for contains. All must hold; of several with = for one field, any."`
	Search     string   `query:"search" doc:"Words that the record contains."`
	Label      string   `query:"label" doc:"What the record is called, whatever the case."`
	Sort       string   `query:"sort" doc:"Fields, comma-separated; a leading dash reverses."`
	Limit      int      `query:"limit" minimum:"1" maximum:"1000" default:"50"`
	Offset     int      `query:"offset" minimum:"0" default:"0"`
}

func (d *Door) register() {
	d.registerReading()
	d.registerSaving()
	d.registerWork()
	d.registerEvents()
}

func (d *Door) registerReading() {
	add(d, operation(http.MethodGet, "/v1/collections", "collections", "All collections with their definitions and numbers"),
		func(ctx context.Context, _ *nothing) (*answer[[]Held], error) {
			all, err := d.store.Collections(ctx)
			if err != nil {
				return nil, err
			}
			held := []Held{}
			for _, one := range all {
				c, err := d.store.Collection(ctx, one.Name)
				if err != nil {
					return nil, err
				}
				held = append(held, Held{c.Definition, one.Head, int64(one.Records), one.Pending, one.PulledAt})
			}
			return &answer[[]Held]{held}, nil
		})
	add(d, operation(http.MethodGet, "/v1/records/{collection}", "list-records", "A page of records"),
		func(ctx context.Context, in *listIn) (*answer[Listing], error) {
			return d.list(d.find(ctx, in.Collection, query.Ask{Where: in.Where, Search: in.Search, Label: in.Label, Sort: in.Sort, Limit: in.Limit,
				Offset: in.Offset}))
		})
	add(d, operation(http.MethodGet, "/v1/records/{collection}/{id}", "show-record", "One record"),
		func(ctx context.Context, in *RecordPath) (*answer[device.Record], error) {
			r, err := d.store.Get(ctx, in.Collection, in.ID)
			if err == nil {
				d.seen.note(r)
			}
			return &answer[device.Record]{r}, err
		})
	type childrenIn struct {
		RecordPath
		Child  string `path:"child" doc:"The collection of the children."`
		Sort   string `query:"sort" doc:"Fields, comma-separated; a leading dash reverses."`
		Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"50"`
		Offset int    `query:"offset" minimum:"0" default:"0"`
	}
	add(d, operation(http.MethodGet, "/v1/children/{collection}/{id}/{child}", "list-children", "The records of a collection that belong to one"),
		func(ctx context.Context, in *childrenIn) (*answer[Listing], error) {
			if _, err := d.store.Get(ctx, in.Collection, in.ID); err != nil {
				return nil, err
			}
			c, err := d.store.Collection(ctx, in.Child)
			if err != nil {
				return nil, err
			}
			if c.Parent == nil || c.Parent.Collection != in.Collection {
				return nil, problem.New(http.StatusNotFound, in.Child+" do not belong to records of "+in.Collection)
			}
			return d.list(d.find(ctx, in.Child, query.Ask{Where: []string{c.Parent.Field + "=" + in.ID.String()}, Sort: in.Sort, Limit: in.Limit, Offset: in.Offset}))
		})
	add(d, operation(http.MethodGet, "/v1/history/{collection}/{id}", "history", "What has travelled of a record through this device, the latest first"),
		func(ctx context.Context, in *RecordPath) (*answer[[]device.Carried], error) {
			all, err := d.store.History(ctx, in.Collection, in.ID)
			return &answer[[]device.Carried]{all}, err
		})
}

// find asks the store. What cannot be understood of the question is the asker's to mend.
func (d *Door) find(ctx context.Context, collection string, ask query.Ask) (device.Found, error) {
	c, err := d.store.Collection(ctx, collection)
	if err != nil {
		return device.Found{}, err
	}
	if _, err := query.Parse(c.Definition, ask); err != nil {
		return device.Found{}, problem.New(http.StatusUnprocessableEntity, err.Error())
	}
	return d.store.Find(ctx, collection, ask)
}

func (d *Door) list(found device.Found, err error) (*answer[Listing], error) {
	if err != nil {
		return nil, err
	}
	d.seen.note(found.Records...)
	records := found.Records
	if records == nil {
		records = []device.Record{}
	}
	return &answer[Listing]{Listing{records, found.Total, found.More, found.Limit, found.Offset}}, nil
}

func (d *Door) registerSaving() {
	type addIn struct {
		Keyed
		Collection string `path:"collection"`
		Body       struct {
			ID     *uuid.UUID                 `json:"id,omitempty" format:"uuid" doc:"The record's id; made by the device when left out."`
			Fields map[string]json.RawMessage `json:"fields"`
		}
	}
	op := operation(http.MethodPost, "/v1/records/{collection}", "add-record", "Add a record")
	op.DefaultStatus = http.StatusCreated
	add(d, op, func(ctx context.Context, in *addIn) (*answer[Saved], error) {
		var options []device.SaveOption
		if in.Body.ID != nil {
			options = append(options, device.As(*in.Body.ID))
		}
		r, err := d.store.Add(ctx, in.Collection, fieldsOf(in.Body.Fields), options...)
		if errors.Is(err, device.ErrTaken) && in.Key != "" {
			r, err = d.madeBefore(ctx, in.Collection, *in.Body.ID, in.Body.Fields, err)
		}
		if err != nil {
			return nil, err
		}
		d.seen.note(r)
		return saved(r), nil
	})
	type editIn struct {
		Keyed
		RecordPath
		Body struct {
			Base   *int64                     `json:"base,omitempty" minimum:"0" doc:"The revision that the author saw. Fields that others have changed since follow the collection's rules. Left out, what is here now is meant."`
			Fields map[string]json.RawMessage `json:"fields" doc:"Only the fields to change; null clears a field."`
		}
	}
	add(d, operation(http.MethodPatch, "/v1/records/{collection}/{id}", "edit-record", "Edit some fields of a record"),
		func(ctx context.Context, in *editIn) (*answer[Saved], error) {
			options, err := d.sawBase(ctx, in.Collection, in.ID, in.Body.Base)
			if err != nil {
				return nil, err
			}
			r, err := d.store.Edit(ctx, in.Collection, in.ID, fieldsOf(in.Body.Fields), options...)
			if err != nil {
				return nil, err
			}
			d.seen.note(r)
			return saved(r), nil
		})
	type removeIn struct {
		Keyed
		RecordPath
		Base         int64 `query:"base" minimum:"0" doc:"The revision that the author saw; an edit made since outlives the removal. Left out, what is here now is meant."`
		WithChildren bool  `query:"with_children" doc:"Records that belong to it go with it where their definition says so; otherwise such a removal is refused and says how many there are."`
	}
	add(d, operation(http.MethodDelete, "/v1/records/{collection}/{id}", "remove-record", "Remove a record"),
		func(ctx context.Context, in *removeIn) (*answer[Saved], error) {
			now, err := d.store.Get(ctx, in.Collection, in.ID)
			if err != nil {
				return nil, err
			}
			if n, err := d.store.GoesWith(ctx, now); err != nil || n > 0 && !in.WithChildren {
				if err != nil {
					return nil, err
				}
				return nil, problem.New(http.StatusConflict, goesWith(n))
			}
			var base *int64
			if in.Base > 0 {
				base = &in.Base
			}
			options, err := d.sawBase(ctx, in.Collection, in.ID, base)
			if err != nil {
				return nil, err
			}
			return &answer[Saved]{Saved{Answer: change.Applied, Revision: now.Revision}}, d.store.Remove(ctx, in.Collection, in.ID, options...)
		})
	type settleIn struct {
		Keyed
		Body struct {
			Collection string          `json:"collection"`
			Record     uuid.UUID       `json:"record" format:"uuid"`
			Field      string          `json:"field"`
			Base       int64           `json:"base,omitempty" minimum:"0" doc:"Not looked at: what is on the device is settled."`
			Value      json.RawMessage `json:"value" doc:"What the field is to be: one of the values in dispute, or another; null clears it."`
		}
	}
	add(d, operation(http.MethodPost, "/v1/conflicts/settlements", "settle", "Settle a dispute"),
		func(ctx context.Context, in *settleIn) (*answer[Saved], error) {
			r, err := d.store.Settle(ctx, in.Body.Collection, in.Body.Record, in.Body.Field, in.Body.Value)
			if err != nil {
				return nil, err
			}
			return saved(r), nil
		})
}

// madeBefore is the record that an add made when it was asked for before: one that says what is asked for. Another with
// the same id is not passed off for it.
func (d *Door) madeBefore(ctx context.Context, collection string, id uuid.UUID, fields map[string]json.RawMessage,
	taken error) (device.Record, error) {
	r, err := d.store.Get(ctx, collection, id)
	if err != nil {
		return r, err
	}
	for name, value := range fields {
		asked, err := record.CanonicalField(name, value)
		if err != nil || string(asked) != string(r.Fields[name]) {
			return r, taken
		}
	}
	return r, nil
}

// sawBase is what somebody saw who names the revision that they had before them.
func (d *Door) sawBase(ctx context.Context, collection string, id uuid.UUID, base *int64) ([]device.SaveOption, error) {
	if base == nil {
		return nil, nil
	}
	now, err := d.store.Get(ctx, collection, id)
	if err != nil || now.Revision == *base {
		return nil, err
	}
	r, known := d.seen.of(id, *base)
	if !known || r.Collection != collection {
		return nil, problem.New(http.StatusConflict, "what the record was at that revision is not known here any more; look at it as it is now, and edit that")
	}
	return []device.SaveOption{device.Saw(r)}, nil
}
