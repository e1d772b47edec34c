package field_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	browserp "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/chromedp"

	"homing/internal/testbed"
)

// A backup is a file, erasing says first what would be lost, and what was backed up comes home from another life of the device.
func TestBackedUpErasedRestored(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	trail, _ := p.ground(office)
	p.enrol("mira", "2468")
	p.offline()
	p.signal(false)
	p.addSign(trail, "Lonely Sign")

	downloads := t.TempDir()
	_, err := chromedp.CallBrowser(p.tab, browserp.SetDownloadBehavior, browserp.SetDownloadBehaviorParams{Behavior: "allow", DownloadPath: downloads})
	testbed.Must(t, err)
	p.visit("/device")
	p.press("Back up to a file")
	p.says(".notices", "Backed up.")
	var file string
	testbed.Wait(t, "the file", func() bool {
		all, _ := filepath.Glob(filepath.Join(downloads, "homing-mira-*.db"))
		if len(all) == 1 {
			file = all[0]
		}
		return file != ""
	})
	text, err := os.ReadFile(file)
	testbed.Must(t, err)
	if !strings.HasPrefix(string(text), "SQLite format 3") {
		t.Errorf("the backup begins with %.20q", text)
	}

	p.press("Erase this device")
	p.says("dialog", "Something would be lost with it that is nowhere else: 1 changes")
	p.press("Keep it")
	p.press("Erase this device")
	p.press("Erase it, and lose that")
	p.says("h1", "Collect on this device")

	p.signal(true)
	p.press("I have a backup of a device that is lost")
	p.do(chromedp.SetUploadFiles(chromedp.CSS("input[type=file]"), []string{file}))
	p.says("main", "Structures")
	p.visit("/unsent")
	p.comesHome(office, "Lonely Sign")
}

// What belongs to a record goes with it only once that was said.
func TestRemovingAsksForChildren(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	_, bridge := p.ground(office)
	p.add(office, "inspections", map[string]any{"structure": bridge.String(), "date": "2026-05-01", "finding": "sound"})
	testbed.Exchange(t, office)
	p.enrol("mira", "2468")
	p.signal(false)
	p.visit("/records/structures/" + bridge.String())
	p.says("main", "Inspections 1")
	p.press("Remove")
	p.says("dialog", "What belongs to it goes with it: 1 Inspections")
	p.press("Keep it")
	p.says("h1", "Gale Bridge")
	p.press("Remove")
	p.press("Remove all of it")
	p.says(".notices", "Removed: Gale Bridge")
	p.press("Undo", ".notices")
	p.says(".notices", "Taken back.")
	p.visit("/records/structures/" + bridge.String())
	p.says("main", "Inspections 1")
}

// A record that a form needs is added on the way, and the form is as it was.
func TestAddedOnTheWay(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	p.ground(office)
	p.enrol("mira", "2468")
	p.visit("/records/inspections/new")
	p.says("form", "Finding")
	p.set("#date", "2026-11-26")
	p.press("watch")
	p.press("Choose …")
	p.press("Add one")
	p.says("h1", "Add to Structures")
	p.fill("#name", "New Ladder")
	p.press("ladder")
	p.press("Choose …")
	p.press("KL-07 Gale Path")
	p.press("Save")
	p.says("h1", "Add to Inspections")
	p.says("form", "New Ladder")
	if got := p.box("#date"); got != "2026-11-26" {
		t.Errorf("the date is %q", got)
	}
	p.press("Save")
	p.says("main", "New Ladder")
	p.says("main", "watch")
}

// A line is walked, and what was walked is kept as it comes.
func TestALineIsWalked(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	office := p.office("lead")
	trail, _ := p.ground(office)
	p.enrol("mira", "2468")
	p.stands(12, 46, 5)
	p.visit("/records/trails/" + trail.String() + "/edit")
	p.press("Walk along it")
	p.says("#field-course", "1 point")
	p.stands(12.001, 46, 5)
	p.says("#field-course", "2 points")
	p.stands(12.00101, 46, 5) // a step, which draws nothing
	p.stands(12.002, 46, 400) // another valley, perhaps
	p.stands(12.002, 46.001, 5)
	p.says("#field-course", "3 points")
	p.drafted("46.001")
	p.kill()
	p.start()
	p.visit("/records/trails/" + trail.String() + "/edit")
	p.says("main", "is here again")
	p.says("#field-course", "3 points")
	p.press("Last point away")
	p.says("#field-course", "2 points")
	p.press("Save")
	p.says("main", "a line of 2 points")
}

// What is not kept here is looked up at central, and said to need signal.
func TestLookedUpAtCentral(t *testing.T) {
	t.Parallel()
	p := newPhone(t)
	status, text := p.bed.Call("POST", "/v1/records/surveys", p.bed.SignIn("lead"), `{"fields":{"year":1931,"place":"Gale Saddle"}}`)
	if status >= 300 {
		t.Fatalf("%d %s", status, text)
	}
	p.enrol("mira", "2468")
	p.visit("/records/surveys")
	p.says("main", "Nothing was looked up yet.")
	p.press("Look up at central")
	p.says(".rows", "1931 Gale Saddle")
	p.press("1931 Gale Saddle")
	p.says("h1", "1931 Gale Saddle")
	p.signal(false)
	p.visit("/records/surveys")
	p.says("main", "That needs signal")
	p.says(".rows", "1931 Gale Saddle")
}
