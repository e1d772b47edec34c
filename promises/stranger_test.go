package promises_test

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	mathrand "math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"homing/device"
	"homing/internal/testbed"
)

// stranger is a client that somebody else has written, from the protocol page alone: it uses nothing of this
// repository. It keeps all in memory, folds nothing, and lays an applied change over what it had.
type stranger struct {
	t           *testing.T
	central     string
	token       string
	incarnation string
	generation  string
	random      *mathrand.Rand
	loses       bool // whether answers get lost now and then

	number   int
	millis   int64
	counter  int
	records  map[string]map[string]theirs // by collection and id: what central said last
	cursors  map[string]int
	seals    map[string]string
	outbox   []theirChange
	settled  map[int]bool // numbers that have a stored answer
	answers  map[string]int
	mistakes []string
}

type theirs struct {
	ID        string                     `json:"id"`
	Revision  int                        `json:"revision"`
	Removed   bool                       `json:"removed"`
	Withdrawn bool                       `json:"withdrawn"`
	Fields    map[string]json.RawMessage `json:"fields"`
	Marks     struct {
		Disputes map[string]json.RawMessage `json:"disputes"`
	} `json:"marks"`
}

type theirDelta struct {
	From json.RawMessage `json:"from,omitempty"`
	To   json.RawMessage `json:"to,omitempty"`
}

type theirChange struct {
	Number     int                   `json:"number"`
	Collection string                `json:"collection"`
	Record     string                `json:"record"`
	Kind       string                `json:"kind"`
	Base       int                   `json:"base"`
	Fields     map[string]theirDelta `json:"fields,omitempty"`
	Stamp      string                `json:"stamp"`
	EditedAt   time.Time             `json:"edited_at"`
}

// uuid7 is a UUID of version 7 (RFC 9562).
func uuid7() string {
	var b [16]byte
	rand.Read(b[:])
	ms := time.Now().UnixMilli()
	for n := range 6 {
		b[n] = byte(ms >> (40 - 8*n))
	}
	b[6], b[8] = b[6]&0x0f|0x70, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

func newStranger(t *testing.T, central, code string, seed uint64) *stranger {
	s := &stranger{t: t, central: central, incarnation: uuid7(), random: mathrand.New(mathrand.NewPCG(seed, 7)),
		records: map[string]map[string]theirs{}, cursors: map[string]int{}, seals: map[string]string{},
		settled: map[int]bool{}, answers: map[string]int{}}
	var enrolled struct{ Token, Generation string }
	s.must("POST", "/v1/enrolments", map[string]any{"code": code, "device": "stranger " + strconv.FormatUint(seed, 10),
		"incarnation": s.incarnation, "agent": "stranger/1"}, &enrolled)
	s.token, s.generation = enrolled.Token, enrolled.Generation
	return s
}

// call asks central. An answer that is lost is told as status 0.
func (s *stranger) call(method, path string, body, into any, headers ...string) (status int, text []byte) {
	s.t.Helper()
	sent, err := json.Marshal(body)
	if err != nil {
		s.t.Fatal(err)
	}
	if body == nil {
		sent = nil
	}
	request, err := http.NewRequest(method, s.central+path, bytes.NewReader(sent))
	if err != nil {
		s.t.Fatal(err)
	}
	request.Header.Set("Homing-Protocol", "1")
	request.Header.Set("Content-Type", "application/json")
	if s.token != "" {
		request.Header.Set("Authorization", "Bearer "+s.token)
	}
	for n := 0; n < len(headers); n += 2 {
		request.Header.Set(headers[n], headers[n+1])
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		s.t.Fatal(err)
	}
	defer response.Body.Close()
	text, err = io.ReadAll(response.Body)
	if err != nil {
		s.t.Fatal(err)
	}
	if s.loses && s.random.IntN(4) == 0 {
		return 0, nil
	}
	if into != nil && response.StatusCode == http.StatusOK {
		if err := json.Unmarshal(text, into); err != nil {
			s.t.Fatalf("%s %s: %v\n%s", method, path, err, text)
		}
	}
	return response.StatusCode, text
}

func (s *stranger) must(method, path string, body, into any) {
	s.t.Helper()
	if status, text := s.call(method, path, body, into); status != http.StatusOK {
		s.t.Fatalf("%s %s: %d %s", method, path, status, text)
	}
}

// stamp is later than the last one.
func (s *stranger) stamp() string {
	if now := time.Now().UnixMilli(); now > s.millis {
		s.millis, s.counter = now, 0
	} else {
		s.counter++
	}
	return fmt.Sprintf("%012x-%04x", s.millis, s.counter)
}

// view is a record with its unsent changes on top.
func (s *stranger) view(collection, id string) (fields map[string]json.RawMessage, there bool) {
	r, there := s.records[collection][id]
	fields, there = maps.Clone(r.Fields), there && !r.Removed
	if fields == nil {
		fields = map[string]json.RawMessage{}
	}
	for _, c := range s.outbox {
		if c.Collection == collection && c.Record == id {
			there = c.Kind != "remove"
			lay(fields, c)
		}
	}
	return fields, there
}

func lay(fields map[string]json.RawMessage, c theirChange) {
	for name, d := range c.Fields {
		if fields[name] = d.To; d.To == nil {
			delete(fields, name)
		}
	}
}

func (s *stranger) save(collection, id, kind string, values map[string]string) {
	before, _ := s.view(collection, id)
	fields := map[string]theirDelta{}
	for name, value := range values {
		d := theirDelta{From: before[name], To: json.RawMessage(value)}
		if value == "" {
			d.To = nil
		}
		if string(d.From) != string(d.To) {
			fields[name] = d
		}
	}
	if kind == "edit" && len(fields) == 0 {
		return
	}
	s.number++
	s.outbox = append(s.outbox, theirChange{s.number, collection, id, kind, s.records[collection][id].Revision, fields,
		s.stamp(), time.Now().UTC()})
}

// answered is a number up to which all changes have an answer that is stored.
func (s *stranger) answered() int {
	n := 0
	for s.settled[n+1] {
		n++
	}
	return n
}

// exchange pushes and pulls once. It ends early where an answer is lost.
func (s *stranger) exchange(collections ...string) {
	s.t.Helper()
	var hello struct{ Generation string }
	if status, _ := s.call("GET", "/v1/hello", nil, &hello); status == 0 {
		return
	}
	if hello.Generation != s.generation {
		s.t.Fatalf("another generation: %s", hello.Generation)
	}
	var defined struct {
		Rules map[string]map[string]string `json:"rules"`
	}
	seals := strings.Join(slices.Sorted(maps.Values(s.seals)), ",")
	if status, text := s.call("GET", "/v1/definitions", nil, &defined, "Homing-Seals", seals); status == 0 {
		return
	} else if status != http.StatusOK {
		s.t.Fatalf("definitions: %d %s", status, text)
	}
	exchange := uuid7()
	for len(s.outbox) > 0 {
		// A batch that was not answered may be there: it goes again in smaller ones, each change under its number.
		some := s.outbox[:1+s.random.IntN(len(s.outbox))]
		var got struct {
			Answers []struct {
				Number, Revision int
				Answer           string
				Record           *theirs
				Reasons          json.RawMessage
			}
			Seals []string
		}
		status, text := s.call("POST", "/v1/batches", map[string]any{"batch": uuid7(), "exchange": exchange,
			"incarnation": s.incarnation, "generation": s.generation, "changes": some,
			"clock": map[string]any{"sent_at": time.Now().UTC(), "offset_ms": 0, "error_ms": 20}}, &got,
			"Homing-Exchange", exchange)
		if status == 0 {
			return
		}
		if status != http.StatusOK {
			s.t.Fatalf("push: %d %s", status, text)
		}
		order := make([]int, len(got.Answers))
		for n := range order {
			order[n] = n
		}
		slices.SortStableFunc(order, func(a, b int) int { return got.Answers[a].Revision - got.Answers[b].Revision })
		for _, n := range order {
			a, c := got.Answers[n], some[n]
			s.answers[a.Answer]++
			if a.Number != c.Number || a.Answer == "waiting" || a.Answer == "refused" && c.Kind != "remove" &&
				!strings.Contains(string(a.Reasons), "record-removed") {
				s.mistakes = append(s.mistakes, fmt.Sprintf("change %+v is answered %s %s", c, a.Answer, a.Reasons))
			}
			s.settled[c.Number] = true
			if a.Answer == "refused" {
				continue
			}
			under := s.records[c.Collection][c.Record]
			switch {
			case a.Record != nil:
				s.take(c.Collection, *a.Record)
			case a.Revision > under.Revision:
				fields := maps.Clone(under.Fields)
				if fields == nil {
					fields = map[string]json.RawMessage{}
				}
				lay(fields, c)
				s.take(c.Collection, theirs{ID: c.Record, Revision: a.Revision, Removed: c.Kind == "remove", Fields: fields})
			}
		}
		s.outbox = slices.Delete(s.outbox, 0, len(some))
		for _, seal := range got.Seals {
			s.seals[seal[:strings.Index(seal, ".")]] = seal
		}
	}
	for _, collection := range collections {
		if defined.Rules[collection] == nil {
			s.t.Fatalf("no rules of %s", collection)
		}
		for more := true; more; {
			var page struct {
				Records []theirs
				Cursor  int
				More    bool
				Seal    string
			}
			path := fmt.Sprintf("/v1/changes/%s?cursor=%d&limit=%d", collection, s.cursors[collection], 1+s.random.IntN(9))
			headers := []string{"Homing-Exchange", exchange}
			if s.cursors[collection] > 0 {
				path += "&answered=" + strconv.Itoa(s.answered())
				headers = append(headers, "Homing-Incarnation", s.incarnation)
			}
			status, text := s.call("GET", path, nil, &page, headers...)
			if status == 0 {
				return
			}
			if status != http.StatusOK {
				s.t.Fatalf("pull: %d %s", status, text)
			}
			for _, r := range page.Records {
				s.take(collection, r)
			}
			if s.cursors[collection], more = page.Cursor, page.More; page.Seal != "" {
				s.seals[collection] = page.Seal
			}
		}
	}
}

// take stores what central says of a record, where that is news.
func (s *stranger) take(collection string, r theirs) {
	if s.records[collection] == nil {
		s.records[collection] = map[string]theirs{}
	}
	if r.Revision <= s.records[collection][r.ID].Revision {
		return
	}
	if r.Withdrawn {
		delete(s.records[collection], r.ID)
		return
	}
	s.records[collection][r.ID] = r
}

const strangeTrails = `collection: trails
label: "{name}"
required: [name]
fields:
  name: {type: string}
  state: {enum: [open, closed, unknown]}
  seen: {type: number}
  worst: {type: number}
  note: {type: string}
  tags: {type: array, items: {type: string}, uniqueItems: true}
  keeper: {type: object, properties: {name: {type: string}, phone: {type: string}}}
sync:
  rules: {seen: sum, state: ask, note: append, worst: max}
`

// P1, P2, P4: clients that were written from the protocol page alone work beside devices, with answers that get lost, and in the
// end all hold the same; what they counted counts once.
func TestAClientFromTheProtocolPage(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strangeTrails)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	var strangers []*stranger
	for n := range 3 {
		strangers = append(strangers, newStranger(t, bed.URL(), bed.Code("worker"), uint64(n+1)))
	}
	random := mathrand.New(mathrand.NewPCG(11, 12))
	var ids []string
	counted := map[string]int{}
	lines, written := 0, map[string][]int{}
	for range 1200 {
		s := strangers[random.IntN(len(strangers))]
		s.loses = true
		id := ""
		if len(ids) > 0 {
			id = ids[random.IntN(len(ids))]
		}
		fields, there := s.view("trails", id)
		switch roll := random.IntN(20); {
		case len(ids) < 6 || roll < 1:
			id = uuid7()
			ids = append(ids, id)
			counted[id] = 5
			s.save("trails", id, "add", map[string]string{"name": `"Ridge"`, "seen": "5", "worst": "10",
				"keeper": `{"name":"mira"}`})
		case roll < 5:
			s.exchange("trails")
		case roll < 6:
			testbed.Exchange(t, store)
			page, err := store.Find(ctx, "trails", device.Ask{})
			testbed.Must(t, err)
			if len(page.Records) > 0 {
				_, err = store.Edit(ctx, "trails", page.Records[random.IntN(len(page.Records))].ID,
					device.Fields{"worst": random.IntN(100)})
				testbed.Must(t, err)
			}
		case !there:
		case roll < 10:
			had, err := strconv.Atoi(string(fields["seen"]))
			testbed.Must(t, err)
			by := 1 + random.IntN(9)
			counted[id] += by
			s.save("trails", id, "edit", map[string]string{"seen": strconv.Itoa(had + by)})
		case roll < 13:
			var note string
			if raw := fields["note"]; raw != nil {
				testbed.Must(t, json.Unmarshal(raw, &note))
			}
			lines++
			written[id] = append(written[id], lines)
			s.save("trails", id, "edit", map[string]string{"note": strconv.Quote(fmt.Sprintf("%s%d;", note, lines))})
		case roll < 15:
			s.save("trails", id, "edit", map[string]string{"state": []string{`"open"`, `"closed"`, ""}[random.IntN(3)]})
		case roll < 17:
			s.save("trails", id, "edit", map[string]string{"worst": strconv.Itoa(random.IntN(100)),
				"tags": fmt.Sprintf(`["t%d"]`, random.IntN(5))})
		case roll < 19:
			s.save("trails", id, "edit", map[string]string{
				"keeper": fmt.Sprintf(`{"name":"mira","phone":"%d"}`, random.IntN(100))})
		default:
			s.save("trails", id, "remove", nil)
		}
	}
	for range 2 {
		for _, s := range strangers {
			s.loses = false
			s.exchange("trails")
		}
		testbed.Exchange(t, store)
	}
	for _, s := range strangers {
		for _, mistake := range s.mistakes {
			t.Error(mistake)
		}
		t.Logf("answers %v", s.answers)
	}
	lead := bed.SignIn("lead")
	var page struct {
		Records []theirs
		Total   int
	}
	status, text := bed.Call("GET", "/v1/records/trails?limit=1000", lead, nil)
	if err := json.Unmarshal(text, &page); status != 200 || err != nil || page.Total == 0 {
		t.Fatalf("%d %s", status, text)
	}
	for n, s := range strangers {
		held := 0
		for _, r := range s.records["trails"] {
			if !r.Removed {
				held++
			}
		}
		if held != page.Total {
			t.Errorf("stranger %d holds %d records of %d", n, held, page.Total)
		}
		for _, r := range page.Records {
			got, want := canonical(s.records["trails"][r.ID].Fields), canonical(r.Fields)
			if got != want || s.records["trails"][r.ID].Revision != r.Revision {
				t.Errorf("stranger %d has of %s, at %d:\n%s\nand central at %d:\n%s", n, r.ID,
					s.records["trails"][r.ID].Revision, got, r.Revision, want)
			}
		}
	}
	bed.Same(store)
	for _, r := range page.Records {
		if got := string(r.Fields["seen"]); got != strconv.Itoa(counted[r.ID]) {
			t.Errorf("%s counts %s, and %d were counted", r.ID, got, counted[r.ID])
		}
		var note string
		if raw := r.Fields["note"]; raw != nil {
			testbed.Must(t, json.Unmarshal(raw, &note))
		}
		for _, line := range written[r.ID] {
			if strings.Count(";"+note, fmt.Sprintf(";%d;", line)) != 1 {
				t.Errorf("line %d is not once in %s", line, note)
			}
		}
	}
}

func canonical(fields map[string]json.RawMessage) string {
	text, _ := json.Marshal(fields) // always marshals
	return string(text)
}
