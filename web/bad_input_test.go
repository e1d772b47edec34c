package web_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/core/change"
	"homing/core/query"
	"homing/internal/testbed"
	"homing/service"
	"homing/wire"
)

func TestMain(m *testing.M) { testbed.Main(m) }

// enrol gives the token of a new device and its incarnation.
func enrol(t testing.TB, bed *testbed.Bed) (string, uuid.UUID) {
	t.Helper()
	incarnation := uuid.Must(uuid.NewV7())
	var got wire.Enrolled
	status, text := bed.Call("POST", "/v1/enrolments", "",
		wire.Enrolment{Code: bed.Code("worker"), Device: "tablet", Incarnation: incarnation})
	if err := json.Unmarshal(text, &got); err != nil || status != 200 {
		t.Fatalf("enrol: %d %s", status, text)
	}
	return got.Token, incarnation
}

func batchText(incarnation uuid.UUID, changes ...string) string {
	return `{"batch":"` + uuid.NewString() + `","exchange":"` + uuid.NewString() + `","incarnation":"` +
		incarnation.String() +
		`","clock":{"sent_at":"` + time.Now().Format(time.RFC3339Nano) + `"},"changes":[` + strings.Join(changes, ",") + `]}`
}

// Whatever is sent, the answer is a problem that says what is wrong, and never a fault of the program.
func TestBadRequestsGetClearProblems(t *testing.T) {
	bed := testbed.Start(t, func(o *service.Options) { o.MaxBodyBytes, o.MaxChanges = 100_000, 5 })
	device, incarnation := enrol(t, bed)
	admin := bed.SignIn("admin")
	one := `{"number":1}`
	var bomb bytes.Buffer
	packed := gzip.NewWriter(&bomb)
	packed.Write(bytes.Repeat([]byte(" "), 50_000_000))
	packed.Close()
	record := "/v1/records/trails"
	tests := []struct {
		name, method, path, token string
		body                      any
		status                    int
		says                      string
		headers                   []string
	}{
		{"broken JSON", "POST", "/v1/batches", device, `{"batch":`, 422, "not JSON", nil},
		{"no JSON at all", "POST", "/v1/batches", device, "hello", 422, "not JSON", nil},
		{"wrong kind of value", "POST", "/v1/batches", device, `{"changes":7}`, 422, "changes", nil},
		{"no batch id", "POST", "/v1/batches", device, `{}`, 422, "a batch has an id", nil},
		{"empty body", "POST", "/v1/batches", device, nil, 400, "body", nil},
		{"too many changes", "POST", "/v1/batches", device, batchText(incarnation, one, one, one, one, one, one), 413,
			"at most 5", nil},
		{"too large", "POST", "/v1/batches", device, batchText(incarnation, strings.Repeat(" ", 120_000)+one), 413, "", nil},
		{"small, but swells", "POST", "/v1/batches", device, bomb.String(), 413, "", []string{"Content-Encoding", "gzip"}},
		{"not what it says", "POST", "/v1/batches", device, "hello", 400, "not", []string{"Content-Encoding", "gzip"}},
		{"unknown compression", "POST", "/v1/batches", device, "hello", 415, "gzip or zstd",
			[]string{"Content-Encoding", "br"}},
		{"another store's batch", "POST", "/v1/batches", device, batchText(uuid.New()), 409, "local store", nil},
		{"unsupported protocol", "GET", "/v1/definitions", device, nil, 400, "speaks protocol 9",
			[]string{wire.HeaderVersion, "9"}},
		{"unsupported path version", "GET", "/v9/definitions", device, nil, 404, "protocol 1 only", nil},
		{"wrong token", "GET", "/v1/definitions", "dev_nonsense", nil, 401, "not known here", nil},
		{"token of nobody", "GET", "/v1/definitions", "nonsense", nil, 401, "not one of central's", nil},
		{"no Bearer", "GET", "/v1/definitions", "", nil, 401, "Bearer TOKEN", []string{"Authorization", "Basic xyz"}},
		{"unknown collection", "GET", "/v1/changes/nothing", device, nil, 404, "no collection", nil},
		{"cursor beyond the head", "GET", "/v1/changes/trails?cursor=99", device, nil, 409, "put back to an earlier state",
			nil},
		{"cursor that is none", "GET", "/v1/changes/trails?cursor=x", device, nil, 422, "", nil},
		{"negative cursor", "GET", "/v1/changes/trails?cursor=-1", device, nil, 422, "", nil},
		{"exchange that is no id", "GET", "/v1/changes/trails", device, nil, 422, "UUID", []string{wire.HeaderExchange, "x"}},
		{"list of nothing", "GET", "/v1/records/nothing", admin, nil, 404, "no collection", nil},
		{"odd condition", "GET", record + "?where=colour%3Dred", admin, nil, 422, "has no field", nil},
		{"condition without operator", "GET", record + "?where=name", admin, nil, 422, "FIELD=VALUE", nil},
		{"sort by nothing", "GET", record + "?sort=colour", admin, nil, 422, "colour", nil},
		{"record that is no id", "GET", record + "/xyz", admin, nil, 422, "", nil},
		{"unknown record", "GET", record + "/" + uuid.NewString(), admin, nil, 404, "no record", nil},
		{"missing field", "POST", record, admin, `{"fields":{}}`, 422, "name", nil},
		{"wrong type", "POST", record, admin, `{"fields":{"name":7}}`, 422, "name", nil},
		{"unknown field", "POST", record, admin, `{"fields":{"name":"x","colour":"red"}}`, 422, "colour", nil},
		{"the character 0", "POST", record, admin, `{"fields":{"name":"a\u0000b"}}`, 422, "U+0000", nil},
		{"number out of range", "POST", record, admin, `{"fields":{"name":"x","length_km":1e999}}`, 400, "1e999", nil},
		{"edit of nothing", "PATCH", record + "/" + uuid.NewString(), admin, `{"fields":{"name":"x"}}`, 404, "no record",
			nil},
		{"removal of nothing", "DELETE", record + "/" + uuid.NewString(), admin, nil, 404, "no record", nil},
		{"add to nothing", "POST", "/v1/records/nothing", admin, `{"fields":{"name":"x"}}`, 404, "no collection", nil},
		{"method that is not there", "PUT", record, admin, `{}`, 405, "not possible here", nil},
		{"nothing there", "GET", "/v1/nothing", admin, nil, 404, "nothing at", nil},
		{"role that is none", "POST", "/v1/workers", admin, `{"name":"x","role":"king"}`, 422, "", nil},
		{"short password", "POST", "/v1/workers", admin, `{"name":"x","role":"worker","password":"short"}`, 422,
			"too short", nil},
		{"worker twice", "POST", "/v1/workers", admin, `{"name":"lead","role":"worker","password":"long enough"}`, 409,
			"already", nil},
		{"code for nobody", "POST", "/v1/codes", admin, `{"worker":"nobody"}`, 404, "no worker", nil},
		{"definition with a bad schema", "PUT", "/v1/definitions", admin,
			`{"definitions":[{"collection":"x","version":1,"title":"X","label":"{a}","fields":[{"name":"a","title":"A","schema":{"type":"strange"}}],"sync":{"removal":"edit-stays"}}]}`, 422, "definition of x", nil},
		{"definition that refers to nothing", "PUT", "/v1/definitions", admin,
			`{"definitions":[{"collection":"x","version":1,"title":"X","label":"{a}","fields":[{"name":"a","title":"A","reference":"nothing","schema":{"type":"string"}}],"sync":{"removal":"edit-stays"}}]}`, 422, "nothing", nil},
		{"enrolment without code", "POST", "/v1/enrolments", "", `{"device":"x","incarnation":"` + uuid.NewString() + `"}`,
			401, "code", nil},
		{"enrolment with a wrong code", "POST", "/v1/enrolments", "", `{"device":"x","incarnation":"` + uuid.NewString() +
			`","code":"AAAA"}`, 401, "not known", nil},
		{"enrolment of an enrolled store", "POST", "/v1/enrolments", "", `{"device":"x","incarnation":"` +
			incarnation.String() + `","code":"` + bed.Code("lead") + `"}`, 409, "enrolled already", nil},
		{"from another site's page", "POST", record, admin, `{"fields":{"name":"x"}}`, 403, "",
			[]string{"Sec-Fetch-Site", "cross-site"}},
	}
	for _, test := range tests {
		status, text := bed.Call(test.method, test.path, test.token, test.body, test.headers...)
		if status != test.status || !strings.Contains(string(text), test.says) {
			t.Errorf("%s: %d %.300s; want %d with %q", test.name, status, text, test.status, test.says)
		}
		var problem wire.ProblemDetails
		if test.name != "from another site's page" && (json.Unmarshal(text, &problem) != nil || problem.Status != status ||
			problem.Detail == "" || !strings.HasPrefix(problem.Type, wire.ProblemPrefix)) {
			t.Errorf("%s: the answer is no problem: %.300s", test.name, text)
		}
	}
	if listing, err := bed.Central.List(t.Context(), central.Everything("admin"), "trails",
		query.Ask{Limit: 10}); err != nil || listing.Total != 0 {
		t.Errorf("something of all this was stored: %+v, %v", listing, err)
	}
	if log := bed.Log.String(); strings.Contains(log, "level=ERROR") || strings.Contains(log, "stack=") {
		t.Errorf("the program itself failed:\n%s", log)
	}
}

// Each bad change gets its own answer with a reason for each field.
func TestBadChangesAreAnsweredOneByOne(t *testing.T) {
	bed := testbed.Start(t)
	token, incarnation := enrol(t, bed)
	head := func(number, rest string) string {
		return `{"number":` + number + `,"stamp":"0199d3a1c2b4-0003","edited_at":"2026-11-01T10:00:00Z",` + rest + `}`
	}
	id := func() string { return `"record":"` + uuid.NewString() + `"` }
	tests := []struct{ change, code, field string }{
		{head("1", `"collection":"nothing","kind":"add","base":0,`+id()), change.CodeUnknownCollection, ""},
		{head("2", `"collection":"trails","kind":"add","base":0,"fields":{"name":{"to":7}},`+id()), change.CodeInvalidValue,
			"name"},
		{head("3", `"collection":"trails","kind":"add","base":0,"fields":{},`+id()), change.CodeMissing, "name"},
		{head("4", `"collection":"trails","kind":"edit","base":3,"fields":{},`+id()), change.CodeUnknownRecord, ""},
		{head("5", `"collection":"trails","kind":"add","base":0,"fields":{"name":{"to":"x"},"colour":{"to":1}},`+id()),
			change.CodeUnknownField, "colour"},
		{head("6", `"collection":"trails","kind":"jump","base":0,`+id()), change.CodeMalformed, ""},
		{head("-7", `"collection":"trails","kind":"add","base":0,`+id()), change.CodeMalformed, ""},
		{head("8", `"collection":"trails","kind":"add","base":-1,`+id()), change.CodeMalformed, ""},
		{head("9", `"collection":"trails","kind":"remove","base":0,"fields":{"name":{"to":"x"}},`+id()),
			change.CodeMalformed, ""},
		{head("10", `"collection":"trails","kind":"add","base":0,"record":"00000000-0000-0000-0000-000000000000"`),
			change.CodeMalformed, ""},
		{`{"number":11,"collection":"trails","kind":"add","base":0,"stamp":"yesterday",` + id() + `}`, change.CodeMalformed,
			""},
		{`{"number":12,"collection":"trails","kind":"add","base":0,"stamp":"0199d3a1c2b4-0003",` + id() + `}`,
			change.CodeMalformed, ""},
		{head("13", `"collection":"trails","kind":"add","base":0,"fields":{"name":{"to":"a\u0000b"}},`+id()),
			change.CodeMalformed, "name"},
		{head("14", `"collection":"trails","kind":"add","base":0,"fields":{"name":{"to":"\ud800"},"length_km":{"to":1e400}},`+id()), change.CodeMalformed, "length_km"},
		{head("15", `"collection":"trails","kind":"add","base":0,"fields":{"name":{"to":`+strings.Repeat("[",
			60)+strings.Repeat("]", 60)+`}},`+id()), change.CodeMalformed, "name"},
		{`7`, change.CodeMalformed, ""}, {`null`, change.CodeMalformed, ""}, {`"x"`, change.CodeMalformed, ""},
		{`[]`, change.CodeMalformed, ""},
	}
	changes := make([]string, len(tests))
	for n, test := range tests {
		changes[n] = test.change
	}
	changes = append(changes, head("99",
		`"collection":"trails","kind":"add","base":0,"fields":{"name":{"to":"fine"},"__proto__":{}},`+id()))
	status, text := bed.Call("POST", "/v1/batches", token, batchText(incarnation, changes...))
	var answers wire.Answers
	if err := json.Unmarshal(text, &answers); err != nil || status != 200 || len(answers.Answers) != len(changes) {
		t.Fatalf("%d %s", status, text)
	}
	for n, test := range tests {
		got := answers.Answers[n]
		if got.Answer != change.Refused || len(got.Reasons) == 0 || got.Reasons[0].Code != test.code ||
			got.Reasons[0].Field != test.field || got.Reasons[0].Message == "" {
			t.Errorf("%s: %+v", test.change, got)
		}
	}
	if last := answers.Answers[len(tests)]; last.Answer != change.Applied {
		t.Errorf("the good change among them: %+v", last)
	}
	if strings.Contains(bed.Log.String(), "level=ERROR") {
		t.Errorf("the program itself failed:\n%s", bed.Log)
	}
}

// Callers that ask too often are held back, and told when to come again.
func TestRateLimit(t *testing.T) {
	bed := testbed.Start(t, func(o *service.Options) { o.RatePerSecond, o.RateBurst = 1, 5 })
	known := enrolByHand(t, bed)
	if status, text := bed.Call("GET", "/v1/definitions", known, nil); status != http.StatusOK {
		t.Fatalf("%d %s", status, text)
	}
	limited := 0
	for range 20 {
		if status, _ := bed.Call("GET", "/v1/hello", "", nil); status == http.StatusTooManyRequests {
			limited++
		}
	}
	if limited < 13 || limited > 17 {
		t.Errorf("%d of 20 requests were held back, want about 17", limited)
	}
	if status, _ := bed.Call("GET", "/v1/hello", known, nil); status != http.StatusOK {
		t.Errorf("another caller is held back as well: %d", status)
	}
	if status, _ := bed.Call("GET", "/v1/hello", "dev_made-up", nil); status != http.StatusTooManyRequests {
		t.Errorf("a made-up token is a caller of its own: %d", status)
	}
}

// A shutdown finishes the push that is under way.
func TestShutdownFinishesPushes(t *testing.T) {
	database := testbed.Database(t)
	bed := testbed.Start(t, func(o *service.Options) { o.Database = database })
	running, err := service.Start(t.Context(), service.Options{Listen: "127.0.0.1:0", Database: database,
		Log: bed.QuietLog()})
	testbed.Must(t, err)
	token, incarnation := enrol(t, bed)
	lock, unlock := bed.HoldCommits()
	defer lock.Close()
	result := make(chan string)
	go func() {
		request, _ := http.NewRequest("POST", running.URL()+"/v1/batches", strings.NewReader(batchText(incarnation,
			`{"number":1,"stamp":"0199d3a1c2b4-0003","edited_at":"2026-11-01T10:00:00Z","collection":"trails","kind":"add","base":0,"record":"`+uuid.NewString()+`","fields":{"name":{"to":"Ridge"}}}`)))
		request.Header.Set("Authorization", "Bearer "+token)
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			result <- err.Error()
			return
		}
		response.Body.Close()
		result <- response.Status
	}()
	bed.WaitForHeldCommit()
	stopped := make(chan error)
	go func() { stopped <- running.Stop() }()
	select {
	case err := <-stopped:
		t.Fatalf("it stopped with a push under way: %v", err)
	case <-time.After(200 * time.Millisecond):
	}
	unlock()
	if got := <-result; got != "200 OK" {
		t.Errorf("the push under way got %s", got)
	}
	if err := <-stopped; err != nil {
		t.Errorf("stop: %v", err)
	}
}

func TestHealthAndMetrics(t *testing.T) {
	bed := testbed.Start(t)
	for path, says := range map[string]string{"/healthz": "alive", "/readyz": "ready",
		"/metrics": `homing_answers_total{answer="applied"} 0`} {
		if status, text := bed.Call("GET", path, "", nil); status != 200 || !strings.Contains(string(text), says) {
			t.Errorf("%s: %d %.200s", path, status, text)
		}
	}
	status, text := bed.Call("GET", "/v1/openapi.json", "", nil)
	var description struct {
		OpenAPI string
		Paths   map[string]map[string]struct{ OperationID string }
	}
	if err := json.Unmarshal(text, &description); err != nil || status != 200 || description.OpenAPI != "3.1.0" ||
		len(description.Paths) < 15 {
		t.Errorf("description: %d %v, %s with %d paths", status, err, description.OpenAPI, len(description.Paths))
	}
}
