package web_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"homing/internal/testbed"
)

const placedHuts = `
collection: huts
label: "{name}"
fields:
  name: {type: string}
  zone: {enum: [north, south]}
  state: {type: string}
  opened: {type: string, format: date}
  seen: {type: string, format: date-time}
  location: {$ref: "urn:homing:point"}
sync: {territory: record.zone}
`

const placedPaths = `
collection: paths
label: "{name}"
fields:
  name: {type: string}
  secret: {type: boolean}
  walked: {type: string, format: date-time}
  course: {$ref: "urn:homing:line"}
access: {read: "worker.role == 'lead' || after.secret != true"}
`

// asker asks for features as a program for maps does.
type asker struct {
	t    *testing.T
	base string
	head string // the Authorization header
}

func (a asker) get(path string) (status int, header http.Header, body map[string]any) {
	a.t.Helper()
	address := path
	if !strings.HasPrefix(path, "http") {
		address = a.base + path
	}
	request, err := http.NewRequest(http.MethodGet, address, nil)
	testbed.Must(a.t, err)
	if a.head != "" {
		request.Header.Set("Authorization", a.head)
	}
	response, err := http.DefaultClient.Do(request)
	testbed.Must(a.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	testbed.Must(a.t, err)
	if err := json.Unmarshal(text, &body); err != nil {
		a.t.Fatalf("%s: %d %s: %v", path, response.StatusCode, text, err)
	}
	return response.StatusCode, response.Header, body
}

// ok asks for what is there.
func (a asker) ok(path, kind string) map[string]any {
	a.t.Helper()
	status, header, body := a.get(path)
	if status != http.StatusOK || header.Get("Content-Type") != kind {
		a.t.Fatalf("%s: %d as %q, which is to be %q: %v", path, status, header.Get("Content-Type"), kind, body)
	}
	return body
}

// links are the addresses of a document's links, by what they are.
func links(t *testing.T, body map[string]any) map[string]string {
	t.Helper()
	all := map[string]string{}
	list, _ := body["links"].([]any)
	for _, one := range list {
		link := one.(map[string]any)
		all[link["rel"].(string)] = link["href"].(string)
	}
	return all
}

// names are those of the features of a page.
func names(body map[string]any) []string {
	var all []string
	list, _ := body["features"].([]any)
	for _, one := range list {
		all = append(all, fmt.Sprint(one.(map[string]any)["properties"].(map[string]any)["name"]))
	}
	slices.Sort(all)
	return all
}

func placedBed(t *testing.T) (*testbed.Bed, func(collection string, fields map[string]any) string) {
	t.Helper()
	bed := testbed.Start(t)
	bed.Define(placedHuts, placedPaths, "collection: notes\nfields:\n  name: {type: string}\n")
	admin := bed.SignIn("admin")
	return bed, func(collection string, fields map[string]any) string {
		t.Helper()
		status, text := bed.Call(http.MethodPost, "/v1/records/"+collection, admin, map[string]any{"fields": fields})
		var got struct {
			Record struct{ ID string } `json:"record"`
		}
		if err := json.Unmarshal(text, &got); err != nil || status != http.StatusCreated {
			t.Fatalf("%d %s", status, text)
		}
		return got.Record.ID
	}
}

func point(lon, lat float64) map[string]any {
	return map[string]any{"type": "Point", "coordinates": []float64{lon, lat}}
}

func line(positions ...[]float64) map[string]any {
	return map[string]any{"type": "LineString", "coordinates": positions}
}

// A program for maps finds its way from the landing page by links alone, as the requirements of OGC API – Features, part 1, go through it.
func TestFeaturesByTheStandard(t *testing.T) {
	bed, add := placedBed(t)
	for n := range 25 {
		add("huts", map[string]any{"name": fmt.Sprintf("Hut %02d", n), "zone": "north", "location": point(12+float64(n)/10, 46)})
	}
	placeless := add("huts", map[string]any{"name": "Nowhere", "zone": "north"})
	a := asker{t, bed.URL(), "Bearer " + bed.SignIn("reader")}
	testbed.Must(t, bed.Central.HoldTerritories(t.Context(), "reader", []string{"*"}))

	landing := a.ok("/features", "application/json")
	to := links(t, landing)
	for _, rel := range []string{"self", "service-desc", "conformance", "data"} {
		if to[rel] == "" {
			t.Errorf("the landing page has no link %s: %v", rel, to)
		}
	}
	classes := fmt.Sprint(a.ok(to["conformance"], "application/json")["conformsTo"])
	for _, class := range []string{"core", "oas30", "geojson"} {
		if !strings.Contains(classes, "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/"+class) {
			t.Errorf("it does not conform to %s: %s", class, classes)
		}
	}
	api := a.ok(to["service-desc"], "application/vnd.oai.openapi+json;version=3.0")
	paths := api["paths"].(map[string]any)
	if api["openapi"] != "3.0.3" || paths["/collections/huts/items"] == nil || paths["/collections/notes/items"] != nil {
		t.Errorf("the description is %v", api)
	}

	collections := a.ok(to["data"], "application/json")
	ids := []string{}
	for _, one := range collections["collections"].([]any) {
		c := one.(map[string]any)
		ids = append(ids, c["id"].(string))
		alone := a.ok("/features/collections/"+c["id"].(string), "application/json")
		if c["title"] != alone["title"] || links(t, alone)["items"] != links(t, c)["items"] || links(t, c)["items"] == "" {
			t.Errorf("of %v alone: %v", c, alone)
		}
	}
	if fmt.Sprint(ids) != "[huts paths structures]" || links(t, collections)["self"] != to["data"] {
		t.Errorf("the collections are %v, %v", ids, links(t, collections))
	}
	huts := a.ok("/features/collections/huts", "application/json")
	if got := fmt.Sprint(huts["extent"]); !strings.Contains(got, "[[12 46 14.4 46]]") {
		t.Errorf("the extent is %s", got)
	}

	// All pages, by the links to the next.
	items := links(t, huts)["items"]
	seen, pages := map[string]bool{}, 0
	for next := items + "?limit=10"; next != ""; pages++ {
		page := a.ok(next, "application/geo+json")
		if page["type"] != "FeatureCollection" || page["numberReturned"] != float64(len(page["features"].([]any))) || page["timeStamp"] == "" {
			t.Errorf("the page is %v", page)
		}
		if pages == 0 && page["numberMatched"] != 26.0 {
			t.Errorf("there are %v", page["numberMatched"])
		}
		for _, one := range page["features"].([]any) {
			feature := one.(map[string]any)
			if seen[feature["id"].(string)] || feature["type"] != "Feature" {
				t.Errorf("a feature comes twice, or is none: %v", feature)
			}
			seen[feature["id"].(string)] = true
		}
		next = links(t, page)["next"]
	}
	if len(seen) != 26 || pages != 3 {
		t.Errorf("%d features came on %d pages", len(seen), pages)
	}
	one := a.ok("/features/collections/huts/items/"+placeless, "application/geo+json")
	if one["geometry"] != nil || one["properties"].(map[string]any)["name"] != "Nowhere" || links(t, one)["self"] == "" || links(t, one)["collection"] == "" {
		t.Errorf("the feature without a place is %v", one)
	}
	if got := len(names(a.ok(items+"?limit=100000", "application/geo+json"))); got != 26 {
		t.Errorf("a limit that is too high gives %d", got)
	}
	// A landing page with a stroke behind it, and a form by name.
	a.ok("/features/", "application/json")
	a.ok(items+"?f=json", "application/geo+json")

	for path, want := range map[string]int{
		"/features/collections/nothing": 404, "/features/collections/notes": 404, "/features/collections/notes/items": 404,
		"/features/collections/huts/items/01941f29-7c00-7000-8000-000000000009": 404,
		"/features/collections/huts/items?nothing=1":                            400, "/features?nothing=1": 400, "/features/collections?limit=1": 400,
		"/features/collections/huts/items?limit=0": 400, "/features/collections/huts/items?limit=x": 400, "/features/collections/huts/items?limit=1&limit=2": 400,
		"/features/collections/huts/items?bbox=1,2,3": 400, "/features/collections/huts/items?bbox=a,b,c,d": 400, "/features/collections/huts/items?bbox=1,9,3,2": 400, "/features/collections/huts/items?bbox=": 400,
		"/features/collections/huts/items?datetime=yesterday": 400, "/features/collections/huts/items?datetime=../..": 400, "/features/collections/huts/items?datetime=2026-05-02/2026-05-01": 400,
		"/features/collections/huts/items?f=xml": 400, "/features/collections/huts/items?after=x": 400, "/features/collections/huts/items?state=%00": 400,
	} {
		status, header, body := a.get(path)
		if status != want || header.Get("Content-Type") != "application/problem+json" || fmt.Sprint(body["detail"]) == "" {
			t.Errorf("%s: %d %v", path, status, body)
		}
	}
}

// Boxes and times: points and lines, a box over the antimeridian, a line that only crosses it; dates and times with open ends.
func TestFeaturesInBoxesAndTimes(t *testing.T) {
	bed, add := placedBed(t)
	testbed.Must(t, bed.Central.HoldTerritories(t.Context(), "lead", []string{"*"}))
	add("huts", map[string]any{"name": "west", "zone": "north", "location": point(-179, 10), "opened": "2026-05-01", "state": "open"})
	add("huts", map[string]any{"name": "east", "zone": "north", "location": point(179, 10), "opened": "2026-05-31", "state": "shut"})
	add("huts", map[string]any{"name": "middle", "zone": "north", "location": point(0, 10)})
	add("paths", map[string]any{"name": "through", "course": line([]float64{-10, -10}, []float64{10, 10}), "walked": "2026-05-01T12:00:00+02:00"})
	add("paths", map[string]any{"name": "beside", "course": line([]float64{-10, 0}, []float64{0, 10}), "walked": "2026-05-01T10:30:00Z"})
	add("paths", map[string]any{"name": "within", "course": line([]float64{1, 1}, []float64{1.5, 1.5}, []float64{1.2, 1.1})})
	a := asker{t, bed.URL(), "Bearer " + bed.SignIn("lead")}
	for question, want := range map[string]string{
		"huts?bbox=-180,0,0.5,20":                             "[middle west]",
		"huts?bbox=170,0,-170,20":                             "[east west]",
		"huts?bbox=-1,9,0,1,11,500":                           "[middle]",
		"huts?bbox=-1,11,1,12":                                "[]",
		"huts?datetime=2026-05-01":                            "[west]",
		"huts?datetime=2026-05-01T12:00:00Z":                  "[west]",
		"huts?datetime=2026-05-02/..":                         "[east]",
		"huts?datetime=/2026-05-31":                           "[east west]",
		"huts?datetime=2026-05-01/2026-05-31&state=open":      "[west]",
		"huts?state=open":                                     "[west]",
		"huts?bbox=170,0,-170,20&datetime=2026-05-31&limit=1": "[east]",
		"paths?bbox=0,0,2,2":                                  "[through within]",
		"paths?bbox=-4,4,-3,8":                                "[beside]",
		"paths?bbox=4,-8,8,-4":                                "[]",
		"paths?bbox=178,-90,-1,90":                            "[beside through]",
		"paths?datetime=2026-05-01T10:00:00Z":                 "[through]",
		"paths?datetime=2026-05-01T10:15:00Z/..":              "[beside]",
		"paths?datetime=2026-05-01":                           "[beside through]",
	} {
		collection, query, _ := strings.Cut(question, "?")
		if got := fmt.Sprint(names(a.ok("/features/collections/"+collection+"/items?"+query, "application/geo+json"))); got != want {
			t.Errorf("%s: %s, not %s", question, got, want)
		}
	}
}

// Whoever asks gets what they may see, and no more: on pages, alone, in extents, in numbers; by a token, or by name and password.
func TestFeaturesShowWhatOneMaySee(t *testing.T) {
	bed, add := placedBed(t)
	north := add("huts", map[string]any{"name": "north", "zone": "north", "location": point(10, 40)})
	south := add("huts", map[string]any{"name": "south", "zone": "south", "location": point(50, 20)})
	secret := add("paths", map[string]any{"name": "secret", "secret": true, "course": line([]float64{70, 70}, []float64{71, 71})})
	testbed.Must(t, bed.Central.HoldTerritories(t.Context(), "worker", []string{"north"}))
	basic := func(password string) string {
		return "Basic " + base64.StdEncoding.EncodeToString([]byte("worker:"+password))
	}
	for how, head := range map[string]string{"a token": "Bearer " + bed.SignIn("worker"), "a password": basic(testbed.Password)} {
		a := asker{t, bed.URL(), head}
		page := a.ok("/features/collections/huts/items", "application/geo+json")
		if fmt.Sprint(names(page)) != "[north]" || page["numberMatched"] != 1.0 {
			t.Errorf("by %s: %v", how, page)
		}
		a.ok("/features/collections/huts/items/"+north, "application/geo+json")
		for _, hidden := range []string{"huts/items/" + south, "paths/items/" + secret} {
			if status, _, body := a.get("/features/collections/" + hidden); status != 404 {
				t.Errorf("by %s, %s: %d %v", how, hidden, status, body)
			}
		}
		if page := a.ok("/features/collections/paths/items", "application/geo+json"); len(names(page)) != 0 || page["numberMatched"] != 0.0 {
			t.Errorf("by %s, paths: %v", how, page)
		}
		all := fmt.Sprint(a.ok("/features/collections", "application/json"))
		if strings.Contains(all, "50") || strings.Contains(all, "70") || !strings.Contains(all, "[[10 40 10 40]]") {
			t.Errorf("by %s, the extents tell of more: %s", how, all)
		}
	}

	// One sign-in serves all requests of a program, until somebody ends it or sets another password.
	counted := func() (n int) {
		var all []any
		_, text := bed.Call(http.MethodGet, "/v1/sign-ins", bed.SignIn("worker"), nil)
		testbed.Must(t, json.Unmarshal(text, &all))
		return len(all)
	}
	before := counted()
	a := asker{t, bed.URL(), basic(testbed.Password)}
	for range 5 {
		a.ok("/features", "application/json")
	}
	if after := counted(); after != before+1 { // that of counted itself
		t.Errorf("five requests made %d sign-ins", after-before-1)
	}
	for _, head := range []string{"", basic("wrong"), "Bearer ses_wrong", "Basic x"} {
		status, header, _ := asker{t, bed.URL(), head}.get("/features")
		if status != http.StatusUnauthorized || !strings.HasPrefix(header.Get("WWW-Authenticate"), "Basic ") {
			t.Errorf("%q: %d, %q", head, status, header.Get("WWW-Authenticate"))
		}
	}
	testbed.Must(t, bed.Central.SetPassword(t.Context(), "worker", "another-password-now"))
	if status, _, _ := a.get("/features"); status != http.StatusUnauthorized {
		t.Errorf("with the password that was: %d", status)
	}
	asker{t, bed.URL(), basic("another-password-now")}.ok("/features", "application/json")

	// A password opens features alone, and too many that are wrong are slowed.
	request, err := http.NewRequest(http.MethodGet, bed.URL()+"/v1/collections", nil)
	testbed.Must(t, err)
	request.SetBasicAuth("worker", "another-password-now")
	response, err := http.DefaultClient.Do(request)
	testbed.Must(t, err)
	response.Body.Close()
	if response.StatusCode != http.StatusUnauthorized {
		t.Errorf("a password where a token is wanted: %d", response.StatusCode)
	}
	slowed := false
	for range 30 {
		status, _, _ := asker{t, bed.URL(), basic("guess")}.get("/features")
		slowed = slowed || status == http.StatusTooManyRequests
	}
	if !slowed {
		t.Error("thirty wrong passwords are not slowed")
	}
	if address, err := url.Parse(links(t, asker{t, bed.URL(), "Bearer " + bed.SignIn("lead")}.ok("/features", "application/json"))["data"]); err != nil || "http://"+address.Host != bed.URL() {
		t.Errorf("links lead to %v, %v", address, err)
	}
}
