package field_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	browserp "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"homing/core/rights"
	"homing/field"
	"homing/internal/browser"
	"homing/internal/testbed"
	"homing/service"
)

func TestMain(m *testing.M) { testbed.Main(m) }

// phone is the field app in a browser of the width of a phone, at a running central.
type phone struct {
	t       *testing.T
	bed     *testbed.Bed
	way     *way
	profile string
	tab     context.Context
	end     func()
}

// demoDefinitions are those of the demo.
func demoDefinitions(t *testing.T) (all []string) {
	t.Helper()
	files, err := filepath.Glob("../demo/definitions/*.yaml")
	testbed.Must(t, err)
	for _, file := range files {
		text, err := os.ReadFile(file)
		testbed.Must(t, err)
		all = append(all, string(text))
	}
	return all
}

// newPhone starts central with the demo's definitions, and a browser that has never been there.
func newPhone(t *testing.T) *phone {
	t.Helper()
	bed := testbed.Start(t, func(o *service.Options) { o.Field = field.Files() })
	bed.Define(demoDefinitions(t)...)
	for _, name := range []string{"mira", "tobin"} {
		testbed.Must(t, bed.Central.AddWorker(t.Context(), name, rights.Worker, testbed.Password))
	}
	p := &phone{t: t, bed: bed, way: newWay(t, bed.URL()), profile: t.TempDir()}
	p.start()
	t.Cleanup(func() { p.end() })
	return p
}

// start opens the browser, with all that it has kept.
func (p *phone) start() {
	p.t.Helper()
	os.Remove(p.profile + "/SingletonLock") // of one that was killed
	var err error
	p.tab, p.end, err = browser.StartIn(p.t.Context(), p.profile, 360, 740)
	testbed.Must(p.t, err)
	p.limit()
}

// limit lets nothing wait for ever.
func (p *phone) limit() {
	tab, cancel := context.WithTimeout(p.tab, 8*time.Minute)
	end := p.end
	p.tab, p.end = tab, func() { cancel(); end() }
}

// kill ends the browser as a power cut would.
func (p *phone) kill() {
	p.t.Helper()
	process := chromedp.FromContext(p.tab).Browser.Process()
	testbed.Must(p.t, process.Kill())
	process.Wait() // says that it was killed
	p.end()
}

func (p *phone) do(actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	for _, action := range actions {
		err := chromedp.Do(p.tab, action)
		// What was found may be drawn anew before it is pressed: whoever looks presses what is there.
		for tries := 0; tries < 5 && err != nil && strings.Contains(err.Error(), "Could not find node"); tries++ {
			err = chromedp.Do(p.tab, action)
		}
		if err != nil {
			p.t.Fatalf("%v; the page reads:\n%s", err, p.text("body"))
		}
	}
}

func (p *phone) url() string { return p.way.url + "/field/" }

// visit opens a path of the app.
func (p *phone) visit(path string) {
	p.t.Helper()
	p.do(chromedp.Navigate("about:blank"), chromedp.Navigate(p.url()+"#"+path))
}

func eval[T any](p *phone, script string, options ...chromedp.EvaluateOption) T {
	p.t.Helper()
	got, err := chromedp.Run(p.tab, chromedp.Evaluate[T](script, options...))
	if err != nil {
		p.t.Fatalf("%s: %v", script, err)
	}
	return got
}

// text is what an element shows, or empty when there is none, or while the page is being loaded anew.
func (p *phone) text(selector string) string {
	p.t.Helper()
	got, err := chromedp.Run(p.tab, chromedp.Evaluate[string](fmt.Sprintf(`document.querySelector(%q)?.innerText ?? ""`, selector)))
	if err != nil && strings.Contains(err.Error(), "Inspected target navigated or closed") {
		return ""
	}
	testbed.Must(p.t, err)
	return got
}

// patience is how long a page may take to come to something: a busy machine is no fault of the app's.
const patience = time.Minute

// says waits until an element shows a text.
func (p *phone) says(selector, text string) {
	p.t.Helper()
	p.saysWithin(patience, selector, text)
}

// saysWithin waits for as long as what is asked for may take.
func (p *phone) saysWithin(patience time.Duration, selector, text string) {
	p.t.Helper()
	for limit := time.Now().Add(patience); time.Now().Before(limit); time.Sleep(40 * time.Millisecond) {
		if strings.Contains(p.text(selector), text) {
			return
		}
	}
	p.t.Fatalf("%s does not come to say %q; the page reads:\n%s", selector, text, p.text("body"))
}

// saysNot waits until an element no longer shows a text.
func (p *phone) saysNot(selector, text string) {
	p.t.Helper()
	for limit := time.Now().Add(patience); time.Now().Before(limit); time.Sleep(40 * time.Millisecond) {
		if !strings.Contains(p.text(selector), text) {
			return
		}
	}
	p.t.Fatalf("%s goes on saying %q; the page reads:\n%s", selector, text, p.text("body"))
}

// press presses what has a name, within an element: a button, a link, a summary.
func (p *phone) press(name string, within ...string) {
	p.t.Helper()
	root := "body"
	if len(within) > 0 {
		root = within[0]
	}
	// What a screen reader says: the label, or what it shows. A dialog that is open hides the page.
	script := fmt.Sprintf(`(() => {
		const root = [...document.querySelectorAll('dialog[open]')].at(-1) ?? document.querySelector(%q)
		const all = [...(root?.querySelectorAll('button, a, summary, label.switch') ?? [])]
		const named = (e) => (e.getAttribute('aria-label') ?? e.innerText).replace(/\s+/g, ' ').trim()
		const one = all.find((e) => named(e) === %q && !e.disabled) ?? all.find((e) => named(e).startsWith(%q) && !e.disabled)
		one?.scrollIntoView({ block: 'center' })
		one?.click()
		return !!one
	})()`, root, name, name)
	for limit := time.Now().Add(patience); time.Now().Before(limit); time.Sleep(40 * time.Millisecond) {
		if eval[bool](p, script) {
			return
		}
	}
	p.t.Fatalf("nothing is there to press that is called %q; the page reads:\n%s", name, p.text("body"))
}

// fill types a text into a box, over what stands in it, key by key.
func (p *phone) fill(selector, text string) {
	p.t.Helper()
	p.do(chromedp.WaitVisible(chromedp.CSS(selector)))
	eval[bool](p, fmt.Sprintf(`(() => { const e = document.querySelector(%q); e.scrollIntoView({ block: 'center' }); e.focus(); e.select?.(); return true })()`, selector))
	if text == "" {
		text = kb.Backspace
	}
	p.do(chromedp.SendKeys(chromedp.CSS(selector), text))
}

// set gives a box of the browser's own a value, such as a date, as its picker would.
func (p *phone) set(selector, value string) {
	p.t.Helper()
	p.do(chromedp.WaitVisible(chromedp.CSS(selector)))
	eval[bool](p, fmt.Sprintf(`(() => { const e = document.querySelector(%q); e.value = %q; e.dispatchEvent(new Event('input', { bubbles: true }));
		e.dispatchEvent(new Event('change', { bubbles: true })); return true })()`, selector, value))
}

// enrol goes the way in as a worker does: the link, the PIN, the first load.
func (p *phone) enrol(worker, pin string) {
	p.t.Helper()
	p.do(chromedp.Navigate(p.way.url + "/enrol#" + p.bed.Code(worker)))
	p.says("h1", "Collect on this device")
	p.press("Enrol")
	p.says("h1", "Set a PIN")
	p.fill("#pin", pin)
	p.fill("#again", pin)
	p.press("Set it and load")
	p.says(".tabs", "Records")
}

// looks is the look that the system asks for, with nothing that moves.
func (p *phone) looks(look string) {
	p.t.Helper()
	_, err := chromedp.Call(p.tab, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: look}, {Name: "prefers-reduced-motion", Value: "reduce"}}})
	testbed.Must(p.t, err)
}

// stands puts the phone somewhere, as well as its receiver knows.
func (p *phone) stands(lon, lat, accuracy float64) {
	p.t.Helper()
	p.allow("geolocation", browserp.PermissionSettingGranted)
	_, err := chromedp.Call(p.tab, emulation.SetGeolocationOverride, emulation.SetGeolocationOverrideParams{Latitude: &lat, Longitude: &lon, Accuracy: &accuracy})
	testbed.Must(p.t, err)
}

// allow says what whoever holds the phone answers when the browser asks.
func (p *phone) allow(what string, answer browserp.PermissionSetting) {
	p.t.Helper()
	_, err := chromedp.CallBrowser(p.tab, browserp.SetPermission, browserp.SetPermissionParams{Permission: &browserp.PermissionDescriptor{Name: what}, Setting: answer})
	testbed.Must(p.t, err)
}
