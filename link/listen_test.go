package link_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"homing/link"
)

// A stream gives its events, passes over heartbeats, and says how it ended.
func TestListen(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer right" {
			http.Error(w, `{"detail":"not known here","status":401}`, http.StatusUnauthorized)
			return
		}
		w.Header().Set("Content-Type", "text/event-stream")
		fmt.Fprint(w, "retry: 2000\n: listening\n\nevent: heads\ndata: {\"trails\":\ndata: 7}\n\n: alive\n\nevent: "+
			"devices\ndata: {}\n\n")
		http.NewResponseController(w).Flush()
		if r.URL.Path == "/ends" {
			return
		}
		<-r.Context().Done()
	}))
	defer server.Close()
	for _, path := range []string{"/ends", "/goes-on"} {
		l, err := link.New(server.URL, "right", "test", link.How{})
		if err != nil {
			t.Fatal(err)
		}
		events, err := l.Listen(t.Context(), path)
		if err != nil {
			t.Fatal(err)
		}
		if one, two := <-events.C, <-events.C; one != (link.Event{Name: "heads", Data: `{"trails":7}`}) ||
			two != (link.Event{Name: "devices", Data: "{}"}) {
			t.Errorf("%s: heard %+v and %+v", path, one, two)
		}
		if path == "/ends" {
			if _, more := <-events.C; more || events.Err() != nil {
				t.Errorf("an orderly end: %v", events.Err())
			}
		}
		ended := make(chan struct{})
		go func() { events.Close(); close(ended) }()
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			t.Fatalf("%s: closing does not end", path)
		}
	}
	wrong, err := link.New(server.URL, "wrong", "test", link.How{})
	if err != nil {
		t.Fatal(err)
	}
	var problem *link.Problem
	if _, err := wrong.Listen(t.Context(), "/"); !errors.As(err, &problem) || problem.Status != http.StatusUnauthorized {
		t.Errorf("with a wrong token: %v", err)
	}
	server.Close()
	if _, err := wrong.Listen(context.Background(), "/"); !errors.Is(err, link.ErrUnreachable) {
		t.Errorf("with nobody there: %v", err)
	}
}

// A call that is not answered in time is told from one that cannot be made.
func TestSlowCalls(t *testing.T) {
	hold := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-hold:
		case <-r.Context().Done():
		}
	}))
	defer server.Close()
	defer close(hold)
	l, err := link.New(server.URL, "", "test", link.How{})
	if err != nil {
		t.Fatal(err)
	}
	l.Wait(50 * time.Millisecond)
	if _, err := l.Call(t.Context(), http.MethodGet, "/", nil, nil, nil); !errors.Is(err, link.ErrSlow) ||
		!errors.Is(err, link.ErrUnreachable) {
		t.Errorf("a call that takes too long: %v", err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	l.Wait(time.Minute)
	if _, err := l.Call(ctx, http.MethodGet, "/", nil, nil, nil); err == nil || errors.Is(err, link.ErrSlow) {
		t.Errorf("a call that the caller gave up: %v", err)
	}
}
