package console_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"homing/central"
	"homing/console"
	"homing/core/query"
	"homing/device"
	"homing/internal/browser"
	"homing/internal/testbed"
	"homing/service"
)

var chromium browser.Shared

func TestMain(m *testing.M) { testbed.Main(m, chromium.End) }

// page is a browser on the console of a running central.
type page struct {
	t   *testing.T
	bed *testbed.Bed
	tab context.Context
}

func open(t *testing.T, width int, change ...func(*service.Options)) *page {
	t.Helper()
	bed := testbed.Start(t, append(change, func(o *service.Options) { o.Console = console.Files() })...)
	tab, end, err := chromium.Tab(width, 800)
	testbed.Must(t, err)
	t.Cleanup(end)
	// A page holds on to live events, and what serves them waits for it: it goes before all that the test cleans up.
	context.AfterFunc(t.Context(), end)
	tab, cancel := context.WithTimeout(tab, 4*time.Minute)
	t.Cleanup(cancel)
	return &page{t, bed, tab}
}

func (p *page) do(actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	for _, action := range actions {
		err := chromedp.Do(p.tab, action)
		// What was found may be drawn anew before it is pressed, as a row that has just changed: whoever looks presses what is there.
		for tries := 0; tries < 5 && err != nil && strings.Contains(err.Error(), "Could not find node"); tries++ {
			err = chromedp.Do(p.tab, action)
		}
		if err != nil {
			p.t.Fatalf("%v; the page reads:\n%s", err, p.text("body"))
		}
	}
}

func (p *page) visit(path string) { p.t.Helper(); p.do(chromedp.Navigate(p.bed.URL() + path)) }

// another opens a second tab, and goes on there.
func (p *page) another() {
	p.t.Helper()
	tab, end := chromedp.NewContext(p.tab)
	p.t.Cleanup(end)
	p.tab = tab
	p.do(chromedp.EmulateViewport(1280, 800))
}

// speaks is the language of the browser.
func (p *page) speaks(locale string) {
	p.t.Helper()
	if _, err := chromedp.Call(p.tab, emulation.SetLocaleOverride, emulation.SetLocaleOverrideParams{Locale: locale}); err != nil {
		p.t.Fatal(err)
	}
}

// looks is the look that the system asks for, with nothing that moves.
func (p *page) looks(look string) {
	p.t.Helper()
	if _, err := chromedp.Call(p.tab, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: look}, {Name: "prefers-reduced-motion", Value: "reduce"}}}); err != nil {
		p.t.Fatal(err)
	}
}

// text is what an element shows, or empty when there is none.
func (p *page) text(selector string) string {
	p.t.Helper()
	text, err := chromedp.Run(
		p.tab,
		chromedp.Evaluate[string](fmt.Sprintf(`document.querySelector(%q)?.innerText ?? ""`,
			selector)),
	)
	if err != nil {
		p.t.Fatal(err)
	}
	return text
}

// says waits until an element shows a text.
func (p *page) says(selector, text string) {
	p.t.Helper()
	p.saysWithin(time.Minute, selector, text) // a busy machine is no fault of the page's
}

// saysWithin does that for what takes long, such as what the machine works out on its own.
func (p *page) saysWithin(patience time.Duration, selector, text string) {
	p.t.Helper()
	for limit := time.Now().Add(patience); time.Now().Before(limit); time.Sleep(40 * time.Millisecond) {
		if strings.Contains(p.text(selector), text) {
			return
		}
	}
	p.t.Fatalf("%s does not come to say %q; the page reads:\n%s", selector, text, p.text("body"))
}

// saysNot waits until an element no longer shows a text.
func (p *page) saysNot(selector, text string) {
	p.t.Helper()
	for range 200 {
		if !strings.Contains(p.text(selector), text) {
			return
		}
		time.Sleep(40 * time.Millisecond)
	}
	p.t.Fatalf("%s goes on saying %q", selector, text)
}

func (p *page) signIn(worker, password string) {
	p.t.Helper()
	p.fill("input[name=worker]", worker)
	p.fill("input[name=password]", password+"\r")
}

// fill types a text into a field, over what stands in it.
func (p *page) fill(selector, text string) {
	p.t.Helper()
	p.do(chromedp.WaitVisible(chromedp.CSS(selector)))
	if strings.Contains(selector, ".p-dialog") {
		p.opened()
	}
	if _, err := chromedp.Run(p.tab,
		chromedp.Evaluate[bool](fmt.Sprintf(`(() => { const e = document.querySelector(%q); e.focus(); e.select(); return true })()`, selector))); err != nil {
		p.t.Fatal(err)
	}
	p.do(chromedp.SendKeys(chromedp.CSS(selector), text))
	if strings.ContainsAny(text, "\r\t") {
		return // the key has sent the form off, or left the field
	}
	p.holds(selector, text) // the browser takes keys one after the other, and may not be done yet
}

// holds waits until a field holds a text.
func (p *page) holds(selector, text string) {
	p.t.Helper()
	got := ""
	for range 100 {
		var err error
		if got, err = chromedp.Run(p.tab, chromedp.Evaluate[string](fmt.Sprintf(`document.querySelector(%q)?.value ?? ""`,
			selector))); err != nil {
			p.t.Fatal(err)
		}
		if got == text {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	p.t.Fatalf("%s holds %q, want %q", selector, got, text)
}

// press clicks the button with a label.
func (p *page) press(label string) {
	p.t.Helper()
	p.do(chromedp.Click(fmt.Sprintf(`//button[contains(normalize-space(.), %q)]`, label)))
}

// answer presses a button of the dialog that asks whether one is sure.
func (p *page) answer(label string) {
	p.t.Helper()
	p.do(
		chromedp.Click(
			fmt.Sprintf(`//div[contains(@class, "p-confirmdialog")]//button[contains(normalize-space(.), %q)]`, label),
		),
	)
}

// confirm is answer, and waits until the dialog has gone.
func (p *page) confirm(label string) {
	p.t.Helper()
	p.answer(label)
	p.closed()
}

// opened waits until a dialog has opened for good: it takes the focus when it has, also from who types already, and
// what is pressed before it stands still may be missed.
func (p *page) opened() {
	p.t.Helper()
	for range 500 {
		inside, err := chromedp.Run(p.tab, chromedp.Evaluate[bool](
			`!!document.activeElement?.closest(".p-dialog") && !document.querySelector(".p-dialog-enter-active")`))
		if err != nil {
			p.t.Fatal(err)
		}
		if inside {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	p.t.Fatal("no dialog has taken the focus")
}

// focused waits until the input of a field has the focus.
func (p *page) focused(field string) {
	p.t.Helper()
	for range 500 {
		is, err := chromedp.Run(p.tab, chromedp.Evaluate[bool](
			fmt.Sprintf(`document.activeElement?.closest("label")?.htmlFor === %q`, field)))
		if err != nil {
			p.t.Fatal(err)
		}
		if is {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	p.t.Fatalf("the field %s has not taken the focus", field)
}

// choose opens a list of choices and takes one, when the list stands still: what is pressed before may be missed.
func (p *page) choose(selector, label string) {
	p.t.Helper()
	p.do(chromedp.Click(chromedp.CSS(selector)), chromedp.WaitVisible(fmt.Sprintf(`//li[contains(., %q)]`, label)))
	for range 500 {
		still, err := chromedp.Run(p.tab, chromedp.Evaluate[bool](
			`document.querySelector(".p-select-overlay")?.getAnimations({subtree: true}).length === 0`))
		if err != nil {
			p.t.Fatal(err)
		}
		if still {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	p.do(chromedp.Click(fmt.Sprintf(`//li[contains(., %q)]`, label)))
	p.says(selector, label)
}

// closed waits until no dialog is open.
func (p *page) closed() {
	p.t.Helper()
	p.do(chromedp.WaitNotPresent(chromedp.CSS(".p-dialog-mask")))
}

func TestSigningIn(t *testing.T) {
	p := open(t, 1280)
	p.visit("/")
	p.signIn("lead", "wrong password")
	p.says("form", "do not fit together")
	p.signIn("lead", testbed.Password)
	p.says(".bar", "lead")
	p.says(".page", "Trails")
	p.do(chromedp.Click(chromedp.CSS(`button[aria-label="Sign out"]`)))
	p.says("form", "Sign in")
	p.visit("/devices")
	p.says("form", "Sign in")
}

// An edit on a device shows in an open page without reload, and an edit in the page reaches the device with its next
// pull.
func TestTheWayThereAndBack(t *testing.T) {
	p := open(t, 1280)
	store := p.bed.Device("worker", "Valley tablet", device.Options{})
	testbed.Exchange(t, store)
	p.visit("/records/trails")
	p.signIn("lead", testbed.Password)
	p.says(".page", "No records yet")
	p.says(".live", "live")

	trail, err := store.Add(t.Context(), "trails", device.Fields{"name": "Ridge Path", "length_km": 4.5})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	p.says("tbody", "Ridge Path")
	_, err = store.Edit(t.Context(), "trails", trail.ID, device.Fields{"state": "closed"})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	p.says("tbody", "closed")

	p.do(chromedp.Click(chromedp.CSS("tbody tr")))
	p.says(".trail", "Valley tablet")
	p.says(".trail", "Revision 2")
	p.press("Edit")
	p.fill("input#name", "Upper Ridge Path")
	p.press("Save")
	p.says("h1", "Upper Ridge Path")
	p.says(".trail", "at central")
	if _, err := store.Pull(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	if got, err := store.Get(t.Context(), "trails", trail.ID); err != nil || got.Label != "Upper Ridge Path" ||
		got.Revision != 3 {
		t.Errorf("the device has %+v, %v", got, err)
	}

	p.press("Remove")
	p.says(".p-confirmdialog", "Its history stays")
	p.confirm("Remove")
	p.says(".head", "removed")
	p.press("Bring back")
	p.says(".head", "revision 5")
	testbed.Exchange(t, store)
	p.bed.Same(store)
}

// What is wrong with a record is said beside its field, and nothing that was typed is lost.
func TestFormsSayWhatIsWrong(t *testing.T) {
	p := open(t, 1280)
	p.visit("/records/trails")
	p.signIn("lead", testbed.Password)
	p.says(".page", "No records yet")
	p.press("Add")
	p.fill(".p-dialog input#length_km", "-3\t")
	p.do(chromedp.Click(chromedp.CSS(`.p-dialog button[type=submit]`)))
	p.says(".p-dialog", "a value is required")
	p.focused("name")
	p.fill(".p-dialog input#name", "Ridge")
	p.do(chromedp.Click(chromedp.CSS(`.p-dialog button[type=submit]`)))
	p.says(".p-dialog label[for=length_km]", "must be at least 0, is -3")
	p.saysNot(".p-dialog label[for=name]", "required")
	p.says(".p-dialog label[for=length_km]", "must be at least 0")
	p.holds(".p-dialog input#name", "Ridge")
}

// A form for a new record starts with what the definition says.
func TestFormsStartWithDefaults(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define("collection: posts\nlabel: \"{name}\"\nfields:\n  name: {type: string, default: Post}\n  note: {type: string, default: new}\n")
	p.visit("/records/posts")
	p.signIn("lead", testbed.Password)
	p.says(".page", "No records yet")
	p.press("Add")
	p.holds(".p-dialog input#name", "Post")
	p.holds(".p-dialog input#note", "new")
	p.do(chromedp.Click(chromedp.CSS(`.p-dialog button[type=submit]`)))
	p.says(".page", "1 record")
	listing, err := p.bed.Central.List(t.Context(), central.Everything("lead"), "posts", query.Ask{})
	if err != nil || len(listing.Records) != 1 || string(listing.Records[0].Fields) != `{"name":"Post","note":"new"}` {
		t.Errorf("central has %+v, %v", listing, err)
	}
}

// What a role may not do is not offered.
func TestRolesSeeWhatTheyMay(t *testing.T) {
	p := open(t, 1280)
	p.visit("/records/trails")
	p.signIn("reader", testbed.Password)
	p.says(".page", "No records yet")
	if text := p.text("body"); strings.Contains(text, "Add") || strings.Contains(text, "People") {
		t.Errorf("a reader is offered:\n%s", text)
	}
}

func TestDevicesPage(t *testing.T) {
	p := open(t, 1280)
	p.visit("/devices")
	p.signIn("admin", testbed.Password)
	p.says(".page", "No device is enrolled yet")
	store := p.bed.Device("worker", "Valley tablet",
		device.Options{Now: func() time.Time { return time.Now().Add(2 * time.Hour) }})
	p.says("tbody", "Valley tablet")
	testbed.Exchange(t, store)
	p.says("tbody", "2.0 h ahead")
	p.says("tbody", "nothing")
	p.press("Revoke")
	p.says(".p-dialog", "can no longer push or pull")
	p.do(chromedp.Click(`//div[contains(@class, "p-dialog")]//button[normalize-space(.)="Revoke"]`))
	p.closed()
	p.says("tbody", "revoked")
	p.press("Readmit")
	p.says("tbody", "Revoke")
	p.press("Enrol a device")
	p.press("Issue a code")
	p.says(".p-dialog", "It is shown this once")
}

// A phone shows cards instead of a table, and nothing is wider than the screen.
func TestOnAPhone(t *testing.T) {
	p := open(t, 390)
	store := p.bed.Device("worker", "Valley tablet", device.Options{})
	testbed.Exchange(t, store)
	_, err := store.Add(t.Context(), "trails", device.Fields{"name": "Ridge Path", "state": "open"})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	p.visit("/records/trails")
	p.signIn("lead", testbed.Password)
	p.says(".card", "Ridge Path")
	for _, path := range []string{"/", "/records/trails", "/devices", "/exchanges"} {
		p.visit(path)
		p.says(".bar", "lead")
		wide, err := chromedp.Run(p.tab,
			chromedp.Evaluate[int](`document.documentElement.scrollWidth - document.documentElement.clientWidth`))
		if err != nil || wide > 0 {
			t.Errorf("%s is %d pixels too wide, %v", path, wide, err)
		}
	}
}

// While central is open, every page says so, and nobody is asked to sign in.
func TestOpen(t *testing.T) {
	p := open(t, 1280, func(o *service.Options) { o.Open = true })
	p.visit("/")
	p.says(".open", "Central is open")
	p.says(".page", "Trails")
}

// When central goes away, the page says so.
func TestCentralGoesAway(t *testing.T) {
	p := open(t, 1280)
	p.visit("/")
	p.signIn("lead", testbed.Password)
	p.says(".live", "live")
	p.bed.Stop()
	p.says(".live", "no connection")
	p.do(chromedp.Click(`//a[contains(., "Devices")]`))
	p.says(".problem", "cannot be reached")
}
