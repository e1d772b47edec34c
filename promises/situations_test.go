package promises_test

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/device"
	"homing/internal/testbed"
)

// told is an answer as a client from the page reads it.
type told struct {
	Number, Revision int
	Answer           string
	Record           *theirs
	Reasons          []struct{ Code, Message string }
}

func (a told) String() string {
	text := a.Answer
	if len(a.Reasons) > 0 {
		text += " " + a.Reasons[0].Code
	}
	return text
}

// wholeChange is a change with the parts that not every client needs.
type wholeChange struct {
	theirChange
	Author      string         `json:"author,omitempty"`
	Group       map[string]any `json:"group,omitempty"`
	Folds       []int          `json:"folds,omitempty"`
	FoldDigests []string       `json:"fold_digests,omitempty"`
}

// digest is what the page says of it.
func (c wholeChange) digest(t *testing.T) string {
	hash := sha256.New()
	part := func(text string) {
		var length [8]byte
		binary.BigEndian.PutUint64(length[:], uint64(len(text)))
		hash.Write(append(length[:], text...))
	}
	id := func(text string) {
		raw, err := hex.DecodeString(strings.ReplaceAll(text, "-", ""))
		testbed.Must(t, err)
		hash.Write(raw)
	}
	millis, err := strconv.ParseInt(c.Stamp[:12], 16, 64)
	testbed.Must(t, err)
	counter, err := strconv.ParseInt(c.Stamp[13:], 16, 64)
	testbed.Must(t, err)
	for _, n := range []int64{int64(c.Number), int64(c.Base), millis, counter, c.EditedAt.UnixNano()} {
		part(strconv.FormatInt(n, 10))
	}
	part(c.Collection)
	id(c.Record)
	part(c.Kind)
	part(c.Author)
	for _, n := range c.Folds {
		part("folds " + strconv.Itoa(n))
	}
	for _, name := range slices.Sorted(maps.Keys(c.Fields)) {
		part(name)
		part(string(c.Fields[name].From))
		part(string(c.Fields[name].To))
	}
	return hex.EncodeToString(hash.Sum(nil)[:16])
}

// push sends changes in one batch.
func (s *stranger) push(changes ...wholeChange) []told {
	s.t.Helper()
	var got struct{ Answers []told }
	s.must("POST", "/v1/batches", map[string]any{"batch": uuid7(), "exchange": uuid7(), "incarnation": s.incarnation,
		"generation": s.generation, "changes": changes,
		"clock": map[string]any{"sent_at": time.Now().UTC(), "offset_ms": 0, "error_ms": 20}}, &got)
	return got.Answers
}

// of makes a change of a record; values are JSON, none for no value.
func (s *stranger) of(collection, id, kind string, base int, values map[string]string) wholeChange {
	c := wholeChange{
		theirChange: theirChange{Collection: collection, Record: id, Kind: kind, Base: base, Stamp: s.stamp(),
			EditedAt: time.Now().UTC(), Fields: map[string]theirDelta{}},
		Author: "worker",
	}
	s.number++
	c.Number = s.number
	for name, value := range values {
		c.Fields[name] = theirDelta{From: s.records[collection][id].Fields[name], To: json.RawMessage(value)}
		if value == "" {
			c.Fields[name] = theirDelta{From: s.records[collection][id].Fields[name]}
		}
	}
	return c
}

// pull asks once from a cursor, for some territories.
func (s *stranger) pull(
	collection string,
	cursor, answered int,
	load bool,
	covers ...string,
) (records []theirs, next int) {
	s.t.Helper()
	query := url.Values{"cursor": {strconv.Itoa(cursor)}, "covers": covers}
	if load {
		query.Set("load", "true")
	}
	var headers []string
	if answered > 0 {
		query.Set("answered", strconv.Itoa(answered))
		headers = []string{"Homing-Incarnation", s.incarnation}
	}
	var page struct {
		Records []theirs
		Cursor  int
	}
	if status, text := s.call("GET", "/v1/changes/"+collection+"?"+query.Encode(), nil, &page, headers...); status != http.StatusOK {
		s.t.Fatalf("pull: %d %s", status, text)
	}
	return page.Records, page.Cursor
}

func ids(records []theirs) (all []string) {
	for _, r := range records {
		text := r.ID
		if r.Withdrawn {
			text += " withdrawn"
		}
		if r.Removed {
			text += " removed"
		}
		all = append(all, text)
	}
	slices.Sort(all)
	return all
}

const strangePosts = `collection: posts
required: [name]
parent: {collection: trails, field: trail, removal: restrict}
fields:
  name: {type: string}
  trail: {reference: trails}
`

const strangeZones = `collection: zones
fields:
  name: {type: string}
  zone: {enum: [north, south]}
sync:
  territory: record.zone
`

func (s *stranger) expect(what string, got any, want string) {
	s.t.Helper()
	if text := fmt.Sprint(got); text != want {
		s.t.Errorf("%s: %s, want %s", what, text, want)
	}
}

// What the page says of folds: a number that was folded is answered as part of the fold, another's change under it is
// told from it, and a fold of what central has is refused.
func TestFoldsByTheProtocolPage(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strangeTrails)
	s := newStranger(t, bed.URL(), bed.Code("worker"), 1)
	id := uuid7()
	add, edit := s.of(
		"trails",
		id,
		"add",
		0,
		map[string]string{"name": `"Ridge"`, "seen": "5"},
	), s.of(
		"trails",
		id,
		"edit",
		0,
		nil,
	)
	edit.Fields["seen"] = theirDelta{From: []byte("5"), To: []byte("9")}
	fold := s.of("trails", id, "add", 0, map[string]string{"name": `"Ridge"`, "seen": "9"})
	fold.Folds, fold.FoldDigests = []int{add.Number, edit.Number}, []string{add.digest(t), edit.digest(t)}
	s.expect("the fold", s.push(fold), "[applied]")
	s.expect(
		"a copy's own sending of a folded change",
		s.push(add, edit),
		"[merged number-reused merged number-reused]",
	)
	other := s.of("trails", id, "edit", 1, map[string]string{"seen": "7"})
	other.Number = edit.Number
	s.expect("another change under a folded number", s.push(other), "[refused number-reused]")
	again := s.of("trails", id, "edit", 1, map[string]string{"seen": "12"})
	again.Folds = []int{fold.Number}
	s.expect("a fold of what central has", s.push(again), "[refused number-reused]")
	if got := valueAt(t, bed, "trails", uuid.MustParse(id), "seen"); got != "9" {
		t.Errorf("central counts %s", got)
	}
}

// What the page says of groups and families.
func TestGroupsByTheProtocolPage(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strangeTrails, strangePosts)
	s := newStranger(t, bed.URL(), bed.Code("worker"), 1)
	group := func(changes ...wholeChange) []wholeChange {
		id := uuid7()
		for n := range changes {
			changes[n].Group = map[string]any{"id": id, "of": len(changes)}
		}
		return changes
	}
	trail, post := uuid7(), uuid7()
	child := s.of("posts", post, "add", 0, map[string]string{"name": `"one"`, "trail": strconv.Quote(trail)})
	s.expect("a child before its parent", s.push(child), "[waiting hangs-on-parent]")
	bad := group(
		s.of("trails", trail, "add", 0, map[string]string{"name": `"Ridge"`}),
		s.of("posts", uuid7(), "add", 0, map[string]string{"name": "5"}),
	)
	s.expect("a group with a bad member", s.push(bad...), "[refused hangs-on-group refused invalid-value]")
	good := group(s.of("posts", uuid7(), "add", 0, map[string]string{"name": `"two"`, "trail": strconv.Quote(trail)}),
		s.of("trails", trail, "add", 0, map[string]string{"name": `"Ridge"`}))
	s.expect("half a group", s.push(good[0]), "[waiting group-incomplete]")
	s.expect(
		"the group, the child first, and the one that waited",
		s.push(append(good, child)...),
		"[applied applied applied]",
	)
	s.expect("a removal of a parent", s.push(s.of("trails", trail, "remove", 1, nil)), "[refused has-children]")
}

// What the page says of removals that meet edits, of adds of what is there, and of settling.
func TestMeetingsByTheProtocolPage(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strings.Replace(strangeTrails, "sync:", "sync:\n  removal: edit-stays", 1))
	s, other := newStranger(t, bed.URL(), bed.Code("worker"), 1), newStranger(t, bed.URL(), bed.Code("worker"), 2)
	id := uuid7()
	s.expect(
		"an add",
		s.push(
			s.of(
				"trails",
				id,
				"add",
				0,
				map[string]string{"name": `"Ridge"`, "state": `"open"`, "keeper": `{"name":"mira"}`},
			),
		),
		"[applied]",
	)
	s.expect(
		"an add of what is there",
		other.push(other.of("trails", id, "add", 0, map[string]string{"name": `"Gorge"`, "worst": "3"})),
		"[merged]",
	)
	other.exchange("trails")
	s.exchange("trails")
	a, b := s.of(
		"trails",
		id,
		"edit",
		2,
		map[string]string{"state": `"closed"`},
	), other.of(
		"trails",
		id,
		"edit",
		2,
		map[string]string{"state": `"unknown"`},
	)
	s.expect("the first of two", s.push(a), "[applied]")
	answers := other.push(b)
	s.expect("the second, where a person is to decide", answers, "[held]")
	if answers[0].Record == nil || answers[0].Record.Marks.Disputes["state"] == nil {
		t.Errorf("what is held comes without the dispute: %+v", answers[0].Record)
	}
	other.exchange("trails")
	settle := other.of("trails", id, "edit", 4, nil)
	settle.Fields["state"] = theirDelta{From: []byte(`"closed"`), To: []byte(`"closed"`)}
	s.expect("settling with the value that stands", other.push(settle), "[applied]")
	s.exchange("trails")
	if r := s.records["trails"][id]; len(r.Marks.Disputes) != 0 || string(r.Fields["state"]) != `"closed"` {
		t.Errorf("after it was settled: %+v", r)
	}
	base := s.records["trails"][id].Revision
	s.expect("a removal", s.push(s.of("trails", id, "remove", base, nil)), "[applied]")
	other.exchange("trails")
	answers = other.push(
		other.of("trails", id, "edit", base, map[string]string{"keeper": `{"name":"mira","phone":"5"}`}),
	)
	s.expect("an edit that outlives a removal", answers, "[merged]")
	if answers[0].Record == nil || string(answers[0].Record.Fields["keeper"]) != `{"name":"mira","phone":"5"}` {
		t.Errorf("what is back is %+v", answers[0].Record)
	}
	empties := other.of("trails", id, "edit", base+2, nil)
	empties.Fields["keeper"] = theirDelta{From: []byte(`{"name":"mira","phone":"5"}`), To: []byte(`{}`)}
	s.expect("emptying an object", other.push(empties), "[applied]")
	s.exchange("trails")
	s.expect("which is", string(s.records["trails"][id].Fields["keeper"]), "{}")
}

// What the page says of territories: what is gained is loaded by itself, without what is removed; what has left comes
// as a withdrawal; and a store's own changes come again where it did not cover them.
func TestTerritoriesByTheProtocolPage(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strangeZones)
	office := bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, office)
	in := func(zone string) string {
		return add(t, office, "zones", device.Fields{"name": zone, "zone": zone}).String()
	}
	north, south, gone := in("north"), in("south"), in("south")
	testbed.Must(t, office.Remove(ctx, "zones", uuid.MustParse(gone)))
	testbed.Exchange(t, office)
	hold(t, bed, "worker", "north")
	s := newStranger(t, bed.URL(), bed.Code("worker"), 1)
	records, cursor := s.pull("zones", 0, 0, true, "north")
	s.expect("a first load", ids(records), fmt.Sprint([]string{north}))
	if status, text := s.call("GET", "/v1/changes/zones?cursor=0&covers=south", nil, nil); status != http.StatusConflict ||
		!strings.Contains(string(text), "coverage-changed") {
		t.Errorf("a territory that is not held: %d %s", status, text)
	}
	mine := uuid7()
	answers := s.push(s.of("zones", mine, "add", 0, map[string]string{"name": `"mine"`, "zone": `"south"`}))
	if len(answers) != 1 || answers[0].Record == nil || !answers[0].Record.Withdrawn {
		t.Errorf("an add beyond what one covers: %+v", answers)
	}
	hold(t, bed, "worker", "north", "south")
	records, _ = s.pull("zones", 0, 0, true, "south")
	want := []string{south, mine}
	slices.Sort(want)
	s.expect("what is gained, one's own with it", ids(records), fmt.Sprint(want))
	_, cursor = s.pull("zones", cursor, 1, false, "north", "south")
	_, err := office.Edit(ctx, "zones", uuid.MustParse(north), device.Fields{"zone": "south"})
	testbed.Must(t, err)
	testbed.Exchange(t, office)
	hold(t, bed, "worker", "north")
	records, _ = s.pull("zones", cursor, 1, false, "north")
	s.expect("what has left", ids(records), fmt.Sprint([]string{north + " withdrawn"}))
}
