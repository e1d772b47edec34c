package console_test

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"github.com/chromedp/chromedp"

	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
)

const (
	sites = `collection: sites
label: "{name}"
required: [name]
fields:
  name: {type: string}
  visits: {type: integer, computed: size(children.visits)}
`
	visits = `collection: visits
label: "{number} {note}"
fields:
  number: {type: string, series: V-0001}
  note: {type: string}
  site: {type: string, format: uuid}
parent: {collection: sites, field: site, removal: remove}
`
)

// The page of a record shows what belongs to it; one adds to it there, what is worked out follows, and a removal asks
// before it takes others with it.
func TestChildrenOnThePage(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define(sites, visits)
	store := p.bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	site, err := store.Add(context.Background(), "sites", device.Fields{"name": "Fork"})
	testbed.Must(t, err)
	_, err = store.Add(context.Background(), "visits", device.Fields{"site": site.ID, "note": "first"})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	p.visit("/records")
	p.signIn("lead", testbed.Password)
	p.says(".sheet", "└ Visits")
	p.visit("/records/sites/" + site.ID.String())
	p.says(".stack", "V-0001 first")
	p.says("dl", "worked out")
	p.press("Add to visits")
	p.says(".p-dialog", "Add to Visits")
	p.opened()
	if text := p.text(".p-dialog form"); text == "" || slices.Contains([]string{text}, "Number") {
		t.Errorf("the form offers %q", text)
	}
	p.fill(".p-dialog #note", "second")
	p.do(chromedp.Click(chromedp.CSS(".p-dialog form button[type=submit]")))
	p.says(".stack", "V-0002 second")
	p.says("dl", "2")
	p.closed()
	// One visit leads up to its site.
	p.do(chromedp.Click(`//a[contains(., "V-0002 second")]`))
	p.says(".path", "belongs to Fork")
	p.do(chromedp.Click(`//p[@class="path"]//a[contains(., "Fork")]`))
	p.says("h1", "Fork")
	p.press("Remove")
	p.answer("Remove")
	p.says(".p-confirmdialog", "2 of visits would go with it")
	p.confirm("Keep")
	if removed := p.text("h1"); removed != "Fork" {
		t.Errorf("the page is headed %q", removed)
	}
	p.press("Remove")
	p.answer("Remove")
	p.says(".p-confirmdialog", "2 of visits would go with it")
	p.confirm("Remove all")
	p.says(".head", "removed")
	testbed.Exchange(t, store)
	for _, name := range []string{"sites", "visits"} {
		found, err := store.Find(context.Background(), name, query.Ask{})
		if err != nil || found.Total != 0 {
			t.Errorf("the device holds %d %s, %v", found.Total, name, err)
		}
	}
	p.press("Bring back")
	p.saysNot(".head", "removed")
}

// An admin changes roles and territories, and sees what falls into each.
func TestPeopleAndTerritories(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define("collection: trails\nlabel: \"{name}\"\nrequired: [name]\nfields:\n  name: {type: string, " +
		"minLength: 1}\n  state: {enum: [open, closed]}\n  length_km: {type: number, minimum: 0}\n  note: {type: " +
		"string}\n  district: {type: string}\nsync:\n  territory: record.district\n")
	store := p.bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	_, err := store.Add(context.Background(), "trails", device.Fields{"name": "Ridge", "district": "kell"})
	testbed.Must(t, err)
	testbed.Exchange(t, store)
	p.visit("/people")
	p.signIn("admin", testbed.Password)
	p.says(".second + .sheet", "kell")
	p.says(".second + .sheet", "1 trails")
	p.says(".second + .sheet", "nobody but those")
	p.do(chromedp.Click(`//tr[contains(., "reader")]//button`))
	p.says(".p-dialog", "Change reader")
	p.opened()
	p.do(chromedp.Click(chromedp.CSS(".p-dialog .p-toggleswitch input")))
	p.fill(".p-dialog #keys", "upper valley")
	p.do(chromedp.SendKeys(chromedp.CSS("#keys"), "\r"))
	p.says(".p-dialog .p-autocomplete", "upper valley")
	p.press("kell") // one that records fall into
	p.says(".p-dialog .p-autocomplete", "kell")
	p.press("Save")
	p.says(".second + .sheet", "reader")
	workers, err := p.bed.Central.Workers(context.Background(), false)
	testbed.Must(t, err)
	for _, w := range workers {
		if w.Name == "reader" && fmt.Sprint([]string(w.Territories)) != "[upper valley kell]" {
			t.Errorf("reader holds %v", w.Territories)
		}
	}
	// The only admin stays one.
	p.closed()
	p.do(chromedp.Click(`//tr[contains(., "admin")]//button`))
	p.says(".p-dialog", "Change admin")
	p.opened()
	p.choose(".p-dialog .p-select", "lead: also")
	p.press("Save")
	p.says(".p-dialog", "only admin")
}

// A code comes with a QR code, and a revoked device may be allowed to deliver.
func TestEnrolAndRevokeOnThePage(t *testing.T) {
	p := open(t, 1280)
	p.bed.Device("worker", "Lost tablet", device.Options{})
	p.visit("/devices")
	p.signIn("lead", testbed.Password)
	p.press("Enrol a device")
	p.press("Issue a code")
	p.says(".p-dialog", "homing local enrol --link 'http://127.0.0.1")
	width, err := chromedp.Run(p.tab, chromedp.Evaluate[float64](`document.querySelector(".both img")?.naturalWidth ?? 0`))
	if err != nil || width == 0 {
		t.Errorf("the QR code is %g wide, %v", width, err)
	}
	p.visit("/devices")
	p.says("tbody", "Lost tablet")
	p.press("Revoke")
	p.says(".p-dialog", "Revoke Lost tablet?")
	p.do(chromedp.Click(chromedp.CSS(".p-dialog .p-toggleswitch input")))
	p.do(chromedp.Click(`//div[contains(@class, "p-dialog")]//button[normalize-space(.)="Revoke"]`))
	p.says("tbody", "revoked, may deliver")
	devices, err := p.bed.Central.Devices(context.Background(), "worker")
	if err != nil || !devices[0].MayDeliver {
		t.Errorf("%+v, %v", devices, err)
	}
}
