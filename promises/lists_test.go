package promises_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
)

const posted = `
collection: posts
label: "{number} {name}"
key: number
fields:
  number: {type: string}
  name: {type: string}
  state: {enum: [sound, worn, damaged]}
  height: {type: number}
  seen: {type: string, format: date}
  note: {type: string}
`

// A list says the same on a device and at central, with fields that lists are quick by and without: order, ties, records
// without a value, texts longer than an index holds; and page after page by id it gives each record once.
func TestListsSayTheSameEverywhere(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(posted)
	random := rand.New(rand.NewPCG(1, 2))
	long := strings.Repeat("long ", 60)
	var rows []changes.TableRow
	for n := range 300 {
		row := changes.TableRow{"number": json.RawMessage(fmt.Sprintf(`"P-%03d"`, n))}
		put := func(name, text string) {
			if random.IntN(100) < 85 {
				row[name] = json.RawMessage(text)
			}
		}
		put("name", fmt.Sprintf("%q", []string{"Gale", "gale", "Ärn", long + "b", long + "a"}[random.IntN(5)]))
		put("state", fmt.Sprintf("%q", []string{"sound", "worn", "damaged"}[random.IntN(3)]))
		put("height", fmt.Sprint(random.IntN(40)-20, ".5"))
		put("seen", fmt.Sprintf(`"2026-%02d-%02d"`, 1+random.IntN(12), 1+random.IntN(28)))
		rows = append(rows, row)
	}
	_, err := bed.Central.PutRows(ctx, central.Everything("admin"), "posts", "number", rows)
	testbed.Must(t, err)
	store := bed.Device("worker", "phone", device.Options{})
	questions := []query.Ask{{}, {Sort: "state"}, {Sort: "-state"}, {Sort: "height"}, {Sort: "-height", Offset: 250}, {Sort: "-seen", Offset: 40}, {Sort: "name,-height"},
		{Sort: "-name"}, {Where: []string{"state=worn"}, Sort: "-seen"}, {Where: []string{"state!=worn"}}, {Where: []string{"state="}}, {Where: []string{"seen>=2026-06"}},
		{Where: []string{"seen<2026-03-01", "height>0"}, Sort: "seen"}, {Where: []string{"height=3.5"}}, {Where: []string{"name=gale"}}, {Where: []string{"name=" + long + "a"}},
		{Where: []string{"name~ALE"}}, {Where: []string{"number=P-007"}}, {Label: "p-007 gale"}, {Where: []string{"state~o"}}, {Where: []string{"state=worn", "state=sound", "height>0"}, Sort: "seen"},
		{Where: []string{"state=worn", "state="}, Sort: "height"}, {Where: []string{"height>=-3.5", "height<9"}}, {Sort: "-edited_at"}}
	said := map[string]string{}
	for _, lists := range []string{"", "lists: [state, height, seen, name]\n", "lists: [note]\n"} {
		bed.Define(posted + lists)
		testbed.Exchange(t, store)
		for _, ask := range questions {
			ask.Limit = 60
			here, err := store.Find(ctx, "posts", ask)
			testbed.Must(t, err)
			there, err := bed.Central.List(ctx, central.Everything("admin"), "posts", ask)
			testbed.Must(t, err)
			var a, b []string
			for _, r := range here.Records {
				a = append(a, r.ID.String())
			}
			for _, r := range there.Records {
				b = append(b, r.ID.String())
			}
			what, got := fmt.Sprintf("%+v", ask), strings.Join(b, " ")
			if !slices.Equal(a, b) && !strings.Contains(what, "name") { // whose order the database's language decides
				t.Errorf("%s with %q: the device lists\n%s\nand central\n%s", what, lists, strings.Join(a, " "), got)
			}
			if here.Total != int(there.Total) || said[what] != "" && said[what] != got {
				t.Errorf("%s with %q: %d here, %d there; central lists\n%s\nand before\n%s", what, lists, here.Total, there.Total, got, said[what])
			}
			said[what] = got
		}
	}
	seen := map[uuid.UUID]bool{}
	for after := ""; ; {
		page, err := bed.Central.List(ctx, central.Everything("admin"), "posts", query.Ask{Limit: 70, After: after})
		testbed.Must(t, err)
		for _, r := range page.Records {
			if seen[r.ID] {
				t.Errorf("%s comes twice", r.ID)
			}
			seen[r.ID], after = true, r.ID.String()
		}
		if len(page.Records) < 70 {
			break
		}
	}
	if len(seen) != 300 {
		t.Errorf("page after page gives %d records", len(seen))
	}
	for _, wrong := range []query.Ask{{After: "x"}, {After: uuid.NewString(), Sort: "name"}, {After: uuid.NewString(), Offset: 3}} {
		if _, err := bed.Central.List(ctx, central.Everything("admin"), "posts", wrong); err == nil {
			t.Errorf("%+v is taken", wrong)
		}
	}
}

// Central's lists use the indexes that a definition asks for, and those that it no longer asks for are gone.
func TestListsUseTheirIndexes(t *testing.T) {
	bed := testbed.Start(t)
	db := testbed.SQL(t, bed.Database)
	indexes := func() (n int) {
		testbed.Must(t, db.Get(&n, `SELECT count(*) FROM pg_indexes WHERE indexname LIKE 'records_list_%'`))
		return n
	}
	before := indexes() // those of labels and searches
	for lists, want := range map[string]int{"lists: [state, height]\n": 3, "lists: [state]\nsearched: true\n": 3, "": 1} {
		if bed.Define(posted + lists); indexes()-before != want {
			t.Errorf("with %q there are %d indexes more", lists, indexes()-before)
		}
	}
	bed.Define(posted + "lists: [state, height]\nsearched: true\n")
	db.MustExec(`SET enable_seqscan = off; SET enable_bitmapscan = off`)
	var plan []string
	testbed.Must(t, db.Select(&plan, `EXPLAIN SELECT id FROM records WHERE collection = 'posts' AND NOT removed
		ORDER BY left(lower((fields->>'state')),200) ASC NULLS LAST, id ASC LIMIT 50`))
	if text := strings.Join(plan, "\n"); !strings.Contains(text, "records_list_") || strings.Contains(text, "Sort") {
		t.Errorf("the plan is\n%s", text)
	}
	db.MustExec(`SET enable_indexscan = off; SET enable_bitmapscan = on`)
	plan = nil
	testbed.Must(t, db.Select(&plan, `EXPLAIN SELECT id FROM records WHERE collection = 'posts' AND NOT removed
		AND lower(fields::text) LIKE '%gale%' ESCAPE '\'`))
	if text := strings.Join(plan, "\n"); !strings.Contains(text, "Bitmap Index Scan on records_list_") {
		t.Errorf("the plan of a search is\n%s", text)
	}
	if status, text := bed.Call("PUT", "/v1/definitions", bed.SignIn("admin"), map[string]any{"definitions": []any{map[string]any{
		"collection": "x", "title": "X", "label": "{a}", "version": 1, "sync": map[string]any{"removal": "edit-stays"}, "lists": []string{"b"},
		"fields": []any{map[string]any{"name": "a", "title": "A", "schema": map[string]any{"type": "string"}}}}}}); status != 422 ||
		!strings.Contains(string(text), `\"b\" is not a field`) {
		t.Errorf("%d %s", status, text)
	}
}

// A search for what many have says that there are more than it counts, whatever page it shows; one for what few have finds them.
func TestSearchesAmongMany(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(posted + "searched: true\n")
	for part := range 3 {
		var rows []changes.TableRow
		for n := range 500 {
			rows = append(rows, changes.TableRow{"number": json.RawMessage(fmt.Sprintf(`"P-%04d"`, part*500+n)), "name": json.RawMessage(`"Long post"`),
				"note": json.RawMessage(fmt.Sprintf(`"boards %d"`, n%40))})
		}
		_, err := bed.Central.PutRows(ctx, central.Everything("admin"), "posts", "number", rows)
		testbed.Must(t, err)
	}
	store := bed.Device("worker", "phone", device.Options{})
	testbed.Exchange(t, store)
	for _, at := range []struct {
		search         string
		offset         int
		total, records int
		more           bool
	}{{"post boards", 0, 1000, 50, true}, {"post boards", 1480, 1000, 20, true}, {"P-0777", 0, 1, 1, false}, {"p-07", 0, 100, 50, false},
		{"p-07", 90, 100, 10, false}, {"boards 39", 0, 60, 50, false}, {"nowhere", 0, 0, 0, false}} {
		ask := query.Ask{Search: at.search, Offset: at.offset}
		there, err := bed.Central.List(ctx, central.Everything("admin"), "posts", ask)
		testbed.Must(t, err)
		here, err := store.Find(ctx, "posts", ask)
		testbed.Must(t, err)
		if int(there.Total) != at.total || len(there.Records) != at.records || there.More != at.more {
			t.Errorf("%s from %d: central finds %d (more: %v) and shows %d", at.search, at.offset, there.Total, there.More, len(there.Records))
		}
		if here.Total != at.total || len(here.Records) != at.records || here.More != at.more {
			t.Errorf("%s from %d: the device finds %d (more: %v) and shows %d", at.search, at.offset, here.Total, here.More, len(here.Records))
		}
	}
}

// A device finds the same whether a definition asks for quick searches or not, whatever has happened since it searched
// last, and whichever program did it.
func TestQuickSearchesFindTheSame(t *testing.T) {
	bed := testbed.Start(t)
	const huts = "fields:\n  name: {type: string}\n  note: {type: string}\n  district: {type: string}\nsync:\n" +
		"  territory: \"[record.district].filter(d, d != null)\"\n"
	bed.Define("collection: quick\nsearched: true\n"+huts, "collection: plain\n"+huts)
	hold(t, bed, "worker", "*")
	hold(t, bed, "lead", "*")
	store, other := bed.Device("worker", "tablet", device.Options{}), bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, store, other)
	beside, err := device.Open(ctx, store.Path(), device.Options{})
	testbed.Must(t, err)
	defer beside.Close()
	random := rand.New(rand.NewPCG(7, 7))
	words := []string{"Gale", "gale", "Fosk", "Ärn", "ärn", "roof", "Roof_leaks", "50%", "a\"b", `c\d`, "é", "É", "snow", "x", "sn"}
	text := func() string {
		return words[random.IntN(len(words))] + " " + words[random.IntN(len(words))] + " " + words[random.IntN(len(words))]
	}
	var pairs [][2]uuid.UUID
	both := func(do func(collection string, at int)) {
		do("quick", 0)
		do("plain", 1)
	}
	same := func(after string) {
		t.Helper()
		for _, search := range append(words, "gale roof", "gal oof", "snow x gale", "nothing like it", "name", "district") {
			var found [2]string
			both(func(collection string, at int) {
				got, err := store.Find(ctx, collection, query.Ask{Search: search, Sort: "name,note", Limit: 1000})
				testbed.Must(t, err)
				var all []string
				for _, r := range got.Records {
					all = append(all, string(r.Fields["name"])+string(r.Fields["note"]))
				}
				slices.Sort(all)
				found[at] = fmt.Sprint(got.Total, got.More, all)
			})
			if found[0] != found[1] {
				t.Fatalf("after %s, %q finds %.300s\nand plainly %.300s", after, search, found[0], found[1])
			}
		}
	}
	for step := range 60 {
		by := []*device.Store{store, other, beside}[random.IntN(3)]
		what := []string{"add", "add", "edit", "remove", "exchange", "cover less", "cover all"}[random.IntN(7)]
		fields := device.Fields{"name": text(), "note": text(), "district": []string{"kell", "ostra"}[random.IntN(2)]}
		switch {
		case what == "add" || len(pairs) == 0:
			var pair [2]uuid.UUID
			both(func(collection string, at int) { pair[at] = add(t, by, collection, fields) })
			pairs = append(pairs, pair)
		case what == "edit" || what == "remove":
			pair := pairs[random.IntN(len(pairs))]
			both(func(collection string, at int) {
				err := by.Remove(ctx, collection, pair[at])
				if what == "edit" {
					_, err = by.Edit(ctx, collection, pair[at], fields)
				}
				if err != nil && !errors.Is(err, device.ErrNoRecord) {
					t.Fatal(err)
				}
			})
		case what == "exchange":
			testbed.Exchange(t, store, other, store)
		default:
			held := map[string]string{"cover less": "kell", "cover all": "*"}[what]
			hold(t, bed, "worker", held)
			testbed.Exchange(t, store)
		}
		if step%2 == 0 {
			same(what)
		}
	}
	same("all")
}
