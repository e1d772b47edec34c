package web

import (
	"context"
	"crypto/sha256"
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"homing/central"
	"homing/web/problem"
)

// signedInBy keeps the sign-ins of programs that send a name and a password with each request (RFC 7617): to look at a password takes
// longer than to answer, and each of them would be a sign-in of its own.
type signedInBy struct {
	mu     sync.Mutex
	tokens map[[sha256.Size]byte]string // by name, password and address
}

const mostSignedInBy = 1000

func (b *signedInBy) of(key [sha256.Size]byte) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.tokens[key]
}

func (b *signedInBy) set(key [sha256.Size]byte, token string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.tokens == nil || len(b.tokens) >= mostSignedInBy {
		b.tokens = map[[sha256.Size]byte]string{} // they sign in anew
	}
	b.tokens[key] = token
}

// passwords lets whoever asks for features do so with a name and a password in place of a token. What comes behind knows of tokens alone.
func (s *Server) passwords(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == featuresPath+"/" { // as many a program writes it
			r = r.Clone(r.Context())
			r.URL.Path = featuresPath
		}
		name, password, is := r.BasicAuth()
		if !is || !strings.HasPrefix(r.URL.Path, featuresPath) {
			next.ServeHTTP(w, r)
			return
		}
		token, err := s.tokenBehind(r.Context(), name, password)
		if err != nil {
			var refusal *problem.Problem
			if !errors.As(s.problem(r.Context(), err), &refusal) {
				refusal = problem.New(http.StatusServiceUnavailable, "nobody can sign in now; try again in a moment")
			}
			var headed interface{ GetHeaders() http.Header }
			if errors.As(err, &headed) {
				for header, values := range headed.GetHeaders() {
					w.Header()[header] = values
				}
			}
			if refusal.Status == http.StatusUnauthorized {
				w.Header().Set("WWW-Authenticate", `Basic realm="homing", charset="UTF-8"`)
			}
			problem.Write(w, r, refusal.Status, refusal.Detail)
			return
		}
		r = r.Clone(r.Context())
		r.Header.Set("Authorization", "Bearer "+token)
		next.ServeHTTP(w, r)
	})
}

// tokenBehind is the token of a sign-in with a name and a password, of one that holds still where there is one.
func (s *Server) tokenBehind(ctx context.Context, name, password string) (string, error) {
	key := sha256.Sum256([]byte(strings.Join([]string{name, password, callerOf(ctx).address}, "\x00")))
	if token := s.behind.of(key); token != "" {
		if _, err := s.who(ctx, token, false); err == nil {
			return token, nil
		}
	}
	got, err := s.signIn(ctx, name, password)
	if err != nil {
		return "", err
	}
	s.behind.set(key, got.token)
	return got.token, nil
}

// signedInAs is a sign-in that was just made.
type signedInAs struct {
	token   string
	person  central.Person
	expires time.Time
}

// signIn is a sign-in whose wrong passwords are counted.
func (s *Server) signIn(ctx context.Context, name, password string) (*signedInAs, error) {
	counted := "name " + strings.ToLower(strings.TrimSpace(name))
	if s.names.spent(counted) {
		return nil, slowDown(10, "too many passwords for this worker were wrong; wait a moment before the next one")
	}
	return guessing(s, ctx, func() (*signedInAs, error) {
		token, person, expires, err := s.central.SignIn(ctx, name, password)
		if wrongGuess(err) {
			s.names.fail(counted)
		}
		return &signedInAs{token, person, expires}, err
	})
}
