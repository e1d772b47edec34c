package promises_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/central/fault"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/query"
	"homing/core/record"
	"homing/device"
	"homing/internal/testbed"
)

// family is a chain of four collections with totals all the way up. Removal is what removing a parent does.
func family(removal string) []string {
	return []string{
		`collection: ways
fields:
  name: {type: string}
  cost: {type: number, computed: "sum(children.posts.map(p, p.cost))"}
  posts: {type: integer, computed: size(children.posts)}
`,
		`collection: posts
fields:
  way: {type: string, format: uuid}
  name: {type: string}
  cost: {type: number, computed: "sum(children.visits.map(v, v.cost))"}
parent: {collection: ways, field: way, removal: ` + removal + `}
`,
		`collection: visits
fields:
  post: {type: string, format: uuid}
  hours: {type: number}
  rate: {type: number}
  cost: {type: number, computed: record.hours * record.rate}
parent: {collection: posts, field: post, removal: ` + removal + `}
`}
}

// shown gives a field of a record as a device shows it.
func shown(t *testing.T, store *device.Store, collection string, id uuid.UUID, field string) string {
	t.Helper()
	r, err := store.Get(ctx, collection, id)
	testbed.Must(t, err)
	return definition.Plain(r.Fields[field])
}

// valueAt is shown as central has it.
func valueAt(t *testing.T, bed *testbed.Bed, collection string, id uuid.UUID, field string) string {
	t.Helper()
	r, err := bed.Central.Record(ctx, central.Everything("admin"), collection, id)
	testbed.Must(t, err)
	var fields record.Fields
	testbed.Must(t, json.Unmarshal(r.Fields, &fields))
	return definition.Plain(fields[field])
}

func add(t *testing.T, store *device.Store, collection string, fields device.Fields) uuid.UUID {
	t.Helper()
	r, err := store.Add(ctx, collection, fields)
	testbed.Must(t, err)
	return r.ID
}

func familyOn(t *testing.T, removal string) (*testbed.Bed, *device.Store, *device.Store) {
	t.Helper()
	bed := testbed.Start(t)
	bed.Define(family(removal)...)
	a, b := bed.Device("lead", "a", device.Options{}), bed.Device("worker", "b", device.Options{})
	testbed.Exchange(t, a, b)
	return bed, a, b
}

// P4: what is worked out follows at once on the device, all the way up, and is the same on every device and at central.
func TestP4TotalsFollowUpTheChain(t *testing.T) {
	bed, a, b := familyOn(t, "restrict")
	way := add(t, a, "ways", device.Fields{"name": "Ridge"})
	other := add(t, a, "ways", device.Fields{"name": "Valley"})
	post := add(t, a, "posts", device.Fields{"way": way, "name": "first"})
	visit := add(t, a, "visits", device.Fields{"post": post, "hours": 2.5, "rate": 0.1})
	add(t, a, "visits", device.Fields{"post": post, "hours": 0.5, "rate": 0.1})
	lone := add(t, a, "visits", device.Fields{"post": post, "hours": 3}) // no rate: no cost, and no harm to the total
	check := func(step string, way uuid.UUID, want string, stores ...*device.Store) {
		t.Helper()
		for n, store := range stores {
			if got := shown(t, store, "ways", way, "cost"); got != want {
				t.Errorf("%s: device %d shows a cost of %q, want %q", step, n, got, want)
			}
		}
	}
	check("before any exchange", way, "0.3", a)
	if r, err := a.Get(ctx, "ways", way); err != nil || r.PendingBelow != 4 { // a post and three visits
		t.Errorf("the way is marked with %d below, %v", r.PendingBelow, err)
	}
	if got := shown(t, a, "visits", lone, "cost"); got != "" {
		t.Errorf("a visit without a rate costs %q", got)
	}
	same := func(step, ridge, valley string) {
		t.Helper()
		testbed.Exchange(t, a, b, a)
		for way, want := range map[uuid.UUID]string{way: ridge, other: valley} {
			check(step, way, want, a, b)
			if got := valueAt(t, bed, "ways", way, "cost"); got != want {
				t.Errorf("%s: at central it costs %q, want %q", step, got, want)
			}
		}
		bed.Same(a, b)
	}
	same("added", "0.3", "0")
	if r, err := a.Get(ctx, "ways", way); err != nil || r.PendingBelow != 0 {
		t.Errorf("after the exchange the way is marked with %d below, %v", r.PendingBelow, err)
	}
	_, err := b.Edit(ctx, "visits", visit, device.Fields{"hours": 10})
	testbed.Must(t, err)
	check("edited on the other device", way, "1.05", b)
	same("edited", "1.05", "0")
	_, err = b.Edit(ctx, "posts", post, device.Fields{"way": other})
	testbed.Must(t, err)
	check("moved", way, "0", b)
	check("moved", other, "1.05", b)
	same("moved", "0", "1.05")
	testbed.Must(t, a.Remove(ctx, "visits", visit))
	same("removed", "0", "0.05")
	// A listing sorts by what is worked out, on both sides.
	found, err := b.Find(ctx, "ways", query.Ask{Where: []string{"cost>0"}, Sort: "-cost"})
	testbed.Must(t, err)
	listing, err := bed.Central.List(ctx, central.Everything("admin"), "ways",
		query.Ask{Where: []string{"cost>0"}, Sort: "-cost"})
	testbed.Must(t, err)
	if found.Total != 1 || listing.Total != 1 || found.Records[0].ID != other || listing.Records[0].ID != other {
		t.Errorf("found %d and %d ways that cost something", found.Total, listing.Total)
	}
	// Another expression is worked out anew everywhere.
	bed.Define(strings.Replace(family("restrict")[0], "p.cost))", "p.cost)) * 2.0", 1))
	same("defined anew", "0", "0.1")
	if _, err := a.Edit(ctx, "ways", way, device.Fields{"cost": 5}); err == nil ||
		!strings.Contains(err.Error(), "worked out") {
		t.Errorf("a cost was set by hand: %v", err)
	}
}

// P7: a child that comes before its parent, or whose parent is refused, waits and goes in when the parent does.
func TestP7ChildrenWaitForTheirParent(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(family("restrict")...)
	r := newRaw(t, bed, "worker")
	way, post, visit := uuid.Must(uuid.NewV7()), uuid.Must(uuid.NewV7()), uuid.Must(uuid.NewV7())
	make := func(number int64, collection string, id uuid.UUID, values map[string]string) change.Change {
		c := r.change(number, change.Add, id, 0, values)
		c.Collection = collection
		return c
	}
	quoted := func(id uuid.UUID) string { return `"` + id.String() + `"` }
	first := make(1, "visits", visit, map[string]string{"post": quoted(post), "hours": "1", "rate": "2"})
	second := make(2, "posts", post, map[string]string{"way": quoted(way), "name": `"p"`})
	bad := make(3, "ways", way, map[string]string{"name": `7`})
	answers := r.push(r.batch(first, second, bad))
	for n, want := range []change.Verdict{change.Waiting, change.Waiting, change.Refused} {
		if answers[n].Answer != want {
			t.Errorf("change %d: %s, want %s", n+1, answers[n].Answer, want)
		}
	}
	if answers[0].Reasons[0].Code != change.CodeHangsOnParent || answers[0].Reasons[0].Field != "post" {
		t.Errorf("it waits since %+v", answers[0].Reasons)
	}
	// In one batch the order does not matter: the grandchild stands first.
	good := make(4, "ways", way, map[string]string{"name": `"w"`})
	for n, answer := range r.push(r.batch(first, second, good)) {
		if answer.Answer != change.Applied {
			t.Errorf("change %d: %+v", n+1, answer)
		}
	}
	if got := valueAt(t, bed, "ways", way, "cost"); got != "2" {
		t.Errorf("the way costs %s", got)
	}
	odd := make(5, "posts", uuid.Must(uuid.NewV7()), map[string]string{"way": `"` + strings.ToUpper(way.String()) + `"`})
	if answer := r.push(r.batch(odd))[0]; answer.Answer != change.Refused || answer.Reasons[0].Field != "way" {
		t.Errorf("an id in another spelling: %+v", answer)
	}
}

// What a removal does to children is as defined, on a device and at central.
func TestRemovingAParent(t *testing.T) {
	for _, removal := range []string{"restrict", "remove", "keep"} {
		t.Run(removal, func(t *testing.T) {
			bed, a, b := familyOn(t, removal)
			way := add(t, a, "ways", device.Fields{"name": "Ridge"})
			post := add(t, a, "posts", device.Fields{"way": way, "name": "first"})
			add(t, a, "visits", device.Fields{"post": post, "hours": 1})
			elsewhere := add(t, a, "ways", device.Fields{"name": "Valley"})
			otherPost := add(t, a, "posts", device.Fields{"way": elsewhere, "name": "second"})
			testbed.Exchange(t, a, b)
			err := a.Remove(ctx, "ways", way)
			if (removal == "restrict") != errors.Is(err, device.ErrHasChildren) {
				t.Fatalf("the device said %v", err)
			}
			direct := func(withChildren bool) error {
				_, err := bed.Central.Direct(ctx, central.Everything("admin"),
					changes.Write{Collection: "ways", Record: elsewhere, Kind: change.Remove, Base: -1, WithChildren: withChildren})
				return err
			}
			if removal == "remove" {
				if known := fault.Explain(direct(false)); known == nil || known.Reasons[0].Code != change.CodeHasChildren {
					t.Errorf("without a word on the children, central said %v", known)
				}
			}
			if err := direct(true); (removal == "restrict") != (err != nil) {
				t.Fatalf("central said %v", err)
			}
			testbed.Exchange(t, a, b, a)
			bed.Same(a, b)
			want := map[string]string{"restrict": "2 2 1", "remove": "0 0 0", "keep": "0 2 1"}[removal]
			if got := totals(t, b, "ways", "posts", "visits"); got != want {
				t.Errorf("left are %s, want %s", got, want)
			}
			if removal == "remove" {
				history, err := bed.Central.History(ctx, central.Everything("admin"), "posts", otherPost)
				testbed.Must(t, err)
				if history[0].Kind != change.Remove || history[0].Author != "admin" {
					t.Errorf("the post's history ends with %+v", history[0])
				}
			}
		})
	}
}

// P5: a record is removed at central with its children, by somebody who has not seen its last edit. It stays by the
// rule, and so its children do.
func TestP5AStaleRemovalTakesNoChildren(t *testing.T) {
	bed, a, b := familyOn(t, "remove")
	way := add(t, a, "ways", device.Fields{"name": "Ridge"})
	add(t, a, "posts", device.Fields{"way": way, "name": "first"})
	testbed.Exchange(t, a, b)
	admin := central.Everything("admin")
	_, err := bed.Central.Direct(ctx, admin, changes.Write{Collection: "ways", Record: way, Kind: change.Edit, Base: -1,
		Fields: to("name", `"Upper Ridge"`)})
	testbed.Must(t, err)
	remove := func(base int64) error {
		_, err := bed.Central.Direct(ctx, admin, changes.Write{Collection: "ways", Record: way, Kind: change.Remove,
			Base: base, WithChildren: true})
		return err
	}
	if known := fault.Explain(remove(1)); known == nil || known.Kind != fault.Clash ||
		!strings.Contains(known.Message, "look at it again") {
		t.Errorf("central said %v", known)
	}
	testbed.Exchange(t, a, b)
	if got := totals(t, b, "ways", "posts"); got != "1 1" {
		t.Errorf("left are %s", got)
	}
	testbed.Must(t, remove(2))
	testbed.Exchange(t, a, b)
	if got := totals(t, b, "ways", "posts"); got != "0 0" {
		t.Errorf("having seen the edit, left are %s", got)
	}
}

func totals(t *testing.T, store *device.Store, collections ...string) string {
	t.Helper()
	var all []string
	for _, name := range collections {
		found, err := store.Find(ctx, name, query.Ask{Limit: 1})
		testbed.Must(t, err)
		all = append(all, fmt.Sprint(found.Total))
	}
	return strings.Join(all, " ")
}

// P5: a removal takes no child with it that the remover did not know of: the parent stays as well, and the history
// says why.
func TestP5RemovalMeetsANewChild(t *testing.T) {
	bed, a, b := familyOn(t, "remove")
	way := add(t, a, "ways", device.Fields{"name": "Ridge"})
	old := add(t, a, "posts", device.Fields{"way": way, "name": "known"})
	testbed.Exchange(t, a, b)
	post := add(t, b, "posts", device.Fields{"way": way, "name": "new"})
	testbed.Must(t, a.Remove(ctx, "ways", way)) // without knowing of it
	testbed.Exchange(t, b, a, b, a)
	bed.Same(a, b)
	for n, store := range []*device.Store{a, b} {
		if _, err := store.Get(ctx, "ways", way); err != nil {
			t.Errorf("device %d: the way: %v", n, err)
		}
		if _, err := store.Get(ctx, "posts", post); err != nil {
			t.Errorf("device %d: the new post: %v", n, err)
		}
		if _, err := store.Get(ctx, "posts", old); !errors.Is(err, device.ErrNoRecord) {
			t.Errorf("device %d: the known post: %v", n, err)
		}
	}
	history, err := bed.Central.History(ctx, central.Everything("admin"), "ways", way)
	testbed.Must(t, err)
	if d := history[0].Decisions; len(d) != 1 || d[0].Kept != "central" || d[0].Rule != "edit-stays" {
		t.Errorf("the history says %+v", history[0])
	}
}

// P1: a child that meets the removal of its parent stays on its device until the parent is back.
func TestP1ChildOfARemovedParent(t *testing.T) {
	bed, a, b := familyOn(t, "restrict")
	way := add(t, a, "ways", device.Fields{"name": "Ridge"})
	testbed.Exchange(t, a, b)
	post := add(t, b, "posts", device.Fields{"way": way, "name": "new"})
	testbed.Must(t, a.Remove(ctx, "ways", way))
	testbed.Exchange(t, a)
	summary, err := b.Exchange(ctx, nil)
	testbed.Must(t, err)
	if summary.Waiting != 1 {
		t.Errorf("the exchange: %+v", summary)
	}
	_, err = bed.Central.Direct(ctx, central.Everything("admin"),
		changes.Write{Collection: "ways", Record: way, Kind: change.Add,
			Fields: record.Delta{"name": {To: json.RawMessage(`"Ridge"`)}}})
	testbed.Must(t, err)
	testbed.Exchange(t, b, a)
	bed.Same(a, b)
	if got := shown(t, a, "posts", post, "name"); got != "new" {
		t.Errorf("the post is called %q", got)
	}
}

// Definitions that cannot be together are refused as a whole, with the reason.
func TestDefinitionsTogether(t *testing.T) {
	bed := testbed.Start(t)
	child := func(name, parent string) string {
		return "collection: " + name + "\nfields:\n  up: {type: string, format: uuid}\nparent: {collection: " + parent +
			", field: up}\n"
	}
	for _, test := range []struct {
		says  string
		files []string
	}{
		{"circle: aa → bb → cc → aa", []string{child("aa", "bb"), child("bb", "cc"), child("cc", "aa")}},
		{"circle: aa → aa", []string{child("aa", "aa")}},
		{"which is not defined", []string{child("aa", "nowhere")}},
		{"is not a collection whose parent is aa", []string{"collection: aa\nfields:\n  n: {type: number, computed: " +
			"size(children.trails)}\n"}},
	} {
		var all []definition.Definition
		for _, file := range test.files {
			d, err := definition.ReadSource("test.yaml", []byte(file))
			testbed.Must(t, err)
			all = append(all, d)
		}
		for name, do := range map[string]func() error{
			"preview": func() error { _, err := bed.Central.Preview(ctx, all); return err },
			"define":  func() error { _, err := bed.Central.Define(ctx, "admin", all); return err }} {
			if err := do(); fault.Explain(err) == nil || !strings.Contains(err.Error(), test.says) {
				t.Errorf("%s of %q: %v", name, test.says, err)
			}
		}
		if _, err := bed.Central.Collection(ctx, "aa"); err == nil {
			t.Errorf("%s: it was defined all the same", test.says)
		}
	}
}
