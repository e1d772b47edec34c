package field_test

import (
	"context"
	"os"
	"strings"
	"testing"

	browserp "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/storage"
	"github.com/chromedp/chromedp"

	"homing/device"
	"homing/internal/testbed"
)

// screens are all that a worker comes to see, with what says that one is there.
func (p *phone) screens(structure, trail, repair string) []struct{ name, path, says string } {
	return []struct{ name, path, says string }{
		{"home", "/", "What there is"},
		{"a list", "/records/structures", "Gale Bridge"},
		{"a list on a map", "/records/structures?map=1", "Narrow and sort"},
		{"a list of what is looked up", "/records/surveys", "Look up at central"},
		{"nothing fits", "/records/structures?search=nowhere", "Nothing here fits."},
		{"a record", "/records/structures/" + structure, "What has become of it"},
		{"a record with a dispute", "/records/structures/" + structure, "Edit"},
		{"a form", "/records/structures/" + structure + "/edit", "Save"},
		{"a new one", "/records/inspections/new?parent=" + structure, "Save and next"},
		{"a form with a line", "/records/trails/" + trail + "/edit", "Walk along it"},
		{"a form with lists", "/records/repairs/" + repair + "/edit", "Materials"},
		{"what is due", "/records/rounds/due", "Gale Hut"},
		{"a round of a hut and a week", "/records/rounds/new?period=2026-W43", "before it is complete"},
		{"what is unsent", "/unsent", "Exchange now"},
		{"the device", "/device", "Who uses it"},
	}
}

// axe says what a machine finds of what keeps people out (WCAG 2.2 A and AA).
func (p *phone) axe(where string) {
	p.t.Helper()
	script, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	testbed.Must(p.t, err)
	eval[bool](p, string(script)+"; true")
	found := eval[string](p, `axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'] }).then((r) =>
		r.violations.map((v) => v.id + ': ' + v.help + '\n' + v.nodes.map((n) => '   ' + n.html.slice(0, 200) + '\n   ' + n.failureSummary).join('\n')).join('\n'))`,
		chromedp.EvalAwaitPromise)
	if found != "" {
		p.t.Errorf("%s keeps people out:\n%s", where, found)
	}
	// Fingers in gloves: nothing that is pressed is smaller than 44 by 44 but links within a text.
	small := eval[string](p, `[...document.querySelectorAll('button, select, input:not([type=checkbox]), a.btn, a.row, a.chip, .tabs a')].filter((e) => {
		const r = e.getBoundingClientRect(); return r.width > 0 && getComputedStyle(e).clipPath === 'none' && (r.height < 43.5 || r.width < 43.5) }).map((e) => e.outerHTML.slice(0, 160)).join('\n')`)
	if small != "" {
		p.t.Errorf("%s has what is too small to press:\n%s", where, small)
	}
	// Nothing is wider than the screen.
	if wide := eval[int](p, `document.documentElement.scrollWidth - innerWidth`); wide > 0 {
		p.t.Errorf("%s is %d pixels wider than the screen", where, wide)
	}
}

func TestNothingKeepsPeopleOut(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	trail, bridge := p.ground(office)
	repair := p.add(office, "repairs", map[string]any{"what": "New boards", "status": "wanted", "structure": bridge.String(), "due": "2020-05-01", "crew": "kell crew"})
	p.add(office, "huts", map[string]any{"name": "Gale Hut", "crew": "kell crew"})
	testbed.Exchange(t, office)
	testbed.Must(t, p.bed.Central.HoldTerritories(t.Context(), "mira", []string{"*"}))
	p.looks("light")
	p.do(chromedp.Navigate(p.way.url + "/enrol#" + p.bed.Code("mira")))
	p.says("h1", "Collect on this device")
	p.axe("enrolling")
	p.press("Enrol")
	p.says("h1", "Set a PIN")
	p.axe("setting a PIN")
	p.fill("#pin", "2468")
	p.fill("#again", "2468")
	p.press("Set it and load")
	p.says(".tabs", "Records")
	p.disputed(office)

	for _, look := range []string{"light", "dark"} {
		p.looks(look)
		for _, screen := range p.screens(bridge.String(), trail.String(), repair.String()) {
			p.visit(screen.path)
			p.says("body", screen.says)
			p.axe(screen.name + ", " + look)
		}
		p.visit("/records/inspections/new")
		p.says("form", "Choose")
		p.press("Choose …")
		p.says("dialog", "Nearest first")
		p.axe("choosing a record, " + look)
		p.visit("/device")
		p.press("Erase this device")
		p.says("dialog", "Erase everything")
		p.axe("a question, " + look)
	}
	p.visit("/device")
	p.press("High contrast")
	p.axe("the device, in high contrast")
	p.visit("/records/structures/" + bridge.String())
	p.says("main", "Disputed: State")
	p.axe("a record, in high contrast")
	p.visit("/device")
	p.press("Sign out")
	p.says("h1", "Who are you?")
	p.press("mira")
	p.axe("signing in")
}

// disputed lets the phone and the office say something else of a bridge's state.
func (p *phone) disputed(office *device.Store) {
	p.t.Helper()
	ctx := context.Background()
	found, err := office.Find(ctx, "structures", device.Ask{Search: "Gale Bridge", Limit: 1})
	testbed.Must(p.t, err)
	id := found.Records[0].ID
	p.visit("/records/structures/" + id.String() + "/edit")
	p.press("worn")
	p.way.gone.Store(true) // the office is first
	p.press("Save")
	p.says(".notices", "Saved")
	_, err = office.Edit(ctx, "structures", id, device.Fields{"state": "damaged"})
	testbed.Must(p.t, err)
	testbed.Exchange(p.t, office)
	p.way.gone.Store(false)
	p.visit("/unsent")
	p.press("Exchange now")
	p.says("main", "is disputed and waits for a person")
}

// A dispute is settled in a tap, without signal, with who and when at each side.
func TestDisputesAreSettledInATap(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	_, bridge := p.ground(office)
	p.enrol("mira", "2468")
	p.disputed(office)
	p.says(".status", "1 record is disputed")
	p.press("Gale Bridge")
	p.says("main", "Disputed: State")
	p.says("main", "on another device")
	p.signal(false)
	p.press("worn", "section.banner")
	p.says(".notices", "Settled: State is worn")
	p.saysNot("main", "Disputed: State")
	p.signal(true)
	p.visit("/unsent")
	p.press("Exchange now")
	p.says("main", "Nothing waits to be sent")
	testbed.Exchange(t, office)
	got, err := office.Get(context.Background(), "structures", bridge)
	testbed.Must(t, err)
	if string(got.Fields["state"]) != `"worn"` || len(got.Disputes) > 0 {
		t.Errorf("the office has %s, disputed %v", got.Fields["state"], got.Disputes)
	}
}

// What central refuses says why at its field, and is mended and sent.
func TestRefusedIsMended(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	trail, _ := p.ground(office)
	p.enrol("mira", "2468")
	// The definition gets stricter than the phone knows.
	all := demoDefinitions(t)
	p.visit("/records/structures/new?parent=" + trail.String())
	p.fill("#name", "Old Sign")
	p.press("signpost")
	p.fill("#built", "1900")
	p.signal(false)
	p.press("Save")
	p.says(".notices", "Saved")
	p.bed.Define(strings.Replace(all[index(all, "collection: structures")], "minimum: 1850", "minimum: 1910", 1))
	p.signal(true)
	p.visit("/unsent") // opened with signal, the app sends it by itself
	p.says("main", "Built: must be at least 1910, is 1900")
	p.says(".status", "Central has refused 1 record")
	p.press("Mend it")
	p.says("main", "Central has refused this")
	p.press("Mend it")
	p.fill("#built", "1911")
	p.press("Save")
	p.says(".notices", "Saved")
	p.visit("/unsent") // opened with signal, the app sends it by itself
	p.says("main", "Nothing waits to be sent")
	p.saysNot(".status", "refused")
	found := p.atCentral(office, "Old Sign")
	if len(found) != 1 || string(found[0].Fields["built"]) != "1911" {
		t.Errorf("central has %v", found)
	}
}

// Bad input, as a phone gives it.
func TestPositionsThatAreNone(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	trail, _ := p.ground(office)
	p.enrol("mira", "2468")
	p.visit("/records/structures/new?parent=" + trail.String())
	p.says("form", "Where I am now")
	p.allow("geolocation", browserp.PermissionSettingDenied)
	p.press("Where I am now")
	p.says("#field-location", "This browser does not tell the app where it is.")
	p.stands(12.5, 46.25, 4000)
	p.press("Where I am now")
	p.says("#field-location", "This may be off by 4 km")
	if got := p.box("#location"); got != "46.25" {
		t.Errorf("the latitude is %q", got)
	}
	p.stands(12.75, 46.5, 8)
	p.press("Where I am now")
	p.says("#field-location", "Good to about 10 m.")
	if got := p.box("#location-lon"); got != "12.75" {
		t.Errorf("the longitude is %q", got)
	}
	p.fill("#location-lon", "")
	p.press("Save")
	p.says("#field-location .wrong", "A place needs both latitude and longitude.")
}

// A PIN that is forgotten: a lead issues a code, and what was unsent is still there for central.
func TestAForgottenPIN(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	trail, _ := p.ground(office)
	p.enrol("mira", "2468")
	p.signal(false)
	p.addSign(trail, "New Sign")
	p.visit("/device")
	p.press("Sign out")
	p.says("main", "1 unsent change stays sealed here")
	p.press("mira")
	for range 3 {
		p.fill("#pin", "0000\r")
		p.says("main", "This is not the PIN.")
		p.fill("#pin", "")
	}
	p.fill("#pin", "0000\r")
	p.says("main", "Too many wrong tries in a row")
	p.press("Somebody else")
	p.fill("#code", p.bed.Code("mira"))
	p.fill("#pin", "8642\r")
	p.says("main", "Central cannot be reached from here.")
	p.signal(true)
	p.fill("#pin", "8642\r")
	p.says(".status", "mira")
	p.visit("/unsent")
	p.press("Exchange now")
	p.comesHome(office, "New Sign")
}

// A browser that keeps nothing says so in one sentence, and a code of something else is no code.
func TestWaysInThatAreNone(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	p.do(chromedp.Navigate(p.url()))
	p.says("h1", "Collect on this device")
	p.fill("#code", "https://elsewhere.example/menu")
	p.press("Enrol")
	p.says("main", "This is no enrolment code.")
	p.fill("#code", "ABCD-EFGH-IJKL-MNOP")
	p.press("Enrol")
	p.says("main .wrong", "code")
	p.signal(false)
	p.fill("#code", p.bed.Code("mira"))
	p.press("Enrol")
	p.says("main", "There is no signal. The first time needs some")
}

// In German, and from right to left.
func TestLanguages(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	_, bridge := p.ground(office)
	all := demoDefinitions(t)
	p.bed.Define(strings.Replace(all[index(all, "collection: structures")], "languages:\n", "languages:\n  ar: {title: منشآت, fields: {name: {title: الاسم}}}\n", 1))
	p.enrol("mira", "2468")
	p.offline()
	p.visit("/device")
	p.says("main", "Language")
	p.set("#tongue", "de")
	p.says("h1", "Gerät")
	p.visit("/records/structures/" + bridge.String())
	p.says("main", "Brücke")
	p.visit("/records/structures/" + bridge.String() + "/edit")
	p.says("form", "außer Betrieb")
	p.says("form", "Ort")
	p.fill("#location", "46,3")
	p.press("Speichern")
	p.says(".notices", "Auf diesem Gerät gespeichert")
	p.says("main", "46,30000")
	p.visit("/records/trails/new")
	p.fill("#length_km", "1.250")
	p.press("Speichern")
	p.says("#field-length_km .wrong", "Das kann man auf zwei Arten lesen: 1250 oder 1,250 schreiben.")
	p.signal(false)
	p.visit("/")
	p.says("main", "Was es gibt") // also without signal

	p.visit("/device")
	p.set("#tongue", "ar")
	p.says("body", "Device")
	if dir := eval[string](p, `document.documentElement.dir`); dir != "rtl" {
		t.Errorf("Arabic is written %q", dir)
	}
	p.visit("/")
	p.says("main", "منشآت")
	if wide := eval[int](p, `document.documentElement.scrollWidth - innerWidth`); wide > 0 {
		t.Errorf("from right to left the page is %d pixels wider than the screen", wide)
	}
}

// Each text that the app says has its German, and the German says nothing that is not asked for.
func TestTheCatalogueIsWhole(t *testing.T) {
	t.Parallel()
	said := texts(t, "src", "../faces")
	catalogue := words(t, "src/words/de.ts")
	for text := range said {
		if catalogue[text] == "" {
			t.Errorf("no German for %q", text)
		}
		if strings.Count(text, "|") != strings.Count(catalogue[text], "|") {
			t.Errorf("other forms of number: %q", text)
		}
	}
	for text := range catalogue {
		if !said[text] {
			t.Errorf("German for what is not said: %q", text)
		}
	}
}

// Who may only read is shown no way to change anything.
func TestAReaderReads(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	_, bridge := p.ground(office)
	p.enrol("reader", "2468")
	p.visit("/records/structures")
	p.says("main", "2 records")
	for _, path := range []string{"/records/structures", "/records/structures/" + bridge.String()} {
		p.visit(path)
		p.says("body", "Gale Bridge")
		for _, way := range []string{"Add to", "Choose several", "Edit", "Remove"} {
			if text := p.text("main"); strings.Contains(text, way) {
				t.Errorf("%s shows a reader %q:\n%s", path, way, text)
			}
		}
	}
	p.visit("/records/structures/" + bridge.String() + "/edit") // whoever knows the address
	p.fill("#name", "Mine")
	p.press("Save")
	p.says("form", "That may not be done here: the role reader may not change records")
}

// A browser that speaks German gets German, without anybody choosing.
func TestTheBrowsersLanguage(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	_, err := chromedp.Call(p.tab, emulation.SetUserAgentOverride, emulation.SetUserAgentOverrideParams{
		UserAgent: eval[string](p, `navigator.userAgent`), AcceptLanguage: "de-CH"})
	testbed.Must(t, err)
	p.do(chromedp.Navigate(p.url()))
	p.says("h1", "Mit diesem Gerät erfassen")
	if lang := eval[string](p, `document.documentElement.lang`); lang != "de-CH" {
		t.Errorf("the page is said to be in %q", lang)
	}
}

// Where the browser gives no more room, it is said while somebody types, and what they typed stays in the form.
func TestNoRoomForADraft(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	_, bridge := p.ground(office)
	p.enrol("mira", "2468")
	room := func(bytes *float64) {
		t.Helper()
		_, err := chromedp.Call(p.tab, storage.OverrideQuotaForOrigin, storage.OverrideQuotaForOriginParams{Origin: p.way.url, QuotaSize: bytes})
		testbed.Must(t, err)
	}
	p.visit("/records/structures/" + bridge.String() + "/edit")
	p.says("form", "Note")
	none := 1.0
	room(&none)
	long := strings.Repeat("x", 900_000)
	p.set("#note", long)
	p.says("form", "What you type is not being kept: This device is full")
	if got := p.box("#note"); got != long {
		t.Errorf("the form has %d of %d characters", len(got), len(long))
	}
	room(nil)
	p.set("#note", "Two boards are loose")
	p.saysNot("form", "is not being kept")
	p.press("Save")
	p.says("main", "Two boards are loose")
}
