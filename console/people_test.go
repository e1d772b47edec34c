package console_test

import (
	"context"
	"testing"

	"github.com/chromedp/chromedp"

	"homing/device"
	"homing/internal/testbed"
	"homing/service"
)

// An admin shuts somebody out and lets them in again; the page says what follows, asks before, and the audit list tells
// of it.
func TestShuttingOutOnThePage(t *testing.T) {
	p := open(t, 1280)
	testbed.Exchange(t, p.bed.Device("worker", "Lost tablet", device.Options{}))
	p.visit("/people")
	p.signIn("admin", testbed.Password)
	change := func(what string) {
		p.closed()
		p.do(chromedp.Click(`//tr[contains(., "worker")]//button`))
		p.says(".p-dialog", "Change worker")
		p.opened()
		p.press(what)
	}
	change("Disable")
	p.says(".p-dialog", "Disable worker?")
	p.opened()
	p.do(chromedp.Click(chromedp.CSS(".p-dialog .p-toggleswitch input")))
	p.do(chromedp.Click(`//div[contains(@class, "p-dialog")]//button[normalize-space(.)="Disable"]`))
	p.says("tbody", "disabled, may deliver")
	p.visit("/devices")
	p.says("tbody", "shut out with its worker")
	p.visit("/people")
	p.says("tbody", "disabled, may deliver")
	change("Enable")
	p.saysNot("tbody", "disabled")
	change("Set password")
	p.says(".p-dialog", "Set the password of worker")
	p.opened()
	p.fill(".p-dialog input[type=password]", "short")
	p.press("Set")
	p.says(".p-dialog", "at least 10 characters")
	p.fill(".p-dialog input[type=password]", "three birds over stone")
	p.press("Set")
	p.closed()
	p.visit("/audit")
	for _, want := range []string{"worker disabled", "devices may deliver", "worker enabled", "password set", "127.0.0.1"} {
		p.says("tbody", want)
	}
	p.visit("/people")
	p.says("tbody", "worker")
	change("Remove")
	p.says(".p-dialog", "nobody gets its name again")
	p.opened()
	p.do(chromedp.Click(`//div[contains(@class, "p-dialog")]//button[normalize-space(.)="Remove"]`))
	p.closed()
	workers, err := p.bed.Central.Workers(context.Background(), true)
	testbed.Must(t, err)
	for _, w := range workers {
		if w.Name == "worker" && w.RemovedAt == nil {
			t.Errorf("%+v", w)
		}
	}
}

// Everybody sees where they are signed in, ends it, and changes their password; codes are voided where they are listed.
func TestYourAccountOnThePage(t *testing.T) {
	p := open(t, 1280)
	other := p.bed.SignIn("lead")
	p.bed.Code("worker")
	p.visit("/account")
	p.signIn("lead", testbed.Password)
	p.says(".list", "this one")
	p.fill("form input[autocomplete=current-password]", testbed.Password)
	p.do(chromedp.SendKeys(chromedp.CSS("form label:nth-of-type(2) input"), "three birds over stone"),
		chromedp.SendKeys(chromedp.CSS("form label:nth-of-type(3) input"), "three birds over stones"))
	p.press("Change")
	p.says("form", "not the same in both places")
	p.do(chromedp.SendKeys(chromedp.CSS("form label:nth-of-type(3) input"), "\b"))
	p.press("Change")
	p.says("body", "Your other sign-ins have ended")
	if status, _ := p.bed.Call("GET", "/v1/session", other, nil); status != 401 {
		t.Errorf("the other sign-in holds: %d", status)
	}
	p.visit("/devices")
	p.says(".codes", "for worker, issued by admin")
	p.press("Void")
	p.says(".p-confirmdialog", "Void the code for worker?")
	p.opened()
	p.press("Void it")
	p.saysNot("body", "Codes that can still be used")
}

// What about central's door is not as it should be stands on every page of an admin, and of nobody else.
func TestWarningsOnThePage(t *testing.T) {
	p := open(t, 1280, func(o *service.Options) { o.Listen = "0.0.0.0:0" })
	p.visit("/devices")
	p.signIn("admin", testbed.Password)
	p.says("body", "plain HTTP")
}
