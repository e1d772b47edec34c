package console_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/chromedp/chromedp"

	"homing/device"
	"homing/feed"
	"homing/internal/cli/office"
	"homing/internal/testbed"
)

// An admin sees what is wrong with a feed, mends it, looks at what the destination refuses and sends it again, lets the feed rest, go on and start anew.
func TestFeedsOnThePage(t *testing.T) {
	p := open(t, 1280)
	ctx := context.Background()
	var refuses atomic.Bool
	refuses.Store(true)
	inner := office.NewReceiver("larch", t.Output())
	to := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if refuses.Load() {
			w.WriteHeader(http.StatusUnprocessableEntity)
			return
		}
		inner.ServeHTTP(w, r)
	}))
	t.Cleanup(to.Close)
	f, err := feed.Read("office.yaml", []byte("feed: office\ntitle: For the office\nsees: all\ncollections: {trails: {}}\nto: {hook: {url: \""+to.URL+"\", secret: office}}\n"))
	testbed.Must(t, err)
	testbed.Must(t, p.bed.Central.DefineFeeds(ctx, "admin", []feed.Feed{f}))
	store := p.bed.Device("lead", "Office", device.Options{})
	testbed.Exchange(t, store)
	_, err = store.Add(ctx, "trails", device.Fields{"name": "Ridge"})
	testbed.Must(t, err)
	testbed.Exchange(t, store)

	p.visit("/feeds")
	p.signIn("admin", testbed.Password)
	p.says("main", "there is no secret office")
	testbed.Must(t, p.bed.Central.SetSecret(ctx, "admin", "office", "larch"))
	p.press("Try now")
	p.says("main", "1 set aside")
	p.press("Which")
	p.says("main li", "422")
	refuses.Store(false)
	p.press("Send again")
	p.says("main", "1 brought")
	p.saysNot("main", "set aside")
	p.press("Pause")
	p.says("main", "paused")
	p.press("Go on")
	p.says("main", "up to date")
	p.do(chromedp.Click(`//section//button[normalize-space(.)="Start anew"]`))
	p.says(".p-dialog, .p-confirmdialog", "once more")
	p.opened()
	p.do(chromedp.Click(`//div[contains(@class, "p-dialog")]//button[normalize-space(.)="Start anew"]`))
	p.closed()
	p.says("main", "2 brought")
}
