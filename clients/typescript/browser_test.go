package typescript_test

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/cdproto/storage"
	"github.com/chromedp/chromedp"
	"github.com/google/uuid"

	"homing/device"
	"homing/internal/browser"
	"homing/internal/testbed"
	"homing/service"
	"homing/web"
)

func TestMain(m *testing.M) { testbed.Main(m) }

const trails = "collection: trails\nlabel: \"{name}\"\nfields:\n  name: {type: string}\n  walked: {type: integer}\nsync: {rules: {walked: sum}}\n"

// field is where an app in a browser is tried: its pages, a central that lets them in, and a way between that can be gone.
type field struct {
	t       *testing.T
	bed     *testbed.Bed
	app     string
	way     string
	gone    atomic.Bool
	profile string
	browser context.Context
	end     func()
}

// denied is a worker in a browser that keeps no files for a page, as in some private windows.
var denied = map[string]string{
	"/denied.js": `import "./deny.js"; import "./worker.js";`,
	"/deny.js":   `navigator.storage.getDirectory = () => Promise.reject(new DOMException("no", "SecurityError"));`,
}

func newField(t *testing.T) *field {
	t.Helper()
	f := &field{t: t, profile: t.TempDir()}
	mux := http.NewServeMux()
	mux.Handle("/", http.FileServer(http.Dir("dist")))
	for name, script := range denied {
		mux.HandleFunc(name, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/javascript")
			fmt.Fprint(w, script)
		})
	}
	var asked atomic.Bool
	mux.HandleFunc("/late.js", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/javascript")
		w.Header().Set("Cache-Control", "no-store")
		if asked.CompareAndSwap(false, true) {
			fmt.Fprint(w, `// The first worker of it never says anything.`)
			return
		}
		fmt.Fprint(w, `import "./worker.js";`)
	})
	pages := httptest.NewServer(mux)
	t.Cleanup(pages.Close)
	f.app = pages.URL + "/trailnotes/"
	origins, err := web.ParseOrigins([]string{pages.URL})
	testbed.Must(t, err)
	f.bed = testbed.Start(t, func(o *service.Options) { o.Origins = origins })
	f.bed.Define(trails)
	central, err := url.Parse(f.bed.URL())
	testbed.Must(t, err)
	through := httputil.NewSingleHostReverseProxy(central)
	way := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if f.gone.Load() {
			panic(http.ErrAbortHandler) // no signal
		}
		through.ServeHTTP(w, r)
	}))
	t.Cleanup(way.Close)
	f.way = way.URL
	f.open()
	t.Cleanup(func() { f.end() })
	return f
}

// open starts the browser, with all that it has kept.
func (f *field) open() {
	f.t.Helper()
	path, err := exec.LookPath("chromium")
	testbed.Must(f.t, err)
	os.Remove(f.profile + "/SingletonLock") // of one that was killed
	allocator, end := chromedp.NewExecAllocator(f.t.Context(), chromedp.ExecPath(path), chromedp.UserDataDir(f.profile), chromedp.Headless, chromedp.NoSandbox,
		chromedp.DisableGPU, chromedp.NoFirstRun, chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("disable-features", browser.WithoutAddressBar))
	tab, endTab := chromedp.NewContext(allocator)
	f.browser, f.end = tab, func() { endTab(); end() }
	testbed.Must(f.t, chromedp.Do(tab, chromedp.Navigate("about:blank"))) // starts it, for as long as the test goes on
	f.load(tab)
}

// tab opens another page of the browser.
func (f *field) tab() context.Context {
	f.t.Helper()
	tab, end := chromedp.NewContext(f.browser)
	f.t.Cleanup(end)
	testbed.Must(f.t, chromedp.Do(tab, chromedp.Navigate("about:blank")))
	return tab
}

// kill ends the browser as a power cut would.
func (f *field) kill() {
	f.t.Helper()
	process := chromedp.FromContext(f.browser).Browser.Process()
	testbed.Must(f.t, process.Kill())
	process.Wait() // says that it was killed
	f.end()
}

func (f *field) load(tab context.Context) {
	f.t.Helper()
	ctx, cancel := context.WithTimeout(tab, time.Minute)
	defer cancel()
	testbed.Must(f.t, chromedp.Do(ctx, chromedp.Navigate(f.app)))
}

// eval runs a script that gives a text, once the page knows its store.
func (f *field) eval(tab context.Context, script string) string {
	f.t.Helper()
	ctx, cancel := context.WithTimeout(tab, time.Minute)
	defer cancel()
	got, err := chromedp.Run(ctx, chromedp.Evaluate[string](script))
	if err != nil {
		f.t.Fatalf("%s: %v", script, err)
	}
	return got
}

// waits until a script gives a text that holds another.
func (f *field) until(tab context.Context, script, holds string) {
	f.t.Helper()
	got := ""
	for limit := time.Now().Add(20 * time.Second); time.Now().Before(limit); time.Sleep(50 * time.Millisecond) {
		if got = f.eval(tab, script); strings.Contains(got, holds) {
			return
		}
	}
	f.t.Fatalf("%s gives %q, and never %q; the page says %q", script, got, holds, f.eval(tab, said))
}

const (
	said = `document.getElementById("said").textContent`
	list = `document.getElementById("list").textContent`
)

func (f *field) click(tab context.Context, id string) {
	f.t.Helper()
	f.eval(tab, fmt.Sprintf(`document.getElementById(%q).click(), ""`, id))
}

func (f *field) enrol(tab context.Context) {
	f.t.Helper()
	f.until(tab, `String(!document.getElementById("enrol").hidden)`, "true")
	f.eval(tab, fmt.Sprintf(`(() => { const form = document.getElementById("enrol"); form.central.value = %q; form.code.value = %q; form.requestSubmit(); return "" })()`,
		f.way, f.bed.Code("worker")))
}

func (f *field) add(tab context.Context, name string) {
	f.t.Helper()
	f.eval(tab, fmt.Sprintf(`(() => { const form = document.getElementById("add"); form.name = undefined; form.elements.name.value = %q; form.requestSubmit(); return "" })()`, name))
}

// has says how many records central has of a name.
func (f *field) has(search string) int {
	f.t.Helper()
	status, text := f.bed.Call("GET", "/v1/records/trails?search="+url.QueryEscape(search), f.bed.SignIn("lead"), nil)
	var got struct{ Total int }
	if err := json.Unmarshal(text, &got); err != nil || status != 200 {
		f.t.Fatalf("%d %s", status, text)
	}
	return got.Total
}

// P1, P9: the example opens and saves without signal, keeps what was saved when the browser is killed right after it, and sends it
// once signal is back.
func TestTheExampleWithoutSignal(t *testing.T) {
	f := newField(t)
	f.bed.Call("POST", "/v1/records/trails", f.bed.SignIn("lead"), map[string]any{"fields": map[string]any{"name": "Known before"}})
	f.enrol(f.browser)
	f.until(f.browser, list, "Known before")
	f.gone.Store(true)
	f.add(f.browser, "Ridge Path")
	f.until(f.browser, list, "Ridge Path (unsent)")
	f.kill()
	f.open()
	f.until(f.browser, list, "Ridge Path (unsent)")
	f.until(f.browser, list, "Known before")
	f.click(f.browser, "exchange")
	f.until(f.browser, said, "cannot be reached")
	if n := f.has("Ridge Path"); n != 0 {
		t.Fatalf("central has %d without signal", n)
	}
	f.gone.Store(false)
	f.click(f.browser, "exchange")
	f.until(f.browser, said, "1 sent")
	if got := f.eval(f.browser, list); strings.Contains(got, "unsent") {
		t.Errorf("it shows %s", got)
	}
	if n := f.has("Ridge Path"); n != 1 {
		t.Errorf("central has %d", n)
	}
}

// Two pages of one origin share a store: each shows at once what the other saves, and when the one that has it open is closed,
// the other goes on with it.
func TestTwoTabs(t *testing.T) {
	f := newField(t)
	f.enrol(f.browser)
	f.until(f.browser, `String(document.getElementById("notes").hidden)`, "false")
	second := f.tab()
	f.load(second)
	f.until(second, `String(document.getElementById("notes").hidden)`, "false")
	f.add(second, "From the second")
	f.until(f.browser, list, "From the second")
	f.add(f.browser, "From the first")
	f.until(second, list, "From the first")
	third := f.tab()
	f.load(third)
	// The first page had the store; it is closed with whatever it was about to do.
	testbed.Must(t, chromedp.Do(f.browser, chromedp.Navigate("about:blank")))
	f.add(second, "After it was closed")
	f.until(second, list, "After it was closed")
	f.until(third, list, "After it was closed")
	f.click(third, "exchange")
	f.until(third, said, "3 sent")
	for _, name := range []string{"From the first", "From the second", "After it was closed"} {
		if n := f.has(name); n != 1 {
			t.Errorf("central has %s %d times", name, n)
		}
	}
}

// P3: a first load of thousands of records that is cut by a kill of the browser goes on where it was, and ends with what central has.
func TestKilledInALoad(t *testing.T) {
	f := newField(t)
	token := f.bed.SignIn("lead")
	const records, atOnce = 20_000, 1000
	for n := 0; n < records; n += atOnce {
		rows := make([]map[string]any, atOnce)
		for k := range rows {
			rows[k] = map[string]any{"name": fmt.Sprintf("Trail %05d", n+k), "walked": k}
		}
		if status, text := f.bed.Call("PUT", "/v1/rows/trails", token, map[string]any{"rows": rows}); status != 200 {
			t.Fatalf("%d %s", status, text)
		}
	}
	f.enrol(f.browser)
	f.until(f.browser, said, "pull: ")
	f.kill()
	f.open()
	f.until(f.browser, `String(document.getElementById("notes").hidden)`, "false")
	f.click(f.browser, "exchange")
	f.until(f.browser, said, "received")
	status, text := f.bed.Call("GET", "/v1/fingerprint/trails", token, nil)
	var central struct {
		Records     int
		Fingerprint string
	}
	if err := json.Unmarshal(text, &central); err != nil || status != 200 || central.Records != records {
		t.Fatalf("%d %s", status, text)
	}
	f.until(f.browser, `String(document.getElementById("list").children.length)`, "1000")
	if got := f.eval(f.browser, said); !strings.Contains(got, "received") {
		t.Errorf("the page says %s", got)
	}
}

// P1: where the browser gives no more room, a save says so and nothing of it is there; what was saved before stays, and goes to central.
func TestNoMoreRoom(t *testing.T) {
	f := newField(t)
	f.enrol(f.browser)
	f.until(f.browser, `String(document.getElementById("notes").hidden)`, "false")
	f.add(f.browser, "Saved before")
	f.until(f.browser, list, "Saved before")
	at, err := url.Parse(f.app)
	testbed.Must(t, err)
	room := func(bytes *float64) {
		t.Helper()
		_, err := chromedp.Call(f.browser, storage.OverrideQuotaForOrigin, storage.OverrideQuotaForOriginParams{Origin: "http://" + at.Host, QuotaSize: bytes})
		testbed.Must(t, err)
	}
	few := float64(3 << 20)
	room(&few)
	for n := range 40 {
		f.add(f.browser, fmt.Sprintf("Large %02d %s", n, strings.Repeat("x", 200_000)))
		f.until(f.browser, `String(document.getElementById("add").elements.name.value === "" || document.getElementById("said").textContent.includes("room"))`, "true")
		if strings.Contains(f.eval(f.browser, said), "room") {
			break
		}
	}
	f.until(f.browser, said, "no more room. Nothing of this was saved")
	saved := strings.Count(f.eval(f.browser, list), "Large")
	room(nil)
	f.click(f.browser, "exchange")
	f.until(f.browser, said, fmt.Sprintf("%d sent", saved+1))
	if n := f.has("Large"); n != saved {
		t.Errorf("%d were saved, and central has %d", saved, n)
	}
}

// P1: where somebody has the browser clear what a page stored while it is open, a save says so in place of claiming that it is
// kept; what was unsent is still there, and goes to central.
func TestStorageClearedUnderIt(t *testing.T) {
	f := newField(t)
	f.device(f.browser, "own")
	f.mustRun(f.browser, fmt.Sprintf(`await store.enrol(%q, %q, "phone"); await store.exchange(); await store.add("trails", { name: "Before" })`,
		f.way, f.bed.Code("worker")))
	at, err := url.Parse(f.app)
	testbed.Must(t, err)
	_, err = chromedp.Call(f.browser, storage.ClearDataForOrigin, storage.ClearDataForOriginParams{Origin: "http://" + at.Host, StorageTypes: "all"})
	testbed.Must(t, err)
	if got := f.run(f.browser, `await store.add("trails", { name: "After" })`); !strings.Contains(got, "DeviceError cleared: the browser has cleared") {
		t.Errorf("a save after that: %s", got)
	}
	f.mustRun(f.browser, `await store.exchange()`)
	if before, after := f.has("Before"), f.has("After"); before != 1 || after != 0 {
		t.Errorf("central has what was unsent %d times, and what was not saved %d times", before, after)
	}
}

// A browser that keeps nothing for a page says so in words.
func TestNoStorage(t *testing.T) {
	f := newField(t)
	f.eval(f.browser, `(async () => {
		const { open } = await import("/browser.js");
		window.denied = await open("denied", { worker: "/denied.js" }).then(() => "opened", (error) => error.name + " " + error.code + ": " + error.message);
	})(), ""`)
	f.until(f.browser, `window.denied ?? ""`, "DeviceError no-storage: this browser keeps no files")
	f.mustRun(f.browser, `window.homing = await import("/browser.js")`)
	if got := f.run(f.browser, `await homing.open("lost", { worker: "/not-there.js" })`); !strings.Contains(got, "cannot be started from /not-there.js") {
		t.Errorf("a worker that is not there: %s", got)
	}
}

// device opens a store of a page's own, and gives it to scripts as the variable store.
func (f *field) device(tab context.Context, name string) {
	f.t.Helper()
	f.run(tab, fmt.Sprintf(`window.homing = await import("/browser.js"); window.store = await homing.open(%q)`, name))
}

// run runs a script that may wait for something, and gives what it returns.
func (f *field) run(tab context.Context, script string) string {
	f.t.Helper()
	f.eval(tab, fmt.Sprintf(`window.came = undefined, (async () => { %s })().then((got) => { window.came = "got " + (got ?? ""); },
		(error) => { window.came = "threw " + error.name + " " + (error.code ?? "") + ": " + error.message }), ""`, script))
	for limit := time.Now().Add(time.Minute); time.Now().Before(limit); time.Sleep(20 * time.Millisecond) {
		if came := f.eval(tab, `window.came ?? ""`); came != "" {
			return came
		}
	}
	f.t.Fatalf("nothing came of %.200s", script)
	return ""
}

// mustRun is that for a script that is to go well.
func (f *field) mustRun(tab context.Context, script string) string {
	f.t.Helper()
	got, well := strings.CutPrefix(f.run(tab, script), "got ")
	if !well {
		f.t.Fatalf("%.200s: %s", script, got)
	}
	return got
}

// A store that exchanges by itself gets what others do as soon as central says so, sends what was saved without signal once
// that is back, and does so in one page, however many ask for it.
func TestExchangesByThemselves(t *testing.T) {
	f := newField(t)
	f.device(f.browser, "own")
	f.mustRun(f.browser, fmt.Sprintf(`await store.enrol(%q, %q, "phone"); await store.exchange()`, f.way, f.bed.Code("worker")))
	second := f.tab()
	f.load(second)
	f.device(second, "own")
	for _, tab := range []context.Context{f.browser, second} {
		f.mustRun(tab, `window.heard = []; window.ended = new AbortController();
			store.repeat({ every: 3600_000, follow: true, signal: ended.signal, tell: (summary, error) => heard.push(summary ? "received " + summary.received : error.code) })`)
	}
	other := f.bed.Device("lead", "other", device.Options{})
	_, err := other.Exchange(t.Context(), nil)
	testbed.Must(t, err)
	time.Sleep(300 * time.Millisecond) // the page has begun to listen
	_, err = other.Add(t.Context(), "trails", device.Fields{"name": "From another"})
	testbed.Must(t, err)
	_, err = other.Exchange(t.Context(), nil)
	testbed.Must(t, err)
	for _, tab := range []context.Context{f.browser, second} {
		f.until(tab, `heard.join()`, "received 1")
	}
	f.gone.Store(true)
	f.mustRun(second, `await store.add("trails", { name: "Without signal" })`)
	f.gone.Store(false)
	f.mustRun(second, `await store.exchange()`)
	if n := f.has("Without signal"); n != 1 {
		t.Errorf("central has %d", n)
	}
	f.mustRun(f.browser, `ended.abort()`)
	f.mustRun(second, `ended.abort()`)
}

// P1, P10, P11: two people share a browser; what one has not sent is not shown to the other, nor is it readable in the store's
// file, and goes to central all the same. A backup is restored under a new identity, and what it holds counts once.
func TestPeopleAndBackupsInABrowser(t *testing.T) {
	f := newField(t)
	f.device(f.browser, "shared")
	f.mustRun(f.browser, fmt.Sprintf(`await store.enrol(%q, %q, "tablet"); await store.exchange()`, f.way, f.bed.Code("worker")))
	if got := f.run(f.browser, fmt.Sprintf(`await store.join(%q, "9753")`, f.bed.Code("lead"))); !strings.Contains(got, "set one first") {
		t.Errorf("somebody joins where anybody can sign in as the first: %s", got)
	}
	f.mustRun(f.browser, `await store.setSecret("", "8642")`)
	f.mustRun(f.browser, `await store.add("trails", { name: "Nobody else sees Quillback" })`)
	if got := f.mustRun(f.browser, fmt.Sprintf(`return await store.join(%q, "9753")`, f.bed.Code("lead"))); got != "lead" {
		t.Errorf("%s is signed in", got)
	}
	if got := f.mustRun(f.browser, `return (await store.find("trails")).total + " " + (await store.people()).map((p) => p.name + (p.signedIn ? "*" : "") + p.unsent)`); got != "0 worker1,lead*0" {
		t.Errorf("found, and the people: %s", got)
	}
	if got := f.mustRun(f.browser, `return String((await (await store.backup()).text()).includes("Quillback"))`); got != "false" {
		t.Error("what is unsent of one can be read in the file by the other")
	}
	f.mustRun(f.browser, `window.made = await store.backup(); await store.exchange()`)
	if n := f.has("Quillback"); n != 1 {
		t.Errorf("central has %d", n)
	}
	if got := f.mustRun(f.browser, `const room = await store.room(); return String(room.used > 0 && room.quota > room.used)`); got != "true" {
		t.Error("the store does not know its room")
	}
	if got := f.run(f.browser, `await homing.restore(made, "shared")`); !strings.Contains(got, "taken") {
		t.Errorf("restored over a store: %s", got)
	}
	if got := f.run(f.browser, `await homing.restore(new Blob(["something else"]), "else")`); !strings.Contains(got, "no backup of a store") {
		t.Errorf("restored something else: %s", got)
	}
	f.mustRun(f.browser, `await store.signOut()`)
	for _, call := range []string{`backup()`, `lostRecords()`, `find("trails")`, `review()`, `add("trails", {})`} {
		if got := f.run(f.browser, "await store."+call); !strings.Contains(got, "signed-out") {
			t.Errorf("nobody is signed in, and %s gives %s", call, got)
		}
	}
	f.mustRun(f.browser, `await homing.restore(made, "restored"); window.second = await homing.open("restored")`)
	if got := f.run(f.browser, `await second.find("trails")`); !strings.Contains(got, "signed-out") {
		t.Errorf("a restored store with several people shows: %s", got)
	}
	f.mustRun(f.browser, `await second.signIn("worker", "8642"); await second.exchange(); await second.verify()`)
	if got := f.mustRun(f.browser, `return (await second.find("trails")).total + " " + (await second.review()).length`); got != "1 0" || f.has("Quillback") != 1 {
		t.Errorf("the restored store has %s, and central %d", got, f.has("Quillback"))
	}
}

// What a worker does in an hour comes to the same in a browser as on our own device: adds, edits, counts, removals, with an
// exchange now and then.
func TestAnHoursWork(t *testing.T) {
	f := newField(t)
	twin := testbed.Start(t)
	twin.Define(trails)
	own := twin.Device("worker", "own", device.Options{})
	_, err := own.Exchange(t.Context(), nil)
	testbed.Must(t, err)
	f.device(f.browser, "hour")
	f.mustRun(f.browser, fmt.Sprintf(`await store.enrol(%q, %q, "phone"); await store.exchange()`, f.way, f.bed.Code("worker")))

	type step struct {
		Kind   string         `json:"kind"`
		ID     uuid.UUID      `json:"id"`
		Fields map[string]any `json:"fields,omitempty"`
	}
	random := rand.New(rand.NewPCG(1, 2))
	var there []uuid.UUID
	const runs, steps = 12, 50 // an exchange every five minutes, a step every six seconds
	for run := range runs {
		var some []step
		for n := range steps {
			at := 0
			if len(there) > 0 {
				at = random.IntN(len(there))
			}
			switch chance := random.IntN(10); {
			case chance < 4 || len(there) == 0:
				there = append(there, uuid.Must(uuid.NewV7()))
				some = append(some, step{"add", there[len(there)-1], map[string]any{"name": fmt.Sprintf("Trail %d-%d", run, n), "walked": n}})
			case chance < 9:
				some = append(some, step{"edit", there[at], map[string]any{"walked": random.IntN(1000)}})
			default:
				some = append(some, step{Kind: "remove", ID: there[at]})
				there = append(there[:at], there[at+1:]...)
			}
		}
		text, err := json.Marshal(some)
		testbed.Must(t, err)
		f.mustRun(f.browser, fmt.Sprintf(`for (const { kind, id, fields } of %s) {
			if (kind === "add") await store.add("trails", fields, id);
			else if (kind === "edit") await store.edit("trails", id, fields);
			else await store.remove("trails", id);
		}
		await store.exchange()`, text))
		for _, s := range some {
			switch s.Kind {
			case "add":
				_, err = own.Add(t.Context(), "trails", s.Fields, device.As(s.ID))
			case "edit":
				_, err = own.Edit(t.Context(), "trails", s.ID, s.Fields)
			default:
				err = own.Remove(t.Context(), "trails", s.ID)
			}
			testbed.Must(t, err)
		}
		_, err = own.Exchange(t.Context(), nil)
		testbed.Must(t, err)
	}
	fingerprint := func(bed *testbed.Bed) string {
		_, text := bed.Call("GET", "/v1/fingerprint/trails", bed.SignIn("lead"), nil)
		return string(text)
	}
	here := f.mustRun(f.browser, `return (await store.fingerprint("trails")).fingerprint`)
	if a, b := fingerprint(f.bed), fingerprint(twin); a != b || !strings.Contains(a, here) {
		t.Errorf("central of the browser's work has %s, that of ours %s, the browser %s", a, b, here)
	}
}

// The first app of the library's page runs as it stands there.
func TestTheFirstApp(t *testing.T) {
	f := newField(t)
	text, err := os.ReadFile("README.md")
	testbed.Must(t, err)
	_, app, _ := strings.Cut(string(text), "```js\n")
	app, _, found := strings.Cut(app, "```")
	if lines := strings.Count(strings.TrimSpace(app), "\n"); !found || lines > 12 {
		t.Fatalf("the first app has %d lines", lines)
	}
	app = strings.NewReplacer(`import { open } from "homing-device/browser";`, `const { open } = await import("/browser.js");`, "https://central.example", f.way,
		"ABCD-EFGH-IJKL-MNOP", f.bed.Code("worker")).Replace(app)
	f.mustRun(f.browser, app)
	f.until(f.browser, `document.body.innerText`, "Ridge Path")
	f.device(f.browser, "notes")
	f.mustRun(f.browser, `await store.exchange()`)
	if n := f.has("Ridge Path"); n != 1 {
		t.Errorf("central has %d", n)
	}
}
