package web_test

import (
	"net/http"
	"strings"
	"testing"

	"homing/internal/testbed"
	"homing/service"
	"homing/web"
)

// P11: a page elsewhere uses the API only where its origin is declared, and then by a token alone: what a browser holds of
// somebody's sign-in at central is not the page's.
func TestPagesElsewhere(t *testing.T) {
	const app, other = "https://app.example", "https://other.example"
	origins, err := web.ParseOrigins([]string{"https://App.example"})
	testbed.Must(t, err)
	bed := testbed.Start(t, func(o *service.Options) { o.Origins = origins })
	token := bed.SignIn("lead")
	send := func(method, path string, headers map[string]string) *http.Response {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), method, bed.URL()+path, strings.NewReader(`{"fields":{"name":"Ridge"}}`))
		testbed.Must(t, err)
		request.Header.Set("Content-Type", "application/json")
		for name, value := range headers {
			request.Header.Set(name, value)
		}
		response, err := http.DefaultClient.Do(request)
		testbed.Must(t, err)
		response.Body.Close()
		return response
	}
	bearer := "Bearer " + token
	for what, one := range map[string]struct {
		method  string
		headers map[string]string
		status  int
		allowed string
	}{
		"the app with a token":          {"POST", map[string]string{"Origin": app, "Authorization": bearer}, 201, app},
		"the app reads":                 {"GET", map[string]string{"Origin": app, "Authorization": bearer}, 200, app},
		"the app with somebody's visit": {"POST", map[string]string{"Origin": app, "Cookie": "homing_session=" + token}, 401, app},
		"the app without a token":       {"POST", map[string]string{"Origin": app}, 401, app},
		"the app asks first": {"OPTIONS", map[string]string{"Origin": app, "Access-Control-Request-Method": "PATCH",
			"Access-Control-Request-Headers": "authorization,content-type"}, 204, app},
		"another page reads":      {"GET", map[string]string{"Origin": other, "Authorization": bearer, "Sec-Fetch-Site": "cross-site"}, 200, ""},
		"another page writes":     {"POST", map[string]string{"Origin": other, "Authorization": bearer, "Sec-Fetch-Site": "cross-site"}, 403, ""},
		"another page asks first": {"OPTIONS", map[string]string{"Origin": other, "Access-Control-Request-Method": "PATCH"}, 405, ""},
	} {
		response := send(one.method, "/v1/records/trails", one.headers)
		if response.StatusCode != one.status || response.Header.Get("Access-Control-Allow-Origin") != one.allowed ||
			response.Header.Get("Access-Control-Allow-Credentials") != "" {
			t.Errorf("%s: %s, lets in %q", what, response.Status, response.Header.Get("Access-Control-Allow-Origin"))
		}
	}
	for _, wrong := range []string{"app.example", "https://", "*", "null", "https://app.example/", "https://app.example/path", "file:///x"} {
		if _, err := web.ParseOrigins([]string{wrong}); err == nil {
			t.Errorf("%q is taken for an origin", wrong)
		}
	}
}

// Without a declaration no page elsewhere is let in.
func TestNoPagesElsewhere(t *testing.T) {
	bed := testbed.Start(t)
	request, err := http.NewRequestWithContext(t.Context(), "OPTIONS", bed.URL()+"/v1/records/trails", nil)
	testbed.Must(t, err)
	request.Header.Set("Origin", "https://app.example")
	request.Header.Set("Access-Control-Request-Method", "GET")
	response, err := http.DefaultClient.Do(request)
	testbed.Must(t, err)
	response.Body.Close()
	if response.StatusCode == 204 || response.Header.Get("Access-Control-Allow-Origin") != "" {
		t.Errorf("%s %v", response.Status, response.Header)
	}
}
