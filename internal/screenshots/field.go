package main

import (
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"homing/demo"
	"homing/internal/browser"
	"homing/link"
)

// fieldPicture goes through the field app as a worker with a phone, and puts four of its pages side by side.
func fieldPicture(ctx context.Context, out, folder, address string) error {
	token, err := signIn(ctx, address)
	if err != nil {
		return err
	}
	l, err := link.New(address, token, "screenshots", link.How{})
	if err != nil {
		return err
	}
	var got struct{ Code string }
	if _, err := l.Call(ctx, "POST", "/v1/codes", nil, map[string]string{"worker": "mira"}, &got); err != nil {
		return err
	}
	tab, end, err := browser.Start(ctx, 360, 760)
	if err != nil {
		return err
	}
	defer end()
	press := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Click(fmt.Sprintf(`//button[contains(., %q)]`, name))
	}
	pause := chromedp.Sleep(900 * time.Millisecond)
	see := func(path, wait string) []chromedp.Action[chromedp.Void] {
		return steps(chromedp.Navigate("about:blank"), chromedp.Navigate(address+"/field/#"+path), chromedp.WaitVisible(chromedp.CSS(wait)), pause)
	}
	if err := chromedp.Do(tab, chromedp.Navigate(address+"/enrol#"+got.Code), chromedp.WaitVisible(chromedp.CSS("#code")), pause, press("Enrol"),
		chromedp.SendKeys(chromedp.CSS("#pin"), "2468"), chromedp.SendKeys(chromedp.CSS("#again"), "2468"), press("Set it and load"),
		chromedp.WaitVisible(chromedp.CSS(".tabs")), pause); err != nil {
		return err
	}
	var pictures strings.Builder
	for _, page := range []struct {
		look       string
		path, wait string
		then       []chromedp.Action[chromedp.Void]
	}{
		{"light", "/", ".rows li", nil},
		{"light", "/records/structures/" + demo.LongBridge.String(), "dl", nil},
		{"dark", "/records/inspections/new?parent=" + demo.LongBridge.String(), "form", steps(press("close at once"), pause)},
		{"dark", "/records/structures?map=1", "canvas", nil},
	} {
		if _, err := chromedp.Call(tab, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: page.look}}}); err != nil {
			return err
		}
		if err := chromedp.Do(tab, append(see(page.path, page.wait), page.then...)...); err != nil {
			return fmt.Errorf("%s: %w", page.path, err)
		}
		png, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
		if err != nil {
			return err
		}
		fmt.Fprintf(&pictures, `<img src="data:image/png;base64,%s" style="border-radius:18px;border:2px solid #474139">`, base64.StdEncoding.EncodeToString(png))
	}
	page := filepath.Join(folder, "field.html")
	text := `<body style="margin:0;padding:20px;background:#dedad3;display:flex;gap:20px">` + pictures.String()
	if err := os.WriteFile(page, []byte(text), 0o644); err != nil {
		return err
	}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(1552, 804), chromedp.Navigate("file://"+page), pause); err != nil {
		return err
	}
	png, err := chromedp.Run(tab, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(out, "field.png"), png, 0o644)
}
