package web

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"homing/wire"
)

// ParseOrigins reads origins of pages, such as https://app.example.
func ParseOrigins(texts []string) ([]string, error) {
	origins := []string{}
	for _, text := range texts {
		at, err := url.Parse(text)
		if err != nil || at.Scheme != "https" && at.Scheme != "http" || at.Host == "" || at.Path != "" || at.RawQuery != "" || at.User != nil {
			return nil, fmt.Errorf("%q is no origin; take a scheme, a host and perhaps a port, such as https://app.example", text)
		}
		origins = append(origins, strings.ToLower(text))
	}
	return origins, nil
}

// fromElsewhere lets pages of the declared origins use the API from a browser (the Fetch standard, CORS protocol). They show a
// token in the header; a sign-in that the browser holds for central's own pages is not theirs.
func (s *Server) fromElsewhere(next http.Handler) http.Handler {
	kept := http.NewCrossOriginProtection()
	for _, origin := range s.options.Origins {
		kept.AddTrustedOrigin(origin) // they were read by ParseOrigins
	}
	guarded := kept.Handler(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		origin := r.Header.Get("Origin")
		if len(s.options.Origins) == 0 || !strings.HasPrefix(r.URL.Path, "/v"+wire.Version+"/") {
			guarded.ServeHTTP(w, r)
			return
		}
		h := w.Header()
		h.Add("Vary", "Origin")
		if origin != "" && slices.Contains(s.options.Origins, strings.ToLower(origin)) {
			h.Set("Access-Control-Allow-Origin", origin)
			h.Set("Access-Control-Expose-Headers", headerRequest+", Retry-After")
			r.Header.Del("Cookie")
			if r.Method == http.MethodOptions && r.Header.Get("Access-Control-Request-Method") != "" {
				h.Set("Access-Control-Allow-Methods", "GET, POST, PUT, PATCH, DELETE")
				h.Set("Access-Control-Allow-Headers", strings.Join([]string{"Authorization", "Content-Type", "Content-Encoding", "Idempotency-Key",
					wire.HeaderVersion, wire.HeaderExchange, wire.HeaderSeals, wire.HeaderIncarnation}, ", "))
				h.Set("Access-Control-Max-Age", "600")
				w.WriteHeader(http.StatusNoContent)
				return
			}
		}
		guarded.ServeHTTP(w, r)
	})
}
