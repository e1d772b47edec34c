package console_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"homing/core/period"
	"homing/device"
	"homing/internal/testbed"
)

const roundOf = `
collection: rounds
title: Hut rounds
label: "{week}"
required: [hut, week, water]
fields:
  hut: {type: string, format: uuid, title: Hut, reference: huts}
  week: {type: string, title: Week, period: week}
  water: {title: Water, enum: [runs, dry]}
  done_by: {type: string, title: Done by}
coverage: {place: hut, period: week, expected: {due: 3 days}, complete: done_by}
`

// A lead sees which huts have reported, begins what is missing from its cell, marks it complete once nothing is missing in it, and hands out what is owed.
func TestCoverageOnThePage(t *testing.T) {
	axe, err := os.ReadFile("node_modules/axe-core/axe.min.js")
	testbed.Must(t, err)
	p := open(t, 1280)
	p.bed.Define("collection: huts\ntitle: Huts\nlabel: \"{name}\"\nfields:\n  name: {type: string}\n  crew: {type: string}\nsync: {territory: record.crew}\n", roundOf)
	testbed.Must(t, p.bed.Central.HoldTerritories(t.Context(), "worker", []string{"kell"}))
	store := p.bed.Device("lead", "Office", device.Options{})
	testbed.Exchange(t, store)
	var huts []device.Record
	for name, crew := range map[string]string{"Arn Hut": "kell", "Gale Hut": "ostra", "=1+1": "ostra"} {
		hut, err := store.Add(t.Context(), "huts", device.Fields{"name": name, "crew": crew})
		testbed.Must(t, err)
		huts = append(huts, hut)
	}
	for _, hut := range huts {
		if hut.Label != "Gale Hut" {
			continue
		}
		r, err := store.Add(t.Context(), "rounds", device.Fields{"hut": hut.ID.String(), "week": period.Of(period.Week, time.Now()).Plus(-3).String(), "water": "dry"})
		testbed.Must(t, err)
		_, err = store.Complete(t.Context(), "rounds", r.ID)
		testbed.Must(t, err)
	}
	testbed.Exchange(t, store)

	p.visit("/")
	p.signIn("lead", testbed.Password)
	p.do(chromedp.Click(`//nav//a[contains(., "Coverage")]`))
	p.says("main", "4 % complete: 1 of 24")
	p.says("main", "1 completed late")
	for _, look := range []string{"light", "dark"} {
		p.looks(look)
		p.inspect(string(axe), "coverage, "+look)
	}
	now := period.Of(period.Week, time.Now())
	cell := `//button[contains(@class, "cell") and contains(@aria-label, "Arn Hut") and contains(@aria-label, "Week ` + weekNumber(now) + `,")]`
	p.do(chromedp.Click(cell))
	p.says(".p-dialog form", "before it is complete")
	p.press("Add")
	p.says("main", "1 begun")
	p.do(chromedp.Click(cell))
	p.says("main", "Mark complete")
	p.press("Mark complete")
	p.says(".p-toast", "Water: a value is required")
	p.press("Edit")
	p.says("form.form", "Water")
	p.saysNot("form.form", "Hut") // which record it is stays
	p.do(chromedp.Click(`//form//span[@aria-label="Water"]`), chromedp.Click(`//li[contains(., "runs")]`))
	p.press("Save")
	p.says("main", "runs")
	p.press("Mark complete")
	p.says("main", "complete, marked by lead")
	p.press("Open again")
	p.says("main", "Mark complete")

	p.visit("/coverage?view=owed")
	p.says("main", "23 records to be made or finished")
	p.says("main", "begun by lead")
	p.inspect(string(axe), "what is owed")
	_, err = chromedp.Run(p.tab, chromedp.Evaluate[bool](`window.made = ''; const was = URL.createObjectURL; URL.createObjectURL = (blob) => { blob.text().then((text) => (window.made = text)); return was(blob) }; true`))
	testbed.Must(t, err)
	p.press("CSV")
	testbed.Wait(t, "the file", func() bool {
		text, err := chromedp.Run(p.tab, chromedp.Evaluate[string](`window.made`))
		return err == nil && strings.Contains(text, `"Arn Hut","`+now.String()+`"`) && strings.Contains(text, `"'=1+1"`)
	})
	p.visit("/coverage?territory=ostra&state=late")
	p.says("main", "Gale Hut")
	p.saysNot("main table.grid", "Arn Hut")
}

func weekNumber(p period.Period) string {
	return strings.TrimLeft(strings.SplitN(p.String(), "-W", 2)[1], "0")
}
