package promises_test

import (
	"errors"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/core/change"
	"homing/core/query"
	"homing/core/rights"
	"homing/device"
	"homing/internal/testbed"
)

const territorial = testbed.Trails + `  district: {type: string}
  second: {type: string}
sync:
  territory: "[record.district, record.second].filter(d, d != null)"
`

// holds gives the ids of the trails that a device shows, in order.
func holds(t *testing.T, store *device.Store) (ids []string) {
	t.Helper()
	found, err := store.Find(ctx, "trails", query.Ask{Limit: 1000})
	testbed.Must(t, err)
	for _, r := range found.Records {
		ids = append(ids, r.ID.String())
	}
	slices.Sort(ids)
	return ids
}

// covers gives the ids of the trails that somebody covers, by central's listing.
func covers(t *testing.T, bed *testbed.Bed, who string, territories ...string) (ids []string) {
	t.Helper()
	listing, err := bed.Central.List(ctx, rights.Person{Name: who, Role: rights.Worker, Territories: territories},
		"trails", query.Ask{Limit: 1000})
	testbed.Must(t, err)
	for _, r := range listing.Records {
		ids = append(ids, r.ID.String())
	}
	slices.Sort(ids)
	return ids
}

func hold(t *testing.T, bed *testbed.Bed, worker string, territories ...string) {
	t.Helper()
	testbed.Must(t, bed.Central.HoldTerritories(ctx, worker, territories))
}

// P3: a record that its worker did not cover comes into their territory by their own edit. The device gets what
// central had put into it meanwhile.
func TestP3OwnEditBringsARecordIn(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: trails\nrequired: [name]\nfields:\n  name: {type: string}\n  district: {type: string}\n  " +
		"number: {type: string, series: T-001}\nsync:\n  territory: record.district\n  steps: every\n")
	hold(t, bed, "worker", "kell")
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	id := add(t, store, "trails", device.Fields{"name": "Ridge"}) // in no district, so that the worker does not cover it
	_, err := store.Edit(ctx, "trails", id, device.Fields{"district": "kell"})
	testbed.Must(t, err)
	for range 2 {
		testbed.Exchange(t, store)
		if got := shown(t, store, "trails", id, "number"); got != "T-001" {
			t.Errorf("the device shows the number %v", got)
		}
	}
}

func addIn(t *testing.T, store *device.Store, name, district string) uuid.UUID {
	t.Helper()
	r, err := store.Add(ctx, "trails", device.Fields{"name": name, "district": district})
	testbed.Must(t, err)
	return r.ID
}

// P3, P11: records and workers move between territories; each device holds exactly what its worker covers, and what
// it has already is not loaded again.
func TestP3TerritoriesMove(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(territorial)
	office := bed.Device("lead", "office", device.Options{})
	hold(t, bed, "worker", "kell")
	testbed.Exchange(t, office)
	kell, ostra := addIn(t, office, "in kell", "kell"), addIn(t, office, "in ostra", "ostra")
	addIn(t, office, "in tamrin", "tamrin")
	both, err := office.Add(ctx, "trails", device.Fields{"name": "in both", "district": "kell", "second": "ostra"})
	testbed.Must(t, err)
	testbed.Exchange(t, office)
	tablet := bed.Device("worker", "tablet", device.Options{})
	check := func(step string, received, withdrawn int, territories ...string) {
		t.Helper()
		summary := testbed.Exchange(t, tablet)
		if got, want := holds(t, tablet), covers(t, bed, "worker", territories...); !slices.Equal(got, want) {
			t.Errorf("%s: the device holds %v, the worker covers %v", step, got, want)
		}
		if summary.Received != received || summary.Withdrawn != withdrawn {
			t.Errorf("%s: received %d and dropped %d, want %d and %d", step, summary.Received, summary.Withdrawn, received,
				withdrawn)
		}
	}
	check("first load", 2, 0, "kell")

	editTrail(t, office, kell, device.Fields{"district": "ostra"})
	testbed.Exchange(t, office)
	check("a record leaves", 0, 1, "kell")

	editTrail(t, office, kell, device.Fields{"district": "kell", "note": "back again"})
	testbed.Exchange(t, office)
	check("a record comes back", 1, 0, "kell")

	hold(t, bed, "worker", "kell", "ostra")
	check("a territory is gained", 2, 0, "kell", "ostra") // what lies in both comes once more, with it

	hold(t, bed, "worker", "ostra")
	check("a territory is lost", 0, 1, "ostra")

	hold(t, bed, "worker", "tamrin")
	check("one is lost and another gained", 1, 2, "tamrin")

	hold(t, bed, "worker", "*")
	check("all are gained", 4, 0, "*")

	hold(t, bed, "worker", "ostra")
	check("all but one are lost", 0, 2, "ostra")

	testbed.Must(t, office.Remove(ctx, "trails", both.ID))
	testbed.Exchange(t, office)
	check("a record is removed", 1, 0, "ostra")

	hold(t, bed, "worker")
	check("nothing is left", 0, 1)
	if _, err := tablet.Get(ctx, "trails", ostra); !errors.Is(err, device.ErrNoRecord) {
		t.Errorf("the record is still there: %v", err)
	}
}

// P1, P11: edits of a record that is withdrawn before they are sent are sent and answered all the same; then it goes.
func TestP11UnsentEditsOfWithdrawnRecords(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(territorial)
	office := bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, office)
	moved, lost := addIn(t, office, "moved", "kell"), addIn(t, office, "lost", "kell")
	testbed.Exchange(t, office)
	hold(t, bed, "worker", "kell")
	tablet := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, tablet)
	editTrail(t, tablet, moved, device.Fields{"note": "from the tablet"})
	editTrail(t, office, moved, device.Fields{"district": "ostra"})
	testbed.Exchange(t, office)
	if _, err := tablet.Pull(ctx, nil); err != nil {
		t.Fatal(err)
	}
	if queue, err := tablet.Review(ctx); err != nil || len(queue) != 1 {
		t.Fatalf("the unsent edit is gone: %v, %v", queue, err)
	}
	editTrail(t, tablet, lost, device.Fields{"note": "also from the tablet"})
	hold(t, bed, "worker", "tamrin")
	if _, err := tablet.Pull(ctx, nil); err != nil {
		t.Fatal(err)
	}
	testbed.Exchange(t, tablet)
	for id, note := range map[uuid.UUID]string{moved: `"from the tablet"`, lost: `"also from the tablet"`} {
		if got := value(t, bed, id, "note"); got != note {
			t.Errorf("central has the note %s, want %s", got, note)
		}
	}
	if got := holds(t, tablet); len(got) != 0 {
		t.Errorf("the device still holds %v", got)
	}
	// A record added for another territory goes as soon as central has it.
	addIn(t, tablet, "for ostra", "ostra")
	testbed.Exchange(t, tablet)
	if got := holds(t, tablet); len(got) != 0 {
		t.Errorf("the device still holds %v", got)
	}
	testbed.Exchange(t, office)
	bed.Same(office)
}

// P3: random moves of records and workers, with exchanges that break off at any page. In the end each device holds
// exactly what its worker covers.
func TestP3TerritoriesAtRandom(t *testing.T) {
	keys := []string{"kell", "ostra", "tamrin"}
	for seed := range uint64(4) {
		bed := testbed.Start(t)
		bed.Define(territorial)
		random := rand.New(rand.NewPCG(seed, 11))
		breaking := false
		proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
			if breaking && strings.HasPrefix(r.URL.Path, "/v1/changes/") && random.IntN(3) == 0 {
				return testbed.CutAfter
			}
			return testbed.Pass
		})
		office := bed.Device("lead", "office", device.Options{})
		tablet := bed.Device("worker", "tablet", device.Options{}, bed.URL())
		testbed.Must(t, tablet.MoveCentral(ctx, proxy.URL))
		testbed.Exchange(t, office)
		var ids []uuid.UUID
		held := []string{"*"}
		for step := range 60 {
			switch random.IntN(5) {
			case 0:
				ids = append(ids, addIn(t, office, "trail "+strconv.Itoa(step), keys[random.IntN(3)]))
			case 1, 2:
				if len(ids) > 0 {
					editTrail(t, office, ids[random.IntN(len(ids))], device.Fields{"district": keys[random.IntN(3)]})
				}
			case 3:
				held = keys[random.IntN(3):]
				if random.IntN(4) == 0 {
					held = []string{"*"}
				}
				hold(t, bed, "worker", held...)
			case 4:
				breaking = true
				if _, err := tablet.Exchange(ctx, nil); err == nil && random.IntN(2) == 0 {
					breaking = false
				}
			}
			testbed.Exchange(t, office)
		}
		breaking = false
		testbed.Exchange(t, tablet)
		if got, want := holds(t, tablet), covers(t, bed, "worker", held...); !slices.Equal(got, want) {
			t.Errorf("seed %d: the device holds %d records, the worker covers %d\n%v\n%v", seed, len(got), len(want), got, want)
		}
	}
}

// P3: when a definition begins to sort records into territories, sorts them otherwise, or stops, devices follow.
func TestP3TheDefinitionMovesRecords(t *testing.T) {
	bed := testbed.Start(t)
	whole := strings.Split(territorial, "sync:")[0]
	bed.Define(whole)
	hold(t, bed, "worker", "kell")
	office, tablet := bed.Device("lead", "office", device.Options{}), bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, office)
	for n, district := range []string{"kell", "kell", "ostra", "tamrin"} {
		r, err := office.Add(ctx, "trails", device.Fields{"name": "trail " + strconv.Itoa(n), "district": district,
			"second": []string{"ostra", "kell"}[n%2]})
		testbed.Must(t, err)
		_ = r
	}
	testbed.Exchange(t, office, tablet)
	for step, test := range []struct {
		definition string
		want       int
	}{{whole, 4}, {whole + "sync: {territory: record.district}\n", 2}, {whole + "sync: {territory: record.second}\n", 2},
		{whole, 4}, {whole + "sync: {territory: '\"nowhere\"'}\n", 0}} {
		bed.Define(test.definition)
		testbed.Exchange(t, tablet)
		if got, want := holds(t, tablet), covers(t, bed, "worker", "kell"); !slices.Equal(got, want) ||
			len(got) != test.want {
			t.Errorf("step %d: the device holds %d records, want %d, of which the worker covers %d", step, len(got), test.want,
				len(want))
		}
	}
	testbed.Exchange(t, office)
	bed.Same(office)
}

const ruled = testbed.Trails + `  owner: {type: string}
access:
  read: before.state != "closed" || worker.role == "lead"
  add: after.owner == worker.name
  edit: before.owner == worker.name || worker.role == "lead"
  remove: worker.role == "lead"
`

// P11: a collection's own rules are asked at every door: the device, the push, and direct access.
func TestP11RulesAtEveryDoor(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(ruled)
	admin := bed.SignIn("admin")
	add := func(name, owner, state string) uuid.UUID {
		id := newID()
		if status, text := bed.Call("POST", "/v1/records/trails", admin,
			map[string]any{"id": id, "fields": map[string]any{"name": name, "owner": owner, "state": state}}); status != 201 {
			t.Fatalf("%d %s", status, text)
		}
		return id
	}
	mine, theirs, hidden := add("mine", "worker", "open"), add("theirs", "lead", "open"), add("hidden", "worker", "closed")

	acts := []struct {
		name         string
		kind         change.Kind
		id           uuid.UUID
		owner        string
		worker, lead bool
	}{
		{"add one's own", change.Add, uuid.Nil, "worker", true, false},
		{"add for another", change.Add, uuid.Nil, "lead", false, true},
		{"edit one's own", change.Edit, mine, "", true, true},
		{"edit another's", change.Edit, theirs, "", false, true},
		{"remove", change.Remove, theirs, "", false, true},
	}
	for _, role := range []string{"worker", "lead"} {
		store, hand, session := bed.Device(role, "device of "+role, device.Options{}), newRaw(t, bed, role), bed.SignIn(role)
		testbed.Exchange(t, store)
		for n, act := range acts {
			allowed := map[string]bool{"worker": act.worker, "lead": act.lead}[role]
			values := map[string]string{"note": `"by hand ` + strconv.Itoa(n) + `"`}
			fields := device.Fields{"note": "on the device " + strconv.Itoa(n)}
			id := act.id
			if act.kind == change.Add {
				id = newID()
				values["name"], values["owner"] = `"new"`, `"`+act.owner+`"`
				fields["name"], fields["owner"] = "new", act.owner
			}
			if act.kind == change.Remove {
				id, values = add("to be removed", "worker", "open"), nil
				testbed.Exchange(t, store)
			}
			// The device says no at once.
			var err error
			switch act.kind {
			case change.Add:
				_, err = store.Add(ctx, "trails", fields)
			case change.Edit:
				_, err = store.Edit(ctx, "trails", id, fields)
			default:
				err = store.Remove(ctx, "trails", id)
			}
			if (err == nil) != allowed || err != nil && !errors.Is(err, device.ErrNotAllowed) {
				t.Errorf("%s as %s on the device: %v", act.name, role, err)
			}
			testbed.Exchange(t, store)
			// Central says so to who pushes all the same.
			if act.kind == change.Remove {
				id = add("to be removed by hand", "worker", "open")
			}
			base := int64(0)
			if act.kind != change.Add {
				base = 1
			}
			answer := hand.push(hand.batch(hand.change(int64(n+1), act.kind, id, base, values)))[0]
			if answer.Answer.Accepted() != allowed || !allowed && answer.Reasons[0].Code != change.CodeNotAllowed {
				t.Errorf("%s as %s by hand: %+v", act.name, role, answer)
			}
			// And to direct access.
			if act.kind == change.Remove {
				id = add("to be removed over HTTP", "worker", "open")
			}
			path, method := "/v1/records/trails/"+id.String(), map[change.Kind]string{change.Add: "POST", change.Edit: "PATCH",
				change.Remove: "DELETE"}[act.kind]
			var body any = map[string]any{"fields": fields}
			if act.kind == change.Add {
				path = "/v1/records/trails"
			} else if act.kind == change.Remove {
				body = nil
			}
			if status, text := bed.Call(method, path, session, body); (status < 300) != allowed || !allowed &&
				status != http.StatusForbidden {
				t.Errorf("%s as %s over HTTP: %d %s", act.name, role, status, text)
			}
		}
		// Reading: what the rule hides is nowhere to be seen.
		sees := role == "lead"
		_, err := store.Get(ctx, "trails", hidden)
		if (err == nil) != sees {
			t.Errorf("%s has the hidden record on the device: %v", role, err)
		}
		for _, path := range []string{"records", "history"} {
			if status, _ := bed.Call("GET", "/v1/"+path+"/trails/"+hidden.String(), session, nil); (status == 200) != sees {
				t.Errorf("%s reads the hidden record over HTTP (%s): %d", role, path, status)
			}
		}
		if _, text := bed.Call("GET", "/v1/records/trails?search=hidden", session, nil); strings.Contains(string(text),
			hidden.String()) != sees {
			t.Errorf("%s lists the hidden record: %s", role, text)
		}
		got, err := store.Fingerprint(ctx, "trails")
		testbed.Must(t, err)
		want, err := bed.Central.Fingerprint(ctx, rights.Person{Name: role, Role: rights.Role(role),
			Territories: []string{"*"}}, "trails")
		testbed.Must(t, err)
		testbed.Exchange(t, store)
		if got, err = store.Fingerprint(ctx, "trails"); err != nil || got != want {
			t.Errorf("%s holds %d records, may read %d (%v)", role, got.Count(), want.Count(), err)
		}
	}
	// What one may no longer read is withdrawn, and comes back when one may again.
	store := bed.Device("worker", "another", device.Options{})
	testbed.Exchange(t, store)
	for _, state := range []string{"closed", "open"} {
		_, err := bed.Central.Direct(ctx, central.Everything("admin"),
			changes.Write{Collection: "trails", Record: mine, Kind: change.Edit, Base: -1, Fields: deltaOf("state", state)})
		testbed.Must(t, err)
		testbed.Exchange(t, store)
		if _, err := store.Get(ctx, "trails", mine); (err == nil) != (state == "open") {
			t.Errorf("the record is %s, and the device has it: %v", state, err)
		}
	}
	bed.Define(strings.Replace(ruled, `before.state != "closed" || `, "", 1))
	testbed.Exchange(t, store)
	if got := holds(t, store); len(got) != 0 {
		t.Errorf("after the rule was tightened the device holds %d records", len(got))
	}
}

// P11: whoever does not cover a record meets it at no door.
func TestP11TerritoriesAtEveryDoor(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(territorial)
	office := bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, office)
	id := addIn(t, office, "in ostra", "ostra")
	testbed.Exchange(t, office)
	hold(t, bed, "worker", "kell")
	session := bed.SignIn("worker")
	path := "/v1/records/trails/" + id.String()
	for _, call := range []struct {
		method, path string
		body         any
	}{{"GET", path, nil}, {"GET", "/v1/history/trails/" + id.String(), nil},
		{"PATCH", path, map[string]any{"fields": map[string]any{"note": "x"}}}, {"DELETE", path, nil}} {
		if status, text := bed.Call(call.method, call.path, session, call.body); status != http.StatusNotFound {
			t.Errorf("%s %s: %d %s", call.method, call.path, status, text)
		}
	}
	if _, text := bed.Call("GET", "/v1/records/trails", session, nil); !strings.Contains(string(text), `"total":0`) {
		t.Errorf("the listing shows %s", text)
	}
	hand := newRaw(t, bed, "worker")
	if status, text := bed.Call("GET", "/v1/changes/trails?covers=ostra", hand.token,
		nil); status != http.StatusConflict || !strings.Contains(string(text), "coverage-changed") {
		t.Errorf("a device that asks for another's territory: %d %s", status, text)
	}
	if page := hand.pull(0); len(page.Records) != 0 {
		t.Errorf("a device that does not say what it covers gets %+v", page.Records)
	}
}

// P11: an import finds only records that its asker may see, and the answer to an edit shows nothing of a record that
// its author may not see.
func TestP11AnswersShowOnlyWhatMayBeSeen(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(territorial)
	office := bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, office)
	id := addIn(t, office, "secret name", "ostra")
	testbed.Exchange(t, office)
	editTrail(t, office, id, device.Fields{"note": "secret note"})
	testbed.Exchange(t, office)
	hold(t, bed, "worker", "kell")

	session := bed.SignIn("worker")
	status, text := bed.Call("PUT", "/v1/rows/trails", session,
		map[string]any{"key": "name", "rows": []any{map[string]any{"name": "secret name", "note": "overwritten"}}})
	if status != 200 || strings.Contains(string(text), "updated") || strings.Contains(string(text), id.String()) {
		t.Errorf("an import reached a record of others: %d %s", status, text)
	}
	if got := value(t, bed, id, "note"); got != `"secret note"` {
		t.Errorf("the note is %s", got)
	}
	hand := newRaw(t, bed, "worker")
	answer := hand.push(hand.batch(hand.change(1, change.Edit, id, 1, map[string]string{"state": `"closed"`})))[0]
	if answer.Answer != change.Refused || answer.Record != nil || answer.Reasons[0].Code != change.CodeUnknownRecord {
		t.Errorf("an edit of what its author never saw is answered by %+v", answer)
	}
	hold(t, bed, "worker", "ostra")
	hold(t, bed, "worker", "kell")
	answer = hand.push(hand.batch(hand.change(2, change.Edit, id, 2, map[string]string{"state": `"closed"`})))[0]
	if answer.Answer != change.Applied || answer.Record == nil || !answer.Record.Withdrawn ||
		len(answer.Record.Fields) > 0 || answer.Record.Author != "" {
		t.Errorf("the answer shows %+v, %+v", answer, answer.Record)
	}

	// By a rule for reading: an edit over HTTP of what one may not read finds nothing.
	bed.Define(ruled + "carry: {drop: [district, second]}\n")
	hold(t, bed, "worker", "*")
	if _, err := bed.Central.Direct(ctx, central.Everything("admin"),
		changes.Write{Collection: "trails", Record: id, Kind: change.Edit, Base: -1,
			Fields: deltaOf("owner", "worker")}); err != nil {
		t.Fatal(err)
	}
	status, text = bed.Call("PATCH", "/v1/records/trails/"+id.String(), session,
		map[string]any{"fields": map[string]any{"note": "x"}})
	if status != http.StatusNotFound || strings.Contains(string(text), "secret") {
		t.Errorf("an edit of what one may not read: %d %s", status, text)
	}
}
