package web

import (
	"bytes"
	"cmp"
	"errors"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"regexp"
	"strings"
	"time"

	"homing/web/problem"
	"homing/wire"
)

var otherVersion = regexp.MustCompile(`^/v[0-9]+/`)

// fieldPath is where the field app lies. All of it works under any path that a proxy puts before it.
const fieldPath = "/field/"

// notFound answers what no operation answers: with a file of the field app or of the console, with the console's page,
// whose router takes it from there, or with a problem.
func (s *Server) notFound(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
	switch {
	case strings.HasPrefix(r.URL.Path, "/v"+wire.Version+"/"):
		problem.Write(w, r, http.StatusNotFound, "there is nothing at "+r.URL.Path+"; "+describedAt)
	case otherVersion.MatchString(r.URL.Path):
		problem.Write(w, r, http.StatusNotFound, "central speaks protocol "+wire.Version+" only; "+describedAt)
	case r.Method != http.MethodGet && r.Method != http.MethodHead:
		problem.Write(w, r, http.StatusNotFound, "there is nothing at "+r.URL.Path+"; "+describedAt)
	case r.URL.Path == strings.TrimSuffix(fieldPath, "/") || r.URL.Path == "/enrol" && s.has(s.options.Field, "index.html"):
		// A browser takes what stands behind the # along, which is the code of an enrolment link.
		w.Header().Set("Cache-Control", "no-cache")
		w.Header().Set("Location", strings.TrimPrefix(fieldPath, "/"))
		w.WriteHeader(http.StatusFound)
	case strings.HasPrefix(r.URL.Path, fieldPath):
		s.serveField(w, r, strings.TrimPrefix(strings.TrimPrefix(name, "field"), "/"))
	case s.options.Console == nil:
		problem.Write(w, r, http.StatusNotFound, "this central is built without the console; "+describedAt)
	case name != "" && s.serveFile(w, r, s.options.Console, name):
	case strings.HasPrefix(name, "assets/"):
		problem.Write(w, r, http.StatusNotFound, "there is no file "+r.URL.Path+"; reload the page")
	case !s.serveFile(w, r, s.options.Console, "index.html"):
		problem.Write(w, r, http.StatusNotFound, "the console is not built; run make console and build again")
	}
}

// serveField answers with a file of the field app. Its pages have their paths behind a #, so there is one page.
func (s *Server) serveField(w http.ResponseWriter, r *http.Request, name string) {
	switch {
	case s.serveFile(w, r, s.options.Field, cmp.Or(name, "index.html")):
	case s.has(s.options.Field, "index.html"):
		problem.Write(w, r, http.StatusNotFound, "the field app has no file "+r.URL.Path+"; open it at "+fieldPath)
	case s.options.Field == nil:
		problem.Write(w, r, http.StatusNotFound, "this central is built without the field app; "+describedAt)
	default:
		problem.Write(w, r, http.StatusNotFound, "the field app is not built; run make field and build again")
	}
}

func (s *Server) has(files fs.FS, name string) bool {
	if files == nil {
		return false
	}
	_, err := fs.Stat(files, name)
	return err == nil
}

// contentTypes are those that Go does not know on every machine.
var contentTypes = map[string]string{".webmanifest": "application/manifest+json", ".wasm": "application/wasm"}

func (s *Server) serveFile(w http.ResponseWriter, r *http.Request, files fs.FS, name string) bool {
	if files == nil {
		return false
	}
	text, err := fs.ReadFile(files, name)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrInvalid) {
			s.log.DebugContext(r.Context(), "file not served", "name", name, "error", err)
		}
		return false
	}
	if strings.HasPrefix(name, "assets/") {
		w.Header().Set("Cache-Control", "public, max-age=31536000, immutable") // their names carry a hash
	} else {
		w.Header().Set("Cache-Control", "no-cache")
	}
	if known := contentTypes[path.Ext(name)]; known != "" {
		w.Header().Set("Content-Type", known)
	}
	// What was packed while building is smaller than what is packed while somebody waits.
	if packed, err := fs.ReadFile(files, name+".br"); err == nil {
		w.Header().Add("Vary", "Accept-Encoding")
		if accepts(r, "br") {
			w.Header().Set("Content-Encoding", "br")
			if w.Header().Get("Content-Type") == "" {
				w.Header().Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
			}
			text = packed
		}
	}
	http.ServeContent(w, r, name, time.Time{}, bytes.NewReader(text))
	return true
}

// accepts says whether whoever asks reads a content coding (RFC 9110, section 12.5.3), as far as browsers say it.
func accepts(r *http.Request, coding string) bool {
	for part := range strings.SplitSeq(r.Header.Get("Accept-Encoding"), ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(part), ";")
		if strings.TrimSpace(name) == coding {
			return !strings.HasSuffix(strings.ReplaceAll(weight, " ", ""), "q=0")
		}
	}
	return false
}
