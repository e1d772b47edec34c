package field_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/google/uuid"

	"homing/central"
	"homing/field"
	"homing/internal/testbed"
)

// fill puts structures into central, all over a valley, and every tenth out of use.
func (p *phone) fillCentral(trail uuid.UUID, n int) {
	p.t.Helper()
	rows := make([]map[string]json.RawMessage, n)
	for i := range rows {
		state := "sound"
		if i%10 == 0 {
			state = "out of use"
		}
		place := fmt.Sprintf(`{"type":"Point","coordinates":[%.5f,%.5f]}`, 12+float64(i%200)/1000, 46+float64(i/200)/1000)
		rows[i] = map[string]json.RawMessage{"name": json.RawMessage(fmt.Sprintf(`"Post %05d"`, i)), "kind": json.RawMessage(`"signpost"`),
			"trail": json.RawMessage(`"` + trail.String() + `"`), "state": json.RawMessage(`"` + state + `"`), "location": json.RawMessage(place)}
	}
	for len(rows) > 0 {
		some := rows[:min(len(rows), 1000)]
		_, err := p.bed.Central.PutRows(p.t.Context(), central.Everything("admin"), "structures", "", some)
		testbed.Must(p.t, err)
		rows = rows[len(some):]
	}
}

// Twenty thousand records load in front of whoever waits, and are found, counted and drawn.
func TestTwentyThousandRecords(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	trail, _ := p.ground(office)
	p.fillCentral(trail, 20_000)
	p.do(chromedp.Navigate(p.way.url + "/enrol#" + p.bed.Code("mira")))
	p.says("h1", "Collect on this device")
	p.press("Enrol")
	p.says("h1", "Set a PIN")
	p.fill("#pin", "2468")
	p.fill("#again", "2468")
	p.press("Set it and load")
	p.says("main", "of 20,002") // the total is known while it loads
	p.press("Begin with what is here")
	p.says(".tabs", "Records")                    // and what is here can be used meanwhile
	p.saysWithin(5*time.Minute, "main", "20,002") // all of it comes in a minute on a machine that does nothing else
	p.says("main", "2,000 urgent")
	p.press("Structures")
	p.says("main", "more than 10,000 records")
	p.fill("input[type=search]", "Post 1234")
	p.says("main", "12 records")
	p.visit("/records/structures?marked=urgent")
	p.says("main", "2,000 records")
	p.visit("/records/structures?map=1")
	p.says("main", "Only the first 20,000 are shown.")
	p.visit("/records/trails")
	p.says(".rows", "2,000 urgent") // what is below a trail
	t.Log(eval[string](p, `(async () => {
		const out = []
		for (const [name, path] of [['home', '/'], ['list', '/records/structures'], ['marked', '/records/structures?marked=urgent'], ['trails', '/records/trails']]) {
			const from = performance.now()
			location.hash = path
			for (;;) { await new Promise((r) => requestAnimationFrame(r)); if (document.querySelector('main .rows li')) break }
			out.push(name + ' ' + Math.round(performance.now() - from) + ' ms')
		}
		return out.join(', ')
	})()`, chromedp.EvalAwaitPromise))
	// The page of a phone that is four times slower; the store's worker is as quick as ever.
	_, err := chromedp.Call(p.tab, emulation.SetCPUThrottlingRate, emulation.SetCPUThrottlingRateParams{Rate: 4})
	testbed.Must(t, err)
	p.offline()
	p.do(chromedp.Navigate("about:blank"))
	began := time.Now()
	p.do(chromedp.Navigate(p.url()))
	p.says("main", "20,002")
	t.Logf("opened with all its counts after %v", time.Since(began).Round(10*time.Millisecond))
}

// A new version waits while a form is open, and what was typed is there once it was taken.
func TestANewVersionLosesNoDraft(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	_, bridge := p.ground(office)
	p.newer(field.Files())
	p.enrol("mira", "2468")
	p.offline()
	p.visit("/records/structures/" + bridge.String() + "/edit")
	p.fill("#note", "Two boards are loose")
	p.newer(changed(t, field.Files()))
	eval[bool](p, `navigator.serviceWorker.getRegistration().then((r) => r.update()).then(() => true)`, chromedp.EvalAwaitPromise)
	testbed.Wait(t, "the new version to be here", func() bool {
		return eval[bool](p, `navigator.serviceWorker.getRegistration().then((r) => r.waiting !== null)`, chromedp.EvalAwaitPromise)
	})
	if strings.Contains(p.text("body"), "A new version") {
		t.Error("it is said in the middle of a form")
	}
	p.press("Back")
	p.says("body", "A new version of the app is here.")
	p.press("Use it now")
	testbed.Wait(t, "the new version", func() bool {
		return eval[bool](p, `document.querySelector('meta[name=later]') !== null`)
	})
	p.visit("/")
	p.says("main", "Typed and not saved")
	p.press("Gale Bridge")
	p.says("main", "is here again")
	if got := p.box("#note"); got != "Two boards are loose" {
		t.Errorf("the draft has %q", got)
	}
	p.signal(false)
	p.visit("/")
	p.says("main", "What there is")
}

// newer lets the way hand out some files of the app, and all else of central's.
func (p *phone) newer(files fs.FS) {
	p.t.Helper()
	p.way.files.Store(&files)
}

// changed are the files of a later version.
func changed(t *testing.T, files fs.FS) fs.FS {
	t.Helper()
	all := fstest.MapFS{}
	err := fs.WalkDir(files, ".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		text, err := fs.ReadFile(files, path)
		switch path {
		case "index.html":
			text = []byte(strings.Replace(string(text), "<head>", `<head><meta name="later" content="yes" />`, 1))
		case "sw.js":
			text = []byte(strings.Replace(string(text), "const version = '", "const version = 'later-", 1))
		}
		all[path] = &fstest.MapFile{Data: text}
		return err
	})
	testbed.Must(t, err)
	return all
}
