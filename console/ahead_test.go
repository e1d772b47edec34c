package console_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"homing/central"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
)

// What a person gets is seen, with their eyes, too.
func TestWhatAPersonGets(t *testing.T) {
	p, _, _, _ := crew(t, 1280)
	testbed.Must(t, p.bed.Central.HoldTerritories(t.Context(), "worker", []string{"ostra"}))
	p.visit("/people")
	p.signIn("admin", testbed.Password)
	p.do(chromedp.Click(`//tbody//tr[td[1][normalize-space()="worker"]]//button[contains(., "Change")]`))
	p.opened()
	p.do(chromedp.Click(`//a[contains(., "What they get and may do")]`))
	p.says("h1", "What worker gets and may do")
	p.says("table", "0 of 4")
	p.do(chromedp.Click(`//tr[contains(., "Huts")]//a[contains(., "0 of 4")]`))
	p.says(".chip", "as worker sees it")
	p.says(".page", "Nothing found")
	p.do(chromedp.Click(chromedp.CSS(`button[aria-label="Without: as worker sees it"]`)))
	p.says(".head", "4 records")
}

// Two edits of one field are let meet before anybody makes them, by the definition as it is and as it is being written; and
// a fleet rehearses with it.
func TestLookingAhead(t *testing.T) {
	p, _, _, _ := crew(t, 1280, testbed.Rehearses(t))
	p.visit("/definitions/huts")
	p.signIn("admin", testbed.Password)
	p.says("main", "a person decides")
	meet := func(want string) {
		p.choose(`.p-select:has(#meeting-field)`, "Beds")
		for of, value := range map[string]string{"base": "4", "one": "6", "other": "9"} {
			p.fill(fmt.Sprintf(`input[id="%s beds"]`, of), value)
		}
		p.press("Let them meet")
		p.says("main", want)
	}
	meet("It comes to 9 beds")
	p.do(chromedp.Click(chromedp.CSS("#other-first")))
	p.saysNot("main", "It comes to")
	p.press("Let them meet")
	p.says("main", "It comes to 9 beds")
	p.choose(`.p-select:has(#meeting-field)`, "State")
	p.do(chromedp.Click(chromedp.CSS("#other-first")))
	for of, state := range map[string]string{"one": "worn", "other": "damaged"} {
		p.choose(fmt.Sprintf(`.p-select:has([id="%s state"])`, of), state)
	}
	p.press("Let them meet")
	p.says("main", "It comes to worn. Both are kept for a person to decide")
	p.press("Edit the file")
	p.says("main", "Nothing: it is as central has it")
	p.do(chromedp.Click(chromedp.CSS(".cm-content")))
	if _, err := chromedp.Run(p.tab, chromedp.Evaluate[bool](`document.execCommand("selectAll")`)); err != nil {
		t.Fatal(err)
	}
	p.do(chromedp.SendKeys(chromedp.CSS(".cm-content"), strings.Replace(works, "rules: {state: ask}", "rules: {state: ask, beds: sum}", 1)))
	p.says("main", "Version 2")
	meet("It comes to 11 beds")
	p.press("Rehearse 10 times")
	p.saysWithin(90*time.Second, "main", "Nothing was lost, nothing doubled")
	p.says("main", "10 runs")
	collection, err := p.bed.Central.Collection(t.Context(), "huts")
	if err != nil || collection.Version != 1 {
		t.Errorf("it is defined as version %d, %v", collection.Version, err)
	}
}

// A device is asked to verify and to erase its store; what becomes of that is seen.
func TestAskingADevice(t *testing.T) {
	p, store, _, _ := crew(t, 1280)
	p.visit("/health")
	p.signIn("admin", testbed.Password)
	p.says("main", "None was written yet")
	p.press("Let all devices verify")
	p.says("body", "2 devices asked")
	p.visit("/devices")
	p.do(chromedp.Click(`//a[contains(., "Valley tablet")]`))
	p.says("main", "It has not come since")
	testbed.Exchange(t, store)
	p.says("main", "4 records, all as central has them")
	p.press("Let it erase its store")
	p.says(".p-confirmdialog", "all of its changes had been accepted")
	p.confirm("Cancel")
	p.press("Let it erase its store")
	p.confirm("Ask it to")
	p.says("main", "It has not come since")
	p.press("Take back")
	p.saysNot("main", "To erase its store")
	testbed.Exchange(t, store)
	p.press("Let it erase its store")
	p.confirm("Ask it to")
	p.says("main", "It has not come since")
	if _, err := store.Exchange(t.Context(), nil); !errors.Is(err, device.ErrErased) {
		t.Errorf("%v", err)
	}
	p.says("main", "Erased")
}

// Filters take any of some choices, and from here to there, as the reader's own country writes it.
func TestAnyOfAndBetween(t *testing.T) {
	p, _, _, _ := crew(t, 1280)
	p.speaks("de-DE")
	p.visit("/records/huts")
	p.signIn("lead", testbed.Password)
	p.says(".head", "4 records")
	p.press("Filter")
	p.choose(".condition .p-select", "Beds")
	p.choose(`.condition .p-select:nth-of-type(2)`, "between")
	p.fill(`.condition input[aria-label=From]`, "4,5")
	p.fill(`.condition input[aria-label=To]`, "1e3x\r")
	p.says(".condition", "not a number")
	p.fill(`.condition input[aria-label=To]`, "11,5\r")
	p.says(".head", "2 records found")
	p.choose(".condition .p-select", "State")
	p.do(chromedp.Click(chromedp.CSS(".condition .p-multiselect")))
	for _, state := range []string{"sound", "worn"} {
		p.do(chromedp.Click(fmt.Sprintf(`//li[contains(., %q)]`, state)))
	}
	p.says(".condition .p-multiselect", "sound, worn")
	p.key("\u001b")
	p.do(chromedp.Click(chromedp.CSS(".condition button[type=submit]")))
	p.says(".filters", "State is sound or worn")
	p.says(".head", "records found")
	p.do(chromedp.Click(chromedp.CSS(`button[aria-label="Without: Beds at least 4.5"]`)))
	p.says(".filters", "State is sound or worn")
}

// On a phone, several records are chosen and edited at once, and columns are chosen.
func TestSeveralOnAPhone(t *testing.T) {
	p, _, _, ids := crew(t, 360)
	p.visit("/records/huts")
	p.signIn("lead", testbed.Password)
	p.says(".cards", "Gale")
	p.press("Choose several")
	for _, name := range []string{"Gale", "Arn"} {
		p.do(chromedp.Click(fmt.Sprintf(`//button[contains(@class, "card")][contains(., %q)]`, name)))
	}
	p.says(".chosen", "2 records chosen")
	p.press("Edit a field")
	p.choose(".p-dialog .p-select", "Zone")
	p.fill(".p-dialog input#zone", "ostra")
	p.submit()
	p.says(".p-dialog", "2 of 2 done")
	p.press("Close")
	p.closed()
	p.press("Done choosing")
	listing, err := p.bed.Central.List(t.Context(), central.Everything("lead"), "huts", query.Ask{Where: []string{"zone=ostra"}})
	if err != nil || listing.Total != 2 {
		t.Errorf("%d of %d, %v", listing.Total, len(ids), err)
	}
	p.visit("/records/huts?columns=name,zone,heated")
	p.says(".cards", "ostra")
	p.saysNot(".cards", "H-1")
}

// Dialogs hold what axe-core asks, too, on a desk's screen and a phone's, in both looks.
func TestEverybodyCanUseEveryDialog(t *testing.T) {
	axe, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	testbed.Must(t, err)
	p, _, _, ids := crew(t, 1280)
	devices, err := p.bed.Central.Devices(t.Context(), "")
	testbed.Must(t, err)
	p.visit("/")
	p.signIn("admin", testbed.Password)
	p.says(".bar", "admin")
	for _, dialog := range []struct{ path, ready, press, shows string }{
		{"/records/huts", "Gale", "Add", "Add to Huts"},
		{"/records/huts/" + ids[3].String(), "Revision 1", "Remove", "Its history stays"},
		{"/devices", "Valley tablet", "Revoke", "Revoke"},
		{"/devices", "Valley tablet", "Enrol a device", "code"},
		{"/devices/" + devices[0].ID.String(), "How far", "Rename", "Rename the device"},
		{"/devices/" + devices[0].ID.String(), "How far", "erase its store", "deletes its store"},
		{"/people", "worker", "Add", "Name"},
	} {
		p.visit(dialog.path)
		p.says("main", dialog.ready)
		p.press(dialog.press)
		p.opened()
		p.says(".p-dialog", dialog.shows)
		// What is too faint does not depend on the width, nor what is too wide on the look.
		for width, look := range map[int64]string{1280: "light", 360: "dark"} {
			p.do(chromedp.EmulateViewport(width, 800))
			p.looks(look)
			p.inspect(string(axe), fmt.Sprintf("%s at %s, %s, %d wide", dialog.press, dialog.path, look, width))
		}
		p.do(chromedp.EmulateViewport(1280, 800))
	}
}

// What stands in a box and cannot be read yet is part of the draft: half a number, half a place, what is not JSON yet.
func TestDraftsKeepWhatCannotBeReadYet(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define(measured)
	p.visit("/records/posts")
	p.signIn("lead", testbed.Password)
	p.says(".page", "No records yet")
	p.press("Add")
	boxes := map[string]string{"input#height": "12,", "input#bolts": "3x", "input[aria-label=Longitude]": "-31", "textarea#more": `{"a": `}
	for box, text := range boxes {
		p.fill(".p-dialog "+box, text)
	}
	p.reload()
	p.press("Go on with your draft")
	p.says(".p-dialog", "is here again, and not saved yet")
	for box, text := range boxes {
		p.holds(".p-dialog "+box, text)
	}
	p.says(".p-dialog label[for=bolts]", "not a number")
	p.submit()
	p.says(".p-dialog label[for=more]", "not JSON")
	for box, text := range map[string]string{"input#name": "Post", "input#height": "12,5", "input#bolts": "3", "input[aria-label=Latitude]": "52.5",
		"textarea#more": `{"a": 1}`} {
		p.fill(".p-dialog "+box, text)
	}
	p.submit()
	p.closed()
	p.says(".page", "1 record")
	if got := p.only(); got != `{"bolts":3,"height":12.5,"more":{"a":1},"name":"Post","place":{"coordinates":[-31,52.5],"type":"Point"}}` {
		t.Errorf("central has %s", got)
	}
	p.press("Add")
	p.holds(".p-dialog input#height", "")
}

// Where the browser has no locks, which it has only over TLS and on its own machine, a tab that somebody looks at has a stream of its
// own, and news shows all the same.
func TestLiveWithoutLocks(t *testing.T) {
	p, store, _, ids := crew(t, 1280)
	if _, err := chromedp.Call(p.tab, cdppage.AddScriptToEvaluateOnNewDocument, cdppage.AddScriptToEvaluateOnNewDocumentParams{
		Source: `Object.defineProperty(Navigator.prototype, "locks", {get: () => undefined})`}); err != nil {
		t.Fatal(err)
	}
	p.visit("/records/huts")
	p.signIn("lead", testbed.Password)
	p.says(".live", "live")
	has, err := chromedp.Run(p.tab, chromedp.Evaluate[bool](`navigator.locks === undefined`))
	if err != nil || !has {
		t.Fatalf("the browser has locks all the same, %v", err)
	}
	_, err = store.Edit(t.Context(), "huts", ids[3], device.Fields{"name": "Lornhaus"})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	p.says("tbody", "Lornhaus")
}

// Every page is walked in two languages and time zones while a device brings news: each shows what it is about, and nothing that a
// program would say.
func TestEveryPageInOtherLanguages(t *testing.T) {
	p, store, _, ids := crew(t, 1280)
	devices, err := p.bed.Central.Devices(t.Context(), "")
	testbed.Must(t, err)
	p.visit("/")
	p.signIn("admin", testbed.Password)
	p.says(".bar", "admin")
	done := make(chan error, 1)
	stop := make(chan struct{})
	go func() { // goes on bringing news until the walk is over
		for n := 0; ; n++ {
			select {
			case <-stop:
				done <- nil
				return
			case <-time.After(300 * time.Millisecond):
			}
			_, err := store.Edit(context.Background(), "huts", ids[3], device.Fields{"beds": n})
			if err == nil {
				_, err = store.Exchange(context.Background(), nil)
			}
			if err != nil {
				done <- err
				return
			}
		}
	}()
	said := regexp.MustCompile(`NaN|undefined|Invalid Date|\[object|null\b`)
	for locale, zone := range map[string]string{"de-DE": "Pacific/Chatham", "en-US": "America/St_Johns"} {
		p.speaks(locale)
		if _, err := chromedp.Call(p.tab, emulation.SetTimezoneOverride, emulation.SetTimezoneOverrideParams{TimezoneID: zone}); err != nil {
			t.Fatal(err)
		}
		for path, ready := range map[string]string{"/": "changes arrived", "/records": "Huts", "/records/huts": "Lorn", "/records/huts?view=map": "shown",
			"/records/huts/" + ids[3].String(): "Revision 1", "/changes": "Lorn", "/conflicts": "came first", "/devices": "Valley tablet",
			"/devices/" + devices[0].ID.String(): "How far it has pulled", "/exchanges": "Valley tablet", "/definitions/huts": "Where two edits meet",
			"/import": "Drop a file", "/people": "worker", "/people/worker": "May remove", "/audit": "device enrolled", "/follow-ups": "Nothing of the kind", "/coverage": "Nothing is expected", "/settings": "Nothing is said", "/feeds": "No feed yet", "/health": "PostgreSQL", "/account": "assword"} {
			p.visit(path)
			p.says("main", ready)
			if odd := said.FindString(p.text("main")); odd != "" {
				t.Errorf("%s in %s says %q:\n%s", path, locale, odd, p.text("main"))
			}
		}
	}
	close(stop)
	testbed.Must(t, <-done)
	if r, err := p.bed.Central.Record(t.Context(), central.Everything("lead"), "huts", ids[3]); err != nil || r.Revision < 5 {
		t.Errorf("the device brought %d revisions, %v", r.Revision, err)
	}
}
