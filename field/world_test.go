package field_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"homing/field"
	"homing/internal/testbed"
)

// first lets a script run in each page of the app before its own.
func (p *phone) first(script string) {
	p.t.Helper()
	_, err := chromedp.Call(p.tab, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: script})
	testbed.Must(p.t, err)
}

// clock is put before each script of the app, in pages and workers: a phone's clock that somebody can set.
const clock = `(() => {
	const RealDate = Date, now = Date.now
	let off = 0
	self.Date = class extends RealDate { constructor(...args) { if (args.length) super(...args); else super(now() + off) } static now() { return now() + off } }
	new BroadcastChannel('clock').onmessage = (event) => (off = event.data)
})();
`

// withClock are the app's files with a clock that can be set.
func withClock(t *testing.T, files fs.FS) fs.FS {
	t.Helper()
	all := fstest.MapFS{}
	err := fs.WalkDir(files, ".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || strings.HasSuffix(path, ".br") {
			return err
		}
		text, err := fs.ReadFile(files, path)
		// Modules are loaded more than once in a page; what is imported shares the clock of its first.
		if strings.HasSuffix(path, ".js") && path != "sw.js" {
			text = append([]byte("if (!self.clockIsSet) { self.clockIsSet = true; "+clock+"}\n"), text...)
		}
		all[path] = &fstest.MapFile{Data: text}
		return err
	})
	testbed.Must(t, err)
	return all
}

// jump sets the phone's clock, so far from the right time.
func (p *phone) jump(by time.Duration) {
	p.t.Helper()
	eval[bool](p, fmt.Sprintf(`(() => { self.setClock = new BroadcastChannel('clock'); self.setClock.postMessage(%d); return true })()`, by.Milliseconds()))
	testbed.Wait(p.t, "the clock to jump", func() bool {
		return eval[bool](p, fmt.Sprintf(`Math.abs(Date.now() - performance.timeOrigin - performance.now() - %d) < 60_000`, by.Milliseconds()))
	})
}

// The clock of a phone jumps by years under the app: what is saved later still wins, and central dates it rightly.
func TestAClockThatJumps(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	_, bridge := p.ground(office)
	p.newer(withClock(t, field.Files()))
	p.enrol("mira", "2468")
	p.offline()
	p.visit("/records/structures/" + bridge.String())
	p.says("h1", "Gale Bridge")
	p.signal(false)
	p.jump(2 * 365 * 24 * time.Hour)
	p.press("Edit")
	p.press("worn")
	p.press("Save")
	p.says(".notices", "Saved on this device")
	p.jump(-40 * 24 * time.Hour)
	p.press("Edit")
	p.press("damaged")
	p.fill("#note", "The clock was set")
	p.press("Save")
	p.says("main", "The clock was set")
	p.saysNot(".status", "as of in")
	p.press("Unsent", ".tabs")
	p.says("main", "worn → damaged")
	p.signal(true)
	p.press("Exchange now")
	p.says("main", "Nothing waits to be sent")

	var history []struct {
		Author string    `json:"author"`
		Edited time.Time `json:"edited_at"`
	}
	status, text := p.bed.Call(http.MethodGet, "/v1/history/structures/"+bridge.String(), p.bed.SignIn("lead"), nil)
	if err := json.Unmarshal(text, &history); status != http.StatusOK || err != nil {
		t.Fatalf("%d %s: %v", status, text, err)
	}
	for _, one := range history {
		if off := time.Since(one.Edited); off < -time.Minute || off > 10*time.Minute {
			t.Errorf("what %s did is dated %v ago", one.Author, off)
		}
	}
	testbed.Exchange(t, office)
	got, err := office.Get(context.Background(), "structures", bridge)
	testbed.Must(t, err)
	if string(got.Fields["state"]) != `"damaged"` || len(got.Disputes) > 0 {
		t.Errorf("the office has %s, disputed %v", got.Fields["state"], got.Disputes)
	}
}

// A link that costs by the byte carries nothing by itself, once somebody has asked for that, and all that is sent by hand.
func TestAMeteredLink(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	trail, _ := p.ground(office)
	p.first(`Object.defineProperty(navigator, 'connection', { value: { type: 'cellular' } })`)
	p.enrol("mira", "2468")
	p.visit("/device")
	p.says("main", "this one does")
	p.press("Hold back on links that cost by the byte")
	p.addSign(trail, "New Sign")
	p.visit("/") // which would send it: the app has opened anew
	p.says("main", "What there is")
	p.visit("/unsent")
	p.says("main", "This link may cost by the byte, so nothing goes by itself.")
	p.says("main", "New Sign")
	time.Sleep(1500 * time.Millisecond) // thrice as long as the app takes to begin when nothing holds it
	if got := p.atCentral(office, "New Sign"); len(got) > 0 {
		t.Error("it was sent over a link that costs by the byte")
	}
	p.press("Exchange now")
	p.says("main", "1 change went in")
	p.comesHome(office, "New Sign")
}

// Where the browser can keep the app on the home screen, the app offers it once somebody is there, and asks when told to.
func TestOnTheHomeScreen(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	p.ground(p.office("lead"))
	p.first(`addEventListener('beforeinstallprompt', (event) => event.isTrusted && event.stopImmediatePropagation())`)
	p.enrol("mira", "2468")
	if strings.Contains(p.text("body"), "home screen") {
		t.Error("it is offered though this browser cannot do it")
	}
	eval[bool](p, `(() => {
		const event = new Event('beforeinstallprompt', { cancelable: true })
		event.prompt = () => { self.prompted = true; return Promise.resolve({ outcome: 'accepted' }) }
		event.userChoice = Promise.resolve({ outcome: 'accepted' })
		dispatchEvent(event)
		return true
	})()`)
	p.press("Put it on the home screen")
	testbed.Wait(t, "the browser to ask", func() bool { return eval[bool](p, `self.prompted === true`) })
	eval[bool](p, `dispatchEvent(new Event('appinstalled'))`)
	p.saysNot("main", "home screen")
}
