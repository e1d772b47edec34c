package link_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"homing/link"
	"homing/wire"
)

// to makes a link to a server that answers as a function says.
func to(t *testing.T, answer http.HandlerFunc) *link.Link {
	t.Helper()
	server := httptest.NewServer(answer)
	t.Cleanup(server.Close)
	l, err := link.New(server.URL+"/", "dev_token", "test", link.How{})
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func TestAddresses(t *testing.T) {
	for _, address := range []string{"", "central", "ftp://central", "http://", "://x", "127.0.0.1:8400"} {
		if _, err := link.New(address, "", "", link.How{}); err == nil || !strings.Contains(err.Error(), "http://127.0.0.1:8400") {
			t.Errorf("%q: %v", address, err)
		}
	}
	l, err := link.New(" https://central.example/homing/ ", "", "", link.How{})
	if err != nil || l.Base() != "https://central.example/homing" {
		t.Errorf("%v, %v", l, err)
	}
}

// A call says who it is and what it speaks, and large bodies travel compressed.
func TestWhatACallSends(t *testing.T) {
	var header http.Header
	var body []byte
	l := to(t, func(w http.ResponseWriter, r *http.Request) {
		header = r.Header
		body, _ = io.ReadAll(r.Body)
		w.Write([]byte(`{"ok":true}`))
	})
	for size, encoding := range map[int]string{10: "", 100_000: "zstd"} {
		sent := map[string]string{"text": strings.Repeat("abc", size)}
		var got struct{ OK bool }
		traffic, err := l.Call(t.Context(), "POST", "/x", map[string]string{"Extra": "1"}, sent, &got)
		if err != nil || !got.OK || traffic.Sent != len(body) || traffic.Received == 0 {
			t.Fatalf("%+v, %v", traffic, err)
		}
		if header.Get("Authorization") != "Bearer dev_token" || header.Get(wire.HeaderVersion) != wire.Version ||
			header.Get("Extra") != "1" || header.Get("Content-Encoding") != encoding {
			t.Errorf("headers %v", header)
		}
		if encoding != "" {
			reader, err := zstd.NewReader(bytes.NewReader(body))
			if err != nil {
				t.Fatal(err)
			}
			if body, err = io.ReadAll(reader); err != nil || traffic.Sent > 10_000 {
				t.Errorf("compressed to %d bytes, %v", traffic.Sent, err)
			}
		}
		var back map[string]string
		if err := json.Unmarshal(body, &back); err != nil || back["text"] != sent["text"] {
			t.Errorf("arrived as %.40s, %v", body, err)
		}
	}
}

func TestAnswersInAnyCompression(t *testing.T) {
	text := []byte(`{"ok":true}`)
	var packed bytes.Buffer
	g := gzip.NewWriter(&packed)
	g.Write(text)
	g.Close()
	z, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	for encoding, body := range map[string][]byte{"": text, "gzip": packed.Bytes(), "zstd": z.EncodeAll(text, nil)} {
		l := to(t, func(w http.ResponseWriter, _ *http.Request) {
			if encoding != "" {
				w.Header().Set("Content-Encoding", encoding)
			}
			w.Write(body)
		})
		var got struct{ OK bool }
		if _, err := l.Call(t.Context(), "GET", "/", nil, nil, &got); err != nil || !got.OK {
			t.Errorf("%q: %+v, %v", encoding, got, err)
		}
	}
}

// What central says is told from not reaching it, and from something else answering in its place.
func TestErrorsSayWhoSpoke(t *testing.T) {
	refuses := to(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", wire.Problem)
		w.WriteHeader(409)
		json.NewEncoder(w).Encode(wire.ProblemDetails{Type: wire.ProblemPrefix + "clash", Status: 409, Detail: "no"})
	})
	var problem *link.Problem
	if _, err := refuses.Call(t.Context(), "GET", "/", nil, nil, nil); !errors.As(err, &problem) ||
		problem.Status != 409 || problem.Error() != "no" {
		t.Errorf("central refuses: %v", err)
	}
	portal := to(t, func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(502)
		w.Write([]byte("<html>Please sign in to the hut's network</html>"))
	})
	if _, err := portal.Call(t.Context(), "GET", "/", nil, nil, nil); !errors.As(err, &problem) ||
		!strings.Contains(err.Error(), "not from a central") {
		t.Errorf("a gateway answers: %v", err)
	}
	welcome := to(t, func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("<html>Welcome</html>")) })
	var got struct{}
	if _, err := welcome.Call(t.Context(), "GET", "/", nil, nil, &got); err == nil ||
		!strings.Contains(err.Error(), "did not answer like a central") {
		t.Errorf("a welcome page answers: %v", err)
	}
	cut := to(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		w.Write([]byte(`{"half":`))
	})
	if _, err := cut.Call(t.Context(), "GET", "/", nil, nil, &got); !errors.Is(err, link.ErrUnreachable) {
		t.Errorf("half an answer: %v", err)
	}
	nobody, err := link.New("http://127.0.0.1:1", "", "", link.How{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := nobody.Call(t.Context(), "GET", "/", nil, nil, nil); !errors.Is(err, link.ErrUnreachable) ||
		strings.Contains(err.Error(), "Get ") {
		t.Errorf("nobody there: %v", err)
	}
}

// Central is asked again when it says when to come again, and not otherwise.
func TestRetryAfter(t *testing.T) {
	for status, want := range map[int]int64{503: 2, 429: 2, 507: 1, 400: 1} {
		var calls atomic.Int64
		l := to(t, func(w http.ResponseWriter, _ *http.Request) {
			if calls.Add(1) > 1 {
				w.Write([]byte(`{}`))
				return
			}
			if want > 1 {
				w.Header().Set("Retry-After", "1")
			}
			w.WriteHeader(status)
			json.NewEncoder(w).Encode(wire.ProblemDetails{Status: status, Detail: "later"})
		})
		_, err := l.Call(t.Context(), "GET", "/", nil, nil, nil)
		if calls.Load() != want || (err == nil) != (want > 1) {
			t.Errorf("%d: asked %d times, want %d; %v", status, calls.Load(), want, err)
		}
	}
}
