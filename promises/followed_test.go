package promises_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/google/uuid"

	"homing/central/past"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
)

const rounds = `
collection: rounds
label: "{place}"
fields:
  place: {type: string}
  grade: {type: integer}
  seen: {type: integer}
follow_ups:
  - name: opens
    when: after.grade >= 4.0 && (before == null || before.grade == null || before.grade < 4.0)
    add:
      collection: jobs
      fields: {what: '"Mend " + after.place', round: id, by: worker.name}
`

const jobs = `
collection: jobs
label: "{what}"
required: [what]
fields:
  what: {type: string}
  round: {type: string, format: uuid, reference: rounds}
  by: {type: string}
  number: {type: string, series: J-001}
`

// followedLines are what central says became of follow-ups.
func followedLines(t *testing.T, bed *testbed.Bed) []past.FollowedLine {
	t.Helper()
	all, err := bed.Central.FollowUps(ctx, past.FollowedOf{Limit: 1000})
	testbed.Must(t, err)
	return all
}

// jobsOf are the jobs that a device gets, by the place that they mend.
func jobsOf(t *testing.T, store *device.Store) map[string]int {
	t.Helper()
	testbed.Exchange(t, store)
	found, err := store.Find(ctx, "jobs", query.Ask{Limit: 500})
	testbed.Must(t, err)
	all := map[string]int{}
	for _, one := range found.Records {
		all[strings.TrimPrefix(shown(t, store, "jobs", one.ID, "what"), "Mend ")]++
	}
	return all
}

// P2: what follows a change follows it once, whichever way the batch comes: its answer is lost, it comes twice at once, it comes by itself
// later.
func TestP2AFollowUpFollowsOnce(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(rounds, jobs)
	proxy := testbed.NewProxy(t, bed.URL(), testbed.InTurn(testbed.CutAfter, testbed.Twice, testbed.CutHalfway, testbed.CutBefore, testbed.CutAfter))
	store := bed.Device("worker", "tablet", device.Options{}, proxy.URL)
	testbed.Exchange(t, store)
	for n := range 5 {
		add(t, store, "rounds", device.Fields{"place": fmt.Sprint("Hut ", n), "grade": 5})
		for range 4 {
			if _, err := store.Exchange(ctx, nil); err == nil {
				break
			}
		}
	}
	testbed.Exchange(t, store)
	got := jobsOf(t, store)
	for n := range 5 {
		if got[fmt.Sprint("Hut ", n)] != 1 {
			t.Errorf("Hut %d has %d jobs", n, got[fmt.Sprint("Hut ", n)])
		}
	}
	if lines := followedLines(t, bed); len(lines) != 5 || lines[0].Outcome != "done" {
		t.Errorf("the list says %+v", lines)
	}
	bed.Same(store)
}

// P2: central is restored to a time before a change, and the device sends the change again: what followed it is one record, not two.
func TestP2AFollowUpAfterARestore(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(rounds, jobs)
	store, other := bed.Device("worker", "tablet", device.Options{}), bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, store, other)
	backup := backUp(t, bed)
	add(t, store, "rounds", device.Fields{"place": "Gale Hut", "grade": 5})
	testbed.Exchange(t, store, other)
	found, err := other.Find(ctx, "jobs", query.Ask{Limit: 5})
	testbed.Must(t, err)
	first := found.Records[0].ID
	_, err = other.Edit(ctx, "jobs", first, device.Fields{"what": "Mend the roof of Gale Hut"})
	testbed.Must(t, err)
	bed = putBack(t, bed, backup, store, other)
	testbed.Exchange(t, store)
	testbed.Exchange(t, other, other)
	if got := jobsOf(t, store); len(got) != 1 || got["the roof of Gale Hut"] != 1 {
		t.Errorf("the jobs are %v", got)
	}
	bed.Same(store, other)
}

// A change and what follows it are one: either both are there or neither, however central ends.
func TestP2AFollowUpIsOneWithItsChange(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(rounds, jobs)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	holder, unlock := bed.HoldCommits()
	id := add(t, store, "rounds", device.Fields{"place": "Gale Hut", "grade": 5})
	done := make(chan error, 1)
	go func() { _, err := store.Exchange(ctx, nil); done <- err }()
	bed.WaitForHeldCommit()
	var there int
	testbed.Must(t, holder.Get(&there, `SELECT count(*) FROM records WHERE collection IN ('rounds', 'jobs')`))
	_, err := holder.Exec(`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND datname = current_database()`)
	testbed.Must(t, err)
	unlock()
	<-done // broken off, or made good by central's own second try
	if there != 0 {
		t.Errorf("%d records are seen before the commit", there)
	}
	testbed.Exchange(t, store)
	if got := jobsOf(t, store); got["Gale Hut"] != 1 {
		t.Errorf("the jobs are %v", got)
	}
	if got := shown(t, store, "rounds", id, "place"); got != "Gale Hut" {
		t.Errorf("the round is %q", got)
	}
}

// Two rules that set each other off end, and say so; what was done until then stands, and so does what began it.
func TestFollowUpsEnd(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(`
collection: rounds
fields:
  place: {type: string}
  up: {type: boolean}
  turns: {type: integer, maximum: 100}
follow_ups:
  - {name: lifts, when: after.up == false, set: {up: "true"}, depth: 4}
  - {name: lowers, when: after.up == true && before.up == false, set: {up: "false", turns: "(before.turns == null ? 0.0 : before.turns) + 1.0"}, depth: 4}
`)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	id := add(t, store, "rounds", device.Fields{"place": "Gale Hut", "up": false})
	testbed.Exchange(t, store)
	lines := followedLines(t, bed)
	stopped := 0
	for _, one := range lines {
		if one.Outcome == "stopped" {
			stopped++
			if !strings.Contains(one.Reasons[0].Message, "set each other off") {
				t.Errorf("the list says %+v", one)
			}
		}
	}
	if len(lines) != 5 || stopped != 1 {
		t.Errorf("the list has %d lines, %d stopped: %+v", len(lines), stopped, lines)
	}
	testbed.Exchange(t, store)
	if got := shown(t, store, "rounds", id, "turns"); got != "2" {
		t.Errorf("it turned %s times", got)
	}
}

// A follow-up that cannot be worked out, or is refused where it wants to go, is said, and harms neither what it follows nor the others.
func TestFollowUpsThatFail(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(`
collection: huts
label: "{name}"
fields:
  name: {type: string}
  beds: {type: integer, minimum: 0}
`, `
collection: rounds
label: "{note}"
fields:
  hut: {type: string, format: uuid}
  note: {type: string}
  beds: {type: integer}
parent: {collection: huts, field: hut, removal: keep}
follow_ups:
  - {name: length, when: change.kind == "add", set: {note: 'after.note.charAt(40)'}}
  - {name: counts, when: change.kind == "add", set_parent: {beds: after.beds}}
  - {name: marks, when: change.kind == "add", set_parent: {name: '"seen by " + worker.name'}}
`)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	hut := add(t, store, "huts", device.Fields{"name": "Gale Hut", "beds": 2})
	add(t, store, "rounds", device.Fields{"hut": hut.String(), "note": "empty", "beds": -1})
	if sum := testbed.Exchange(t, store); sum.Applied+sum.Merged != 2 {
		t.Errorf("of the changes %+v", sum)
	}
	outcomes := map[string]string{}
	for _, one := range followedLines(t, bed) {
		outcomes[one.Rule] = one.Outcome
		if len(one.Reasons) > 0 {
			outcomes[one.Rule] += ": " + one.Reasons[0].Message
		}
	}
	for rule, want := range map[string]string{"length": "refused: note could not be worked out", "counts": "refused: must be at least 0, is -1", "marks": "done"} {
		if !strings.HasPrefix(outcomes[rule], want) {
			t.Errorf("%s came to %q", rule, outcomes[rule])
		}
	}
	testbed.Exchange(t, store)
	if name, beds := shown(t, store, "huts", hut, "name"), shown(t, store, "huts", hut, "beds"); name != "seen by worker" || beds != "2" {
		t.Errorf("the hut is %q with %s beds", name, beds)
	}
}

// What follows does so for every way in: pushed, typed at central, imported; and stands in the history under the rule's name.
func TestFollowUpsOfEveryWayIn(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(rounds, jobs)
	admin := bed.SignIn("admin")
	status, text := bed.Call(http.MethodPost, "/v1/records/rounds", admin, map[string]any{"id": uuid.Must(uuid.NewV7()), "fields": map[string]any{"place": "by hand", "grade": 5}})
	if status/100 != 2 {
		t.Fatalf("%d %s", status, text)
	}
	var rows []map[string]any
	for n := range 700 {
		rows = append(rows, map[string]any{"place": fmt.Sprint("row ", n), "grade": n % 2 * 4})
	}
	if status, text := bed.Call(http.MethodPut, "/v1/rows/rounds", admin, map[string]any{"key": "place", "rows": rows}); status != http.StatusOK {
		t.Fatalf("%d %s", status, text)
	}
	store := bed.Device("worker", "tablet", device.Options{})
	got := jobsOf(t, store)
	if len(got) != 351 || got["by hand"] != 1 || got["row 699"] != 1 || got["row 698"] != 0 {
		t.Errorf("there are %d jobs", len(got))
	}
	found, err := store.Find(ctx, "jobs", query.Ask{Limit: 1})
	testbed.Must(t, err)
	if status, text := bed.Call(http.MethodGet, "/v1/history/jobs/"+found.Records[0].ID.String(), admin, nil); status != http.StatusOK ||
		!strings.Contains(string(text), `"author":"follow-up rounds.opens"`) || !strings.Contains(string(text), `"by":{"to":"admin"}`) {
		t.Errorf("%d %s", status, text)
	}
	bed.Same(store)
}

// A record that is followed again and again gets one job, or one each time, as the definition says.
func TestFollowUpsForEach(t *testing.T) {
	for each, want := range map[string]int{"record": 1, "change": 2} {
		bed := testbed.Start(t)
		bed.Define(strings.Replace(rounds, "collection: jobs", "collection: jobs\n      each: "+each, 1), jobs)
		store := bed.Device("worker", "tablet", device.Options{})
		testbed.Exchange(t, store)
		id := add(t, store, "rounds", device.Fields{"place": "Gale Hut", "grade": 5})
		for _, grade := range []int{2, 5} {
			testbed.Exchange(t, store)
			_, err := store.Edit(ctx, "rounds", id, device.Fields{"grade": grade})
			testbed.Must(t, err)
		}
		testbed.Exchange(t, store)
		if got := jobsOf(t, store)["Gale Hut"]; got != want {
			t.Errorf("one for each %s made %d", each, got)
		}
	}
}
