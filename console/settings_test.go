package console_test

import (
	"testing"

	"github.com/chromedp/chromedp"

	"homing/device"
	"homing/internal/testbed"
)

// A lead puts a device into a team, says a setting of it, sees that it has taken it over, and takes it back.
func TestSettingsOnThePage(t *testing.T) {
	p := open(t, 1280)
	tablet, phone := p.bed.Device("worker", "Kell tablet", device.Options{}), p.bed.Device("worker", "Ostra phone", device.Options{})
	testbed.Exchange(t, tablet, phone)
	p.visit("/devices")
	p.signIn("lead", testbed.Password)
	p.do(chromedp.Click(`//main//a[contains(., "How they behave")]`))
	p.says("main", "Nothing is said")
	p.do(chromedp.Click(`//button[@aria-label="Teams of Kell tablet: no team; change"]`))
	p.do(chromedp.SendKeys(`//input[@aria-label="Teams, with commas between"]`, "kell crew\r"))
	p.says("main", "kell crew")
	pick := func(label, option string) {
		t.Helper()
		p.do(chromedp.Click(`//form//span[@aria-label="`+label+`"]`), chromedp.Click(`//li[normalize-space(.)="`+option+`"]`))
	}
	pick("Setting", "exchange_every")
	p.fill("#value", "now and then")
	p.press("Say it")
	p.says("form .wrong", "is a time from")
	p.fill("#value", "2 hours")
	pick("Of", "team kell crew")
	p.press("Say it")
	p.says("main table", "0 of 1")
	p.says("main", "1 device still to take them over")
	testbed.Exchange(t, tablet, phone)
	p.says("main table", "1 of 1")
	p.says("main", "All devices go by what is said of them")
	p.do(chromedp.Click(`//button[contains(@aria-label, "Take back exchange_every")]`))
	p.opened()
	p.answer("Take back")
	p.says("main", "Nothing is said")
}
