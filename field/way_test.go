package field_test

import (
	"bytes"
	"cmp"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"homing/internal/testbed"
)

// way is what lies between a phone and central: it can be gone.
type way struct {
	url  string
	gone atomic.Bool
	// asked hears of each request before it goes on; one that it refuses does not.
	asked atomic.Pointer[func(*http.Request) bool]
	// files are of another version of the app, handed out in place of central's.
	files  atomic.Pointer[fs.FS]
	target *url.URL
}

// body reads the body of a request, and leaves it to be read again.
func (w *way) body(r *http.Request) []byte {
	text, err := io.ReadAll(r.Body)
	if err != nil {
		return nil // whoever sent it has gone
	}
	r.Body = io.NopCloser(bytes.NewReader(text))
	return text
}

// forward hands a request on to central, and lets its answer go.
func (w *way) forward(r *http.Request) {
	on, err := http.NewRequest(r.Method, w.target.String()+r.URL.RequestURI(), bytes.NewReader(w.body(r)))
	if err != nil {
		return
	}
	on.Header = r.Header.Clone()
	if answer, err := http.DefaultClient.Do(on); err == nil {
		answer.Body.Close()
	}
}

func newWay(t *testing.T, central string) *way {
	t.Helper()
	target, err := url.Parse(central)
	testbed.Must(t, err)
	through := httputil.NewSingleHostReverseProxy(target)
	through.FlushInterval = -1
	w := &way{target: target}
	server := httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		if asked := w.asked.Load(); w.gone.Load() || asked != nil && !(*asked)(r) {
			panic(http.ErrAbortHandler) // no signal
		}
		if files := w.files.Load(); files != nil && strings.HasPrefix(r.URL.Path, "/field/") {
			out.Header().Set("Cache-Control", "no-cache")
			name := cmp.Or(strings.TrimPrefix(r.URL.Path, "/field/"), "index.html")
			text, err := fs.ReadFile(*files, name)
			if err != nil {
				http.NotFound(out, r)
				return
			}
			http.ServeContent(out, r, name, time.Time{}, bytes.NewReader(text))
			return
		}
		through.ServeHTTP(out, r)
	}))
	t.Cleanup(func() { server.CloseClientConnections(); server.Close() })
	w.url = server.URL
	return w
}

// found says whether any file in a folder holds a text as it is.
func found(t *testing.T, folder, text string) bool {
	t.Helper()
	is := false
	err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || is || !entry.Type().IsRegular() {
			return nil // files come and go while the browser runs
		}
		held, err := os.ReadFile(path)
		is = err == nil && bytes.Contains(held, []byte(text))
		return nil
	})
	testbed.Must(t, err)
	return is
}
