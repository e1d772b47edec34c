package web_test

import (
	"bufio"
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"homing/device"
	"homing/internal/testbed"
	"homing/service"
)

// listen gives the lines of a stream of live events.
func listen(t *testing.T, bed *testbed.Bed, token string) <-chan string {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	t.Cleanup(cancel)
	request, err := http.NewRequestWithContext(ctx, "GET", bed.URL()+"/v1/events", nil)
	testbed.Must(t, err)
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(request)
	testbed.Must(t, err)
	if response.StatusCode != 200 || response.Header.Get("Content-Type") != "text/event-stream" {
		t.Fatalf("%s %s", response.Status, response.Header.Get("Content-Type"))
	}
	lines := make(chan string, 100)
	go func() {
		defer response.Body.Close()
		defer close(lines)
		for scanner := bufio.NewScanner(response.Body); scanner.Scan(); {
			if scanner.Text() != "" {
				lines <- scanner.Text()
			}
		}
	}()
	return lines
}

// until reads lines until one of them holds a text.
func until(t *testing.T, lines <-chan string, text string) {
	t.Helper()
	for {
		select {
		case line, open := <-lines:
			if !open {
				t.Fatalf("the stream ended before %q came", text)
			}
			if strings.Contains(line, text) {
				return
			}
		case <-time.After(10 * time.Second):
			t.Fatalf("%q did not come", text)
		}
	}
}

// Whoever listens at one instance hears of what was pushed to another.
func TestLiveEventsAcrossInstances(t *testing.T) {
	one := testbed.Start(t)
	two := testbed.Start(t, func(o *service.Options) { o.Database = one.Database })
	lines := listen(t, two, two.SignIn("reader"))
	until(t, lines, ": listening")
	store := one.Device("worker", "tablet", device.Options{})
	until(t, lines, "event: devices")
	testbed.Exchange(t, store)
	_, err := store.Add(t.Context(), "trails", device.Fields{"name": "Ridge"})
	testbed.Must(t, err)
	// LISTEN takes a moment after the start; an announcement before that is lost, as any may be.
	testbed.Exchange(t, store)
	until(t, lines, `data: {"trails":`)
}

// A listener that does not read costs nothing: pushes go on, and others hear.
func TestASlowListenerHoldsNobodyUp(t *testing.T) {
	bed := testbed.Start(t)
	silent, end := bed.Central.Listen()
	defer end()
	lines := listen(t, bed, bed.SignIn("reader"))
	until(t, lines, ": listening")
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	for range 100 {
		_, err := store.Add(t.Context(), "trails", device.Fields{"name": "Ridge"})
		testbed.Must(t, err)
		if _, err := store.Push(t.Context(), nil); err != nil {
			t.Fatal(err)
		}
	}
	until(t, lines, `data: {"trails":`)
	if len(silent) != cap(silent) {
		t.Errorf("the silent listener has %d of %d events", len(silent), cap(silent))
	}
	if status, text := bed.Call("GET", "/metrics", "", nil); status != 200 ||
		!strings.Contains(string(text), "homing_listeners 1") {
		t.Errorf("metrics: %d", status)
	}
}

// Streams end when central stops, so that it does not wait for them.
func TestStreamsEndWithCentral(t *testing.T) {
	bed := testbed.Start(t)
	lines := listen(t, bed, bed.SignIn("reader"))
	until(t, lines, ": listening")
	began := time.Now()
	bed.Server().StopListeners()
	for range lines {
	}
	if took := time.Since(began); took > 20*time.Second {
		t.Errorf("the stream went on for %s", took)
	}
}
