package web_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/google/uuid"

	"homing/internal/testbed"
	"homing/wire"
)

// FuzzPush sends whatever the fuzzer makes as one change, beside a good one. There is no fault, the good change goes
// in, and each change gets its answer.
func FuzzPush(f *testing.F) {
	for _, seed := range []string{
		`{"number":1,"collection":"trails","record":"0199d3a1-c2b4-7000-8000-000000000001","kind":"add","base":0,"fields":{"name":{"to":"x"}},"stamp":"0199d3a1c2b4-0003","edited_at":"2026-11-01T10:00:00Z"}`,
		`{"number":9223372036854775807,"collection":"trails","record":"0199d3a1-c2b4-7000-8000-000000000001","kind":"edit","base":9223372036854775807,"stamp":"ffffffffffff-ffff","edited_at":"9999-12-31T23:59:59Z"}`,
		`{"number":2,"collection":"trails","record":"0199d3a1-c2b4-7000-8000-000000000001","kind":"remove","base":0,"stamp":"000000000001-0000","edited_at":"1970-01-01T00:00:00Z","author":"\ud800"}`,
		`{"number":3,"collection":"trails\u0000","record":"0199d3a1-c2b4-7000-8000-000000000001","kind":"add","base":0,"fields":{"\u0000":{"to":1}},"stamp":"000000000001-0000","edited_at":"2026-11-01T10:00:00+23:59"}`,
		`{"number":4,"collection":"structures","record":"0199d3a1-c2b4-7000-8000-000000000001","kind":"add","base":0,"fields":{"name":{"to":"é","from":{}},"kind":{"to":"bridge"},"location":{"to":{"type":"Point","coordinates":[1e300,-1e-300]}}},"stamp":"0199d3a1c2b4-0003","edited_at":"2026-11-01T10:00:00Z"}`,
		`{"number":5,"collection":"trails","record":"0199d3a1-c2b4-7000-8000-000000000001","kind":"add","base":0,"fields":{"name":{"to":"x"}},"stamp":"0199d3a1c2b4-0003","edited_at":"2026-11-01T10:00:00Z","group":{"id":"0199d3a1-c2b4-7000-8000-000000000002","of":1},"folds":[1,2],"turned_ms":-5}`,
		`{"number":6,"collection":"trails","record":"0199d3a1-c2b4-7000-8000-000000000001","kind":"add","base":0,"stamp":"0199d3a1c2b4-0003","edited_at":"2026-11-01T10:00:00Z","group":{"id":"","of":-1},"folds":[77776,6,-6],"turned_ms":9223372036854775807}`,
		`{"fields":{"name":{"to":` + strings.Repeat("[", 500) + strings.Repeat("]", 500) + `}}}`, `{}`, `null`, `[]`, `"`,
		`{"number":1e3}`, `{"number":-0}`,
	} {
		f.Add(seed)
	}
	shared := testbed.Start(f)
	f.Fuzz(func(t *testing.T, one string) {
		bed := shared.For(t)
		token, incarnation := enrol(t, bed)
		good := `{"number":77777,"collection":"trails","record":"` + uuid.NewString() +
			`","kind":"add","base":0,"fields":{"name":{"to":"good"}},"stamp":"0199d3a1c2b4-0003","edited_at":"2026-11-01T10:00:00Z"}`
		status, text := bed.Call("POST", "/v1/batches", token, batchText(incarnation, one, good))
		if !json.Valid([]byte(one)) {
			if status < 400 || status >= 500 {
				t.Fatalf("%q: %d %s", one, status, text)
			}
			return
		}
		var answers wire.Answers
		if err := json.Unmarshal(text, &answers); err != nil || status != http.StatusOK || len(answers.Answers) < 2 {
			t.Fatalf("%q: %d %s", one, status, text)
		}
		if last := answers.Answers[len(answers.Answers)-1]; !last.Answer.Accepted() && !strings.Contains(one, "77777") {
			t.Fatalf("%q harmed the good change: %+v", one, last)
		}
		if log := bed.Log.String(); strings.Contains(log, "level=ERROR") {
			t.Fatalf("%q: the program itself failed:\n%s", one, log)
		}
	})
}

// FuzzPull asks in odd ways; the answer is a page or a problem.
func FuzzPull(f *testing.F) {
	for _, seed := range []string{"cursor=0", "cursor=9223372036854775808", "cursor=-1&limit=0", "limit=5000&load=maybe",
		"covers=%00", "covers=a&covers=b", "cursor=1&cursor=2", "answered=x", "%zz", "limit=1&cursor=00"} {
		f.Add("trails", seed)
	}
	f.Add("%00", "")
	f.Add("../records", "cursor=0")
	bed := testbed.Start(f)
	token, _ := enrol(f, bed)
	f.Fuzz(func(t *testing.T, collection, ask string) {
		request, err := http.NewRequest("GET", bed.URL()+"/v1/changes/"+collection+"?"+ask, nil)
		if err != nil {
			return // what no client can send
		}
		request.Header.Set("Authorization", "Bearer "+token)
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			return
		}
		response.Body.Close()
		if response.StatusCode >= 500 || strings.Contains(bed.Log.String(), "level=ERROR") {
			t.Fatalf("%q, %q: %d\n%s", collection, ask, response.StatusCode, bed.Log)
		}
	})
}
