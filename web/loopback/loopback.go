// Package loopback knows the names of this machine itself. A page that a browser on it shows may reach a service here
// under a name of its own; who answers under these names alone is safe from that.
package loopback

import (
	"net"
	"net/netip"
	"net/url"
	"strings"
)

// Name says whether the host of an address is this machine.
func Name(hostPort string) bool {
	host := hostPort
	if name, _, err := net.SplitHostPort(hostPort); err == nil {
		host = name
	}
	address, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return strings.EqualFold(host, "localhost") || err == nil && address.IsLoopback()
}

// Origin says whether a page comes from this machine, or there is no page.
func Origin(origin string) bool {
	if origin == "" {
		return true
	}
	at, err := url.Parse(origin)
	return err == nil && Name(at.Host)
}
