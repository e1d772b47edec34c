package web_test

import (
	"encoding/json"
	"fmt"
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
