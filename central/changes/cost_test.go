package changes_test

import (
	"context"
	"log/slog"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/central/memory"
	"homing/core/change"
	"homing/core/definition"
	held "homing/core/desk"
	"homing/wire"
)

// counted are tables that count what is read of them.
type counted struct {
	*memory.Tables
	questions, rows int
}

func (c *counted) Change(_ context.Context, work func(changes.Tables) error) error { return work(c) }

func (c *counted) Lock(ctx context.Context, wanted []held.Key) (map[held.Key]*held.Row, error) {
	c.questions, c.rows = c.questions+1, c.rows+len(wanted)
	return c.Tables.Lock(ctx, wanted)
}

func (c *counted) ParentsOf(ctx context.Context, of *definition.Collection, ids []uuid.UUID) ([]uuid.UUID, error) {
	c.questions, c.rows = c.questions+1, c.rows+len(ids)
	return c.Tables.ParentsOf(ctx, of, ids)
}

func (c *counted) ChildrenOf(ctx context.Context, child *definition.Collection,
	parents []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error) {
	c.questions, c.rows = c.questions+1, c.rows+len(parents)
	return c.Tables.ChildrenOf(ctx, child, parents)
}

func (c *counted) Counted(ctx context.Context, child *definition.Collection,
	parents []uuid.UUID) (map[uuid.UUID][]held.Child, error) {
	c.questions, c.rows = c.questions+1, c.rows+len(parents)
	return c.Tables.Counted(ctx, child, parents)
}

// A parent that goes with its children asks as few questions for many of them as for few, and reads each a few times.
func TestARemovalReadsEachChildAFewTimes(t *testing.T) {
	cost := func(children int) (questions, rows int) {
		d := newDesk(
			t,
			ways,
			"collection: posts\nfields:\n  name: {type: string}\n  way: {type: string, format: uuid, reference: ways}\n"+
				"parent: {collection: ways, field: way, removal: remove}\n",
		)
		tables := &counted{Tables: d.m}
		d.c = changes.New(tables, wire.MaxBatchChanges, slog.New(slog.DiscardHandler))
		lead := central.Everything("lead")
		way := uuid.New()
		_, err := d.c.Direct(
			t.Context(),
			lead,
			changes.Write{Collection: "ways", Record: way, Kind: change.Add, Base: -1,
				Fields: d.change(1, change.Add, "ways", way, 0, "name", `"Ridge"`).Fields},
		)
		if err != nil {
			t.Fatal(err)
		}
		table := make([]changes.TableRow, children)
		for n := range table {
			table[n] = changes.TableRow{"name": []byte(`"post"`), "way": []byte(`"` + way.String() + `"`)}
		}
		if _, err := d.c.PutRows(t.Context(), lead, "posts", "", table); err != nil {
			t.Fatal(err)
		}
		tables.questions, tables.rows = 0, 0
		answer, err := d.c.Direct(
			t.Context(),
			lead,
			changes.Write{Collection: "ways", Record: way, Kind: change.Remove, Base: 1,
				WithChildren: true},
		)
		if err != nil || !answer.Answer.Accepted() {
			t.Fatalf("%+v, %v", answer, err)
		}
		return tables.questions, tables.rows
	}
	fewQuestions, _ := cost(5)
	questions, rows := cost(900)
	if questions > fewQuestions {
		t.Errorf("a removal with 900 children asks %d questions, and one with 5 asks %d", questions, fewQuestions)
	}
	if rows > 5*900 {
		t.Errorf("a removal with 900 children reads %d rows", rows)
	}
	t.Logf("%d questions, %d rows", questions, rows)
}
