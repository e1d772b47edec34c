// Package browser runs Debian's Chromium without a screen, for the tests of the console and for its pictures.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"

	"github.com/chromedp/chromedp"
)

// Start runs a browser with a new profile and gives a context for its first tab. End must be called.
func Start(ctx context.Context, width, height int) (tab context.Context, end func(), err error) {
	profile, err := os.MkdirTemp("", "homing-browser-")
	if err != nil {
		return nil, nil, err
	}
	tab, stop, err := StartIn(ctx, profile, width, height)
	end = func() {
		if err == nil {
			stop()
		}
		os.RemoveAll(profile)
	}
	if err != nil {
		end()
		return nil, nil, err
	}
	return tab, end, nil
}

// WithoutAddressBar takes away (disable-features) pages of the browser's own, which wait for somebody to type into an address bar that nobody sees,
// and take a fifth of the processor's time.
const WithoutAddressBar = "WebUIOmniboxPopup,WebUIOmniboxAimPopup,WebUIOmniboxFullPopup"

// StartIn does that with a profile that is there, and stays when it has ended.
func StartIn(ctx context.Context, profile string, width, height int) (tab context.Context, end func(), err error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, nil, fmt.Errorf("chromium is missing: run scripts/need chromium")
	}
	options := []chromedp.ExecAllocatorOption{
		chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.WindowSize(width, height), chromedp.Headless,
		chromedp.NoSandbox,
		chromedp.DisableGPU, chromedp.NoFirstRun, chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("disable-features", WithoutAddressBar),
	}
	allocator, endAllocator := chromedp.NewExecAllocator(ctx, options...)
	tab, endTab := chromedp.NewContext(allocator)
	end = func() {
		endTab()
		endAllocator()
	}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		end()
		return nil, nil, fmt.Errorf("start chromium: %w", err)
	}
	return tab, end, nil
}

// Shared is a browser in which tests that come one after the other each get a profile of their own, in memory. To start
// a browser takes longer than many a test.
type Shared struct {
	browser context.Context
	end     func()
}

// Tab gives a context for the first tab of a new profile. End must be called.
func (s *Shared) Tab(width, height int) (tab context.Context, end func(), err error) {
	if s.browser == nil || s.browser.Err() != nil {
		s.End()
		if s.browser, s.end, err = Start(context.Background(), width, height); err != nil {
			return nil, nil, err
		}
	}
	tab, end = chromedp.NewContext(s.browser, chromedp.WithNewBrowserContext())
	if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		end()
		return nil, nil, fmt.Errorf("a new profile in chromium: %w", err)
	}
	return tab, end, nil
}

// End ends the browser, if there is one.
func (s *Shared) End() {
	if s.end != nil {
		s.end()
	}
}
