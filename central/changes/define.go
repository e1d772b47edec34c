package changes

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/merge"
	"homing/core/record"
)

// Defined says what became of one definition.
type Defined struct {
	Collection string `json:"collection"`
	Version    int    `json:"version"`
	Outcome    string `json:"outcome" enum:"created,changed,unchanged"`
}

// unchanged is the outcome of a definition that says what is there already.
const unchanged = "unchanged"

// Define creates or changes collections. All of them are taken, or none. Nobody changes records meanwhile.
func (c *Changes) Define(ctx context.Context, author string, definitions []definition.Definition) ([]Defined, error) {
	if len(definitions) == 0 {
		return nil, fault.Fail(fault.Invalid, "there is no definition to take")
	}
	definitions = slices.Clone(definitions)
	slices.SortFunc(definitions, func(a, b definition.Definition) int {
		return strings.Compare(a.Collection,
			b.Collection)
	})
	for n, d := range definitions {
		if n > 0 && definitions[n-1].Collection == d.Collection {
			return nil, fault.Fail(fault.Clash, "two definitions claim the name %s", d.Collection)
		}
		if err := definable(d); err != nil {
			return nil, err
		}
	}
	var defined []Defined
	err := c.ground.Define(ctx, func(t Tables) error {
		defined = nil
		for _, d := range definitions {
			one, err := c.define(ctx, t, author, d)
			if err != nil {
				return err
			}
			defined = append(defined, one)
		}
		return checkTogether(ctx, t, defined)
	})
	if err != nil {
		return nil, err
	}
	heads := map[string]int64{}
	for _, one := range defined {
		heads[one.Collection] = 0
	}
	c.ground.Announce(ctx, fleet.Event{Heads: heads})
	return defined, nil
}

func definable(d definition.Definition) error {
	if !definition.Name.MatchString(d.Collection) {
		return fault.Fail(fault.Invalid, "%q cannot name a collection", d.Collection)
	}
	for _, field := range d.Fields {
		if !definition.Name.MatchString(field.Name) {
			return fault.Fail(fault.Invalid, "%q cannot name a field of %s", field.Name, d.Collection)
		}
	}
	if _, known := d.Field(d.Key); d.Key != "" && !known {
		return fault.Fail(fault.Invalid, "the key %q is not a field of %s", d.Key, d.Collection)
	}
	if _, err := d.Compile(); err != nil {
		return fault.Fail(fault.Invalid, "the definition of %s: %v", d.Collection, err)
	}
	return nil
}

func (c *Changes) define(ctx context.Context, t Tables, author string, d definition.Definition) (Defined, error) {
	d.Version, d.Renamed = 1, nil
	compiled, err := d.Compile()
	if err != nil {
		return Defined{}, err
	}
	all, err := t.Definitions(ctx)
	if err != nil {
		return Defined{}, err
	}
	old := all[d.Collection]
	p, err := planOf(ctx, t, old, compiled)
	switch {
	case err != nil:
		return Defined{}, err
	case len(p.Broken) > 0:
		return Defined{}, p.refuse()
	case p.Outcome == unchanged:
		return Defined{d.Collection, old.Version, p.Outcome}, nil
	}
	if d.Version = p.Version; old != nil {
		d.Renamed = d.RenamedSince(old.Definition)
	}
	if compiled, err = d.Compile(); err != nil {
		return Defined{}, err
	}
	if err := t.PutDefinition(ctx, author, compiled, old != nil); err != nil {
		return Defined{}, err
	}
	if old != nil {
		if err := c.follow(ctx, t, author, old.Definition, compiled); err != nil {
			return Defined{}, err
		}
	}
	return Defined{d.Collection, d.Version, p.Outcome}, nil
}

// follow brings the records of a collection in line with its new definition.
func (c *Changes) follow(ctx context.Context, t Tables, author string, old definition.Definition,
	next *definition.Collection) error {
	if err := c.carryOver(ctx, t, author, old, next); err != nil {
		return err
	}
	if old.Sync.Territory != next.Sync.Territory {
		if err := retag(ctx, t, next); err != nil {
			return err
		}
	}
	if old.Access.Read != next.Access.Read {
		return t.TellAgain(ctx, next.Definition.Collection)
	}
	return nil
}

// carryOver changes the records as the definition says, each by a change of its own, so that the history keeps what
// was.
func (c *Changes) carryOver(ctx context.Context, t Tables, author string, old definition.Definition,
	next *definition.Collection) error {
	const chunk = 500
	from := c.mine(fleet.Everything(author))
	renames := maps.Clone(next.Carry.Rename)
	from.Finish = func(before merge.State, edit merge.Edit, out *merge.Outcome) {
		out.CarryOver(before, edit, renames)
		out.State.Removed = before.Removed
	}
	var changes []change.Change
	send := func() error {
		if len(changes) == 0 {
			return nil
		}
		first, err := t.DirectNumbers(ctx, len(changes))
		if err != nil {
			return err
		}
		for n := range changes {
			changes[n].Number = first + int64(n)
		}
		_, err = c.decide(ctx, t, from, desk.ItemsOf(changes), func(done *desk.Decided) error {
			return allCarried(done, old.Collection)
		})
		changes = changes[:0]
		return err
	}
	// What was removed is carried over, too: an edit may outlive the removal.
	err := carried(ctx, t, old, next, true, func(id uuid.UUID, row *desk.Row, now record.Fields, wrong error) error {
		if row.Removed && wrong != nil {
			return nil
		}
		delta := record.Diff(row.Fields, now)
		if wrong != nil || len(delta) == 0 {
			return wrong
		}
		kind := change.Edit
		if row.Removed {
			kind = change.Add // an edit of what was removed is refused; it stays removed all the same
		}
		changes = append(changes, change.Change{Collection: old.Collection, Record: id, Kind: kind, Base: row.Revision,
			Fields: delta, Stamp: clock.At(from.Received), EditedAt: from.Received, Author: author})
		if len(changes) < chunk {
			return nil
		}
		return send()
	})
	if err != nil {
		return err
	}
	return send()
}

func allCarried(done *desk.Decided, collection string) error {
	for n, answer := range done.Answers {
		if !answer.Answer.Accepted() {
			return fmt.Errorf("record %s of %s could not be carried over: %v", done.Items[n].Change.Record, collection,
				answer.Reasons)
		}
	}
	return nil
}

// retag sorts all records of a collection into territories anew, after the definition's expression has changed.
func retag(ctx context.Context, t Tables, c *definition.Collection) error {
	moved := map[uuid.UUID]*desk.Row{}
	err := t.Each(ctx, c.Definition.Collection, true, func(id uuid.UUID, row *desk.Row) error {
		next := *row
		state := row.State
		state.Removed = false // what was removed falls elsewhere, too
		if err := next.Move(c, state); err != nil {
			return fault.Fail(fault.Invalid, "record %s of %s: %v", id, c.Definition.Collection, err)
		}
		if !slices.Equal(next.Territories, row.Territories) {
			moved[id] = &next
		}
		return nil
	})
	if err != nil || len(moved) == 0 {
		return err
	}
	return t.Retag(ctx, c.Definition.Collection, moved)
}

// checkTogether looks at all definitions as they are now, and works out computed values anew when any has changed.
func checkTogether(ctx context.Context, t Tables, defined []Defined) error {
	all, err := t.Definitions(ctx)
	if err != nil {
		return err
	}
	if err := definition.CheckTogether(all); err != nil {
		return fault.Fail(fault.Invalid, "%v", err)
	}
	var fresh []definition.Definition
	for _, one := range defined {
		if one.Outcome != unchanged {
			fresh = append(fresh, all[one.Collection].Definition)
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	if err := inspect(all, fresh); err != nil {
		return err
	}
	return computeAll(ctx, t, all)
}

// computeAll works out everything anew, after definitions have changed.
func computeAll(ctx context.Context, t Tables, all map[string]*definition.Collection) error {
	const chunk = 1000
	for _, name := range definition.LeavesFirst(all) {
		c := all[name]
		some := map[uuid.UUID]*desk.Row{}
		send := func() error {
			defer clear(some)
			return computeSome(ctx, t, all, c, some)
		}
		err := t.Each(ctx, name, false, func(id uuid.UUID, row *desk.Row) error {
			if some[id] = row; len(some) < chunk {
				return nil
			}
			return send()
		})
		if err != nil {
			return err
		}
		if err := send(); err != nil {
			return err
		}
	}
	return nil
}

func computeSome(ctx context.Context, t Tables, all map[string]*definition.Collection, c *definition.Collection,
	some map[uuid.UUID]*desk.Row) error {
	ids := slices.SortedFunc(maps.Keys(some), func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	children := map[uuid.UUID][]desk.Child{}
	for _, child := range definition.ChildrenOf(c.Definition.Collection, all) {
		if !c.Totals(child.Definition.Collection) {
			continue
		}
		found, err := t.Counted(ctx, child, ids)
		if err != nil {
			return err
		}
		for id, more := range found {
			children[id] = append(children[id], more...)
		}
	}
	moved := map[uuid.UUID]record.Fields{}
	for id, row := range some {
		computed, _ := c.Compute(row.Fields, desk.Broods(all, c, children[id])) // what cannot be worked out has no value
		if string(computed.JSON()) != string(row.Computed.JSON()) {
			moved[id] = computed
		}
	}
	if len(moved) == 0 {
		return nil
	}
	return t.PutComputed(ctx, c.Definition.Collection, moved)
}
