package console_test

import (
	"context"
	"encoding/json"
	"strconv"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/google/uuid"

	"homing/central"
	"homing/central/changes"
	"homing/core/change"
	"homing/core/record"
	"homing/device"
	"homing/internal/testbed"
)

// A conflict shows on its page as soon as it opens, and one press settles it.
func TestConflictsPage(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define("collection: sites\nlabel: \"{name}\"\nfields:\n  name: {type: string}\n  state: {title: State, " +
		"enum: [open, closed]}\nsync:\n  rules: {state: ask}\n")
	a, b := p.bed.Device("worker", "Valley tablet", device.Options{}),
		p.bed.Device("lead", "Ridge phone", device.Options{})
	testbed.Exchange(t, a, b)
	site, err := a.Add(context.Background(), "sites", device.Fields{"name": "Fork"})
	testbed.Must(t, err)
	testbed.Exchange(t, a, b)
	p.visit("/conflicts")
	p.signIn("lead", testbed.Password)
	p.says(".page", "Nothing waits for a person")
	for store, state := range map[*device.Store]string{a: "open", b: "closed"} {
		_, err := store.Edit(context.Background(), "sites", site.ID, device.Fields{"state": state})
		testbed.Must(t, err)
	}
	testbed.Exchange(t, a, b)
	p.says(".conflict", "worker on Valley tablet")
	p.says(".conflict", "lead on Ridge phone")
	p.press("Take this")
	p.says(".page", "Nothing waits for a person")
	testbed.Exchange(t, a, b)
	p.bed.Same(a, b)
	r, err := a.Get(context.Background(), "sites", site.ID)
	if err != nil || string(r.Fields["state"]) != `"closed"` {
		t.Errorf("the device shows %s, %v", r.Fields["state"], err)
	}
}

// Many conflicts are settled by a rule, a removal among them; one is opened again from the record's history; an
// exchange tells what it carried.
func TestSettlingManyOnThePage(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define("collection: sites\nlabel: \"{name}\"\nfields:\n  name: {type: string}\n  state: {title: State, " +
		"enum: [open, closed]}\nsync:\n  removal: ask\n  rules: {state: ask}\n")
	a, b := p.bed.Device("worker", "Valley tablet", device.Options{}),
		p.bed.Device("lead", "Ridge phone", device.Options{})
	testbed.Exchange(t, a, b)
	ctx := context.Background()
	fork, err := a.Add(ctx, "sites", device.Fields{"name": "Fork"})
	testbed.Must(t, err)
	gone, err := a.Add(ctx, "sites", device.Fields{"name": "Old Ford"})
	testbed.Must(t, err)
	testbed.Exchange(t, a, b)
	_, err = a.Edit(ctx, "sites", fork.ID, device.Fields{"state": "open"})
	testbed.Must(t, err)
	time.Sleep(time.Second) // which edit is the later is known to within the time that the devices' requests took
	_, err = b.Edit(ctx, "sites", fork.ID, device.Fields{"state": "closed"})
	testbed.Must(t, err)
	_, err = a.Edit(ctx, "sites", gone.ID, device.Fields{"state": "open"})
	testbed.Must(t, err)
	testbed.Must(t, b.Remove(ctx, "sites", gone.ID))
	testbed.Exchange(t, a, b)
	p.visit("/conflicts")
	p.signIn("lead", testbed.Password)
	p.do(chromedp.Click(`//ol//button[contains(., "Old Ford")]`))
	p.says(".page", "The removal of Old Ford")
	p.says(".page", "remove it")
	p.press("Show what that does")
	p.says(".p-dialog", "State of Fork: closed")
	p.press("Settle")
	p.says(".page", "Nothing waits for a person")
	testbed.Exchange(t, a, b)
	p.bed.Same(a, b)
	p.visit("/records/sites/" + fork.ID.String())
	p.says(".trail", "State was in dispute; this change settled it")
	p.press("Open it again")
	p.says(".trail", "The dispute over State was opened again")
	p.visit("/conflicts")
	p.says(".conflict", "State of Fork")
	p.visit("/exchanges")
	p.do(chromedp.Click(`(//tbody/tr[contains(., "Ridge phone") and td[5][normalize-space()="2"]]//a)[1]`))
	p.says(".page", "remove, held")
	p.says(".page", "closed")
}

// Two people have one record open at central. The second is told what became of an edit, and of a removal, that met
// the first's.
func TestMeetingOnThePage(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define("collection: sites\nlabel: \"{name}\"\nfields:\n  name: {type: string}\n  owner: {type: string, " +
		"title: Owner}\n  note: {type: string, title: Note}\nsync:\n  rules: {owner: ask}\n")
	other := central.Everything("other")
	id := uuid.Must(uuid.NewV7())
	write := func(kind change.Kind, field, value string) {
		t.Helper()
		_, err := p.bed.Central.Direct(t.Context(), other, changes.Write{Collection: "sites", Record: id, Kind: kind,
			Base: -1, Fields: record.Delta{field: {To: json.RawMessage(strconv.Quote(value))}}})
		testbed.Must(t, err)
	}
	write(change.Add, "name", "Fork")
	p.visit("/records/sites/" + id.String())
	p.signIn("lead", testbed.Password)
	p.says("h1", "Fork")

	p.press("Edit")
	write(change.Edit, "owner", "Gale")
	p.says(".page", "Somebody has changed this record meanwhile")
	p.fill("input#owner", "Tarn")
	p.press("Save")
	p.says(".p-toast", "Held for a person")
	p.says(".trail", "held for a person. It asked for Tarn")
	p.says("dl", "in dispute")
	p.visit("/conflicts")
	p.says(".conflict", "Gale")
	p.says(".conflict", "Tarn")

	p.visit("/records/sites/" + id.String())
	p.says("h1", "Fork")
	p.press("Remove")
	p.says(".p-confirmdialog", "Its history stays")
	write(change.Edit, "note", "still there")
	p.says("dl", "still there")
	p.confirm("Remove")
	p.says(".p-toast", "Not removed")
	p.says(".trail", "removal asked for by lead")
	p.press("Remove")
	p.confirm("Remove")
	p.says(".head", "removed")
}
