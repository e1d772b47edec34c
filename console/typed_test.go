package console_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/chromedp/chromedp"

	"homing/central"
	"homing/core/query"
	"homing/internal/testbed"
)

const measured = `collection: posts
label: "{name}"
fields:
  name: {type: string}
  height: {type: number}
  bolts: {type: integer}
  place: {$ref: "urn:homing:point"}
  tags: {type: array, items: {type: string}}
  more: {type: object}
`

// only gives the fields of the one record that there is.
func (p *page) only() string {
	p.t.Helper()
	listing, err := p.bed.Central.List(p.t.Context(), central.Everything("lead"), "posts", query.Ask{})
	testbed.Must(p.t, err)
	if len(listing.Records) != 1 {
		p.t.Fatalf("central has %d records", len(listing.Records))
	}
	return string(listing.Records[0].Fields)
}

func (p *page) id() string {
	p.t.Helper()
	listing, err := p.bed.Central.List(p.t.Context(), central.Everything("lead"), "posts", query.Ask{})
	testbed.Must(p.t, err)
	return listing.Records[0].ID.String()
}

func (p *page) submit() {
	p.t.Helper()
	p.do(chromedp.Click(chromedp.CSS(`.p-dialog button[type=submit]`)))
}

func typing(t *testing.T, locale string) *page {
	t.Helper()
	p := open(t, 1280)
	p.bed.Define(measured)
	if locale != "" {
		p.speaks(locale)
	}
	p.visit("/records/posts")
	p.signIn("lead", testbed.Password)
	p.says(".page", "No records yet")
	p.press("Add")
	return p
}

// A number is what was typed, to the last digit, whatever the language of the browser; what can be read in two ways, or not
// at all, is said at its field and not sent.
func TestNumbersAreWhatWasTyped(t *testing.T) {
	type typed struct{ text, want, wrong string }
	for locale, all := range map[string][]typed{
		"en-US": {{"5.5", "5.5", ""}, {"1,234", "", "1234 or 1.234"}, {"5,5", "5.5", ""}, {"12x", "", "not a number"}, {"1e3", "1000", ""},
			{"0.1234567890123456789", "0.1234567890123456789", ""}},
		"de-DE": {{"5.5", "5.5", ""}, {"1.234", "", "1234 or 1,234"}, {"5,5", "5.5", ""}, {"1.234,5", "1234.5", ""}, {"-0,25", "-0.25", ""}},
	} {
		t.Run(locale, func(t *testing.T) {
			p := typing(t, locale)
			added := 0
			for _, one := range all {
				p.fill(".p-dialog input#height", one.text)
				p.fill(".p-dialog input#bolts", "9007199254740993") // beyond what a float counts
				p.submit()
				if one.wrong != "" {
					p.says(".p-dialog label[for=height]", one.wrong)
					p.holds(".p-dialog input#height", one.text)
					continue
				}
				p.closed()
				added++
				p.says(".page", fmt.Sprintf("%d record", added))
				listing, err := p.bed.Central.List(t.Context(), central.Everything("lead"), "posts", query.Ask{Sort: "-edited_at"})
				testbed.Must(t, err)
				if got := string(listing.Records[0].Fields); got != `{"bolts":9007199254740993,"height":`+one.want+`}` {
					t.Errorf("%s became %s", one.text, got)
				}
				p.press("Add")
			}
		})
	}
}

// Passing through a form changes nothing: a point keeps its digits and its altitude, a number its digits.
func TestPassingThroughChangesNothing(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define(measured)
	const fields = `{"bolts":123456789012345678,"height":0.12345678901,"name":"Post","place":{"coordinates":[-31.123456789012,52.5,1204.25],"type":"Point"},"tags":["a"]}`
	status, text := p.bed.Call("POST", "/v1/records/posts", p.bed.SignIn("lead"), json.RawMessage(`{"fields":`+fields+`}`))
	if status != http.StatusCreated {
		t.Fatalf("%d %s", status, text)
	}
	p.visit("/records/posts")
	p.signIn("lead", testbed.Password)
	p.says("tbody", "Post")
	p.do(chromedp.WaitNotPresent(chromedp.CSS(".p-datatable-mask")), chromedp.Click(chromedp.CSS("tbody tr a")))
	p.says(".trail", "Revision 1")
	p.press("Edit")
	p.fill("input#name", "Post\t\t\t\t\t\t\t\t")
	p.press("Save")
	p.says(".head", "revision 1")
	p.press("Edit")
	p.fill("input#name", "Pole")
	p.fill("input[aria-label=Latitude]", "52.75")
	p.press("Save")
	p.says(".head", "revision 2")
	want := strings.NewReplacer(`"Post"`, `"Pole"`, `52.5`, `52.75`).Replace(fields)
	if got := p.only(); got != want {
		t.Errorf("central has %s\nwant %s", got, want)
	}
	p.press("Edit")
	p.fill("input[aria-label=Latitude]", " ")
	p.press("Save")
	p.says("label[for=place]", "both latitude and longitude")
	p.fill("input[aria-label=Latitude]", "95")
	p.press("Save")
	p.says("label[for=place]", "Up to 90")
}

// What was typed goes only if whoever typed it says so: by Esc, Cancel, a link, and what stands in a list without Enter
// counts, as does what cannot be read.
func TestNothingTypedIsThrownAway(t *testing.T) {
	p := typing(t, "")
	p.fill(".p-dialog input#name", "Post")
	p.do(chromedp.KeyEvent("\x1b"))
	p.says(".p-confirmdialog", "Throw away what you typed?")
	p.answer("Go on typing")
	p.holds(".p-dialog input#name", "Post")
	p.fill(".p-dialog textarea#more", `{"a":`)
	p.submit()
	p.says(".p-dialog label[for=more]", "This is not JSON")
	p.fill(".p-dialog textarea#more", `{"a": 1.50}`)
	p.do(chromedp.SendKeys(chromedp.CSS(".p-dialog label[for=tags] input"), "steep"))
	p.submit()
	p.says(".page", "1 record")
	if got := p.only(); got != `{"more":{"a":1.5},"name":"Post","tags":["steep"]}` {
		t.Errorf("central has %s", got)
	}
	p.closed()
	p.do(chromedp.Click(chromedp.CSS("tbody tr a")))
	p.says(".trail", "Revision 1")
	p.press("Edit")
	p.fill("input#name", "Pole")
	p.do(chromedp.Click(`//nav//a[contains(., "Devices")]`))
	p.says(".p-confirmdialog", "Throw away what you typed?")
	p.confirm("Go on typing")
	p.holds("input#name", "Pole")
	p.do(chromedp.Click(`//nav//a[contains(., "Devices")]`))
	p.confirm("Throw away")
	p.says("h1", "Devices")
	if got := p.only(); !strings.Contains(got, `"name":"Post"`) {
		t.Errorf("central has %s", got)
	}
}

// lossy is an address before central where the answer to the next change can be lost.
func (p *page) lossy() (address string, lose *atomic.Bool) {
	lose = &atomic.Bool{}
	return p.through(func(r *http.Response) error {
		if r.Request.Method != http.MethodGet && lose.Swap(false) {
			r.StatusCode = http.StatusGatewayTimeout // a connection that ends is tried again by the browser itself
		}
		return nil
	}), lose
}

// through is another address of central, where something becomes of its answers.
func (p *page) through(becomes func(*http.Response) error) (address string) {
	target, err := url.Parse(p.bed.URL())
	testbed.Must(p.t, err)
	server := httptest.NewServer(&httputil.ReverseProxy{
		Rewrite:        func(r *httputil.ProxyRequest) { r.SetURL(target); r.Out.Host = target.Host; r.Out.Header.Del("Origin") },
		ModifyResponse: becomes})
	p.t.Cleanup(server.Close)
	return server.URL
}

// An answer that is lost makes nothing twice: what is sent again is the same change, and nobody else is blamed for it.
func TestALostAnswerDoublesNothing(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define(measured + "sync: {rules: {bolts: sum}}\n")
	lossy, lose := p.lossy()
	p.do(chromedp.Navigate(lossy + "/records/posts"))
	p.signIn("lead", testbed.Password)
	p.says(".page", "No records yet")
	p.press("Add")
	p.fill(".p-dialog input#name", "Post")
	p.fill(".p-dialog input#bolts", "5")
	lose.Store(true)
	p.submit()
	p.says(".p-dialog", "504")
	p.submit()
	p.closed()
	p.says(".page", "1 record")
	p.do(chromedp.Click(chromedp.CSS("tbody tr a")))
	p.says(".trail", "Revision 1")
	p.press("Edit")
	p.fill("input#bolts", "8")
	lose.Store(true)
	p.press("Save")
	p.says(".page", "504")
	p.says(".page", "Your save seems to have arrived")
	p.press("Save")
	p.says(".p-toast", "Saved")
	p.says(".head", "revision 2")
	if got := p.only(); got != `{"bolts":8,"name":"Post"}` || strings.Contains(p.text(".p-toast"), "merged") {
		t.Errorf("central has %s, and the page says %s", got, p.text(".p-toast"))
	}
}

// What was typed survives a reload, and so does the key under which it went to central: saved again after a lost answer
// and a reload, a count counts once. A draft is shown to who wrote it, and goes when it is thrown away.
func TestDraftsSurviveAReload(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define(measured + "sync: {rules: {bolts: sum}}\n")
	lossy, lose := p.lossy()
	p.do(chromedp.Navigate(lossy + "/records/posts"))
	p.signIn("lead", testbed.Password)
	p.says(".page", "No records yet")
	p.press("Add")
	p.fill(".p-dialog input#name", "Post")
	p.fill(".p-dialog input#bolts", "5")
	lose.Store(true)
	p.submit()
	p.says(".p-dialog", "504")
	p.reload()
	p.press("Go on with your draft")
	p.says(".p-dialog", "is here again, and not saved yet")
	p.holds(".p-dialog input#bolts", "5")
	p.fill(".p-dialog input#height", "2.5")
	p.submit()
	p.closed()
	p.says(".page", "1 record")
	p.do(chromedp.WaitNotPresent(chromedp.CSS(".p-datatable-mask")), chromedp.Click(chromedp.CSS("tbody tr a")))
	p.says(".trail", "Revision 2")
	p.press("Edit")
	p.fill("input#bolts", "8")
	lose.Store(true)
	p.press("Save")
	p.says(".page", "Your save seems to have arrived")
	p.reload()
	p.says(".head", "revision 3")
	p.press("Go on with your draft")
	p.says(".page", "Your save seems to have arrived")
	// Somebody counts meanwhile, and the edit goes on: what was sent is not sent again as something else.
	status, text := p.bed.Call("PATCH", "/v1/records/posts/"+p.id(), p.bed.SignIn("admin"), json.RawMessage(`{"base":3,"fields":{"bolts":11}}`))
	if status != http.StatusOK {
		t.Fatalf("%d %s", status, text)
	}
	p.says(".page", "Somebody has changed this record")
	p.fill("input#name", "Beam")
	p.press("Save")
	p.says(".p-toast", "Saved")
	if got := p.only(); got != `{"bolts":11,"height":2.5,"name":"Beam"}` {
		t.Errorf("central has %s", got)
	}
	// What was sent once is done with: a later edit does not send it again, whatever others count meanwhile.
	count := func(base, bolts int) {
		t.Helper()
		status, text := p.bed.Call("PATCH", "/v1/records/posts/"+p.id(), p.bed.SignIn("admin"), map[string]any{"base": base, "fields": map[string]int{"bolts": bolts}})
		if status != http.StatusOK {
			t.Fatalf("%d %s", status, text)
		}
	}
	count(5, 12)
	p.says(".head", "revision 6")
	p.press("Edit")
	p.fill("input#height", "3")
	p.press("Save")
	p.says(".head", "revision 7")
	if got := p.only(); got != `{"bolts":12,"height":3,"name":"Beam"}` {
		t.Errorf("after a later edit, central has %s", got)
	}
	// Thrown away, what was sent and may have arrived is not sent again either.
	p.press("Edit")
	p.fill("input#bolts", "15")
	lose.Store(true)
	p.press("Save")
	p.says(".page", "Your save seems to have arrived")
	p.reload()
	p.says(".head", "revision 8")
	p.press("Go on with your draft")
	p.press("Throw it away")
	p.fill("input#height", "4")
	p.press("Save")
	p.says(".head", "revision 9")
	if got := p.only(); got != `{"bolts":15,"height":4,"name":"Beam"}` {
		t.Errorf("after throwing away, central has %s", got)
	}
	p.press("Edit")
	p.fill("input#name", "Pole")
	p.reload()
	p.press("Go on with your draft")
	p.holds("input#name", "Pole")
	p.press("Throw it away")
	p.holds("input#name", "Beam")
	p.press("Cancel")
	p.says(".head", "Edit")
}

// A new record whose answer was lost, and that was thrown away then, may be at central: what is added next is another.
func TestWhatWasThrownAwayIsNotWrittenOver(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define(measured)
	lossy, lose := p.lossy()
	p.do(chromedp.Navigate(lossy + "/records/posts"))
	p.signIn("lead", testbed.Password)
	p.says(".page", "No records yet")
	p.press("Add")
	p.fill(".p-dialog input#name", "Post")
	lose.Store(true)
	p.submit()
	p.says(".p-dialog", "504")
	p.reload()
	p.press("Go on with your draft")
	p.says(".p-dialog", "is here again")
	p.do(chromedp.Click(`//div[contains(@class, "p-dialog")]//button[contains(., "Throw it away")]`))
	p.fill(".p-dialog input#name", "Pole")
	p.submit()
	p.closed()
	listing, err := p.bed.Central.List(t.Context(), central.Everything("lead"), "posts", query.Ask{Sort: "name"})
	testbed.Must(t, err)
	if len(listing.Records) != 2 || string(listing.Records[0].Fields) != `{"name":"Pole"}` || string(listing.Records[1].Fields) != `{"name":"Post"}` {
		t.Errorf("central has %+v", listing.Records)
	}
}

// reload opens the page anew, in another tab, as if the first had crashed.
func (p *page) reload() {
	p.t.Helper()
	here, err := chromedp.Run(p.tab, chromedp.Evaluate[string](`location.href`))
	testbed.Must(p.t, err)
	p.another()
	p.do(chromedp.Navigate(here))
}

// A sign-in that ends while something is typed is taken up again over the form.
func TestASignInThatEndsKeepsTheForm(t *testing.T) {
	p := typing(t, "")
	p.fill(".p-dialog input#name", "Post")
	all, err := p.bed.Central.SignIns(t.Context(), "lead", "")
	testbed.Must(t, err)
	for _, one := range all {
		testbed.Must(t, p.bed.Central.EndSignIn(t.Context(), "lead", one.ID))
	}
	p.submit()
	p.says("body", "Your sign-in has ended")
	p.do(chromedp.WaitVisible(chromedp.CSS("input[name=password]:focus")))
	p.fill("input[name=password]", testbed.Password+"\r")
	p.saysNot("body", "Your sign-in has ended")
	p.holds(".p-dialog input#name", "Post")
	p.submit()
	p.says(".page", "1 record")
	if got := p.only(); got != `{"name":"Post"}` {
		t.Errorf("central has %s", got)
	}
}
