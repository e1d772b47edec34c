package web_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/google/uuid"

	"homing/central"
	"homing/core/query"
	"homing/core/rights"
	"homing/internal/testbed"
	"homing/web"
	"homing/wire"
)

// described is the API as it describes itself, as far as requests are made from it.
type described struct {
	Paths      map[string]map[string]*describedOperation
	Components struct{ Schemas map[string]*schema }
}

type describedOperation struct {
	ID         string `json:"operationId"`
	Parameters []struct {
		Name, In string
		Required bool
		Schema   *schema
	}
	RequestBody *struct {
		Content map[string]struct{ Schema *schema }
	}

	method, path string
}

type schema struct {
	Ref                  string `json:"$ref"`
	Type                 any
	Format               string
	Enum                 []any
	Items                *schema
	Properties           map[string]*schema
	AdditionalProperties any
}

// everyOperation reads the description, by the operations' names.
func everyOperation(t testing.TB) (all map[string]*describedOperation, schemas map[string]*schema) {
	t.Helper()
	text, err := web.Description("test")
	testbed.Must(t, err)
	var api described
	testbed.Must(t, json.Unmarshal(text, &api))
	all = map[string]*describedOperation{}
	for path, methods := range api.Paths {
		for method, op := range methods {
			op.method, op.path = strings.ToUpper(method), path
			all[op.ID] = op
		}
	}
	return all, api.Components.Schemas
}

// things have fields of every kind, and posts are their children.
const (
	things = `collection: things
label: "{name}"
key: name
fields:
  name: {type: string}
  pages: {type: array, items: {type: string}}
  box: {type: object, properties: {wide: {type: number}, tall: {type: number}}}
  count: {type: number}
  whole: {type: integer}
  since: {type: string, format: date-time}
  day: {type: string, format: date}
  done: {type: boolean}
  at: {$ref: "urn:homing:point"}
  number: {type: string, series: T-1}
  double: {type: number, computed: "record.whole * 2.0"}
sync: {rules: {count: sum, pages: union, name: ask, box: newest, whole: max}, removal: ask}
`
	posts = `collection: posts
fields:
  name: {type: string}
  thing: {type: string, format: uuid, reference: things}
parent: {collection: things, field: thing, removal: restrict}
sync: {territory: record.name}
access: {read: before.name != "secret" || worker.role == "lead"}
`
)

var (
	requests    = flag.Int("requests", 6000, "how many odd requests to make of all operations")
	requestSeed = flag.Uint64("request-seed", 1, "where they start")
)

// Whatever is sent to whatever operation, by whomever: no answer says that central failed, and its log says so neither.
func TestNothingSentMakesCentralFail(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(things, posts)
	operations, schemas := everyOperation(t)
	names := slices.Sorted(maps.Keys(operations))
	var next atomic.Int64
	var statuses sync.Map
	var all sync.WaitGroup
	for worker := range runtime.NumCPU() {
		all.Go(func() {
			random := rand.New(rand.NewPCG(*requestSeed, uint64(worker)))
			o := &odd{Rand: random, bed: bed, schemas: schemas}
			for round := 0; ; round++ {
				if next.Add(1) > int64(*requests) || t.Failed() {
					return
				}
				if round%500 == 0 {
					o.meet(t, fmt.Sprintf("w%d-%d", worker, round))
				}
				op := operations[names[random.IntN(len(names))]]
				if op.ID == "events" {
					continue // it has no end
				}
				r := o.request(op)
				got := httptest.NewRecorder()
				bed.Server().ServeHTTP(got, r)
				seen, _ := statuses.LoadOrStore(got.Code, new(atomic.Int64))
				seen.(*atomic.Int64).Add(1)
				if got.Code >= 500 {
					t.Errorf("%s %s\n%s\nis answered %d %s", r.Method, r.URL, o.sent, got.Code, got.Body)
				}
			}
		})
	}
	all.Wait()
	if log := bed.Log.String(); strings.Contains(log, "level=ERROR") {
		at := strings.Index(log, "level=ERROR")
		t.Errorf("central's log tells of a fault: %s", log[at:min(len(log), at+2000)])
	}
	statuses.Range(func(code, count any) bool {
		t.Logf("%d: %d", code, count.(*atomic.Int64).Load())
		return true
	})
}

// odd makes requests, most of them nearly right.
type odd struct {
	*rand.Rand
	bed     *testbed.Bed
	schemas map[string]*schema
	tokens  []string
	ids     []string
	store   string // incarnation of the device whose token is the last
	sent    string
}

// meet makes people and a device for some requests: others may take away what they may.
func (o *odd) meet(t testing.TB, name string) {
	o.tokens, o.ids = []string{"", "ses_made-up", "dev_made-up"}, nil
	ctx := t.Context()
	for _, role := range rights.Roles {
		worker := fmt.Sprintf("%s-%s", name, role)
		testbed.Must(t, o.bed.Central.AddWorker(ctx, worker, role, testbed.Password))
		token, _, _, err := o.bed.Central.SignIn(ctx, worker, testbed.Password)
		testbed.Must(t, err)
		o.tokens = append(o.tokens, token)
	}
	code, _, err := o.bed.Central.IssueCode(ctx, central.Everything("admin"), name+"-worker", 0)
	testbed.Must(t, err)
	incarnation := uuid.Must(uuid.NewV7())
	device, err := o.bed.Central.Enrol(ctx, wire.Enrolment{Code: code, Device: name, Incarnation: incarnation}, "")
	testbed.Must(t, err)
	o.tokens, o.store = append(o.tokens, device.Token), incarnation.String()
	o.ids = append(o.ids, device.Device.String(), incarnation.String(), uuid.NewString(), uuid.Nil.String(), name+"-worker", name+"-lead")
	for _, collection := range collections {
		page, err := o.bed.Central.List(ctx, central.Everything("admin"), collection, query.Ask{Limit: 20})
		testbed.Must(t, err)
		for _, r := range page.Records {
			o.ids = append(o.ids, r.ID.String())
		}
	}
}

func (o *odd) request(op *describedOperation) *http.Request {
	path, query := op.path, url.Values{}
	headers := http.Header{}
	for _, p := range op.Parameters {
		switch text := o.text(p.Schema, p.Name); {
		case p.In == "path":
			path = strings.Replace(path, "{"+p.Name+"}", url.PathEscape(text), 1)
		case o.IntN(3) == 0 || p.Name == wire.HeaderVersion && o.IntN(50) > 0:
		case p.In == "query":
			query.Add(p.Name, text)
		case p.In == "header":
			headers.Set(p.Name, strings.Map(func(r rune) rune {
				if r < ' ' || r > '~' {
					return '?'
				}
				return r
			}, text))
		}
	}
	var body []byte
	if op.RequestBody != nil && o.IntN(20) > 0 {
		for _, content := range op.RequestBody.Content {
			body = o.marshal(o.value(content.Schema, "", 0))
		}
		if o.IntN(25) == 0 && len(body) > 0 {
			body = body[:o.IntN(len(body))]
		}
	}
	o.sent = string(body)
	if o.IntN(15) == 0 {
		var packed bytes.Buffer
		w := gzip.NewWriter(&packed)
		_, _ = w.Write(body) // into memory
		_ = w.Close()
		headers.Set("Content-Encoding", []string{"gzip", "zstd", "br"}[o.IntN(3)])
		if body = packed.Bytes(); o.IntN(2) == 0 {
			body = body[:o.IntN(len(body))]
		}
	}
	target := path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	r := httptest.NewRequest(op.method, target, bytes.NewReader(body))
	r.Header = headers
	r.RemoteAddr = fmt.Sprintf("10.%d.%d.%d:1", o.IntN(256), o.IntN(256), o.IntN(256))
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	token := o.tokens[o.IntN(len(o.tokens))]
	if o.IntN(5) > 0 { // most of the time one that may
		token = o.tokens[len(o.tokens)-2]
		if slices.ContainsFunc(forDevices, func(prefix string) bool { return strings.HasPrefix(op.path, prefix) }) {
			token = o.tokens[len(o.tokens)-1]
		}
	}
	if op.ID == "sign-out" {
		token = o.tokens[3] // the others are needed
	}
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	return r
}

func (o *odd) marshal(value any) []byte {
	text, err := json.Marshal(value)
	if err != nil {
		return []byte("{")
	}
	return text
}

// forDevices is what devices ask for.
var forDevices = []string{"/v1/batches", "/v1/changes/", "/v1/device/", "/v1/fingerprints/", "/v1/lookup/", "/v1/refresh/", "/v1/report", "/v1/trips"}

var collections = []string{"trails", "structures", "things", "posts"}

var fields = []string{"name", "state", "length_km", "note", "kind", "trail", "location", "homing_id", "pages", "box", "count", "whole", "since",
	"day", "done", "at", "number", "double", "thing", "box/wide"}

// strange are texts that have broken something somewhere.
var strange = []string{"", "0", "-1", "9223372036854775807", "9223372036854775808", "1e400", "NaN", "null", "{}", "[]", "\x00", "a\x00b",
	"\u202e", "'", `"`, `\`, "%", "_", "%00", "../..", "*", "trails", "structures", "name", "homing_id", "pages={}", "pages=[]", "name=",
	"name~", "state=open", "-name", ",,", "é", "\U0001F6D6", strings.Repeat("x", 5000), "2026-11-25T10:00:00Z", "0001-01-01T00:00:00Z",
	"99999-01-01T00:00:00Z", "add", "edit", "remove", "$1", "{{.}}", "<script>", "record-removal", "name/first"}

func (o *odd) text(s *schema, name string) string {
	switch o.IntN(16) {
	case 0:
		return strange[o.IntN(len(strange))]
	case 1, 2:
		return o.ids[o.IntN(len(o.ids))]
	}
	switch {
	case name == "collection" || name == "Collection":
		return collections[o.IntN(len(collections))]
	case name == "where":
		return fields[o.IntN(len(fields))] + []string{"=", "!=", "<", ">=", "~"}[o.IntN(5)] + o.plain()
	case name == "sort":
		return []string{"", "-"}[o.IntN(2)] + fields[o.IntN(len(fields))]
	}
	value := o.value(s, name, 0)
	if text, is := value.(string); is {
		return text
	}
	return string(o.marshal(value))
}

// value makes a value that fits a schema, or nearly.
func (o *odd) value(s *schema, name string, depth int) any {
	if s == nil || depth > 6 || o.IntN(40) == 0 {
		return o.anything(depth)
	}
	if s.Ref != "" {
		return o.value(o.schemas[s.Ref[strings.LastIndex(s.Ref, "/")+1:]], name, depth+1)
	}
	if len(s.Enum) > 0 && o.IntN(8) > 0 {
		return s.Enum[o.IntN(len(s.Enum))]
	}
	switch kind := kindOf(s); kind {
	case "object":
		object := map[string]any{}
		for property, of := range s.Properties {
			if o.IntN(6) > 0 {
				object[property] = o.value(of, property, depth+1)
			}
		}
		if len(s.Properties) == 0 {
			for _, field := range fields {
				if o.IntN(5) == 0 {
					object[field] = o.anything(depth + 1)
				}
			}
		}
		return object
	case "array":
		list := []any{}
		for range o.IntN(4) {
			list = append(list, o.value(s.Items, name, depth+1))
		}
		return list
	case "integer", "number":
		return []any{0, 1, 2, 3, 17, 500, -1, 1 << 53, int64(1)<<62 + 1, int64(1<<63 - 1), 1.5, 1e300}[o.IntN(12)]
	case "boolean":
		return o.IntN(2) == 0
	}
	switch {
	case name == "collection":
		return collections[o.IntN(len(collections))]
	case name == "incarnation" && o.IntN(4) > 0:
		return o.store
	case s.Format == "uuid" && o.IntN(8) == 0:
		return uuid.NewString()
	case s.Format == "uuid":
		return o.ids[o.IntN(len(o.ids))]
	case s.Format == "date-time":
		return []string{"2026-11-25T10:00:00Z", "1969-12-31T23:59:59Z", "9999-12-31T23:59:59.999999999+14:00", "x"}[o.IntN(4)]
	case name == "stamp":
		return []string{"0199d3a1c2b4-0003", "ffffffffffff-ffff", "000000000000-0000"}[o.IntN(3)]
	}
	return o.plain()
}

func kindOf(s *schema) string {
	switch kind := s.Type.(type) {
	case string:
		return kind
	case []any:
		for _, one := range kind {
			if text, is := one.(string); is && text != "null" {
				return text
			}
		}
	}
	return ""
}

func (o *odd) plain() string {
	if o.IntN(3) == 0 {
		return strange[o.IntN(len(strange))]
	}
	return []string{"Ridge Path", "worker", "lead", "open", "name", "closed", "5", testbed.Password}[o.IntN(8)]
}

func (o *odd) anything(depth int) any {
	switch o.IntN(9) {
	case 0:
		return nil
	case 1:
		return o.IntN(2) == 0
	case 2:
		return []any{0, -1, 1.5, 1e300, int64(1<<63 - 1)}[o.IntN(5)]
	case 3:
		if depth > 8 {
			return nil
		}
		return []any{o.anything(depth + 1), o.anything(depth + 1)}
	case 4:
		if depth > 8 {
			return nil
		}
		return map[string]any{o.plain(): o.anything(depth + 1)}
	case 5:
		return json.RawMessage(strings.Repeat("9", 1+o.IntN(400)))
	case 6:
		return map[string]any{"to": o.plain(), "from": o.anything(depth + 2)}
	}
	return o.plain()
}
