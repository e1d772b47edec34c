package promises_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/core/rights"
	"homing/device"
	"homing/internal/testbed"
)

const strangeNotes = `collection: notes
fields:
  name: {type: string}
  kept: {type: boolean}
access:
  read: before.kept != true || worker.role == "lead"
`

// What the page says of reading rules: what somebody may not read any more comes as a withdrawal, what they may read
// again comes whole; and when the people of a device may read otherwise than before, it loads anew.
func TestReadingRulesByTheProtocolPage(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strangeNotes)
	office := bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, office)
	open := add(t, office, "notes", device.Fields{"name": "open"})
	kept := add(t, office, "notes", device.Fields{"name": "kept", "kept": true})
	testbed.Exchange(t, office)
	s := newStranger(t, bed.URL(), bed.Code("worker"), 1)
	sight := func() (text string) {
		var defined struct{ Sight string }
		s.must("GET", "/v1/definitions", nil, &defined)
		return defined.Sight
	}
	first := sight()
	records, cursor := s.pull("notes", 0, 0, false, "*")
	s.expect("a first load", ids(records), fmt.Sprint([]string{open.String()}))

	edit := func(id uuid.UUID, hidden bool) {
		_, err := office.Edit(ctx, "notes", id, device.Fields{"kept": hidden})
		testbed.Must(t, err)
		testbed.Exchange(t, office)
	}
	edit(open, true)
	records, cursor = s.pull("notes", cursor, 0, false, "*")
	s.expect("what is hidden", ids(records), fmt.Sprint([]string{open.String() + " withdrawn"}))
	edit(open, false)
	records, _ = s.pull("notes", cursor, 0, false, "*")
	s.expect("what is shown again", ids(records), fmt.Sprint([]string{open.String()}))

	testbed.Must(t, bed.Central.SetRole(ctx, "worker", rights.Lead))
	if sight() == first {
		t.Error("the page's sight is the same though the worker is a lead now")
	}
	records, _ = s.pull("notes", 0, 0, false, "*")
	both := []string{open.String(), kept.String()}
	slices.Sort(both)
	s.expect("loaded anew by a lead", ids(records), fmt.Sprint(both))
	testbed.Must(t, bed.Central.SetRole(ctx, "worker", rights.Worker))
	s.expect("sight, as it was", sight(), first)
	records, _ = s.pull("notes", 0, 0, false, "*")
	now := []string{open.String(), kept.String() + " withdrawn"}
	slices.Sort(now)
	s.expect("loaded anew by a worker", ids(records), fmt.Sprint(now))
}

// What the page says of restores: central tells by its generations that it was put back; the client loads anew, sends
// again what central had accepted, and asks about what did not come. Nothing is lost and nothing counts twice.
func TestRestoresByTheProtocolPage(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strangeTrails)
	office := bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, office)
	s := newStranger(t, bed.URL(), bed.Code("worker"), 1)
	early, late := uuid7(), uuid7()
	var sent []wholeChange
	push := func(c wholeChange, want string) {
		t.Helper()
		sent = append(sent, c)
		s.expect("change "+fmt.Sprint(c.Number), s.push(c), want)
	}
	push(s.of("trails", early, "add", 0, map[string]string{"name": `"Ridge"`, "seen": "5"}), "[applied]")
	backup := backUp(t, bed)
	s.records["trails"] = map[string]theirs{early: {ID: early, Revision: 1, Fields: map[string]json.RawMessage{"name": []byte(`"Ridge"`), "seen": []byte("5")}}}
	push(s.of("trails", early, "edit", 1, map[string]string{"seen": "8"}), "[applied]")
	push(s.of("trails", late, "add", 0, map[string]string{"name": `"Gorge"`, "seen": "2"}), "[applied]")
	// What somebody else had added since the backup, only the client still has.
	_, err := bed.Central.PutRows(ctx, central.Everything("admin"), "trails", "", []map[string]json.RawMessage{{"name": []byte(`"Spur"`)}})
	testbed.Must(t, err)
	records, _ := s.pull("trails", 0, 0, false, "*")
	spur := ""
	for _, r := range records {
		if string(r.Fields["name"]) == `"Spur"` {
			spur = r.ID
		}
	}

	bed = putBack(t, bed, backup, office)
	s.central = bed.URL()
	var hello struct {
		Generation string
		Earlier    []string
	}
	s.must("GET", "/v1/hello", nil, &hello)
	if hello.Generation == s.generation || !slices.Contains(hello.Earlier, s.generation) {
		t.Fatalf("central does not tell of the restore: %+v", hello)
	}
	records, _ = s.pull("trails", 0, 0, false, "*")
	s.expect("what the backup has", ids(records), fmt.Sprint([]string{early}))
	// Under their numbers, with the generation in which they were made.
	s.expect("sent again", s.push(sent...), "[applied applied applied]")
	s.expect("and again", s.push(sent...), "[applied applied applied]")
	if status, text := s.call("PUT", "/v1/device/incarnation", map[string]any{"incarnation": s.incarnation}, nil); status != http.StatusNoContent {
		t.Errorf("telling central of the store again: %d %s", status, text)
	}
	s.generation = hello.Generation
	var refreshed struct{ Records []theirs }
	s.must("POST", "/v1/refresh/trails", map[string]any{"records": []map[string]any{{"id": early, "revision": 0}, {"id": spur, "revision": 0}}}, &refreshed)
	for _, r := range refreshed.Records {
		if lost := r.Withdrawn && r.Revision == 0; lost != (r.ID == spur) {
			t.Errorf("asked about what did not come: %+v", r)
		}
	}
	for id, want := range map[string]string{early: "8", late: "2"} {
		var r theirs
		lead := bed.SignIn("lead")
		status, text := bed.Call("GET", "/v1/records/trails/"+id, lead, nil)
		if err := json.Unmarshal(text, &r); status != http.StatusOK || err != nil || string(r.Fields["seen"]) != want {
			t.Errorf("%s counts %s, want %s: %d", id, r.Fields["seen"], want, status)
		}
	}
	add := s.of("trails", spur, "add", 0, map[string]string{"name": `"Spur"`})
	s.expect("what a person offers", s.push(add), "[applied]")
}
