package web

import (
	"context"
	"crypto/rand"
	"net"
	"net/http"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5/middleware"

	"homing/central/fleet"
	"homing/web/loopback"
	"homing/web/problem"
)

// caller is where a request comes from.
type caller struct {
	address string // of the machine, without a port
	secure  bool   // whether nobody on the way can read along
}

type callerKey struct{}

func callerOf(ctx context.Context) caller {
	c, _ := ctx.Value(callerKey{}).(caller)
	return c
}

// plainID is what an id of a request from outside may look like, to stand in logs.
var plainID = regexp.MustCompile(`^[A-Za-z0-9._-]{1,40}$`)

// writePatience is how long an answer may take to be read, unless its operation says otherwise. Whoever reads more
// slowly is cut off.
const writePatience = 3 * time.Minute

// meet finds out where a request comes from, and gives it an id. It stands before everything else.
func (s *Server) meet(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := r.Header.Get(middleware.RequestIDHeader)
		if !plainID.MatchString(id) {
			id = rand.Text()[:12]
		}
		from := s.callerOf(r)
		ctx := context.WithValue(r.Context(), middleware.RequestIDKey, id)
		ctx = context.WithValue(ctx, callerKey{}, from)
		agent := r.UserAgent()
		if len(agent) > mostAgent {
			agent = agent[:mostAgent]
		}
		ctx = fleet.Acting(ctx, fleet.Actor{Address: from.address, Agent: strings.ToValidUTF8(agent, ""), Open: s.options.Open})
		// A writer that takes no deadline, such as that of a test, is not slow either.
		_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(writePatience))
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}

const mostAgent = 200 // bytes

// callerOf takes the address from the connection, or, where that is one of the proxies that central stands behind,
// from what the proxy says (RFC 7239, or X-Forwarded-For and -Proto): the last address that is no such proxy.
func (s *Server) callerOf(r *http.Request) caller {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	from := caller{address: host, secure: r.TLS != nil}
	if !s.isProxy(host) {
		return from
	}
	hops, proto := forwarded(r.Header)
	from.secure = strings.EqualFold(proto, "https")
	for _, hop := range slices.Backward(hops) {
		if from.address = hop; !s.isProxy(hop) {
			break
		}
	}
	return from
}

func (s *Server) isProxy(host string) bool {
	address, err := netip.ParseAddr(host)
	return err == nil && slices.ContainsFunc(s.options.Behind, func(p netip.Prefix) bool {
		return p.Contains(address.Unmap())
	})
}

// forwarded gives the addresses that proxies say a request came through, the first one first, and how it came to the
// last of them. What cannot be read as an address ends it: nothing before that is believed.
func forwarded(header http.Header) (hops []string, proto string) {
	var said []string
	if all := header.Values("Forwarded"); len(all) > 0 {
		for _, element := range strings.Split(strings.Join(all, ","), ",") {
			hop := ""
			for _, pair := range strings.Split(element, ";") {
				name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
				value = strings.Trim(value, `"`)
				switch strings.ToLower(name) {
				case "for":
					hop = value
				case "proto":
					proto = value
				}
			}
			said = append(said, hop)
		}
	} else {
		said = strings.Split(strings.Join(header.Values("X-Forwarded-For"), ","), ",")
		all := strings.Split(header.Get("X-Forwarded-Proto"), ",")
		proto = strings.TrimSpace(all[len(all)-1])
	}
	for _, hop := range slices.Backward(said) {
		address, ok := addressIn(strings.TrimSpace(hop))
		if !ok {
			break
		}
		hops = append(hops, address)
	}
	slices.Reverse(hops)
	return hops, proto
}

// addressIn reads an address with or without a port.
func addressIn(hop string) (string, bool) {
	if both, err := netip.ParseAddrPort(hop); err == nil {
		return both.Addr().Unmap().String(), true
	}
	address, err := netip.ParseAddr(strings.Trim(hop, "[]"))
	return address.Unmap().String(), err == nil
}

// ParseBehind reads the proxies that central stands behind: addresses, or ranges of them such as 10.0.0.0/8.
func ParseBehind(all []string) (prefixes []netip.Prefix, err error) {
	for _, text := range all {
		if address, err := netip.ParseAddr(text); err == nil {
			prefixes = append(prefixes, netip.PrefixFrom(address.Unmap(), address.Unmap().BitLen()))
			continue
		}
		prefix, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, err
		}
		prefixes = append(prefixes, prefix.Masked())
	}
	return prefixes, nil
}

// onlyLoopbackNames lets an open central answer under the names of the machine itself alone, so that no page that a
// browser on this machine shows can reach it under a name of its own.
func (s *Server) onlyLoopbackNames(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.options.Open && (!loopback.Name(r.Host) || !loopback.Origin(r.Header.Get("Origin"))) {
			problem.Write(w, r, http.StatusForbidden, "central is open to everybody, so it only answers under the names of its own "+
				"machine, such as localhost")
			return
		}
		next.ServeHTTP(w, r)
	})
}
