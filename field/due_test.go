package field_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"homing/central/people"
	"homing/core/period"
	"homing/device"
	"homing/internal/testbed"
)

// What is due of a worker's huts is seen, begun and finished without signal; what the office has begun of the same hut and week, without knowing of it,
// is the same record.
func TestWhatIsDueIsDone(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	testbed.Must(t, p.bed.Central.HoldTerritories(t.Context(), "mira", []string{"kell crew"}))
	office := p.office("lead")
	gale := p.add(office, "huts", map[string]any{"name": "Gale Hut", "crew": "kell crew"})
	p.add(office, "huts", map[string]any{"name": "Far Hut", "crew": "ostra crew"})
	testbed.Exchange(t, office)
	p.enrol("mira", "2468")
	p.says("main", "Hut rounds")
	p.says("main", "8 to do, ")
	p.offline()
	p.signal(false)

	week := period.Of(period.Week, time.Now())
	_, n := week.First().AddDate(0, 0, 3).ISOWeek()
	p.press("Hut rounds 8 to do")
	p.says("main", "0 of 8 complete")
	p.says("main", fmt.Sprintf("Week %d", n))
	p.saysNot("main", "Far Hut")
	p.snap("due")
	p.press("Gale Hut missing", ".page")
	p.says("form", "Gale Hut")
	p.says("form", "before it is complete")
	p.press("dry")
	p.snap("due-form")
	p.press("Save")
	p.says(".notices", "Saved on this device")
	p.press("Mark as complete")
	p.says(".banner.bad", "Firewood: A value is required.")
	p.press("Edit")
	p.says("form", "Firewood")
	p.saysNot("form", "Gale Hut") // which record it is stays
	p.fill("#wood_m3", "2.5")
	p.press("Save")
	p.press("Mark as complete")
	p.says("main", "complete, by mira")
	p.snap("due-complete")
	p.visit("/records/rounds/due")
	p.says("main", "1 of 8 complete")
	p.visit("/records/rounds/new?place=" + gale.String() + "&period=" + week.String())
	p.says("form", "Gale Hut")
	p.press("Save")
	p.says("form", "There is one for this already")
	p.press("Cancel")

	other := p.add(office, "rounds", map[string]any{"hut": gale.String(), "week": week.String(), "nights": 9, "water": "runs"})
	p.signal(true)
	testbed.Wait(t, "both to be one", func() bool {
		testbed.Exchange(t, office)
		found, err := office.Find(context.Background(), "rounds", device.Ask{Limit: 20})
		testbed.Must(t, err)
		r := found.Records[0]
		return len(found.Records) == 1 && r.ID == other && string(r.Fields["done_by"]) == `"mira"` && string(r.Fields["nights"]) == "9" && string(r.Fields["wood_m3"]) == "2.5"
	})
	p.visit("/records/rounds/" + other.String())
	p.says("main", "9")
	p.press("Open it again")
	p.says("main", "Edit")
	p.visit("/")
	p.says("main", "8 to do")
	p.visit("/device")
	p.set("#tongue", "de")
	p.says("h1", "Gerät") // the page is loaded anew for it
	p.visit("/records/rounds/due")
	p.says("main", "0 von 8 erledigt")
	p.says("main", fmt.Sprintf("Woche %d", n))
}

// snap keeps a picture of the screen where somebody asks for one.
func (p *phone) snap(name string) {
	p.t.Helper()
	folder := os.Getenv("HOMING_PICTURES")
	if folder == "" {
		return
	}
	picture, err := chromedp.Run(p.tab, chromedp.CaptureScreenshot())
	testbed.Must(p.t, err)
	testbed.Must(p.t, os.WriteFile(folder+"/"+name+".png", picture, 0o644))
}

// What central says of how devices behave reaches the app with its next exchange: the note stands above every page, and central hears that the app goes
// by it, and what it does not know.
func TestTheAppIsSteered(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	p.enrol("mira", "2468")
	for name, value := range map[string]string{"note": `"Exchange before Friday."`, "exchange_every": `"4 hours"`, "listen": `false`, "keep_log": `"9 days"`} {
		testbed.Must(t, p.bed.Central.Set(t.Context(), people.Scope{}, name, json.RawMessage(value), 100))
	}
	p.visit("/unsent")
	p.press("Exchange now")
	p.says("body", "Central says: Exchange before Friday.")
	p.visit("/device")
	p.says("main", "exchange every 4 hours")
	testbed.Wait(t, "central to hear of it", func() bool {
		devices, err := p.bed.Central.Devices(t.Context(), "mira")
		return err == nil && !devices[0].Differs && devices[0].AppliedAt != nil && strings.Join(devices[0].Unknown, " ") == "keep_log"
	})
	testbed.Must(t, p.bed.Central.Unset(t.Context(), people.Scope{}, "note"))
	p.visit("/unsent")
	p.press("Exchange now")
	p.saysNot("body", "Central says:")
}
