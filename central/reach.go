package central

import (
	"context"
	"slices"

	"homing/central/fault"
	"homing/core/definition"
	"homing/core/rights"
)

// Reach is what a worker gets, and may do.
type Reach struct {
	Person
	Shut        bool              `json:"shut,omitempty" doc:"The account is disabled: the worker gets none of it at present."`
	Collections []CollectionReach `json:"collections"`
}

// CollectionReach is that of one collection.
type CollectionReach struct {
	Collection string             `json:"collection"`
	Title      string             `json:"title"`
	Records    int64              `json:"records" doc:"How many records the worker covers. A reading rule may keep some of them from the worker."`
	Of         int64              `json:"of" doc:"How many there are."`
	Leaves     []definition.Leave `json:"leaves" doc:"What the worker may do with those."`
}

// ReachOf says what a worker gets of each collection, and may do with it.
func (c *Central) ReachOf(ctx context.Context, name string) (Reach, error) {
	account, err := c.workerNamed(ctx, name)
	if err != nil {
		return Reach{}, err
	}
	worker := personOf(account)
	reach := Reach{Person: worker, Shut: account.DisabledAt != nil, Collections: []CollectionReach{}}
	covered, err := c.Overviews(ctx, worker)
	if err != nil {
		return reach, err
	}
	all, err := c.Overviews(ctx, Everything(name))
	if err != nil {
		return reach, err
	}
	for _, one := range covered {
		compiled, err := c.Collection(ctx, one.Collection)
		if err != nil {
			return reach, err
		}
		at := CollectionReach{Collection: one.Collection, Title: one.Title, Records: one.Records, Leaves: compiled.Leaves(worker)}
		for _, whole := range all {
			if whole.Collection == one.Collection {
				at.Of = whole.Records
			}
		}
		reach.Collections = append(reach.Collections, at)
	}
	return reach, nil
}

// SeenAs is the person on whose behalf somebody looks: themselves, or for an admin whoever is named.
func (c *Central) SeenAs(ctx context.Context, asker Person, name string) (Person, error) {
	if name == "" || name == asker.Name {
		return asker, nil
	}
	if !asker.Role.May(rights.ManageWorkers) {
		return asker, fault.Fail(fault.NotAllowed, "only an admin may look as somebody else would")
	}
	account, err := c.workerNamed(ctx, name)
	return personOf(account), err
}

func personOf(w Worker) Person { return Person{Name: w.Name, Role: w.Role, Territories: w.Territories} }

func (c *Central) workerNamed(ctx context.Context, name string) (Worker, error) {
	workers, err := c.Workers(ctx, false)
	if err != nil {
		return Worker{}, err
	}
	at := slices.IndexFunc(workers, func(w Worker) bool { return w.Name == name })
	if at < 0 {
		return Worker{}, fault.Fail(fault.NotFound, "there is no worker %s", name)
	}
	return workers[at], nil
}
