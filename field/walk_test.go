package field_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
	"github.com/google/uuid"

	"homing/device"
	"homing/internal/testbed"
)

// office is a device beside the phone, on which somebody else works.
func (p *phone) office(worker string) *device.Store {
	p.t.Helper()
	store := p.bed.Device(worker, "Office laptop", device.Options{})
	testbed.Exchange(p.t, store)
	return store
}

func (p *phone) add(store *device.Store, collection string, fields map[string]any) uuid.UUID {
	p.t.Helper()
	record, err := store.Add(context.Background(), collection, device.Fields(fields))
	testbed.Must(p.t, err)
	return record.ID
}

// signal takes the way to central away, or gives it back; the browser hears of it as a phone's does.
func (p *phone) signal(is bool) {
	p.t.Helper()
	p.way.gone.Store(!is)
	_, err := chromedp.Call(p.tab, network.OverrideNetworkState, network.OverrideNetworkStateParams{Offline: !is, DownloadThroughput: -1, UploadThroughput: -1})
	testbed.Must(p.t, err)
}

// trail and structure are what a walk needs to begin with.
func (p *phone) ground(office *device.Store) (trail, bridge uuid.UUID) {
	p.t.Helper()
	trail = p.add(office, "trails", map[string]any{"number": "KL-07", "name": "Gale Path", "district": "kell", "state": "open"})
	bridge = p.add(office, "structures", map[string]any{"name": "Gale Bridge", "kind": "bridge", "trail": trail.String(), "state": "sound",
		"location": map[string]any{"type": "Point", "coordinates": []float64{12.5, 46.25}}})
	p.add(office, "structures", map[string]any{"name": "Far Shelter", "kind": "shelter", "trail": trail.String(), "state": "damaged",
		"location": map[string]any{"type": "Point", "coordinates": []float64{12.9, 46.25}}})
	testbed.Exchange(p.t, office)
	return trail, bridge
}

// addSign adds a signpost on the phone, as a worker does.
func (p *phone) addSign(trail uuid.UUID, name string) {
	p.t.Helper()
	p.visit("/records/structures/new?parent=" + trail.String())
	p.fill("#name", name)
	p.press("signpost")
	p.press("Save")
	p.says(".notices", "Saved")
}

// atCentral are the structures of a name that the office gets from central.
func (p *phone) atCentral(office *device.Store, name string) []device.Record {
	p.t.Helper()
	testbed.Exchange(p.t, office)
	found, err := office.Find(context.Background(), "structures", device.Ask{Search: name, Limit: 20})
	testbed.Must(p.t, err)
	return found.Records
}

// comesHome waits until what the phone has saved is at central, once.
func (p *phone) comesHome(office *device.Store, name string) {
	p.t.Helper()
	testbed.Wait(p.t, name+" to come home", func() bool { return len(p.atCentral(office, name)) == 1 })
}

// A worker's way, from the link to what came back, most of it without signal.
func TestTheWorkersWay(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	_, bridge := p.ground(office)

	// Enrol: the link, a PIN, the first load.
	p.enrol("mira", "2468")
	p.says("main", "Structures")
	p.says(".status", "mira")
	p.offline()

	// Without signal, the app opens from what it has kept.
	p.signal(false)
	p.do(chromedp.Navigate("about:blank"))
	p.visit("/")
	p.says(".status", "No signal")
	p.says("main", "Structures")

	// Find: by words, by a choice, by where one is.
	p.press("Structures")
	p.says("main", "2 records")
	p.fill("input[type=search]", "gale")
	p.says("main", "1 record")
	p.fill("input[type=search]", "")
	p.says("main", "2 records")
	p.press("Narrow and sort")
	p.press("shelter")
	p.says("main", "1 record")
	p.says(".rows", "Far Shelter")
	p.press("shelter")
	p.stands(12.89, 46.25, 10)
	p.press("Nearest first")
	p.says(".rows li:first-child", "Far Shelter")
	p.says(".rows li:first-child", "m east")
	p.press("1 soon")
	p.says("main", "1 record")
	p.says(".rows .mark", "damaged")

	// Look, and write: an inspection at the bridge, with a field that is asked for only where it makes sense.
	p.visit("/records/structures/" + bridge.String())
	p.says("h1", "Gale Bridge")
	p.press("Add to Inspections")
	p.says("form", "Finding")
	p.says("form", "Gale Bridge") // the structure is where one came from
	p.saysNot("form", "Closed until")
	p.press("close at once")
	p.says("form", "Closed until")
	p.press("repair soon")
	p.saysNot("form", "Closed until")
	p.press("Save")
	p.says("#field-date .wrong", "A value is required.")
	p.set("#date", "2026-11-26")
	p.fill("#rot_percent", "101")
	p.press("Save")
	p.says("#field-rot_percent .wrong", "must be at most 100, is 101")
	p.fill("#rot_percent", "35")
	p.fill("#inspector", "Mira of the Kell crew")
	p.press("Save and next")
	p.says(".notices", "Saved on this device")
	if got := p.box("#inspector"); got != "Mira of the Kell crew" {
		t.Errorf("the next one of many starts with the inspector %q", got)
	}
	if got := p.box("#rot_percent"); got != "" {
		t.Errorf("the next one of many starts with what is not to be carried over: %q", got)
	}
	p.press("Cancel") // nothing was typed
	p.says("h1", "Gale Bridge")
	p.says("main", "repair soon")
	p.says("main", "unsent")

	// Edit, and take it back.
	p.press("Edit")
	p.fill("#name", "Gale Footbridge")
	p.press("Save")
	p.says("h1", "Gale Footbridge")
	p.press("Undo", ".notices")
	p.says(".notices", "Taken back.")
	p.saysNot("h1", "Gale Footbridge")

	// Review: what will be sent, from what to what.
	p.press("Edit")
	p.press("worn")
	p.press("Save")
	p.says(".notices", "Saved")
	p.visit("/unsent")
	p.says("main", "No signal.")
	p.says("main", "Gale Bridge")
	p.says("main", "sound → worn")
	p.press("Exchange now")
	p.says("main", "Central cannot be reached from here.")

	// Send, once there is signal: by itself, as the phone hears of it.
	p.signal(true)
	p.says("main", "Nothing waits to be sent")
	p.says("main", "went in")
	p.press("Past exchanges")
	p.says("details", "went in")
	testbed.Exchange(t, office)
	got, err := office.Get(context.Background(), "structures", bridge)
	testbed.Must(t, err)
	if string(got.Fields["state"]) != `"worn"` {
		t.Errorf("central has %s", got.Fields["state"])
	}
	found, err := office.Find(context.Background(), "inspections", device.Ask{Limit: 10})
	testbed.Must(t, err)
	if len(found.Records) != 1 || string(found.Records[0].Fields["rot_percent"]) != "35" {
		t.Errorf("the office has %v", found.Records)
	}

	// Keep: what it holds, who uses it; signing out shows nothing of it.
	p.visit("/device")
	p.says("main", "used")
	p.press("Sign out")
	p.says("h1", "Who are you?")
	if strings.Contains(p.text("body"), "Gale") {
		t.Error("records are shown while nobody is signed in")
	}
	p.press("mira")
	p.fill("#pin", "1111\r")
	p.says("main", "This is not the PIN.")
	p.fill("#pin", "2468\r")
	p.says(".status", "mira")
}

// box is what stands in a box.
func (p *phone) box(selector string) string {
	p.t.Helper()
	return eval[string](p, fmt.Sprintf(`document.querySelector(%q).value`, selector))
}

// offline waits until the app's files are kept.
func (p *phone) offline() {
	p.t.Helper()
	for limit := time.Now().Add(patience); time.Now().Before(limit); time.Sleep(50 * time.Millisecond) {
		if eval[bool](p, `navigator.serviceWorker.getRegistration().then((r) => r?.active?.state === 'activated')`, chromedp.EvalAwaitPromise) {
			return
		}
	}
	p.t.Fatal("the app's files do not come to be kept")
}

// Several records at once: one field is changed, and what does not fit harms no other; all of it is taken back with a tap.
func TestSeveralAtOnce(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	trail, _ := p.ground(office)
	p.add(office, "structures", map[string]any{"name": "Last Sign", "kind": "signpost", "trail": trail.String(), "state": "worn"})
	testbed.Exchange(t, office)
	p.enrol("mira", "2468")
	p.signal(false)
	p.visit("/records/structures")
	p.says("main", "3 records")
	p.press("Choose several")
	p.press("Gale Bridge")
	p.press("Last Sign")
	p.says("main", "2 chosen")
	p.press("Change a field")
	p.set("#which", "state")
	p.press("out of use")
	p.press("Save", "dialog")
	p.says(".notices", "2 records changed")
	p.says("main", "2 urgent")
	p.press("Undo", ".notices")
	p.says(".notices", "Taken back.")
	p.saysNot("main", "urgent")

	p.press("Choose several")
	p.press("Gale Bridge")
	p.press("Last Sign")
	p.press("Remove")
	p.says("dialog", "Remove 2 records?")
	p.press("Remove", "dialog")
	p.says(".notices", "2 records removed")
	p.says("main", "1 record")
	p.press("Undo", ".notices")
	p.says("main", "3 records")
	p.visit("/unsent")
	p.says("main", "Nothing waits to be sent")

	// One of them cannot be without a name.
	p.visit("/records/structures")
	p.press("Choose several")
	p.press("Far Shelter")
	p.press("Change a field")
	p.set("#which", "name")
	p.press("Save", "dialog")
	p.says("dialog", "Far Shelter: A value is required.")
}
