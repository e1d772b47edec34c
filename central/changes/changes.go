// Package changes is what becomes of changes at central: of those that devices push, of those that people make at
// central itself, of the rows of a table, and of those that follow from a new definition.
//
// All of them go through [Changes.decide]: what the desk needs is loaded, the desk decides, what it decided is
// written. The rules are in package desk; here is the order of loading and writing. What it stands on is a [Ground].
package changes

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/sight"
)

// Changes takes changes. It is safe for use by several goroutines when its ground is.
type Changes struct {
	ground Ground
	most   int // changes in one batch
	log    *slog.Logger
}

// New makes a Changes that stands on ground. A batch has at most so many changes.
func New(ground Ground, most int, log *slog.Logger) *Changes {
	return &Changes{ground: ground, most: most, log: log}
}

// decide works through changes in their order and writes what came of them, with few statements however many changes
// there are. Check, if it is not nil, looks at what was decided before it is written; its error leaves everything as
// it was.
func (c *Changes) decide(ctx context.Context, t Tables, from desk.Origin, items []desk.Item,
	check func(*desk.Decided) error) (decided *desk.Decided, err error) {
	defer func() {
		if broken := recover(); broken != nil {
			// A fault of the program that one change meets must not keep the others of its batch from going in.
			decided, err = nil, fmt.Errorf("%w: %v\n%s", errUpset, broken, debug.Stack())
		}
	}()
	items, loaded, err := load(ctx, t, from, items)
	if err != nil {
		return nil, err
	}
	decided = desk.Work(from, items, loaded)
	if check != nil {
		if err := check(decided); err != nil {
			return decided, err
		}
	}
	return decided, write(ctx, t, decided)
}

// errUpset says that a change has met a fault of the program.
var errUpset = errors.New("a fault of the program")

// holders finds who has the keys that records would get, where keys are unique. Until the commit nobody else gives any.
func holders(ctx context.Context, t Tables, definitions map[string]*definition.Collection,
	keys map[string][]string, alone map[string]bool) (map[string]map[string]desk.Holder, error) {
	all := map[string]map[string]desk.Holder{}
	for _, name := range slices.Sorted(maps.Keys(keys)) {
		c := definitions[name]
		if _, locked := alone[name]; !locked { // a removed record comes back with the key that it had
			if err := t.LockKey(ctx, name, strings.Join(c.OneFor(), definition.OneBetween), false); err != nil {
				return nil, err
			}
		}
		found, err := t.ByOne(ctx, c, keys[name])
		if err != nil {
			return nil, err
		}
		all[name] = map[string]desk.Holder{}
		for _, one := range found {
			all[name][one.Text] = desk.Holder{ID: one.ID, Row: one.Row}
		}
	}
	return all, nil
}

// load gives the items in their present form, and what the desk needs to decide about them.
func load(ctx context.Context, t Tables, from desk.Origin, items []desk.Item) ([]desk.Item, desk.Loaded, error) {
	var l desk.Loaded
	var err error
	if l.Definitions, err = t.Definitions(ctx); err != nil {
		return nil, l, err
	}
	need := desk.NeedOf(l.Definitions, items)
	if l.Known, l.Torn, err = t.Answers(ctx, from.Incarnation, need.Numbers()); err != nil {
		return nil, l, err
	}
	if from.Batch == nil && len(l.Known) > 0 {
		return nil, l, fault.ErrRaced // numbers of central's own are fresh: what was answered under them is another change
	}
	l.Waited = maps.Clone(l.Known)
	maps.DeleteFunc(l.Known, func(_ int64, kept desk.Kept) bool { return kept.Waits })
	maps.DeleteFunc(l.Waited, func(_ int64, kept desk.Kept) bool { return !kept.Waits })
	parents, err := need.Parents(func(c *definition.Collection, ids []uuid.UUID) ([]uuid.UUID, error) {
		return t.ParentsOf(ctx, c, ids)
	})
	if err != nil {
		return nil, l, err
	}
	names, alone := need.GivesKeys()
	for _, name := range names {
		if err := t.LockKey(ctx, name, strings.Join(l.Definitions[name].OneFor(), definition.OneBetween), !alone[name]); err != nil {
			return nil, l, err
		}
	}
	// All records are locked by one statement, so that everybody locks in the same order.
	if l.Rows, err = t.Lock(ctx, append(need.Keys(), parents...)); err != nil {
		return nil, l, err
	}
	if !need.Settled(l.Rows, parents) {
		return nil, l, fault.ErrRaced
	}
	if l.Holders, err = holders(ctx, t, l.Definitions, need.UniqueKeys(l.Rows), alone); err != nil {
		return nil, l, err
	}
	if l.Children, err = childrenOf(ctx, t, l.Definitions, need.Removed()); err != nil {
		return nil, l, err
	}
	if l.Named, err = named(ctx, t, l, from); err != nil {
		return nil, l, err
	}
	if l.Unseen = need.Unseen(from, l.Rows); len(l.Unseen) > 0 && from.Batch != nil {
		if l.Pasts, err = pastsOf(ctx, t, from, l.Unseen); err != nil {
			return nil, l, err
		}
	}
	if l.Counted, err = counted(ctx, t, need, l); err != nil {
		return nil, l, err
	}
	l.Numbers, err = draw(ctx, t, need, l, from.KeepsNumbers)
	return need.Items(), l, err
}

func childrenOf(ctx context.Context, t Tables, all map[string]*definition.Collection,
	of map[string][]uuid.UUID) (map[desk.Key][]desk.Key, error) {
	children := map[desk.Key][]desk.Key{}
	for _, name := range slices.Sorted(maps.Keys(of)) {
		for _, child := range definition.ChildrenOf(name, all) {
			found, err := t.ChildrenOf(ctx, child, of[name])
			if err != nil {
				return nil, err
			}
			for id, ids := range found {
				at := desk.Key{Collection: name, ID: id}
				for _, one := range ids {
					children[at] = append(children[at], desk.Key{Collection: child.Definition.Collection, ID: one})
				}
			}
		}
	}
	return children, nil
}

// mostNamed is how many of the children of a collection are looked at for one that can be named.
const mostNamed = 20

// named are those of the children that keep a parent from being removed and that may be named to the sender.
func named(ctx context.Context, t Tables, l desk.Loaded, from desk.Origin) (map[desk.Key]bool, error) {
	var keeping []desk.Key
	for _, children := range l.Children {
		for _, at := range children[:min(len(children), mostNamed)] {
			if l.Definitions[at.Collection].Parent.Removal == definition.RestrictRemoval {
				keeping = append(keeping, at)
			}
		}
	}
	rows, err := t.Rows(ctx, keeping)
	if err != nil {
		return nil, err
	}
	all := map[desk.Key]bool{}
	for at, row := range rows {
		all[at] = from.People.See(l.Definitions[at.Collection], row.Territories, row.Fields)
	}
	return all, nil
}

// pastsOf is what tells whether the people of a device have seen records that they do not see now.
func pastsOf(ctx context.Context, t Tables, from desk.Origin, unseen []desk.Key) (p desk.Pasts, err error) {
	if p.Former, err = t.Former(ctx, from.ID); err != nil {
		return p, err
	}
	if p.Moments, err = t.Moments(ctx, unseen); err != nil {
		return p, err
	}
	p.Definitions = map[string][]desk.Formerly{}
	for _, at := range unseen {
		if p.Definitions[at.Collection] == nil {
			if p.Definitions[at.Collection], err = t.Formerly(ctx, at.Collection); err != nil {
				return p, err
			}
		}
	}
	return p, nil
}

func counted(ctx context.Context, t Tables, need desk.Need, l desk.Loaded) (map[desk.Key][]desk.Child, error) {
	all := map[desk.Key][]desk.Child{}
	counting := need.Counting(l.Rows)
	for _, name := range slices.Sorted(maps.Keys(counting)) {
		child := l.Definitions[name]
		found, err := t.Counted(ctx, child, counting[name])
		if err != nil {
			return nil, err
		}
		for id, children := range found {
			at := desk.Key{Collection: child.Parent.Collection, ID: id}
			all[at] = append(all[at], children...)
		}
	}
	return all, nil
}

func draw(ctx context.Context, t Tables, need desk.Need, l desk.Loaded,
	imported bool) (map[desk.Series][]string, error) {
	if imported {
		brought := need.Brought()
		for _, series := range slices.SortedFunc(maps.Keys(brought), desk.Series.Compare) {
			if err := t.Advance(ctx, series, brought[series]); err != nil {
				return nil, err
			}
		}
	}
	numbers := map[desk.Series][]string{}
	for _, one := range need.Draws(l.Known, l.Rows, imported) {
		drawn, err := t.Draw(ctx, one.Series, one.Count)
		if err != nil {
			return nil, err
		}
		for _, n := range slices.Sorted(slices.Values(drawn)) {
			numbers[one.Series] = append(numbers[one.Series], one.Looks.Format(n))
		}
	}
	return numbers, nil
}

// write hands out the positions of the accepted changes of each collection, and keeps what was decided.
func write(ctx context.Context, t Tables, decided *desk.Decided) error {
	byCollection := map[string][]*desk.Version{}
	for _, v := range decided.Versions {
		byCollection[v.Collection] = append(byCollection[v.Collection], v)
	}
	for _, name := range slices.Sorted(maps.Keys(byCollection)) {
		versions := byCollection[name]
		head, err := t.HandOut(ctx, name, len(versions))
		if err != nil {
			return err
		}
		for n, v := range versions {
			v.Position = head - int64(len(versions)-1-n)
		}
	}
	return t.Write(ctx, decided)
}

// mine is the origin of what somebody writes at central itself.
func (c *Changes) mine(who fleet.Person) desk.Origin {
	return desk.Origin{Incarnation: c.ground.Source(), People: sight.Alone(who), Received: c.ground.Now()}
}

// announce tells listeners where heads have moved to.
func (c *Changes) announce(ctx context.Context, decided *desk.Decided) {
	c.ground.Announce(ctx, eventOf(decided))
}
