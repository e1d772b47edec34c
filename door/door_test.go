package door_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/device"
	"homing/door"
	"homing/internal/testbed"
	"homing/web"
)

func TestMain(m *testing.M) { testbed.Main(m) }

const token = "a-token-for-tests-only"

const trails = `
collection: trails
label: "{name}"
fields:
  name: {type: string, maxLength: 20}
  state: {enum: [open, closed]}
  walked: {type: integer, minimum: 0}
`

const huts = `
collection: huts
label: "{name}"
fields:
  name: {type: string}
  trail: {reference: trails}
parent: {collection: trails, field: trail, removal: remove}
`

// signal is the way of a device to central, which can be gone.
type signal struct{ gone atomic.Bool }

func (s *signal) RoundTrip(r *http.Request) (*http.Response, error) {
	if s.gone.Load() {
		return nil, errors.New("no signal")
	}
	return http.DefaultTransport.RoundTrip(r)
}

// opened is the door of a device that has loaded what central has.
func opened(t *testing.T, bed *testbed.Bed, origins ...string) (url string, store *device.Store, way *signal) {
	t.Helper()
	way = &signal{}
	store = bed.Device("worker", "tablet", device.Options{Transport: way})
	testbed.Exchange(t, store)
	d := door.New(store, door.Options{Token: token, Origins: origins, Log: bed.QuietLog()})
	ctx, stop := context.WithCancel(t.Context())
	go d.Watch(ctx)
	server := httptest.NewServer(d)
	t.Cleanup(func() { stop(); d.StopListeners(); server.Close() })
	return server.URL, store, way
}

// client is made of a description: it calls operations by their names.
type client struct {
	t     *testing.T
	url   string
	token string
	paths map[string]struct{ method, path string }
}

func generate(t *testing.T, description []byte, url, token string) *client {
	t.Helper()
	var read struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	testbed.Must(t, json.Unmarshal(description, &read))
	c := &client{t, url, token, map[string]struct{ method, path string }{}}
	for path, methods := range read.Paths {
		for method, op := range methods {
			c.paths[op.OperationID] = struct{ method, path string }{strings.ToUpper(method), path}
		}
	}
	return c
}

// call calls an operation. Of given, what the path names goes there, query parameters have a ? before their name, headers a
// colon, and the rest is the body.
func (c *client) call(id string, given map[string]any) (int, map[string]any) {
	c.t.Helper()
	op, known := c.paths[id]
	if !known {
		c.t.Fatalf("there is no operation %s", id)
	}
	path, body, query, headers := op.path, map[string]any{}, []string{}, map[string]string{}
	for name, value := range given {
		switch {
		case strings.Contains(path, "{"+name+"}"):
			path = strings.ReplaceAll(path, "{"+name+"}", fmt.Sprint(value))
		case name[0] == '?':
			query = append(query, name[1:]+"="+fmt.Sprint(value))
		case name[0] == ':':
			headers[name[1:]] = fmt.Sprint(value)
		default:
			body[name] = value
		}
	}
	if len(query) > 0 {
		path += "?" + strings.Join(query, "&")
	}
	var text []byte
	if op.method != http.MethodGet && op.method != http.MethodDelete {
		text, _ = json.Marshal(body) // of maps and texts
	}
	status, out := ask(c.t, op.method, c.url+path, c.token, text, headers)
	var read map[string]any
	if json.Unmarshal(out, &read) != nil {
		var list []any
		testbed.Must(c.t, json.Unmarshal(out, &list))
		read = map[string]any{"list": list}
	}
	return status, read
}

func ask(t *testing.T, method, url, token string, body []byte, headers map[string]string) (int, []byte) {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), method, url, bytes.NewReader(body))
	testbed.Must(t, err)
	if token != "" {
		request.Header.Set("Authorization", "Bearer "+token)
	}
	if len(body) > 0 {
		request.Header.Set("Content-Type", "application/json")
	}
	for name, value := range headers {
		request.Header.Set(name, value)
		if name == "Host" {
			request.Host = value
		}
	}
	response, err := http.DefaultClient.Do(request)
	testbed.Must(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	testbed.Must(t, err)
	return response.StatusCode, text
}

// P9: an app that was made for central's records API works against the door unchanged.
func TestOneClientForCentralAndTheDoor(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(trails, huts)
	url, _, way := opened(t, bed)
	way.gone.Store(true) // the door needs no signal
	central, err := web.Description("")
	testbed.Must(t, err)
	local, err := door.Description("")
	testbed.Must(t, err)
	for name, c := range map[string]*client{"central": generate(t, central, bed.URL(), bed.SignIn("lead")), "the door": generate(t, local, url, token)} {
		t.Run(name, func(t *testing.T) {
			c.t = t
			is := func(what string, got, want any) {
				t.Helper()
				if fmt.Sprint(got) != fmt.Sprint(want) {
					t.Errorf("%s is %v, and should be %v", what, got, want)
				}
			}
			status, all := c.call("collections", nil)
			is("collections", status, 200)
			is("number of collections", len(all["list"].([]any)), 3) // that of the test's central among them
			id, key := uuid.Must(uuid.NewV7()).String(), uuid.NewString()
			add := map[string]any{"collection": "trails", "id": id, "fields": map[string]any{"name": "Ridge", "state": "open", "walked": 3}, ":Idempotency-Key": key}
			for range 2 { // the answer to the first may have been lost
				status, got := c.call("add-record", add)
				is("add", status, 201)
				is("answer", got["answer"], "applied")
				is("name", got["record"].(map[string]any)["fields"].(map[string]any)["name"], "Ridge")
			}
			other := map[string]any{"collection": "trails", "id": id, "fields": map[string]any{"name": "Another"}, ":Idempotency-Key": uuid.NewString()}
			status, _ = c.call("add-record", other)
			is("another record under the id", status, 409)
			status, got := c.call("show-record", map[string]any{"collection": "trails", "id": id})
			is("show", status, 200)
			base := got["revision"]
			status, got = c.call("edit-record", map[string]any{"collection": "trails", "id": id, "base": max(base.(float64), 1), "fields": map[string]any{"state": "closed", "walked": nil}})
			if base.(float64) == 0 { // central has given no revision yet, so there is none to name
				status, got = c.call("edit-record", map[string]any{"collection": "trails", "id": id, "base": 0, "fields": map[string]any{"state": "closed", "walked": nil}})
			}
			is("edit", status, 200)
			is("state", got["record"].(map[string]any)["fields"].(map[string]any)["state"], "closed")
			if _, has := got["record"].(map[string]any)["fields"].(map[string]any)["walked"]; has {
				t.Error("null does not clear a field")
			}
			c.call("add-record", map[string]any{"collection": "trails", "fields": map[string]any{"name": "Gale", "walked": 9}})
			status, got = c.call("list-records", map[string]any{"collection": "trails", "?sort": "-name", "?limit": 1})
			is("list", status, 200)
			is("total", got["total"], 2)
			is("first", got["records"].([]any)[0].(map[string]any)["fields"].(map[string]any)["name"], "Ridge")
			_, got = c.call("list-records", map[string]any{"collection": "trails", "?where": "walked>5", "?search": "gale"})
			is("found", got["total"], 1)
			_, hut := c.call("add-record", map[string]any{"collection": "huts", "fields": map[string]any{"name": "Larch", "trail": id}})
			if hut["answer"] != "applied" {
				t.Errorf("a child: %v", hut)
			}
			for what, one := range map[string]struct {
				id     string
				given  map[string]any
				status int
			}{
				"no collection":        {"list-records", map[string]any{"collection": "bogs"}, 404},
				"no record":            {"show-record", map[string]any{"collection": "trails", "id": uuid.NewString()}, 404},
				"an id that is none":   {"show-record", map[string]any{"collection": "trails", "id": "ridge"}, 422},
				"does not fit":         {"add-record", map[string]any{"collection": "trails", "fields": map[string]any{"walked": "many"}}, 422},
				"no such field":        {"edit-record", map[string]any{"collection": "trails", "id": id, "fields": map[string]any{"height": 5}}, 422},
				"a limit beyond":       {"list-records", map[string]any{"collection": "trails", "?limit": 5000}, 422},
				"a condition of none":  {"list-records", map[string]any{"collection": "trails", "?where": "height=5"}, 422},
				"children would go":    {"remove-record", map[string]any{"collection": "trails", "id": id}, 409},
				"no dispute to settle": {"settle", map[string]any{"collection": "trails", "record": id, "field": "name", "base": 1, "value": "x"}, 409},
			} {
				status, got := c.call(one.id, one.given)
				is(what, status, one.status)
				if !strings.HasPrefix(fmt.Sprint(got["type"]), "urn:homing:problem:") || got["detail"] == "" {
					t.Errorf("%s: %v", what, got)
				}
			}
			status, _ = c.call("remove-record", map[string]any{"collection": "trails", "id": id, "?with_children": true})
			is("remove", status, 200)
			_, got = c.call("list-records", map[string]any{"collection": "huts"})
			is("huts that are left", got["total"], 0)
			status, _ = c.call("history", map[string]any{"collection": "trails", "id": uuid.NewString()})
			is("history of nothing", status, 404)
		})
	}
}

// What is saved at the door waits in the outbox, is reviewed, goes with an exchange, and the events tell of all of it.
func TestWithoutSignalAndBack(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(trails, huts)
	url, store, way := opened(t, bed)
	local, err := door.Description("")
	testbed.Must(t, err)
	c := generate(t, local, url, token)
	events := hear(t, url)
	way.gone.Store(true)
	id := uuid.Must(uuid.NewV7()).String()
	status, made := c.call("save-group", map[string]any{"changes": []any{
		map[string]any{"kind": "add", "collection": "trails", "id": id, "fields": map[string]any{"name": "Ridge", "walked": 1}},
		map[string]any{"kind": "add", "collection": "huts", "fields": map[string]any{"name": "Larch", "trail": id}}}})
	if status != 201 || len(made["list"].([]any)) != 2 {
		t.Fatalf("a group: %d %v", status, made)
	}
	until(t, events, `"id":"`+id+`"`)
	if status, _ := c.call("save-group", map[string]any{"changes": []any{
		map[string]any{"kind": "edit", "collection": "trails", "id": id, "fields": map[string]any{"walked": 2}},
		map[string]any{"kind": "add", "collection": "trails", "fields": map[string]any{"walked": -2}}}}); status != 422 {
		t.Errorf("half a group: %d", status)
	}
	if _, r := c.call("show-record", map[string]any{"collection": "trails", "id": id}); r["pending"] != 1.0 || r["fields"].(map[string]any)["walked"] != 1.0 {
		t.Errorf("the record: %v", r)
	}
	if _, below := c.call("list-children", map[string]any{"collection": "trails", "id": id, "child": "huts"}); below["total"] != 1.0 {
		t.Errorf("children: %v", below)
	}
	if status, got := c.call("exchange", nil); status != 503 || !strings.Contains(fmt.Sprint(got["detail"]), "reached") {
		t.Errorf("an exchange without signal: %d %v", status, got)
	}
	if _, queue := c.call("review", nil); len(queue["list"].([]any)) != 2 {
		t.Errorf("the outbox: %v", queue)
	}
	way.gone.Store(false)
	if status, sum := c.call("exchange", nil); status != 200 || sum["applied"] != 2.0 {
		t.Fatalf("back in signal: %d %v", status, sum)
	}
	until(t, events, "event: progress")
	bed.Same(store)
	if _, past := c.call("history", map[string]any{"collection": "trails", "id": id}); len(past["list"].([]any)) != 1 {
		t.Errorf("history: %v", past)
	}
	if _, state := c.call("status", nil); state["unsent"] != 0.0 || state["worker"] != "worker" {
		t.Errorf("status: %v", state)
	}

	// A form that was open while somebody else's edit came does not set it back.
	_, form := c.call("show-record", map[string]any{"collection": "trails", "id": id})
	if status, text := bed.Call("PATCH", "/v1/records/trails/"+id, bed.SignIn("lead"), map[string]any{"fields": map[string]any{"name": "Ridge Path"}}); status != 200 {
		t.Fatalf("%d %s", status, text)
	}
	c.call("exchange", nil)
	_, got := c.call("edit-record", map[string]any{"collection": "trails", "id": id, "base": form["revision"], "fields": map[string]any{"name": "Ridge", "state": "closed"}})
	if fields := got["record"].(map[string]any)["fields"].(map[string]any); fields["name"] != "Ridge Path" || fields["state"] != "closed" {
		t.Errorf("it becomes %v", fields)
	}
	if status, _ := c.call("edit-record", map[string]any{"collection": "trails", "id": id, "base": 77, "fields": map[string]any{"name": "x"}}); status != 409 {
		t.Errorf("a revision that nobody has seen: %d", status)
	}
}

// hear gives the lines of the events.
func hear(t *testing.T, url string) <-chan string {
	t.Helper()
	request, err := http.NewRequestWithContext(t.Context(), "GET", url+"/v1/events", nil)
	testbed.Must(t, err)
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(request)
	testbed.Must(t, err)
	lines := make(chan string, 1000)
	go func() {
		defer response.Body.Close()
		for scanner := bufio.NewScanner(response.Body); scanner.Scan(); {
			lines <- scanner.Text()
		}
	}()
	return lines
}

func until(t *testing.T, lines <-chan string, text string) {
	t.Helper()
	for limit := time.After(10 * time.Second); ; {
		select {
		case line := <-lines:
			if strings.Contains(line, text) {
				return
			}
		case <-limit:
			t.Fatalf("%q did not come", text)
		}
	}
}

// P11: nobody comes in without the token, under another name, or from a page that is not let in.
func TestTheDoorIsGuarded(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(trails, huts)
	const page = "http://localhost:5173"
	url, _, _ := opened(t, bed, page)
	description, err := door.Description("")
	testbed.Must(t, err)
	c := generate(t, description, url, token)
	var ids []string
	for id := range c.paths {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	if len(ids) < 18 {
		t.Fatalf("operations: %v", ids)
	}
	for _, id := range append(ids, "description") {
		op := c.paths[id]
		if id == "description" {
			op.method, op.path = "GET", "/v1/openapi.json"
		}
		at := url + strings.NewReplacer("{collection}", "trails", "{id}", uuid.NewString(), "{child}", "huts", "{number}", "1").Replace(op.path)
		for what, one := range map[string]struct {
			token   string
			headers map[string]string
			status  int
		}{
			"no token":     {"", nil, 401},
			"a wrong one":  {"a-token-for-tests-onlz", nil, 401},
			"another name": {token, map[string]string{"Host": "homing.invalid"}, 403},
			"another page": {token, map[string]string{"Origin": "http://pages.invalid"}, 403},
			"its sandbox":  {token, map[string]string{"Origin": "null"}, 403},
		} {
			if status, text := ask(t, op.method, at, one.token, []byte(`{}`), one.headers); status != one.status || bytes.Contains(text, []byte("fields")) {
				t.Errorf("%s with %s: %d %s", id, what, status, text)
			}
		}
		if id == "events" || id == "exchange" {
			continue
		}
		for _, body := range []string{``, `{`, `[]`, `null`, `{"fields":5}`, `{"fields":{"name":{"a":[1e400]}}}`, `{"changes":[{"kind":"edit","collection":"trails"}]}`,
			`{"changes":[{"kind":"add","collection":"trails","fields":{"name":"\ud800"}}]}`} {
			if status, text := ask(t, op.method, at, token, []byte(body), nil); status >= 500 {
				t.Errorf("%s with %s: %d %s", id, body, status, text)
			}
		}
	}
	request, err := http.NewRequest(http.MethodOptions, url+"/v1/records/trails", nil)
	testbed.Must(t, err)
	request.Header.Set("Origin", page)
	request.Header.Set("Access-Control-Request-Method", "POST")
	response, err := http.DefaultClient.Do(request)
	testbed.Must(t, err)
	if response.StatusCode != 204 || response.Header.Get("Access-Control-Allow-Origin") != page ||
		!strings.Contains(response.Header.Get("Access-Control-Allow-Headers"), "Authorization") || response.Header.Get("Access-Control-Allow-Credentials") != "" {
		t.Errorf("a page that is let in asks first: %s %v", response.Status, response.Header)
	}
	if status, _ := ask(t, "GET", url+"/v1/collections", token, nil, map[string]string{"Origin": page}); status != 200 {
		t.Errorf("a page that is let in: %d", status)
	}
}
