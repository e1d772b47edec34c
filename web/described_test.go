package web_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"homing/internal/testbed"
)

// What central answers to a mistake is in the description that clients are generated from.
func TestMistakesAreDescribed(t *testing.T) {
	bed := testbed.Start(t)
	lead := bed.SignIn("lead")
	const none = "0199d3a1-c2b4-7000-8000-000000000001"
	var described struct {
		Paths map[string]map[string]struct {
			Responses map[string]any
		}
	}
	_, text := bed.Call("GET", "/v1/openapi.json", "", nil)
	testbed.Must(t, json.Unmarshal(text, &described))
	for _, test := range []struct {
		method, path, asked, token string
		body                       any
		status                     int
	}{
		{"POST", "/v1/session", "/v1/session", "", map[string]string{"worker": "lead", "password": "wrong"}, 401},
		{"POST", "/v1/enrolments", "/v1/enrolments", "",
			map[string]string{"code": "wrong", "device": "tablet", "incarnation": none}, 401},
		{"GET", "/v1/records/{collection}", "/v1/records/nothing", lead, nil, 404},
		{"GET", "/v1/records/{collection}/{id}", "/v1/records/trails/" + none, lead, nil, 404},
		{"GET", "/v1/history/{collection}/{id}", "/v1/history/trails/" + none, lead, nil, 404},
		{"GET", "/v1/fingerprint/{collection}", "/v1/fingerprint/nothing", lead, nil, 404},
		{"POST", "/v1/records/{collection}", "/v1/records/nothing", lead, map[string]any{"fields": map[string]any{}}, 404},
		{"DELETE", "/v1/records/{collection}/{id}", "/v1/records/trails/" + none, lead, nil, 404},
		{"POST", "/v1/bring-back/{collection}/{id}", "/v1/bring-back/trails/" + none, lead, map[string]int{"revision": 1},
			404},
		{"GET", "/v1/exchanges/{exchange}", "/v1/exchanges/" + none, lead, nil, 404},
		{"GET", "/v1/workers", "/v1/workers", "", nil, 401},
		{"GET", "/v1/workers", "/v1/workers", lead, nil, 403},
	} {
		if status, text := bed.Call(test.method, test.asked, test.token, test.body); status != test.status {
			t.Errorf("%s %s: %d, want %d\n%s", test.method, test.asked, status, test.status, text)
		}
		if described.Paths[test.path][strings.ToLower(test.method)].Responses[fmt.Sprint(test.status)] == nil {
			t.Errorf("%s %s does not say that it may answer %d", test.method, test.path, test.status)
		}
	}
}

// What travels beside bodies, and what lies in them unread, is described as well.
func TestHeadersAndValuesAreDescribed(t *testing.T) {
	bed := testbed.Start(t)
	type schema struct {
		Type                 any
		AdditionalProperties any `json:"additionalProperties"`
	}
	var described struct {
		Paths map[string]map[string]struct {
			Parameters []struct{ Name, In string }
			Responses  map[string]struct{ Headers map[string]any }
		}
		Components struct {
			Schemas map[string]struct{ Properties map[string]schema }
		}
	}
	_, text := bed.Call("GET", "/v1/openapi.json", "", nil)
	testbed.Must(t, json.Unmarshal(text, &described))
	pull := described.Paths["/v1/changes/{collection}"]["get"]
	for _, want := range []string{"covers in query", "Homing-Protocol in header", "Homing-Incarnation in header", "Homing-Exchange in header"} {
		if !slices.ContainsFunc(
			pull.Parameters,
			func(p struct{ Name, In string }) bool { return p.Name+" in "+p.In == want },
		) {
			t.Errorf("a pull does not say that it takes %s", want)
		}
	}
	request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, bed.URL()+"/v1/workers", nil)
	testbed.Must(t, err)
	answer, err := http.DefaultClient.Do(request)
	testbed.Must(t, err)
	answer.Body.Close()
	for _, name := range []string{"Homing-Request", "WWW-Authenticate"} {
		if answer.Header.Get(name) == "" ||
			described.Paths["/v1/workers"]["get"].Responses["401"].Headers[name] == nil {
			t.Errorf("a 401 has the header %s %q, and the description says %v", name, answer.Header.Get(name),
				described.Paths["/v1/workers"]["get"].Responses["401"].Headers[name])
		}
	}
	for _, at := range [][2]string{{"Record", "fields"}, {"Record", "marks"}, {"HistoryEntry", "fields"}, {"HistoryEntry", "sent"}} {
		if got := described.Components.Schemas[at[0]].Properties[at[1]]; got.Type != "object" ||
			got.AdditionalProperties == nil {
			t.Errorf("%s of %s are described as %v", at[1], at[0], got)
		}
	}
}
