package web_test

import (
	"context"
	"io"
	"net/http"
	"strings"
	"testing"
	"testing/fstest"

	"homing/internal/testbed"
	"homing/service"
)

// The field app is handed out packed, under a policy that lets its store run and nothing else, and links of enrolment lead
// to it.
func TestTheFieldAppIsServed(t *testing.T) {
	files := fstest.MapFS{"index.html": {Data: []byte("<title>field</title>")}, "manifest.webmanifest": {Data: []byte("{}")},
		"assets/store.wasm": {Data: []byte("plain")}, "assets/store.wasm.br": {Data: []byte("packed")}}
	bed := testbed.Start(t, func(o *service.Options) {
		o.Field, o.Console = files, fstest.MapFS{"index.html": {Data: []byte("<title>console</title>")}}
	})
	get := func(path, accept string) (*http.Response, string) {
		t.Helper()
		ask, err := http.NewRequestWithContext(context.Background(), http.MethodGet, bed.URL()+path, nil)
		testbed.Must(t, err)
		ask.Header.Set("Accept-Encoding", accept)
		answer, err := http.DefaultTransport.RoundTrip(ask)
		testbed.Must(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		testbed.Must(t, err)
		return answer, string(text)
	}
	for _, path := range []string{"/field", "/enrol"} {
		if answer, _ := get(path, ""); answer.StatusCode != http.StatusFound || answer.Header.Get("Location") != "field/" {
			t.Errorf("%s: %s to %q; a link that a proxy may put a path before is relative", path, answer.Status, answer.Header.Get("Location"))
		}
	}
	answer, text := get("/field/", "")
	if policy := answer.Header.Get("Content-Security-Policy"); text != "<title>field</title>" || !strings.Contains(policy, "script-src 'self' 'wasm-unsafe-eval'") ||
		strings.Contains(policy, " 'unsafe-eval'") {
		t.Errorf("%s with %s", text, policy)
	}
	if answer.Header.Get("Cache-Control") != "no-cache" {
		t.Error("the page is kept without being asked for again: an update would not come")
	}
	for accept, want := range map[string]string{"gzip, deflate, br, zstd": "packed", "br;q=1.0": "packed", "br;q=0": "plain", "": "plain"} {
		answer, text := get("/field/assets/store.wasm", accept)
		if text != want || answer.Header.Get("Content-Type") != "application/wasm" || !strings.Contains(answer.Header.Get("Vary"), "Accept-Encoding") ||
			(answer.Header.Get("Content-Encoding") == "br") != (want == "packed") || !strings.Contains(answer.Header.Get("Cache-Control"), "immutable") {
			t.Errorf("with %q: %q, %v", accept, text, answer.Header)
		}
	}
	if answer, _ := get("/field/manifest.webmanifest", ""); answer.Header.Get("Content-Type") != "application/manifest+json" {
		t.Errorf("the manifest is %s", answer.Header.Get("Content-Type"))
	}
	for path, says := range map[string]string{"/field/assets/gone.js": "the field app has no file", "/field/../field/x": "the field app has no file",
		"/field/index.html/": ""} {
		answer, text := get(path, "")
		if says != "" && (answer.StatusCode != http.StatusNotFound || !strings.Contains(text, says)) {
			t.Errorf("%s: %s %s", path, answer.Status, text)
		}
	}
	if _, text := get("/records", ""); text != "<title>console</title>" {
		t.Errorf("the console is gone: %s", text)
	}
	if answer, _ := get("/records", ""); strings.Contains(answer.Header.Get("Content-Security-Policy"), "wasm") {
		t.Error("the console may run WebAssembly, which it has no use for")
	}

	without := testbed.Start(t)
	ask, err := http.Get(without.URL() + "/field/")
	testbed.Must(t, err)
	defer ask.Body.Close()
	text2, err := io.ReadAll(ask.Body)
	testbed.Must(t, err)
	if ask.StatusCode != http.StatusNotFound || !strings.Contains(string(text2), "without the field app") {
		t.Errorf("without: %s %s", ask.Status, text2)
	}
}

// What wants attention is said to people who look, and in no page of a device, which works it out for its own day.
func TestAttentionIsSaidToPeople(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define("collection: repairs\nfields:\n  what: {type: string}\n  due: {type: string, format: date}\n" +
		"attention:\n  - {when: record.due < today, say: overdue, grade: urgent}\n  - {when: record.due >= today, say: to come, grade: note}\n")
	lead := bed.SignIn("lead")
	for _, row := range []string{`{"what":"old","due":"2020-01-01"}`, `{"what":"new","due":"2999-01-01"}`, `{"what":"none"}`} {
		if status, text := bed.Call(http.MethodPost, "/v1/records/repairs", lead, `{"fields":`+row+`}`); status >= 300 {
			t.Fatalf("%d %s", status, text)
		}
	}
	_, text := bed.Call(http.MethodGet, "/v1/records/repairs?sort=what", lead, nil)
	for _, want := range []string{`"attention":{"say":"overdue","grade":"urgent"}`, `"attention":{"say":"to come","grade":"note"}`} {
		if strings.Count(string(text), want) != 1 {
			t.Errorf("%s is not said once: %s", want, text)
		}
	}
	if strings.Count(string(text), `"attention"`) != 2 {
		t.Errorf("said of a record that wants none: %s", text)
	}
	token, _ := enrol(t, bed)
	if status, text := bed.Call(http.MethodGet, "/v1/changes/repairs", token, nil); status != http.StatusOK || strings.Contains(string(text), `"say"`) {
		t.Errorf("a device is told: %d %s", status, text)
	}
}
