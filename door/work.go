package door

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/device"
	"homing/web/problem"
)

func goesWith(n int) string {
	if n == 1 {
		return "1 record would go with it; say with_children=true if it is to"
	}
	return fmt.Sprintf("%d records would go with it; say with_children=true if they are to", n)
}

// Member is one change of a group. It is exported since the API description only looks into exported parts.
type Member struct {
	Kind       change.Kind                `json:"kind" enum:"add,edit,remove"`
	Collection string                     `json:"collection"`
	ID         *uuid.UUID                 `json:"id,omitempty" format:"uuid" doc:"Of the record; of an add the id that it is to have, made by the device when left out."`
	Fields     map[string]json.RawMessage `json:"fields,omitempty"`
}

func (m Member) save(g *device.Group) (device.Record, error) {
	fields := fieldsOf(m.Fields)
	switch {
	case m.Kind == change.Add && m.ID == nil:
		return g.Add(m.Collection, fields)
	case m.Kind == change.Add:
		return g.Add(m.Collection, fields, device.As(*m.ID))
	case m.ID == nil:
		return device.Record{}, problem.New(http.StatusUnprocessableEntity, "an edit or a removal names the id of its record")
	case m.Kind == change.Edit:
		return g.Edit(m.Collection, *m.ID, fields)
	}
	return device.Record{Collection: m.Collection, ID: *m.ID}, g.Remove(m.Collection, *m.ID)
}

// registerWork adds what only a device has: groups, what is unsent, exchanges, who is signed in.
func (d *Door) registerWork() {
	type groupIn struct {
		Body struct {
			Changes []Member `json:"changes" minItems:"1" maxItems:"400"`
		}
	}
	op := operation(http.MethodPost, "/v1/groups", "save-group", "Save several changes that stand or fall together")
	op.DefaultStatus = http.StatusCreated
	add(d, op, func(ctx context.Context, in *groupIn) (*answer[[]device.Record], error) {
		made := []device.Record{}
		err := d.store.Group(ctx, func(g *device.Group) error {
			made = made[:0]
			for _, m := range in.Body.Changes {
				r, err := m.save(g)
				if err != nil {
					return err
				}
				made = append(made, r)
			}
			return nil
		})
		return &answer[[]device.Record]{made}, err
	})
	add(d, operation(http.MethodGet, "/v1/review", "review", "What central has not accepted yet, in the order in which it will be sent"),
		func(ctx context.Context, _ *nothing) (*answer[[]device.Queued], error) {
			queue, err := d.store.Review(ctx)
			if queue == nil {
				queue = []device.Queued{}
			}
			return &answer[[]device.Queued]{queue}, err
		})
	type changeIn struct {
		Number int64 `path:"number" minimum:"1"`
	}
	add(d, operation(http.MethodPost, "/v1/review/{number}/again", "send-again", "Offer central once more what it has refused of a record, as it is"),
		func(ctx context.Context, in *changeIn) (*answer[Saved], error) {
			r, err := d.store.SendAgain(ctx, in.Number)
			if err != nil {
				return nil, err
			}
			return saved(r), nil
		})
	type givenUp struct {
		File string `json:"file" doc:"Beside the store; what was given up stands at its end."`
	}
	add(d, operation(http.MethodDelete, "/v1/review/{number}", "discard", "Give up what central has refused of a record; it is written to a file first"),
		func(ctx context.Context, in *changeIn) (*answer[givenUp], error) {
			file := d.store.Path() + ".given-up.jsonl"
			return &answer[givenUp]{givenUp{file}}, d.store.Discard(ctx, in.Number, file)
		})
	add(d, operation(http.MethodGet, "/v1/status", "status", "What the store holds, owes and last did"),
		func(ctx context.Context, _ *nothing) (*answer[device.Status], error) {
			status, err := d.store.Status(ctx)
			return &answer[device.Status]{status}, err
		})
	d.registerExchanges()
	type signIn struct {
		Body struct {
			Worker   string `json:"worker"`
			Password string `json:"password" doc:"The PIN or password on this device."`
		}
	}
	type signedIn struct {
		Worker string `json:"worker"`
	}
	add(d, operation(http.MethodPost, "/v1/session", "sign-in", "Sign a worker of this device in, with signal or without; for all apps"),
		func(ctx context.Context, in *signIn) (*answer[signedIn], error) {
			return &answer[signedIn]{signedIn{in.Body.Worker}}, d.store.SignIn(ctx, in.Body.Worker, in.Body.Password)
		})
	type signedOut struct {
		Unsent int `json:"unsent" doc:"Changes of theirs that wait, sealed for them."`
	}
	add(d, operation(http.MethodDelete, "/v1/session", "sign-out", "Sign out whoever is signed in; what is unsent stays, sealed"),
		func(ctx context.Context, _ *nothing) (*answer[signedOut], error) {
			unsent, err := d.store.SignOut(ctx)
			return &answer[signedOut]{signedOut{unsent}}, err
		})
}

func (d *Door) registerExchanges() {
	op := operation(http.MethodPost, "/v1/exchanges", "exchange", "Push until all is answered, then pull to the head")
	op.Description = "Answers when it is over; its progress goes to those who listen to the events. An app that goes away does not end it."
	op.Errors = append(op.Errors, http.StatusServiceUnavailable)
	add(d, op, func(ctx context.Context, _ *nothing) (*answer[device.Summary], error) {
		summary, err := d.store.Exchange(context.WithoutCancel(ctx), func(p device.Progress) {
			d.hears.tell("progress", map[string]any{"phase": p.Phase, "collection": p.Collection, "done": p.Done, "total": p.Total})
		})
		if errors.Is(err, device.ErrErased) {
			d.gone.Do(func() { close(d.erased) })
		}
		return &answer[device.Summary]{summary}, err
	})
	type logIn struct {
		Limit int `query:"limit" minimum:"1" maximum:"1000" default:"20"`
	}
	add(d, operation(http.MethodGet, "/v1/exchanges", "exchanges", "The latest exchanges of this device"),
		func(ctx context.Context, in *logIn) (*answer[[]device.Logged], error) {
			all, err := d.store.Log(ctx, in.Limit)
			if all == nil {
				all = []device.Logged{}
			}
			return &answer[[]device.Logged]{all}, err
		})
}

// patience is how long a stream that nobody reads is written to.
const patience = 15 * time.Second
