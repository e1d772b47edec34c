package web

import (
	"bytes"
	"errors"
	"io/fs"
	"net/http"
	"path"
	"regexp"
	"strings"
	"time"

	"homing/web/problem"
	"homing/wire"
)

var otherVersion = regexp.MustCompile(`^/v[0-9]+/`)

// notFound answers what no operation answers: with a file of the console, with the console's page, whose router takes
// it from there, or with a problem.
func (s *Server) notFound(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
	switch {
	case strings.HasPrefix(r.URL.Path, "/v"+wire.Version+"/"):
		problem.Write(w, r, http.StatusNotFound, "there is nothing at "+r.URL.Path+"; "+describedAt)
	case otherVersion.MatchString(r.URL.Path):
		problem.Write(w, r, http.StatusNotFound, "central speaks protocol "+wire.Version+" only; "+describedAt)
	case r.Method != http.MethodGet && r.Method != http.MethodHead:
		problem.Write(w, r, http.StatusNotFound, "there is nothing at "+r.URL.Path+"; "+describedAt)
	case s.options.Console == nil:
		problem.Write(w, r, http.StatusNotFound, "this central is built without the console; "+describedAt)
	case name != "" && s.serveFile(w, r, name):
	case strings.HasPrefix(name, "assets/"):
		problem.Write(w, r, http.StatusNotFound, "there is no file "+r.URL.Path+"; reload the page")
	case !s.serveFile(w, r, "index.html"):
		problem.Write(w, r, http.StatusNotFound, "the console is not built; run make console and build again")
	}
}

func (s *Server) serveFile(w http.ResponseWriter, r *http.Request, name string) bool {
	text, err := fs.ReadFile(s.options.Console, name)
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
	http.ServeContent(w, r, name, time.Time{}, bytes.NewReader(text))
	return true
}
