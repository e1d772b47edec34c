package console_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/google/uuid"

	"homing/central"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
	"homing/service"
)

const works = `collection: huts
title: Huts
label: "{name}"
key: code
fields:
  name: {title: Name, type: string}
  code: {title: Code, type: string}
  beds: {title: Beds, type: integer, unit: beds}
  state: {title: State, enum: [sound, worn, damaged]}
  opened: {title: Opened, type: string, format: date}
  heated: {title: Heated, type: boolean}
  at: {title: Place, $ref: "urn:homing:point"}
  zone: {title: Zone, type: string}
sync:
  territory: record.zone
  rules: {state: ask}
`

// crew is a central with huts that a worker's device has brought, one in dispute with the lead's.
func crew(t *testing.T, width int, change ...func(*service.Options)) (p *page, a, b *device.Store, ids []uuid.UUID) {
	t.Helper()
	p = open(t, width, change...)
	p.bed.Define(works)
	a, b = p.bed.Device("worker", "Valley tablet", device.Options{}), p.bed.Device("lead", "Ridge phone", device.Options{})
	testbed.Exchange(t, a, b)
	for n, name := range []string{"Gale", "Fosk", "Arn", "Lorn"} {
		r, err := a.Add(t.Context(), "huts", device.Fields{"name": name, "code": fmt.Sprintf("H-%d", n), "beds": 4 + 3*n, "state": "sound", "zone": "kell",
			"at": map[string]any{"type": "Point", "coordinates": []float64{-31.5 + float64(n)/10, 52.5}}})
		testbed.Must(t, err)
		ids = append(ids, r.ID)
	}
	testbed.Exchange(t, a, b)
	for store, state := range map[*device.Store]string{a: "worn", b: "damaged"} {
		for _, id := range ids[:3] {
			_, err := store.Edit(t.Context(), "huts", id, device.Fields{"state": state})
			testbed.Must(t, err)
		}
	}
	testbed.Exchange(t, a, b)
	return p, a, b, ids
}

// Every page, in both looks, on a desk's screen and a phone's, holds what axe-core asks of pages that everybody can use,
// has a title of its own, and is no wider than the screen.
func TestEverybodyCanUseEveryPage(t *testing.T) {
	axe, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	testbed.Must(t, err)
	p, _, _, ids := crew(t, 1280)
	devices, err := p.bed.Central.Devices(t.Context(), "")
	testbed.Must(t, err)
	p.visit("/")
	p.inspect(string(axe), "the sign-in page")
	p.signIn("admin", testbed.Password)
	p.says(".bar", "admin")
	titles := map[string]string{}
	for path, ready := range map[string]string{"/": "changes arrived", "/records": "Huts", "/records/huts": "Lorn", "/records/huts?view=map": "shown",
		"/records/huts/" + ids[0].String(): "Revision 1", "/changes": "Gale", "/conflicts": "came first", "/devices": "Valley tablet",
		"/devices/" + devices[0].ID.String(): "How far it has pulled", "/exchanges": "Valley tablet", "/definitions/huts": "Where two edits meet",
		"/import": "Drop a file", "/people": "worker", "/people/worker": "covers everything", "/audit": "device enrolled", "/follow-ups": "Nothing of the kind", "/coverage": "Nothing is expected", "/settings": "Nothing is said", "/feeds": "No feed yet", "/health": "PostgreSQL", "/account": "assword", "/nowhere": "no"} {
		p.visit(path)
		for _, width := range []int64{1280, 360} {
			p.do(chromedp.EmulateViewport(width, 800))
			for _, look := range []string{"light", "dark"} {
				p.looks(look)
				p.says("main", ready)
				name := fmt.Sprintf("%s, %s, %d wide", path, look, width)
				p.inspect(string(axe), name)
				wide, err := chromedp.Run(p.tab, chromedp.Evaluate[int](`document.documentElement.scrollWidth - document.documentElement.clientWidth`))
				if err != nil || wide > 0 {
					t.Errorf("%s: %d pixels too wide, %v", name, wide, err)
				}
			}
		}
		title, err := chromedp.Run(p.tab, chromedp.Evaluate[string](`document.title`))
		testbed.Must(t, err)
		if of, twice := titles[title]; !strings.HasSuffix(title, " · Homing") || twice && !strings.HasPrefix(path, "/records/huts") {
			t.Errorf("%s is titled %q, as %s is", path, title, of)
		}
		titles[title] = path
	}
}

// inspect lets axe-core look at the page.
func (p *page) inspect(axe, name string) {
	p.t.Helper()
	if _, err := chromedp.Run(p.tab, chromedp.Evaluate[bool](axe+";true")); err != nil {
		p.t.Fatal(err)
	}
	found, err := chromedp.Run(p.tab, chromedp.Evaluate[string](`axe.run(document, {resultTypes: ["violations"]}).then(r => JSON.stringify(
		r.violations.map(v => v.id + ": " + v.help + " at " + v.nodes.slice(0, 3).map(n => n.target.join(" ") + " (" + (n.any[0]?.message ?? "") + ")").join("; "))))`,
		chromedp.EvalAwaitPromise))
	testbed.Must(p.t, err)
	var all []string
	testbed.Must(p.t, json.Unmarshal([]byte(found), &all))
	for _, one := range all {
		p.t.Errorf("%s: %s", name, one)
	}
}

// key presses a key on the page.
func (p *page) key(text string) { p.t.Helper(); p.do(chromedp.KeyEvent(text)) }

// Conflicts are settled by keyboard one after the other; what is settled stays where it stood and can be taken back;
// what comes meanwhile is offered, and what somebody else has settled is said.
func TestConflictsByKeyboard(t *testing.T) {
	p, _, b, ids := crew(t, 1280)
	p.visit("/conflicts")
	p.signIn("lead", testbed.Password)
	p.says(".head", "3 fields wait")
	p.says(".count", "3")
	first := p.text(".queue [aria-current] b")
	p.key("2")
	p.says(".head", "2 fields wait")
	p.says(".queue li:first-child", "settled")
	p.saysNot(".queue [aria-current] b", first)
	p.key("u")
	p.says(".head", "3 fields wait")
	p.says(".queue [aria-current] b", first)
	p.key("j")
	p.saysNot(".queue [aria-current] b", first)
	p.key("k")
	p.says(".queue [aria-current] b", first)
	before := p.text(".queue")
	// A fourth comes while somebody is about to act, and another is settled elsewhere.
	_, err := b.Edit(t.Context(), "huts", ids[3], device.Fields{"state": "damaged"})
	testbed.Must(t, err)
	status, text := p.bed.Call("PATCH", "/v1/records/huts/"+ids[3].String(), p.bed.SignIn("worker"), map[string]any{"base": 1, "fields": map[string]any{"state": "worn"}})
	if status != 200 {
		t.Fatalf("%d %s", status, text)
	}
	testbed.Exchange(t, b)
	p.says(".offer", "1 more: show")
	if now := p.text(".queue"); strings.Count(now, "\n") != strings.Count(before, "\n") {
		t.Errorf("the queue has moved:\n%s\n%s", before, now)
	}
	p.do(chromedp.Click(chromedp.CSS(".offer button")))
	p.says(".queue", "Lorn")
	for n := range 4 { // as fast as somebody who looks at each
		p.key("1")
		testbed.Wait(t, "the next to be settled", func() bool {
			return strings.Count(p.text(".queue"), "settled") > n || strings.Contains(p.text(".head"), "Nothing waits for a person")
		})
		time.Sleep(300 * time.Millisecond)
	}
	p.says(".head", "Nothing waits for a person")
}

// What one does oneself is no news, also when the answer to it comes after central has told everybody.
func TestNobodyElseIsBlamedForASlowAnswer(t *testing.T) {
	p, _, _, _ := crew(t, 1280)
	slow := p.through(func(r *http.Response) error {
		if r.Request.Method == http.MethodPost {
			time.Sleep(time.Second) // longer than it takes a page to hear of it and to look
		}
		return nil
	})
	p.do(chromedp.Navigate(slow + "/conflicts"))
	p.signIn("lead", testbed.Password)
	p.says(".head", "3 fields wait")
	p.says(".live", "live")
	p.key("2")
	p.says(".queue li:first-child", "settled: ")
	p.says(".head", "2 fields wait")
	p.key("u")
	p.says(".head", "3 fields wait")
	p.saysNot(".queue li:first-child", "settled")
	if text := p.text(".page"); strings.Contains(text, "Somebody") || strings.Contains(text, "settled") {
		t.Errorf("after an undo the page says:\n%s", text)
	}
	p.key("2")
	p.says(".head", "2 fields wait")
}

// What is shown in a list stays where it is while others add and edit; new values show in their rows, new rows when
// somebody asks for them.
func TestListsStandStill(t *testing.T) {
	p, a, _, ids := crew(t, 1280)
	p.visit("/records/huts?sort=name")
	p.signIn("lead", testbed.Password)
	p.says("tbody", "Lorn")
	p.says(".live", "live")
	_, err := a.Add(t.Context(), "huts", device.Fields{"name": "Bessel", "zone": "kell"})
	testbed.Must(t, err)
	_, err = a.Edit(t.Context(), "huts", ids[3], device.Fields{"beds": 99})
	testbed.Must(t, err)
	testbed.Exchange(t, a)
	p.says(".offer", "1 more: show")
	p.says("tbody tr:last-child", "99 beds")
	if got := p.text("tbody"); strings.Contains(got, "Bessel") {
		t.Errorf("the rows have moved:\n%s", got)
	}
	p.do(chromedp.Click(chromedp.CSS(".offer button")))
	p.says("tbody", "Bessel")
	p.saysNot(".offer", "show")
}

// What is typed into a search just before one leaves does not follow to the next page; the filters of an address are a
// view that one comes back to; a collection of places alone can be opened.
func TestSearchesStayWhereTheyAre(t *testing.T) {
	p, _, _, _ := crew(t, 1280)
	p.bed.Define("collection: springs\ntitle: Springs\nlabel: spring\nfields:\n  at: {title: Place, $ref: \"urn:homing:point\"}\n")
	status, text := p.bed.Call("POST", "/v1/records/springs", p.bed.SignIn("lead"), json.RawMessage(`{"fields":{"at":{"type":"Point","coordinates":[-31,52.25]}}}`))
	if status != 201 {
		t.Fatalf("%d %s", status, text)
	}
	p.visit("/records/huts?where=beds%3E%3D7&sort=-name")
	p.signIn("lead", testbed.Password)
	p.says(".chip", "Beds at least 7")
	p.says("tbody tr:first-child", "Lorn")
	p.fill("input[type=search]", "arn")
	p.do(chromedp.Click(`//div[contains(@class, "tabs")]//a[contains(., "Springs")]`))
	p.says("h1", "Springs")
	p.says("tbody", "52.25000, -31.00000")
	time.Sleep(600 * time.Millisecond) // longer than a search waits for more to be typed
	p.says("tbody", "52.25000")
	here, err := chromedp.Run(p.tab, chromedp.Evaluate[string](`location.search`))
	if testbed.Must(t, err); here != "" {
		t.Errorf("the search has followed: %s", here)
	}
	p.do(chromedp.Click(chromedp.CSS("tbody tr a")))
	p.says(".trail", "Revision 1")
}

// A list narrows by its fields and shows what it is narrowed by; many records are edited at once, and that is taken back.
func TestFilterAndEditMany(t *testing.T) {
	p, _, _, ids := crew(t, 1280)
	p.speaks("de-DE")
	p.visit("/records/huts")
	p.signIn("lead", testbed.Password)
	p.says("tbody", "Lorn")
	p.press("Filter")
	p.choose(`.condition .p-select`, "Beds")
	p.choose(`.condition .p-select:nth-of-type(2)`, "at least")
	p.fill(".condition input[type=text][aria-label=Value]", "6,5\r")
	p.says(".chip", "Beds at least 6.5")
	p.says(".head", "3 records found")
	p.do(chromedp.Click(chromedp.CSS("thead input[type=checkbox]")))
	p.says(".chosen", "3 records chosen")
	p.press("Edit a field")
	p.choose(".p-dialog .p-select", "Zone")
	p.fill(".p-dialog input#zone", "ostra")
	p.submit()
	p.says(".p-dialog", "3 of 3 done")
	zones := func() string {
		listing, err := p.bed.Central.List(t.Context(), central.Everything("lead"), "huts", query.Ask{Sort: "code"})
		testbed.Must(t, err)
		var all []string
		for _, r := range listing.Records {
			var fields struct{ Zone string }
			testbed.Must(t, json.Unmarshal(r.Fields, &fields))
			all = append(all, fields.Zone)
		}
		return strings.Join(all, " ")
	}
	if got := zones(); got != "kell ostra ostra ostra" {
		t.Errorf("central has %s", got)
	}
	// Somebody edits one of them meanwhile: that stays.
	status, text := p.bed.Call("PATCH", "/v1/records/huts/"+ids[1].String(), p.bed.SignIn("worker"), map[string]any{"fields": map[string]any{"beds": 77}})
	if status != 200 {
		t.Fatalf("%d %s", status, text)
	}
	p.press("Take all of it back")
	p.closed()
	if got := zones(); got != "kell kell kell kell" {
		t.Errorf("taken back, central has %s", got)
	}
	r, err := p.bed.Central.Record(t.Context(), central.Everything("lead"), "huts", ids[1])
	if err != nil || !strings.Contains(string(r.Fields), `"beds":77`) {
		t.Errorf("what somebody else edited is gone: %s, %v", r.Fields, err)
	}
	p.visit("/records/huts?removed=true")
	p.says(".page", "No record was removed")
}

// The definition's file is checked as it is typed, says what it would do, and is defined; what is typed is not thrown away.
func TestWritingADefinition(t *testing.T) {
	p, _, _, _ := crew(t, 1280)
	p.visit("/definitions/huts")
	p.signIn("admin", testbed.Password)
	p.says("main", "a person decides")
	p.press("Edit the file")
	p.says("main", "Nothing: it is as central has it")
	write := func(text string) {
		p.do(chromedp.Click(chromedp.CSS(".cm-content")))
		if _, err := chromedp.Run(p.tab, chromedp.Evaluate[bool](`document.execCommand("selectAll")`)); err != nil {
			t.Fatal(err)
		}
		p.do(chromedp.SendKeys(chromedp.CSS(".cm-content"), text))
	}
	write("collection: posts\nnonsense: true\n")
	p.says("main", "Line ")
	p.says("main", "nonsense")
	p.do(chromedp.Click(`//nav//a[contains(., "Devices")]`))
	p.confirm("Go on typing")
	write("collection: posts\nlabel: \"{name}\"\nfields: {name: {type: string}}\n")
	p.says("main", "A new collection")
	p.press("Define")
	p.says("h1", "Posts")
}

// A figure of the overview leads to the devices behind it, and one device tells how far it is; it is called otherwise.
func TestFromTheOverviewToADevice(t *testing.T) {
	p, a, _, _ := crew(t, 1280)
	_, err := a.Add(t.Context(), "huts", device.Fields{"name": "Unsent", "zone": "kell"})
	testbed.Must(t, err)
	p.visit("/")
	p.signIn("lead", testbed.Password)
	p.says("main", "in the last hour")
	p.do(chromedp.Click(`//main//a[contains(., "in the last hour")]`))
	p.says("tbody", "Valley tablet")
	p.fill(`input[aria-label="Search devices"]`, "ridge")
	p.says("tbody", "Ridge phone")
	p.saysNot("tbody", "Valley tablet")
	p.do(chromedp.Click(`//tbody//a[contains(., "Ridge phone")]`))
	p.says("main", "How far it has pulled")
	p.says("main", "has pulled to the head")
	p.press("Rename")
	p.fill(".p-dialog input#device-name", "Ridge phone 2")
	p.submit()
	p.says("h1", "Ridge phone 2")
}

// A chart of more collections than there are colours gives each of the busiest its own, and one to all others.
func TestTheOverviewOfManyCollections(t *testing.T) {
	p, _, _, _ := crew(t, 1280)
	lead := p.bed.Device("lead", "office", device.Options{})
	for n := range 10 {
		collection := fmt.Sprintf("sorts%d", n)
		p.bed.Define("collection: " + collection + "\nlabel: \"{name}\"\nfields:\n  name: {type: string}\n")
		testbed.Exchange(t, lead)
		for range 10 - n {
			_, err := lead.Add(t.Context(), collection, device.Fields{"name": "One"})
			testbed.Must(t, err)
		}
	}
	testbed.Exchange(t, lead)
	p.visit("/")
	p.signIn("lead", testbed.Password)
	p.says(".chart", "others")
	legend := p.text(".chart")
	if !strings.Contains(legend, "Sorts0") || strings.Contains(legend, "Sorts9") {
		t.Errorf("the chart says %q", legend)
	}
	colours, err := chromedp.Run(p.tab, chromedp.Evaluate[[]string](`[...new Set([...document.querySelectorAll('.chart path')].map((e) => e.getAttribute('fill')))]`))
	testbed.Must(t, err)
	for _, one := range []string{"#c4622a", "#8f6fd0", "#7a7268"} {
		if !slices.Contains(colours, one) {
			t.Errorf("the chart has the colours %v, not %s", colours, one)
		}
	}
}

// All changes stand in one list, narrowed by who made them; each leads to its record.
func TestChangesPage(t *testing.T) {
	p, _, _, _ := crew(t, 1280)
	p.visit("/changes?by=worker")
	p.signIn("lead", testbed.Password)
	p.says(".log", "worker added Gale in Huts, on Valley tablet")
	if got := p.text(".log"); strings.Contains(got, "lead edited") {
		t.Errorf("the list is not narrowed:\n%s", got)
	}
	p.do(chromedp.Click(`(//ol[contains(@class, "log")]//a)[1]`))
	p.says(".trail", "Revision 1")
}

// Tabs of one browser share one stream, tell each other who is signed in, and all hear of what comes.
func TestManyTabs(t *testing.T) {
	p, a, _, _ := crew(t, 1280)
	p.visit("/records/huts")
	p.signIn("lead", testbed.Password)
	p.says(".live", "live")
	tabs := []*page{p}
	for range 7 {
		one := &page{p.t, p.bed, p.tab}
		one.another()
		one.visit("/records/huts?sort=name")
		one.says("tbody", "Lorn")
		one.says(".live", "live")
		tabs = append(tabs, one)
	}
	_, err := a.Add(t.Context(), "huts", device.Fields{"name": "Zinn", "zone": "kell"})
	testbed.Must(t, err)
	testbed.Exchange(t, a)
	last := tabs[7]
	last.says("tbody", "Zinn")
	var health struct{ Listeners int }
	_, text := p.bed.Call("GET", "/v1/health", p.bed.SignIn("admin"), nil)
	if testbed.Must(t, json.Unmarshal(text, &health)); health.Listeners != 1 {
		t.Errorf("%d streams are open for 8 tabs", health.Listeners)
	}
	last.do(chromedp.Click(chromedp.CSS(`button[aria-label="Sign out"]`)))
	last.says("form", "Sign in")
	tabs[6].says("body", "Your sign-in has ended")
}

// A table is dropped in: its rows are shown as records, the wrong ones are said and left out, and how many would be added
// and changed is said before any is. A table of which there is no collection yet comes with a proposal.
func TestBringingInATable(t *testing.T) {
	p, _, _, _ := crew(t, 1280)
	p.visit("/import")
	p.signIn("admin", testbed.Password)
	p.says("h1", "Bring in a table")
	bring := func(name, text string) {
		t.Helper()
		path := filepath.Join(t.TempDir(), name)
		testbed.Must(t, os.WriteFile(path, []byte(text), 0o600))
		p.do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{path}))
	}
	bring("huts.csv", "Name;Code;Beds;State;Zone\nGale;H-0;14;worn;kell\nBessel;H-8;12;sound;kell\nWrong;H-9;3;broken;kell\n")
	p.says("main", "1 row wrong")
	p.says("main", "row 4, state")
	p.says("table.plain", "Bessel")
	p.press("What would it change?")
	p.says("main", "1 updated")
	p.says("main", "1 added")
	p.press("Bring in 2 rows")
	p.says("main", "Brought in")
	listing, err := p.bed.Central.List(t.Context(), central.Everything("lead"), "huts", query.Ask{})
	testbed.Must(t, err)
	if listing.Total != 5 {
		t.Errorf("central has %d huts", listing.Total)
	}
	bring("visits.csv", "party,day\nfour,2026-06-01\nfour,2026-06-01\n")
	p.says("main", "It is not defined yet")
	p.says(".cm-content", "party")
	p.press("What would it change?")
	p.says("main", "2 added")
	p.press("Bring in 2 rows")
	p.says("main", "Brought in: 2 added")
	p.do(chromedp.Click(`//a[contains(., "Look at them")]`))
	p.says(".page", "2 records")
	p.visit("/import")
	bring("huts.csv", "Name;Beds\nGale;14\n")
	p.says("main", "no column for the key code")
	bring("odd.csv", "a,b\n")
	p.says("main", "there are no rows")
	bring("odd.txt.exe", "x")
	p.says("main [role=alert]", "odd.txt.exe")
}

const kinds = `collection: kinds
label: "{name}"
fields:
  name: {type: string}
  seen: {title: Seen, type: string, format: date-time}
  sound: {title: Sound, type: boolean}
  depths: {title: Depths, type: array, items: {type: number}}
  size: {title: Size, type: object, properties: {width: {type: number}, note: {type: string}}}
  parts: {title: Parts, type: array, items: {type: object, properties: {what: {type: string}, count: {type: integer}}}}
  at: {title: Place, $ref: "urn:homing:point"}
`

// A form has an input for each kind of field; what it does not touch stays to the last digit, and a moment keeps its zone.
func TestFormsForEveryKind(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define(kinds)
	p.visit("/records/kinds")
	p.signIn("lead", testbed.Password)
	p.says(".page", "No records yet")
	p.press("Add")
	p.fill(".p-dialog input#name", "One")
	p.choose(".p-dialog .p-select", "no")
	p.fill(".p-dialog input#depths", "1.50; 2; 1e3")
	p.fill(`.p-dialog input[id="size/0/width"]`, "0.10")
	p.press("Add to Parts")
	p.fill(`.p-dialog input[id="parts/0/what"]`, "bolt")
	p.fill(`.p-dialog input[id="parts/0/count"]`, "9007199254740993")
	p.press("Add to Parts")
	p.fill(`.p-dialog input[id="parts/1/what"]`, "nut")
	p.submit()
	p.closed()
	p.says(".page", "1 record")
	fields := func() string {
		t.Helper()
		listing, err := p.bed.Central.List(t.Context(), central.Everything("lead"), "kinds", query.Ask{})
		testbed.Must(t, err)
		return string(listing.Records[0].Fields)
	}
	if got := fields(); got != `{"depths":[1.5,2,1000],"name":"One","parts":[{"count":9007199254740993,"what":"bolt"},{"what":"nut"}],"size":{"width":0.1},"sound":false}` {
		t.Errorf("central has %s", got)
	}
	listing, err := p.bed.Central.List(t.Context(), central.Everything("lead"), "kinds", query.Ask{})
	testbed.Must(t, err)
	id := listing.Records[0].ID.String()
	status, text := p.bed.Call("PATCH", "/v1/records/kinds/"+id, p.bed.SignIn("worker"), json.RawMessage(`{"fields":{"seen":"2026-06-01T10:00:00.123+05:00"}}`))
	if status != 200 {
		t.Fatalf("%d %s", status, text)
	}
	p.visit("/records/kinds/" + id)
	p.says("h1", "One")
	p.press("Edit")
	p.do(chromedp.Focus(chromedp.CSS("input#seen")))
	p.fill("input#name", "Two\t\t\t\t\t\t\t\t\t\t\t\t\t\t")
	p.press("Take 1 out")
	p.press("Save")
	p.says(".head", "revision 3")
	if got := fields(); got != `{"depths":[1.5,2,1000],"name":"Two","parts":[{"what":"nut"}],"seen":"2026-06-01T10:00:00.123+05:00","size":{"width":0.1},"sound":false}` {
		t.Errorf("central has %s", got)
	}
	// A place is picked on a map.
	p.press("Edit")
	p.do(chromedp.Click(chromedp.CSS(`button[aria-label="Pick it on a map"]`)))
	p.opened()
	p.do(chromedp.WaitVisible(chromedp.CSS(".leaflet-container")), chromedp.Sleep(400*time.Millisecond), chromedp.Click(chromedp.CSS(".leaflet-container")))
	p.saysNot(".p-dialog", "Press where it is")
	p.do(chromedp.Click(`//div[contains(@class, "p-dialog")]//button[normalize-space(.)="Take"]`))
	p.closed()
	p.press("Save")
	p.says(".head", "revision 4")
	if got := fields(); !strings.Contains(got, `"at":{"coordinates":[`) {
		t.Errorf("central has %s", got)
	}
	// As it was.
	p.visit("/records/kinds/" + id + "?as_of=2001-01-01T00:00")
	p.says("main", "Central did not have it")
	p.press("As it is now")
	p.says("dl", "Two")
}
