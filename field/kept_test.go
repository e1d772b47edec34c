package field_test

import (
	"bytes"
	"context"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"homing/device"
	"homing/internal/testbed"
)

// What was typed into a form is there again after a kill, a sign-out and a sign-in, and is nobody else's.
func TestWhatWasTypedIsKept(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	_, bridge := p.ground(office)
	p.enrol("mira", "2468")
	p.offline()
	p.visit("/records/structures/" + bridge.String() + "/edit")
	p.fill("#name", "Gale Footbridge")
	p.fill("#built", "19x9") // cannot be read yet
	p.fill("#note", "Two boards are loose")
	p.drafted("Two boards are loose")
	p.kill()

	p.start()
	p.visit("/")
	p.says("main", "Typed and not saved")
	p.press("Gale Bridge")
	p.says("main", "is here again, and not saved yet")
	if got := p.box("#name") + "|" + p.box("#built") + "|" + p.box("#note"); got != "Gale Footbridge|19x9|Two boards are loose" {
		t.Errorf("the form has %q after a kill", got)
	}
	p.press("Save")
	p.says("#field-built .wrong", "This is not a number.")

	// Somebody else joins the device: the draft is not theirs to see, and what is unsent neither.
	p.visit("/device")
	p.says("main", "Who uses it")
	p.press("Sign out")
	p.press("Somebody else")
	p.fill("#code", p.bed.Code("tobin"))
	p.fill("#pin", "1357\r")
	p.says(".status", "tobin")
	p.visit("/")
	p.says("main", "Structures")
	if text := p.text("main"); strings.Contains(text, "Typed and not saved") {
		t.Errorf("tobin sees mira's draft:\n%s", text)
	}
	if plain := p.stored("Two boards are loose"); plain {
		t.Error("the draft lies open in the store while somebody else uses the device")
	}
	p.visit("/device")
	p.press("Sign out")
	p.signal(false)
	p.press("mira")
	p.fill("#pin", "2468\r")
	p.says("main", "Typed and not saved")
	p.press("Gale Bridge")
	p.says("main", "is here again")
	p.fill("#built", "1939")
	p.press("Save")
	p.says(".notices", "Saved on this device: Gale Footbridge")
	p.visit("/")
	p.says("main", "What there is")
	p.saysNot("main", "Typed and not saved")
}

// drafted waits until the draft on the disk has a text.
func (p *phone) drafted(text string) {
	p.t.Helper()
	testbed.Wait(p.t, "the draft has "+text, func() bool { return p.stored(text) })
}

// stored says whether the files of the store hold a text as it is.
func (p *phone) stored(text string) bool {
	p.t.Helper()
	return found(p.t, p.profile, text)
}

// A kill in the middle of a save leaves all of it or nothing, and never two of it.
func TestKilledInASave(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	trail, _ := p.ground(office)
	p.enrol("mira", "2468")
	p.offline()
	for n, after := range []time.Duration{0, 3 * time.Millisecond, 8 * time.Millisecond, 20 * time.Millisecond} {
		p.visit("/records/structures/new?parent=" + trail.String())
		p.says("form", "Name")
		name := "Sign " + string(rune('A'+n))
		p.press("signpost")
		p.fill("#name", name)
		p.drafted(name) // and with it what was there before
		eval[bool](p, `(() => { document.querySelector('form button[type=submit]').click(); return true })()`)
		time.Sleep(after)
		p.kill()
		p.start()
		typed := false
		testbed.Wait(t, name+" to be saved, or kept as it was typed", func() bool {
			p.visit("/")
			p.says("main", "What there is")
			typed = strings.Contains(p.text("main"), "Typed and not saved")
			p.visit("/unsent")
			p.says("main", "Exchange now")
			return typed || strings.Contains(p.text("main"), name)
		})
		if typed {
			p.visit("/")
			p.press("New in Structures")
			// It may have been saved, and the app ended before it could say so: then the record comes up.
			testbed.Wait(t, "the form or the record", func() bool { return p.text("h1") == name || strings.Contains(p.text("form"), "Save") })
			if p.text("h1") != name {
				p.press("Save")
				p.says("h1", name)
			}
		}
	}
	p.visit("/unsent")
	p.press("Exchange now")
	p.says("main", "went in")
	found := p.atCentral(office, "Sign")
	names := map[string]int{}
	for _, record := range found {
		names[record.Label]++
	}
	for _, name := range []string{"Sign A", "Sign B", "Sign C", "Sign D"} {
		if names[name] != 1 {
			t.Errorf("%s is there %d times", name, names[name])
		}
	}
}

// A kill in the middle of an exchange: central has the batch, and the phone never heard.
func TestKilledInAnExchange(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	_, bridge := p.ground(office)
	p.enrol("mira", "2468")
	p.offline()
	p.visit("/records/structures/" + bridge.String() + "/edit")
	p.press("worn")
	var arrived atomic.Bool
	held, release := context.WithCancel(t.Context())
	defer release()
	hold := func(r *http.Request) bool {
		if r.Method != http.MethodPost || !bytes.Contains(p.way.body(r), []byte("worn")) {
			return true
		}
		if arrived.CompareAndSwap(false, true) {
			p.way.forward(r) // its answer is never waited for
		}
		<-held.Done() // nor that of another try, on a machine that is busy for longer than the app waits
		return false
	}
	p.way.asked.Store(&hold)
	p.press("Save")
	p.says(".notices", "Saved")
	p.visit("/unsent")
	p.press("Exchange now") // or the app does it by itself, as it opens
	testbed.Wait(t, "the batch to leave", arrived.Load)
	testbed.Wait(t, "central to have it", func() bool {
		testbed.Exchange(t, office)
		got, err := office.Get(context.Background(), "structures", bridge)
		testbed.Must(t, err)
		return string(got.Fields["state"]) == `"worn"`
	})
	p.kill()
	release()
	p.way.asked.Store(nil)
	p.way.gone.Store(true)
	p.start()
	p.visit("/unsent")
	p.says("main", "sound → worn")
	p.way.gone.Store(false)
	p.press("Exchange now")
	p.says("main", "1 change went in")
	p.says("main", "Nothing waits to be sent")
	history := p.bed.SignIn("lead")
	status, text := p.bed.Call(http.MethodGet, "/v1/history/structures/"+bridge.String(), history, nil)
	if status != http.StatusOK || strings.Count(string(text), `"to":"worn"`) != 1 {
		t.Errorf("the edit is in the history more than once, or not at all: %d %s", status, text)
	}
}

// What others do while a form is open is said, and what was typed stays.
func TestTheRecordUnderAnOpenForm(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	trail, bridge := p.ground(office)
	p.enrol("mira", "2468")
	p.visit("/records/structures/" + bridge.String() + "/edit")
	p.says("form", "Name")
	p.fill("#note", "Two boards are loose")

	ctx := context.Background()
	_, err := office.Edit(ctx, "structures", bridge, device.Fields{"built": 1939})
	testbed.Must(t, err)
	testbed.Exchange(t, office)
	p.says("main", "Somebody has changed this record since you opened it.")
	p.says("main", "Built: 1939")
	p.press("Save")
	p.says(".notices", "Saved on this device")
	p.says("main", "1939")
	p.says("main", "Two boards are loose")

	// The definition changes.
	p.visit("/records/trails/" + trail.String() + "/edit")
	p.says("form", "Name")
	p.fill("#note", "Washed out")
	all := demoDefinitions(t)
	p.bed.Define(strings.Replace(all[index(all, "collection: trails")], "  course: {$ref",
		"  surface: {type: string, title: Surface}\n  course: {$ref", 1))
	p.exchangeUnseen()
	p.says("main", "The form has changed at central.")
	p.says("form", "Surface")
	if got := p.box("#note"); got != "Washed out" {
		t.Errorf("what was typed is %q once the form has changed", got)
	}
	p.press("Save")
	p.says(".notices", "Saved")

	// It is removed.
	far := p.add(office, "structures", map[string]any{"name": "Old Sign", "kind": "signpost", "trail": trail.String()})
	testbed.Exchange(t, office)
	p.visit("/records/structures?search=old")
	p.says("main", "1 record")
	p.visit("/records/structures/" + far.String() + "/edit")
	p.says("form", "Name")
	p.fill("#note", "Leans")
	testbed.Must(t, office.Remove(ctx, "structures", far))
	testbed.Exchange(t, office)
	p.says("main", "This record has gone from this device")
	if got := p.box("#note"); got != "Leans" {
		t.Errorf("what was typed is %q once the record has gone", got)
	}
}

func index(texts []string, start string) int {
	for n, text := range texts {
		if strings.HasPrefix(text, start) {
			return n
		}
	}
	return -1
}

// exchangeUnseen lets the app exchange as it does by itself, while a page stays open.
func (p *phone) exchangeUnseen() {
	p.t.Helper()
	eval[bool](p, `(() => { dispatchEvent(new Event('online')); return true })()`)
}
